package recorded

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// Follow stores the rows that follow from records which were appended together.
func Follow(ctx context.Context, tx *store.Tx, heads []Head, bodies []Body) error {
	for len(bodies) > 0 {
		var n int
		var err error
		switch b := bodies[0].(type) {
		case ItemOutcome:
			alike := leading(bodies, func(o ItemOutcome) bool { return o.Batch == b.Batch })
			n, err = len(alike), storedOutcomes(ctx, tx, heads, alike)
		case ItemRejudged:
			alike := leading(bodies, func(ItemRejudged) bool { return true })
			n, err = len(alike), storedRejudged(ctx, tx, heads, alike)
		default:
			n, err = 1, b.Follow(ctx, tx, heads[0])
		}
		if err != nil {
			return err
		}
		heads, bodies = heads[n:], bodies[n:]
	}
	return nil
}

// leading returns the bodies of one type that others begin with.
func leading[T Body](bodies []Body, alike func(T) bool) []T {
	var out []T
	for _, b := range bodies {
		t, ok := b.(T)
		if !ok || !alike(t) {
			break
		}
		out = append(out, t)
	}
	return out
}

// single are bodies from which a row follows by that record alone.
type single interface {
	alone(h Head) row
}

// A Follower holds the tables against records one after another: what follows from one record
// alone, and what people, tokens and devices are by all of them.
type Follower struct {
	people  map[string]person
	tokens  map[int64]token
	devices map[string]row
	kinds   map[string]row
	// verdicts counts artifacts by day and verdict, as outcome_days does.
	verdicts map[string]int64
}

// NewFollower returns a Follower that has seen no record.
func NewFollower() *Follower {
	return &Follower{
		people: map[string]person{}, tokens: map[int64]token{}, devices: map[string]row{}, kinds: map[string]row{},
		verdicts: map[string]int64{},
	}
}

// Keeps lists the kinds of records of which all have to be known for [Follower.Whole].
func Keeps() []ledger.Kind {
	return []ledger.Kind{
		ledger.UserAdded, ledger.UserChanged, ledger.TokenIssued, ledger.TokenRevoked, ledger.DeviceSet,
		ledger.DeviceKindSet,
	}
}

// Keep takes a record of one of the kinds of [Keeps]. Others say nothing.
func (f *Follower) Keep(h Head, b Body) {
	switch b := b.(type) {
	case UserAdded:
		f.people[b.Name] = person{h, h, b.Person}
	case UserChanged:
		if p, ok := f.people[b.Name]; ok {
			f.people[b.Name] = person{p.added, h, b.Person}
		}
	case TokenIssued:
		f.tokens[b.Token] = token{issued: h, is: b}
	case TokenRevoked:
		if t, ok := f.tokens[b.Token]; ok {
			t.revoked = &h
			f.tokens[b.Token] = t
		}
	case DeviceSet:
		f.devices[b.Device.Name] = b.row(h)
	case DeviceKindSet:
		f.kinds[b.DeviceKind.Name] = b.row(h)
	}
}

// Whole holds all rows of a table against what was kept.
func (f *Follower) Whole(t store.WholeTable, stored []store.StoredRow) []store.Discrepancy {
	var wanted []row
	switch t.Name {
	case "users":
		for _, p := range f.people {
			wanted = append(wanted, p.row())
		}
	case "tokens":
		for _, t := range f.tokens {
			wanted = append(wanted, t.row())
		}
	case "devices":
		wanted = slices.Collect(maps.Values(f.devices))
	case "device_kinds":
		wanted = slices.Collect(maps.Values(f.kinds))
	case "outcome_days":
		for day, n := range f.verdicts {
			wanted = append(wanted, row{key: day, position: -1, fields: []field{number(n)}})
		}
	}
	return compare(t, wanted, stored, -1)
}

// Compare holds some records against the rows that follow from each alone: rows are those of a
// table that say that they follow from a record between the first of them and the last. A record
// that cannot be read is a difference. adoptedAt is where rows of earlier versions were adopted.
func (f *Follower) Compare(
	page []store.Record, rows func(store.PlacedTable) ([]store.StoredRow, error), adoptedAt int64,
) ([]store.Discrepancy, error) {
	var out []store.Discrepancy
	wanted := map[string][]row{}
	for _, r := range page {
		made, err := f.follows(r)
		if err != nil {
			out = append(out, store.Discrepancy{Position: r.Position, What: err.Error()})
		}
		for _, m := range made {
			wanted[m.table] = append(wanted[m.table], m)
		}
	}
	for _, t := range store.PlacedTables() {
		stored, err := rows(t)
		if err != nil {
			return nil, err
		}
		out = append(out, placed(t, wanted[t.Name], stored, adoptedAt)...)
	}
	return out, nil
}

// follows returns the rows that follow from a record alone: what lists show of it, always.
func (f *Follower) follows(r store.Record) ([]row, error) {
	h, b, err := Read(r.Position, r.Body)
	if err != nil {
		return nil, err
	}
	listed, err := listedRow(h, r.Body)
	if err != nil {
		return nil, err
	}
	if o, ok := b.(ItemOutcome); ok && o.Verdict != "" {
		f.verdicts[h.At.UTC().Format(time.DateOnly)+" "+string(o.Verdict)]++
	}
	if o, ok := b.(ItemOutcome); ok {
		// Two rows are made from what it says.
		if s, err := o.shown(); err == nil {
			o.read = &s
			b = o
		}
	}
	out := append([]row{listed}, termsRow(h, b)...)
	out = append(out, libraryRow(h, b)...)
	if b, ok := b.(single); ok {
		made := b.alone(h)
		if made.odd != nil {
			return out, fmt.Errorf("record %d cannot be read: %w", r.Position, made.odd)
		}
		out = append(out, made)
	}
	return out, nil
}

// listedRow is what stands beside a record's text.
func listedRow(h Head, written []byte) (row, error) {
	var said struct {
		Subject   *string `json:"subject"`
		Verdict   string  `json:"verdict"`
		Batch     *int64  `json:"batch"`
		Selection struct {
			Batch *int64 `json:"batch"`
		} `json:"selection"`
	}
	if err := json.Unmarshal(written, &said); err != nil {
		return row{}, fmt.Errorf("record %d cannot be read: %w", h.Position, err)
	}
	judged := slices.Contains(
		[]ledger.Kind{
			ledger.ItemOutcome, ledger.BatchResult, ledger.ItemRejudged, ledger.BatchRejudged, ledger.Drilled,
		}, h.Kind,
	)
	if !judged {
		said.Verdict = ""
	}
	switch {
	case h.Kind == ledger.Reassessed:
		said.Batch = said.Selection.Batch
	case !judged && h.Kind != ledger.VisitReturned:
		said.Batch = nil
	}
	subject := field{unsaid: said.Subject == nil}
	if said.Subject != nil {
		subject.text = *said.Subject
	}
	return row{
		table:    "ledger_records",
		key:      fmt.Sprintf("record %d", h.Position),
		position: h.Position,
		fields: []field{
			text(string(h.Kind)), nearly(h.At), text(h.By), subject, text(said.Verdict), numberOrNone(said.Batch),
		},
	}, nil
}

// placed holds the rows of a table against the records that they say they follow from.
func placed(t store.PlacedTable, wanted []row, stored []store.StoredRow, adoptedAt int64) []store.Discrepancy {
	out := found{of: t.Of}
	for len(wanted) > 0 || len(stored) > 0 {
		switch {
		case len(wanted) == 0 || len(stored) > 0 && stored[0].Position < wanted[0].position:
			out.tell(stored[0].Position, "%s: there is no record for the row", stored[0].Key)
			stored = stored[1:]
			continue
		case len(stored) == 0 || wanted[0].position < stored[0].Position:
			out.tell(wanted[0].position, "%s: there is no row for the record", wanted[0].key)
			wanted = wanted[1:]
			continue
		}
		if t.Name == "outcomes" && wanted[0].position <= adoptedAt {
			line := &wanted[0].fields[lineOf] // earlier versions did not store it
			line.oneOf = append(line.oneOf, "")
		}
		if !wanted[0].equal(stored[0].Fields) {
			out.tell(wanted[0].position, "%s: the row is not what its record says", wanted[0].key)
		}
		wanted, stored = wanted[1:], stored[1:]
	}
	return out.first()
}
