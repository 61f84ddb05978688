package store

import (
	"context"
	"time"

	"endeixis/internal/state"
)

// A Selection says which batches are judged again; empty fields match all.
type Selection struct {
	Batch     int64
	Publisher string
	// Issuers are what signatures may name: fingerprints and key IDs of one
	// key, as they stand in the grounds.
	Issuers []string
	From    time.Time
	To      time.Time
	// Waiting are batches that are not cleared by now.
	Waiting bool
}

// A SelectedBatch is a batch that is judged again.
type SelectedBatch struct {
	ID    int64 `db:"id"`
	Items int64 `db:"total_items"`
}

// selected returns the conditions on finished batches b that are meant.
func (sel Selection) selected() (conditions, []any) {
	where, args := conditions{"b.state = 'done'"}, []any{}
	// What was read back rests on what it was read back against.
	const against = " OR b.id IN (SELECT i.batch_id FROM items i JOIN batches o ON o.id = (i.survey -> 'against' ->> 'batch')::bigint WHERE i.survey ? 'against' AND "
	where.add(&args, sel.Batch != 0, "(b.id = $%[1]d"+against+"o.id = $%[1]d))", sel.Batch)
	where.add(
		&args, sel.Publisher != "",
		"(b.expected -> 'publishers' ? $%[1]d"+against+"o.expected -> 'publishers' ? $%[1]d))", sel.Publisher,
	)
	const signed = "IN (SELECT batch_id FROM outcome_signers WHERE issuer = ANY($%[1]d))"
	// What was judged again may rest since on a signature that it did not come with.
	const since = ` OR b.id IN (SELECT j.batch_id FROM terms t JOIN record_terms p ON p.term = t.id
		JOIN rejudged j ON j.position = p.position WHERE t.facet = '` + KeyFacet + `' AND t.value IN (SELECT upper(i) FROM unnest($%[1]d::text[]) i))`
	where.add(&args, sel.Issuers != nil, "(b.id "+signed+since+against+"o.id "+signed+"))", sel.Issuers)
	where.add(&args, !sel.From.IsZero(), "b.created_at >= $%d", sel.From)
	where.add(&args, !sel.To.IsZero(), "b.created_at < $%d", sel.To)
	if sel.Waiting {
		where = append(where, "b.verdict IS NOT NULL AND "+verdictNow("b")+" <> 'cleared'")
	}
	return where, args
}

// SelectedBatches lists the finished batches that are meant, the oldest first.
func (s Reads) SelectedBatches(ctx context.Context, sel Selection) ([]SelectedBatch, error) {
	where, args := sel.selected()
	out := []SelectedBatch{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT b.id, b.total_items FROM batches b `+where.clause()+`ORDER BY b.id`, args...,
	)
	return out, explain(err)
}

// SelectsBatch reports whether a finished batch is meant.
func (s Reads) SelectsBatch(ctx context.Context, sel Selection) (bool, error) {
	where, args := sel.selected()
	var out bool
	err := s.q.GetContext(ctx, &out, `SELECT EXISTS (SELECT FROM batches b `+where.clause()+`)`, args...)
	return out, explain(err)
}

// NamedIssuers returns those of some issuers that a signature names which bears on something that was
// verified here, sorted.
func (s Reads) NamedIssuers(ctx context.Context, issuers []string) ([]string, error) {
	out := []string{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.issuer FROM (SELECT DISTINCT unnest($1::text[]) AS issuer) i
		WHERE EXISTS (SELECT FROM outcome_signers o WHERE o.issuer = i.issuer) ORDER BY i.issuer COLLATE "C"`, issuers)
	return out, explain(err)
}

// A KeyUse tells what was verified here with signatures by a key.
type KeyUse struct {
	Artifacts int        `db:"artifacts"`
	Batches   int        `db:"batches"`
	Last      *time.Time `db:"last"`
	Newest    []byte     `db:"newest"`
}

// KeyUse counts the artifacts with a signature by one of the issuers.
func (s Reads) KeyUse(ctx context.Context, issuers []string) (KeyUse, error) {
	var u KeyUse
	err := s.q.GetContext(ctx, &u, `WITH used AS (SELECT o.batch_id, count(*) AS n FROM outcomes o
			JOIN (SELECT DISTINCT batch_id, n FROM outcome_signers WHERE issuer = ANY($1)) g USING (batch_id, n)
			WHERE o.verdict IS NOT NULL GROUP BY o.batch_id)
		SELECT coalesce(sum(n), 0)::int AS artifacts, count(*)::int AS batches, (SELECT max(b.created_at)
		FROM batches b JOIN used u ON u.batch_id = b.id) AS last,
			coalesce((SELECT json_agg(batch_id) FROM (SELECT batch_id FROM used ORDER BY batch_id DESC
				LIMIT 10) t), '[]') AS newest FROM used`, issuers)
	return u, explain(err)
}

// A StoredItem is what an item is judged again from.
type StoredItem struct {
	N        int    `db:"n"`
	Path     string `db:"path"`
	Position int64  `db:"position"`
	// Verdict is the first, as it is stored; empty for what is no artifact.
	Verdict string `db:"verdict"`
	// Record is that of its outcome.
	Record Record `db:"-"`
	// Present is the verdict that holds now: of the newest reassessment, or
	// of the batch; empty for what is no artifact.
	Present string `db:"present"`
}

// StoredItems lists settled items of a batch behind a number, in their order.
func (s Reads) StoredItems(ctx context.Context, batch int64, after, limit int) ([]StoredItem, error) {
	out := []StoredItem{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.n, i.path, o.position, coalesce(o.verdict, '') AS verdict, coalesce(
			`+newest("after", "i")+`, o.verdict, '') AS present
		FROM items i `+withOutcome+`WHERE i.batch_id = $1 AND i.n > $2 AND o.n IS NOT NULL ORDER BY i.n
			LIMIT $3`, batch, after, limit)
	if err != nil {
		return nil, explain(err)
	}
	positions := make([]int64, len(out))
	for i, item := range out {
		positions[i] = item.Position
	}
	records, err := s.recordsAt(ctx, positions)
	for i, item := range out {
		out[i].Record = records[item.Position]
		out[i].Record.Position = item.Position
	}
	return out, err
}

// A Reassessment is one run of judging again.
type Reassessment struct {
	ID            int64      `db:"id"`
	Reason        string     `db:"reason"`
	Selection     []byte     `db:"selection"`
	PolicyVersion int64      `db:"policy_version"`
	AskedBy       string     `db:"asked_by"`
	CreatedAt     time.Time  `db:"created_at"`
	FinishedAt    *time.Time `db:"finished_at"`
	State         state.Run  `db:"state"`
	Items         int        `db:"items"`
	Changed       int        `db:"changed"`
	Position      *int64     `db:"position"`
	// Note says why a run failed, or is empty.
	Note string `db:"note"`
}

// AddReassessment stores a new run and returns its number.
func (t *Tx) AddReassessment(ctx context.Context, r Reassessment) (int64, error) {
	var id int64
	err := t.tx.GetContext(
		ctx,
		&id,
		`INSERT INTO reassessments (reason, selection, policy_version, asked_by, created_at, state)
			VALUES ($1, $2, $3, $4, $5, 'waiting') RETURNING id`,
		r.Reason,
		string(r.Selection),
		r.PolicyVersion,
		r.AskedBy,
		r.CreatedAt,
	)
	return id, explain(err)
}

// Reassessment returns one run, or [ErrNotFound].
func (s Reads) Reassessment(ctx context.Context, id int64) (Reassessment, error) {
	var r Reassessment
	err := s.q.GetContext(ctx, &r, `SELECT * FROM reassessments WHERE id = $1`, id)
	return r, explain(err)
}

// RunFilter narrows a list of reassessments; empty fields match all.
type RunFilter struct {
	// Key is the fingerprint of the key of whose signatures something was judged again.
	Key string
	// Rules are those that follow from a policy or a waiver.
	Rules bool
	// Before is the number to go on from, downwards; 0 starts at the newest.
	Before int64
	Limit  int
}

// Reassessments lists runs, the newest first.
func (s Reads) Reassessments(ctx context.Context, f RunFilter) ([]Reassessment, error) {
	where, args := conditions{}, []any{f.Limit}
	where.add(&args, f.Key != "", "selection ->> 'key' = $%d", f.Key)
	if f.Rules {
		where = append(where, "(selection ? 'all' OR selection ? 'waiting')")
	}
	where.add(&args, f.Before != 0, "id < $%d", f.Before)
	out := []Reassessment{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT * FROM reassessments `+where.clause()+`ORDER BY id DESC LIMIT $1`, args...,
	)
	return out, explain(err)
}

// Waiting lists the numbers of the runs that are not ended.
func (s Reads) Waiting(ctx context.Context) ([]int64, error) {
	out := []int64{}
	err := s.q.SelectContext(ctx, &out, `SELECT id FROM reassessments WHERE state = 'waiting' ORDER BY id`)
	return out, explain(err)
}

// LockReassessment returns a run and keeps others from storing results of it
// until the transaction ends.
func (t *Tx) LockReassessment(ctx context.Context, id int64) (Reassessment, error) {
	var r Reassessment
	err := t.tx.GetContext(ctx, &r, `SELECT * FROM reassessments WHERE id = $1 FOR UPDATE`, id)
	return r, explain(err)
}

// A Rejudged is an item whose verdict a reassessment changed.
type Rejudged struct {
	Reassessment int64     `db:"reassessment_id"`
	Batch        int64     `db:"batch_id"`
	N            int       `db:"n"`
	Before       string    `db:"before"`
	After        string    `db:"after"`
	Grounds      []byte    `db:"grounds"`
	Paths        []byte    `db:"paths"`
	Position     int64     `db:"position"`
	Path         string    `db:"path"`
	At           time.Time `db:"at"`
}

// RejudgedNumbers lists the items of a batch, from a number on, that a run has stored already, in their order.
func (t *Tx) RejudgedNumbers(ctx context.Context, reassessment, batch int64, from int) ([]int, error) {
	out := []int{}
	err := t.tx.SelectContext(
		ctx, &out, `SELECT n FROM rejudged WHERE reassessment_id = $1 AND batch_id = $2 AND n >= $3 ORDER BY n`,
		reassessment, batch, from,
	)
	return out, err
}

// AddRejudged stores changed items.
func (t *Tx) AddRejudged(ctx context.Context, rows []Rejudged) error {
	size := len(rows)
	runs, batches, positions, ns := make([]int64, size), make([]int64, size), make([]int64, size), make([]int, size)
	before := make([]string, size)
	after := make([]string, size)
	grounds := make([]string, size)
	paths := make([]string, size)
	for i, r := range rows {
		runs[i], batches[i], positions[i], ns[i] = r.Reassessment, r.Batch, r.Position, r.N
		before[i], after[i], grounds[i], paths[i] = r.Before, r.After, string(r.Grounds), string(r.Paths)
	}
	_, err := t.tx.ExecContext(ctx, `INSERT INTO rejudged
			(reassessment_id, batch_id, n, before, after, grounds, paths, position)
		SELECT * FROM unnest(
			$1::bigint[], $2::bigint[], $3::int[], $4::text[], $5::text[], $6::jsonb[], $7::jsonb[], $8::bigint[])`,
		runs, batches, ns, before, after, grounds, paths, positions)
	return err
}

// newest asks for what the newest reassessment that changed an item made of it, or none: a column of rejudged,
// where item is what a row is called that has the item's batch_id and n.
func newest(column, item string) string {
	return `(SELECT r.` + column + ` FROM rejudged r WHERE r.batch_id = ` + item + `.batch_id AND r.n = ` + item + `.n
		ORDER BY r.reassessment_id DESC LIMIT 1)`
}

// verdictNow asks for what a batch comes to by all reassessments since it ended, where batch is what its row is called.
func verdictNow(batch string) string {
	return `coalesce((SELECT became.verdict FROM rejudged_batches became WHERE became.batch_id = ` + batch + `.id
		ORDER BY became.position DESC LIMIT 1), ` + batch + `.verdict)`
}

// AddRejudgedBatch stores what a batch comes to.
func (t *Tx) AddRejudgedBatch(
	ctx context.Context, reassessment, batch int64, verdict string, b RejudgedBatch, position int64,
) error {
	_, err := t.tx.ExecContext(ctx, `INSERT INTO rejudged_batches
			(reassessment_id, batch_id, verdict, cleared, unproven, refused, companions, position)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`, reassessment, batch, verdict, b.Cleared, b.Unproven, b.Refused,
		b.Companions, position)
	return explain(err)
}

// A RejudgedBatch is a batch in which a reassessment has changed something, with how many of its
// artifacts have which verdict by now.
type RejudgedBatch struct {
	Source     string `db:"source"`
	RequireAll bool   `db:"require_all"`
	Absent     int    `db:"absent"`
	Changed    int    `db:"changed"`
	Cleared    int    `db:"cleared"`
	Unproven   int    `db:"unproven"`
	Refused    int    `db:"refused"`
	Companions int    `db:"companions"`
}

// RejudgedBatch counts what a batch comes to after a reassessment, or returns [ErrNotFound] where that
// changed nothing in it since it ended, or is counted already.
func (t *Tx) RejudgedBatch(ctx context.Context, reassessment, batch int64) (RejudgedBatch, error) {
	var out RejudgedBatch
	err := t.tx.GetContext(ctx, &out, `SELECT b.source, b.require_all, coalesce(b.total_absent, 0) AS absent, c.changed,
			n.cleared, n.unproven, n.refused, n.companions
		FROM batches b
		CROSS JOIN LATERAL (SELECT count(*) AS changed FROM rejudged r
			WHERE r.batch_id = b.id AND r.reassessment_id = $1 AND r.position > b.position) c
		CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE v = 'cleared') AS cleared,
				count(*) FILTER (WHERE v = 'unproven') AS unproven, count(*) FILTER (WHERE v = 'refused') AS refused,
				count(*) FILTER (WHERE v = 'companion') AS companions
			FROM (SELECT coalesce(`+newest("after", "o")+`, o.verdict) AS v
				FROM outcomes o WHERE o.batch_id = b.id AND o.verdict IS NOT NULL) present) n
		WHERE b.id = $2 AND c.changed > 0
			AND NOT EXISTS (SELECT FROM rejudged_batches w WHERE w.batch_id = b.id AND w.reassessment_id = $1)`,
		reassessment, batch)
	return out, explain(err)
}

// Uncounted lists batches in which a reassessment has changed something since they ended without
// what they come to being stored, as earlier versions did, each with the newest such reassessment.
func (s Reads) Uncounted(ctx context.Context) ([]BatchReassessment, error) {
	out := []BatchReassessment{}
	err := s.q.SelectContext(ctx, &out, `SELECT r.batch_id, max(r.reassessment_id) AS reassessment_id
		FROM rejudged r JOIN batches b ON b.id = r.batch_id
			JOIN reassessments a ON a.id = r.reassessment_id AND a.state <> 'waiting'
		WHERE r.position > b.position AND r.position > coalesce(
			(SELECT max(w.position) FROM rejudged_batches w WHERE w.batch_id = r.batch_id), -1)
		GROUP BY r.batch_id ORDER BY r.batch_id`)
	return out, explain(err)
}

// A BatchReassessment names a batch and a reassessment that has changed something in it.
type BatchReassessment struct {
	Batch        int64 `db:"batch_id"`
	Reassessment int64 `db:"reassessment_id"`
}

// RejudgedCount counts what a run has changed.
func (t *Tx) RejudgedCount(ctx context.Context, reassessment int64) (int, error) {
	var n int
	err := t.tx.GetContext(ctx, &n, `SELECT count(*) FROM rejudged WHERE reassessment_id = $1`, reassessment)
	return n, err
}

// FinishReassessment closes a run.
func (t *Tx) FinishReassessment(
	ctx context.Context, id int64, ended state.Run, note string, at time.Time, items, changed int, position int64,
) error {
	_, err := t.tx.ExecContext(
		ctx,
		`UPDATE reassessments SET state = $2, note = $3, finished_at = $4, items = $5, changed = $6, position = $7
			WHERE id = $1`,
		id,
		ended,
		note,
		at,
		items,
		changed,
		position,
	)
	return err
}

const selectRejudged = `SELECT r.*, i.path, a.created_at AS at FROM rejudged r JOIN items i USING (batch_id, n)
	JOIN reassessments a ON a.id = r.reassessment_id `

// RejudgedIn lists what a run changed, behind an item of a batch.
func (s Reads) RejudgedIn(ctx context.Context, id, batch int64, n, limit int) ([]Rejudged, error) {
	out := []Rejudged{}
	err := s.q.SelectContext(
		ctx,
		&out,
		selectRejudged+`WHERE r.reassessment_id = $1 AND (r.batch_id, r.n) > ($2, $3) ORDER BY r.batch_id, r.n
			LIMIT $4`,
		id,
		batch,
		n,
		limit,
	)
	return out, explain(err)
}

// RejudgedOf lists the newest change of each of the items of a batch that has
// any.
func (s Reads) RejudgedOf(ctx context.Context, batch int64, ns []int) ([]Rejudged, error) {
	out := []Rejudged{}
	err := s.q.SelectContext(
		ctx,
		&out,
		`SELECT DISTINCT ON (n) * FROM (`+selectRejudged+`WHERE r.batch_id = $1 AND r.n = ANY($2)) AS all_of
			ORDER BY n, reassessment_id DESC`,
		batch,
		ns,
	)
	return out, explain(err)
}
