package manifest

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// Read reads a manifest, whatever its format and encoding. It returns what it
// understood together with a [*LimitError] when a bound stopped it, or with
// the error of r. A text without a single entry is no error: its Format is
// [None].
//
// Texts of lines are read as a stream. XML and JSON documents, and prose, are
// held in memory up to the bound on bytes.
func Read(r io.Reader, opts Options) (*Manifest, error) {
	o := opts.withDefaults()
	p := &parser{
		opts: o,
		hint: AlgorithmOfName(o.FileName),
		out:  &Manifest{Format: None, Entries: []Entry{}, Problems: []Problem{}},
	}
	if sized, ok := r.(interface{ Len() int }); ok {
		p.left = sized.Len
	}
	bounded := &boundedReader{r: r, left: o.MaxBytes + 1}
	text := bufio.NewReaderSize(&lineEnds{r: decode(bufio.NewReaderSize(bounded, 64<<10))}, 64<<10)
	head, _ := text.Peek(maxHead)
	var err error
	switch trimmed := bytes.TrimLeft(head, " \t\r\n"); {
	case bytes.HasPrefix(trimmed, []byte("<")) && (bytes.Contains(head, []byte("metalink")) || bytes.Contains(head, []byte(cyclonedxSpace))):
		err = p.xml(text)
	case bytes.HasPrefix(trimmed, []byte("{")):
		err = p.json(text)
	case bytes.Contains(head, []byte("SPDXVersion:")):
		err = p.tagValue(text)
	case isControl(head):
		err = p.control(text)
	default:
		err = p.lines(text)
	}
	if bounded.left <= 0 {
		return p.out, &LimitError{What: "bytes", Limit: o.MaxBytes, Line: p.line}
	}
	return p.out, err
}

// maxHead is how much of a text is looked at to tell what it is.
const maxHead = 32 << 10

// boundedReader ends the stream after left bytes, so that an endless text
// costs no more than the limit.
type boundedReader struct {
	r    io.Reader
	left int64
}

func (b *boundedReader) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, io.EOF
	}
	if int64(len(p)) > b.left {
		p = p[:b.left]
	}
	n, err := b.r.Read(p)
	b.left -= int64(n)
	return n, err
}

// maxProse bounds the text that is searched for digests in prose.
const maxProse = 1 << 20

// lines reads a text of lines.
func (p *parser) lines(text *bufio.Reader) error {
	var prose bytes.Buffer
	var err error
	tried := false
	for err == nil {
		if !tried && p.plainReady() {
			tried = true
			var rest io.Reader
			if rest, err = p.plainLines(text); err != nil {
				break
			}
			text = bufio.NewReaderSize(rest, 64<<10)
		}
		var line []byte
		var tooLong bool
		var n int64
		line, n, tooLong, err = readLine(text, p.opts.MaxLine)
		if n == 0 && err != nil {
			break
		}
		p.line++
		if tooLong {
			p.out.Lines++
			p.problem(LineTooLong, fmt.Sprintf("the line is longer than %d bytes and was passed over", p.opts.MaxLine))
			continue
		}
		if prose.Len() <= maxProse && (p.out.Format == None || p.out.Format == NameFirst) {
			prose.Write(line)
			prose.WriteByte('\n')
		}
		if !p.take(line) {
			return p.full()
		}
	}
	if errors.Is(err, io.EOF) {
		err = nil
	}
	if p.bareOnly() {
		for _, e := range p.bare {
			p.add(e)
		}
		return err
	}
	if err == nil && !p.signedText && prose.Len() <= maxProse {
		if len(p.out.Entries) == 0 {
			p.prose(prose.String())
		} else if p.out.Format == NameFirst && len(p.out.Problems)+p.out.MoreProblems > len(p.out.Entries) {
			// A message can have a line or two in the shape of a list; what
			// is found in it as prose counts, if that is no less.
			trial := *p
			trial.out = &Manifest{Format: None, Entries: []Entry{}, Problems: []Problem{}, Lines: p.out.Lines}
			if trial.prose(prose.String()); len(trial.out.Entries) >= len(p.out.Entries) {
				*p.out = *trial.out
			}
		}
	}
	if p.out.Format != FreeText {
		p.strayDigests()
	}
	return err
}

func (p *parser) full() error {
	return &LimitError{What: "entries", Limit: int64(p.opts.MaxEntries), Line: p.line}
}

// readLine returns one line without its ending, LF or CR LF, and without blanks before
// it, the bytes consumed, and whether it exceeded limit; then the line is cut short
// and its remainder consumed without being kept.
func readLine(r *bufio.Reader, limit int) (line []byte, n int64, tooLong bool, err error) {
	for {
		part, e := r.ReadSlice('\n')
		n += int64(len(part))
		switch {
		case len(line)+len(part) > limit+2:
			tooLong = true
		case e == nil && line == nil:
			line = part // the common case: no copy; valid until the next read
		default:
			line = append(slices.Clip(line), part...)
		}
		if errors.Is(e, bufio.ErrBufferFull) {
			continue
		}
		return bytes.TrimRight(line, " \t\r\n"), n, tooLong, e
	}
}

type parser struct {
	opts Options
	// hint is the algorithm that the manifest's own name states.
	hint digest.Algorithm
	// section is the algorithm that the last heading named.
	section digest.Algorithm
	// table is the header row in force, or nil.
	table *table
	// bare are digests that stood alone on their lines.
	bare       []Entry
	signedText bool
	line       int
	// left tells how much of the text is not read yet, where that is known.
	left func() int
	out  *Manifest
}

func (p *parser) problem(code ProblemCode, message string) {
	if len(p.out.Problems) >= p.opts.MaxProblems {
		p.out.MoreProblems++
		return
	}
	p.out.Problems = append(p.out.Problems, Problem{Line: p.line, Code: code, Message: message})
}

// add keeps an entry, or reports a name that must not be used. It returns
// false when the bound on entries is reached.
func (p *parser) add(e Entry) bool {
	if e.Name != "" || e.Format != Bare {
		if _, why, ok := SafeName(e.Name); !ok {
			p.problem(UnsafeName, fmt.Sprintf("%s: %s; the entry is not used", plain.Quoted(e.Name), why))
			return true
		}
	}
	if len(p.out.Entries) >= p.opts.MaxEntries {
		return false
	}
	if n := len(p.out.Entries); n == cap(p.out.Entries) {
		// Doubling: a manifest can have a million entries, and append grows
		// large slices in many small steps.
		p.out.Entries = slices.Grow(p.out.Entries, max(n, 16))
	}
	p.out.Entries = append(p.out.Entries, e)
	switch p.out.Format {
	case None:
		p.out.Format = e.Format
	case e.Format:
	default:
		p.out.Format = Mixed
	}
	return true
}

// take reads one line. It returns false when the bound on entries is reached.
func (p *parser) take(line []byte) bool {
	text := bytes.TrimLeft(line, " \t")
	if len(bytes.TrimSpace(text)) == 0 {
		return true
	}
	if text[0] == '#' || text[0] == ';' {
		p.heading(text)
		return true
	}
	p.out.Lines++
	column := len(line) - len(text) + 1
	if bytes.HasPrefix(text, []byte("-----BEGIN PGP SIGNED MESSAGE-----")) {
		p.signedText = true
		p.problem(SignedText, "this is a text with a signature around it; nothing in it is used before that signature is verified")
		return true
	}
	if p.table != nil {
		if entries, isRow := p.row(text); isRow {
			for _, e := range entries {
				e.Line, e.Column = p.line, column
				if !p.add(e) {
					return false
				}
			}
			return true
		}
	}
	entry, code, message := p.anyForm(text)
	switch code {
	case "":
		if entry.Digest == nil {
			return true // a heading, a header row or a bare digest
		}
		entry.Line, entry.Column = p.line, column
		return p.add(entry)
	default:
		p.problem(code, message)
		return true
	}
}

// anyForm tries the forms of a line one after the other. An entry without a
// digest and without a code means that the line was understood as something
// else.
func (p *parser) anyForm(text []byte) (Entry, ProblemCode, string) {
	if p.section != digest.Unknown {
		if entry, ok := p.sectionLine(text); ok {
			return entry, "", ""
		}
	}
	entry, code, message := p.digestFirst(text)
	if code != NotAnEntry {
		return entry, code, message
	}
	if tagged, tagCode, tagMessage := p.tagged(text); tagCode != NotAnEntry {
		return tagged, tagCode, tagMessage
	}
	if p.heading(text) || p.headerRow(text) {
		p.out.Lines-- // it says something about lines, and is none itself
		return Entry{}, "", ""
	}
	if p.alone(text) {
		return Entry{}, "", ""
	}
	if encoded, ok := p.encoded(text); ok {
		return encoded, "", ""
	}
	if named, ok := p.nameFirst(text); ok {
		return named, "", ""
	}
	return Entry{}, NotAnEntry, message
}

// digestFirst reads "DIGEST  NAME", "DIGEST *NAME" and the escaped form that
// starts with a backslash.
func (p *parser) digestFirst(text []byte) (Entry, ProblemCode, string) {
	const neither = "this is neither a digest with a file name nor a comment"
	escaped := text[0] == '\\'
	if escaped {
		text = text[1:]
	}
	end := bytes.IndexAny(text, " \t")
	if end < 0 {
		return Entry{}, NotAnEntry, neither
	}
	field, rest := text[:end], text[end:]
	value, ok := decodeHex(field)
	if !ok {
		if len(field) >= 16 && mostlyHex(field) {
			return Entry{}, BadDigest, fmt.Sprintf("%s is not a digest: it holds a character that is not hexadecimal", plain.Quoted(clip(field)))
		}
		return Entry{}, NotAnEntry, neither
	}
	candidates := p.candidates(value)
	if candidates == nil {
		if len(value) < 16 {
			return Entry{}, NotAnEntry, neither
		}
		return Entry{}, BadDigest, p.wrongLength(value)
	}
	// One space and a mode mark (a space for text, an asterisk for binary)
	// stand before the name; lists in the wild also use tabs or one space.
	switch {
	case len(rest) >= 2 && rest[0] == ' ' && (rest[1] == ' ' || rest[1] == '*'):
		rest = rest[2:]
	default:
		rest = bytes.TrimLeft(rest, " \t")
		rest = bytes.TrimPrefix(rest, []byte("*"))
	}
	name, ok := unescape(rest, escaped)
	if !ok {
		return Entry{}, BadEscape, "the name holds a backslash escape that means nothing"
	}
	if name == "" {
		return Entry{}, BadDigest, "a digest stands here without a file name"
	}
	return entryOf(name, value, candidates, DigestFirst), "", ""
}

// tagged reads "ALGORITHM (NAME) = DIGEST", escaped likewise.
func (p *parser) tagged(text []byte) (Entry, ProblemCode, string) {
	notOne := func() (Entry, ProblemCode, string) { return Entry{}, NotAnEntry, "" }
	escaped := text[0] == '\\'
	if escaped {
		text = text[1:]
	}
	open := bytes.IndexByte(text, '(')
	closing := bytes.LastIndexByte(text, ')')
	if open <= 0 || closing < open {
		return notOne()
	}
	after := bytes.TrimLeft(text[closing+1:], " \t")
	if len(after) == 0 || after[0] != '=' {
		return notOne()
	}
	label := strings.TrimSpace(string(text[:open]))
	algorithm, err := digest.Parse(label)
	if err != nil {
		return Entry{}, UnknownLabel, fmt.Sprintf("%s is not an algorithm we can compute", plain.Quoted(clip([]byte(label))))
	}
	field := bytes.TrimSpace(after[1:])
	value, ok := decodeHex(field)
	if !ok || len(value) != algorithm.Size() {
		return Entry{}, BadDigest, fmt.Sprintf("%s is not a %s digest: that is %d hexadecimal characters", plain.Quoted(clip(field)), algorithm, 2*algorithm.Size())
	}
	name, ok := unescape(text[open+1:closing], escaped)
	if !ok {
		return Entry{}, BadEscape, "the name holds a backslash escape that means nothing"
	}
	return entryOf(name, value, digest.Only(algorithm), Tagged), "", ""
}

func entryOf(name string, value digest.Value, candidates []digest.Algorithm, f Format) Entry {
	e := Entry{Name: name, Digest: value, Candidates: candidates, Format: f}
	if len(candidates) == 1 {
		e.Algorithm = candidates[0]
	}
	return e
}

// candidates narrows the algorithms of a digest's length by the heading above
// and by the manifest's own name. It returns nil when no algorithm has this
// length, and for one that is shorter than what is announced: a value that was cut
// short is not the digest of another algorithm that happens to have its length.
func (p *parser) candidates(value digest.Value) []digest.Algorithm {
	for _, known := range []digest.Algorithm{p.section, p.hint} {
		switch {
		case known.Size() == len(value):
			return digest.Only(known)
		case known.Size() > len(value):
			return nil
		}
	}
	return digest.OfSize(len(value))
}

// wrongLength says what is wrong with a value that candidates has no algorithm for.
func (p *parser) wrongLength(value digest.Value) string {
	for _, known := range []digest.Algorithm{p.section, p.hint} {
		if known.Size() > len(value) {
			return fmt.Sprintf("a value of %d hexadecimal characters is not the %s digest that is announced, which has %d; is it cut short?", 2*len(value), known, 2*known.Size())
		}
	}
	return fmt.Sprintf("a value of %d hexadecimal characters is not the digest of any known algorithm; is it cut short?", 2*len(value))
}

func decodeHex(field []byte) (digest.Value, bool) {
	if len(field) < 8 || len(field)%2 != 0 || len(field) > 256 {
		return nil, false
	}
	out := make([]byte, len(field)/2)
	if _, err := hex.Decode(out, field); err != nil {
		return nil, false
	}
	return out, true
}

// mostlyHex tells a damaged digest from a word.
func mostlyHex(field []byte) bool {
	n := 0
	for _, c := range field {
		if '0' <= c && c <= '9' || 'a' <= c|0x20 && c|0x20 <= 'f' {
			n++
		}
	}
	return n*10 >= len(field)*8
}

// unescape undoes \\, \n and \r in an escaped line.
func unescape(name []byte, escaped bool) (string, bool) {
	if !escaped {
		return string(name), true
	}
	var b strings.Builder
	for i := 0; i < len(name); i++ {
		if name[i] != '\\' {
			b.WriteByte(name[i])
			continue
		}
		i++
		if i == len(name) {
			return "", false
		}
		switch name[i] {
		case '\\':
			b.WriteByte('\\')
		case 'n':
			b.WriteByte('\n')
		case 'r':
			b.WriteByte('\r')
		default:
			return "", false
		}
	}
	return b.String(), true
}

// clip shortens text for a message.
func clip(field []byte) string {
	if len(field) > 40 {
		return string(field[:40]) + "…"
	}
	return string(field)
}
