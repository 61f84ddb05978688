package recorded

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/verify"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// BatchResult is how a batch has ended.
type BatchResult struct {
	statement
	Batch    int64          `json:"batch"`
	Label    string         `json:"label"`
	Depot    string         `json:"depot,omitempty"`
	Folder   string         `json:"folder,omitempty"`
	Source   sources.Source `json:"source"`
	State    state.Batch    `json:"state"`
	Verdict  judge.Verdict  `json:"verdict"`
	Items    int            `json:"items"`
	Bytes    int64          `json:"bytes"`
	Cleared  int            `json:"cleared"`
	Unproven int            `json:"unproven"`
	Refused  int            `json:"refused"`
	Absent   int            `json:"absent"`
	// Companions is how many files came along and needed no clearing, and Named are the patterns for
	// them that were asked with.
	Companions int             `json:"companions,omitempty"`
	Named      json.RawMessage `json:"companion_patterns,omitempty"`
	RequireAll bool            `json:"require_all"`
	Note       string          `json:"note"`
	Policy     int64           `json:"policy"`
	// Corrections are the pairs that the person who asked set by hand.
	Corrections json.RawMessage `json:"corrections"`
	// Origins say where manifests come from, and Copies how others of them compare.
	Origins json.RawMessage   `json:"origins"`
	Copies  []json.RawMessage `json:"copies"`
	// What was asked, and as of when it was judged: all that the batch's row has can be told
	// from this. Records of earlier versions lack it.
	Publisher  *string         `json:"publisher"`
	Expected   json.RawMessage `json:"expected"`
	AskedAt    time.Time       `json:"asked_at"`
	JudgedAsOf time.Time       `json:"judged_as_of"`
	LedgerSize *int64          `json:"ledger_size"`
	// AbsentEntries is a digest over what manifests list that is not here.
	AbsentEntries string `json:"absent_entries"`
	// Stopped says why it was ended before it was done.
	Stopped     *Stopped     `json:"stopped,omitempty"`
	JudgedAgain *JudgedAgain `json:"judged_again,omitempty"`

	// Done is how far it came, which is all of it unless it was stopped.
	Done store.Tally `json:"-"`
}

// Stopped is who ended a batch, as what and why.
type Stopped struct {
	As     state.Batch `json:"as"`
	By     string      `json:"by"`
	Reason string      `json:"reason"`
}

// JudgedAgain tells in a batch's record that keyring, policy or waivers had changed while it was
// read, so that it was judged again before it ended: what the record says of its verdict is the
// later one, and AsBegun how it would have been.
type JudgedAgain struct {
	Reassessment int64  `json:"reassessment"`
	Changed      int    `json:"changed"`
	AsBegun      Result `json:"as_begun"`
}

// A Result is how many artifacts have which verdict, and what follows for the batch.
type Result struct {
	Verdict  judge.Verdict `json:"verdict"`
	Cleared  int           `json:"cleared"`
	Unproven int           `json:"unproven"`
	Refused  int           `json:"refused"`
	// Companions are files that come along and need no clearing.
	Companions int `json:"companions,omitempty"`
}

// Kind is [ledger.BatchResult].
func (BatchResult) Kind() ledger.Kind { return ledger.BatchResult }

// Follow closes the batch.
func (b BatchResult) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	row := store.Batch{
		ID: b.Batch, State: b.State, Note: b.Note, Position: &h.Position, FinishedAt: &h.At, Tally: b.Done,
	}
	row.Items, row.Bytes, row.Absent = b.Items, b.Bytes, b.Absent
	row.Cleared, row.Unproven, row.Refused, row.Companions = b.Cleared, b.Unproven, b.Refused, b.Companions
	if b.Verdict != "" {
		verdict := string(b.Verdict)
		row.Verdict = &verdict
	}
	return tx.Finish(ctx, row)
}

// sourceOf is the source of records of earlier versions too, which had a depot and its folder alone.
func sourceOf(source sources.Source, depot, folder string) sources.Source {
	if source.Kind == "" {
		return sources.Source{Kind: sources.Depot, Reference: depot + ":" + folder}
	}
	return source
}

func (b *BatchResult) reference() sources.Source { return sourceOf(b.Source, b.Depot, b.Folder) }

func (b BatchResult) alone(h Head) row {
	source, stopped := b.reference(), Stopped{}
	if b.Stopped != nil {
		stopped = *b.Stopped
	}
	orUnsaid := func(f field, said bool) field {
		f.unsaid = !said
		return f
	}
	copies, err := json.Marshal(append([]json.RawMessage{}, b.Copies...))
	if err != nil {
		return row{odd: err}
	}
	named := b.Named
	if named == nil { // records of earlier versions, when there were none
		named = json.RawMessage("[]")
	}
	asked := b.Publisher != nil // of records of earlier versions what was asked is not known
	if !asked {
		b.Publisher = new(string)
	}
	return row{
		table: "batches", key: fmt.Sprintf("batch %d", b.Batch), position: h.Position,
		fields: []field{
			number(b.Batch),
			text(b.Label), text(h.By), text(string(source.Kind)), text(source.Reference), text(string(b.State)),
			text(string(b.Verdict)), text(b.Note),
			number(b.Policy),
			truth(b.RequireAll), orUnsaid(form(b.Corrections), b.Corrections != nil),
			orUnsaid(form(b.Origins), b.Origins != nil),
			number(b.Items),
			number(b.Bytes), number(b.Cleared), number(b.Unproven), number(b.Refused), number(b.Absent),
			number(b.Companions), form(named),
			nearly(h.At),
			text(stopped.By), text(string(stopped.As)), text(stopped.Reason), text(string(copies)).formed(),
			orUnsaid(text(*b.Publisher), asked),
			orUnsaid(form(b.Expected), asked), orUnsaid(nearly(b.AskedAt), asked),
			orUnsaid(nearly(b.JudgedAsOf), asked), orUnsaid(numberOrNone(b.LedgerSize), asked),
			orUnsaid(text(b.AbsentEntries), asked),
		},
	}
}

// BatchCancelled says that somebody has ended a batch; how it ended, its [BatchResult] says.
type BatchCancelled struct {
	statement
	Batch  int64  `json:"batch"`
	Reason string `json:"reason"`
}

// Kind is [ledger.BatchCancelled].
func (BatchCancelled) Kind() ledger.Kind { return ledger.BatchCancelled }

// Drilled is what became of some items of a batch when they were altered on purpose.
type Drilled struct {
	statement
	Batch  int64          `json:"batch"`
	Source sources.Source `json:"source"`
	// Measured says who has read the bytes.
	Measured string        `json:"measured"`
	Passed   bool          `json:"passed"`
	Verdict  judge.Verdict `json:"verdict"`
	Items    []DrilledItem `json:"items"`
}

// DrilledItem is what became of one.
type DrilledItem struct {
	N    int              `json:"n"`
	Item string           `json:"item"`
	Rows []verify.Drilled `json:"rows"`
}

// Kind is [ledger.Drilled].
func (Drilled) Kind() ledger.Kind { return ledger.Drilled }
