package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A ChangeKind says how a name fares.
type ChangeKind string

// The kinds of change.
const (
	Added     ChangeKind = "added"
	Removed   ChangeKind = "removed"
	Changed   ChangeKind = "changed"
	Renamed   ChangeKind = "renamed"
	Unchanged ChangeKind = "unchanged"
	// Replaced is what has a name of another release; lists are not compared by that.
	Replaced ChangeKind = "replaced"
	// Incomparable: the two give no digest of one algorithm.
	Incomparable ChangeKind = "incomparable"
)

// ChangeKinds lists every kind of change.
func ChangeKinds() []ChangeKind {
	return []ChangeKind{Added, Removed, Changed, Renamed, Replaced, Unchanged, Incomparable}
}

// A Change is how one name fares between two manifests.
type Change struct {
	Kind ChangeKind `json:"kind"`
	Name string     `json:"name"`
	// Was is the name before, of what was renamed, and Before and After are
	// the values of what changed.
	Was    string `json:"was,omitempty"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Compare tells what came, went, changed, was renamed and stayed from one list
// of entries to another, sorted by name. A rename is a name that went and one
// that came with the same digest.
func Compare(before, after Entries) []Change {
	old, new := byName(before), byName(after)
	var out []Change
	var gone, came []string
	for name := range old {
		if _, ok := new[name]; !ok {
			gone = append(gone, name)
			continue
		}
		out = append(out, changeOf(name, old[name], new[name]))
	}
	for name := range new {
		if _, ok := old[name]; !ok {
			came = append(came, name)
		}
	}
	slices.Sort(gone)
	slices.Sort(came)
	byDigest := map[string]string{}
	for _, name := range gone {
		for _, key := range keysOf(old[name]) {
			byDigest[key] = name
		}
	}
	renamed := map[string]bool{}
	for _, name := range came {
		change := Change{Kind: Added, Name: name}
		for _, key := range keysOf(new[name]) {
			if was, ok := byDigest[key]; ok && !renamed[was] {
				change = Change{Kind: Renamed, Name: name, Was: was}
				renamed[was] = true
				break
			}
		}
		out = append(out, change)
	}
	for _, name := range gone {
		if !renamed[name] {
			out = append(out, Change{Kind: Removed, Name: name})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func byName(entries Entries) map[string][]Entry {
	out := map[string][]Entry{}
	for _, e := range entries.All() {
		name, _, ok := SafeName(e.Name)
		if !ok {
			name = e.Name
		}
		out[name] = append(out[name], e)
	}
	return out
}

func keysOf(entries []Entry) []string {
	var out []string
	for _, e := range entries {
		if len(e.Digest) >= 16 { // a CRC is too short to identify a file by
			out = append(out, e.Digest.String())
		}
	}
	return out
}

// changeOf compares two lists of entries about one name: they differ when
// any pair that can be of one algorithm differs.
func changeOf(name string, before, after []Entry) Change {
	compared := false
	for _, b := range before {
		for _, a := range after {
			if !slices.ContainsFunc(
				b.Candidates(), func(c digest.Algorithm) bool { return slices.Contains(a.Candidates(), c) },
			) {
				continue
			}
			compared = true
			if !slices.Equal(a.Digest, b.Digest) {
				return Change{Kind: Changed, Name: name, Before: b.Digest.String(), After: a.Digest.String()}
			}
		}
	}
	if !compared {
		return Change{Kind: Incomparable, Name: name}
	}
	return Change{Kind: Unchanged, Name: name}
}

// CompareVersions compares two plain lists of names and versions, such as the
// package list of a release: a line is a name and a version with white space,
// an equals sign or a comma between. Lines that start with # are passed over.
func CompareVersions(before, after string) []Change {
	old, new := versions(before), versions(after)
	var out []Change
	for name, version := range new {
		was, ok := old[name]
		switch {
		case !ok:
			out = append(out, Change{Kind: Added, Name: name, After: version})
		case was != version:
			out = append(out, Change{Kind: Changed, Name: name, Before: was, After: version})
		default:
			out = append(out, Change{Kind: Unchanged, Name: name, Before: was, After: version})
		}
	}
	for name, version := range old {
		if _, ok := new[name]; !ok {
			out = append(out, Change{Kind: Removed, Name: name, Before: version})
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func versions(text string) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		fields := strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" \t=,", r) })
		if len(fields) > 0 {
			out[fields[0]] = strings.Join(fields[1:], " ")
		}
	}
	return out
}
