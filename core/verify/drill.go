package verify

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"sync"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// A drill proves that the check can fail: a file is measured again with its stream
// altered in memory, and what vouches for it is altered too. No file is touched. Nothing
// that was altered may come out cleared.

// An AlterationKind is a way of altering.
type AlterationKind string

// The ways of altering.
const (
	// Unaltered is the control: it has to come out as what was recorded.
	Unaltered AlterationKind = "unaltered"
	// BitFlipped flips one bit of the byte at Alteration.At.
	BitFlipped AlterationKind = "bit-flipped"
	// ByteAdded and ByteMissing add a byte at the end, or leave the last one out.
	ByteAdded   AlterationKind = "byte-added"
	ByteMissing AlterationKind = "byte-missing"
	// ManifestAltered changes one character of each manifest that lists the file.
	ManifestAltered AlterationKind = "manifest-altered"
	// SignatureAltered flips one bit of each signature.
	SignatureAltered AlterationKind = "signature-altered"
	// SignerReplaced makes the signer's key one of another publisher.
	SignerReplaced AlterationKind = "signer-replaced"
)

// AlterationKinds lists every way of altering.
func AlterationKinds() []AlterationKind {
	return []AlterationKind{
		Unaltered, BitFlipped, ByteAdded, ByteMissing, ManifestAltered, SignatureAltered, SignerReplaced,
	}
}

// An Alteration is one thing that is altered.
type Alteration struct {
	Kind AlterationKind `json:"kind"`
	// At is the byte that a bit is flipped in.
	At int64 `json:"at,omitempty"`
}

// String says what is altered, for people.
func (a Alteration) String() string {
	switch a.Kind {
	case Unaltered:
		return "nothing altered"
	case BitFlipped:
		return fmt.Sprintf("a bit flipped in byte %d", a.At)
	case ByteAdded:
		return "a byte more at the end"
	case ByteMissing:
		return "the last byte missing"
	case ManifestAltered:
		return "a character of the manifest altered"
	case SignatureAltered:
		return "a bit of the signature flipped"
	case SignerReplaced:
		return "another publisher's key in place of the signer's"
	}
	return string(a.Kind)
}

// scattered is the number of bits that are flipped at places that the seed gives.
const scattered = 3

// Alterations returns those of a stream of some size: the control; a bit at the start, in
// the middle, at the end and at places that follow from seed; a byte more; a byte less.
func Alterations(size int64, seed []byte) []Alteration {
	out := []Alteration{{Kind: Unaltered}}
	if size > 0 {
		places := []int64{0, size / 2, size - 1}
		for i := range scattered {
			sum := sha256.Sum256(append(slices.Clone(seed), byte(i)))
			places = append(places, int64(binary.BigEndian.Uint64(sum[:8])>>1)%size)
		}
		slices.Sort(places)
		for _, at := range slices.Compact(places) {
			out = append(out, Alteration{BitFlipped, at})
		}
		out = append(out, Alteration{Kind: ByteMissing})
	}
	return append(out, Alteration{Kind: ByteAdded})
}

// Alter measures a target once for each alteration, of a content that is read once. The
// readings are in their order. It fails when content does, or ctx ends.
func Alter(
	ctx context.Context, target *measure.Target, content io.Reader, size int64, alterations []Alteration,
) ([]measure.Reading, error) {
	out := make([]measure.Reading, len(alterations))
	failed := make([]error, len(alterations))
	writers := make([]io.Writer, len(alterations))
	streams := make([]*alteredStream, len(alterations))
	var wg sync.WaitGroup
	for i, a := range alterations {
		r, w := io.Pipe()
		streams[i] = &alteredStream{out: w, alteration: a, size: size}
		writers[i] = streams[i]
		wg.Go(func() {
			out[i], failed[i] = measure.Bytes(ctx, r, target)
			r.CloseWithError(failed[i])
		})
	}
	_, err := io.CopyBuffer(io.MultiWriter(writers...), content, make([]byte, 256<<10))
	for _, s := range streams {
		s.end(err)
	}
	wg.Wait()
	return out, errors.Join(append(failed, err)...)
}

// AlterFile does what [Alter] does with a file of a folder that lies in no other.
func AlterFile(
	ctx context.Context, folder fs.FS, target *measure.Target, alterations []Alteration,
) ([]measure.Reading, error) {
	content, err := measure.Content(ctx, folder, target, nil)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	return Alter(ctx, target, content, target.Size, alterations)
}

// alteredStream passes a stream on with one alteration.
type alteredStream struct {
	out        *io.PipeWriter
	alteration Alteration
	size, at   int64
	scratch    []byte
}

// Write passes p on. The caller's bytes stay as they are.
func (s *alteredStream) Write(p []byte) (int, error) {
	from := s.at
	s.at += int64(len(p))
	send := p
	switch a := s.alteration; {
	case a.Kind == BitFlipped && from <= a.At && a.At < s.at:
		s.scratch = append(s.scratch[:0], p...)
		s.scratch[a.At-from] ^= 1 << (a.At % 8)
		send = s.scratch
	case a.Kind == ByteMissing && s.at >= s.size:
		send = p[:max(0, min(int64(len(p)), s.size-1-from))]
	}
	if _, err := s.out.Write(send); err != nil {
		return 0, err
	}
	return len(p), nil
}

func (s *alteredStream) end(err error) {
	if err == nil && s.alteration.Kind == ByteAdded {
		_, err = s.out.Write([]byte{0})
	}
	s.out.CloseWithError(err)
}

// A Drilled is the verdict on an item with one alteration.
type Drilled struct {
	Alteration
	// What says what was altered, and Said what the verdict rests on.
	What    string        `json:"what"`
	Verdict judge.Verdict `json:"verdict"`
	Said    string        `json:"said"`
	// Alarm is set where it was cleared and must not have been, or where the control
	// did not come out as what was recorded.
	Alarm bool `json:"alarm"`
}

// Drill judges an item that is cleared with each alteration. m and outcome are as they
// are on record; readings are those of [Alter] for alterations. manifests are all of the
// batch, with their measurements.
//
// Each kind of evidence has to fail by itself: where a manifest is altered, a signature
// over the file alone does not count, and the reverse.
func (s *Session) Drill(
	item *survey.Item, m *measure.Measurement, outcome *judge.Outcome, manifests []Item, alterations []Alteration,
	readings []measure.Reading, w measure.Attribution,
) []Drilled {
	var out []Drilled
	for i, a := range alterations {
		if i >= len(readings) {
			break
		}
		altered := Of(item, readings[i], w)
		if a.Kind == Unaltered {
			out = append(out, control(m, &altered, outcome))
			continue
		}
		// The container was not altered: it must not clear what is in it.
		changed := *item
		changed.Inside = nil
		d := s.alone().judged(&changed, &altered, manifests, a)
		out = append(out, d)
	}
	if slices.ContainsFunc(manifests, func(d Item) bool {
		return lists(d.Planned, item) && s.vouchers[d.Planned.Path] != nil && s.vouchers[d.Planned.Path].Signed()
	}) {
		changed := *item
		changed.Inside, changed.Signatures, changed.Sighted = nil, nil, nil
		altered := make([]Item, len(manifests))
		for i, d := range manifests {
			d.Measurement = damaged(d.Measurement)
			altered[i] = d
		}
		out = append(out, s.alone().judged(&changed, m, altered, Alteration{Kind: ManifestAltered}))
	}
	if signers := s.signers(item, outcome); len(signers) > 0 {
		changed := *item
		changed.Inside, changed.Sighted = nil, nil
		changed.Signatures = flipped(item.Signatures)
		altered := make([]Item, len(manifests))
		for i, d := range manifests {
			man := *d.Planned
			man.Signatures = flipped(d.Planned.Signatures)
			altered[i] = Item{N: d.N, Planned: &man, Measurement: d.Measurement}
		}
		out = append(out, s.alone().judged(&changed, m, altered, Alteration{Kind: SignatureAltered}))

		changed = *item
		changed.Inside, changed.Sighted = nil, nil
		out = append(out, s.with(signers).judged(&changed, m, manifests, Alteration{Kind: SignerReplaced}))
	}
	return out
}

// control compares a measurement without alteration with the one on record.
func control(m, again *measure.Measurement, outcome *judge.Outcome) Drilled {
	a := Alteration{Kind: Unaltered}
	d := Drilled{
		Alteration: a, What: a.String(), Verdict: outcome.Verdict, Said: "Its bytes are those that were verified.",
	}
	same := again.Problem == nil && again.Size == m.Size
	for algorithm, value := range m.Digests {
		computed, ok := again.Digests[algorithm]
		same = same &&
			(slices.Equal(computed, value) || !ok && algorithm != digest.SHA256) // a second choice may not be needed
	}
	if !same {
		d.Alarm, d.Verdict = true, judge.Unproven
		d.Said = "Its bytes are not those that were verified: it has changed since, or was not read. What follows says nothing about it; verify it again."
	}
	return d
}

// alone returns a new session with the same basis.
func (s *Session) alone() *Session { return New(s.basis) }

// with returns a new session in which the keys of signers belong to another publisher.
func (s *Session) with(signers []*keyring.Key) *Session {
	basis := s.basis
	for _, k := range signers {
		other := *k
		other.Publisher = "another-publisher"
		if len(basis.Expected.Publishers) == 0 || basis.Expected.How == "scope" {
			basis.Expected = judge.Expectation{Publishers: []string{k.Publisher}, How: "given"}
		}
		basis.Keyring = basis.Keyring.With(&other)
	}
	return New(basis)
}

func (s *Session) judged(item *survey.Item, m *measure.Measurement, manifests []Item, a Alteration) Drilled {
	for i := range manifests {
		s.Manifest(manifests[i].Planned, &manifests[i].Measurement)
	}
	out := s.Judge(item, m)
	return Drilled{
		Alteration: a, What: a.String(), Verdict: out.Verdict, Said: judge.Line(item, &out),
		Alarm: out.Verdict == judge.Cleared,
	}
}

// lists reports whether a manifest has an entry about an item.
func lists(manifest, item *survey.Item) bool {
	return slices.ContainsFunc(item.Listed, func(l survey.Entry) bool { return l.Manifest == manifest.Path })
}

// damaged returns the measurement of a file of which one character was altered: each digest is
// another.
func damaged(m measure.Measurement) measure.Measurement {
	out := m
	out.Digests = make(map[digest.Algorithm]digest.Value, len(m.Digests))
	for a, value := range m.Digests {
		out.Digests[a] = other(value)
	}
	out.SignatureHashes = slices.Clone(m.SignatureHashes)
	for i := range out.SignatureHashes {
		out.SignatureHashes[i].Digest = other(out.SignatureHashes[i].Digest)
	}
	return out
}

// other returns a digest of the same length that differs from value.
func other(value digest.Value) digest.Value {
	sum := slices.Clone(value)
	for i := range sum {
		sum[i] ^= 0xa5
	}
	return sum
}

// flipped returns signatures with one bit of each flipped, in its last byte, which belongs to the
// value that the signer's key computed.
func flipped(in []survey.SignatureOver) []survey.SignatureOver {
	out := slices.Clone(in)
	for i := range out {
		raw := slices.Clone(out[i].Raw)
		if len(raw) > 0 {
			raw[len(raw)-1] ^= 1
		}
		out[i].Raw = raw
	}
	return out
}

// signers returns the keys whose signatures speak for an item: over itself, and over the
// manifests that list it.
func (s *Session) signers(item *survey.Item, outcome *judge.Outcome) []*keyring.Key {
	grounds := slices.Clone(outcome.Grounds)
	for _, l := range item.Listed {
		if v := s.vouchers[l.Manifest]; v != nil {
			grounds = append(grounds, v.Outcome.Grounds...)
		}
	}
	var out []*keyring.Key
	for _, g := range grounds {
		if g.Signature == nil || g.Effect != judge.Supports {
			continue
		}
		if k := s.basis.Keyring.Lookup(g.Signature.Key); k != nil && !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}
