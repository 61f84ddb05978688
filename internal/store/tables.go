package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// A StoredRow is a row as it is stored, in texts: what no record can say is a text too.
type StoredRow struct {
	// Key names the row within its table, and Position is that of the record that it says it
	// follows from, or -1.
	Key      string `db:"key"`
	Position int64  `db:"position"`
	// Adopted is set for a row of an earlier version that was adopted as it is.
	Adopted bool `db:"adopted"`
	// Fields are its columns, as the table's question lists them; nil where there is none.
	Fields []*string `db:"-"`
}

// A WholeTable is a table of which all rows are compared at once: they follow from several records.
type WholeTable struct {
	Name string
	// Of names the rows, for people.
	Of string
	// Placed says that each row has the position of a record.
	Placed bool
	sql    string
}

// A PlacedTable is a table of which each row follows from one record, whose position it has.
type PlacedTable struct {
	Name string
	Of   string
	// sql is the question without its condition, and placed the column with the position.
	sql, placed string
}

// fields writes columns as a list of texts.
func fields(columns ...string) string {
	return "jsonb_build_array((" + strings.Join(columns, ")::text, (") + ")::text)::text AS fields"
}

// BasisTables lists the tables of which all rows follow from records that decide, in the order in
// which they are compared. Rows come in the order in which they were made.
func BasisTables() []WholeTable {
	hex := func(column string) string { return "encode(" + column + ", 'hex')" }
	digest := func(column string) string { return "encode(sha256(" + column + "), 'hex')" }
	return []WholeTable{
		{
			"policies", "the policy", false,
			`SELECT version::text AS key, -1::bigint AS position, false AS adopted, ` + fields(
				"name", "document", "created_at", "created_by", "reason",
			) + ` FROM policies ORDER BY version`,
		},
		{"waivers", "waivers", true, `SELECT position::text AS key, position, false AS adopted, ` +
			fields(
				"ground", "publisher", "pattern", "reason", "by_name", "created_at", "until", "ended_at", "ended_by",
				"end_reason",
			) + ` FROM waivers ORDER BY position, id`},
		{
			"publishers", "publishers", true,
			`SELECT p.slug AS key, p.position, ` + isAdopted(
				"publisher_versions", "p.slug || ' ' || p.revision", publisherVersionDigest("p"),
			) + ` AS adopted, ` +
				fields(
					"p.name", "p.contact", "to_json(p.scope)", "p.created_at", "p.created_by",
				) + ` FROM publishers p ORDER BY p.id`,
		},
		{
			"publisher_versions", "earlier versions of publishers", true,
			`SELECT p.slug || ' ' || v.position AS key, v.position, ` + isAdopted(
				"publisher_versions", "p.slug || ' ' || v.revision", publisherVersionDigest("v"),
			) + ` AS adopted, ` +
				fields(
					"v.name", "to_json(v.scope)",
				) + ` FROM publisher_versions v LEFT JOIN publishers p ON p.id = v.publisher_id
					ORDER BY v.publisher_id, v.revision`,
		},
		{
			"keys", "keys", true,
			`SELECT ` + hex(
				"k.fingerprint",
			) + ` AS key, k.position, ` + isAdopted(
				"key_versions", keyVersionName("k"), keyVersionDigest("k"),
			) + ` AS adopted, ` +
				fields(
					digest("k.certificate"), "coalesce(p.slug, '')", "k.role", "k.imported_at", "k.imported_by",
					"k.source",
				) + ` FROM keys k LEFT JOIN publishers p ON p.id = k.publisher_id ORDER BY k.fingerprint`,
		},
		{
			"key_versions", "earlier versions of keys", true,
			`SELECT ` + hex(
				"v.fingerprint",
			) + ` || ' ' || v.position AS key, v.position, ` + isAdopted(
				"key_versions", keyVersionName("v"), keyVersionDigest("v"),
			) + ` AS adopted, ` +
				fields(
					digest("v.certificate"), "coalesce(p.slug, '')", "v.role",
				) + ` FROM key_versions v LEFT JOIN publishers p ON p.id = v.publisher_id
					ORDER BY v.fingerprint, v.revision`,
		},
		{
			"key_changes", "steps of keys", true,
			`SELECT position::text AS key, position, false AS adopted, ` + fields(
				hex("fingerprint"), "at", "to_state", "by_name", "reason", "until", "to_json(rests_on)",
			) + ` FROM key_changes ORDER BY id`,
		},
		{"sightings", "sightings", true, `SELECT position::text AS key, position, false AS adopted, ` +
			fields(
				hex("fingerprint"), hex("read_value"), "channel", "place", "note", "at", "by_name", "resolved",
				"resolved_by", "resolved_at",
			) + ` FROM sightings ORDER BY id`},
		{"proposals", "proposals", true, `SELECT position::text AS key, position, false AS adopted, ` +
			fields(
				hex("fingerprint"), "publisher", "role", "reason", "by_name", "at", "until", "decided",
			) + ` FROM proposals ORDER BY id`},
	}
}

// KeptTables lists those of which the rows are as the newest record says: people, tokens, devices
// and their kinds.
func KeptTables() []WholeTable {
	return []WholeTable{
		{
			"users", "people", false,
			`SELECT u.name AS key, -1::bigint AS position, ` + isAdopted(
				"users", "u.name", personDigest("u"),
			) + ` AS adopted, ` +
				fields(
					"u.role", "u.created_at", "u.full_name", "u.disabled", "u.changed_at",
					"encode(sha256(convert_to(u.password_hash, 'UTF8')), 'hex')",
				) + ` FROM users u ORDER BY u.id`,
		},
		{"tokens", "tokens", false, `SELECT t.id::text AS key, -1::bigint AS position, false AS adopted, ` +
			fields(
				"u.name", "t.label", "t.role", "t.expires_at", "t.created_at", "encode(t.hash, 'hex')", "t.made_with",
				"to_json(t.depots)", "to_json(t.publishers)", "t.revoked_at",
			) +
			` FROM tokens t LEFT JOIN users u ON u.id = t.user_id ORDER BY t.id`},
		{
			"devices", "devices", true,
			`SELECT name AS key, position, false AS adopted, ` + fields(
				"kind", "address", "credential", "publisher", "place", "retired", "by_name", "at",
			) + ` FROM devices ORDER BY name`,
		},
		{
			"device_kinds", "kinds of devices", true,
			`SELECT name AS key, position, false AS adopted, ` + fields(
				"content", "retired", "by_name", "at",
			) + ` FROM device_kinds ORDER BY name`,
		},
	}
}

// Days is the table that counts verdicts by day.
func Days() WholeTable {
	return WholeTable{
		"outcome_days", "the verdicts of a day", false,
		`SELECT day || ' ' || verdict AS key, -1::bigint AS position, false AS adopted, ` + fields(
			"count",
		) + ` FROM outcome_days ORDER BY day, verdict`,
	}
}

// absentDigest is over what manifests of a batch list that is not there.
const absentDigest = `(SELECT encode(sha256(convert_to(coalesce(string_agg(concat_ws(E'\x1f', a.name, a.manifest,
	a.line, a.digest), E'\n' ORDER BY a.n), ''), 'UTF8')), 'hex')
	FROM missing a WHERE a.batch_id = b.id)`

// PlacedTables lists the tables of which each row follows from one record, in the order in which
// they are compared: the ledger's own first, since what stands beside a record's text is shown.
func PlacedTables() []PlacedTable {
	return []PlacedTable{
		{"ledger_records", "what lists show of records", `SELECT 'record ' || r.position AS key, r.position, ` +
			fields(
				"r.kind", "r.at", "r.by_name", "r.subject", "coalesce(r.verdict, '')", "r.batch_id",
			) + ` FROM ledger_records r`, "r.position"},
		{
			"record_terms", "what records are found by",
			`SELECT 'record ' || p.position AS key, p.position, ` + fields("p.terms") +
				` FROM (SELECT r.position, jsonb_agg(t.facet || ':' || t.value
					ORDER BY (t.facet || ':' || t.value) COLLATE "C") AS terms
					FROM record_terms r JOIN terms t ON t.id = r.term GROUP BY r.position) p`,
			"p.position",
		},
		{
			"batches", "batches",
			`SELECT 'batch ' || b.id AS key, b.position, ` + fields(
				"b.id",
				"b.label",
				"b.asked_by",
				"b.source_kind",
				"b.source",
				"b.state",
				"coalesce(b.verdict, '')",
				"b.note",
				"b.policy_version",
				"b.require_all",
				"b.corrections",
				"b.origins",
				"b.total_items",
				"b.total_bytes",
				"b.total_cleared",
				"b.total_unproven",
				"b.total_refused",
				"b.total_absent",
				"b.total_companions",
				"b.companions",
				"b.finished_at",
				"b.stop_by",
				"coalesce(b.stop_state, '')",
				"b.stop_reason",
				"coalesce((SELECT jsonb_agg(c.summary ORDER BY c.n) FROM copies c WHERE c.batch_id = b.id AND c.summary IS NOT NULL), '[]')",
				"b.publisher",
				"coalesce(b.expected, 'null')",
				"b.created_at",
				"b.judged_as_of",
				"b.ledger_size",
				absentDigest,
			) + ` FROM batches b`,
			"b.position",
		},
		{
			"outcomes",
			"outcomes",
			`SELECT 'batch ' || o.batch_id || ', ' || coalesce(i.path, 'item ' || o.n) AS key, o.position, ` +
				fields(
					"o.batch_id",
					"i.path",
					"i.role",
					"o.verdict",
					"i.survey",
					"i.size",
					"coalesce(o.deciding, '')",
					"(SELECT coalesce(jsonb_object_agg(d.algorithm, encode(d.digest, 'hex')), '{}') FROM outcome_digests d WHERE d.batch_id = o.batch_id AND d.n = o.n)",
					"(SELECT coalesce(jsonb_agg(DISTINCT d.cleared::text), '[]') FROM outcome_digests d WHERE d.batch_id = o.batch_id AND d.n = o.n)",
					"(SELECT coalesce(jsonb_agg(s.issuer ORDER BY s.issuer COLLATE \"C\"), '[]') FROM outcome_signers s WHERE s.batch_id = o.batch_id AND s.n = o.n)",
				) +
				` FROM outcomes o` + hasItem,
			"o.position",
		},
		{
			"rejudged",
			"changed verdicts",
			`SELECT 'batch ' || o.batch_id || ', ' || coalesce(i.path, 'item ' || o.n) AS key, o.position, ` +
				fields(
					"o.batch_id", "i.path", "o.before", "o.after", "o.grounds", "o.paths", "o.reassessment_id",
				) + ` FROM rejudged o` + hasItem,
			"o.position",
		},
		{
			"library",
			"what was cleared",
			`SELECT 'batch ' || o.batch_id || ', ' || coalesce(i.path, 'item ' || o.n) AS key, o.position, ` +
				fields(
					"o.batch_id", "i.path", "o.publisher", "o.name", "o.stem", "o.release", "o.signed_at", "o.signers",
					"o.algorithms",
				) + ` FROM library o` + hasItem,
			"o.position",
		},
		{
			"rejudged_batches", "what batches come to",
			`SELECT 'batch ' || o.batch_id AS key, o.position, ` + fields(
				"o.reassessment_id", "o.batch_id", "o.verdict", "o.cleared", "o.unproven", "o.refused",
				"o.companions",
			) + ` FROM rejudged_batches o`,
			"o.position",
		},
		{"reassessments", "reassessments", `SELECT 'reassessment ' || a.id AS key, a.position, ` +
			fields(
				"a.id", "a.reason", "a.asked_by", "a.items", "a.changed", "a.policy_version", "a.selection", "a.state",
				"a.note", "a.finished_at", "a.created_at",
			) + ` FROM reassessments a`, "a.position"},
		{
			"satchels", "satchels",
			`SELECT 'satchel ' || s.id AS key, s.position, ` + fields(
				"s.id", "s.digest", "s.document", "s.by_name", "s.at", "s.until",
			) + ` FROM satchels s`,
			"s.position",
		},
		{
			"settlements", "what was settled",
			`SELECT 'record ' || s.position AS key, s.position, ` + fields(
				"s.batch_id", "encode(s.fingerprint, 'hex')", "s.reason", "s.by_name", "s.at",
			) + ` FROM settlements s`,
			"s.position",
		},
		{
			"noted_references", "what was noted of files that were not here",
			`SELECT 'record ' || r.position AS key, r.position, ` + fields(
				"r.publisher", "r.name", "r.algorithm", "encode(r.digest, 'hex')", "r.size", "r.channel", "r.place", "r.note",
				"r.by_name", "r.at",
			) + ` FROM noted_references r`,
			"r.position",
		},
		{
			"visits",
			"outcomes of satchels",
			`SELECT 'an outcome of satchel ' || v.satchel_id || ', batch ' || v.batch_id AS key, v.position, ` +
				fields(
					"v.batch_id", "v.satchel_id", "v.sealed_by", "v.n", "encode(sha256(v.content), 'hex')",
				) + ` FROM visits v`,
			"v.position",
		},
	}
}

// hasItem joins each outcome with its item, as [andItem] does, where there is one.
const hasItem = ` LEFT JOIN LATERAL (SELECT * FROM items i WHERE i.batch_id = o.batch_id AND i.n = o.n OFFSET 0) i
	ON true`

// open are the rows that follow from no record yet.
var open = map[string]string{
	"batches":       "b.state IN ('waiting', 'measuring')",
	"reassessments": "a.state = 'waiting'",
}

// WholeRows reads all rows of a table.
func (s Reads) WholeRows(ctx context.Context, t WholeTable) ([]StoredRow, error) {
	return s.storedRows(ctx, t.sql)
}

// PlacedRows reads the rows of a table that say that they follow from the records at positions
// first to end-1, in their order.
func (s Reads) PlacedRows(ctx context.Context, t PlacedTable, first, end int64) ([]StoredRow, error) {
	return s.storedRows(ctx, t.question(t.placed+` >= $1 AND `+t.placed+` < $2`)+` ORDER BY `+t.placed, first, end)
}

// Strays reads a few of the rows that follow from no record there is: size is how many there are.
func (s Reads) Strays(ctx context.Context, t PlacedTable, size int64) ([]StoredRow, error) {
	return s.storedRows(
		ctx, t.question(`(`+t.placed+` IS NULL OR `+t.placed+` < 0 OR `+t.placed+` >= $1)`)+` LIMIT 5`, size,
	)
}

func (t PlacedTable) question(where string) string {
	out := strings.Replace(t.sql, ` AS fields`, ` AS fields, false AS adopted`, 1) + ` WHERE ` + where
	if waits, ok := open[t.Name]; ok {
		out += ` AND NOT coalesce(` + waits + `, false)`
	}
	return out
}

func (s Reads) storedRows(ctx context.Context, question string, args ...any) ([]StoredRow, error) {
	rows := []struct {
		Key      *string `db:"key"`
		Position *int64  `db:"position"`
		Adopted  *bool   `db:"adopted"`
		Fields   string  `db:"fields"`
	}{}
	if err := s.q.SelectContext(ctx, &rows, question, args...); err != nil {
		return nil, explain(err)
	}
	out := make([]StoredRow, len(rows))
	for i, r := range rows {
		out[i] = StoredRow{Key: fmt.Sprintf("a row without a key, the %dth", i+1), Position: -1}
		if r.Key != nil {
			out[i].Key = *r.Key
		}
		if r.Position != nil {
			out[i].Position = *r.Position
		}
		out[i].Adopted = r.Adopted != nil && *r.Adopted
		if err := json.Unmarshal([]byte(r.Fields), &out[i].Fields); err != nil {
			return nil, err
		}
	}
	return out, nil
}
