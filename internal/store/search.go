package store

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"time"
)

// A RecordSearch narrows the records that are looked for; what is empty matches all.
type RecordSearch struct {
	RecordFilter
	// By is the name of a person.
	By string
	// From is the first moment, and To the first that is too late.
	From, To *time.Time
	// Terms are sets of terms, by their numbers: a record has one of each.
	Terms [][]int64
	// Digest bounds what was computed of an item: not less, and less. The upper may be nil.
	Digest [][]byte
	// Capped is up to how many records are counted where one of several conditions is chosen to begin with.
	Capped int
}

// A Found is what one question of a search has found.
type Found struct {
	Records []Record
	// Fit is how many of those that were looked at fit, and Lowest the position of the last.
	Fit    int
	Lowest int64
	// All says that there are no others to look at.
	All bool
}

// A candidate is a condition by which records can be gathered in their order.
type candidate struct {
	// from is a question for positions, with a condition at its end, and rest the same condition for the position of
	// a row “looked”. Both read nothing but an index where there is one. OFFSET 0 keeps the server from gathering all
	// records that have what is asked where few are looked at.
	from, rest string
	args       []any
}

// candidates lists the conditions of a search. Arguments are numbered from $1 on in each.
func (f RecordSearch) candidates() []candidate {
	var out []candidate
	column := func(name string, value any) {
		out = append(out, candidate{
			`SELECT position FROM ledger_records WHERE ` + name + ` = $1`,
			`EXISTS (SELECT FROM ledger_records r WHERE r.` + name + ` = $1 AND r.position = looked.position)`,
			[]any{value},
		})
	}
	for _, set := range f.Terms {
		out = append(out, candidate{
			`SELECT position FROM record_terms WHERE term = ANY($1)`,
			`EXISTS (SELECT FROM record_terms t WHERE t.term = ANY($1) AND t.position = looked.position OFFSET 0)`,
			[]any{set},
		})
		if len(set) == 1 { // its records stand in their order then
			out[len(out)-1] = candidate{
				`SELECT position FROM record_terms WHERE term = $1`,
				`EXISTS (SELECT FROM record_terms t WHERE t.term = $1 AND t.position = looked.position OFFSET 0)`,
				[]any{set[0]},
			}
		}
	}
	if f.Digest != nil {
		bounds, args := `d.digest >= $1`, []any{f.Digest[0]}
		if f.Digest[1] != nil {
			bounds, args = bounds+` AND d.digest < $2`, append(args, f.Digest[1])
		}
		digests := `SELECT o.position FROM outcome_digests d JOIN outcomes o USING (batch_id, n) WHERE ` + bounds
		out = append(out, candidate{
			`SELECT position FROM (` + digests + ` OFFSET 0) AS digests WHERE true`, `looked.position IN (` + digests + `)`, args,
		})
	}
	if f.From != nil || f.To != nil {
		from, to := time.Unix(0, 0), time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)
		if f.From != nil {
			from = *f.From
		}
		if f.To != nil {
			to = *f.To
		}
		out = append(out, candidate{
			`SELECT position FROM ledger_records WHERE at >= $1 AND at < $2`, `EXISTS (SELECT FROM ledger_records r WHERE r.position = looked.position AND r.at >= $1 AND r.at < $2
				OFFSET 0)`,
			[]any{from, to},
		})
	}
	if f.BatchID != 0 {
		column("batch_id", f.BatchID)
	}
	if f.Verdict != "" {
		column("verdict", f.Verdict)
	}
	if f.By != "" {
		column("by_name", f.By)
	}
	if f.Kind != "" {
		column("kind", f.Kind)
	}
	return out
}

var argument = regexp.MustCompile(`\$[0-9]+`)

// shifted writes a condition with its arguments numbered behind n others.
func shifted(condition string, n int) string {
	return argument.ReplaceAllStringFunc(condition, func(found string) string {
		i, _ := strconv.Atoi(found[1:]) // digits
		return fmt.Sprintf("$%d", i+n)
	})
}

// rarest returns the candidate that the fewest records have among those that a search looks at, and the others.
func (s Reads) rarest(ctx context.Context, f RecordSearch, all []candidate) (candidate, []candidate, error) {
	if len(all) == 0 {
		return candidate{from: `SELECT position FROM ledger_records WHERE true`}, nil, nil
	}
	best, fewest := 0, f.Capped+1
	for i, c := range all {
		if len(all) == 1 {
			break
		}
		var n int
		bounds, args := f.bounds(c)
		if err := s.q.GetContext(
			ctx, &n, fmt.Sprintf(`SELECT count(*) FROM (%s%s LIMIT %d) AS counted`, c.from, bounds, fewest), args...,
		); err != nil {
			return candidate{}, nil, explain(err)
		}
		if n < fewest {
			best, fewest = i, n
		}
	}
	rest := append(append([]candidate{}, all[:best]...), all[best+1:]...)
	return all[best], rest, nil
}

// bounds are the positions that a search looks at, as a condition behind that of a candidate, with all arguments.
func (f RecordSearch) bounds(c candidate) (string, []any) {
	args := append([]any{}, c.args...)
	out := ""
	if f.Before > 0 {
		args = append(args, f.Before)
		out += fmt.Sprintf(` AND position < $%d`, len(args))
	}
	if f.RecordFilter.From > 0 {
		args = append(args, f.RecordFilter.From)
		out += fmt.Sprintf(` AND position >= $%d`, len(args))
	}
	return out, args
}

// clocksDiffer is by how much the clocks of hosts may differ that write records: a record may be out of the order of
// time by as much.
const clocksDiffer = 24 * time.Hour

// within bounds the positions that are looked at by a period.
func (s Reads) within(ctx context.Context, f *RecordSearch) error {
	if f.From != nil {
		if err := s.q.GetContext(
			ctx, &f.RecordFilter.From,
			`SELECT coalesce((SELECT position FROM ledger_records WHERE at >= $1 ORDER BY at LIMIT 1), 0)`,
			f.From.Add(-clocksDiffer),
		); err != nil {
			return explain(err)
		}
	}
	if f.To == nil {
		return nil
	}
	var end int64
	if err := s.q.GetContext(
		ctx, &end,
		`SELECT coalesce((SELECT position FROM ledger_records WHERE at >= $1 ORDER BY at LIMIT 1), 0)`,
		f.To.Add(clocksDiffer),
	); err != nil {
		return explain(err)
	}
	if end > 0 && (f.Before == 0 || end < f.Before) {
		f.Before = end
	}
	return nil
}

// A Search is one that was begun.
type Search struct {
	asked  RecordSearch
	first  candidate
	others []candidate
}

// Alone reports whether one condition is all that is asked: then to count is to look into an index.
func (s *Search) Alone() bool { return len(s.others) == 0 && s.asked.Name == "" }

// Search begins to look for records.
func (s Reads) Search(ctx context.Context, f RecordSearch) (*Search, error) {
	if err := s.within(ctx, &f); err != nil {
		return nil, err
	}
	first, others, err := s.rarest(ctx, f, f.candidates())
	return &Search{f, first, others}, err
}

// LookFor looks at the next atOnce records that have the rarest of what is asked, the newest first, and returns at most
// limit of those that fit, without their bodies. A later look goes on behind them.
func (s Reads) LookFor(ctx context.Context, search *Search, atOnce, limit int) (Found, error) {
	f := &search.asked
	bounds, args := f.bounds(search.first)
	where := conditions{}
	for _, c := range search.others {
		where = append(where, shifted(c.rest, len(args)))
		args = append(args, c.args...)
	}
	where.add(
		&args, f.Name != "", `EXISTS (SELECT FROM ledger_records r WHERE r.position = looked.position
			AND lower(r.subject) LIKE lower($%d) OFFSET 0)`, "%"+literal(f.Name)+"%",
	)
	fit := `looked`
	if len(where) > 0 {
		fit = `(SELECT position FROM looked ` + where.clause() + `)`
	}
	var found struct {
		Looked    int    `db:"looked"`
		Lowest    int64  `db:"lowest"`
		Fit       int    `db:"fit"`
		Positions string `db:"positions"`
	}
	if err := s.q.GetContext(
		ctx, &found,
		fmt.Sprintf(`WITH looked AS MATERIALIZED (
				SELECT DISTINCT position FROM (%s%s) AS gathered ORDER BY position DESC LIMIT %d),
			fit AS MATERIALIZED (SELECT position FROM %s AS fits)
		SELECT (SELECT count(*) FROM looked) AS looked, coalesce((SELECT min(position) FROM looked), 0) AS lowest,
			(SELECT count(*) FROM fit) AS fit,
			to_json(ARRAY(SELECT position FROM fit ORDER BY position DESC LIMIT %d))::text AS positions`,
			search.first.from, bounds, atOnce, fit, limit),
		args...,
	); err != nil {
		return Found{}, explain(err)
	}
	out := Found{
		Records: []Record{}, Fit: found.Fit, Lowest: found.Lowest, All: found.Looked < atOnce || found.Lowest == 0,
	}
	f.Before = found.Lowest
	if found.Fit == 0 || limit == 0 {
		return out, nil
	}
	var err error
	out.Records, err = s.listedAt(ctx, found.Positions)
	return out, err
}
