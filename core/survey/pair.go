package survey

import (
	"fmt"
	"path"
	"strings"

	"endeixis/core/container"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
)

// maxReadings bounds the files that one name is held to fit.
const maxReadings = 16

// pairManifests ties every entry to the file it names: seen from the
// manifest's own folder, else from the batch's, else inside an archive. An entry whose
// file is not here may be of one whose name differs harmlessly, if the digest says so.
func (s *planner) pairManifests() {
	for i := range s.out.Items {
		list := s.lists[s.out.Items[i].Path]
		if list == nil {
			continue
		}
		from := s.out.Items[i].Path
		var origin *Provenance
		if o, ok := s.origins[from]; ok {
			origin = &o
		}
		unnamed := 0
		for _, e := range list.Entries.All() {
			targets := s.filesOf(from, e.Name)
			renamed := false
			switch {
			case e.Name == "":
				if targets = s.nameless(from); len(targets) == 0 {
					unnamed++
					continue
				}
			case len(targets) == 0:
				s.absent = append(s.absent, e.Candidates()...)
				s.out.Absent = append(s.out.Absent, Absent{Name: e.Name, Manifest: from, Line: e.Line, Digest: e.Digest})
				targets, renamed = s.renamed(from, e.Name), true
			}
			for _, at := range targets {
				target := &s.out.Items[at]
				target.Listed = append(target.Listed, Listing{
					Manifest: from, Line: e.Line, Name: e.Name, Algorithms: e.Candidates(), Digest: e.Digest, Size: e.Size, Pieces: e.Pieces,
					Doubtful: renamed || len(targets) > 1, Renamed: renamed, Origin: origin,
				})
			}
		}
		if unnamed > 0 {
			s.out.Items[i].Why += "; it does not say which file it is about, and none here is named for it"
		}
	}
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
			over := SignatureOver{File: from, Index: index, Why: fmt.Sprintf("it is in the Metalink file, line %d, for this file", held.Line)}
			sigs, err := openpgp.ReadSignatures([]byte(held.Text))
			if err != nil {
				over.Problem = &measure.Problem{Code: measure.Malformed, Message: err.Error()}
				sigs = []*openpgp.Signature{nil}
			}
			targets := s.filesOf(from, held.Name)
			for _, sig := range sigs {
				over.Index = index
				if sig != nil {
					over.Raw = sig.Raw
				}
				for _, at := range targets {
					over.Doubtful = len(targets) > 1
					s.out.Items[at].Signatures = append(s.out.Items[at].Signatures, over)
				}
				index++
			}
		}
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
		stem := strings.TrimSuffix(from, path.Ext(from))
		if at, ok := s.index[stem]; ok && s.out.Items[at].Role == Artifact {
			return at, true
		}
		// “lamp.sha256” beside “lamp.zip”, and no other of that stem, is about it.
		same := 0
		last := 0
		beside := s.beside(from, Artifact)
		for _, at := range beside {
			if strings.HasPrefix(s.out.Items[at].Path, stem+".") {
				same, last = same+1, at
			}
		}
		if same == 1 {
			return last, true
		}
		if len(beside) == 1 {
			return beside[0], true
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

// beside returns the items with a role in the same folder as a file.
func (s *planner) beside(file string, role Role) []int {
	var out []int
	for i := range s.out.Items {
		if it := &s.out.Items[i]; it.Role == role && path.Dir(it.Path) == path.Dir(file) {
			out = append(out, i)
		}
	}
	return out
}

// A reading is one file that a signature may be over.
type reading struct {
	item         int
	why          string
	uncompressed container.Compression
}

// pairSignatures ties every signature to the file that it may be over. Where
// the name leaves several readings, all are kept, and the cryptography decides.
func (s *planner) pairSignatures() {
	for i := range s.out.Items {
		sig := &s.out.Items[i]
		if sig.Role != Signature {
			continue
		}
		readings, firm := s.readingsOf(sig.Path)
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
			for index, one := range parsed {
				over := SignatureOver{
					File: sig.Path, Index: index, Why: r.why, Uncompressed: r.uncompressed,
					Problem: sig.Problem, Doubtful: n >= firm,
				}
				if one != nil {
					over.Raw = one.Raw
				}
				target.Signatures = append(target.Signatures, over)
			}
		}
	}
}

// readingsOf returns the files that a signature may be over. The first so many
// are firm: the name, or a correction by hand, says so, or there is no other.
func (s *planner) readingsOf(sig string) (readings []reading, firm int) {
	if file, ok := s.set[sig]; ok {
		return []reading{{item: s.index[file], why: "it was set by hand for this file"}}, 1
	}
	stem := strings.TrimSuffix(sig, path.Ext(sig))
	if at, ok := s.index[stem]; ok && s.out.Items[at].Role != Signature {
		readings = append(readings, reading{item: at, why: "it is named after this file"})
	}
	// “x.tar.sig” beside “x.tar.xz” is over what that holds.
	for _, ending := range container.Endings() {
		if at, ok := s.index[stem+ending]; ok && s.out.Items[at].Role == Artifact {
			c, _, _ := container.OfName(stem + ending)
			readings = append(readings, reading{item: at, why: "it is named after the uncompressed form of this file", uncompressed: c})
		}
	}
	if len(readings) > 0 {
		return readings, 1
	}
	if inside := s.membersNamed(sig, path.Base(stem)); len(inside) > 0 {
		for _, m := range inside {
			if at, ok := s.index[m.path()]; ok {
				readings = append(readings, reading{item: at, why: "it is named after this file inside " + path.Base(m.in.path)})
			}
		}
	}
	if len(readings) == 0 {
		var sameStem []int
		for _, role := range []Role{Manifest, Artifact} {
			for _, at := range s.beside(sig, role) {
				p := s.out.Items[at].Path
				if strings.TrimSuffix(p, path.Ext(p)) == stem {
					sameStem = append(sameStem, at)
				}
			}
		}
		for _, at := range sameStem {
			readings = append(readings, reading{item: at, why: "its name begins like that of this file"})
		}
	}
	for _, role := range []Role{Manifest, Artifact} {
		if len(readings) > 0 {
			break
		}
		for _, at := range s.beside(sig, role) {
			readings = append(readings, reading{item: at, why: fmt.Sprintf("this is the only %s beside it", role)})
		}
	}
	switch {
	case len(readings) > maxReadings:
		return nil, 0
	case len(readings) > 1:
		for i := range readings {
			readings[i].why = fmt.Sprintf("its name leaves open which of %d files it is over, and this is one of them", len(readings))
		}
		return readings, 0
	}
	return readings, len(readings)
}
