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
}

// A scope is what the records around a node say.
type scope struct {
	name  string
	label digest.Algorithm
	size  *int64
	// hashes is set inside a member that is there for digests.
	hashes bool
	// package is set inside of records about a package and no file of it.
	packaged bool
	// other is the word over all of this that says it is about something else.
	other string
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
var neutral = wordSet(`attributes attribute properties props fileinfo info file files artifact archive content verification dist distribution security
	data details metadata_of resource item items entry entries asset assets release stable custom annotations downloads download subject object`)

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
	words := splitKey(n.key)
	label, extra := labelOfKey(n.key)
	switch {
	case names.own != "":
		s.name, s.size, s.packaged, s.other = names.own, names.size, false, ""
		if !isHashWord(words) && (n.key != "" || s.label == digest.Unknown) {
			s.label, s.hashes = digest.Unknown, false
		}
	case t.p.known.is(n.key) || namesFile(n.key, names.versioned):
		s.name, s.size = n.key, names.size
		s.label, s.hashes, s.packaged = digest.Unknown, false, false
	case n.key == "" || parent == nil:
		if n.key == "" && !s.hashes {
			s.name, s.size = "", names.size
		}
	case label != digest.Unknown && len(extra) == 0:
		s.label, s.hashes = label, true
	case isHashWord(words):
		s.hashes = true
	case neutral[foldWords(n.key)] && parent != nil && !parent.list:
		if names.size != nil {
			s.size = names.size
		}
	default:
		s.name, s.size, s.label, s.hashes = "", names.size, digest.Unknown, false
		for _, w := range words {
			if otherWords[w] {
				s.other = w
			}
		}
	}
	if names.packaged {
		s.packaged = true
	}
	sibling, said := t.siblingLabel(n)
	if n.text != "" {
		t.value(&node{key: n.key, text: n.text, scalar: true, line: n.line, column: n.column}, n, s, names, sibling, said)
	}
	for _, kid := range n.kids {
		if kid.scalar {
			t.value(kid, n, s, names, sibling, said)
			continue
		}
		t.visit(kid, s, n)
	}
	t.parallel(n)
}

// listOf goes through a list.
func (t *tree) listOf(n *node, s scope) {
	label, extra := labelOfKey(n.key)
	words := splitKey(n.key)
	switch {
	case label != digest.Unknown && len(extra) == 0:
		s.label, s.hashes = label, true
	case isHashWord(words):
		s.hashes = true
	case n.key != "" && !neutral[foldWords(n.key)]:
		for _, w := range words {
			if otherWords[w] {
				s.other = w
			}
		}
		s.name, s.hashes, s.label = "", false, digest.Unknown
	}
	for _, kid := range n.kids {
		switch {
		case kid.scalar:
			t.value(kid, n, s, recordNames{}, digest.Unknown, "")
		case kid.list && allScalars(kid):
			t.rowOf(kid, s)
		default:
			t.visit(kid, s, n)
		}
	}
}

func allScalars(n *node) bool {
	return !slices.ContainsFunc(n.kids, func(k *node) bool { return !k.scalar })
}

// rowOf reads a list of scalars as a row: one name and its values.
func (t *tree) rowOf(n *node, s scope) {
	for _, kid := range n.kids {
		if values := valuesIn(kid.text, false, digest.Unknown); len(values) > 0 && values[0].to-values[0].from < len(kid.text) {
			// Each is a line of its own.
			for _, kid := range n.kids {
				t.value(kid, n, scope{}, recordNames{}, digest.Unknown, "")
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
	s.name, s.hashes = name, true
	if name == "" {
		s.hashes = false
	}
	for _, kid := range n.kids {
		if kid.text != name {
			t.value(kid, n, s, recordNames{}, digest.Unknown, "")
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
		label, _ := labelOfKey(kid.key)
		switch words := splitKey(kid.key); {
		case label != digest.Unknown || isHashWord(words):
			values = append(values, kid)
		case isWordOf(words, nameWords, addressWords) || kid.key == "sources":
			if names != nil {
				return
			}
			names = kid
		}
	}
	if names == nil {
		return
	}
	for _, v := range values {
		if len(v.kids) != len(names.kids) {
			continue
		}
		label, _ := labelOfKey(v.key)
		for i, kid := range v.kids {
			name := names.kids[i].text
			if isAddress(name) {
				name = nameOfAddress(name)
			}
			if name != "" {
				t.value(kid, v, scope{name: name, label: label, hashes: true}, recordNames{}, digest.Unknown, "")
			}
		}
	}
}

// recordNames are the names of files that a record gives.
type recordNames struct {
	// own is the one that its digests without further words are of.
	own string
	// of are those of members with further words, by these: “installer” of
	// “InstallerUrl”.
	of   map[string]string
	size *int64
	// packaged is set for a record that is about a package and names no file, and
	// versioned for one that states a version.
	packaged, versioned bool
}

// strongNames are members that hold the name of a file and nothing else.
var strongNames = wordSet(`file filename filepath path pathname packagefilename file_name fileName bestandsnaam dateiname archivo fichier имя_файла 文件名`)

// namesOf finds the name of the file that a record is about.
func (t *tree) namesOf(n *node) (out recordNames) {
	out = recordNames{of: map[string]string{}}
	var strong, address, weak string
	version := false
	kind := ""
	if isHashWord(splitKey(n.key)) {
		if l, _ := labelOfKey(n.key); l != digest.Unknown || n.text != "" {
			// What is called its name there is that of an algorithm.
			for _, kid := range n.kids {
				if kid.scalar && strongNames[foldWords(kid.key)] {
					out.own = kid.text
				}
			}
			return out
		}
	}
	if n.text != "" && (looksLikeFile(strings.TrimSpace(n.text)) && !strings.ContainsAny(strings.TrimSpace(n.text), "\n")) {
		strong = strings.TrimSpace(n.text)
	}
	take := func(key, text string) {
		text = strings.TrimSpace(text)
		if text == "" || len(text) > 4096 || len(text) > 512 && !isAddress(text) {
			return
		}
		folded := foldWords(key)
		words := splitKey(key)
		base := text
		if isAddress(text) {
			scheme, _, _ := strings.Cut(text, "://")
			if strings.Contains(scheme, "git") {
				return
			}
			if base = nameOfAddress(text); base == "" {
				return
			}
		}
		last := ""
		if len(words) > 0 {
			last = words[len(words)-1]
		}
		if label, _ := labelOfKey(text); label != digest.Unknown && !looksLikeFile(text) && (nameWords[folded] || folded == "title" || folded == "key") {
			return // “{"name": "sha-256", "value": …}”
		}
		switch {
		case strongNames[folded]:
			if strong == "" && text != "true" && text != "false" {
				strong = base
			}
		case addressWords[folded]:
			if (address == "" || !looksLikeFile(address)) && (looksLikeFile(base) || isAddress(text) && strings.Contains(base, ".")) {
				address = base
			} else if address == "" && (folded == "location" || folded == "href") && !isAddress(text) {
				address = base
			}
		case nameWords[folded] || folded == "title" || (folded == "id" || folded == "key") && looksLikeFile(base):
			if weak == "" || !looksLikeFile(weak) {
				weak = base
			}
		case last == "title" && strings.Contains(key, "."):
			weak = base
		case len(words) > 1 && (addressWords[last] || strongNames[last]) && looksLikeFile(base):
			out.of[strings.Join(words[:len(words)-1], " ")] = base
		case strings.HasPrefix(folded, "version") || folded == "vers" || folded == "purl" || folded == "downloadlocation":
			version = true
		case folded == "type":
			kind = strings.ToLower(text)
		}
	}
	for _, kid := range n.kids {
		if kid.list {
			// Several addresses of one file are its mirrors.
			if (addressWords[foldWords(strings.TrimSuffix(kid.key, "s"))] || addressWords[foldWords(kid.key)]) && allScalars(kid) {
				base := ""
				for _, item := range kid.kids {
					b := nameOfAddress(item.text)
					if base != "" && b != base {
						base = ""
						break
					}
					base = b
				}
				if base != "" {
					take("url", base)
				}
			}
			continue
		}
		folded := foldWords(kid.key)
		if sizeWords[folded] || folded == "packagesize" {
			text := kid.text
			for _, attribute := range kid.kids {
				if attribute.key == "package" {
					text = attribute.text
				}
			}
			if size := sizeOf(text); size != nil && out.size == nil {
				out.size = size
			}
			continue
		}
		if kid.scalar {
			take(kid.key, kid.text)
			continue
		}
		// “<location href=…/>”, and an element that holds nothing but a name.
		if addressWords[folded] || nameWords[folded] {
			if kid.text != "" && !slices.ContainsFunc(kid.kids, func(k *node) bool { return !k.scalar || isHashWord(splitKey(k.key)) }) {
				take(kid.key, kid.text)
			}
			for _, attribute := range kid.kids {
				if attribute.scalar && addressWords[foldWords(attribute.key)] {
					take("location", attribute.text)
				}
			}
		}
		if folded == "annotations" {
			for _, a := range kid.kids {
				if strings.HasSuffix(a.key, ".title") {
					take("x.title", a.text)
				}
			}
		}
	}
	if isAddress(weak) {
		weak = nameOfAddress(weak)
	}
	out.versioned = version
	defer func() { out.packaged = out.packaged || version && out.own == "" }()
	switch {
	case strong != "":
		out.own = strong
	case weak != "" && looksLikeFile(weak):
		out.own = weak
	case address != "":
		out.own = address
	case namesFile(n.key, version):
		// The record is that of the file it stands under; what is called so in it is what the file is of.
		out.own = n.key
	case weak != "" && (t.p.known.is(weak) || kind == "file" || !version && kind == ""):
		out.own = weak
		if !t.isNameKey(n) {
			out.own = ""
		}
	case weak != "" && version:
		out.packaged = true
	}
	if out.own == "" && len(out.of) == 1 {
		for _, name := range out.of {
			out.own = name
		}
	}
	if kind != "" && kind != "file" && out.own != "" && out.own == weak && !looksLikeFile(weak) {
		out.own, out.packaged = "", true
	}
	return out
}

// namesFile reports whether the key of a record has the form of a file's name. Where the
// record has a version, the key may be a package with its version, unless its ending is
// that of a file.
func namesFile(key string, versioned bool) bool {
	return looksLikeFile(key) && (!versioned || endings[strings.ToLower(key[strings.LastIndexByte(key, '.')+1:])])
}

// isNameKey reports whether a record with a name that has not the form of a file's
// holds digests by itself, so that its name is one after all.
func (t *tree) isNameKey(n *node) bool {
	return slices.ContainsFunc(n.kids, func(k *node) bool {
		label, extra := labelOfKey(k.key)
		return label != digest.Unknown && len(extra) == 0 || isHashWord(splitKey(k.key))
	})
}

// labelOfKey finds the algorithm in the name of a member, and the words besides that
// are none for digests.
func labelOfKey(key string) (digest.Algorithm, []string) {
	if len(key) > 80 || !mayHaveLabel(key) {
		return digest.Unknown, nil
	}
	if a, ok := algorithmOf(key); ok {
		return a, nil
	}
	var at []int
	for _, m := range labelExpression.FindAllStringIndex(key, -1) {
		// It begins a word: “checksumSHA1”, but not “checksum”, which holds “cksum”.
		if m[0] == 0 || !isAlnum(key[m[0]-1]) || key[m[0]] < 'a' && key[m[0]-1] >= 'a' {
			at = m
			break
		}
	}
	if at == nil {
		return digest.Unknown, nil
	}
	a, ok := algorithmOf(key[at[0]:at[1]])
	if !ok || at[1] < len(key) && '0' <= key[at[1]] && key[at[1]] <= '9' {
		return digest.Unknown, nil
	}
	if word := strings.ToLower(key[at[0]:at[1]]); len(word) <= 3 && at[1] < len(key) && isAlnum(key[at[1]]) && key[at[1]] >= 'a' {
		return digest.Unknown, nil // “shared”, “sharing”
	}
	var extra []string
	for _, w := range splitKey(key[:at[0]] + " " + key[at[1]:]) {
		if !hashWords[w] && w != "file" && w != "expected" && w != "base64" && w != "b64" && w != "x" && w != "of" {
			extra = append(extra, w)
		}
	}
	return a, extra
}

// isHashWord reports whether a member's name says that it holds digests.
func isHashWord(words []string) bool {
	found := false
	for _, w := range words {
		switch _, label := algorithmOf(w); {
		case hashWords[w], label:
			found = true
		case w == "file", w == "expected", w == "package", w == "by":
		default:
			return isWordOf(words, hashWords)
		}
	}
	return found
}

// siblingLabel finds the algorithm that a record says its value is of. said is what it
// says, where that is none that is known.
func (t *tree) siblingLabel(n *node) (a digest.Algorithm, said string) {
	for _, kid := range n.kids {
		if words := splitKey(kid.key); !kid.scalar && len(words) > 0 && algorithmWords[words[len(words)-1]] {
			// “<DigestMethod Algorithm=…/>”
			for _, attribute := range kid.kids {
				if found, ok := algorithmOf(attribute.text[strings.LastIndexAny(attribute.text, "#/:_")+1:]); ok {
					return found, ""
				}
			}
		}
		if !kid.scalar || kid.text == "" {
			continue
		}
		folded := foldWords(kid.key)
		named := folded == "name" || folded == "key"
		if label, extra := labelOfKey(kid.text); named && label != digest.Unknown && !looksLikeFile(kid.text) && len(extra) < 3 {
			return label, ""
		}
		named = named && isHashWord(splitKey(n.key))
		if !algorithmWords[folded] && !named {
			continue
		}
		if i := strings.LastIndexAny(kid.text, "#/:"); i >= 0 && strings.Contains(kid.text, "://") {
			if found, ok := algorithmOf(kid.text[i+1:]); ok {
				return found, ""
			}
		}
		text := strings.TrimPrefix(kid.text, "checksumAlgorithm_")
		if found, ok := algorithmOf(text); ok {
			return found, ""
		}
		if folded != "type" && folded != "kind" && folded != "method" && folded != "function" || isHashWord(splitKey(n.key)) {
			said = kid.text
		}
	}
	return digest.Unknown, said
}

// value looks at a scalar of a record.
func (t *tree) value(v, n *node, s scope, names recordNames, sibling digest.Algorithm, said string) {
	p := t.p
	text := strings.TrimSpace(v.text)
	// The digest as the name of a member, with the file's as its value.
	if len(v.key) >= 32 && len(onlyHex(v.key)) == len(v.key) && digest.OfSize(len(v.key)/2) != nil && looksLikeFile(text) {
		value, _ := decodeHex([]byte(v.key))
		t.emit(v, text, value, s.label, nil, s)
		return
	}
	label, extra := labelOfKey(v.key)
	words := splitKey(v.key)
	if len(text) < 8 && (said == "" || !isHashWord(words)) {
		return
	}
	for _, w := range words {
		if otherWords[w] && (label == digest.Unknown || len(extra) > 0) {
			p.aside.note(v.line, "it is of something else than a file: “"+w+"” stands over it")
			return
		}
	}
	if s.other != "" {
		p.aside.note(v.line, "it is of something else than a file: “"+s.other+"” stands over it")
		return
	}
	if n := len(words); label == digest.Unknown && n > 1 && hashWords[words[n-1]] && !isHashWord(words) {
		extra = words[:n-1] // “source-checksum”
	}
	hashKey := label != digest.Unknown || isHashWord(words) || len(extra) > 0 || v.key == "" && s.hashes
	fileKey := looksLikeFile(v.key) || p.known.is(v.key)
	if strings.ToLower(v.key) == "sha" && len(text) == 40 && slices.ContainsFunc(n.kids, func(k *node) bool {
		f := foldWords(k.key)
		return strings.Contains(f, "git") || strings.Contains(f, "commit") || strings.Contains(f, "tree") || k.text == "blob"
	}) {
		p.aside.note(v.line, "it is of a repository's object, not of a file")
		return
	}
	values := valuesIn(text, label.Size() == 4 || s.label.Size() == 4 || sibling.Size() == 4, label)
	whole := len(values) == 1 && values[0].from == 0 && values[0].to == len(text)
	if label == digest.Unknown {
		label = sibling
	}
	if label == digest.Unknown {
		label = s.label
	}
	if label == digest.Unknown && hashKey && said != "" && text != said && !strings.Contains(text, " ") && !isAddress(text) {
		p.out.Lines++
		p.problemAt(v.line, UnknownLabel, fmt.Sprintf("%s is not an algorithm we can compute", plain.Quoted(clip([]byte(said)))))
		return
	}
	if !whole && (hashKey || fileKey) && label != digest.Unknown {
		if decoded := decodeBase64(text); len(decoded) == label.Size() && len(text) >= 4*label.Size()/3 {
			values, whole = []value{{to: len(text), digest: decoded, algorithm: label, encoded: true}}, true
		}
	}
	if !whole {
		t.composed(v, text, values, s, hashKey, label)
		return
	}
	one := values[0]
	name := s.name
	switch {
	case fileKey:
		name = v.key
	case hashKey && len(extra) > 0:
		mine, ok := names.of[strings.Join(extra, " ")]
		if !ok && slices.ContainsFunc(extra, func(w string) bool { return !partOfFile[w] }) {
			p.aside.note(v.line, "it is of something else than the file that is named there: “"+strings.Join(extra, " ")+"”")
			return
		}
		if ok {
			name = mine
		}
	case !hashKey && one.algorithm == digest.Unknown:
		p.aside.note(v.line, "nothing says that it is a digest of a file")
		return
	case !hashKey && !isHashWord(words):
		name = ""
	}
	if one.algorithm != digest.Unknown {
		label = one.algorithm
	}
	p.out.Lines++
	if one.digest == nil {
		p.problemAt(v.line, BadDigest, notADigest+one.wrong)
		return
	}
	if label != digest.Unknown && label.Size() != len(one.digest) {
		if folded := foldWords(v.key); folded == "sha" || folded == "cksum" || folded == "crc" {
			label = digest.Unknown // the word is used for any
		} else if more := ofFamily(label, len(one.digest)); more != digest.Unknown {
			label = more
		} else {
			p.problemAt(v.line, BadDigest, notADigest+wrongLength(label, len(one.digest)))
			return
		}
	}
	if folded := foldWords(v.key); label == digest.Unknown && (folded == "sha" || folded == "shasum") {
		label = shaOfSize(len(one.digest))
	}
	t.emit(v, name, one.digest, label, s.size, s)
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
func (t *tree) emit(v *node, name string, value digest.Value, label digest.Algorithm, size *int64, s scope) {
	candidates := digest.Only(label)
	if label == digest.Unknown {
		candidates = digest.OfSize(len(value))
		if t.p.hint.Size() == len(value) {
			candidates = digest.Only(t.p.hint)
		}
	}
	name = strings.TrimPrefix(name, "./")
	e := entryOf(name, value, candidates, t.format)
	e.Size = size
	e.at(v.line, max(v.column, 1))
	if name == "" || name == "." {
		e.format, e.Name = codeOf(Bare), ""
		if s.packaged {
			t.p.aside.note(v.line, "it is of a package, and no file of that is named")
			return
		}
		t.p.aside.note(v.line, "no file is named with it")
		t.nameless = append(t.nameless, e)
		return
	}
	t.p.add(e)
}

// composed reads a scalar that holds more than one value, or words around it.
func (t *tree) composed(v *node, text string, values []value, s scope, hashKey bool, label digest.Algorithm) {
	p := t.p
	switch {
	case len(values) == 0:
		if hashKey && label != digest.Unknown && len(text) >= 16 && mostlyHex([]byte(text)) {
			p.out.Lines++
			p.problemAt(v.line, BadDigest, notADigest+fmt.Sprintf("a %s digest has %d hexadecimal characters", label, 2*label.Size()))
		}
		t.fragment(v, text)
	case hashKey && s.name != "" && !strings.Contains(text, "\n"):
		// Several values in one, such as “sha256-… sha512-…”.
		for _, one := range values {
			if one.digest == nil {
				p.out.Lines++
				p.problemAt(v.line, BadDigest, notADigest+one.wrong)
				continue
			}
			a := one.algorithm
			if a == digest.Unknown {
				a = label
			}
			if a == digest.Unknown || a.Size() == len(one.digest) {
				t.emit(v, s.name, one.digest, a, s.size, s)
			}
		}
	default:
		for line := range strings.SplitSeq(text, "\n") {
			r := rowOf(line, v.line, p.opts.MaxLine)
			r.column = max(v.column, 1)
			t.texts = append(t.texts, r)
		}
		t.texts = append(t.texts, blankRow(v.line))
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
	digits, whole := decodeHex([]byte(value))
	if !known || !whole || label.Size() != len(digits) {
		return
	}
	name := nameOfAddress(address)
	if name == "" {
		return
	}
	t.emit(v, name, digits, label, nil, scope{})
}
