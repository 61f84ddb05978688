package recorded

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// ItemOutcome is what became of an item: enough to judge it again, and to be read by a person
// without us.
type ItemOutcome struct {
	statement
	Batch int64 `json:"batch"`
	// Depot and Folder are the parts of a source that is a depot's folder; until there were
	// others they were all that was kept.
	Depot    string            `json:"depot,omitempty"`
	Folder   string            `json:"folder,omitempty"`
	Source   sources.Source    `json:"source"`
	Item     string            `json:"item"`
	Role     survey.Role       `json:"role"`
	Size     int64             `json:"size"`
	Verdict  judge.Verdict     `json:"verdict"`
	Expected judge.Expectation `json:"expected_publishers"`
	// Survey is a [survey.Item], Measurement a [measure.Measurement], Grounds are
	// [judge.Ground]s and Paths [judge.ProofPath]s, as they were written.
	Survey      json.RawMessage `json:"survey"`
	Measurement json.RawMessage `json:"measurement"`
	Grounds     json.RawMessage `json:"grounds"`
	Paths       json.RawMessage `json:"paths"`
	Policy      int64           `json:"policy"`
	JudgedAsOf  time.Time       `json:"judged_as_of"`

	// N is the item's number, which a record does not say.
	N int `json:"-"`
	// What a list says of the item, and what it is found by, see [ItemOutcome.Put].
	line    string
	digests map[string]string
	signers []string
	renamed []store.Entry
	found   []store.Term
	shelved *shelved
	// read is what [ItemOutcome.shown] has read, where several rows are made from it.
	read *shown
}

// Kind is [ledger.ItemOutcome].
func (ItemOutcome) Kind() ledger.Kind { return ledger.ItemOutcome }

// Evidence is what an item was judged by, and how.
type Evidence struct {
	Item        *survey.Item
	Measurement measure.Measurement
	Outcome     judge.Outcome
}

// Put writes evidence into the record. Only one that it was written into can be followed.
func (b *ItemOutcome) Put(e Evidence) error {
	var err1, err2, err3, err4 error
	b.Survey, err1 = json.Marshal(e.Item)
	b.Measurement, err2 = json.Marshal(e.Measurement)
	b.Grounds, err3 = json.Marshal(e.Outcome.Grounds)
	b.Paths, err4 = json.Marshal(e.Outcome.Paths)
	b.Item, b.Role, b.Size, b.Verdict = e.Item.Path, e.Item.Role, e.Measurement.Size, e.Outcome.Verdict
	b.line, b.digests = judge.Line(e.Item, &e.Outcome), make(map[string]string, len(e.Measurement.Digests))
	for algorithm, value := range e.Measurement.Digests {
		b.digests[algorithm.String()] = value.String()
	}
	for _, g := range e.Outcome.Grounds {
		if g.Code == judge.ListedAs {
			b.renamed = append(b.renamed, store.Entry{Manifest: g.Source, Line: g.Line})
		}
		if g.Signature != nil {
			b.signers = append(b.signers, string(g.Signature.Key), string(g.Signature.MadeBy), g.Signature.Issuer)
		}
	}
	b.signers = distinct(b.signers)
	b.found, b.shelved = termsOf(e.Outcome.Grounds), shelve(&e.Outcome)
	return errors.Join(err1, err2, err3, err4)
}

// judgedBy begins what an outcome's record says of how it was judged, which is most of its text.
var judgedBy = []byte(`,"grounds":`)

// Seen is what was seen of an item, and its first verdict.
type Seen struct {
	Batch       int64                `json:"batch"`
	Verdict     string               `json:"verdict"`
	Survey      *survey.Item         `json:"survey"`
	Measurement *measure.Measurement `json:"measurement"`
}

// Measured reads from the text of an outcome's record what was surveyed and measured of the item.
func Measured(text []byte) (Seen, error) {
	// What comes behind is not read: that takes most of the time. A quotation mark in a text is
	// escaped, so that the name of the member stands in none.
	if before, _, found := bytes.Cut(text, judgedBy); found {
		var said Seen
		if json.Unmarshal(append(slices.Clip(before), '}'), &said) == nil && said.Survey != nil &&
			said.Measurement != nil {
			return said, nil
		}
	}
	said := Seen{Survey: &survey.Item{}, Measurement: &measure.Measurement{}}
	err := json.Unmarshal(text, &said)
	return said, err
}

// A shown is what an item is found by, and what is shown of it.
type shown struct {
	survey struct {
		Size int64  `json:"size"`
		Why  string `json:"why"`
	}
	measured struct {
		Digests map[string]string `json:"digests"`
	}
	grounds []judge.Ground
}

// shown reads it from the record, once.
func (b *ItemOutcome) shown() (s shown, err error) {
	if b.read != nil {
		return *b.read, nil
	}
	return s, errors.Join(
		json.Unmarshal(b.Survey, &s.survey), json.Unmarshal(b.Measurement, &s.measured),
		json.Unmarshal(b.Grounds, &s.grounds),
	)
}

// Digests returns what was computed of the item, in hexadecimal, by algorithm.
func (b *ItemOutcome) Digests() (map[string]string, error) {
	var m struct {
		Digests map[string]string `json:"digests"`
	}
	err := json.Unmarshal(b.Measurement, &m)
	return m.Digests, err
}

// signers are what the signatures among the grounds name as their makers.
func (s *shown) signers() []string {
	out := []string{}
	for _, g := range s.grounds {
		if g.Signature != nil {
			out = append(out, string(g.Signature.Key), string(g.Signature.MadeBy), g.Signature.Issuer)
		}
	}
	return distinct(out)
}

// distinct sorts names, and leaves out what is none or there twice.
func distinct(names []string) []string {
	slices.Sort(names)
	return slices.DeleteFunc(slices.Compact(names), func(name string) bool { return name == "" })
}

// lineOf is the place of the line among the fields of an outcome's row.
const lineOf = 6

// alone: the outcome, with the digests and signers that the item is found by. Its item is that of
// the record.
func (b ItemOutcome) alone(h Head) row {
	s, err := b.shown()
	if err != nil {
		return row{odd: err}
	}
	lines := []string{fmt.Sprintf("It is a %s: %s.", b.Role, s.survey.Why)}
	for _, g := range s.grounds {
		lines = append(lines, g.Sentence)
	}
	supports := func(g judge.Ground) bool { return g.Effect == judge.Supports }
	if b.Verdict == judge.Cleared && !slices.ContainsFunc(s.grounds, supports) {
		lines = append(lines, "") // as earlier versions stored what is only noted
	}
	digests, err := json.Marshal(s.measured.Digests)
	if err != nil {
		return row{odd: err}
	}
	if len(s.measured.Digests) == 0 {
		digests = []byte("{}")
	}
	counts := []string{}
	if len(s.measured.Digests) > 0 {
		counts = append(counts, fmt.Sprint(b.Verdict == judge.Cleared))
	}
	return row{
		table: "outcomes", key: fmt.Sprintf("batch %d, %s", b.Batch, b.Item), position: h.Position,
		fields: []field{
			number(b.Batch),
			text(b.Item),
			text(string(b.Role)),
			textOrNone(string(b.Verdict)),
			form(b.Survey),
			number(s.survey.Size),
			{oneOf: lines},
			text(string(digests)).formed(),
			list(counts),
			list(s.signers()),
		},
	}
}

// storedOutcomes stores outcomes of one batch that were recorded together.
func storedOutcomes(ctx context.Context, tx *store.Tx, heads []Head, outcomes []ItemOutcome) error {
	rows := make([]store.Outcome, len(outcomes))
	for i, b := range outcomes {
		rows[i] = store.Outcome{
			N:        b.N,
			Deciding: b.line,
			Position: heads[i].Position,
			Digests:  b.digests,
			Signers:  b.signers,
			Renamed:  b.renamed,
		}
		if b.Verdict != "" {
			verdict := string(b.Verdict)
			rows[i].Verdict = &verdict
		}
	}
	if err := tx.AddOutcomes(ctx, outcomes[0].Batch, rows); err != nil {
		return err
	}
	return addLibrary(ctx, tx, heads, outcomes)
}

// ItemRejudged is an artifact whose verdict changed when it was judged again.
type ItemRejudged struct {
	statement
	Reassessment int64         `json:"reassessment"`
	Batch        int64         `json:"batch"`
	Item         string        `json:"item"`
	Before       judge.Verdict `json:"before"`
	Verdict      judge.Verdict `json:"verdict"`
	// Grounds are [judge.Ground]s and Paths [judge.ProofPath]s, as they were written.
	Grounds    json.RawMessage `json:"grounds"`
	Paths      json.RawMessage `json:"paths"`
	Policy     int64           `json:"policy"`
	JudgedAsOf time.Time       `json:"judged_as_of"`
	Reason     string          `json:"reason"`

	// N is the item's number, which a record does not say.
	N int `json:"-"`
	// What it is found by, and what is in the library of it, see [ItemRejudged.Put].
	found   []store.Term
	shelved *shelved
}

// Put writes into the record how the item was judged.
func (b *ItemRejudged) Put(o judge.Outcome) error {
	var err1, err2 error
	b.Grounds, err1 = json.Marshal(o.Grounds)
	b.Paths, err2 = json.Marshal(o.Paths)
	b.Verdict, b.found, b.shelved = o.Verdict, termsOf(o.Grounds), shelve(&o)
	return errors.Join(err1, err2)
}

// Kind is [ledger.ItemRejudged].
func (ItemRejudged) Kind() ledger.Kind { return ledger.ItemRejudged }

func (b ItemRejudged) alone(h Head) row {
	return row{
		table: "rejudged", key: fmt.Sprintf("batch %d, %s", b.Batch, b.Item), position: h.Position,
		fields: []field{
			number(b.Batch),
			text(b.Item), text(string(b.Before)), text(string(b.Verdict)), form(b.Grounds), form(b.Paths),
			number(b.Reassessment),
		},
	}
}

func storedRejudged(ctx context.Context, tx *store.Tx, heads []Head, changed []ItemRejudged) error {
	rows := make([]store.Rejudged, len(changed))
	for i, b := range changed {
		rows[i] = store.Rejudged{
			Reassessment: b.Reassessment,
			Batch:        b.Batch,
			N:            b.N,
			Before:       string(b.Before),
			After:        string(b.Verdict),
			Grounds:      b.Grounds,
			Paths:        b.Paths,
			Position:     heads[i].Position,
		}
	}
	if err := tx.AddRejudged(ctx, rows); err != nil {
		return err
	}
	return addLibrary(ctx, tx, heads, changed)
}

// BatchRejudged is what a batch comes to after a reassessment has changed verdicts in it.
type BatchRejudged struct {
	statement
	Reassessment int64 `json:"reassessment"`
	Batch        int64 `json:"batch"`
	// Verdict is that of the batch, and the others count its artifacts.
	Verdict  judge.Verdict `json:"verdict"`
	Cleared  int           `json:"cleared"`
	Unproven int           `json:"unproven"`
	Refused  int           `json:"refused"`
	// Companions are files that come along and need no clearing.
	Companions int `json:"companions,omitempty"`
	// Changed is how many of them the reassessment changed.
	Changed    int       `json:"changed"`
	Policy     int64     `json:"policy"`
	JudgedAsOf time.Time `json:"judged_as_of"`
	Reason     string    `json:"reason"`
}

// Kind is [ledger.BatchRejudged].
func (BatchRejudged) Kind() ledger.Kind { return ledger.BatchRejudged }

// Follow keeps what the batch comes to.
func (b BatchRejudged) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddRejudgedBatch(
		ctx, b.Reassessment, b.Batch, string(b.Verdict),
		store.RejudgedBatch{
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Companions: b.Companions,
		}, h.Position,
	)
}

func (b BatchRejudged) alone(h Head) row {
	return row{
		table: "rejudged_batches", key: fmt.Sprintf("batch %d", b.Batch), position: h.Position,
		fields: []field{
			number(b.Reassessment), number(b.Batch), text(string(b.Verdict)), number(b.Cleared), number(b.Unproven),
			number(b.Refused), number(b.Companions),
		},
	}
}

// Reassessed is a run of judging again that has ended.
type Reassessed struct {
	statement
	Reassessment int64 `json:"reassessment"`
	// Selection is what was judged again.
	Selection  json.RawMessage `json:"selection"`
	Reason     string          `json:"reason"`
	Items      int             `json:"items"`
	Changed    int             `json:"changed"`
	Policy     int64           `json:"policy"`
	JudgedAsOf time.Time       `json:"judged_as_of"`
	// State and Note are there when it failed.
	State state.Run `json:"state,omitempty"`
	Note  string    `json:"note,omitempty"`
}

// Kind is [ledger.Reassessed].
func (Reassessed) Kind() ledger.Kind { return ledger.Reassessed }

func (b Reassessed) ended() state.Run {
	if b.State == "" {
		return state.RunDone
	}
	return b.State
}

// Follow closes the run.
func (b Reassessed) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.FinishReassessment(ctx, b.Reassessment, b.ended(), b.Note, h.At, b.Items, b.Changed, h.Position)
}

func (b Reassessed) alone(h Head) row {
	return row{
		table: "reassessments", key: fmt.Sprintf("reassessment %d", b.Reassessment), position: h.Position,
		fields: []field{
			number(b.Reassessment),
			text(b.Reason), text(h.By), number(b.Items), number(b.Changed), number(b.Policy), form(b.Selection),
			text(string(b.ended())), text(b.Note), nearly(h.At), nearly(b.JudgedAsOf),
		},
	}
}
