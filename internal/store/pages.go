package store

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
)

const (
	// pageRecords and pageBytes bound how many texts are stored together, and shortText how long
	// each may be: a longer one, such as of a certificate, has little in common with others.
	pageRecords = 64
	pageBytes   = 1 << 20
	shortText   = 16 << 10
	// unpackedBytes bounds what a page may become: a writer to the database can put
	// anything into one. A record has at most as much.
	unpackedBytes = 512 << 20
)

// A packing compresses texts, and keeps nothing between them.
type packing struct {
	pack   *zstd.Encoder
	unpack *zstd.Decoder
}

// packer is made when it is first used; it may be used by many at once.
var packer = sync.OnceValues(func() (packing, error) {
	pack, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(2), zstd.WithEncoderCRC(false))
	if err != nil {
		return packing{}, err
	}
	unpack, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(unpackedBytes))
	return packing{pack, unpack}, err
})

// A page is some texts that are stored together.
type page struct {
	first int64
	texts []byte
}

// pagesOf puts records, which have their places one behind the other, into pages, and sets the page of each
// that is in one.
func pagesOf(records []*Record) ([]page, error) {
	p, err := packer()
	if err != nil {
		return nil, err
	}
	var out []page
	var plain []byte
	var first int64
	flush := func() {
		if len(plain) > 0 {
			out = append(out, page{first, p.pack.EncodeAll(plain, nil)})
		}
		plain = plain[:0]
	}
	for _, r := range records {
		if bytes.IndexByte(r.Body, '\n') >= 0 {
			return nil, fmt.Errorf("the text of a %s record has more than one line", r.Kind)
		}
		if len(r.Body) > shortText {
			flush()
			continue
		}
		if len(plain) == 0 || r.Position-first == pageRecords || len(plain)+len(r.Body) >= pageBytes {
			flush()
			first = r.Position
		}
		of := first
		r.Page, plain = &of, append(append(plain, r.Body...), '\n')
	}
	flush()
	return out, nil
}

// addPages stores pages.
func (t *Tx) addPages(ctx context.Context, pages []page) error {
	firsts, texts := make([]int64, len(pages)), make([][]byte, len(pages))
	for i, p := range pages {
		firsts[i], texts[i] = p.first, p.texts
	}
	_, err := t.tx.ExecContext(
		ctx, `INSERT INTO ledger_pages (first, texts) SELECT * FROM unnest($1::bigint[], $2::bytea[])`, firsts, texts,
	)
	return err
}

// fill puts texts into records that have them in a page. What cannot be read stays without a text,
// which is the text of no record.
func (s Reads) fill(ctx context.Context, records []Record) error {
	var firsts []int64
	for _, r := range records {
		if r.Page != nil {
			firsts = append(firsts, *r.Page)
		}
	}
	if len(firsts) == 0 {
		return nil
	}
	p, err := packer()
	if err != nil {
		return err
	}
	slices.Sort(firsts)
	firsts = slices.Compact(firsts)
	texts := make(map[int64][][]byte, len(firsts))
	for part := range slices.Chunk(firsts, 100) {
		rows := []struct {
			First int64  `db:"first"`
			Texts []byte `db:"texts"`
		}{}
		if err := s.q.SelectContext(
			ctx, &rows, `SELECT first, texts FROM ledger_pages WHERE first = ANY($1)`, part,
		); err != nil {
			return explain(err)
		}
		for _, r := range rows {
			if plain, err := p.unpack.DecodeAll(r.Texts, nil); err == nil {
				texts[r.First] = bytes.Split(plain, []byte{'\n'})
			}
		}
	}
	for i := range records {
		r := &records[i]
		if r.Page == nil {
			continue
		}
		if lines, at := texts[*r.Page], r.Position-*r.Page; at >= 0 && at < int64(len(lines)) {
			r.Body = lines[at]
		}
	}
	return nil
}

// recordsAt returns the records at some positions, those that are there, with their texts.
func (s Reads) recordsAt(ctx context.Context, positions []int64) (map[int64]Record, error) {
	out := make(map[int64]Record, len(positions))
	for part := range slices.Chunk(positions, recordsAtOnce) {
		rows := []Record{}
		if err := s.q.SelectContext(
			ctx, &rows, `SELECT `+recordText+` FROM ledger_records WHERE position = ANY($1)`, part,
		); err != nil {
			return nil, explain(err)
		}
		if err := s.fill(ctx, rows); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.Position] = r
		}
	}
	return out, nil
}

// unlike says that a record is not what was written.
func unlike(position int64) error {
	return fault.New(fault.Altered, fault.LedgerAltered, "Record %d is not as it was written.", position).
		Advise(keepIt)
}

const keepIt = "Keep the database as it is. Have the administrator audit the ledger, find out who changed the database, and restore it."

// genuineText reports whether a record's text has the hash that was stored with it.
func genuineText(r *Record) bool {
	leaf := ledger.Leaf(r.Body)
	return bytes.Equal(leaf[:], r.Leaf)
}
