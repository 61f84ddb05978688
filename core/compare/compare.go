// Package compare tells what differs between two sets of files that were verified, and between the
// packages that two lists or bills of materials name. It decides nothing.
package compare

import (
	"cmp"
	"path"
	"slices"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/release"
)

// A File is one of a set.
type File struct {
	// N is the caller's number of it.
	N    int
	Path string
	Size int64
	// SHA256 is nil for one that was not measured.
	SHA256 digest.Value
	// Verdict is empty for what has none. Files are not compared by it.
	Verdict judge.Verdict
}

// A Change is how a file fares from one set to another. Before is nil for one that came, and After for one that went.
type Change struct {
	Kind          manifest.ChangeKind
	Before, After *File
}

// Path is where the file lies, or lay.
func (c Change) Path() string {
	if c.After != nil {
		return c.After.Path
	}
	return c.Before.Path
}

// Files tells how each file of two sets fares, sorted by path. Files are the same by their path. Of the others, two
// with the same bytes are one that was renamed; and where one that went and one that came have the same name but for
// what stands for the release, and no others have it, the one replaced the other.
func Files(before, after []File) []Change {
	old := map[string]*File{}
	for i := range before {
		old[before[i].Path] = &before[i]
	}
	var out []Change
	var came []*File
	for i := range after {
		now := &after[i]
		was, ok := old[now.Path]
		if !ok {
			came = append(came, now)
			continue
		}
		delete(old, now.Path)
		kind := manifest.Unchanged
		switch {
		case was.SHA256 == nil || now.SHA256 == nil:
			kind = manifest.Incomparable
		case !slices.Equal(was.SHA256, now.SHA256):
			kind = manifest.Changed
		}
		out = append(out, Change{kind, was, now})
	}
	var gone []*File
	for i := range before {
		if f := &before[i]; old[f.Path] == f {
			gone = append(gone, f)
		}
	}
	pair := func(kind manifest.ChangeKind, key func(*File) string, alone bool) {
		of := map[string][]*File{}
		for _, f := range gone {
			if k := key(f); k != "" {
				of[k] = append(of[k], f)
			}
		}
		with := map[string]int{}
		for _, f := range came {
			with[key(f)]++
		}
		paired := map[*File]bool{}
		for _, f := range came {
			k := key(f)
			if k == "" || len(of[k]) == 0 || alone && (len(of[k]) > 1 || with[k] > 1) {
				continue
			}
			was := of[k][0]
			of[k] = of[k][1:]
			paired[was], paired[f] = true, true
			out = append(out, Change{kind, was, f})
		}
		isPaired := func(f *File) bool { return paired[f] }
		gone, came = slices.DeleteFunc(gone, isPaired), slices.DeleteFunc(came, isPaired)
	}
	pair(manifest.Renamed, func(f *File) string { return string(f.SHA256) }, false)
	pair(manifest.Replaced, stemOf, true)
	for _, f := range gone {
		out = append(out, Change{manifest.Removed, f, nil})
	}
	for _, f := range came {
		out = append(out, Change{manifest.Added, nil, f})
	}
	slices.SortStableFunc(out, func(a, b Change) int { return cmp.Compare(a.Path(), b.Path()) })
	return out
}

// stemOf is the folder and name of a file without what stands for the release, or empty where that tells nothing.
func stemOf(f *File) string {
	name := release.Of(f.Path)
	if name.Release == "" || !name.Telling() {
		return ""
	}
	return path.Join(path.Dir(f.Path), name.Stem)
}
