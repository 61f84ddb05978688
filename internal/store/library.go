package store

import (
	"context"
	"encoding/json"
	"time"
)

// A LibraryEntry says of a file that it was cleared, and on what that rests.
type LibraryEntry struct {
	// Position is that of the record of its verdict, Batch and N say which item it is.
	Position int64
	Batch    int64
	N        int
	// Publisher is a slug, or empty, and File the last part of the item's path.
	Publisher string
	File      string
	// Stem and Release are what the name says; what lies inside another file has no stem, and nothing is held
	// against it.
	Stem, Release string
	Signed        *time.Time
	Signers       []string
	// Algorithms are names of digest algorithms.
	Algorithms []string
}

// AddLibrary adds what was cleared. What is there already stays.
func (t *Tx) AddLibrary(ctx context.Context, entries []LibraryEntry) error {
	if len(entries) == 0 {
		return nil
	}
	size := len(entries)
	positions, batches, ns := make([]int64, size), make([]int64, size), make([]int, size)
	signed := make([]*time.Time, size)
	publishers, names := make([]string, size), make([]string, size)
	stems, releases := make([]string, size), make([]string, size)
	signers, algorithms := make([]string, size), make([]string, size)
	for i, e := range entries {
		positions[i], batches[i], ns[i], signed[i] = e.Position, e.Batch, e.N, e.Signed
		publishers[i], names[i], stems[i], releases[i] = e.Publisher, e.File, e.Stem, e.Release
		signers[i], algorithms[i] = jsonOf(e.Signers), jsonOf(e.Algorithms)
	}
	_, err := t.tx.ExecContext(
		ctx,
		`INSERT INTO library
			(position, batch_id, n, publisher, name, stem, release, signed_at, signers, algorithms)
		SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::int[], $4::text[], $5::text[], $6::text[], $7::text[],
			$8::timestamptz[], $9::jsonb[], $10::jsonb[])
		ON CONFLICT DO NOTHING`,
		positions, batches, ns, publishers, names, stems, releases, signed, signers, algorithms,
	)
	return explain(err)
}

func jsonOf(list []string) string {
	out, _ := json.Marshal(append([]string{}, list...)) // of texts
	return string(out)
}

// ItemNumbersAt returns the numbers of the items of a batch by the positions of the records of their
// verdicts.
func (s Reads) ItemNumbersAt(ctx context.Context, positions []int64) (map[int64]int, error) {
	rows := []struct {
		Position int64 `db:"position"`
		N        int   `db:"n"`
	}{}
	err := s.q.SelectContext(
		ctx, &rows, `SELECT position, n FROM outcomes WHERE position = ANY($1)
			UNION ALL SELECT position, n FROM rejudged WHERE position = ANY($1)`, positions,
	)
	out := make(map[int64]int, len(rows))
	for _, r := range rows {
		out[r.Position] = r.N
	}
	return out, explain(err)
}

// A Remembered is a file of the library that is cleared still.
type Remembered struct {
	Position   int64      `db:"position"`
	Batch      int64      `db:"batch_id"`
	At         time.Time  `db:"at"`
	Publisher  string     `db:"publisher"`
	File       string     `db:"name"`
	Stem       string     `db:"stem"`
	SHA256     []byte     `db:"sha256"`
	SignedAt   *time.Time `db:"signed_at"`
	Signers    []byte     `db:"signers"`
	Algorithms []byte     `db:"algorithms"`
}

// How many files of one stem, and of one name, are remembered at a time: the newest.
const (
	ofOneStem = 32
	ofOneName = 4
)

// Remembered lists what was cleared before a position under some stems or names, and not in one
// batch, the newest first: of each stem and name the newest, as far as they are cleared still.
func (s Reads) Remembered(
	ctx context.Context, stems, names []string, before, besides int64,
) ([]Remembered, error) {
	out := []Remembered{}
	err := s.q.SelectContext(
		ctx, &out,
		`WITH found AS MATERIALIZED (
			SELECT l.position FROM unnest($1::text[]) w (stem) CROSS JOIN LATERAL (SELECT position FROM library l
				WHERE l.stem = w.stem AND l.position < $3 AND l.batch_id <> $4 ORDER BY l.position DESC LIMIT $5) l
			UNION
			SELECT l.position FROM unnest($2::text[]) w (name) CROSS JOIN LATERAL (SELECT position FROM library l
				WHERE l.name = w.name AND l.stem <> '' AND l.position < $3 AND l.batch_id <> $4
				ORDER BY l.position DESC LIMIT $6) l)
		SELECT l.position, l.batch_id, r.at, l.publisher, l.name, l.stem, d.digest AS sha256, l.signed_at, l.signers,
			l.algorithms
		FROM found
			CROSS JOIN LATERAL (SELECT * FROM library l WHERE l.position = found.position OFFSET 0) l
			CROSS JOIN LATERAL (SELECT at FROM ledger_records r WHERE r.position = found.position OFFSET 0) r
			CROSS JOIN LATERAL (SELECT digest FROM outcome_digests d WHERE d.batch_id = l.batch_id AND d.n = l.n
				AND d.algorithm = 'SHA-256' OFFSET 0) d
		WHERE `+stillInLibrary+` ORDER BY l.position DESC`,
		stems, names, before, besides, ofOneStem, ofOneName,
	)
	return out, explain(err)
}

// inLibrary joins an item d, by batch_id and n, with the newest row of the library about it.
const inLibrary = ` CROSS JOIN LATERAL (SELECT * FROM library l WHERE l.batch_id = d.batch_id AND l.n = d.n
	ORDER BY l.position DESC LIMIT 1) l `

// stillInLibrary asks whether nothing was decided since about the file of a row l of the library.
const stillInLibrary = `NOT EXISTS (SELECT FROM rejudged j WHERE j.batch_id = l.batch_id AND j.n = l.n
	AND j.position > l.position OFFSET 0)`

// A BatchFile is a file that lay in the folder of a batch.
type BatchFile struct {
	Batch int64  `db:"batch_id"`
	Path  string `db:"path"`
	Role  string `db:"role"`
	// Record is that of its outcome, of the time At.
	Record *int64     `db:"position"`
	At     *time.Time `db:"at"`
}

// FilesOf lists the files of some batches that were read in a depot's folder, without what other files
// hold: of those the path has the separator. A batch with more than limit items is left out.
func (s Reads) FilesOf(ctx context.Context, batches []int64, separator string, limit int) ([]BatchFile, error) {
	out := []BatchFile{}
	err := s.q.SelectContext(
		ctx, &out,
		`SELECT i.batch_id, i.path, i.role, o.position, o.at FROM batches b
			CROSS JOIN LATERAL (SELECT * FROM items i WHERE i.batch_id = b.id OFFSET 0) i
			LEFT JOIN LATERAL (SELECT o.position, r.at FROM outcomes o JOIN ledger_records r ON r.position = o.position
				WHERE o.batch_id = i.batch_id AND o.n = i.n OFFSET 0) o ON true
		WHERE b.id = ANY($1) AND b.source_kind = 'depot'
			AND (SELECT count(*) FROM (SELECT FROM items n WHERE n.batch_id = b.id LIMIT $2 + 1) n) <= $2
			AND position($3 IN i.path) = 0
		ORDER BY i.batch_id, i.n`,
		batches, limit, separator,
	)
	return out, explain(err)
}

// A SameFile is an item of the library with some content.
type SameFile struct {
	Position int64     `db:"position"`
	Batch    int64     `db:"batch_id"`
	N        int       `db:"n"`
	At       time.Time `db:"at"`
	SHA256   []byte    `db:"digest"`
	// Path is set by [Reads.ArrivedSince].
	Path string `db:"path"`
}

// laterBatches is how many of the later batches of a place are looked at: the newest.
const laterBatches = 8

// ArrivedSince lists files of a depot's folder that were cleared in later batches of it, and are cleared still: of
// each path the newest.
func (s Reads) ArrivedSince(ctx context.Context, batch int64, paths []string) ([]SameFile, error) {
	out := []SameFile{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT DISTINCT ON (i.path) l.position, l.batch_id, l.n, r.at, d.digest, i.path
		FROM (SELECT later.id FROM batches b JOIN batches later ON later.source = b.source
				AND later.source_kind = b.source_kind AND later.id > b.id AND later.state = 'done'
				WHERE b.id = $1 AND b.source_kind = 'depot' ORDER BY later.id DESC LIMIT $3) later
			JOIN items i ON i.batch_id = later.id AND i.path = ANY($2)
			JOIN library l ON l.batch_id = i.batch_id AND l.n = i.n
			JOIN outcome_digests d ON d.batch_id = i.batch_id AND d.n = i.n AND d.algorithm = 'SHA-256'
			JOIN ledger_records r ON r.position = l.position
		WHERE `+stillInLibrary+` ORDER BY i.path, l.position DESC`, batch, paths, laterBatches,
	)
	return out, explain(err)
}

// HasLater reports whether a later batch of the same place has ended.
func (s Reads) HasLater(ctx context.Context, batch int64) (later bool, err error) {
	err = s.q.GetContext(
		ctx, &later, `SELECT EXISTS (SELECT FROM batches b JOIN batches l ON l.source = b.source
			AND l.source_kind = b.source_kind AND l.id > b.id AND l.state = 'done' WHERE b.id = $1)`, batch,
	)
	return later, explain(err)
}

// HelpedBy lists the earlier batches of a depot's folder, of the newest limit, in which something is not cleared
// that is cleared in a later one with the same path and bytes.
func (s Reads) HelpedBy(ctx context.Context, batch int64, limit int) ([]int64, error) {
	out := []int64{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT earlier.id FROM batches b CROSS JOIN LATERAL (SELECT e.* FROM batches e
				WHERE e.source = b.source AND e.source_kind = b.source_kind AND e.id < b.id AND e.state = 'done'
				ORDER BY e.id DESC LIMIT $2) earlier
		WHERE b.id = $1 AND b.source_kind = 'depot' AND `+verdictNow("earlier")+` <> 'cleared' AND EXISTS (
			SELECT FROM library l JOIN items i ON i.batch_id = l.batch_id AND i.n = l.n
				JOIN outcome_digests d ON d.batch_id = l.batch_id AND d.n = l.n AND d.algorithm = 'SHA-256'
				JOIN items was ON was.batch_id = earlier.id AND was.path = i.path
				JOIN outcomes o ON o.batch_id = was.batch_id AND o.n = was.n
				JOIN outcome_digests had ON had.batch_id = was.batch_id AND had.n = was.n AND had.algorithm = 'SHA-256'
					AND had.digest = d.digest
			WHERE l.batch_id = b.id AND coalesce(`+newest("after", "o")+`, o.verdict) = 'unproven')
		ORDER BY earlier.id`, batch, limit,
	)
	return out, explain(err)
}

// ofOneContent is how many files with the same content are looked at: the newest.
const ofOneContent = 8

// SameBytes lists what was cleared before a position with some SHA-256 digests in hexadecimal, and not in one
// batch, the newest first: of each digest the newest, as far as they are cleared still.
func (s Reads) SameBytes(ctx context.Context, sha256 []string, before, besides int64) ([]SameFile, error) {
	out := []SameFile{}
	err := s.q.SelectContext(
		ctx, &out,
		`SELECT l.position, l.batch_id, l.n, r.at, sum.digest
		FROM (SELECT DISTINCT decode(text, 'hex') AS digest FROM unnest($1::text[]) AS t (text)) sum
			CROSS JOIN LATERAL (SELECT l.position, l.batch_id, l.n FROM outcome_digests d
				JOIN library l ON l.batch_id = d.batch_id AND l.n = d.n
				WHERE d.digest = sum.digest AND d.algorithm = 'SHA-256' AND d.batch_id <> $3 AND l.position < $2
					AND `+stillInLibrary+`
				ORDER BY l.position DESC LIMIT $4) l
			JOIN ledger_records r ON r.position = l.position
		ORDER BY l.position DESC`,
		sha256, before, besides, ofOneContent,
	)
	return out, explain(err)
}
