// Package records writes the ledger, signs its checkpoints, hands out receipts
// and audits. A service that decides something calls [Service.Append] in the
// transaction that stores the decision.
package records

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/store"
	"endeixis/internal/version"
)

// DigestOf returns what a record keeps of a content that it does not hold: its
// SHA-256 in hexadecimal. By it the audit finds out that the content was changed.
func DigestOf(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// An Entry is a record to be written: of the kind that its body is of. Kind, time, author, subject
// and software version are added to the body's fields.
type Entry struct {
	By      string
	Subject string
	Verdict string
	Batch   int64
	Body    recorded.Body
	// At is when it was decided, where rows were stored with that time already; else it is when
	// the record is written.
	At time.Time
}

// Service writes and proves records.
type Service struct {
	store *store.Store
	now   func() time.Time

	mu sync.Mutex
	// key is what this process has of the ledger's key: its public half at least, or nothing.
	key ledgerKey
	// writers is the key by which records are sealed.
	writers        []byte
	checkpointFile string
	auditFile      string

	signing sync.Mutex
	held    held // guarded by signing

	wholeUpTo int64 // see the constant
	witnesses []Witness
	earlier   bool // see FromEarlier
}

// New returns a Service without a signing key, which can write records and not
// sign checkpoints.
func New(s *store.Store, now func() time.Time) *Service {
	return &Service{store: s, now: now, wholeUpTo: wholeUpTo}
}

// Append writes entries to the ledger in the transaction, with the rows that follow from them, and
// returns the position of the first. The ledger stays locked until the
// transaction ends, so call it last.
func (s *Service) Append(ctx context.Context, tx *store.Tx, entries ...Entry) (int64, error) {
	if len(entries) == 0 {
		return 0, nil
	}
	heads, err := s.write(ctx, tx, entries)
	if err != nil {
		return 0, err
	}
	return heads[0].Position, nil
}

func (s *Service) write(ctx context.Context, tx *store.Tx, entries []Entry) ([]recorded.Head, error) {
	key := s.writersKey()
	if key == nil {
		return nil, errors.New("this process has no key to seal records with")
	}
	now := s.now().UTC().Truncate(time.Microsecond) // as the database keeps it
	rows := make([]*store.Record, len(entries))
	heads := make([]recorded.Head, len(entries))
	for i, e := range entries {
		at := now
		if !e.At.IsZero() {
			at = e.At.UTC().Truncate(time.Microsecond)
		}
		heads[i] = recorded.Head{
			Kind: e.Body.Kind(), At: at, By: e.By, Software: "endeixis " + version.Full(), Subject: e.Subject,
		}
		body, err := compose(heads[i], e.Body)
		if err != nil {
			return nil, err
		}
		r := &store.Record{Kind: string(e.Body.Kind()), At: at, By: e.By, Subject: e.Subject, Body: body}
		if e.Verdict != "" {
			r.Verdict = &e.Verdict
		}
		if e.Batch != 0 {
			r.BatchID = &e.Batch
		}
		rows[i] = r
	}
	if err := tx.Append(ctx, rows, sealer(key)); err != nil {
		return nil, err
	}
	bodies := make([]recorded.Body, len(entries))
	var terms store.RecordTerms
	for i, e := range entries {
		heads[i].Position, bodies[i] = rows[i].Position, e.Body
		terms.Add(rows[i].Position, recorded.Terms(heads[i], e.Body))
	}
	if err := tx.AddTerms(ctx, terms); err != nil {
		return nil, err
	}
	return heads, recorded.Follow(ctx, tx, heads, bodies)
}

// Decide writes one record in the transaction, with the rows that follow from it, and returns
// its place and time: from then on it counts.
func (s *Service) Decide(
	ctx context.Context, tx *store.Tx, by, subject string, body recorded.Body,
) (recorded.Head, error) {
	heads, err := s.write(ctx, tx, []Entry{{By: by, Subject: subject, Body: body}})
	if err != nil {
		return recorded.Head{}, err
	}
	return heads[0], nil
}

// compose joins the common fields and the body into one JSON object.
func compose(h recorded.Head, said any) ([]byte, error) {
	head, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(said)
	if err != nil {
		return nil, err
	}
	if len(body) < 2 || body[0] != '{' {
		return nil, fmt.Errorf("the body of a %s record is not an object", h.Kind)
	}
	if len(body) > 2 {
		head[len(head)-1] = ','
		head = append(head, body[1:]...)
	}
	return head, nil
}

// Get returns one record, with what it says for people.
func (s *Service) Get(ctx context.Context, position int64) (query.Record, error) {
	r, err := s.record(ctx, position)
	if err != nil {
		return query.Record{}, err
	}
	out := query.RecordOf(r)
	// One that cannot be read is shown as it is written, and told of by every audit.
	if h, b, err := recorded.Read(position, r.Body); err == nil {
		out.Sentences = recorded.Sentences(h, b)
	}
	return out, nil
}

func (s *Service) record(ctx context.Context, position int64) (store.Record, error) {
	r, err := s.store.Record(ctx, position)
	if errors.Is(err, store.ErrNotFound) {
		err = fault.New(fault.NotFound, fault.RecordUnknown, "There is no record %d.", position).
			Advise("“endeixis record list” shows which there are.")
	}
	return r, err
}

// Receipt proves that a record is in the ledger.
func (s *Service) Receipt(ctx context.Context, position int64) (ledger.Receipt, error) {
	r, err := s.record(ctx, position)
	if err != nil {
		return ledger.Receipt{}, err
	}
	c, signed, err := s.cosigned(ctx, position)
	if err != nil {
		return ledger.Receipt{}, err
	}
	receipt, err := ledger.NewReceipt(position, r.Body, c, signed, s.store.Hashes(ctx))
	if err != nil {
		return receipt, err
	}
	if receipt.Succession, err = s.successions(ctx); err != nil {
		return receipt, err
	}
	keys, err := s.Keys()
	if err != nil {
		return receipt, err
	}
	// What is handed out proves something, or it is not handed out.
	if _, err := receipt.Verify(keys...); err != nil {
		return ledger.Receipt{}, altered("%s", err)
	}
	return receipt, nil
}
