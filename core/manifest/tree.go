package manifest

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A node is a part of a structured document, whatever its notation: a member of an
// object, an item of a list, an element or an attribute.
type node struct {
	// key is the name of the member, element or attribute, and empty for an item.
	key string
	// text is that of a scalar, or what an element holds beside other elements.
	text   string
	scalar bool
	list   bool
	line   int
	column int
	kids   []*node
	// said is what key says, once that was asked for.
	said *memberKey
}

// maxDepth bounds how deep documents are nested.
const maxDepth = 200

// A tree reads structured documents by one rule. A value belongs to the record that it
// stands in, if that names one file; what is between them may only be words for digests
// and algorithms. A member of another name is about something else.
type tree struct {
	p      *parser
	format Format
	// nameless are labelled values of records that name no file.
	nameless []Entry
	// texts are scalars that hold whole lists.
	texts []row
	// keys are names of members that were seen, with what they say.
	keys map[string]*memberKey
}

// A scope is what the records around a node say.
type scope struct {
	name  string
	label digest.Algorithm
	size  *size
	// hashes is set inside a member that is there for digests.
	hashes bool
	// package is set inside of records about a package and no file of it.
	packaged bool
	// other is the word over all of this that says it is about something else.
	other string
	// saysItself is set for a value with the name of its algorithm in front.
	saysItself bool
	// over is the algorithm that a record around all of this states.
	over  digest.Algorithm
	depth int
}

// read adds what a document says.
func (p *parser) tree(root *node, f Format) {
	t := &tree{p: p, format: f}
	t.visit(root, scope{}, nil)
	if len(t.texts) > 0 {
		p.layOut(t.texts)
	}
	if p.out.Entries.Len() == 0 {
		for _, e := range t.nameless {
			p.add(e)
		}
	}
}

// neutral are members that only hold other members together.
var neutral = wordSet(
	`objectcharacteristics characteristics attributes attribute properties props fileinfo info file files artifact archive content verification dist distribution security
	data details metadata_of resource item items entry entries asset assets release stable custom annotations downloads download subject object`,
)

// visit goes through a node that is no scalar.
func (t *tree) visit(n *node, s scope, parent *node) {
	if s.depth > maxDepth || t.p.overfull {
		return
	}
	s.depth++
	if n.list {
		t.listOf(n, s)
		return
	}
	names := t.namesOf(n)
	t.enter(n, &s, &names, parent)
	s.packaged = s.packaged || names.packaged
	sibling, said := t.siblingLabel(n)
	in := record{n: n, scope: s, names: names, sibling: sibling, said: said}
	if sibling != digest.Unknown && !t.holdsDigests(n) {
		s.over = sibling // “{"algorithm": …, "items": […]}”
		in.scope.over = sibling
	}
	in.nameMap = t.isNameMap(n, s)
	if n.text != "" {
		t.value(&node{key: n.key, text: n.text, scalar: true, line: n.line, column: n.column}, &in)
	}
	for _, kid := range n.kids {
		if kid.scalar {
			t.value(kid, &in)
			continue
		}
		t.visit(kid, s, n)
	}
	t.parallel(n)
}

// enter changes a scope to that of the members of a node.
//
//nolint:cyclop // a list of cases, one for each kind of member
func (t *tree) enter(n *node, s *scope, names *recordNames, parent *node) {
	key := t.keyOf(n)
	switch {
	case names.own != "":
		s.name, s.size, s.packaged, s.other = names.own, names.size, false, ""
		if !key.hash && (n.key != "" || s.label == digest.Unknown) {
			s.label, s.hashes = digest.Unknown, false
		}
	case t.namedByKey(n, names, parent):
		s.name, s.size = n.key, names.size
		s.label, s.hashes, s.packaged = digest.Unknown, false, false
	case n.key == "" || parent == nil:
		if n.key == "" && !s.hashes {
			s.name, s.size = "", names.size
		}
	case key.label != digest.Unknown && len(key.extra) == 0:
		s.label, s.hashes = key.label, true
	case key.hash:
		s.hashes = true
	case neutral[key.folded] && !parent.list:
		if names.size != nil {
			s.size = names.size
		}
	default:
		s.name, s.size, s.label, s.hashes = "", names.size, digest.Unknown, false
		if key.other != "" {
			s.other = key.other
		}
	}
}

// namedByKey reports whether the key of a record is the name of its file.
func (t *tree) namedByKey(n *node, names *recordNames, parent *node) bool {
	return t.p.known.is(n.key) || namesFile(n.key, names.versioned) ||
		parent != nil && listsFiles(parent.key) && t.holdsDigests(n)
}

// listsFiles reports whether the members of a record of that name are called as files.
func listsFiles(key string) bool { return strings.TrimRight(foldWords(key), "0123456789") == "files" }

// listOf goes through a list.
func (t *tree) listOf(n *node, s scope) {
	key := t.keyOf(n)
	if t.namesUnderDigest(n, s) {
		return
	}
	switch {
	case key.label != digest.Unknown && len(key.extra) == 0:
		s.label, s.hashes = key.label, true
	case key.hash:
		s.hashes = true
	case n.key != "" && !neutral[key.folded]:
		if key.other != "" {
			s.other = key.other
		}
		s.name, s.hashes, s.label = "", false, digest.Unknown
	}
	for _, kid := range n.kids {
		switch {
		case kid.scalar:
			t.value(kid, &record{n: n, scope: s})
		case kid.list && allScalars(kid):
			t.rowOf(kid, s)
		default:
			t.visit(kid, s, n)
		}
	}
}

// namesUnderDigest reads a list of names under the digest that they have.
func (t *tree) namesUnderDigest(n *node, s scope) bool {
	if !isDigestKey(n.key) || len(n.kids) == 0 || !allScalars(n) {
		return false
	}
	decoded, _ := decodeHex(n.key)
	for _, kid := range n.kids {
		t.emit(&node{line: n.line, column: n.column}, kid.text, decoded, s.label, nil, s)
	}
	return true
}

// isDigestKey reports whether the name of a member has the form of a digest.
func isDigestKey(name string) bool {
	return len(name) >= 32 && allHex(name) && digest.OfSize(len(name)/2) != nil
}

// isNameMap reports whether a record is a map from names to digests: every member is a
// digest of one length, and none is called as what holds digests is.
func (t *tree) isNameMap(n *node, s scope) bool { //nolint:cyclop // one check for each thing that such a map has not
	size := 0
	for _, kid := range n.kids {
		if key := t.keyOf(kid); !kid.scalar || kid.key == "" || key.label != digest.Unknown || key.hash ||
			key.other != "" {
			return false
		}
		v, ok := decodeHex(kid.text)
		if !ok || len(v) < 16 || digest.OfSize(len(v)) == nil || size != 0 && len(v) != size {
			return false
		}
		size = len(v)
	}
	return size > 0 && s.other == "" &&
		(s.hashes || t.p.listName || slices.ContainsFunc(n.kids, func(k *node) bool { return looksLikeFile(k.key) }))
}

func allScalars(n *node) bool {
	return !slices.ContainsFunc(n.kids, func(k *node) bool { return !k.scalar })
}

// rowOf reads a list of scalars as a row: one name and its values.
func (t *tree) rowOf(n *node, s scope) {
	for _, kid := range n.kids {
		if values := digestsIn(kid.text); len(values) > 0 &&
			values[0].to-values[0].from < len(kid.text) {
			// Each is a line of its own.
			for _, kid := range n.kids {
				t.value(kid, &record{n: n})
			}
			return
		}
	}
	name := ""
	for _, kid := range n.kids {
		if looksLikeFile(kid.text) || t.p.known.is(kid.text) {
			if name != "" {
				return
			}
			name = kid.text
		}
	}
	s.name, s.hashes = name, name != ""
	for _, kid := range n.kids {
		if kid.text != name {
			t.value(kid, &record{n: n, scope: s})
		}
	}
}

// parallel ties two lists of one record, of names and of digests, item by item.
func (t *tree) parallel(n *node) {
	var names *node
	var values []*node
	for _, kid := range n.kids {
		if !kid.list || len(kid.kids) == 0 || !allScalars(kid) {
			continue
		}
		switch key := t.keyOf(kid); {
		case key.label != digest.Unknown || key.hash:
			values = append(values, kid)
		case isWordOf(key.words, nameWords, addressWords) || kid.key == "sources":
			if names != nil {
				return
			}
			names = kid
		}
	}
	if names == nil {
		return
	}
	for _, list := range values {
		if len(list.kids) == len(names.kids) {
			t.pairs(names, list)
		}
	}
}

// pairs ties each value of a list to the name in its place.
func (t *tree) pairs(names, values *node) {
	label := t.keyOf(values).label
	for i, kid := range values.kids {
		name := names.kids[i].text
		if isAddress(name) {
			name = nameOfAddress(name)
		}
		if name != "" {
			t.value(kid, &record{n: values, scope: scope{name: name, label: label, hashes: true}})
		}
	}
}

// A record is what surrounds a scalar of a document.
type record struct {
	n     *node
	scope scope
	names recordNames
	// sibling is the algorithm that the record states for its value, and said what it says
	// where that is none that is known.
	sibling digest.Algorithm
	said    string
	// nameMap is set for a map from names to digests.
	nameMap bool
	// looked is set once it is known whether the record is ofObjects, of a repository, or
	// ofPackage, several files of one together.
	looked, ofObjects, ofPackage bool
}

// A scalar is a value of a document with what its key and its record say of it.
type scalar struct {
	*node
	key  *memberKey
	in   *record
	text string
	// label is the algorithm, and extra are the words besides it.
	label digest.Algorithm
	extra []string
	// hashKey is set where the key says that this is a digest, and fileKey where it is the
	// name of a file.
	hashKey, fileKey bool
}

// value looks at a scalar of a record.
func (t *tree) value(v *node, in *record) {
	s := &scalar{node: v, key: t.keyOf(v), in: in, text: strings.TrimSpace(v.text)}
	if t.keyIsDigest(s) || len(s.text) < minDigits && (in.said == "" || !s.key.hash) {
		return
	}
	if why := s.otherThan(); why != "" {
		t.p.aside.note(v.line, why)
		return
	}
	if isMarkup(s.text) {
		t.p.page(v.text, v.line)
		return
	}
	t.readKey(s)
	values := t.valuesOf(s)
	for _, more := range []digest.Algorithm{in.sibling, in.scope.label, in.scope.over} {
		if s.label == digest.Unknown {
			s.label = more
		}
	}
	if s.ofUnknownAlgorithm() {
		t.p.out.Lines++
		t.p.problemAt(
			v.line, UnknownLabel,
			fmt.Sprintf("%s is not an algorithm we can compute", plain.Quoted(clip([]byte(in.said)))),
		)
		return
	}
	if found, ok := s.whole(values); ok {
		t.wholeValue(s, found)
		return
	}
	t.composed(s, values)
}

// valuesOf finds the values in a scalar. Most are one and nothing else.
func (t *tree) valuesOf(s *scalar) []value {
	if decoded, ok := aloneHex(s.text); ok {
		return []value{{to: len(s.text), digest: decoded}}
	}
	crc := s.label.Size() == 4 || s.in.scope.label.Size() == 4 || s.in.sibling.Size() == 4
	return valuesIn(s.text, crc, s.label)
}

// readKey takes what the key of a scalar says.
func (t *tree) readKey(s *scalar) {
	name := s.node.key
	s.label, s.extra = s.key.label, s.key.extra
	if n := len(s.key.words); s.label == digest.Unknown && n > 1 && hashWords[s.key.last()] && !s.key.hash {
		s.extra = s.key.words[:n-1] // “source-checksum”
	}
	s.hashKey = s.label != digest.Unknown || s.key.hash || len(s.extra) > 0 || name == "" && s.in.scope.hashes
	s.fileKey = s.in.nameMap || looksLikeFile(name) || t.p.known.is(name)
}

// ofUnknownAlgorithm reports whether the record says that the value is of an algorithm that
// is not known here.
func (s *scalar) ofUnknownAlgorithm() bool {
	return s.label == digest.Unknown && s.hashKey && s.in.said != "" && s.text != s.in.said &&
		!strings.Contains(s.text, " ") &&
		!isAddress(s.text)
}

// keyIsDigest reads the digest as the name of a member, with the file's as its value.
func (t *tree) keyIsDigest(s *scalar) bool {
	name := s.node.key
	if !isDigestKey(name) || !looksLikeFile(s.text) {
		return false
	}
	decoded, _ := decodeHex(name)
	t.emit(s.node, s.text, decoded, s.in.scope.label, nil, s.in.scope)
	return true
}

// otherThan says what a scalar is, if its key or its record say that it is no digest of a
// file.
func (s *scalar) otherThan() string {
	switch {
	case s.key.other != "" && (s.key.label == digest.Unknown || len(s.key.extra) > 0):
		return "it is of something else than a file: “" + s.key.other + "” stands over it"
	case s.in.scope.other != "":
		return "it is of something else than a file: “" + s.in.scope.other + "” stands over it"
	}
	s.in.look()
	switch {
	case s.in.ofPackage:
		return "it is a code over several files of a package"
	case s.in.ofObjects && s.key.folded == "sha" && len(s.text) == 40:
		return "it is of a repository's object, not of a file"
	}
	return ""
}

// look learns once what else than a file a record may be about.
func (r *record) look() {
	if !r.looked {
		r.looked, r.ofObjects, r.ofPackage = true, r.ofRepository(), r.verifiesPackage()
	}
}

// verifiesPackage reports whether a record is about several files of a package together.
func (r *record) verifiesPackage() bool {
	return slices.ContainsFunc(r.n.kids, func(k *node) bool {
		return k.scalar && k.key == "type" && foldWords(k.text) == "packageverificationcode"
	})
}

// ofRepository reports whether a record speaks of a repository's objects.
func (r *record) ofRepository() bool {
	return slices.ContainsFunc(r.n.kids, func(k *node) bool {
		f := foldWords(k.key)
		return strings.Contains(f, "git") || strings.Contains(f, "commit") || strings.Contains(f, "tree") ||
			k.text == "blob"
	})
}

// whole returns the value that is all of a scalar.
func (s *scalar) whole(values []value) (value, bool) {
	if len(values) == 1 && values[0].from == 0 && values[0].to == len(s.text) {
		return values[0], true
	}
	if s.hashKey && s.label == digest.Unknown {
		if decoded := unlabelledBase64(s.text); decoded != nil {
			return value{to: len(s.text), digest: decoded, encoded: true}, true
		}
	}
	if (s.hashKey || s.fileKey) && s.label != digest.Unknown {
		if decoded := decodeBase64(s.text); len(decoded) == s.label.Size() && len(s.text) >= 4*s.label.Size()/3 {
			return value{to: len(s.text), digest: decoded, algorithm: s.label, encoded: true}, true
		}
	}
	return value{}, false
}

// unlabelledBase64 returns the digest that a text is in base64, of whatever algorithm, or
// nil for one that may be a word.
func unlabelledBase64(text string) digest.Value {
	if len(text) < leastPart || !mixed(text) || mostlyHex([]byte(text)) {
		return nil
	}
	if decoded := decodeBase64(text); len(decoded) >= 16 && digest.OfSize(len(decoded)) != nil {
		return decoded
	}
	return nil
}

// wholeValue takes a scalar that is a value and nothing else.
func (t *tree) wholeValue(s *scalar, found value) {
	name, why := s.nameOf(found)
	if why != "" {
		t.p.aside.note(s.line, why)
		return
	}
	in := s.in.scope
	if found.algorithm != digest.Unknown {
		s.label, in.saysItself = found.algorithm, !found.encoded
	}
	t.p.out.Lines++
	if found.digest == nil {
		t.p.problemAt(s.line, BadDigest, notADigest+found.wrong)
		return
	}
	folded := s.key.folded
	if s.label != digest.Unknown && s.label.Size() != len(found.digest) {
		candidates, wrong := ofLabel(s.label, len(found.digest))
		switch {
		case folded == "sha" || folded == "cksum" || folded == "crc":
			s.label = digest.Unknown // the word is used for any
		case wrong != "":
			t.p.problemAt(s.line, BadDigest, wrong)
			return
		default:
			s.label = candidates[0]
		}
	}
	if s.label == digest.Unknown && (folded == "sha" || folded == "shasum") {
		s.label = shaOfSize(len(found.digest))
	}
	t.emit(s.node, name, found.digest, s.label, in.size, in)
}

// nameOf returns the name of the file that a value is of, or why it is left aside.
func (s *scalar) nameOf(found value) (name, why string) {
	switch {
	case s.fileKey:
		return s.node.key, ""
	case s.hashKey && len(s.extra) > 0:
		words := strings.Join(s.extra, " ")
		if ownName, ok := s.in.names.of[words]; ok {
			return ownName, ""
		}
		if slices.ContainsFunc(s.extra, func(w string) bool { return !partOfFile[w] }) {
			return "", "it is of something else than the file that is named there: “" + words + "”"
		}
	case !s.hashKey && found.algorithm == digest.Unknown:
		return "", "nothing says that it is a digest of a file"
	case !s.hashKey:
		return "", ""
	}
	return s.in.scope.name, ""
}

// shaOfSize returns the algorithm of the oldest family of that name whose digests have
// so many bytes.
func shaOfSize(n int) digest.Algorithm {
	for _, a := range []digest.Algorithm{digest.SHA1, digest.SHA224, digest.SHA256, digest.SHA384, digest.SHA512} {
		if a.Size() == n {
			return a
		}
	}
	return digest.Unknown
}

// emit adds an entry, or keeps it for later where nothing names its file.
func (t *tree) emit(v *node, name string, value digest.Value, label digest.Algorithm, size *size, s scope) {
	candidates := digest.Only(label)
	if label == digest.Unknown {
		candidates = digest.OfSize(len(value))
		if t.p.hint.Size() == len(value) {
			candidates = digest.Only(t.p.hint)
		}
	}
	name = strings.TrimPrefix(name, "./")
	e := entryOf(name, value, candidates, t.format)
	e.take(size)
	e.at(v.line, max(v.column, 1))
	if name == "" || name == "." {
		e.format, e.Name = codeOf(Bare), ""
		if s.saysItself {
			t.p.add(e) // it says what it is, though not of what
			return
		}
		if s.packaged {
			t.p.aside.note(v.line, notNamed)
			return
		}
		t.p.aside.note(v.line, "no file is named with it")
		t.nameless = append(t.nameless, e)
		return
	}
	t.p.add(e)
}

// composed reads a scalar that holds more than one value, or words around it.
func (t *tree) composed(s *scalar, values []value) {
	p := t.p
	switch {
	case len(values) == 0:
		if s.hashKey && s.label != digest.Unknown && len(s.text) >= minDamaged && mostlyHex([]byte(s.text)) {
			p.out.Lines++
			p.problemAt(
				s.line, BadDigest,
				notADigest+fmt.Sprintf("a %s digest has %d hexadecimal characters", s.label, 2*s.label.Size()),
			)
		}
		t.fragment(s.node, s.text)
	case s.hashKey && s.in.scope.name != "" && !strings.Contains(s.text, "\n"):
		t.several(s, values)
	default:
		for line := range strings.SplitSeq(s.text, "\n") {
			r := rowOf(line, s.line, p.opts.MaxLine)
			r.column = max(s.column, 1)
			t.texts = append(t.texts, r)
		}
		t.texts = append(t.texts, blankRow(s.line))
	}
}

// several reads several values in one scalar, such as “sha256-… sha512-…”.
func (t *tree) several(s *scalar, values []value) {
	for _, found := range values {
		if found.digest == nil {
			t.p.out.Lines++
			t.p.problemAt(s.line, BadDigest, notADigest+found.wrong)
			continue
		}
		a := found.algorithm
		if a == digest.Unknown {
			a = s.label
		}
		if a == digest.Unknown || a.Size() == len(found.digest) {
			t.emit(s.node, s.in.scope.name, found.digest, a, s.in.scope.size, s.in.scope)
		}
	}
}

// fragment reads the digest that an address carries behind its end.
func (t *tree) fragment(v *node, text string) {
	address, fragment, ok := strings.Cut(text, "#")
	if !ok || !isAddress(address) && !looksLikeFile(path.Base(address)) {
		return
	}
	key, value, two := strings.Cut(fragment, "=")
	if !two {
		return
	}
	label, known := algorithmOf(key)
	digits, whole := decodeHex(value)
	if !known || !whole || label.Size() != len(digits) {
		return
	}
	name := nameOfAddress(address)
	if name == "" {
		return
	}
	t.emit(v, name, digits, label, nil, scope{})
}
