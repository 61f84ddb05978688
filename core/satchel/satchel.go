// Package satchel packs what it takes to judge where there is no network: keyring, policy,
// waivers and references of some publishers, as they are when it is packed, until a day. It
// is signed by the service, and holds nothing more secret than public keys.
//
// What is judged on site goes into a [Journal], sealed by a key that was made there.
//
// A satchel is a text: a note signed as https://c2sp.org/signed-note describes, an empty
// line, and a JSON document of which the note has the digest. docs/formats.md has both
// formats.
package satchel

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// Content is what a satchel holds.
type Content struct {
	ID      string    `json:"id"`
	Service string    `json:"service"`
	By      string    `json:"by"`
	Packed  time.Time `json:"packed"`
	// Until is when it ends: from then on it judges nothing.
	Until time.Time `json:"until"`
	// LedgerSize is that of the ledger when it was packed, PolicyVersion the policy's.
	LedgerSize    int64                   `json:"ledger_size"`
	PolicyVersion int64                   `json:"policy_version"`
	Policy        judge.Policy            `json:"policy"`
	Own           map[string]judge.Policy `json:"own"`
	Waivers       []judge.Waiver          `json:"waivers"`
	Publishers    []keyring.Publisher     `json:"publishers"`
	Keys          []Key                   `json:"keys"`
	References    []Reference             `json:"references"`
}

// A Key is a key of one of the publishers.
type Key struct {
	// Certificate is in binary form, and public.
	Certificate []byte           `json:"certificate"`
	Publisher   string           `json:"publisher"`
	Role        keyring.Role     `json:"role"`
	Conflict    bool             `json:"conflict,omitempty"`
	History     []keyring.Change `json:"history"`
}

// A Reference is a file that was cleared before, with the path that cleared it.
type Reference struct {
	Name    string                            `json:"name"`
	Size    int64                             `json:"size"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
	Batch   int64                             `json:"batch"`
	N       int                               `json:"n"`
	Record  int64                             `json:"record"`
	Path    judge.ProofPath                   `json:"path"`
}

// A Satchel is one that was opened: what it says was signed by the service.
type Satchel struct {
	Content
	// Digest is the SHA-256 digest of its content, in hexadecimal.
	Digest   string
	verifier note.Verifier
	keyring  *keyring.Keyring
	// byRecord and byDigest have the references; of several with one digest the first.
	byRecord map[int64]*Reference
	byDigest map[string]*Reference
}

const (
	head = "endeixis satchel 1"
	// MaxSize bounds a satchel, in bytes.
	MaxSize = 256 << 20
	// MaxDays bounds how long one can judge.
	MaxDays = 90
)

// An Error says why a satchel, or what was judged by one, cannot be used.
type Error struct {
	Reason Reason
	// Sentence says what is wrong, and Advice what to do; both are safe to show.
	Sentence, Advice string
}

// Error returns the sentence.
func (e *Error) Error() string { return e.Sentence }

// A Reason is a stable name for why something cannot be used.
type Reason string

// The reasons.
const (
	// Unreadable: it is no satchel, or no journal.
	Unreadable Reason = "unreadable"
	// Altered: a signature or a digest does not hold.
	Altered Reason = "altered"
	// Foreign: another service has signed it, or another satchel is meant.
	Foreign Reason = "foreign"
	// Expired: its time is over.
	Expired Reason = "expired"
	// ClockWrong: the clock cannot be right.
	ClockWrong Reason = "clock-wrong"
	// Disordered: outcomes are missing, twice, or not in their order.
	Disordered Reason = "disordered"
)

func wrong(reason Reason, advice, format string, args ...any) *Error {
	return &Error{reason, fmt.Sprintf(format, args...), advice}
}

const packAgain = "Do not use it. Have one packed again, and bring it on a medium that you trust."

// Pack writes a satchel.
func Pack(c Content, signer note.Signer) ([]byte, error) {
	content, err := json.Marshal(c)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(content)
	text := fmt.Sprintf(
		"%s\nservice %s\nsatchel %s\npacked %s\nuntil %s\ncontent %x, %d bytes\n", head, c.Service, c.ID,
		c.Packed.UTC().Format(time.RFC3339), c.Until.UTC().Format(time.RFC3339), sum, len(content),
	)
	signed, err := note.Sign(&note.Note{Text: text}, signer)
	if err != nil {
		return nil, err
	}
	return slices.Concat(signed, []byte("\n"), content, []byte("\n")), nil
}

var contentLine = regexp.MustCompile(`\ncontent ([0-9a-f]{64}), ([0-9]{1,12}) bytes\n$`)

// Open reads a satchel that the service has signed whose key verifier has. What cannot be
// used is an [*Error].
func Open(file []byte, verifier note.Verifier) (*Satchel, error) {
	at := bytes.Index(file, []byte("\n\n{"))
	if !bytes.HasPrefix(file, []byte(head+"\n")) || at < 0 || len(file) > MaxSize {
		return nil, wrong(Unreadable, "Give the file that “endeixis satchel pack” wrote.", "This is no satchel.")
	}
	signed, content := file[:at+1], bytes.TrimSuffix(file[at+2:], []byte("\n"))
	n, err := openNote(signed, verifier)
	if err != nil {
		if unverified, ok := err.(*note.UnverifiedNoteError); ok { //nolint:errorlint // the package says that it is one
			return nil, wrong(
				Foreign, "Use one that your own service has packed.",
				"This satchel was not signed by %s, whose key is known here, but by %s.", plain.Quoted(verifier.Name()),
				signerOf(unverified.Note),
			)
		}
		return nil, wrong(
			Altered, packAgain, "The signature of the satchel does not hold: something in it was altered.",
		)
	}
	stated := contentLine.FindStringSubmatch(n.Text)
	sum := sha256.Sum256(content)
	if stated == nil || stated[1] != hex.EncodeToString(sum[:]) || stated[2] != strconv.Itoa(len(content)) {
		return nil, wrong(
			Altered, packAgain, "The content of the satchel is not what was signed: something in it was altered.",
		)
	}
	s := &Satchel{Digest: stated[1], verifier: verifier}
	if err := json.Unmarshal(content, &s.Content); err != nil {
		return nil, wrong(
			Unreadable, "A newer version of this program may read it.",
			"The content of the satchel cannot be read: %s.", plain.Text(err.Error()),
		)
	}
	if err := s.index(); err != nil {
		return nil, err
	}
	return s, nil
}

// errWritten reports a note that is signed well, and not written as signing writes it.
var errWritten = errors.New("the note is not as it was written")

// openNote opens a note that one key has signed and nobody has touched since: where the
// encoding of a signature leaves bits that mean nothing, they are as they were.
func openNote(text []byte, verifier note.Verifier) (*note.Note, error) {
	n, err := note.Open(text, note.VerifierList(verifier))
	if err != nil {
		return nil, err
	}
	if len(n.Sigs) != 1 || len(n.UnverifiedSigs) > 0 {
		return nil, errWritten
	}
	if _, err := base64.StdEncoding.Strict().DecodeString(n.Sigs[0].Base64); err != nil {
		return nil, errWritten
	}
	return n, nil
}

func signerOf(n *note.Note) string {
	if len(n.UnverifiedSigs) == 0 {
		return "nobody"
	}
	return plain.Quoted(n.UnverifiedSigs[0].Name)
}

// index makes the keyring, and what references are found by.
func (s *Satchel) index() error {
	keys := make([]*keyring.Key, 0, len(s.Keys))
	for _, k := range s.Keys {
		certs, skipped, err := openpgp.ReadCertificates(k.Certificate)
		if err != nil || len(certs) != 1 || len(skipped) > 0 {
			return wrong(Unreadable, packAgain, "A key in the satchel cannot be read.")
		}
		keys = append(
			keys,
			&keyring.Key{
				Certificate: certs[0], Publisher: k.Publisher, Role: k.Role, Conflict: k.Conflict, History: k.History,
			},
		)
	}
	s.keyring = keyring.New(keys, s.Publishers)
	s.byRecord, s.byDigest = make(map[int64]*Reference, len(s.References)), map[string]*Reference{}
	for i := range slices.Backward(s.References) {
		r := &s.References[i]
		s.byRecord[r.Record] = r
		for _, v := range r.Digests {
			if len(v) >= digest.MD5.Size() {
				s.byDigest[string(v)] = r
			}
		}
	}
	return nil
}

// Verifier returns the key of the service that has signed it, and its receipts.
func (s *Satchel) Verifier() note.Verifier { return s.verifier }

// Keyring returns the keys of the satchel.
func (s *Satchel) Keyring() *keyring.Keyring { return s.keyring }

// ClearsWith lists the keys by which it can clear something at a time: those that are
// admitted then.
func (s *Satchel) ClearsWith(at time.Time) []*keyring.Key {
	var out []*keyring.Key
	for _, k := range s.keyring.Keys() {
		if k.StateAt(at) == keyring.Admitted && k.Role == keyring.Release && !k.Conflict {
			out = append(out, k)
		}
	}
	return out
}

// Valid returns an [*Error] where the satchel judges nothing at a time: before it was
// packed, which no right clock can say, and from its end on.
func (s *Satchel) Valid(now time.Time) error {
	skew := time.Duration(s.Policy.SkewSeconds) * time.Second
	switch {
	case now.Before(s.Packed.Add(-skew)):
		return wrong(
			ClockWrong, "Set the clock of this machine, then try again.",
			"The clock of this machine says %s, and the satchel was packed on %s: the clock is wrong.", day(now),
			day(s.Packed),
		)
	case !now.Before(s.Until):
		return wrong(
			Expired, "Have a new one packed. If the clock is wrong, set it.",
			"The satchel ended on %s, and this machine's clock says %s. It judges nothing any more.", day(s.Until),
			day(now),
		)
	}
	return nil
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02 15:04") }

// Basis returns what is judged by, at a time. The expectation is left to the caller, who knows
// the files.
func (s *Satchel) Basis(now time.Time) judge.Basis {
	return judge.Basis{Keyring: s.keyring, Policy: s.Policy, Own: s.Own, Waivers: s.Waivers, Now: now}
}

// Reference returns the reference with a record's number or, for 0, with a digest; nil
// where there is none.
func (s *Satchel) Reference(record int64, value digest.Value) *Reference {
	if record != 0 {
		return s.byRecord[record]
	}
	return s.byDigest[string(value)]
}

// Outcome returns how the file counted when the satchel was packed.
func (r *Reference) Outcome() judge.Outcome {
	return judge.Outcome{
		Path: r.Name, Verdict: judge.Cleared, Grounds: []judge.Ground{}, Paths: []judge.ProofPath{r.Path},
	}
}

// Says describes a satchel in one line.
func (s *Satchel) Says() string {
	var slugs []string
	for _, p := range s.Publishers {
		slugs = append(slugs, p.Slug)
	}
	return fmt.Sprintf(
		"satchel %s of %s, packed on %s, good until %s, for %s", s.ID, plain.Text(s.Service), day(s.Packed),
		day(s.Until), strings.Join(slugs, ", "),
	)
}
