package verify

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A recorded is an item of an earlier batch, as a receipt has it.
type recorded struct {
	receipt  string
	position int64
	ledger   string
	batch    int64
	item     *survey.Item
	measured measure.Measurement
	outcome  judge.Outcome
	// missing is a manifest that it is listed in and that nothing is known of, or empty.
	missing string
}

// Trust says whose receipts count: those of the ledger whose keys they are.
func (s *Session) Trust(keys ...note.Verifier) { s.ledgerKeys = keys }

// Receipt takes a receipt that lies beside files. The record in it says what was surveyed and
// measured of an item of an earlier batch, so that the item is judged again by what this
// session judges by; files that are the same item rest on that. It returns the receipt's own
// outcome. Manifests that a recorded item is listed in have receipts of their own, or are
// added with [Session.Recorded].
func (s *Session) Receipt(item *survey.Item, m *measure.Measurement) judge.Outcome {
	if before, ok := s.proofs[item.Path]; ok {
		return before
	}
	out := s.basis.Other(item, m)
	if item.Receipt == nil || m.Problem != nil {
		return out
	}
	defer func() { s.proofs[item.Path] = out }()
	r, fails := s.open(item)
	if fails != "" {
		out.Grounds = append(out.Grounds, judge.Ground{
			Code:     judge.ReceiptFails,
			Effect:   judge.Withholds,
			Source:   item.Path,
			Sentence: fails,
			Advice:   "What it says of files decides nothing here. Get the receipt again from the service that wrote it.",
		})
		return out
	}
	g := judge.Ground{
		Code: judge.ReceiptHolds, Effect: judge.Notes, Source: item.Path,
		Sentence: fmt.Sprintf("It proves record %d of the ledger of %s.", r.position, plain.Text(r.ledger)),
	}
	if r.item == nil {
		g.Sentence += " That is not about a file that was verified."
	} else {
		g.Sentence += fmt.Sprintf(" That is about %s of batch %d.", plain.Text(r.item.Path), r.batch)
		s.receipts, s.ready = append(s.receipts, r), false
	}
	out.Grounds = append(out.Grounds, g)
	return out
}

// open verifies a receipt and reads the record in it, or says why it proves nothing.
func (s *Session) open(item *survey.Item) (r *recorded, fails string) {
	if len(s.ledgerKeys) == 0 {
		return nil, "The key of the ledger that this receipt is of is not known here, so that it cannot be checked."
	}
	c, err := item.Receipt.Verify(s.ledgerKeys...)
	if err != nil {
		return nil, fmt.Sprintf("It proves nothing here: %s.", err)
	}
	r = &recorded{receipt: item.Path, position: item.Receipt.Position, ledger: c.Origin}
	if of := survey.Recorded(item.Receipt); of != nil {
		r.batch, r.item, r.measured = of.Batch, of.Item, *of.Measurement
	}
	return r, ""
}

// Wanted returns the manifests that recorded items are listed in and of which there is no
// record here, by batch.
func (s *Session) Wanted() map[int64][]string {
	type file struct {
		batch int64
		path  string
	}
	here := map[file]bool{}
	for _, r := range s.receipts {
		here[file{r.batch, r.item.Path}] = true
	}
	out := map[int64][]string{}
	for _, r := range s.receipts {
		for _, l := range r.item.Listed {
			if at := (file{r.batch, l.Manifest}); !here[at] {
				here[at] = true
				out[r.batch] = append(out[r.batch], l.Manifest)
			}
		}
	}
	return out
}

// Recorded adds a manifest of an earlier batch that recorded items are listed in.
func (s *Session) Recorded(batch int64, item *survey.Item, m *measure.Measurement) {
	s.receipts, s.ready = append(s.receipts, &recorded{batch: batch, item: item, measured: *m}), false
}

// judgeRecorded judges again what receipts are of, batch by batch: manifests first, then
// containers before what they hold.
func (s *Session) judgeRecorded() {
	if s.ready {
		return
	}
	s.ready = true
	batches := map[int64]*Session{}
	for _, r := range s.receipts {
		if batches[r.batch] == nil {
			batches[r.batch] = New(s.basis)
		}
		if r.item.Role == survey.Manifest {
			batches[r.batch].Manifest(r.item, &r.measured)
		}
	}
	ordered := slices.SortedFunc(
		slices.Values(s.receipts), func(a, b *recorded) int { return strings.Compare(a.item.Path, b.item.Path) },
	)
	s.recorded = map[string][]*recorded{}
	for _, r := range ordered {
		if r.item.Role == survey.Artifact {
			for _, l := range r.item.Listed {
				if batches[r.batch].vouchers[l.Manifest] == nil {
					r.missing = l.Manifest
				}
			}
			r.outcome = batches[r.batch].Judge(r.item, &r.measured)
			name := path.Base(r.item.Path)
			s.recorded[name] = append(s.recorded[name], r)
		}
	}
}

// recordedOf returns what receipts say of an item: those of a file of its name.
func (s *Session) recordedOf(item *survey.Item) []judge.Recorded {
	if len(s.receipts) == 0 {
		return nil
	}
	s.judgeRecorded()
	var out []judge.Recorded
	for _, r := range s.recorded[path.Base(item.Path)] {
		folder := strings.TrimSuffix(path.Dir(r.receipt), survey.ProofsFolder)
		out = append(out, judge.Recorded{
			Receipt:     r.receipt,
			Position:    r.position,
			Batch:       r.batch,
			Name:        r.item.Path,
			Place:       path.Join(folder, r.item.Path) == item.Path,
			Measurement: &r.measured,
			Outcome:     &r.outcome,
			Missing:     r.missing,
		})
	}
	return out
}
