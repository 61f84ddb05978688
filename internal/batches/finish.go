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
	"endeixis/core/verify"
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
	Stopped     *stopped     `json:"stopped,omitempty"`
	JudgedAgain *judgedAgain `json:"judged_again,omitempty"`
}

// stopped is who ended a batch, as what and why.
type stopped struct {
	As     state.Batch `json:"as"`
	By     string      `json:"by"`
	Reason string      `json:"reason"`
}

// judgedAgain tells in a batch's record that keyring, policy or waivers had changed
// while it was read, so that it was judged again before it ended: what the record says
// of its verdict is the later one, and AsBegun how it would have been.
type judgedAgain struct {
	Reassessment int64  `json:"reassessment"`
	Changed      int    `json:"changed"`
	AsBegun      result `json:"as_begun"`
}

// A result is how many artifacts have which verdict, and what follows for the batch.
type result struct {
	Verdict  judge.Verdict `json:"verdict"`
	Cleared  int           `json:"cleared"`
	Unproven int           `json:"unproven"`
	Refused  int           `json:"refused"`
}

func resultOf(b store.Batch) result {
	return result{judge.Batch(b.Cleared, b.Unproven, b.Refused, b.Absent, b.RequireAll), b.Cleared, b.Unproven, b.Refused}
}

// maxAfresh is how often a batch is tried to be ended with what is in force at its
// end. If that changes faster, it ends as it was begun, and is judged again behind
// that.
const maxAfresh = 5

// Finish closes a batch when all its slices are done, with its verdict and
// record. It reports whether the batch is closed now.
//
// All items were judged as of the batch's creation, so that they meet the same rules.
// What has changed since is made up for in the same transaction: nobody is told a
// verdict that is out of date.
func (s *Service) Finish(ctx context.Context, id int64) (bool, error) {
	var with *afresh
	for range maxAfresh {
		closed, outdated, err := s.finish(ctx, id, with, false)
		if err != nil || !outdated {
			return closed, err
		}
		if with, err = s.afresh(ctx, id); err != nil {
			return false, err
		}
	}
	closed, _, err := s.finish(ctx, id, nil, true)
	return closed, err
}

// afresh is what a batch is judged with again before it ends.
type afresh struct {
	// size is that of the ledger before the rest was read: what is recorded
	// behind it may be missing.
	size    int64
	at      time.Time
	policy  int64
	session *verify.Session
}

// afresh puts together what is in force now.
func (s *Service) afresh(ctx context.Context, id int64) (*afresh, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return nil, err
	}
	b, err := s.Get(ctx, id)
	if err != nil {
		return nil, err
	}
	ring, err := s.keys.ToJudge(ctx)
	if err != nil {
		return nil, err
	}
	policies, err := s.policy.InForce(ctx, 0)
	if err != nil {
		return nil, err
	}
	b.JudgedAsOf, b.PolicyVersion = s.now(), policies.Version
	session, err := s.Session(ctx, b, ring)
	return &afresh{size, b.JudgedAsOf, b.PolicyVersion, session}, err
}

// finish closes a batch, judged again with what is given, unless that is outdated
// itself. Where it has to end anyhow, it is judged again by a job.
func (s *Service) finish(ctx context.Context, id int64, with *afresh, anyhow bool) (closed, outdated bool, err error) {
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		closed, outdated = false, false
		now, err := tx.LockBatch(ctx, id)
		if err != nil || now != state.BatchMeasuring {
			closed = err == nil && now != state.BatchWaiting
			return err
		}
		if open, err := tx.OpenSlices(ctx, id); err != nil || open > 0 {
			return err
		}
		if err := tx.FoundRenamed(ctx, id); err != nil {
			return err
		}
		b, err := tx.Tally(ctx, id)
		if err != nil || b.StopState != nil {
			return err
		}
		// From here on nothing changes by which it is judged.
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		since := b.LedgerSize
		if with != nil {
			since = &with.size
		}
		if since != nil {
			if outdated, err = s.keys.DecidedSince(ctx, tx, *since); err != nil {
				return err
			}
		}
		var again *judgedAgain
		switch {
		case outdated && !anyhow:
			return nil
		case outdated:
			if _, err := s.orders.Place(ctx, tx, b.AskedBy, s.now(), reassess.Selection{Batch: b.ID}, whyAgain); err != nil {
				return err
			}
		case with != nil:
			if again, err = s.judgeAgain(ctx, tx, &b, with); err != nil {
				return err
			}
		}
		note := ""
		lapsed, err := s.lapsed(ctx, tx, b)
		if err != nil {
			return err
		}
		switch {
		case lapsed:
			note = fmt.Sprintf("The %s on %s was not heard from any more; what it had not measured is unproven.", sourceOf(b).Kind, plain.Text(sourceOf(b).Host()))
		case b.Cleared+b.Unproven+b.Refused == 0:
			note = "The folder holds no artifact, so there is nothing that could be cleared."
		case again != nil && again.Changed > 0:
			note = fmt.Sprintf("Keyring, policy or waivers changed while it was verified. Judged by what is in force now, %d verdicts differ from what they were when it began.", again.Changed)
			if again.Changed == 1 {
				note = "Keyring, policy or waivers changed while it was verified. Judged by what is in force now, one verdict differs from what it was when it began."
			}
		case b.RequireAll && b.Absent > 0 && b.Refused == 0:
			note = fmt.Sprintf("All entries were asked for, and %d of them have no file here.", b.Absent)
		}
		closed = true
		return s.close(ctx, tx, b, again, state.BatchDone, resultOf(b).Verdict, note)
	})
	return closed, outdated, err
}

const whyAgain = "Keyring, policy or waivers changed while this batch was verified."

// judgeAgain judges all items of a batch again, and puts the later result into it.
func (s *Service) judgeAgain(ctx context.Context, tx *store.Tx, b *store.Batch, with *afresh) (*judgedAgain, error) {
	again := &judgedAgain{AsBegun: resultOf(*b)}
	run, err := s.orders.Begin(ctx, tx, b.AskedBy, with.at, with.policy, reassess.Selection{Batch: b.ID}, whyAgain)
	if err != nil {
		return nil, err
	}
	counts := map[judge.Verdict]*int{judge.Cleared: &b.Cleared, judge.Unproven: &b.Unproven, judge.Refused: &b.Refused}
	if err := run.Batch(ctx, tx, b.ID, with.session, func(before, after judge.Verdict) {
		again.Changed++
		*counts[before]--
		*counts[after]++
	}); err != nil {
		return nil, err
	}
	again.Reassessment, err = run.End(ctx, tx)
	return again, err
}

func (s *Service) close(ctx context.Context, tx *store.Tx, b store.Batch, again *judgedAgain, ended state.Batch, verdict judge.Verdict, note string) error {
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
	at := s.now()
	position, err := s.records.Append(ctx, tx, records.Entry{
		Kind: ledger.BatchResult, By: b.AskedBy, At: at, Subject: b.Source, Verdict: string(verdict), Batch: b.ID,
		Body: batchRecord{
			Batch: b.ID, Label: b.Label, Depot: depot, Folder: folder, Source: source, State: ended, Verdict: verdict, Items: b.Items, Bytes: b.Bytes,
			Cleared: b.Cleared, Unproven: b.Unproven, Refused: b.Refused, Absent: b.Absent, RequireAll: b.RequireAll, Note: note, Policy: b.PolicyVersion, Corrections: b.Corrections,
			Origins: b.Origins, Copies: summaries, Publisher: b.Publisher, Expected: expected, AskedAt: b.CreatedAt.UTC(), JudgedAsOf: b.JudgedAsOf.UTC(),
			LedgerSize: b.LedgerSize, AbsentEntries: absent, Stopped: stoppedOf(b), JudgedAgain: again,
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
	return tx.Finish(ctx, b, ended, v, note, position, at)
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
