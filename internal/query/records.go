package query

import (
	"context"
	"regexp"
	"strconv"
	"time"
	"unicode"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// A Record is a row of the ledger.
type Record struct {
	Position    int64
	Kind        ledger.Kind
	At          time.Time
	By, Subject string
	// Verdict is nil for a record that is about none.
	Verdict *judge.Verdict
	// Batch is that of an outcome and of a batch's end, or nil.
	Batch *int64
	// Body is the record byte for byte as it was hashed; it is nil in lists.
	Body []byte
	Leaf []byte
	// Sentences say what it says, for people; they are nil in lists.
	Sentences []string
}

// RecordOf returns what a row holds.
func RecordOf(row store.Record) Record {
	return Record{
		Position: row.Position, Kind: ledger.Kind(row.Kind), At: row.At, By: row.By, Subject: row.Subject,
		Verdict: verdictOf(row.Verdict), Batch: row.BatchID, Body: row.Body, Leaf: row.Leaf,
	}
}

// A RecordFilter says which records are listed; what is empty does not limit them.
type RecordFilter struct {
	Kind    ledger.Kind
	Verdict judge.Verdict
	Batch   int64
	// Name matches a part of the subject, ignoring case.
	Name string
	// By is the name of a person, and Publisher a slug.
	By, Publisher string
	Ground        judge.Code
	Cause         diagnose.Code
	// Key is a fingerprint or key ID, or what one begins or ends with; Digest is what a value begins with, in
	// any algorithm. Both are in hexadecimal, of 8 digits at least.
	Key, Digest string
	Device      string
	// Place and Label match a part of where bytes were read, and of a batch's label, ignoring case.
	Place, Label string
	// Waiver is the position of the record that granted one.
	Waiver *int64
	// From is the first moment, and To the first that is too late.
	From, To *time.Time
	// Limit is how many are in a page at most.
	Limit int
}

func (f RecordFilter) store(before int64) store.RecordFilter {
	return store.RecordFilter{
		Kind: string(f.Kind), Verdict: string(f.Verdict), BatchID: f.Batch, Name: f.Name, Before: before,
	}
}

// Records lists records, the newest first, without their bodies. A search for a
// name of one or two characters, which has no index, looks back for a moment
// only: then its page may be short, or empty, and Next says where to go on.
func (s *Service) Records(ctx context.Context, f RecordFilter, cursor string) (Page[Record], error) {
	before, err := Number(cursor, 0)
	if err != nil {
		return Page[Record]{}, err
	}
	if f.Name == "" && !f.narrow() && f.Kind == "" && f.Verdict == "" && f.Batch == 0 {
		return s.all(ctx, f, before)
	}
	if f.Name == "" || f.narrow() {
		return s.search(ctx, f, before)
	}
	rows, next, err := s.records(ctx, f.store(before), f.Limit)
	return Page[Record]{Rows: each(rows, RecordOf), Next: next}, err
}

// all lists all records, of which it is known how many there are.
func (s *Service) all(ctx context.Context, f RecordFilter, before int64) (Page[Record], error) {
	rows, next, err := s.records(ctx, f.store(before), f.Limit)
	out := Page[Record]{Rows: each(rows, RecordOf), Next: next}
	if err != nil || before != 0 {
		return out, err
	}
	size, err := s.store.LedgerSize(ctx)
	count := int(size)
	out.Count = &count
	return out, err
}

// records looks for records, and says where to go on.
func (s *Service) records(
	ctx context.Context, f store.RecordFilter, limit int,
) (found []store.Record, next string, err error) {
	f.Limit = limit + 1
	page := func(rows []store.Record, err error) ([]store.Record, string, error) {
		p := pageOf(rows, limit, func(r store.Record) string { return strconv.FormatInt(r.Position, 10) })
		return p.Rows, p.Next, err
	}
	if f.Name == "" {
		return page(s.store.Records(ctx, f))
	}
	if f.Before == 0 {
		if f.Before, err = s.store.LedgerSize(ctx); err != nil {
			return nil, "", err
		}
	}
	for start := time.Now(); ; {
		f.From = max(0, f.Before-s.window)
		some, err := s.store.Records(ctx, f)
		if err != nil {
			return nil, "", err
		}
		found, f.Limit, f.Before, f.From = append(found, some...), f.Limit-len(some), f.From, 0
		switch {
		case f.Limit == 0 || f.Before == 0:
			return page(found, nil)
		case indexed(f.Name):
			rest, err := s.recordsByName(ctx, f)
			return page(append(found, rest...), err)
		case time.Since(start) > s.patience:
			return found, strconv.FormatInt(f.Before, 10), nil
		}
	}
}

// recordsByName asks the index of names: the newest records were not enough, so
// that the name is likely in few.
func (s *Service) recordsByName(ctx context.Context, f store.RecordFilter) ([]store.Record, error) {
	if word := rarest(f.Name); word != "" {
		var found []store.Record
		var selective bool
		err := s.store.Look(ctx, func(ctx context.Context, reads store.Reads) (err error) {
			found, selective, err = reads.RecordsByWord(ctx, f, word, s.few)
			return err
		})
		if selective || err != nil {
			return found, err
		}
	}
	return s.store.RecordsByName(ctx, f)
}

// indexed reports whether the index of names can find a part of one: it holds
// every three letters or digits in a row.
func indexed(name string) bool {
	run := 0
	for _, r := range name {
		if run++; !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			run = 0
		}
		if run == 3 {
			return true
		}
	}
	return false
}

// rarest returns the part of a name that is likely in the fewest names: the
// longest number in it of two digits or more, with the signs around it. It
// returns nothing when there is none.
func rarest(name string) string {
	best := ""
	for _, found := range numbers.FindAllString(name, -1) {
		if len(found) > len(best) {
			best = found
		}
	}
	return best
}

// numbers are whole words to the index of names. The sign behind one may be the
// one before the next, so that of two neighbours the first is seen alone.
var numbers = regexp.MustCompile(`[-_./ ][0-9]{2,}[-_./ ]`)
