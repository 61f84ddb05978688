package survey

import (
	"net/url"
	"path"
	"regexp"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"endeixis/core/manifest"
)

// copied is what a browser puts into the name of a file that it has once already.
var copied = regexp.MustCompile(` ?\(\d{1,3}\)(\.[^./]+(?:\.[a-z0-9]{2,4})?)?$`)

// foldName brings the names into one form that differ harmlessly: in capitals, in how
// Unicode composes them, in directories that are left out, in the encoding of an
// address, in the number that a browser adds.
func foldName(name string) string {
	name = strings.ReplaceAll(name, `\`, "/")
	if strings.IndexByte(name, '%') >= 0 {
		if decoded, err := url.PathUnescape(name); err == nil {
			name = decoded
		}
	}
	base := path.Base(name)
	if strings.IndexByte(base, '(') >= 0 {
		base = copied.ReplaceAllString(base, "$1")
	}
	for i := 0; i < len(base); i++ {
		if base[i] >= utf8.RuneSelf {
			return norm.NFC.String(cases.Fold().String(norm.NFC.String(base)))
		}
	}
	return strings.ToLower(base)
}

// renamed returns the files that may be the one that an entry names, under a name that
// differs harmlessly. There are none where the name itself is unsafe.
func (s *planner) renamed(from, name string) []int {
	if _, _, safe := manifest.SafeName(name); !safe {
		return nil
	}
	if s.byFold == nil {
		s.byFold = map[string][]int{}
		for i := range s.out.Items {
			if it := &s.out.Items[i]; it.Role == Artifact && it.Inside == nil {
				fold := foldName(it.Path)
				s.byFold[fold] = append(s.byFold[fold], i)
			}
		}
	}
	var out []int
	for _, at := range s.byFold[foldName(name)] {
		if len(out) < maxReadings && s.out.Items[at].Path != from {
			out = append(out, at)
		}
	}
	return out
}

// namelessFor returns the files that an entry without a name may be about where no one is
// certain: those of the same stem as the manifest, or any artifact beside it, while they
// are few.
func (s *planner) namelessFor(from string) []int {
	near := s.nearby(from, Artifact)
	same := s.beginning(near, stemOf(from)+".", maxReadings+1)
	switch {
	case len(same) > 0 && len(same) <= maxReadings:
		return same
	case len(near.items) <= maxReadings:
		return near.items
	}
	return nil
}
