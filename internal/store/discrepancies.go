package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// A Discrepancy is a row that is not what the records say, a row without its
// record, or a record without its row.
type Discrepancy struct {
	// Position is that of the record, or -1 where there is none.
	Position int64 `db:"position"`
	// What is the row, and what is wrong with it, for people.
	What string `db:"what"`
}

// fresh tells that a row says that it follows from a record at {from} or behind it, or from none.
func fresh(position string) string {
	return "(" + position + " >= {from} OR " + position + " IS NULL OR " + position + " < 0)"
}

// A consequence says what a table has to hold for what others do.
type consequence struct {
	// of names the rows, for people.
	of string
	// sql selects position and what of each row that differs. {from} in it is the position from
	// which on records, and the rows that follow from them, are looked at.
	sql string
}

var adoptionRows = consequence{"rows of earlier versions", `
	SELECT position, 'rows were adopted once more: only the first time counts' AS what FROM ledger_records
		WHERE kind = 'rows-adopted' AND position > ` + adoptedAt}

// renamedRows: an entry that turned out to be here under another name stands in the survey of
// the item that it is of, which the item's record holds.
var renamedRows = consequence{"entries under another name", `
	SELECT coalesce(b.position, -1) AS position,
	'batch ' || r.batch_id || ', an entry that is here under another name: no item''s record has it' AS what
	FROM renamed r LEFT JOIN absents a USING (batch_id, n) LEFT JOIN batches b ON b.id = r.batch_id
	WHERE ` + fresh("b.position") + ` AND NOT EXISTS (SELECT FROM items i CROSS JOIN LATERAL jsonb_array_elements(CASE jsonb_typeof(i.survey -> 'listed') WHEN 'array' THEN i.survey -> 'listed' ELSE '[]' END) l
		WHERE i.batch_id = a.batch_id AND l ->> 'manifest' = a.manifest AND l -> 'line' = to_jsonb(a.line)
			AND l ->> 'name' = a.name AND l ->> 'digest' = a.digest)`}

// unsettledRows: of a batch that is done every item has an outcome.
var unsettledRows = consequence{"outcomes", `
	SELECT -1 AS position,
	'batch ' || i.batch_id || ', ' || i.path || ': the batch is finished and this item has no outcome' AS what
	FROM items i JOIN batches b ON b.id = i.batch_id AND b.state = 'done' WHERE ` + fresh("b.position") + ` AND NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = i.batch_id AND o.n = i.n)`}

// countedRows: what a batch says of how far it came is what its items say.
var countedRows = consequence{"batches", `
	SELECT coalesce(b.position, -1) AS position,
	'batch ' || b.id || ': it says that it came another way than its items did' AS what
	FROM batches b WHERE b.state NOT IN ('waiting', 'measuring') AND ` + fresh("b.position") + ` AND (
		b.done_items IS DISTINCT FROM (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id)
		OR b.done_bytes IS NULL OR b.done_bytes > b.total_bytes OR b.state = 'done' AND b.done_bytes IS DISTINCT
			FROM b.total_bytes)`}

// copyRows: a copy is from where its own summary says, which the batch's record has.
var copyRows = consequence{"copies of manifests", `
	SELECT b.position, 'batch ' || b.id || ': a copy is not said to be from where it is' AS what FROM copies c
	JOIN batches b ON b.id = c.batch_id
	WHERE c.summary IS NOT NULL AND b.position >= {from} AND (c.of_path IS DISTINCT FROM c.summary ->> 'of'
	OR c.channel IS DISTINCT FROM c.summary ->> 'channel' OR c.place IS DISTINCT FROM c.summary ->> 'place'
		OR c.summary ->> 'sha256' <> '' AND encode(sha256(c.content), 'hex') IS DISTINCT FROM c.summary ->> 'sha256')`}

// Discrepancies holds tables against each other, where a row has to be as another is that the
// records prove, and returns the first of each that differ. Of what is counted or named with a
// batch it looks at the batches whose record is at a position or behind it.
func (s Reads) Discrepancies(ctx context.Context, from int64) ([]Discrepancy, error) {
	out := []Discrepancy{}
	for _, c := range []consequence{adoptionRows, countedRows, renamedRows, unsettledRows, copyRows} {
		found := []Discrepancy{}
		if err := s.q.SelectContext(
			ctx, &found,
			`SELECT position, what FROM (`+strings.ReplaceAll(
				c.sql, "{from}", strconv.FormatInt(from, 10),
			)+`) differing ORDER BY position LIMIT 5`,
		); err != nil {
			return nil, fmt.Errorf("comparing %s with the records: %w", c.of, explain(err))
		}
		out = append(out, found...)
	}
	return out, nil
}
