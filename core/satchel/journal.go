package satchel

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// A Kind is what was done on site.
type Kind string

// The kinds.
const (
	Folder   Kind = "folder"
	Spot     Kind = "spot"
	Readback Kind = "readback"
)

// Kinds lists every kind.
func Kinds() []Kind { return []Kind{Folder, Spot, Readback} }

// Measured is what came of reading one file on site.
type Measured struct {
	Reading   measure.Reading      `json:"reading"`
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
}

// Judged is how one artifact was judged on site.
type Judged struct {
	Path    string        `json:"path"`
	Verdict judge.Verdict `json:"verdict"`
	// Deciding is the sentence of the ground that decides.
	Deciding string `json:"deciding"`
}

// Against is what a medium was read back against: a file of an earlier entry, or a value.
type Against struct {
	Entry     int              `json:"entry,omitempty"`
	Path      string           `json:"path,omitempty"`
	Record    int64            `json:"record,omitempty"`
	Size      int64            `json:"size,omitempty"`
	Digest    digest.Value     `json:"digest,omitempty"`
	Algorithm digest.Algorithm `json:"algorithm,omitempty"`
	// Forms are what is in the image, as it was read on site.
	Forms []survey.Form `json:"forms,omitempty"`
}

// An Entry is one thing that was verified on site, with all that it takes to judge it
// again. Manifests, signatures and keys are in it whole: what they say is read again by
// whoever judges it.
type Entry struct {
	N    int  `json:"n"`
	Kind Kind `json:"kind"`
	// At is by the clock there, and By the user of the machine.
	At          time.Time           `json:"at"`
	By          string              `json:"by"`
	Host        string              `json:"host"`
	Path        string              `json:"path"`
	Software    string              `json:"software"`
	Label       string              `json:"label"`
	Publisher   string              `json:"publisher"`
	RequireAll  bool                `json:"require_all"`
	Corrections []survey.Correction `json:"corrections"`
	// Companions are the patterns for files that come along that it was asked with.
	Companions []string         `json:"companions,omitempty"`
	Findings   *survey.Findings `json:"findings"`
	// Measured has the files that were read, by path.
	Measured map[string]Measured `json:"measured"`
	Against  *Against            `json:"against,omitempty"`
	Verdict  judge.Verdict       `json:"verdict"`
	Outcomes []Judged            `json:"outcomes"`
}

// A Header begins a journal.
type Header struct {
	Format string `json:"format"`
	// Satchel is the number of the satchel, and Digest that of its content.
	Satchel string `json:"satchel"`
	Digest  string `json:"digest"`
	Service string `json:"service"`
	// Key is the public half of the key that seals, made on site.
	Key   string    `json:"key"`
	Begun time.Time `json:"begun"`
	Host  string    `json:"host"`
}

const (
	journalFormat = "endeixis outcomes 1"
	sealHead      = "endeixis outcome 1"
	// KeyName is that of keys that seal.
	KeyName = "visit.endeixis"
	// MaxJournal bounds a journal, and MaxEntry the content of one entry, in bytes.
	MaxJournal = 64 << 20
	MaxEntry   = 32 << 20
	// MaxEntries bounds how many a journal has.
	MaxEntries = 2000
)

// line is one entry as it is written: the sealed note, and what it is over.
type line struct {
	Note    string `json:"note"`
	Content []byte `json:"content"`
}

// NewHeader begins a journal for a satchel, sealed by a key that random makes; the secret
// half is for [Seal].
func NewHeader(s *Satchel, now time.Time, host string, random io.Reader) (first []byte, secret string, err error) {
	secret, public, err := note.GenerateKey(random, KeyName)
	if err != nil {
		return nil, "", err
	}
	first, err = json.Marshal(
		Header{
			Format: journalFormat, Satchel: s.ID, Digest: s.Digest, Service: s.Service, Key: public, Begun: now.UTC(),
			Host: host,
		},
	)
	return append(first, '\n'), secret, err
}

// Seal returns an entry as the next line of a journal whose last line is given.
func Seal(e Entry, satchel string, last []byte, signer note.Signer) ([]byte, error) {
	content, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	if len(content) > MaxEntry {
		return nil, wrong(
			Unreadable, "Verify a folder further down.",
			"The outcome is longer than %d MiB, which is more than a journal takes.", MaxEntry>>20,
		)
	}
	signed, err := note.Sign(&note.Note{Text: sealText(satchel, e.N, last, content)}, signer)
	if err != nil {
		return nil, err
	}
	out, err := json.Marshal(line{string(signed), content})
	return append(out, '\n'), err
}

// sealText is what is signed of an entry: it fixes the one before it too.
func sealText(satchel string, n int, last, content []byte) string {
	return fmt.Sprintf(
		"%s\nsatchel %s\nnumber %d\nafter %x\ncontent %x\n", sealHead, satchel, n,
		sha256.Sum256(bytes.TrimSuffix(last, []byte("\n"))), sha256.Sum256(content),
	)
}

// A Sealed is an entry with the line that it stands on.
type Sealed struct {
	Entry
	// Digest is the SHA-256 digest of its content in hexadecimal, and Content that.
	Digest  string
	Content []byte
}

// A Journal is what was judged by one satchel, sealed by one key, in its order.
type Journal struct {
	Header
	Entries []Sealed
	// Last is the last line, to which the next is bound.
	Last []byte
	// Cut is set where the file ends in the middle of an outcome, which is not taken: it was
	// being written when the machine went down.
	Cut bool
}

// Sum returns a few digits by which people tell where a journal ends: they are shown with
// each outcome, to be noted down, and when it comes back.
func (j *Journal) Sum() string {
	sum := sha256.Sum256(j.Last)
	return plain.Grouped(hex.EncodeToString(sum[:4]))
}

// ReadJournal reads a journal, and sees that each entry was sealed behind the one before
// it, by the key that the header names. An outcome that was cut at the end of the file is
// left out, see [Journal.Cut]. What else does not hold is an [*Error] that names the
// entry.
func ReadJournal(file []byte) (*Journal, error) {
	if len(file) > MaxJournal {
		return nil, wrong(
			Unreadable, "Return it in parts, as it was written.", "The file is longer than %d MiB.", MaxJournal>>20,
		)
	}
	first, rest, _ := bytes.Cut(file, []byte("\n"))
	j := &Journal{Last: first}
	if json.Unmarshal(first, &j.Header) != nil || j.Format != journalFormat {
		return nil, wrong(
			Unreadable, "Give the file that was written on site, as it is.",
			"This holds no outcomes that were judged by a satchel.",
		)
	}
	verifier, err := note.NewVerifier(j.Key)
	if err != nil || verifier.Name() != KeyName {
		return nil, wrong(Altered, "", "The key that should seal the outcomes cannot be read.")
	}
	for n := 1; len(rest) > 0; n++ {
		if n > MaxEntries {
			return nil, wrong(Unreadable, "", "The file has more than %d outcomes.", MaxEntries)
		}
		var next []byte
		var ended bool
		next, rest, ended = bytes.Cut(rest, []byte("\n"))
		e, err := open(next, n, j, verifier)
		if err != nil && !ended && !json.Valid(next) {
			j.Cut = true
			break
		}
		if err != nil {
			return nil, err
		}
		j.Entries, j.Last = append(j.Entries, *e), next
	}
	return j, nil
}

const notAsSealed = "Nothing of this file is taken. If there is a copy that was made on site, return that."

func open(text []byte, n int, j *Journal, verifier note.Verifier) (*Sealed, error) {
	var l line
	if err := json.Unmarshal(text, &l); err != nil || len(l.Content) > MaxEntry {
		return nil, wrong(Altered, notAsSealed, "Outcome %d cannot be read: it was cut or altered.", n)
	}
	if same, err := json.Marshal(l); err != nil || !bytes.Equal(same, text) {
		return nil, wrong(Altered, notAsSealed, "Outcome %d is not written as it was: it was altered.", n)
	}
	signed, err := openNote([]byte(l.Note), verifier)
	if err != nil {
		return nil, wrong(
			Altered, notAsSealed, "The seal of outcome %d does not hold: it was altered, or another key has sealed it.",
			n,
		)
	}
	if signed.Text != sealText(j.Satchel, n, j.Last, l.Content) {
		if said := numberIn(signed.Text); said != 0 && said != n {
			return nil, wrong(
				Disordered, notAsSealed,
				"Where outcome %d should be stands outcome %d: one is missing, twice, or out of its order.", n, said,
			)
		}
		return nil, wrong(
			Altered, notAsSealed, "Outcome %d is not what was sealed, or not behind the one that it was sealed after.",
			n,
		)
	}
	sum := sha256.Sum256(l.Content)
	out := &Sealed{Digest: hex.EncodeToString(sum[:]), Content: l.Content}
	if err := json.Unmarshal(l.Content, &out.Entry); err != nil {
		return nil, wrong(Unreadable, "", "Outcome %d cannot be read: %s.", n, plain.Text(err.Error()))
	}
	if out.N != n {
		return nil, wrong(Disordered, notAsSealed, "Outcome %d calls itself %d.", n, out.N)
	}
	if out.Findings == nil {
		return nil, wrong(Unreadable, "", "Outcome %d has no list of its files.", n)
	}
	return out, nil
}

func numberIn(text string) int {
	for l := range strings.Lines(text) {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(l), "number "); ok {
			n, err := strconv.Atoi(rest)
			if err == nil {
				return n
			}
		}
	}
	return 0
}

// Fingerprint returns by what people know the key that seals a journal: it is shown when
// the key is made, and when the outcomes are returned.
func (h *Header) Fingerprint() string {
	sum := sha256.Sum256([]byte(h.Key))
	return plain.Grouped(hex.EncodeToString(sum[:8]))
}

// Continue reports whether a journal can go on with a satchel at a time: it has to be of
// that satchel, and the clock must not have gone back behind the last entry.
func (j *Journal) Continue(s *Satchel, now time.Time) error {
	if j.Satchel != s.ID || j.Digest != s.Digest {
		return wrong(
			Foreign, "Name another file for the outcomes.",
			"The file of outcomes belongs to satchel %s, and this is %s.", plain.Text(j.Satchel), s.ID,
		)
	}
	skew := time.Duration(s.Policy.SkewSeconds) * time.Second
	if last := len(j.Entries) - 1; last >= 0 && now.Before(j.Entries[last].At.Add(-skew)) {
		return wrong(
			ClockWrong, "Set the clock of this machine, then try again.",
			"The clock of this machine says %s, and the last outcome was written on %s: the clock has gone back.",
			day(now), day(j.Entries[last].At),
		)
	}
	return nil
}

// IsError reports whether an error is an [*Error] for a reason.
func IsError(err error, reason Reason) bool {
	var e *Error
	return errors.As(err, &e) && e.Reason == reason
}

// Settle puts into an entry how its artifacts were judged; absent is how many entries of
// manifests have no file.
func (e *Entry) Settle(items []verify.Item, absent int) {
	counts := map[judge.Verdict]int{}
	e.Outcomes = []Judged{}
	for i := range items {
		d := &items[i]
		if d.Planned.Role != survey.Artifact {
			continue
		}
		counts[d.Outcome.Verdict]++
		e.Outcomes = append(
			e.Outcomes,
			Judged{Path: d.Planned.Path, Verdict: d.Outcome.Verdict, Deciding: judge.Line(d.Planned, &d.Outcome)},
		)
	}
	e.Verdict = judge.Batch(counts[judge.Cleared], counts[judge.Unproven], counts[judge.Refused], absent, e.RequireAll)
}
