package store

import (
	"context"
	_ "embed"
	"fmt"
	"slices"
	"strings"
)

// structure lists what keeps the tables as they are and shows them: tables with their columns and
// constraints, triggers, functions, views, rules and row security, a line each. A test writes it from a
// database that the migrations have made.
//
//go:embed structure.txt
var structure string

// selectStructure reads the same of a database. Of a function its text is compared, of a view
// its words.
const selectStructure = `
	SELECT 'table ' || c.relname || CASE WHEN c.relrowsecurity OR c.relforcerowsecurity THEN ' with row security'
	ELSE '' END AS line
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p')
	UNION ALL
	SELECT 'view ' || c.relname || ' ' || md5(regexp_replace(pg_get_viewdef(c.oid), '\s+', ' ', 'g'))
	FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
	WHERE n.nspname = 'public' AND c.relkind IN ('v', 'm', 'f')
		AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.deptype = 'e')
	UNION ALL
	SELECT 'trigger ' || t.tgname || ' on ' || c.relname || ' calls ' || p.proname || ', type ' || t.tgtype
		|| CASE t.tgenabled WHEN 'O' THEN '' ELSE ', not enabled as usual' END
	FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_proc p ON p.oid = t.tgfoid
	WHERE n.nspname = 'public' AND NOT t.tgisinternal
	UNION ALL
	SELECT 'function ' || p.proname || ' ' || md5(p.prosrc) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
	WHERE n.nspname = 'public' AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = p.oid AND d.deptype = 'e')
	UNION ALL
	SELECT 'rule ' || r.rulename || ' on ' || r.tablename FROM pg_rules r WHERE r.schemaname = 'public'
	UNION ALL
	SELECT 'policy ' || p.policyname || ' on ' || p.tablename FROM pg_policies p WHERE p.schemaname = 'public'
	UNION ALL
	SELECT 'column ' || c.relname || '.' || a.attname || ' ' || format_type(a.atttypid, a.atttypmod)
		|| CASE WHEN a.attnotnull THEN ' not null' ELSE '' END
		|| coalesce(CASE WHEN a.attgenerated <> '' THEN ' generated ' ELSE ' default ' END
			|| regexp_replace(pg_get_expr(d.adbin, d.adrelid), '\s+', ' ', 'g'), '')
		|| CASE a.attidentity WHEN '' THEN '' ELSE ' identity ' || a.attidentity::text END
	FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_attrdef d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
	WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p') AND a.attnum > 0 AND NOT a.attisdropped
		AND c.relname NOT LIKE 'river%' AND c.relname <> 'goose_db_version'
	UNION ALL
	SELECT 'constraint ' || k.conname || ' on ' || c.relname || ' '
		|| regexp_replace(pg_get_constraintdef(k.oid), '\s+', ' ', 'g')
		|| CASE WHEN k.convalidated THEN '' ELSE ', not validated' END
	FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
	WHERE n.nspname = 'public' AND k.contype IN ('c', 'f', 'p', 'u', 'x') AND c.relname NOT LIKE 'river%'
		AND c.relname <> 'goose_db_version'
	UNION ALL
	SELECT 'trigger on events ' || evtname FROM pg_event_trigger`

// Structure lists what there is, in order.
func (s Reads) Structure(ctx context.Context) ([]string, error) {
	out := []string{}
	err := s.q.SelectContext(ctx, &out, `SELECT line FROM (`+selectStructure+`) l`)
	slices.Sort(out)
	return out, explain(err)
}

// StructureDiscrepancies names what is not as the program expects it: what is missing, and what
// nobody of the program has put there.
func (s Reads) StructureDiscrepancies(ctx context.Context) ([]Discrepancy, error) {
	there, err := s.Structure(ctx)
	if err != nil {
		return nil, err
	}
	expected := strings.Split(strings.TrimSpace(structure), "\n")
	out := []Discrepancy{}
	for _, line := range expected {
		if !slices.Contains(there, line) {
			out = append(
				out,
				Discrepancy{Position: -1, What: fmt.Sprintf("the database has no %s, or it was changed", named(line))},
			)
		}
	}
	for _, line := range there {
		if !slices.Contains(expected, line) {
			out = append(
				out,
				Discrepancy{
					Position: -1, What: fmt.Sprintf("the database has a %s that does not belong there", named(line)),
				},
			)
		}
	}
	return out, nil
}

// named leaves the digest of a text out, which says nothing to people.
func named(line string) string {
	fields := strings.Fields(line)
	switch {
	case len(fields) == 3 && (fields[0] == "function" || fields[0] == "view"), len(fields) > 2 && fields[0] == "column":
		return fields[0] + " " + fields[1]
	case len(fields) > 4 && fields[0] == "constraint":
		return strings.Join(fields[:4], " ")
	}
	return line
}
