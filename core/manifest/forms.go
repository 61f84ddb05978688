package manifest

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"endeixis/core/digest"
)

// headingWords are what may stand behind an algorithm in a heading.
var headingWords = regexp.MustCompile(`(?i)\s*(check)?(sums?|digests?|hash(es)?)$`)

// heading recognises a line that only names an algorithm, such as "SHA256:",
// "# MD5 checksums" or "[sha512]", and remembers it for the lines below.
func (p *parser) heading(text []byte) bool {
	if len(text) > 64 {
		return false
	}
	label := strings.Trim(string(text), " \t#;:=-*[]()")
	// Most lines are no headings: an algorithm's name starts with one of a
	// few letters and has a few words at most behind it.
	if label == "" || !strings.ContainsRune("mscrbMSCRB", rune(label[0])) || strings.Count(label, " ") > 3 {
		return false
	}
	a, err := digest.Parse(label)
	if err != nil {
		if a, err = digest.Parse(headingWords.ReplaceAllString(label, "")); err != nil {
			return false
		}
	}
	p.section, p.table = a, nil
	return true
}

// sectionLine reads digest, size and name in any order, under a heading. The
// digest must be of the heading's algorithm.
func (p *parser) sectionLine(text []byte) (Entry, bool) {
	fields := bytes.Fields(text)
	if len(fields) < 2 {
		return Entry{}, false
	}
	at := -1
	for i, f := range fields {
		if len(f) == 2*p.section.Size() {
			if _, ok := decodeHex(f); ok {
				at = i
				break
			}
		}
	}
	if at < 0 {
		return Entry{}, false
	}
	value, _ := decodeHex(fields[at])
	// The size, where there is one, stands right before or behind the digest
	// or at the end, and a name is left besides.
	sizeAt := -1
	if len(fields) >= 3 {
		for _, i := range []int{at + 1, at - 1, len(fields) - 1, 0} {
			if i >= 0 && i < len(fields) && i != at && isNumber(fields[i]) {
				sizeAt = i
				break
			}
		}
	}
	if sizeAt < 0 && at != 0 && at != len(fields)-1 {
		return Entry{}, false
	}
	if sizeAt < 0 {
		// Without a size this is digest-first or name-first; those readers
		// keep spaces inside names.
		return Entry{}, false
	}
	var name [][]byte
	for i, f := range fields {
		if i != at && i != sizeAt {
			name = append(name, f)
		}
	}
	e := entryOf(strings.TrimPrefix(string(bytes.Join(name, []byte(" "))), "*"), value, digest.Only(p.section), Sections)
	if n, err := strconv.ParseInt(string(fields[sizeAt]), 10, 64); err == nil {
		e.Size = &n
	}
	return e, e.Name != ""
}

func isNumber(field []byte) bool {
	if len(field) == 0 || len(field) > 18 {
		return false
	}
	for _, c := range field {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

// alone recognises a line that is one digest and nothing else, perhaps with
// its algorithm in front.
func (p *parser) alone(text []byte) bool {
	field := bytes.TrimSpace(text)
	algorithm := digest.Unknown
	if i := bytes.IndexAny(field, ":="); i > 0 {
		if a, err := digest.Parse(strings.TrimSpace(string(field[:i]))); err == nil {
			algorithm, field = a, bytes.TrimSpace(field[i+1:])
		}
	}
	value, ok := decodeHex(field)
	if !ok {
		return false
	}
	candidates := p.candidates(value)
	if algorithm != digest.Unknown && algorithm.Size() == len(value) {
		candidates = digest.Only(algorithm)
	}
	if candidates == nil {
		return false
	}
	e := entryOf("", value, candidates, Bare)
	e.Line, e.Column = p.line, 1
	if len(p.bare) < p.opts.MaxEntries {
		p.bare = append(p.bare, e)
	}
	return true
}

// bareOnly reports whether the whole text is one digest, or one for each of
// several algorithms.
func (p *parser) bareOnly() bool {
	seen := map[string]bool{}
	for _, e := range p.bare {
		key := fmt.Sprint(string(e.Candidates))
		if seen[key] {
			return false
		}
		seen[key] = true
	}
	return len(p.bare) > 0 && len(p.out.Entries) == 0 && p.out.Lines == len(p.bare)
}

// strayDigests reports the digests that stood alone among other lines.
func (p *parser) strayDigests() {
	last := p.line
	for _, e := range p.bare {
		p.line = e.Line
		p.problem(NoName, "a digest stands here without a file name")
	}
	p.line = last
}

// nameFirst reads "NAME: DIGEST" with any of space, tab, colon, comma and
// equals between them.
func (p *parser) nameFirst(text []byte) (Entry, bool) {
	line := bytes.TrimRight(text, " \t")
	at := bytes.LastIndexAny(line, " \t:,=")
	if at <= 0 || at == len(line)-1 {
		return Entry{}, false
	}
	value, ok := decodeHex(line[at+1:])
	if !ok {
		return Entry{}, false
	}
	candidates := p.candidates(value)
	if candidates == nil {
		return Entry{}, false
	}
	name := strings.TrimRight(string(line[:at]), " \t:,=")
	name = strings.Trim(name, `"`)
	if saysMore(name) {
		return Entry{}, false
	}
	if len(value) == 4 && !strings.ContainsAny(name, "./\\") && p.hint.Size() != 4 && p.section.Size() != 4 {
		return Entry{}, false // eight digits behind a sentence are no checksum
	}
	return entryOf(name, value, candidates, NameFirst), name != ""
}

// saysMore reports whether words follow what looks like a file name, as in "the
// image gauge.img is 9F86…": that is a sentence, not a list.
func saysMore(name string) bool {
	at := proseName.FindAllStringIndex(name, -1)
	if at == nil {
		return false
	}
	return strings.ContainsAny(name[at[len(at)-1][1]:], " \t")
}

// A table is a header row: which column holds what.
type table struct {
	comma      byte
	columns    int
	name, size int
	algorithms map[int]digest.Algorithm
}

// headerRow recognises the header of a table: a column for the file's name and
// at least one that is named like an algorithm.
func (p *parser) headerRow(text []byte) bool {
	for _, comma := range []byte{'\t', '|', ';', ','} {
		if bytes.IndexByte(text, comma) < 0 {
			continue
		}
		cells := split(text, comma)
		if len(cells) < 2 {
			continue
		}
		t := &table{comma: comma, columns: len(cells), name: -1, size: -1, algorithms: map[int]digest.Algorithm{}}
		for i, cell := range cells {
			switch strings.ToLower(strings.TrimSpace(cell)) {
			case "file", "name", "filename", "file name", "artifact", "image", "path", "download":
				t.name = i
			case "size", "bytes", "length", "size (bytes)":
				t.size = i
			default:
				if a, err := digest.Parse(headingWords.ReplaceAllString(strings.TrimSpace(cell), "")); err == nil {
					t.algorithms[i] = a
				}
			}
		}
		if t.name >= 0 && len(t.algorithms) > 0 {
			p.table = t
			return true
		}
	}
	return false
}

// row reads a row of the table in force. isRow is false when the line is not
// one, and the table ends.
func (p *parser) row(text []byte) (entries []Entry, isRow bool) {
	t := p.table
	cells := split(text, t.comma)
	if len(cells) != t.columns {
		p.table = nil
		return nil, false
	}
	name := strings.TrimSpace(cells[t.name])
	if strings.Trim(name, "-: ") == "" {
		return nil, true // the rule under a header
	}
	var size *int64
	if t.size >= 0 {
		if n, err := strconv.ParseInt(strings.TrimSpace(cells[t.size]), 10, 64); err == nil && n >= 0 {
			size = &n
		}
	}
	for i := range t.columns {
		a, ok := t.algorithms[i]
		cell := strings.Trim(strings.TrimSpace(cells[i]), "`")
		if !ok || cell == "" || cell == "-" {
			continue
		}
		value, ok := decodeHex([]byte(cell))
		if !ok || len(value) != a.Size() {
			p.problem(BadDigest, fmt.Sprintf("%q is not a %s digest: that is %d hexadecimal characters", clip([]byte(cell)), a, 2*a.Size()))
			continue
		}
		e := entryOf(strings.Trim(name, "`"), value, digest.Only(a), Table)
		e.Size = size
		entries = append(entries, e)
	}
	return entries, true
}

// split cuts a row into cells, with the quoting of CSV where that applies.
func split(text []byte, comma byte) []string {
	if comma == '|' {
		return strings.Split(strings.Trim(strings.TrimSpace(string(text)), "|"), "|")
	}
	r := csv.NewReader(bytes.NewReader(text))
	r.Comma, r.LazyQuotes, r.FieldsPerRecord = rune(comma), true, -1
	cells, err := r.Read()
	if err != nil {
		return nil
	}
	return cells
}

// encodedForm finds a digest in base64 or URI form: subresource integrity
// (sha256-…), a digest field of RFC 9530 (sha-256=:…:), or a name of RFC 6920
// (ni:///sha-256;…, nih:sha-256;…).
var encodedForm = regexp.MustCompile(`(?i)\bni://[^/\s]*/(sha-[0-9]+);([A-Za-z0-9_-]+)|\bnih:(sha-[0-9]+);([0-9a-f]+)(?:;.)?|\b(sha-?[0-9]+|md5)=:([A-Za-z0-9+/=]+):|\b(sha(?:256|384|512))-([A-Za-z0-9+/]+={0,2})`)

// mayBeEncoded is a quick look before the expression is tried.
func mayBeEncoded(text []byte) bool {
	return bytes.Contains(text, []byte("ni:")) || bytes.Contains(text, []byte("nih:")) || bytes.Contains(text, []byte("NI:")) ||
		bytes.Contains(text, []byte("=:")) || bytes.Contains(text, []byte("sha")) || bytes.Contains(text, []byte("SHA"))
}

// encoded reads a line with one such form, and the file's name before or
// behind it, if there is one.
func (p *parser) encoded(text []byte) (Entry, bool) {
	if !mayBeEncoded(text) {
		return Entry{}, false
	}
	m := encodedForm.FindSubmatchIndex(text)
	if m == nil {
		return Entry{}, false
	}
	part := func(i int) string {
		if m[2*i] < 0 {
			return ""
		}
		return string(text[m[2*i]:m[2*i+1]])
	}
	var label string
	var value digest.Value
	var err error
	switch {
	case part(1) != "":
		label = part(1)
		value, err = base64.RawURLEncoding.DecodeString(part(2))
	case part(3) != "":
		label = part(3)
		value, _ = decodeHex([]byte(part(4)))
	case part(5) != "":
		label = part(5)
		value, err = base64.StdEncoding.DecodeString(part(6))
	default:
		label = part(7)
		value, err = base64.StdEncoding.DecodeString(part(8))
	}
	a, parseErr := digest.Parse(label)
	if err != nil || parseErr != nil || len(value) != a.Size() {
		return Entry{}, false
	}
	name := strings.Trim(string(text[:m[0]])+" "+string(text[m[1]:]), " \t:,=\"'<>")
	for _, field := range []string{"content-digest", "repr-digest", "digest", "integrity"} {
		if strings.EqualFold(name, field) {
			name = ""
		}
	}
	e := entryOf(name, value, digest.Only(a), Encoded)
	if name == "" {
		e.Format, e.Line, e.Column = Bare, p.line, 1
		p.bare = append(p.bare, e)
		return Entry{}, true
	}
	return e, true
}

var (
	proseDigest = regexp.MustCompile(`\b[0-9A-Fa-f]{32,128}\b`)
	proseName   = regexp.MustCompile(`[A-Za-z0-9][A-Za-z0-9._+~-]*\.[A-Za-z][A-Za-z0-9]{0,9}\b`)
	proseLabel  = regexp.MustCompile(`(?i)\b(md5|sha-?1|sha-?224|sha-?256|sha-?384|sha-?512|sha3-?(?:224|256|384|512)|blake2b|blake2s|blake3|ripemd-?160)`)
)

// prose finds digests in a page or message by their length and alphabet, and
// ties each to the nearest file name and algorithm label before it, or behind
// it where there is none before. The problems of the lines are dropped: prose
// is not a damaged list.
func (p *parser) prose(text string) {
	digests := proseDigest.FindAllStringIndex(text, -1)
	names := proseName.FindAllStringIndex(text, -1)
	labels := proseLabel.FindAllStringIndex(text, -1)
	var found []Entry
	var cut []Problem
	for _, at := range digests {
		value, ok := decodeHex([]byte(text[at[0]:at[1]]))
		if !ok || digest.OfSize(len(value)) == nil {
			continue
		}
		name := nearest(names, at)
		if name == nil {
			continue
		}
		candidates := p.candidates(value)
		if label := nearest(labels, at); label != nil {
			if a, err := digest.Parse(text[label[0]:label[1]]); err == nil && a.Size() == len(value) {
				candidates = digest.Only(a)
			}
		}
		line := 1 + strings.Count(text[:at[0]], "\n")
		if candidates == nil {
			cut = append(cut, Problem{Line: line, Code: BadDigest, Message: p.wrongLength(value)})
			continue
		}
		e := entryOf(wholeName(text, name), value, candidates, FreeText)
		e.Line = line
		e.Column = at[0] - strings.LastIndexByte(text[:at[0]], '\n')
		found = append(found, e)
	}
	if len(found) == 0 {
		return
	}
	p.out.Problems, p.out.MoreProblems = []Problem{}, 0
	for _, c := range cut {
		p.line = c.Line
		p.problem(c.Code, c.Message)
	}
	for _, e := range found {
		p.line = e.Line
		if !p.add(e) {
			return
		}
	}
}

// wholeName returns a name that was found in prose or, where it is the end of a path
// that must not be used, all of that path: the file that is meant is not one of that
// name here. Of an address the last part is the name.
func wholeName(text string, at []int) string {
	start := at[0]
	for start > 0 && !strings.ContainsRune(" \t\n\r\"'`()[]{}<>,;|=*", rune(text[start-1])) {
		start--
	}
	if path := text[start:at[1]]; !strings.Contains(path, "://") {
		if _, _, safe := SafeName(path); !safe {
			return path
		}
	}
	return text[at[0]:at[1]]
}

// nearest returns the place of those that ends closest before at, or else the
// one that starts closest behind it.
func nearest(places [][]int, at []int) []int {
	var before []int
	for _, p := range places {
		if p[1] <= at[0] {
			before = p
		} else if p[0] >= at[1] {
			if before == nil {
				return p
			}
			break
		}
	}
	return before
}
