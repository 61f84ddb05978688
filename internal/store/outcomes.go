package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// An Outcome is what became of an item.
type Outcome struct {
	N        int
	Verdict  *string
	Position int64
	// Deciding is the sentence for a line in a list.
	Deciding string
	// Digests are those that were computed, in hexadecimal, by algorithm, and Signers what
	// the signatures over the item name as their makers: by these it is found.
	Digests map[string]string
	Signers []string
	// Renamed are the entries of lists that are this item's, under another name that differs
	// harmlessly.
	Renamed []Entry
}

// An Entry is one of a list.
type Entry struct {
	Manifest string
	Line     int
}

// AddOutcomes stores outcomes; each item can have one only. Verdicts count for
// the day. Call it behind [Tx.Append]: the ledger's lock is what lets the counts
// of a day come one after another.
func (t *Tx) AddOutcomes(ctx context.Context, batch int64, outcomes []Outcome) error {
	n := len(outcomes)
	ns, verdicts, positions, deciding := make([]int, n), make([]*string, n), make([]int64, n), make([]string, n)
	for i, o := range outcomes {
		ns[i], verdicts[i], positions[i], deciding[i] = o.N, o.Verdict, o.Position, o.Deciding
	}
	if _, err := t.tx.ExecContext(ctx, `INSERT INTO outcomes (batch_id, n, verdict, position, deciding)
		SELECT $1, * FROM unnest($2::int[], $3::text[], $4::bigint[],
			$5::text[])`, batch, ns, verdicts, positions, deciding); err != nil {
		return err
	}
	if err := t.addSearched(ctx, batch, outcomes); err != nil {
		return err
	}
	if err := t.addRenamed(ctx, batch, outcomes); err != nil {
		return err
	}
	_, err := t.tx.ExecContext(ctx, `INSERT INTO outcome_days AS d (day, verdict, count)
		SELECT (r.at AT TIME ZONE 'UTC')::date, r.verdict, count(*) FROM ledger_records r WHERE r.position = ANY($1)
		AND r.verdict IS NOT NULL GROUP BY 1, 2
		ON CONFLICT (day, verdict) DO UPDATE SET count = d.count + excluded.count`, positions)
	return err
}

// addSearched stores by what outcomes are found.
func (t *Tx) addSearched(ctx context.Context, batch int64, outcomes []Outcome) error {
	var digested, signed []int
	var algorithms, digests, issuers []string
	var cleared []bool
	for _, o := range outcomes {
		for _, algorithm := range slices.Sorted(maps.Keys(o.Digests)) {
			digested = append(digested, o.N)
			algorithms = append(algorithms, algorithm)
			digests = append(digests, o.Digests[algorithm])
			cleared = append(cleared, o.Verdict != nil && *o.Verdict == "cleared")
		}
		for _, issuer := range o.Signers {
			signed, issuers = append(signed, o.N), append(issuers, issuer)
		}
	}
	if len(digested) > 0 {
		if _, err := t.tx.ExecContext(ctx, `INSERT INTO outcome_digests (batch_id, n, algorithm, digest, cleared)
			SELECT $1, n, algorithm, decode(digest, 'hex'), cleared
				FROM unnest($2::int[], $3::text[], $4::text[], $5::bool[]) d (n, algorithm, digest,
				cleared)`, batch, digested, algorithms, digests, cleared); err != nil {
			return err
		}
	}
	if len(signed) == 0 {
		return nil
	}
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO outcome_signers (batch_id, n, issuer) SELECT $1, * FROM unnest($2::int[], $3::text[])
			ON CONFLICT DO NOTHING`,
		batch,
		signed,
		issuers,
	)
	return err
}

// addRenamed takes entries off those without a file whose file turned out to be here, under a
// name that differs harmlessly.
func (t *Tx) addRenamed(ctx context.Context, batch int64, outcomes []Outcome) error {
	var manifests []string
	var lines []int
	for _, o := range outcomes {
		for _, e := range o.Renamed {
			manifests, lines = append(manifests, e.Manifest), append(lines, e.Line)
		}
	}
	if len(lines) == 0 {
		return nil
	}
	_, err := t.tx.ExecContext(ctx, `INSERT INTO renamed (batch_id, n) SELECT a.batch_id, a.n FROM absents a
		JOIN unnest($2::text[], $3::int[]) f (manifest, line) ON f.manifest = a.manifest AND f.line = a.line
			WHERE a.batch_id = $1 ON CONFLICT DO NOTHING`, batch, manifests, lines)
	return err
}

// A JudgedItem is an item with its outcome, if it has one yet. Of an item with an outcome the
// survey is that of its record.
type JudgedItem struct {
	Item
	Verdict  *string  `db:"verdict"`
	Position *int64   `db:"position"`
	Rank     int      `db:"rank"`
	Evidence Evidence `db:"-"`
}

// withEvidence puts into items what their records say.
func (s Reads) withEvidence(ctx context.Context, batch int64, items []JudgedItem) error {
	if err := told(
		ctx, s, items, func(i *JudgedItem) about { return about{batch, i.Path, i.Position, &i.Evidence} },
	); err != nil {
		return err
	}
	for i := range items {
		item := &items[i]
		if item.Position == nil {
			continue
		}
		verdict := ""
		if item.Verdict != nil {
			verdict = *item.Verdict
		}
		if verdict != item.Evidence.Verdict { // nobody is shown one verdict with the evidence of another
			return Mistaken(batch, item.Path)
		}
		item.Survey = item.Evidence.Survey
	}
	return nil
}

// An ItemRow is what a row of a list shows of an item.
type ItemRow struct {
	N        int     `db:"n"`
	Path     string  `db:"path"`
	Role     string  `db:"role"`
	Size     int64   `db:"size"`
	Verdict  *string `db:"verdict"`
	Position *int64  `db:"position"`
	Rank     int     `db:"rank"`
	// Deciding is the sentence for the row. It is nil for what has no outcome
	// yet, and for outcomes of earlier versions, which come with their Evidence
	// instead.
	Deciding *string  `db:"deciding"`
	Evidence Evidence `db:"-"`
	// Now is the verdict that the newest reassessment made of it, or nil.
	Now *string `db:"now"`
	// NowGrounds are those of that verdict.
	NowGrounds []byte `db:"now_grounds"`
}

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

const (
	itemColumns = `i.n, i.slice, i.path, i.role, i.size, i.survey, o.verdict, o.position, coalesce(o.rank, 4) AS rank`
	// withOutcome joins each item with its outcome, and withoutOutcome tells that it has
	// none. Each is looked up by its own key: of a batch that is new the statistics know
	// nothing, so that the server expects one row, and would look through the outcomes of
	// the whole batch for each item. OFFSET 0 keeps it from taking the joins apart.
	withOutcome = ` LEFT JOIN LATERAL (SELECT * FROM outcomes o WHERE o.batch_id = i.batch_id
		AND o.n = i.n OFFSET 0) o ON true `
	withoutOutcome = ` NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = i.batch_id AND o.n = i.n OFFSET 0) `
	// andItem joins each outcome with its item in that way.
	andItem = ` CROSS JOIN LATERAL (SELECT * FROM items i WHERE i.batch_id = o.batch_id AND i.n = o.n OFFSET 0) i `

	selectItems = `SELECT ` + itemColumns + ` FROM items i ` + withOutcome
)

// rowColumns are those of an [ItemRow].
var rowColumns = `i.n, i.path, i.role, i.size, o.verdict, o.position, coalesce(o.rank, 4) AS rank, o.deciding,
	` + newest("after", "i") + ` AS now, ` + newest("grounds", "i") + ` AS now_grounds`

// becameOutcomes are the outcomes o of a batch in which something was judged again, with the verdict that
// each has now, and in the order of that.
const becameOutcomes = `(SELECT o.batch_id, o.n, o.verdict, o.position, o.deciding,
		coalesce(w.after, o.verdict) AS present,
		CASE w.after WHEN 'refused' THEN 0 WHEN 'unproven' THEN 1 WHEN 'cleared' THEN 2 ELSE o.rank END AS rank
	FROM outcomes o LEFT JOIN (SELECT DISTINCT ON (n) n, after FROM rejudged WHERE batch_id = $1
		ORDER BY n, reassessment_id DESC) w ON w.n = o.n
	WHERE o.batch_id = $1) o `

// ItemRows lists items of a batch as [Reads.Items] does, without their evidence.
func (s Reads) ItemRows(ctx context.Context, batch int64, f ItemFilter) ([]ItemRow, error) {
	rows, err := listItems[ItemRow](ctx, s, rowColumns, batch, f)
	if err != nil {
		return nil, err
	}
	return rows, told(ctx, s, rows, func(r *ItemRow) about {
		if r.Deciding != nil {
			return about{}
		}
		return about{batch, r.Path, r.Position, &r.Evidence}
	})
}

// Items lists items of a batch, the refused first.
func (s Reads) Items(ctx context.Context, batch int64, f ItemFilter) ([]JudgedItem, error) {
	items, err := listItems[JudgedItem](ctx, s, itemColumns, batch, f)
	if err != nil {
		return nil, err
	}
	return items, s.withEvidence(ctx, batch, items)
}

func listItems[T any](ctx context.Context, s Reads, columns string, batch int64, f ItemFilter) ([]T, error) {
	after := ItemPlace{-1, -1}
	if f.After != nil {
		after = *f.After
	}
	out := []T{}
	var rejudged bool
	if err := s.q.GetContext(
		ctx, &rejudged, `SELECT EXISTS (SELECT FROM rejudged WHERE batch_id = $1)`, batch,
	); err != nil {
		return nil, explain(err)
	}
	// As outcomes are, they are found in their order; as they became, they are put in order first.
	from, present := `outcomes o `, "o.verdict"
	if rejudged {
		from, present = becameOutcomes, "o.present"
	}
	if after.Rank < unsettled {
		where, args := conditions{"o.batch_id = $1", "(o.rank, o.n) > ($2, $3)"}, []any{batch, after.Rank, after.N}
		where.add(&args, f.Verdict != "", present+" = $%d", f.Verdict)
		where.matching(&args, f, "o.n")
		// What is no artifact has no verdict, and stands together with companions.
		where.add(&args, f.Role != "" && f.Role != "artifact", "o.rank = $%d", noArtifact)
		if err := s.q.SelectContext(
			ctx, &out,
			fmt.Sprintf(
				`SELECT %s FROM %s%s%sORDER BY o.rank, o.n LIMIT %d`, columns, from, andItem, where.clause(), f.Limit,
			),
			args...); err != nil {
			return nil, explain(err)
		}
		after.N = -1
	}
	if len(out) >= f.Limit || f.Verdict != "" {
		return out, nil
	}
	where, args := conditions{"i.batch_id = $1", "o.n IS NULL", "i.n > $2"}, []any{batch, after.N}
	where.matching(&args, f, "i.n")
	rest := []T{}
	err := s.q.SelectContext(
		ctx, &rest,
		fmt.Sprintf(
			`SELECT %s FROM items i %s%sORDER BY i.n LIMIT %d`, columns, withOutcome, where.clause(), f.Limit-len(out),
		),
		args...)
	return append(out, rest...), explain(err)
}

// matching adds what a filter says about role and name; number is the column with the
// item's number, of the table that is read first. The names of a batch are looked through
// in their index, without the rows.
func (c *conditions) matching(args *[]any, f ItemFilter, number string) {
	c.add(args, f.Role != "" && f.Role != "evidence", "i.role = $%d", f.Role)
	c.add(args, f.Role == "evidence", "i.role <> $%d", "artifact")
	c.add(
		args,
		f.Match != "",
		number+" = ANY (ARRAY(SELECT m.n FROM items m WHERE m.batch_id = $1 AND (m.path LIKE $%[1]d OR m.path LIKE '%%/' || $%[1]d)))",
		likeOf(f.Match),
	)
}

// Evidence lists the manifests and receipts of a batch that have an outcome, with all that
// is known of them.
func (s Reads) Evidence(ctx context.Context, batch int64) ([]JudgedItem, error) {
	out := []JudgedItem{}
	if err := s.q.SelectContext(
		ctx, &out,
		selectItems+`WHERE i.batch_id = $1 AND i.role IN ('manifest', 'receipt') AND o.n IS NOT NULL ORDER BY i.n`,
		batch,
	); err != nil {
		return nil, explain(err)
	}
	return out, s.withEvidence(ctx, batch, out)
}

// CountEvidence counts what [Reads.Evidence] lists.
func (s Reads) CountEvidence(ctx context.Context, batch int64) (n int, err error) {
	err = s.q.GetContext(
		ctx,
		&n,
		`SELECT count(*) FROM items i JOIN outcomes o USING (batch_id, n) WHERE i.batch_id = $1
			AND i.role IN ('manifest', 'receipt')`,
		batch,
	)
	return n, explain(err)
}

// ItemAt returns one item of a batch by number, or [ErrNotFound].
func (s Reads) ItemAt(ctx context.Context, batch int64, n int) (JudgedItem, error) {
	items := make([]JudgedItem, 1)
	if err := s.q.GetContext(ctx, &items[0], selectItems+`WHERE i.batch_id = $1 AND i.n = $2`, batch, n); err != nil {
		return JudgedItem{}, explain(err)
	}
	err := s.withEvidence(ctx, batch, items)
	return items[0], err
}

// ItemsAt returns the items of a batch with some numbers, in the order of these; what is not there is left out.
func (s Reads) ItemsAt(ctx context.Context, batch int64, ns []int) ([]JudgedItem, error) {
	items := []JudgedItem{}
	if err := s.q.SelectContext(
		ctx, &items, selectItems+`WHERE i.batch_id = $1 AND i.n = ANY($2) ORDER BY i.n`, batch, ns,
	); err != nil {
		return nil, explain(err)
	}
	err := s.withEvidence(ctx, batch, items)
	return items, err
}

// ItemNumbers finds items of a batch by path; what is not there is left out.
func (s Reads) ItemNumbers(ctx context.Context, batch int64, paths []string) (map[string]int, error) {
	rows := []struct {
		Path string `db:"path"`
		N    int    `db:"n"`
	}{}
	err := s.q.SelectContext(
		ctx, &rows, `SELECT path, n FROM items WHERE batch_id = $1 AND path = ANY($2)`, batch, paths,
	)
	out := make(map[string]int, len(rows))
	for _, r := range rows {
		out[r.Path] = r.N
	}
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
// newest item of an earlier batch that is cleared with it still, if there is one.
func (s Reads) ClearedWith(ctx context.Context, before int64, sha256 []string) (map[string]Cleared, error) {
	rows := []struct {
		SHA256 string `db:"sha256"`
		Cleared
	}{}
	err := s.q.SelectContext(
		ctx,
		&rows,
		`SELECT DISTINCT ON (sum.sha256) sum.sha256, d.batch_id, b.label, b.source, i.path, r.at
		FROM unnest($2::text[]) AS sum (sha256)
			JOIN outcome_digests d ON d.digest = decode(sum.sha256, 'hex') AND d.algorithm = 'SHA-256' AND d.batch_id < $1`+
			inLibrary+`JOIN items i ON i.batch_id = d.batch_id AND i.n = d.n
			JOIN batches b ON b.id = d.batch_id JOIN ledger_records r ON r.position = l.position
		WHERE `+stillInLibrary+` ORDER BY sum.sha256, d.batch_id DESC, d.n`,
		before,
		sha256,
	)
	out := make(map[string]Cleared, len(rows))
	for _, r := range rows {
		out[r.SHA256] = r.Cleared
	}
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

// PresentVerdict returns the verdict that an item has by all reassessments since, or
// [ErrNotFound].
func (s Reads) PresentVerdict(ctx context.Context, batch int64, n int) (string, error) {
	var out string
	err := s.q.GetContext(
		ctx,
		&out,
		`SELECT coalesce(`+newest("after", "o")+`, o.verdict, '')
		FROM outcomes o WHERE o.batch_id = $1 AND o.n = $2`,
		batch,
		n,
	)
	return out, explain(err)
}
