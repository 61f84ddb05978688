package batches

import (
	"context"
	"encoding/json"
	"slices"
	"sync"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
)

// ringOf returns the keyring as of a batch's creation, so that all its items meet
// the same, however long it takes.
func (s *Service) ringOf(ctx context.Context, b store.Batch) (*keyring.Keyring, error) {
	if b.LedgerSize == nil {
		return s.keys.ToJudge(ctx)
	}
	return s.keys.AsOf(ctx, *b.LedgerSize)
}

// basis returns what the items of a batch are judged by.
func (s *Service) basis(ctx context.Context, b store.Batch, ring *keyring.Keyring) (judge.Basis, error) {
	policies, waivers, err := s.policy.ToJudge(ctx, b.PolicyVersion, b.JudgedAsOf)
	if err != nil {
		return judge.Basis{}, err
	}
	out := judge.Basis{
		Waivers: waivers, Keyring: ring, Policy: policies.Policy, Own: policies.Own, Now: b.JudgedAsOf,
	}
	err = json.Unmarshal(b.Named, &out.Companions)
	return out, err
}

// Session returns a session for a batch that is surveyed, with its manifests
// judged again from what is stored, so that its artifacts can rest on them.
func (s *Service) Session(ctx context.Context, b store.Batch, ring *keyring.Keyring) (*verify.Session, error) {
	session, _, err := s.sessionWith(ctx, b, ring)
	if err != nil {
		return nil, err
	}
	_, err = s.know(ctx, session, b, ring)
	return session, err
}

// sessions holds the sessions of the batches that have a measurer: their manifests are
// judged once, and not with every result that arrives.
type sessions struct {
	mu   sync.Mutex
	held []heldSession // the newest last
}

// A heldSession is one that is only forked. It is good for as long as its batch is judged by the
// same, and no more lists of it were read.
type heldSession struct {
	batch    int64
	ring     *keyring.Keyring
	policy   int64
	evidence int
	session  *verify.Session
}

// keptSessions bounds them.
const keptSessions = 4

// heldSession is [Service.Session] for a batch of which results arrive one by one.
func (s *Service) heldSession(ctx context.Context, b store.Batch, ring *keyring.Keyring) (*verify.Session, error) {
	n, err := s.store.CountEvidence(ctx, b.ID)
	if err != nil {
		return nil, err
	}
	// A second caller waits: both would do the same.
	s.sessions.mu.Lock()
	defer s.sessions.mu.Unlock()
	for _, h := range s.sessions.held {
		if h.batch == b.ID && h.ring == ring && h.policy == b.PolicyVersion && h.evidence == n {
			return h.session.Fork(), nil
		}
	}
	session, err := s.Session(ctx, b, ring)
	if err != nil {
		return nil, err
	}
	held := slices.DeleteFunc(s.sessions.held, func(h heldSession) bool { return h.batch == b.ID })
	if len(held) == keptSessions {
		held = held[1:]
	}
	held = append(held, heldSession{b.ID, ring, b.PolicyVersion, n, session})
	s.sessions.held = held
	return session.Fork(), nil
}

// sessionWith is [Service.Session] together with the manifests that it has judged.
func (s *Service) sessionWith(
	ctx context.Context, b store.Batch, ring *keyring.Keyring,
) (*verify.Session, []verify.Item, error) {
	basis, err := s.basis(ctx, b, ring)
	if err != nil {
		return nil, nil, err
	}
	if err := json.Unmarshal(b.Expected, &basis.Expected); err != nil {
		return nil, nil, err
	}
	evidence, err := s.evidence(ctx, b.ID)
	if err != nil {
		return nil, nil, err
	}
	session, err := s.begin(ctx, basis, evidence)
	if err != nil {
		return nil, nil, err
	}
	session.After(predecessorsOf(b, s.store.Reads))
	manifests := slices.DeleteFunc(evidence, func(d verify.Item) bool { return d.Planned.Role != survey.Manifest })
	return session, manifests, s.rest(ctx, session, b, ring)
}

// evidence returns what the artifacts of a batch can rest on, as it is stored.
func (s *Service) evidence(ctx context.Context, batch int64) ([]verify.Item, error) {
	rows, err := s.store.Evidence(ctx, batch)
	if err != nil {
		return nil, err
	}
	return s.held(ctx, rows...)
}

// held returns items with outcomes as they were surveyed and measured, as records of this program say.
func (s *Service) held(ctx context.Context, rows ...store.JudgedItem) ([]verify.Item, error) {
	from := make([]store.Record, len(rows))
	for i := range rows {
		from[i] = rows[i].Evidence.Record
	}
	if err := s.records.Held(ctx, s.store.Reads, from); err != nil {
		return nil, err
	}
	out := make([]verify.Item, len(rows))
	for i, row := range rows {
		seen, err := recorded.Measured(row.Evidence.Record.Body)
		if err != nil {
			return nil, err
		}
		out[i] = verify.Item{N: row.N, Planned: seen.Survey, Measurement: *seen.Measurement}
	}
	return out, nil
}

// begin returns a session that judges by a basis and knows evidence. Of what receipts are
// of, the lists stand in the records here.
func (s *Service) begin(ctx context.Context, basis judge.Basis, evidence []verify.Item) (*verify.Session, error) {
	session := verify.New(basis)
	if slices.ContainsFunc(evidence, func(d verify.Item) bool { return d.Planned.Receipt != nil }) {
		keys, err := s.records.Keys()
		if err != nil {
			return nil, err
		}
		session.Trust(keys...)
	}
	for i := range evidence {
		session.Evidence(evidence[i].Planned, &evidence[i].Measurement)
	}
	for batch, lists := range session.Wanted() {
		earlier, err := s.evidence(ctx, batch)
		if err != nil {
			return nil, err
		}
		for i := range earlier {
			if d := &earlier[i]; d.Planned.Role == survey.Manifest && slices.Contains(lists, d.Planned.Path) {
				session.Recorded(batch, d.Planned, &d.Measurement)
			}
		}
	}
	return session, nil
}

// otherFiles is what is known of other files than those of one batch.
type otherFiles struct {
	store  *store.Store
	batch  int64
	stated func() (map[string]diagnose.StatedAt, error)
}

// Stated returns what the manifests of the batch state.
func (k otherFiles) Stated(context.Context) (map[string]diagnose.StatedAt, error) { return k.stated() }

// Cleared looks for what was cleared in earlier batches.
func (k otherFiles) Cleared(ctx context.Context, sums []string) (map[string]*diagnose.Earlier, error) {
	found, err := k.store.ClearedWith(ctx, k.batch, sums)
	out := make(map[string]*diagnose.Earlier, len(found))
	for sum, c := range found {
		out[sum] = &diagnose.Earlier{Name: c.Path, Folder: c.Source, Label: c.Label, Batch: c.Batch, On: c.At.UTC()}
	}
	return out, err
}

// stated is [verify.Stated] for a survey that is stored.
func (s *Service) stated(ctx context.Context, batch int64) (map[string]diagnose.StatedAt, error) {
	rows, err := s.store.Stated(ctx, batch)
	out := make(map[string]diagnose.StatedAt, len(rows))
	for _, r := range rows {
		out[r.Digest] = diagnose.StatedAt{Name: r.Name, Manifest: r.Manifest, Line: r.Line}
	}
	return out, err
}
