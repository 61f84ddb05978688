// Package records writes the ledger, signs its checkpoints, hands out receipts
// and audits. Whoever decides something calls [Service.Append] in the
// transaction that stores the decision.
package records

import (
	"context"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/fault"
	"endeixis/internal/store"
	"endeixis/internal/version"
)

// DigestOf returns what a record keeps of a content that it does not hold: its
// SHA-256 in hexadecimal. By it the audit finds out that the content was changed.
func DigestOf(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

// An Entry is a record to be written. Its Body is a struct; kind, time, author
// and software version are added to its fields.
type Entry struct {
	Kind    ledger.Kind
	By      string
	Subject string
	Verdict string
	Batch   int64
	Body    any
}

// Service writes and proves records.
type Service struct {
	store *store.Store
	now   func() time.Time

	mu       sync.Mutex
	signer   note.Signer
	verifier note.Verifier
	public   string
	origin   string
	// secret is the text of the signing key, from which others are derived.
	secret []byte
}

// New returns a Service without a signing key, which can write records and not
// sign checkpoints.
func New(s *store.Store, now func() time.Time) *Service { return &Service{store: s, now: now} }

// Append writes entries to the ledger in the transaction and returns the
// position of the first. The ledger stays locked until the transaction ends,
// so call it last.
func (s *Service) Append(ctx context.Context, tx *store.Tx, entries ...Entry) (int64, error) {
	now := s.now().UTC()
	rows := make([]*store.Record, len(entries))
	for i, e := range entries {
		body, err := compose(e, now)
		if err != nil {
			return 0, err
		}
		r := &store.Record{Kind: string(e.Kind), At: now, By: e.By, Subject: e.Subject, Body: body}
		if e.Verdict != "" {
			r.Verdict = &e.Verdict
		}
		if e.Batch != 0 {
			r.BatchID = &e.Batch
		}
		rows[i] = r
	}
	if err := tx.Append(ctx, rows); err != nil {
		return 0, err
	}
	if len(rows) == 0 {
		return 0, nil
	}
	return rows[0].Position, nil
}

// compose joins the common fields and the body into one JSON object.
func compose(e Entry, now time.Time) ([]byte, error) {
	head, err := json.Marshal(struct {
		Kind     ledger.Kind `json:"kind"`
		At       time.Time   `json:"at"`
		By       string      `json:"by"`
		Software string      `json:"software"`
		Subject  string      `json:"subject"`
	}{e.Kind, now, e.By, "endeixis " + version.Full(), e.Subject})
	if err != nil {
		return nil, err
	}
	body, err := json.Marshal(e.Body)
	if err != nil {
		return nil, err
	}
	if len(body) < 2 || body[0] != '{' {
		return nil, fmt.Errorf("the body of a %s record is not an object", e.Kind)
	}
	if len(body) > 2 {
		head[len(head)-1] = ','
		head = append(head, body[1:]...)
	}
	return head, nil
}

// Init makes the signing key of a new installation: the secret half in a file,
// the public half in the database. When both are there it does nothing; when
// only one is, it refuses, for a new key would not fit the old checkpoints.
func (s *Service) Init(ctx context.Context, keyFile, name string) (created bool, err error) {
	_, statErr := os.Stat(keyFile)
	stored, err := s.store.ServiceKey(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return false, err
	}
	inDatabase := err == nil
	switch {
	case inDatabase && statErr == nil:
		return false, s.LoadKey(ctx, keyFile)
	case inDatabase:
		return false, fault.New(fault.Conflict, "key-file-missing", "The database knows the service's key %s, and the file %s is not there.", stored.PublicKey, keyFile).
			Advise("Restore the file from your backup, or set ledger.key_file to where it is.")
	case statErr == nil:
		return false, fault.New(fault.Conflict, "key-file-stray", "The file %s holds a key that this database does not know.", keyFile).
			Advise("Set ledger.key_file to a new place, or database.url to the database that belongs to the key.")
	}
	secret, public, err := note.GenerateKey(rand.Reader, name)
	if err != nil {
		return false, err
	}
	if err := os.MkdirAll(filepath.Dir(keyFile), 0o700); err != nil {
		return false, err
	}
	f, err := os.OpenFile(keyFile, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return false, err
	}
	// The database is not to know a key whose file a power cut takes away.
	_, err = f.WriteString(secret + "\n")
	if err := errors.Join(err, f.Sync(), f.Close(), syncFolder(filepath.Dir(keyFile))); err != nil {
		os.Remove(keyFile)
		return false, err
	}
	err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		return tx.SetServiceKey(ctx, store.ServiceKey{PublicKey: public, Origin: name + "/ledger", CreatedAt: s.now()})
	})
	if err != nil {
		os.Remove(keyFile)
		return false, err
	}
	return true, s.LoadKey(ctx, keyFile)
}

// syncFolder has the names in a folder written to its disk.
func syncFolder(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// publicKey reads the public half of the signing key from the database.
func (s *Service) publicKey(ctx context.Context) (store.ServiceKey, note.Verifier, error) {
	stored, err := s.store.ServiceKey(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return stored, nil, fault.New(fault.Conflict, "not-initialised", "This database has no administrator and no signing key yet.").Advise("Run “endeixisd init” once.")
	}
	if err != nil {
		return stored, nil, err
	}
	verifier, err := note.NewVerifier(stored.PublicKey)
	if err != nil {
		return stored, nil, fmt.Errorf("the public key in the database cannot be read: %w", err)
	}
	return stored, verifier, nil
}

// LoadKey reads the signing key and holds it against the database.
func (s *Service) LoadKey(ctx context.Context, keyFile string) error {
	stored, verifier, err := s.publicKey(ctx)
	if err != nil {
		return err
	}
	content, err := os.ReadFile(keyFile)
	if err != nil {
		return fmt.Errorf("reading the signing key: %w; restore it from your backup, or set ledger.key_file", err)
	}
	if len(content) > 0 && content[len(content)-1] == '\n' {
		content = content[:len(content)-1]
	}
	signer, err := note.NewSigner(string(content))
	if err != nil {
		return fmt.Errorf("the signing key in %s cannot be read: %w", keyFile, err)
	}
	if signer.Name() != verifier.Name() || signer.KeyHash() != verifier.KeyHash() {
		return fmt.Errorf("the signing key in %s is not the one this database was set up with (%s)", keyFile, stored.PublicKey)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.signer, s.verifier, s.public, s.origin, s.secret = signer, verifier, stored.PublicKey, stored.Origin, content
	return nil
}

// Derive returns a key for a purpose, by HKDF (RFC 5869) from the ledger's key: whoever has
// the database and not the host's file does not have it. It fails in a process that was given
// no key to sign with.
func (s *Service) Derive(purpose string) ([]byte, error) {
	s.mu.Lock()
	secret := s.secret
	s.mu.Unlock()
	if secret == nil {
		return nil, errors.New("this process has no key of the ledger")
	}
	return hkdf.Key(sha256.New, secret, nil, "endeixis "+purpose, sha256.Size)
}

// LoadPublicKey reads the key by which checkpoints are verified, for a process
// that signs none.
func (s *Service) LoadPublicKey(ctx context.Context) error {
	stored, verifier, err := s.publicKey(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.verifier, s.public, s.origin = verifier, stored.PublicKey, stored.Origin
	return nil
}

// Seal returns what signs and what verifies with the service's key. It fails in a process
// that has no key to sign with.
func (s *Service) Seal() (note.Signer, note.Verifier, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.signer == nil {
		return nil, nil, errors.New("this process has no key to sign with")
	}
	return s.signer, s.verifier, nil
}

// adoption is the body of the record of rows that were adopted.
type adoption struct {
	Rows []store.AdoptedRow `json:"rows"`
}

// Adopt takes the rows of earlier versions as they are that no record says all of, once in
// the life of a ledger: from then on each is held against that record, and no other row is
// without one. A new installation has none.
func (s *Service) Adopt(ctx context.Context) error {
	return s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
		if err := tx.LockBasis(ctx); err != nil {
			return err
		}
		due, err := tx.AdoptionDue(ctx)
		if err != nil || !due {
			return err
		}
		rows, err := tx.Adoptable(ctx)
		if err != nil {
			return err
		}
		_, err = s.Append(ctx, tx, Entry{Kind: ledger.RowsAdopted, By: "service", Subject: fmt.Sprintf("%d rows", len(rows)), Body: adoption{rows}})
		return err
	})
}

// AdoptionDue reports whether rows of earlier versions are still to be adopted.
func (s *Service) AdoptionDue(ctx context.Context) (bool, error) { return s.store.AdoptionDue(ctx) }

// Verifier returns the key by which receipts of this ledger are verified.
func (s *Service) Verifier(ctx context.Context) (note.Verifier, error) {
	s.mu.Lock()
	known := s.verifier
	s.mu.Unlock()
	if known != nil {
		return known, nil
	}
	_, verifier, err := s.publicKey(ctx)
	return verifier, err
}

// PublicKey returns the key by which anyone can verify receipts.
func (s *Service) PublicKey() string { return s.public }

// Sign signs a checkpoint of the ledger as it is now, unless the newest one
// covers it, and returns the newest.
func (s *Service) Sign(ctx context.Context) (ledger.Checkpoint, string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.signer == nil {
		return ledger.Checkpoint{}, "", errors.New("this process has no signing key")
	}
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	last, err := s.store.LastCheckpoint(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return ledger.Checkpoint{}, "", err
	}
	if err == nil && last.Size >= size {
		c, err := ledger.OpenCheckpoint(last.Signed, s.verifier)
		return c, last.Signed, err
	}
	root, err := ledger.Root(size, s.store.Hashes(ctx))
	if err != nil {
		return ledger.Checkpoint{}, "", err
	}
	c := ledger.Checkpoint{Origin: s.origin, Size: size, Root: root, Follows: last.Size}
	if last.Size > 0 {
		// Never sign a tree that is not a continuation of the last one.
		older, err := ledger.OpenCheckpoint(last.Signed, s.verifier)
		if err != nil {
			return c, "", err
		}
		if err := ledger.CheckGrowth(older, c, s.store.Hashes(ctx)); err != nil {
			return c, "", err
		}
	}
	signed, err := c.Sign(s.signer)
	if err != nil {
		return c, "", err
	}
	return c, signed, s.store.AddCheckpoint(ctx, store.StoredCheckpoint{Size: size, Signed: signed, At: s.now()})
}

// Get returns one record.
func (s *Service) Get(ctx context.Context, position int64) (store.Record, error) {
	r, err := s.store.Record(ctx, position)
	if errors.Is(err, store.ErrNotFound) {
		return r, fault.New(fault.NotFound, "record-unknown", "There is no record %d.", position).Advise("“endeixis record list” shows which there are.")
	}
	return r, err
}

// Receipt proves that a record is in the ledger.
func (s *Service) Receipt(ctx context.Context, position int64) (ledger.Receipt, error) {
	r, err := s.Get(ctx, position)
	if err != nil {
		return ledger.Receipt{}, err
	}
	c, signed, err := s.Sign(ctx)
	if err != nil {
		return ledger.Receipt{}, err
	}
	return ledger.NewReceipt(position, r.Body, c, signed, s.store.Hashes(ctx))
}

// A Report is the result of an audit.
type Report struct {
	Clean       bool   `json:"clean"`
	Records     int64  `json:"records"`
	Checkpoints int    `json:"checkpoints"`
	Root        string `json:"root"`
	// Sentence says what was found.
	Sentence string `json:"sentence"`
	// Position is the first record that differs, or -1.
	Position int64 `json:"position"`
	// Differences are the first rows that are not what the records say.
	Differences []string `json:"differences,omitempty"`
	// Nonce is that of the question, and Signed the answer under the ledger's key.
	Nonce  string `json:"nonce,omitempty"`
	Signed string `json:"signed,omitempty"`
}

// Answer returns what is signed of a report.
func (r Report) Answer() (ledger.Answer, error) {
	said, err := ledger.SaidOf(r.Sentence, r.Position, r.Differences)
	return ledger.Answer{Nonce: r.Nonce, Size: r.Records, Root: r.Root, Holds: r.Clean, Said: said}, err
}

// shownDifferences bounds them.
const shownDifferences = 20

// An AuditQuestion is what an inquiry about the ledger asks.
type AuditQuestion struct {
	// Checkpoint is one that was kept outside, or empty.
	Checkpoint string `json:"checkpoint,omitempty"`
	// Nonce is a word of who asks, which the signed answer has.
	Nonce string `json:"nonce,omitempty"`
}

// CheckKept refuses a checkpoint that this service did not sign.
func (s *Service) CheckKept(kept string) error {
	_, err := s.openKept(kept)
	return err
}

func (s *Service) openKept(kept string) (ledger.Checkpoint, error) {
	c, err := ledger.OpenCheckpoint(kept, s.verifier)
	if err != nil {
		return c, fault.New(fault.Invalid, "bad-checkpoint", "The checkpoint you gave was not signed by this service, or was changed.").At("checkpoint")
	}
	return c, nil
}

// AnswerAudit answers an inquiry; it is an [inquiries.Answerer].
func (s *Service) AnswerAudit(ctx context.Context, question []byte, progress func(done, total int64)) (any, error) {
	var q AuditQuestion
	if err := json.Unmarshal(question, &q); err != nil {
		return nil, err
	}
	signer, _, err := s.Seal()
	if err != nil {
		return nil, err
	}
	report, err := s.Audit(ctx, q.Checkpoint, progress)
	if err != nil {
		return nil, err
	}
	// It is signed before it is stored, so that nobody can put another in its place.
	report.Nonce = q.Nonce
	answer, err := report.Answer()
	if err != nil {
		return nil, err
	}
	report.Signed, err = answer.Sign(signer)
	return report, err
}

// Audit recomputes every leaf and root from the records' texts, checks every
// stored checkpoint, and one that was kept outside if given, and holds the
// outcome tables against the ledger.
func (s *Service) Audit(ctx context.Context, kept string, progress func(done, total int64)) (Report, error) {
	size, err := s.store.LedgerSize(ctx)
	if err != nil {
		return Report{}, err
	}
	stored, err := s.store.Checkpoints(ctx)
	if err != nil {
		return Report{}, err
	}
	bad := func(position int64, format string, args ...any) (Report, error) {
		return Report{Position: position, Checkpoints: len(stored), Sentence: fmt.Sprintf(format, args...)}, nil
	}
	var opened []ledger.Checkpoint
	for _, c := range stored {
		checkpoint, err := ledger.OpenCheckpoint(c.Signed, s.verifier)
		if err != nil || checkpoint.Size != c.Size {
			return bad(c.Size, "The stored checkpoint over %d records cannot be believed: %v.", c.Size, err)
		}
		opened = append(opened, checkpoint)
	}
	if kept != "" {
		checkpoint, err := s.openKept(kept)
		if err != nil {
			return Report{}, err
		}
		opened = append(opened, checkpoint)
	}
	there := map[int64]bool{0: true}
	for _, c := range stored {
		there[c.Size] = true
	}
	for _, c := range opened {
		if !there[c.Follows] {
			return bad(c.Follows, "The checkpoint over %d records is missing: the one over %d follows it.", c.Follows, c.Size)
		}
	}
	audit, err := ledger.NewAudit(opened)
	if err != nil {
		return bad(-1, "Two checkpoints contradict each other: %v.", err)
	}
	tree := &treeCheck{stored: s.store.Hashes(ctx), bad: -1}
	if err := s.store.EachRecord(ctx, func(r store.Record) error {
		if r.Position != audit.Size() {
			return nil // a gap; Finish will miss the records behind it
		}
		if r.Position%1000 == 0 {
			progress(r.Position, size)
		}
		leaf := [32]byte{}
		copy(leaf[:], r.Leaf)
		return tree.take(r.Position, audit.Record(r.Body, leaf))
	}); err != nil {
		return Report{}, err
	}
	if d := audit.Finish(); d != nil {
		return bad(d.Position, "Record %d differs: %s.", d.Position, d.Reason)
	}
	if err := tree.compare(); err != nil {
		return Report{}, err
	}
	if tree.bad >= 0 {
		return bad(tree.bad, "The tree's stored hashes at record %d are not those of the records.", tree.bad)
	}
	root, err := ledger.Root(audit.Size(), s.store.Hashes(ctx))
	if err != nil || root != audit.Root() {
		return bad(-1, "The stored hashes of the tree do not belong to its records.")
	}
	// The texts are proven; what follows from them is held against them.
	differences, err := s.store.Differences(ctx, func(string) { progress(size, size) })
	if err != nil {
		return Report{}, err
	}
	if len(differences) > 0 {
		report, err := bad(differences[0].Position, "What is stored is not what the records say: %s.", plain.Text(differences[0].What))
		for _, d := range differences[:min(len(differences), shownDifferences)] {
			report.Differences = append(report.Differences, plain.Text(d.What))
		}
		return report, err
	}
	return Report{
		Clean: true, Records: audit.Size(), Checkpoints: len(opened), Root: audit.Root().String(), Position: -1,
		Sentence: fmt.Sprintf("All %d records are as they were written; %d signed checkpoints agree.", audit.Size(), len(opened)),
	}, nil
}

// A treeCheck holds the hashes that an audit computes against those that are
// stored for the tree, many at a time.
type treeCheck struct {
	stored  tlog.HashReader
	indexes []int64
	hashes  []tlog.Hash
	records []int64
	next    int64
	bad     int64 // the first record whose hashes differ, or -1
}

func (c *treeCheck) take(record int64, hashes []tlog.Hash) error {
	for _, h := range hashes {
		c.indexes, c.hashes, c.records = append(c.indexes, c.next), append(c.hashes, h), append(c.records, record)
		c.next++
	}
	if len(c.indexes) < 4000 {
		return nil
	}
	return c.compare()
}

func (c *treeCheck) compare() error {
	stored, err := c.stored.ReadHashes(c.indexes)
	if err != nil {
		return err
	}
	for i := range stored {
		if stored[i] != c.hashes[i] && c.bad < 0 {
			c.bad = c.records[i]
		}
	}
	c.indexes, c.hashes, c.records = c.indexes[:0], c.hashes[:0], c.records[:0]
	return nil
}
