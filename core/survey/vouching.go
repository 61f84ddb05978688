package survey

import (
	"path"
	"slices"
	"strings"

	"endeixis/core/container"
)

// NamedToVouch reports whether the name of a file says that it may vouch for another: a
// manifest, a signature or a key.
func NamedToVouch(name string) bool {
	guess := guessRole(name)
	return guess != "" && guess != maybeText
}

// CanVouch reports whether a file of this name and size may vouch for another, so that it
// is worth looking at when only that other file is asked about: a manifest, a signature, a
// key, or any text of bounded size.
func CanVouch(name string, size int64) bool {
	if NamedToVouch(name) {
		return true
	}
	ext := strings.ToLower(path.Ext(name))
	_, _, compressed := container.OfName(name)
	return size > 0 && size <= maxText && !compressed && !slices.Contains(opaque, ext)
}

// Vouching returns the paths of some files of a plan and of all that vouches for them:
// manifests that list them, signatures over either, and receipts.
func Vouching(plan *Survey, wanted []string) map[string]bool {
	out := map[string]bool{}
	byPath := make(map[string]*Item, len(plan.Items))
	for i := range plan.Items {
		byPath[plan.Items[i].Path] = &plan.Items[i]
	}
	var take func(p string)
	take = func(p string) {
		p = container.Outermost(p)
		item := byPath[p]
		if item == nil || out[p] {
			return
		}
		out[p] = true
		for _, l := range item.Listed {
			take(l.Manifest)
		}
		for _, o := range item.Signatures {
			take(o.File)
		}
	}
	for _, p := range wanted {
		take(p)
	}
	for _, p := range receiptsOf(plan, out) {
		take(p)
	}
	return out
}

// Only returns the findings that concern some files of the folder.
func (f *Findings) Only(files map[string]bool) *Findings {
	out := &Findings{Files: []Found{}, Containers: []Looked{}}
	for _, file := range f.Files {
		if files[file.Path] {
			out.Files = append(out.Files, file)
		}
	}
	for _, c := range f.Containers {
		if files[container.Outermost(c.Path)] {
			out.Containers = append(out.Containers, c)
		}
	}
	return out
}
