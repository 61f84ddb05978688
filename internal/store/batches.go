package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"endeixis/internal/fault"
)

// A Batch is one request to verify a folder.
type Batch struct {
	ID             int64      `db:"id"`
	Label          string     `db:"label"`
	SourceKind     string     `db:"source_kind"`
	Source         string     `db:"source"`
	Publisher      string     `db:"publisher"`
	RequireAll     bool       `db:"require_all"`
	PolicyVersion  int64      `db:"policy_version"`
	AskedBy        string     `db:"asked_by"`
	IdempotencyKey string     `db:"idempotency_key"`
	CreatedAt      time.Time  `db:"created_at"`
	JudgedAsOf     time.Time  `db:"judged_as_of"`
	FinishedAt     *time.Time `db:"finished_at"`
	State          string     `db:"state"`
	Verdict        *string    `db:"verdict"`
	Expected       []byte     `db:"expected"`
	Note           string     `db:"note"`
	Position       *int64     `db:"position"`
	Corrections    []byte     `db:"corrections"`
	Origins        []byte     `db:"origins"`
	// LedgerSize is how many records there were when it was asked for, or nil
	// for batches of before: the keyring counts as of then.
	LedgerSize *int64 `db:"ledger_size"`
	Tally
}

// A Tally is how far a batch has come.
type Tally struct {
	Items     int   `db:"items"`
	ItemsDone int   `db:"items_done"`
	Bytes     int64 `db:"bytes"`
	BytesDone int64 `db:"bytes_done"`
	Cleared   int   `db:"cleared"`
	Unproven  int   `db:"unproven"`
	Refused   int   `db:"refused"`
	Absent    int   `db:"absent"`
}

// selectBatches counts from the rows themselves while a batch is under way, so
// that no counter can be wrong; how one ended is stored with it.
const selectBatches = `SELECT b.id, b.label, b.source_kind, b.source, b.publisher, b.require_all, b.policy_version, b.asked_by, b.idempotency_key, b.created_at,
	b.judged_as_of, b.finished_at, b.state, b.verdict, b.expected, b.note, b.position, b.corrections, b.origins, b.ledger_size,
	coalesce(b.total_items, s.items, 0) AS items, coalesce(b.total_bytes, s.bytes, 0) AS bytes, coalesce(b.done_bytes, s.bytes_done, 0) AS bytes_done,
	coalesce(b.done_items, o.n, 0) AS items_done, coalesce(b.total_cleared, o.cleared, 0) AS cleared, coalesce(b.total_unproven, o.unproven, 0) AS unproven,
	coalesce(b.total_refused, o.refused, 0) AS refused, coalesce(b.total_absent, a.n, 0) AS absent
	FROM batches b
	LEFT JOIN LATERAL (SELECT sum(items) AS items, sum(bytes) AS bytes, sum(bytes_done) AS bytes_done FROM slices WHERE batch_id = b.id AND b.total_items IS NULL) s ON true
	LEFT JOIN LATERAL (SELECT count(*) AS n, count(*) FILTER (WHERE verdict = 'cleared') AS cleared,
		count(*) FILTER (WHERE verdict = 'unproven') AS unproven, count(*) FILTER (WHERE verdict = 'refused') AS refused
		FROM outcomes WHERE batch_id = b.id AND b.total_items IS NULL) o ON true
	LEFT JOIN LATERAL (SELECT count(*) AS n FROM absents WHERE batch_id = b.id AND b.total_items IS NULL) a ON true `

// AddBatch stores a new batch and returns its ID. With an idempotency key
// that this person used before, it returns the earlier batch's ID and false.
func (t *Tx) AddBatch(ctx context.Context, b Batch) (id int64, added bool, err error) {
	err = explain(t.tx.GetContext(ctx, &id, `INSERT INTO batches (label, source_kind, source, publisher, require_all, policy_version, asked_by, idempotency_key, created_at, judged_as_of, state, corrections, origins, ledger_size)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $9, 'waiting', $10, $11, (SELECT size FROM ledger_state))
		ON CONFLICT (asked_by, idempotency_key) WHERE idempotency_key <> '' DO NOTHING RETURNING id`,
		b.Label, b.SourceKind, b.Source, b.Publisher, b.RequireAll, b.PolicyVersion, b.AskedBy, b.IdempotencyKey, b.CreatedAt, string(b.Corrections), string(b.Origins)))
	if err != ErrNotFound {
		return id, err == nil, err
	}
	var earlier Batch
	if err := t.tx.GetContext(ctx, &earlier, selectBatches+`WHERE b.asked_by = $1 AND b.idempotency_key = $2`, b.AskedBy, b.IdempotencyKey); err != nil {
		return 0, false, err
	}
	if earlier.SourceKind != b.SourceKind || earlier.Source != b.Source || earlier.Publisher != b.Publisher || earlier.RequireAll != b.RequireAll {
		return 0, false, fault.New(fault.Conflict, "idempotency-key-reused", "This Idempotency-Key was used for another request, batch %d.", earlier.ID).Advise("Use a new one.")
	}
	return earlier.ID, false, nil
}

// A Copy is a copy of a manifest, from elsewhere.
type Copy struct {
	N       int    `db:"n"`
	Of      string `db:"of_path"`
	Channel string `db:"channel"`
	Place   string `db:"place"`
	// Origin and Path say where it is to be fetched from, or are empty.
	Origin  string `db:"origin"`
	Path    string `db:"path"`
	Content []byte `db:"content"`
	Summary []byte `db:"summary"`
}

// AddCopies stores the copies of a new batch.
func (t *Tx) AddCopies(ctx context.Context, batch int64, copies []Copy) error {
	for _, c := range copies {
		if _, err := t.tx.ExecContext(ctx, `INSERT INTO copies (batch_id, n, of_path, channel, place, origin, path, content) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
			batch, c.N, c.Of, c.Channel, c.Place, c.Origin, c.Path, c.Content); err != nil {
			return err
		}
	}
	return nil
}

// Copies lists the copies of a batch with their content.
func (s Reads) Copies(ctx context.Context, batch int64) ([]Copy, error) {
	out := []Copy{}
	err := s.q.SelectContext(ctx, &out, `SELECT n, of_path, channel, place, origin, path, content, summary FROM copies WHERE batch_id = $1 ORDER BY n`, batch)
	return out, explain(err)
}

// CopyRead stores what was had of a copy, and how it compares.
func (t *Tx) CopyRead(ctx context.Context, batch int64, n int, content, summary []byte) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE copies SET content = $3, summary = $4 WHERE batch_id = $1 AND n = $2`, batch, n, content, string(summary))
	return err
}

// Batch returns one batch, or [ErrNotFound].
func (s Reads) Batch(ctx context.Context, id int64) (Batch, error) {
	var b Batch
	err := s.q.GetContext(ctx, &b, selectBatches+`WHERE b.id = $1`, id)
	return b, explain(err)
}

// BatchFilter narrows a list of batches; empty fields match all.
type BatchFilter struct {
	State   string
	Verdict string
	// Before is the ID to go on from, downwards; 0 starts at the newest.
	Before int64
	Limit  int
}

// Batches lists batches, the newest first.
func (s Reads) Batches(ctx context.Context, f BatchFilter) ([]Batch, error) {
	where, args := conditions{}, []any{f.Limit}
	where.add(&args, f.State != "", "b.state = $%d", f.State)
	where.add(&args, f.Verdict != "", "b.verdict = $%d", f.Verdict)
	where.add(&args, f.Before != 0, "b.id < $%d", f.Before)
	out := []Batch{}
	err := s.q.SelectContext(ctx, &out, selectBatches+where.clause()+`ORDER BY b.id DESC LIMIT $1`, args...)
	return out, explain(err)
}

// conditions are those of a query that asks for what is set only, so that an
// index is chosen for that.
type conditions []string

// add adds a condition about the argument, if it is set.
func (c *conditions) add(args *[]any, set bool, condition string, arg any) {
	if set {
		*args = append(*args, arg)
		*c = append(*c, fmt.Sprintf(condition, len(*args)))
	}
}

func (c conditions) clause() string {
	if len(c) == 0 {
		return ""
	}
	return "WHERE " + strings.Join(c, " AND ") + " "
}

// LockBatch returns a batch's state and keeps others from changing it until
// the transaction ends.
func (t *Tx) LockBatch(ctx context.Context, id int64) (state string, err error) {
	err = explain(t.tx.GetContext(ctx, &state, `SELECT state FROM batches WHERE id = $1 FOR UPDATE`, id))
	return state, err
}

// An Item is one file of a batch as surveyed.
type Item struct {
	N      int    `db:"n"`
	Slice  int    `db:"slice"`
	Path   string `db:"path"`
	Role   string `db:"role"`
	Size   int64  `db:"size"`
	Survey []byte `db:"survey"`
}

// A Slice is a part of a batch that is one job.
type Slice struct {
	N     int
	Items int
	Bytes int64
}

// An Absent is a manifest entry without a file.
type Absent struct {
	N        int    `db:"n"`
	Name     string `db:"name"`
	Manifest string `db:"manifest"`
	Line     int    `db:"line"`
	// Digest is what the entry states, in hexadecimal.
	Digest string `db:"digest"`
}

// Surveyed stores the plan of a batch and opens it for measuring.
func (t *Tx) Surveyed(ctx context.Context, batch int64, expected []byte, slices []Slice, items []Item, absents []Absent) error {
	var sn, si []int
	var sb []int64
	for _, s := range slices {
		sn, si, sb = append(sn, s.N), append(si, s.Items), append(sb, s.Bytes)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO slices (batch_id, n, items, bytes) SELECT $1, * FROM unnest($2::int[], $3::int[], $4::bigint[])`, batch, sn, si, sb); err != nil {
		return err
	}
	n := len(items)
	ns, inSlice, paths, roles, sizes, surveys := make([]int, n), make([]int, n), make([]string, n), make([]string, n), make([]int64, n), make([]string, n)
	for i, item := range items {
		ns[i], inSlice[i], paths[i], roles[i], sizes[i], surveys[i] = item.N, item.Slice, item.Path, item.Role, item.Size, string(item.Survey)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO items (batch_id, n, slice, path, role, size, survey)
		SELECT $1, * FROM unnest($2::int[], $3::int[], $4::text[], $5::text[], $6::bigint[], $7::jsonb[])`, batch, ns, inSlice, paths, roles, sizes, surveys); err != nil {
		return err
	}
	var an, al []int
	var names, manifests, digests []string
	for _, a := range absents {
		an, names, manifests, al = append(an, a.N), append(names, a.Name), append(manifests, a.Manifest), append(al, a.Line)
		digests = append(digests, a.Digest)
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO absents (batch_id, n, name, manifest, line, digest)
		SELECT $1, * FROM unnest($2::int[], $3::text[], $4::text[], $5::int[], $6::text[])`, batch, an, names, manifests, al, digests); err != nil {
		return err
	}
	_, err := t.tx.ExecContext(ctx, `UPDATE batches SET state = 'measuring', expected = $2 WHERE id = $1`, batch, string(expected))
	return err
}

// SliceItems returns the items of a slice that have no outcome yet.
func (s Reads) SliceItems(ctx context.Context, batch int64, slice int) ([]Item, error) {
	out := []Item{}
	err := s.q.SelectContext(ctx, &out, `SELECT n, slice, path, role, size, survey FROM items i WHERE batch_id = $1 AND slice = $2
		AND NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = i.batch_id AND o.n = i.n) ORDER BY n`, batch, slice)
	return out, explain(err)
}

// LockSlice keeps other workers from storing outcomes of a slice until the
// transaction ends, and returns those of the given items that have none yet.
func (t *Tx) LockSlice(ctx context.Context, batch int64, slice int, ns []int) (map[int]bool, error) {
	var locked int
	if err := t.tx.GetContext(ctx, &locked, `SELECT n FROM slices WHERE batch_id = $1 AND n = $2 FOR UPDATE`, batch, slice); err != nil {
		return nil, explain(err)
	}
	var open []int
	if err := t.tx.SelectContext(ctx, &open, `SELECT n FROM unnest($2::int[]) AS n WHERE NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = $1 AND o.n = n.n)`, batch, ns); err != nil {
		return nil, err
	}
	out := make(map[int]bool, len(open))
	for _, n := range open {
		out[n] = true
	}
	return out, nil
}

// An Outcome is what became of an item.
type Outcome struct {
	N           int     `db:"n"`
	Verdict     *string `db:"verdict"`
	Measurement []byte  `db:"measurement"`
	Grounds     []byte  `db:"grounds"`
	Paths       []byte  `db:"paths"`
	Position    int64   `db:"position"`
	// Digests are those that were computed, by algorithm, and Signers what the
	// signatures over the item name as their makers: by these it is found.
	Digests map[string][]byte
	Signers []string
}

// AddOutcomes stores outcomes; each item can have one only. Verdicts count for
// the day. Call it behind [Tx.Append]: the ledger's lock is what lets the counts
// of a day come one after another.
func (t *Tx) AddOutcomes(ctx context.Context, batch int64, outcomes []Outcome) error {
	n := len(outcomes)
	ns, verdicts, measurements := make([]int, n), make([]*string, n), make([]string, n)
	grounds, paths, positions := make([]string, n), make([]string, n), make([]int64, n)
	for i, o := range outcomes {
		ns[i], verdicts[i], measurements[i] = o.N, o.Verdict, string(o.Measurement)
		grounds[i], paths[i], positions[i] = string(o.Grounds), string(o.Paths), o.Position
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO outcomes (batch_id, n, verdict, measurement, grounds, paths, position)
		SELECT $1, * FROM unnest($2::int[], $3::text[], $4::jsonb[], $5::jsonb[], $6::jsonb[], $7::bigint[])`, batch, ns, verdicts, measurements, grounds, paths, positions); err != nil {
		return err
	}
	if err := t.addSearched(ctx, batch, outcomes); err != nil {
		return err
	}
	_, err := t.tx.ExecContext(ctx, `INSERT INTO outcome_days AS d (day, verdict, count)
		SELECT (r.at AT TIME ZONE 'UTC')::date, r.verdict, count(*) FROM ledger_records r WHERE r.position = ANY($1) AND r.verdict IS NOT NULL GROUP BY 1, 2
		ON CONFLICT (day, verdict) DO UPDATE SET count = d.count + excluded.count`, positions)
	return err
}

// addSearched stores by what outcomes are found.
func (t *Tx) addSearched(ctx context.Context, batch int64, outcomes []Outcome) error {
	var digested, signed []int
	var algorithms, issuers []string
	var digests [][]byte
	for _, o := range outcomes {
		for _, algorithm := range slices.Sorted(maps.Keys(o.Digests)) {
			digested, algorithms, digests = append(digested, o.N), append(algorithms, algorithm), append(digests, o.Digests[algorithm])
		}
		for _, issuer := range o.Signers {
			signed, issuers = append(signed, o.N), append(issuers, issuer)
		}
	}
	if len(digested) > 0 {
		if _, err := t.tx.ExecContext(ctx, `INSERT INTO outcome_digests (batch_id, n, algorithm, digest) SELECT $1, * FROM unnest($2::int[], $3::text[], $4::bytea[])`,
			batch, digested, algorithms, digests); err != nil {
			return err
		}
	}
	if len(signed) == 0 {
		return nil
	}
	_, err := t.tx.ExecContext(ctx, `INSERT INTO outcome_signers (batch_id, n, issuer) SELECT $1, * FROM unnest($2::int[], $3::text[]) ON CONFLICT DO NOTHING`, batch, signed, issuers)
	return err
}

// NotifyBatch is the channel on which the progress of batches is announced;
// the payload is the batch's ID.
const NotifyBatch = "endeixis_batch"

// SliceProgress stores how many bytes of a slice are read, and says so.
func (s *Store) SliceProgress(ctx context.Context, batch int64, slice int, bytes int64) error {
	_, err := s.db.ExecContext(ctx, `WITH moved AS (UPDATE slices SET bytes_done = least($3, bytes) WHERE batch_id = $1 AND n = $2 AND NOT done RETURNING batch_id)
		SELECT pg_notify($4, batch_id::text) FROM moved`, batch, slice, bytes, NotifyBatch)
	return explain(err)
}

// SliceDone marks a slice as finished.
func (t *Tx) SliceDone(ctx context.Context, batch int64, slice int) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE slices SET done = true, bytes_done = bytes WHERE batch_id = $1 AND n = $2`, batch, slice)
	return err
}

// Announce tells the listeners that a batch has moved, when the transaction is
// committed.
func (t *Tx) Announce(ctx context.Context, batch int64) error {
	_, err := t.tx.ExecContext(ctx, `SELECT pg_notify($1, $2)`, NotifyBatch, fmt.Sprint(batch))
	return err
}

// OpenSlices counts the slices of a batch that are not done.
func (t *Tx) OpenSlices(ctx context.Context, batch int64) (int, error) {
	var n int
	err := t.tx.GetContext(ctx, &n, `SELECT count(*) FROM slices WHERE batch_id = $1 AND NOT done`, batch)
	return n, err
}

// Tally returns how far a batch has come, as this transaction sees it.
func (t *Tx) Tally(ctx context.Context, batch int64) (Batch, error) {
	var b Batch
	err := t.tx.GetContext(ctx, &b, selectBatches+`WHERE b.id = $1`, batch)
	return b, explain(err)
}

// Finish closes a batch, with how far it came.
func (t *Tx) Finish(ctx context.Context, b Batch, state string, verdict *string, note string, position int64, at time.Time) error {
	_, err := t.tx.ExecContext(ctx, `UPDATE batches SET state = $2, verdict = $3, note = $4, position = $5, finished_at = $6, total_items = $7, done_items = $8,
		total_bytes = $9, done_bytes = $10, total_cleared = $11, total_unproven = $12, total_refused = $13, total_absent = $14 WHERE id = $1`,
		b.ID, state, verdict, note, position, at, b.Items, b.ItemsDone, b.Bytes, b.BytesDone, b.Cleared, b.Unproven, b.Refused, b.Absent)
	return err
}

// OpenWork is a batch that is not finished, with its open slices.
type OpenWork struct {
	Batch      int64
	SourceKind string
	Source     string
	State      string
	// Slices are the open ones.
	Slices []int
}

// Unfinished lists the batches that are not finished.
func (s Reads) Unfinished(ctx context.Context) ([]OpenWork, error) {
	rows := []struct {
		ID         int64  `db:"id"`
		SourceKind string `db:"source_kind"`
		Source     string `db:"source"`
		State      string `db:"state"`
		Slice      *int   `db:"slice"`
	}{}
	if err := s.q.SelectContext(ctx, &rows, `SELECT b.id, b.source_kind, b.source, b.state, s.n AS slice FROM batches b LEFT JOIN slices s ON s.batch_id = b.id AND NOT s.done
		WHERE b.state IN ('waiting', 'measuring') ORDER BY b.id, s.n`); err != nil {
		return nil, explain(err)
	}
	var out []OpenWork
	for _, r := range rows {
		if len(out) == 0 || out[len(out)-1].Batch != r.ID {
			out = append(out, OpenWork{Batch: r.ID, SourceKind: r.SourceKind, Source: r.Source, State: r.State})
		}
		if r.Slice != nil {
			last := &out[len(out)-1]
			last.Slices = append(last.Slices, *r.Slice)
		}
	}
	return out, nil
}

// A JudgedItem is an item with its outcome, if it has one yet.
type JudgedItem struct {
	Item
	Verdict     *string `db:"verdict"`
	Measurement []byte  `db:"measurement"`
	Grounds     []byte  `db:"grounds"`
	Paths       []byte  `db:"paths"`
	Position    *int64  `db:"position"`
	Rank        int     `db:"rank"`
}

// Place is where the item stands in a list.
func (i *JudgedItem) Place() ItemPlace { return ItemPlace{i.Rank, i.N} }

// ItemFilter narrows a list of items; empty fields match all.
type ItemFilter struct {
	Verdict string
	// Role may also be "evidence", for all that is no artifact.
	Role string
	// Match is a pattern with * and ? for the path or its last part.
	Match string
	// After is the place to go on from; its zero value starts at the first.
	After *ItemPlace
	Limit int
}

// An ItemPlace is where an item stands in a list of its batch: first those that
// are refused, then those unproven, cleared, and what is no artifact, last what
// has no outcome yet; each in the order of paths.
type ItemPlace struct {
	Rank int `db:"rank"`
	N    int `db:"n"`
}

// The ranks of items that have no verdict: what is no artifact, and what has no
// outcome yet.
const (
	noArtifact = 3
	unsettled  = 4
)

// likeOf turns a pattern with * and ? into one for LIKE, in which all else
// stands for itself.
func likeOf(pattern string) string {
	return strings.NewReplacer("*", "%", "?", "_").Replace(literal(pattern))
}

// literal turns a text into a pattern for LIKE that it alone matches.
func literal(text string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text)
}

const selectItems = `SELECT i.n, i.slice, i.path, i.role, i.size, i.survey, o.verdict, o.measurement, o.grounds, o.paths, o.position, coalesce(o.rank, 4) AS rank
	FROM items i LEFT JOIN outcomes o USING (batch_id, n) `

// Items lists items of a batch, the refused first.
func (s Reads) Items(ctx context.Context, batch int64, f ItemFilter) ([]JudgedItem, error) {
	after := ItemPlace{-1, -1}
	if f.After != nil {
		after = *f.After
	}
	out := []JudgedItem{}
	if after.Rank < unsettled {
		where, args := conditions{"o.batch_id = $1", "(o.rank, o.n) > ($2, $3)"}, []any{batch, after.Rank, after.N}
		where.add(&args, f.Verdict != "", "o.verdict = $%d", f.Verdict)
		where.matching(&args, f)
		// What is no artifact has no verdict, and stands together.
		where.add(&args, f.Role == "artifact", "o.rank < $%d", noArtifact)
		where.add(&args, f.Role != "" && f.Role != "artifact", "o.rank = $%d", noArtifact)
		if err := s.q.SelectContext(ctx, &out, fmt.Sprintf(`SELECT i.n, i.slice, i.path, i.role, i.size, i.survey, o.verdict, o.measurement, o.grounds, o.paths, o.position, o.rank
			FROM outcomes o JOIN items i USING (batch_id, n) %sORDER BY o.rank, o.n LIMIT %d`, where.clause(), f.Limit), args...); err != nil {
			return nil, explain(err)
		}
		after.N = -1
	}
	if len(out) >= f.Limit || f.Verdict != "" {
		return out, nil
	}
	where, args := conditions{"i.batch_id = $1", "o.n IS NULL", "i.n > $2"}, []any{batch, after.N}
	where.matching(&args, f)
	rest := []JudgedItem{}
	err := s.q.SelectContext(ctx, &rest, fmt.Sprintf(`%s%sORDER BY i.n LIMIT %d`, selectItems, where.clause(), f.Limit-len(out)), args...)
	return append(out, rest...), explain(err)
}

// matching adds what a filter says about role and name. The names of a batch are
// looked through in their index, without the rows.
func (c *conditions) matching(args *[]any, f ItemFilter) {
	c.add(args, f.Role != "" && f.Role != "evidence", "i.role = $%d", f.Role)
	c.add(args, f.Role == "evidence", "i.role <> $%d", "artifact")
	c.add(args, f.Match != "", "i.n = ANY (ARRAY(SELECT m.n FROM items m WHERE m.batch_id = $1 AND (m.path LIKE $%[1]d OR m.path LIKE '%%/' || $%[1]d)))", likeOf(f.Match))
}

// Manifests lists the manifests of a batch that have an outcome, with all that is
// known of them.
func (s Reads) Manifests(ctx context.Context, batch int64) ([]JudgedItem, error) {
	out := []JudgedItem{}
	err := s.q.SelectContext(ctx, &out, selectItems+`WHERE i.batch_id = $1 AND i.role = 'manifest' AND o.n IS NOT NULL ORDER BY i.n`, batch)
	return out, explain(err)
}

// ItemAt returns one item of a batch by number, or [ErrNotFound].
func (s Reads) ItemAt(ctx context.Context, batch int64, n int) (JudgedItem, error) {
	var item JudgedItem
	err := s.q.GetContext(ctx, &item, selectItems+`WHERE i.batch_id = $1 AND i.n = $2`, batch, n)
	return item, explain(err)
}

// ItemNumbers finds items of a batch by path; what is not there is left out.
func (s Reads) ItemNumbers(ctx context.Context, batch int64, paths []string) (map[string]int, error) {
	rows := []struct {
		Path string `db:"path"`
		N    int    `db:"n"`
	}{}
	err := s.q.SelectContext(ctx, &rows, `SELECT path, n FROM items WHERE batch_id = $1 AND path = ANY($2)`, batch, paths)
	out := make(map[string]int, len(rows))
	for _, r := range rows {
		out[r.Path] = r.N
	}
	return out, explain(err)
}

// Absents lists the entries of a batch without a file, behind a number.
func (s Reads) Absents(ctx context.Context, batch int64, after, limit int) ([]Absent, error) {
	out := []Absent{}
	err := s.q.SelectContext(ctx, &out, `SELECT n, name, manifest, line, digest FROM absents WHERE batch_id = $1 AND n > $2 ORDER BY n LIMIT $3`, batch, after, limit)
	return out, explain(err)
}

// A Stated is a digest that a manifest of a batch states for a name.
type Stated struct {
	Name     string `db:"name"`
	Manifest string `db:"manifest"`
	Line     int    `db:"line"`
	Digest   string `db:"digest"`
}

// Stated lists everything that the manifests of a batch state, of the files
// that are here and of those that are not.
func (s Reads) Stated(ctx context.Context, batch int64) ([]Stated, error) {
	out := []Stated{}
	err := s.q.SelectContext(ctx, &out, `SELECT i.path AS name, l ->> 'manifest' AS manifest, (l ->> 'line')::int AS line, l ->> 'digest' AS digest
		FROM items i CROSS JOIN LATERAL jsonb_array_elements(i.survey -> 'listed') l WHERE i.batch_id = $1
		UNION ALL SELECT name, manifest, line, digest FROM absents WHERE batch_id = $1`, batch)
	return out, explain(err)
}

// A Cleared is an item that was cleared.
type Cleared struct {
	Batch  int64     `db:"batch_id"`
	Label  string    `db:"label"`
	Source string    `db:"source"`
	Path   string    `db:"path"`
	At     time.Time `db:"at"`
}

// ClearedWith returns, for each of some SHA-256 digests in hexadecimal, the
// newest item of an earlier batch that was cleared with it, if there is one.
func (s Reads) ClearedWith(ctx context.Context, before int64, sha256 []string) (map[string]Cleared, error) {
	rows := []struct {
		SHA256 string `db:"sha256"`
		Cleared
	}{}
	err := s.q.SelectContext(ctx, &rows, `SELECT DISTINCT ON (sum.sha256) sum.sha256, o.batch_id, b.label, b.source, i.path, b.judged_as_of AS at
		FROM unnest($2::text[]) AS sum (sha256)
		JOIN outcome_digests d ON d.digest = decode(sum.sha256, 'hex') AND d.algorithm = 'SHA-256' AND d.batch_id < $1
		JOIN outcomes o ON o.batch_id = d.batch_id AND o.n = d.n AND o.verdict = 'cleared'
		JOIN items i ON i.batch_id = o.batch_id AND i.n = o.n JOIN batches b ON b.id = o.batch_id ORDER BY sum.sha256, o.batch_id DESC, o.n`, before, sha256)
	out := make(map[string]Cleared, len(rows))
	for _, r := range rows {
		out[r.SHA256] = r.Cleared
	}
	return out, explain(err)
}

// A Found is an item that has a digest.
type Found struct {
	Batch     int64   `db:"batch_id"`
	N         int     `db:"n"`
	Path      string  `db:"path"`
	Algorithm string  `db:"algorithm"`
	Verdict   *string `db:"verdict"`
}

// ByDigest lists the items of which a digest was computed, given in hexadecimal,
// the newest first and at most a hundred.
func (s Reads) ByDigest(ctx context.Context, digest string) ([]Found, error) {
	out := []Found{}
	err := s.q.SelectContext(ctx, &out, `SELECT d.batch_id, d.n, i.path, d.algorithm, o.verdict FROM outcome_digests d
		JOIN items i USING (batch_id, n) JOIN outcomes o USING (batch_id, n) WHERE d.digest = decode($1, 'hex') ORDER BY d.batch_id DESC, d.n LIMIT 100`, digest)
	return out, explain(err)
}

// DayCount is how many artifacts of a day got a verdict.
type DayCount struct {
	Day     string `db:"day" json:"day"`
	Verdict string `db:"verdict" json:"verdict"`
	Count   int    `db:"count" json:"count"`
}

// OutcomesByDay counts the verdicts on artifacts since a time, by UTC day.
func (s Reads) OutcomesByDay(ctx context.Context, since time.Time) ([]DayCount, error) {
	out := []DayCount{}
	err := s.q.SelectContext(ctx, &out, `SELECT to_char(day, 'YYYY-MM-DD') AS day, verdict, count FROM outcome_days
		WHERE day >= ($1::timestamptz AT TIME ZONE 'UTC')::date ORDER BY 1, 2`, since)
	return out, explain(err)
}
