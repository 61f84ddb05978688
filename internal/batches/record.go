package batches

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// outcomeRecord is what the ledger keeps of an item's outcome: enough to judge
// it again, and to be read by a person without us.
type outcomeRecord struct {
	Batch int64 `json:"batch"`
	// Depot and Folder are the parts of a source that is a depot's folder;
	// until there were others they were all that was kept.
	Depot       string              `json:"depot,omitempty"`
	Folder      string              `json:"folder,omitempty"`
	Source      sources.Source      `json:"source"`
	Item        string              `json:"item"`
	Role        survey.Role         `json:"role"`
	Size        int64               `json:"size"`
	Verdict     judge.Verdict       `json:"verdict"`
	Expected    judge.Expectation   `json:"expected_publishers"`
	Survey      *survey.Item        `json:"survey"`
	Measurement measure.Measurement `json:"measurement"`
	Grounds     []judge.Ground      `json:"grounds"`
	Paths       []judge.ProofPath   `json:"paths"`
	Policy      int64               `json:"policy"`
	JudgedAsOf  time.Time           `json:"judged_as_of"`
}

// settle writes records and outcomes.
func (s *Service) settle(ctx context.Context, tx *store.Tx, b store.Batch, expected judge.Expectation, done []verify.Settled) error {
	if len(done) == 0 {
		return nil
	}
	source := sourceOf(b)
	depot, folder := source.Folder()
	entries := make([]records.Entry, len(done))
	rows := make([]store.Outcome, len(done))
	for i, d := range done {
		entries[i] = records.Entry{
			Kind: ledger.ItemOutcome, By: b.AskedBy, Subject: d.Item.Path, Verdict: string(d.Outcome.Verdict), Batch: b.ID,
			Body: outcomeRecord{
				Batch: b.ID, Depot: depot, Folder: folder, Source: source, Item: d.Item.Path, Role: d.Item.Role, Size: d.Measurement.Size, Verdict: d.Outcome.Verdict,
				Expected: expected, Survey: d.Item, Measurement: d.Measurement, Grounds: d.Outcome.Grounds, Paths: d.Outcome.Paths,
				Policy: b.PolicyVersion, JudgedAsOf: b.JudgedAsOf,
			},
		}
		measurement, err1 := json.Marshal(d.Measurement)
		grounds, err2 := json.Marshal(d.Outcome.Grounds)
		paths, err3 := json.Marshal(d.Outcome.Paths)
		if err := errors.Join(err1, err2, err3); err != nil {
			return err
		}
		rows[i] = store.Outcome{
			N: d.N, Deciding: judge.Line(d.Item, &d.Outcome), Measurement: measurement, Grounds: grounds, Paths: paths, Digests: digestsOf(&d.Measurement), Signers: signersOf(d.Outcome.Grounds),
		}
		if d.Outcome.Verdict != "" {
			verdict := string(d.Outcome.Verdict)
			rows[i].Verdict = &verdict
		}
	}
	first, err := s.records.Append(ctx, tx, entries...)
	if err != nil {
		return err
	}
	for i := range rows {
		rows[i].Position = first + int64(i)
	}
	return tx.AddOutcomes(ctx, b.ID, rows)
}

// digestsOf returns what was computed of an item, by algorithm.
func digestsOf(m *measure.Measurement) map[string][]byte {
	out := make(map[string][]byte, len(m.Digests))
	for algorithm, value := range m.Digests {
		out[algorithm.String()] = value
	}
	return out
}

// signersOf returns what the signatures among grounds name as their makers.
func signersOf(grounds []judge.Ground) []string {
	var out []string
	for _, g := range grounds {
		if g.Signature == nil {
			continue
		}
		for _, name := range []string{string(g.Signature.Key), string(g.Signature.MadeBy), g.Signature.Issuer} {
			if name != "" && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}
