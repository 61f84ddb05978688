package manifest

import (
	"slices"
	"strings"

	"endeixis/core/digest"
)

// recordNames are the names of files that a record of a document gives.
type recordNames struct {
	// own is the one that its digests without further words are of.
	own string
	// of are those of members with further words, by these: “installer” of
	// “InstallerUrl”.
	of   map[string]string
	size *size
	// packaged is set for a record that is about a package and names no file, and
	// versioned for one that states a version.
	packaged, versioned bool
}

// strongNames are members that hold the name of a file and nothing else.
var strongNames = wordSet(
	`originalname originalfilename file filename filepath path pathname packagefilename file_name fileName bestandsnaam dateiname archivo fichier имя_файла 文件名`,
)

// A nameSearch goes through the members of a record for the name of its file.
type nameSearch struct {
	t *tree
	n *node
	// strong is what a member for file names holds, address what one for addresses does,
	// and weak what one for names of any kind does.
	strong, address, weak string
	// kind is what the record says it is about.
	kind string
	out  recordNames
}

// namesOf finds the name of the file that a record is about.
func (t *tree) namesOf(n *node) recordNames {
	s := nameSearch{t: t, n: n}
	if key := t.keyOf(n); key.hash && (key.label != digest.Unknown || n.text != "") {
		// What is called its name there is that of an algorithm.
		for _, kid := range n.kids {
			if kid.scalar && strongNames[t.keyOf(kid).folded] {
				s.out.own = kid.text
			}
		}
		return s.out
	}
	if text := strings.TrimSpace(n.text); looksLikeFile(text) && !strings.Contains(text, "\n") {
		s.strong = text
	}
	for _, kid := range n.kids {
		s.member(kid)
	}
	return s.decide()
}

// member looks at one member of the record.
func (s *nameSearch) member(kid *node) {
	key := s.t.keyOf(kid)
	switch {
	case kid.list:
		s.mirrors(kid)
	case sizeWords[key.folded] || key.folded == "packagesize":
		s.size(kid)
	case kid.scalar:
		s.take(kid.key, kid.text)
	default:
		s.element(kid, key)
	}
}

// mirrors looks at a list: several addresses of one file are its mirrors.
func (s *nameSearch) mirrors(list *node) {
	if !addressWords[foldWords(strings.TrimSuffix(list.key, "s"))] && !addressWords[s.t.keyOf(list).folded] ||
		!allScalars(list) {
		return
	}
	base := ""
	for _, item := range list.kids {
		b := nameOfAddress(item.text)
		if base != "" && b != base {
			return
		}
		base = b
	}
	if base != "" {
		s.take("url", base)
	}
}

func (s *nameSearch) size(kid *node) {
	text := kid.text
	for _, attribute := range kid.kids {
		if attribute.key == "package" {
			text = attribute.text
		}
	}
	if size := statedSize(text); size != nil && s.out.size == nil {
		s.out.size = size
	}
}

// element looks at a member that holds others: “<location href=…/>”, an element that
// holds nothing but a name, annotations.
func (s *nameSearch) element(kid *node, key *memberKey) {
	named := addressWords[key.folded] || nameWords[key.folded]
	if named || kid.text == "" && leadsElsewhere(kid) {
		s.attributes(kid) // “<location href=…/>”, “<FLocat xlink:href=…/>”
	}
	if named && kid.text != "" &&
		!slices.ContainsFunc(kid.kids, func(k *node) bool { return !k.scalar || s.t.keyOf(k).hash }) {
		s.take(kid.key, kid.text)
	}
	if key.folded == "annotations" {
		for _, a := range kid.kids {
			if strings.HasSuffix(a.key, ".title") {
				s.take("x.title", a.text)
			}
		}
	}
}

// attributes looks for an address among the attributes of an element.
func (s *nameSearch) attributes(n *node) {
	for _, a := range n.kids {
		if a.scalar && addressWords[s.t.keyOf(a).folded] {
			s.take("location", a.text)
		}
	}
}

// leadsElsewhere reports whether an element holds nothing but attributes, and no digest
// among them.
func leadsElsewhere(n *node) bool {
	for _, kid := range n.kids {
		if !kid.scalar || digitRun(kid.text) >= 32 {
			return false
		}
	}
	return len(n.kids) > 0
}

// maxMemberName bounds a member that can be a name, and maxMemberAddress one that can be
// an address.
const (
	maxMemberName    = 512
	maxMemberAddress = 4096
)

// take looks at a scalar member of the record.
//
//nolint:cyclop // a list of cases, one for each kind of member that names a file
func (s *nameSearch) take(name, text string) {
	text = strings.TrimSpace(text)
	base, ok := baseOf(text)
	if !ok {
		return
	}
	key := s.t.key(name)
	if s.labels(key, text) {
		return // “{"name": "sha-256", "value": …}”
	}
	last := key.last()
	switch {
	case strongNames[key.folded]:
		if s.strong == "" && text != "true" && text != "false" {
			s.strong = base
		}
	case addressWords[key.folded]:
		s.takeAddress(key, text, base)
	case weakKey(key, base):
		if !looksLikeFile(s.weak) {
			s.weak = base
		}
	case last == "title" && strings.Contains(name, "."):
		s.weak = base
	case len(key.words) > 1 && (addressWords[last] || strongNames[last]) && looksLikeFile(base):
		if s.out.of == nil {
			s.out.of = map[string]string{}
		}
		s.out.of[strings.Join(key.words[:len(key.words)-1], " ")] = base
	case strings.HasPrefix(key.folded, "version"), versionKeys[key.folded]:
		s.out.versioned = true
	case key.folded == "type":
		s.kind = strings.ToLower(text)
	}
}

// versionKeys are members by which a record is about a version of something.
var versionKeys = wordSet(`vers purl downloadlocation`)

// weakKey reports whether a member may hold the name of a file, and of much else.
func weakKey(key *memberKey, base string) bool {
	return nameWords[key.folded] || key.folded == "title" ||
		(key.folded == "id" || key.folded == "key") && looksLikeFile(base)
}

// baseOf returns what of a member's text may be a name: of an address the last part. ok
// is false for a text that can be none.
func baseOf(text string) (base string, ok bool) {
	address := isAddress(text)
	switch {
	case text == "", len(text) > maxMemberAddress, len(text) > maxMemberName && !address:
		return "", false
	case !address:
		return text, true
	}
	if scheme, _, _ := strings.Cut(text, "://"); strings.Contains(scheme, "git") {
		return "", false
	}
	base = nameOfAddress(text)
	return base, base != ""
}

// labels reports whether a member for names holds that of an algorithm.
func (s *nameSearch) labels(key *memberKey, text string) bool {
	if !nameWords[key.folded] && key.folded != "title" && key.folded != "key" {
		return false
	}
	label, _ := labelOfKey(text)
	return label != digest.Unknown && !looksLikeFile(text)
}

func (s *nameSearch) takeAddress(key *memberKey, text, base string) {
	switch {
	case (s.address == "" || !looksLikeFile(s.address)) && (looksLikeFile(base) || isAddress(text) && strings.Contains(base, ".")):
		s.address = base
	case s.address == "" && (key.folded == "location" || key.folded == "href") && !isAddress(text):
		s.address = base
	}
}

// decide says which of the names that were found is that of the record's file.
func (s *nameSearch) decide() recordNames { //nolint:cyclop // cases, in the order of belief
	out := &s.out
	if isAddress(s.weak) {
		s.weak = nameOfAddress(s.weak)
	}
	switch {
	case s.strong != "":
		out.own = s.strong
	case looksLikeFile(s.weak):
		out.own = s.weak
	case s.address != "":
		out.own = s.address
	case namesFile(s.n.key, out.versioned):
		// The record is that of the file it stands under; what is called so in it is what the file is of.
		out.own = s.n.key
	case s.weak != "":
		s.decideWeak()
	}
	if out.own == "" && len(out.of) == 1 {
		for _, name := range out.of {
			out.own = name
		}
	}
	if s.kind != "" && s.kind != "file" && out.own != "" && out.own == s.weak && !looksLikeFile(s.weak) {
		out.own, out.packaged = "", true
	}
	out.packaged = out.packaged || out.versioned && out.own == ""
	return *out
}

// decideWeak says whether a name without the form of a file's is one all the same: where
// it is known, or the record says so or holds digests by itself.
func (s *nameSearch) decideWeak() {
	switch {
	case s.t.p.known.is(s.weak) || s.kind == "file" || !s.out.versioned && s.kind == "":
		if s.t.holdsDigests(s.n) {
			s.out.own = s.weak
		}
	case s.out.versioned:
		s.out.packaged = true
	}
}

// holdsDigests reports whether a record holds digests by itself.
func (t *tree) holdsDigests(n *node) bool {
	return slices.ContainsFunc(n.kids, func(k *node) bool {
		key := t.keyOf(k)
		return key.label != digest.Unknown && len(key.extra) == 0 || key.hash
	})
}

// namesFile reports whether the key of a record has the form of a file's name. Where the
// record has a version, the key may be a package with its version, unless its ending is
// that of a file.
func namesFile(key string, versioned bool) bool {
	return looksLikeFile(key) && (!versioned || endings[strings.ToLower(key[strings.LastIndexByte(key, '.')+1:])])
}
