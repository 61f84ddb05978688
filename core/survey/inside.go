package survey

import (
	"path"
	"strings"

	"endeixis/core/container"
	"endeixis/core/manifest"
	"endeixis/core/measure"
)

// Holds sums up a container that was looked into.
type Holds struct {
	Format      container.Format      `json:"format,omitempty"`
	Compression container.Compression `json:"compression,omitempty"`
	// Members counts the files in it, Links those that are links, and Spoken
	// the members that a manifest or a signature speaks of.
	Members      int                 `json:"members"`
	Links        int                 `json:"links,omitempty"`
	Spoken       int                 `json:"spoken"`
	Problems     []container.Problem `json:"problems,omitempty"`
	MoreProblems int                 `json:"more_problems,omitempty"`
	// Trouble says why it could not be looked into, or is empty.
	Trouble string `json:"trouble,omitempty"`
}

// besideOf returns the path of a name as seen from the folder of a file.
func besideOf(file, name string) string {
	in, inner := container.Within(file)
	if in == "" {
		return path.Join(path.Dir(file), name)
	}
	return in + container.Separator + path.Join(path.Dir(inner), name)
}

// topOf returns the path of a name as seen from the batch's folder, or from the
// top of the container that a file is in.
func topOf(file, name string) string {
	if in, _ := container.Within(file); in != "" {
		return in + container.Separator + name
	}
	return name
}

// An inside is what one container holds.
type inside struct {
	path    string
	layout  *container.Layout
	trouble string
	members map[string]int
}

// A memberRef is one member of a container.
type memberRef struct {
	in *inside
	n  int
}

func (m memberRef) member() *container.Member { return &m.in.layout.Members[m.n] }

func (m memberRef) path() string { return m.in.path + container.Separator + m.member().Name }

// openContainers makes items of the members that are manifests, signatures or
// keys, and of those that something speaks of.
func (s *planner) openContainers(found *Findings) {
	if len(found.Containers) == 0 {
		return
	}
	for i := range found.Containers {
		looked := &found.Containers[i]
		in := &inside{path: looked.Path, layout: looked.Layout, trouble: looked.Trouble, members: map[string]int{}}
		s.insides[in.path] = in
		for n := range in.layout.Members {
			m := &in.layout.Members[n]
			ref := memberRef{in, n}
			in.members[m.Name] = n
			s.nameMember(ref, path.Dir(container.Outermost(in.path)))
			content, ok := looked.Contents[m.Name]
			if !ok {
				continue
			}
			item := s.itemOf(ref)
			item.Role = ""
			s.recognise(&item, guessRole(m.Name), content, nil)
			if item.Role == "" {
				continue
			}
			item.Size = int64(len(content))
			s.out.Contents[item.Path] = content
			s.take(ref, item)
		}
	}
	s.takeSpoken()
	s.sort()
	for p, in := range s.insides {
		if at, ok := s.index[p]; ok {
			s.out.Items[at].Holds = in.holds(s)
		}
	}
}

// spokenOf returns the files that an entry or the name of a signature speaks of,
// and whether any of those has no file.
func (s *planner) spokenOf() (spoken map[string]bool, wanting bool) {
	spoken = map[string]bool{}
	for i := range s.out.Items {
		item := &s.out.Items[i]
		if list := s.lists[item.Path]; list != nil {
			for _, e := range list.Entries.All() {
				if at, ok := s.fileOf(item.Path, e.Name); ok {
					spoken[s.out.Items[at].Path] = true
				} else {
					wanting = true
				}
			}
		}
		if item.Role == Signature {
			readings, _ := s.signedFilesOf(item.Path)
			for _, r := range readings {
				spoken[s.out.Items[r.item].Path] = true
			}
		}
	}
	return spoken, wanting
}

// itemOf makes an item of a member.
func (s *planner) itemOf(m memberRef) Item {
	out := InsideOf(m.in.path, m.in.layout, m.n)
	out.Path, out.Why = m.path(), "something speaks of it"
	return out
}

// InsideOf makes an item of a member of a container, by its place in the layout.
func InsideOf(holder string, layout *container.Layout, at int) Item {
	member := layout.Members[at]
	return Item{
		Path:   holder + container.Separator + member.Name,
		Role:   Artifact,
		Why:    "it was asked for",
		Size:   max(member.Size, 0),
		Inside: &measure.Inside{Of: holder, Compression: layout.Compression, Member: member},
	}
}

// take adds the item of a member, and of each container between it and the
// folder.
func (s *planner) take(m memberRef, item Item) {
	if s.taken[item.Path] || len(s.out.Items) >= s.limits.Files {
		return
	}
	s.taken[item.Path] = true
	s.out.Items = append(s.out.Items, item)
	s.places = nil
	outer, name := container.Within(m.in.path)
	if holder := s.insides[outer]; holder != nil {
		ref := memberRef{holder, holder.members[name]}
		between := s.itemOf(ref)
		between.Why = "it holds files that something speaks of"
		s.take(ref, between)
	}
}

// takeSpoken makes items of the members that entries and signatures name.
func (s *planner) takeSpoken() {
	var spoken []memberRef
	for i := range s.out.Items {
		item := &s.out.Items[i]
		if list := s.lists[item.Path]; list != nil {
			for _, e := range list.Entries.All() {
				if _, ok := s.fileOf(item.Path, e.Name); !ok {
					spoken = append(spoken, s.membersNamed(item.Path, e.Name)...)
				}
			}
		}
		if item.Role == Signature {
			stem := stemOf(item.Path)
			if _, ok := s.index[stem]; !ok {
				_, name := container.Within(stem)
				spoken = append(spoken, s.membersNamed(item.Path, name)...)
			}
		}
	}
	for _, ref := range spoken {
		s.take(ref, s.itemOf(ref))
	}
}

// A callName is what a manifest calls a member of a container: by its whole name, or by
// the last part of it, as seen from a folder or from anywhere.
type callName struct {
	folder   string
	anywhere bool
	whole    bool
	name     string
}

// nameMember notes under which names a member can be meant.
func (s *planner) nameMember(m memberRef, folder string) {
	full := m.member().Name
	for _, call := range []callName{
		{folder: folder, whole: true, name: full},
		{folder: folder, name: path.Base(full)},
		{anywhere: true, whole: true, name: full},
		{anywhere: true, name: path.Base(full)},
	} {
		// One more than can be used tells that they are too many.
		if len(s.called[call]) <= maxReadings {
			s.called[call] = append(s.called[call], m)
		}
	}
}

// membersNamed finds the members that a name in a file may mean. A manifest
// inside a container speaks of that container's members; one in the folder, of
// members of the containers beside it, or else of any.
func (s *planner) membersNamed(from, name string) []memberRef {
	if name == "" { // a bare digest is about what the manifest is named after
		_, inner := container.Within(from)
		name = strings.TrimSuffix(path.Base(inner), path.Ext(inner))
	}
	clean, _, ok := manifest.SafeName(name)
	if !ok || len(s.insides) == 0 {
		return nil
	}
	if in, inner := container.Within(from); in != "" {
		holder := s.insides[in]
		for _, full := range []string{path.Join(path.Dir(inner), clean), clean} {
			if n, ok := holder.members[full]; ok {
				return []memberRef{{holder, n}}
			}
		}
		return nil
	}
	whole := strings.Contains(clean, "/")
	for _, call := range []callName{
		{folder: path.Dir(from), whole: true, name: clean}, {
			folder: path.Dir(from), whole: whole,
			name: clean,
		}, {anywhere: true, whole: whole, name: clean},
	} {
		if found := s.called[call]; len(found) > 0 {
			if len(found) > maxReadings {
				return nil
			}
			return found
		}
	}
	return nil
}

// holds sums up a container for its item.
func (in *inside) holds(s *planner) *Holds {
	l := in.layout
	h := &Holds{
		Trouble: in.trouble, Format: l.Format, Compression: l.Compression, Members: len(l.Members), Links: l.Links,
		Problems: l.Problems, MoreProblems: l.MoreProblems,
	}
	for i := range l.Members {
		if s.taken[in.path+container.Separator+l.Members[i].Name] {
			h.Spoken++
		}
	}
	return h
}

// String describes what a container holds in a few words.
func (h *Holds) String() string {
	if h.Trouble != "" {
		return h.Trouble
	}
	return container.Describe(h.Format, h.Compression, h.Members)
}
