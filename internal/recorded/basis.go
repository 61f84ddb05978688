package recorded

import (
	"bytes"
	"cmp"
	"maps"
	"slices"

	"endeixis/internal/store"
)

// A Key is a key as records say. The certificate itself is not among it: it is known by its
// digest.
type Key struct {
	Row store.Key
	// Digest is the SHA-256 of the certificate as it is kept, in hexadecimal.
	Digest string
}

// A Basis is what everything is judged by, as records say up to some position: policies,
// waivers, publishers and keys. It is put together from records alone. Whoever has one may read
// it, and nobody may change it; [Basis.With] makes another.
type Basis struct {
	// Decisions is how many records it comes from, and Next the position behind the newest.
	Decisions, Next int64
	// Policies are all versions, and Waivers all that were granted, in the order of records.
	Policies []store.Policy
	Waivers  []store.Waiver
	// Publishers are by slug, and Keys by fingerprint; the versions are as they were with each
	// record.
	Publishers        map[string]store.Publisher
	PublisherVersions []store.Publisher
	Keys              map[string]Key
	KeyVersions       []Key
	Steps             []store.KeyChange
	Sightings         []store.Sighting
	Proposals         []store.Proposal
	// waiting are the places of proposals that wait, by fingerprint.
	waiting map[string]int
	adopted map[string][]store.AdoptedKey
}

// NewBasis returns the basis that comes from no record. adopted are the versions of keys that
// were adopted, in the order in which they came about.
func NewBasis(adopted []store.AdoptedKey) *Basis {
	b := &Basis{
		Publishers: map[string]store.Publisher{}, Keys: map[string]Key{}, waiting: map[string]int{},
		adopted: map[string][]store.AdoptedKey{},
	}
	for _, a := range adopted {
		fp := digits(a.Fingerprint)
		b.adopted[fp] = append(b.adopted[fp], a)
	}
	return b
}

// Before returns the basis that comes from no record, of the same ledger.
func (b *Basis) Before() *Basis {
	out := NewBasis(nil)
	out.adopted = b.adopted
	return out
}

// An Event is a record that decides.
type Event struct {
	Head Head
	Body Body
}

// With returns the basis that more records make of this one.
func (b *Basis) With(events ...Event) *Basis {
	out := *b
	// What grows at its end is shared up to there; what changes is copied.
	out.Policies, out.PublisherVersions = slices.Clip(b.Policies), slices.Clip(b.PublisherVersions)
	out.KeyVersions, out.Steps = slices.Clip(b.KeyVersions), slices.Clip(b.Steps)
	out.Waivers = slices.Clone(b.Waivers)
	out.Sightings = slices.Clone(b.Sightings)
	out.Proposals = slices.Clone(b.Proposals)
	out.Publishers, out.Keys, out.waiting = maps.Clone(b.Publishers), maps.Clone(b.Keys), maps.Clone(b.waiting)
	for _, e := range events {
		e.Body.add(&out, e.Head)
		out.Decisions++
		out.Next = e.Head.Position + 1
	}
	return &out
}

func (b *Basis) setPublisher(p store.Publisher) {
	b.Publishers[p.Slug] = p
	b.PublisherVersions = append(b.PublisherVersions, p)
}

func (b *Basis) setKey(fp string, k Key) {
	b.Keys[fp] = k
	b.KeyVersions = append(b.KeyVersions, k)
}

// earlier takes what a version of a key that was adopted says where the record does not.
func (b *Basis) earlier(k *Key, position int64) {
	for _, a := range b.adopted[digits(k.Row.Fingerprint)] {
		if a.Position <= position {
			k.Digest, k.Row.Publisher, k.Row.Role = a.Digest, a.Publisher, a.Role
		}
	}
}

// decideProposal says what became of the proposal that waits for a key, if any.
func (b *Basis) decideProposal(fp string, decided string) {
	if i, ok := b.waiting[fp]; ok {
		b.Proposals[i].Decided = decided
		delete(b.waiting, fp)
	}
}

// InOrder returns the keys in the order of their import.
func (b *Basis) InOrder() []Key {
	return slices.SortedFunc(maps.Values(b.Keys), func(x, y Key) int {
		return cmp.Or(x.Row.ImportedAt.Compare(y.Row.ImportedAt), bytes.Compare(x.Row.Fingerprint, y.Row.Fingerprint))
	})
}

// Conflicts returns the fingerprints that an unresolved sighting contradicts.
func (b *Basis) Conflicts() [][]byte {
	var out [][]byte
	for _, s := range b.Sightings {
		if !bytes.Equal(s.Read, s.Fingerprint) && s.Resolved == "" {
			out = append(out, s.Fingerprint)
		}
	}
	return out
}

// PoliciesAt returns the newest version of each name as of a version, or of all for 0, by name.
func (b *Basis) PoliciesAt(version int64) []store.Policy {
	newest := map[string]store.Policy{}
	for _, p := range b.Policies {
		if version == 0 || p.Version <= version {
			newest[p.Name] = p
		}
	}
	out := make([]store.Policy, 0, len(newest))
	for _, name := range slices.Sorted(maps.Keys(newest)) {
		out = append(out, newest[name])
	}
	return out
}

// Waiting returns the proposals that wait.
func (b *Basis) Waiting() []store.Proposal {
	return slices.DeleteFunc(slices.Clone(b.Proposals), func(p store.Proposal) bool { return p.Decided != "" })
}

// About returns what is recorded about one key beside itself; of proposals, those that wait.
func (b *Basis) About(
	fingerprint []byte,
) (steps []store.KeyChange, sightings []store.Sighting, proposals []store.Proposal) {
	return about(b.Steps, fingerprint, func(s store.KeyChange) []byte { return s.Fingerprint }),
		about(b.Sightings, fingerprint, func(s store.Sighting) []byte { return s.Fingerprint }),
		about(b.Waiting(), fingerprint, func(p store.Proposal) []byte { return p.Fingerprint })
}

// about returns those of some rows that are about a key.
func about[T any](rows []T, fingerprint []byte, of func(T) []byte) []T {
	var out []T
	for _, r := range rows {
		if bytes.Equal(of(r), fingerprint) {
			out = append(out, r)
		}
	}
	return out
}
