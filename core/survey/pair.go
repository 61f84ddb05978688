package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
)

const (
	// maxReadings bounds the files that one name is held to fit.
	maxReadings = 16
	// maxGuesses bounds the pairs of a list's entries and files that these may or may not
	// be about.
	maxGuesses = 100_000
	// maxRepeats is how often a list may speak of one file before repetitions are left
	// out; it may speak of it twice as often.
	maxRepeats = 64
)

// pairManifests ties every entry to the file it names: seen from the
// manifest's own folder, else from the batch's, else inside an archive. An entry whose
// file is not here may be of one whose name differs harmlessly, if the digest says so.
func (s *planner) pairManifests() {
	for i := range s.out.Items {
		item := &s.out.Items[i]
		list := s.lists[item.Path]
		if list == nil {
			continue
		}
		p := &pairing{planner: s, from: item.Path, given: s.given[item.Path]}
		if o, ok := s.origins[p.from]; ok {
			p.origin = &o
		}
		var nameless []manifest.Entry
		for _, e := range list.Entries.All() {
			if e.Name == "" {
				nameless = append(nameless, e)
				continue
			}
			p.named(e)
		}
		p.nameless(item, nameless)
		p.unasked(list)
		if p.guesses > maxGuesses {
			item.Why += "; it leaves open of so many files which are meant that not all were tried"
		}
	}
}

// A pairing ties the entries of one list to files.
type pairing struct {
	*planner
	from   string
	origin *Provenance
	// given is set for a text that was handed over.
	given *Given
	// guesses counts the entries that were tied to files that they may not be about.
	guesses int
}

func (p *pairing) named(e manifest.Entry) {
	targets := p.filesOf(p.from, e.Name)
	renamed := false
	if len(targets) == 0 && e.Guessed.Has(manifest.DigestPart) {
		return // what is guessed says nothing of a file that is not here
	}
	if len(targets) == 0 {
		p.absent = append(p.absent, e.Candidates()...)
		p.out.Absent = append(p.out.Absent, Absent{Name: e.Name, Manifest: p.from, Line: e.Line, Digest: e.Digest})
		targets, renamed = p.renamed(p.from, e.Name), true
	}
	for _, at := range targets {
		p.list(at, e, Entry{Doubtful: renamed || len(targets) > 1, Renamed: renamed})
	}
}

// nameless ties entries that name no file to those that they may be about. Where nothing
// but its being alone says which that is, several values of one algorithm cannot all be
// its: the bytes decide whether one is.
func (p *pairing) nameless(item *Item, entries []manifest.Entry) {
	if len(entries) == 0 {
		return
	}
	targets := p.givenFor()
	if len(targets) == 0 {
		targets = p.filesOf(p.from, "")
	}
	if len(targets) == 0 {
		targets = p.namelessFor(p.from)
	}
	if len(targets) == 0 {
		item.Why += "; it does not say which file it is about, and none here is named for it"
		return
	}
	if len(entries)*len(targets) > maxGuesses {
		// All or none: of a file that is tried on some it could not be said that none is its.
		item.Why += fmt.Sprintf(
			"; it states %d digests without saying of which files, and they are too many to be tried on each of %d",
			len(entries), len(targets),
		)
		return
	}
	several := map[digest.Algorithm]bool{}
	stem := path.Base(stemOf(p.from))
	if len(targets) == 1 && !strings.HasPrefix(path.Base(p.out.Items[targets[0]].Path), stem) {
		several = givenTwice(entries)
	}
	for _, e := range entries {
		doubtful := len(targets) > 1 || e.Question != "" ||
			slices.ContainsFunc(e.Candidates(), func(a digest.Algorithm) bool { return several[a] })
		for _, at := range targets {
			p.list(at, e, Entry{Doubtful: doubtful})
		}
	}
}

// givenFor returns the files that a text was handed over for.
func (p *pairing) givenFor() []int {
	if p.given == nil {
		return nil
	}
	var out []int
	for _, name := range p.given.For {
		if at, ok := p.index[name]; ok && p.out.Items[at].Role == Artifact {
			out = append(out, at)
		}
	}
	return out
}

// maxUnasked bounds the names that are told of a text that speaks of other files.
const maxUnasked = 3

// unasked notes with the only file that a text was handed over for what that speaks of
// instead, where it says nothing of the file.
func (p *pairing) unasked(list *manifest.Manifest) {
	targets := p.givenFor()
	if len(targets) != 1 {
		return
	}
	item := &p.out.Items[targets[0]]
	if slices.ContainsFunc(item.Listed, func(l Entry) bool { return l.Manifest == p.from && !l.Renamed }) {
		return
	}
	for _, e := range list.Entries.All() {
		if len(item.Unasked) == maxUnasked {
			return
		}
		if e.Name != "" && !slices.Contains(item.Unasked, e.Name) {
			item.Unasked = append(item.Unasked, e.Name)
		}
	}
}

// givenTwice returns the algorithms under which entries may give different values.
func givenTwice(entries []manifest.Entry) map[digest.Algorithm]bool {
	values, out := map[digest.Algorithm]digest.Value{}, map[digest.Algorithm]bool{}
	for _, e := range entries {
		if e.Question != "" {
			continue
		}
		for _, a := range e.Candidates() {
			if first, ok := values[a]; !ok {
				values[a] = e.Digest
			} else if !slices.Equal(first, e.Digest) {
				out[a] = true
			}
		}
	}
	return out
}

// list adds an entry to what is said of an item. What a list goes on to repeat of one file
// is heard once, and one that does not cease to say other things of it is not listened to
// any longer: what was heard disagrees.
func (p *pairing) list(at int, e manifest.Entry, l Entry) {
	l.Manifest, l.Line, l.Name, l.Origin = p.from, e.Line, e.Name, p.origin
	l.Algorithms, l.Digest, l.Size, l.Pieces = e.Candidates(), e.Digest, e.Size, e.Pieces
	l.Guessed, l.Question = e.Guessed.Has(manifest.DigestPart), e.Question
	if p.given != nil && len(p.given.For) == 1 {
		l.Given = AsText
		if len(p.given.Values) > 0 {
			l.Given = AsValue
		}
	}
	if e.Guessed.Has(manifest.SizePart) {
		l.Size, l.GuessedSize = nil, e.Size
	}
	target := &p.out.Items[at]
	if l.Doubtful {
		if p.guesses++; p.guesses > maxGuesses {
			return
		}
	} else if n, said := p.said(target, &l); n >= 2*maxRepeats || said && n >= maxRepeats {
		return
	}
	target.Listed = append(target.Listed, l)
}

// said returns how often this list has spoken of an item, up to what it may, and whether
// it has said the same.
func (p *pairing) said(item *Item, l *Entry) (n int, same bool) {
	for i := len(item.Listed) - 1; i >= 0 && n < 2*maxRepeats && item.Listed[i].Manifest == p.from; i-- {
		n++
		before := &item.Listed[i]
		same = same ||
			!before.Doubtful && slices.Equal(before.Digest, l.Digest) &&
				slices.Equal(before.Algorithms, l.Algorithms) &&
				(before.Size == nil) == (l.Size == nil) &&
				(l.Size == nil || *before.Size == *l.Size)
	}
	return n, same
}

// pairEmbedded ties the signatures that Metalink files hold to the files that
// they are over.
func (s *planner) pairEmbedded() {
	for i := range s.out.Items {
		from := s.out.Items[i].Path
		list := s.lists[from]
		if list == nil {
			continue
		}
		index := 0
		for _, held := range list.Signatures {
			over := SignatureOver{
				File: from, Index: index,
				Why: fmt.Sprintf("it is in the Metalink file, line %d, for this file", held.Line),
			}
			sigs, err := openpgp.ReadSignatures([]byte(held.Text))
			if err != nil {
				over.Problem = &measure.Problem{Code: measure.Malformed, Message: err.Error()}
				sigs = []*openpgp.Signature{nil}
			}
			targets := s.filesOf(from, held.Name)
			for _, sig := range sigs {
				over.Index = index
				over.take(sig)
				for _, at := range targets {
					over.Doubtful = len(targets) > 1
					s.out.Items[at].Signatures = append(s.out.Items[at].Signatures, over)
				}
				index++
			}
		}
	}
}

// take takes a signature, or what is wrong with it; nil where nothing of it was read.
func (o *SignatureOver) take(sig *openpgp.Signature) {
	if sig == nil {
		return
	}
	o.Raw = sig.Raw
	if err := sig.Malformed(); err != nil {
		o.Raw, o.Problem = nil, &measure.Problem{Code: measure.Malformed, Message: err.Error()}
	}
}

// filesOf finds the files that an entry may name.
func (s *planner) filesOf(from, name string) []int {
	if at, ok := s.fileOf(from, name); ok {
		return []int{at}
	}
	var out []int
	for _, m := range s.membersNamed(from, name) {
		if at, ok := s.index[m.path()]; ok {
			out = append(out, at)
		}
	}
	return out
}

// fileOf finds the file that an entry names: seen from the manifest's folder,
// else from the batch's, or the archive's that the manifest is in. A bare
// digest is about the file that the manifest is named after, else about the
// only artifact beside it.
func (s *planner) fileOf(from, name string) (int, bool) {
	if name == "" {
		stem := stemOf(from)
		if at, ok := s.index[stem]; ok && s.out.Items[at].Role == Artifact {
			return at, true
		}
		// “lamp.sha256” beside “lamp.zip”, and no other of that stem, is about it.
		neighbours := s.nearby(from, Artifact)
		if same := s.beginning(neighbours, stem+".", 2); len(same) == 1 {
			return same[0], true
		}
		if len(neighbours.items) == 1 {
			return neighbours.items[0], true
		}
		return 0, false
	}
	clean, _, ok := manifest.SafeName(name)
	if !ok {
		return 0, false
	}
	if at, ok := s.index[besideOf(from, clean)]; ok {
		return at, true
	}
	at, ok := s.index[topOf(from, clean)]
	return at, ok
}

// A signedFile is one that a signature may be over.
type signedFile struct {
	item         int
	why          string
	uncompressed container.Compression
}

// pairSignatures ties every signature to the file that it may be over. Where
// the name leaves several files, all are kept, and the cryptography decides.
func (s *planner) pairSignatures() {
	for i := range s.out.Items {
		sig := &s.out.Items[i]
		if sig.Role != Signature {
			continue
		}
		readings, firm := s.signedFilesOf(sig.Path)
		if len(readings) == 0 || firm == 0 && sig.Problem != nil {
			sig.Why += "; no file here is named for it"
			continue
		}
		parsed := s.sigs[sig.Path]
		if sig.Problem != nil {
			parsed = []*openpgp.Signature{nil}
		}
		for n, r := range readings {
			target := &s.out.Items[r.item]
			for index, signature := range parsed {
				over := SignatureOver{
					File: sig.Path, Index: index, Why: r.why, Uncompressed: r.uncompressed,
					Problem: sig.Problem, Doubtful: n >= firm,
				}
				over.take(signature)
				target.Signatures = append(target.Signatures, over)
			}
		}
	}
}

// signedFilesOfGiven returns what a signature may be over that was handed over for one file:
// that file, or a list that speaks of it.
func (s *planner) signedFilesOfGiven(file string) (readings []signedFile, firm int) {
	at, ok := s.index[file]
	if !ok {
		return nil, 0
	}
	over := []int{at}
	for _, l := range s.out.Items[at].Listed {
		if list, ok := s.index[l.Manifest]; ok && !slices.Contains(over, list) {
			over = append(over, list)
		}
	}
	for _, i := range over {
		readings = append(readings, signedFile{item: i, why: "it was handed over for " + file})
	}
	if len(readings) == 1 {
		return readings, 1
	}
	return readings, 0
}

// signedFilesOf returns the files that a signature may be over. The first so many
// are firm: the name, or a correction by hand, says so, or there is no other.
func (s *planner) signedFilesOf(sig string) (readings []signedFile, firm int) {
	if given := s.given[sig]; given != nil && len(given.For) == 1 && s.set[sig] == "" {
		return s.signedFilesOfGiven(given.For[0])
	}
	if file, ok := s.set[sig]; ok {
		return []signedFile{{item: s.index[file], why: "it was set by hand for this file"}}, 1
	}
	stem := stemOf(sig)
	if at, ok := s.index[stem]; ok && s.out.Items[at].Role != Signature {
		readings = append(readings, signedFile{item: at, why: "it is named after this file"})
	}
	// “x.tar.sig” beside “x.tar.xz” is over what that holds.
	for _, ending := range container.Endings() {
		if at, ok := s.index[stem+ending]; ok && s.out.Items[at].Role == Artifact {
			c, _, _ := container.OfName(stem + ending)
			readings = append(
				readings,
				signedFile{item: at, why: "it is named after the uncompressed form of this file", uncompressed: c},
			)
		}
	}
	if len(readings) > 0 {
		return readings, 1
	}
	if inside := s.membersNamed(sig, path.Base(stem)); len(inside) > 0 {
		for _, m := range inside {
			if at, ok := s.index[m.path()]; ok {
				readings = append(
					readings, signedFile{item: at, why: "it is named after this file inside " + path.Base(m.in.path)},
				)
			}
		}
	}
	if len(readings) == 0 {
		var sameStem []int
		for _, role := range []Role{Manifest, Artifact} {
			sameStem = append(sameStem, s.nearby(sig, role).stems[stem]...)
		}
		for _, at := range sameStem[:min(len(sameStem), maxReadings+1)] {
			readings = append(readings, signedFile{item: at, why: "its name begins like that of this file"})
		}
	}
	for _, role := range []Role{Manifest, Artifact} {
		if len(readings) > 0 {
			break
		}
		near := s.nearby(sig, role).items
		for _, at := range near[:min(len(near), maxReadings+1)] {
			readings = append(readings, signedFile{item: at, why: fmt.Sprintf("this is the only %s beside it", role)})
		}
	}
	switch {
	case len(readings) > maxReadings:
		return nil, 0
	case len(readings) > 1:
		for i := range readings {
			readings[i].why = fmt.Sprintf(
				"its name leaves open which of %d files it is over, and this is one of them", len(readings),
			)
		}
		return readings, 0
	}
	return readings, len(readings)
}
