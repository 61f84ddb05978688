package batches

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/reassess"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// batchRecord is what the ledger keeps of a batch.
type batchRecord struct {
	Batch      int64          `json:"batch"`
	Label      string         `json:"label"`
	Depot      string         `json:"depot,omitempty"`
	Folder     string         `json:"folder,omitempty"`
	Source     sources.Source `json:"source"`
	State      state.Batch    `json:"state"`
	Verdict    judge.Verdict  `json:"verdict"`
	Items      int            `json:"items"`
	Bytes      int64          `json:"bytes"`
	Cleared    int            `json:"cleared"`
	Unproven   int            `json:"unproven"`
	Refused    int            `json:"refused"`
	Absent     int            `json:"absent"`
	RequireAll bool           `json:"require_all"`
	Note       string         `json:"note"`
	Policy     int64          `json:"policy"`
	// Corrections are the pairs that the person who asked set by hand.
	Corrections json.RawMessage `json:"corrections"`
	// Origins say where manifests come from, and Copies how others of them
	// compare.
	Origins json.RawMessage   `json:"origins"`
	Copies  []json.RawMessage `json:"copies"`
	// What was asked, and as of when it was judged: all that the batch's row
	// has can be told from this.
	Publisher  string          `json:"publisher"`
	Expected   json.RawMessage `json:"expected"`
	AskedAt    time.Time       `json:"asked_at"`
	JudgedAsOf time.Time       `json:"judged_as_of"`
	LedgerSize *int64          `json:"ledger_size"`
	// AbsentEntries is a digest over what manifests list that is not here.
	AbsentEntries string `json:"absent_entries"`
	// Stopped says why it was ended before it was done.
	Stopped *stopped `json:"stopped,omitempty"`
}

// stopped is who ended a batch, as what and why.
type stopped struct {
	As     state.Batch `json:"as"`
	By     string      `json:"by"`
	Reason string      `json:"reason"`
}

// Finish closes a batch when all its slices are done, with its verdict and
// record. It reports whether the batch is closed now.
func (s *Service) Finish(ctx context.Context, id int64) (bool, error) {
	closed := false
	err := s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		now, err := tx.LockBatch(ctx, id)
		if err != nil || now != state.BatchMeasuring {
			closed = err == nil && now != state.BatchWaiting
			return err
		}
		if open, err := tx.OpenSlices(ctx, id); err != nil || open > 0 {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil || b.StopState != nil {
			return err
		}
		verdict := judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll)
		note := ""
		switch {
		case b.Cleared+b.Unproven+b.Refused == 0:
			note = "The folder holds no artifact, so there is nothing that could be cleared."
		case b.RequireAll && b.Absent > 0 && b.Refused == 0:
			note = fmt.Sprintf("All entries were asked for, and %d of them have no file here.", b.Absent)
		}
		closed = true
		if err := s.catchUp(ctx, tx, b); err != nil {
			return err
		}
		return s.close(ctx, tx, b, state.BatchDone, verdict, note)
	})
	return closed, err
}

// catchUp orders that a batch be judged again if the keyring has changed since it
// was asked for: its items were all judged as of then.
func (s *Service) catchUp(ctx context.Context, tx *store.Tx, b store.Batch) error {
	if b.LedgerSize == nil {
		return nil
	}
	changed, err := tx.KeyringChanged(ctx)
	if err != nil || changed < *b.LedgerSize {
		return err
	}
	_, err = s.orders.Place(ctx, tx, b.AskedBy, s.now(), reassess.Selection{Batch: b.ID}, "The keyring changed while this batch was verified.")
	return err
}

func (s *Service) close(ctx context.Context, tx *store.Tx, b store.Batch, ended state.Batch, verdict judge.Verdict, note string) error {
	if err := tx.Announce(ctx, b.ID); err != nil {
		return err
	}
	copies, err := tx.Copies(ctx, b.ID)
	if err != nil {
		return err
	}
	summaries := []json.RawMessage{}
	for _, c := range copies {
		if c.Summary != nil {
			summaries = append(summaries, c.Summary)
		}
	}
	absent, err := tx.AbsentEntries(ctx, b.ID)
	if err != nil {
		return err
	}
	expected := json.RawMessage("null")
	if b.Expected != nil {
		expected = b.Expected
	}
	source := sourceOf(b)
	depot, folder := source.Folder()
	position, err := s.records.Append(ctx, tx, records.Entry{
		Kind: ledger.BatchResult, By: b.AskedBy, Subject: b.Source, Verdict: string(verdict), Batch: b.ID,
		Body: batchRecord{
			Batch: b.ID, Label: b.Label, Depot: depot, Folder: folder, Source: source, State: ended, Verdict: verdict, Items: b.Items, Bytes: b.Bytes,
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent, RequireAll: b.RequireAll, Note: note, Policy: b.PolicyVersion, Corrections: b.Corrections,
			Origins: b.Origins, Copies: summaries, Publisher: b.Publisher, Expected: expected, AskedAt: b.CreatedAt.UTC(), JudgedAsOf: b.JudgedAsOf.UTC(),
			LedgerSize: b.LedgerSize, AbsentEntries: absent, Stopped: stoppedOf(b),
		},
	})
	if err != nil {
		return err
	}
	var v *string
	if verdict != "" {
		text := string(verdict)
		v = &text
	}
	return tx.Finish(ctx, b, ended, v, note, position, s.now())
}

// unopened deals with a folder that cannot be opened. What may come back, such
// as a file system that is away or a folder that is being renamed, is said in the
// batch and returned, so that the step is tried again; what cannot ends it.
func (s *Service) unopened(ctx context.Context, b store.Batch, cause error) error {
	if !fault.Is(cause, "depot-unreadable") && !fault.Is(cause, "folder-unknown") {
		return s.fail(ctx, b, cause)
	}
	return errors.Join(cause, s.store.NoteBatch(ctx, b.ID, "waiting: "+plain.Text(cause.Error())))
}

// opened takes back what [Service.unopened] has said.
func (s *Service) opened(ctx context.Context, b store.Batch) error {
	if b.Note == "" {
		return nil
	}
	return s.store.NoteBatch(ctx, b.ID, "")
}
