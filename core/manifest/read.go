package manifest

import (
	"bufio"
	"bytes"
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
// The whole text is read first, up to the bound on bytes, and then explained: as a
// structured document, or by its layout.
func Read(r io.Reader, opts Options) (*Manifest, error) {
	m, _, err := readText(r, opts)
	return m, err
}

// ReadLocated does what [Read] does, and finds the places in the text of what was read, and
// where that contradicts itself.
func ReadLocated(r io.Reader, opts Options) (*Manifest, error) {
	m, text, err := readText(r, opts)
	m.Locate(text)
	m.Disagreements = m.Contradictions()
	return m, err
}

// readText reads a text and returns it too.
func readText(r io.Reader, opts Options) (*Manifest, string, error) {
	bounded := &boundedReader{r: r, left: opts.withDefaults().MaxBytes + 1}
	raw, err := wholeText(bounded)
	text := string(raw)
	m, limit := Parse(text, opts)
	if err == nil {
		err = limit
	}
	return m, text, err
}

// Parse does what [Read] does with a text that is in memory. The names of the entries are
// parts of it, where it needs no decoding.
func Parse(text string, opts Options) (*Manifest, error) {
	o := opts.withDefaults()
	p := &parser{
		opts: o,
		clues: clues{
			fileName: o.FileName, hint: AlgorithmOfName(o.FileName), listName: NamedLikeOne(o.FileName),
			readsAll: NamedLikeOne(o.FileName), known: o.Beside,
		},
		out:   &Manifest{Format: None, Problems: []Problem{}, LeftAside: []Aside{}},
		aside: newAsides(),
		sizes: map[string]*size{},
	}
	whole := text[:min(int64(len(text)), o.MaxBytes)]
	if err := p.read(whole); err != nil {
		return p.out, err
	}
	switch {
	case len(whole) < len(text):
		return p.out, &LimitError{What: "bytes", Limit: o.MaxBytes, Line: strings.Count(whole, "\n")}
	case p.overfull:
		return p.out, &LimitError{What: "entries", Limit: int64(o.MaxEntries), Line: p.full}
	}
	return p.out, nil
}

// inUnicode returns a text in UTF-8, with lines that end in LF. latin is set for one that
// was not in Unicode.
func inUnicode(text string) (_ string, latin bool, err error) {
	if asItIs(text) {
		return text, false, nil
	}
	decoded, latin := decode(bufio.NewReaderSize(strings.NewReader(text), 64<<10))
	out, err := wholeText(&lineEnds{r: decoded})
	return string(out), latin, err
}

// wholeText reads all of r.
func wholeText(r io.Reader) ([]byte, error) {
	var parts [][]byte
	total := 0
	for {
		part := make([]byte, min(max(total, 64<<10), 8<<20))
		n, err := io.ReadFull(r, part)
		parts = append(parts, part[:n])
		total += n
		if err == nil {
			continue
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			err = nil
		}
		if len(parts) == 1 {
			return parts[0], err
		}
		return bytes.Join(parts, nil), err
	}
}

// read reads the text.
func (p *parser) read(raw string) error {
	lines := 0
	if beginsInASCII(raw) {
		if raw, lines = p.plainStart(raw); raw == "" {
			return nil
		}
	}
	text, latin, err := inUnicode(raw)
	if err != nil {
		return err
	}
	p.latin = latin
	if nulSeparated(text) {
		p.layOut(nulRows(text, p.opts.MaxLine))
		p.finish(text, 0)
		return nil
	}
	if lines > 0 {
		p.sheet(text, lines)
		p.finish(text, lines)
		return nil
	}
	if !p.readsAll && len(text) > leastSkipped && holdsNothing(text) {
		p.out.Lines = countLines(text)
		return nil
	}
	p.readForm(text)
	p.finish(text, 0)
	return nil
}

// readForm reads a text by the form that it begins in.
func (p *parser) readForm(text string) {
	head := text[:min(len(text), maxHead)]
	trimmed := strings.TrimLeft(head, " \t\r\n")
	switch {
	case strings.HasPrefix(trimmed, "<") && strings.Contains(head, metalinkSpace):
		p.metalink(text)
	case strings.Contains(head, "SPDXVersion:") && !strings.HasPrefix(trimmed, "{"):
		p.tagValue(text)
	case isControl([]byte(head)):
		p.controlText(text)
	case p.document(text):
	case p.config(text):
	default:
		p.archive = strings.HasPrefix(trimmed, "Manifest-Version:") || strings.HasPrefix(trimmed, "Signature-Version:")
		p.sheet(text, 0)
	}
}

// countLines counts the lines of a text that are not blank.
func countLines(text string) int {
	n := 0
	for line := range strings.Lines(text) {
		if strings.TrimSpace(line) != "" {
			n++
		}
	}
	return n
}

// finish gives entries the sizes that stand elsewhere, and accounts for a text that has
// so many lines before it.
func (p *parser) finish(text string, before int) {
	if len(p.sizes) > 0 {
		p.out.Entries.each(func(e *Entry) {
			if e.Size == nil {
				e.take(p.sizes[e.Name])
			}
		})
	}
	p.partNames()
	// Plain lines stand before all others.
	rest := p.out.Entries.rest
	if !slices.IsSortedFunc(rest, byLine) {
		slices.SortStableFunc(rest, byLine)
	}
	p.checkCoverage(text, before)
	slices.SortStableFunc(p.out.Problems, func(a, b Problem) int { return a.Line - b.Line })
	if rest := p.out.Entries.rest; !slices.IsSortedFunc(rest, byLine) {
		slices.SortStableFunc(rest, byLine)
	}
}

// partNames takes the name from entries that stand with more words than it, where another
// entry has it alone and another value: they are of something else that begins alike.
func (p *parser) partNames() {
	rest := p.out.Entries.rest
	if !slices.ContainsFunc(rest, func(e Entry) bool { return e.within }) {
		return
	}
	type stated struct {
		name      string
		algorithm digest.Algorithm
		length    int
	}
	lone := map[stated]digest.Value{}
	for _, e := range p.out.Entries.All() {
		if !e.within {
			lone[stated{e.Name, e.Algorithm, len(e.Digest)}] = e.Digest
		}
	}
	for i := range rest {
		e := &rest[i]
		if v, ok := lone[stated{e.Name, e.Algorithm, len(e.Digest)}]; e.within && ok && !slices.Equal(v, e.Digest) {
			e.Question = fmt.Sprintf("more stands with it than %s, which has another value there", plain.Quoted(e.Name))
			e.Name = ""
		}
	}
}

func byLine(a, b Entry) int { return a.Line - b.Line }

// sheet reads by its layout a text that has so many plain lines before it.
func (p *parser) sheet(text string, before int) {
	l := p.newLayout()
	l.strict, l.digestFirst = before, before
	rows := make([]row, 0, min(p.opts.window, 1+len(text)/16))
	for no := before + 1; text != "" && !p.overfull; {
		rows, text = p.rowsOf(text, no, rows)
		first := no == before+1
		no = rows[len(rows)-1].no + 1
		if first {
			p.look(rows)
		}
		now := len(rows)
		if text != "" {
			now = wholeRecords(rows)
		}
		l.take(rows[:now], text == "")
		rows = append(rows[:0], rows[now:]...)
	}
}

// leastSkipped is the length from which a text is looked through before it is read: damage
// of a short one is told though there is no value in it.
const leastSkipped = 64 << 10

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

type parser struct {
	clues
	opts Options
	// overfull is set when the bound on entries is reached, in the line full.
	overfull bool
	full     int
	line     int
	// sizes are sizes of files that stand apart from their digests, by name.
	sizes map[string]*size
	aside asides
	// seen are the values that were given without a name.
	seen map[string]bool
	out  *Manifest
}

func (p *parser) problemAt(line int, code ProblemCode, message string) {
	if len(p.out.Problems) >= p.opts.MaxProblems {
		p.out.MoreProblems++
		return
	}
	p.out.Problems = append(p.out.Problems, Problem{Line: line, Code: code, Message: message})
}

// add keeps an entry, or reports a name that must not be used. It returns
// false when the bound on entries is reached.
func (p *parser) add(e Entry) bool {
	if !p.named(&e) {
		return true
	}
	if p.out.Entries.Len() >= p.opts.MaxEntries {
		if !p.overfull {
			p.overfull, p.full = true, e.Line
		}
		return false
	}
	rest := p.out.Entries.rest
	if n := len(rest); n > 0 && e.Line > 0 {
		last := &rest[n-1]
		if last.Line == e.Line && last.Name == e.Name && last.Algorithm == e.Algorithm &&
			string(last.Digest) == string(e.Digest) {
			return true // a page shows a value and holds it in an attribute
		}
	}
	if n := len(rest); n == cap(rest) {
		// Doubling: a manifest can have a million entries, and append grows
		// large slices in many small steps.
		rest = slices.Grow(rest, max(n, 16))
	}
	rest = append(rest, e)
	p.out.Entries.rest = rest
	switch p.out.Format {
	case None:
		p.out.Format = e.Format()
	case e.Format():
	default:
		p.out.Format = Mixed
	}
	return true
}

// named reports whether an entry may be used by its name, and tells of one that must not. Of
// a text that was handed over the value counts without it.
func (p *parser) named(e *Entry) bool {
	if e.Name == "" && e.Format() == Bare {
		return true
	}
	_, why, ok := SafeName(e.Name)
	switch {
	case ok:
	case p.opts.Given:
		e.Question, e.Name = fmt.Sprintf("it stands beside %s there, and %s", plain.Quoted(e.Name), why), ""
	default:
		p.problemAt(e.Line, UnsafeName, fmt.Sprintf("%s: %s; the entry is not used", plain.Quoted(e.Name), why))
		return false
	}
	return true
}

func entryOf(name string, value digest.Value, candidates []digest.Algorithm, f Format) Entry {
	e := Entry{Name: name, Digest: value, format: codeOf(f)}
	if len(candidates) == 1 {
		e.Algorithm = candidates[0]
	}
	return e
}

// maxHex is how many digits the longest value has that is decoded.
const maxHex = 256

// decodeHex decodes a value of 8 to 256 digits.
func decodeHex[text string | []byte](field text) (digest.Value, bool) {
	if len(field) < minDigits || len(field)%2 != 0 || len(field) > maxHex {
		return nil, false
	}
	out := make([]byte, len(field)/2)
	for i := range out {
		high, low := hexDigit(field[2*i]), hexDigit(field[2*i+1])
		if high < 0 || low < 0 {
			return nil, false
		}
		out[i] = byte(high<<4 | low)
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

// clip shortens text for a message.
func clip(field []byte) string {
	if len(field) > 40 {
		return string(field[:40]) + "…"
	}
	return string(field)
}
