package manifest

import (
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/html"

	"endeixis/core/digest"
)

// isPage reports whether a text that begins with a mark is a page in HTML.
func isPage(text string) bool {
	head := strings.ToLower(text[:min(len(text), 4096)])
	if strings.HasPrefix(head, "<?xml") && !strings.Contains(head, "<html") {
		return false
	}
	if strings.Contains(head, "<!doctype html") || strings.Contains(head, "<html") {
		return true
	}
	m := firstTag.FindStringSubmatch(head)
	return m != nil && (blocks[m[1]] || pageTags[m[1]])
}

// firstTag is the element that a text begins with.
var firstTag = regexp.MustCompile(`^<([a-z][a-z0-9]*)[\s/>]`)

// pageTags are elements of pages besides those that begin a row.
var pageTags = wordSet(`body a code span b i strong em small tt button img`)

// blocks are elements that begin a new row, and paragraphs those that part records.
var (
	blocks = wordSet(
		`p div ul ol li dl dt dd pre h1 h2 h3 h4 h5 h6 table thead tbody tr br hr section article header footer main nav form fieldset details summary blockquote figure figcaption address caption option title head body`,
	)
	paragraphs = wordSet(`h1 h2 h3 h4 h5 h6 table ul ol dl section article hr pre details`)
	unseen     = wordSet(`script style noscript template meta svg iframe object`)
)

// abbreviated is a digest that a page shows cut, because the whole one is elsewhere.
var abbreviated = regexp.MustCompile(`^[0-9a-fA-F]{4,}(?:…|\.{2,3})[0-9a-fA-F]*$`)

// A pageReader makes rows of a page: what is seen of it as text, links by the names that
// they lead to, and digests that stand in attributes behind what they stand at.
type pageReader struct {
	p      *parser
	layout *layout
	rows   []row
	text   strings.Builder
	// line is where the current row began.
	line, begun int
	pre         bool
	hidden      []string
	// link is the target of the link that is open, and shown where its text began.
	link  string
	shown int
	// cells are those of the table's row that is open; header tells of it.
	cells  []string
	inRow  bool
	inCell bool
	heads  int
	// spans are over how many rows cells reach, and reaching is what reaches into the next
	// row, by columns.
	spans    []int
	reaching []reach
}

// isMarkup reports whether a text within a document is a part of a page.
func isMarkup(text string) bool {
	return strings.Contains(text, "</") && digitRun(text) >= 2*leastAlone && isPage(strings.TrimLeft(text, " \t\r\n"))
}

// page reads a page in HTML that begins in a line.
func (p *parser) page(text string, line int) {
	z := html.NewTokenizer(strings.NewReader(text))
	r := &pageReader{p: p, layout: p.newLayout(), line: line, begun: line}
	for {
		kind := z.Next()
		raw := string(z.Raw())
		switch kind {
		case html.ErrorToken:
			r.endParagraph()
			r.layout.take(r.rows, true)
			return
		case html.TextToken:
			r.words(html.UnescapeString(raw))
		case html.StartTagToken, html.SelfClosingTagToken:
			tag, more := z.TagName()
			name := string(tag)
			var attributes []html.Attribute
			for more {
				var key, value []byte
				key, value, more = z.TagAttr()
				attributes = append(attributes, html.Attribute{Key: string(key), Val: string(value)})
			}
			r.open(name, attributes, kind == html.SelfClosingTagToken)
		case html.EndTagToken:
			tag, _ := z.TagName()
			r.close(string(tag))
		case html.CommentToken, html.DoctypeToken:
		}
		r.line += strings.Count(raw, "\n")
	}
}

func (r *pageReader) words(text string) {
	if len(r.hidden) > 0 {
		return
	}
	if r.pre {
		at := r.line
		for i, line := range strings.Split(text, "\n") {
			if i > 0 {
				r.flush()
				at++
				r.begun = at
				if strings.TrimSpace(line) == "" {
					r.rows = append(r.rows, blankRow(at))
				}
			}
			r.put(line)
		}
		return
	}
	lead := text != strings.TrimLeft(text, " \t\r\n")
	trail := text != strings.TrimRight(text, " \t\r\n")
	inner := strings.Join(strings.Fields(text), " ")
	if inner == "" {
		if r.text.Len() > 0 && text != "" {
			r.put(" ")
		}
		return
	}
	if (strings.Contains(inner, "..") || strings.Contains(inner, "…")) && abbreviated.MatchString(inner) {
		return
	}
	if lead {
		inner = " " + inner
	}
	if trail {
		inner += " "
	}
	if r.text.Len() == 0 {
		r.begun = r.line + strings.Count(text[:len(text)-len(strings.TrimLeft(text, " \t\r\n"))], "\n")
	}
	r.put(inner)
}

func (r *pageReader) put(s string) { r.text.WriteString(s) }

// flush ends a row.
func (r *pageReader) flush() {
	if r.endText() {
		r.afterRow()
	}
}

// endParagraph ends a row, and what belongs together with it.
func (r *pageReader) endParagraph() {
	if r.endText() {
		r.rows = append(r.rows, blankRow(r.line))
		r.afterRow()
	}
}

// endText makes a row of the text so far. It returns false within a cell of a table, where blocks
// do not end the row.
func (r *pageReader) endText() bool {
	text := r.text.String()
	r.text.Reset()
	r.shown = 0
	if !r.pre {
		text = strings.TrimSpace(text)
	}
	if r.inRow {
		r.text.WriteString(text)
		if text != "" {
			r.text.WriteByte(' ')
		}
		return false
	}
	if strings.TrimSpace(text) != "" {
		r.rows = append(r.rows, rowOf(text, r.begun, r.p.opts.MaxLine))
	}
	return true
}

// afterRow begins the next row, and hands on what is whole where there is much.
func (r *pageReader) afterRow() {
	r.begun = r.line
	if len(r.rows) >= 2*r.p.opts.window && !r.pre {
		now := wholeRecords(r.rows)
		r.layout.take(r.rows[:now], false)
		r.rows = slices.Clone(r.rows[now:])
	}
}

func (r *pageReader) endCell() {
	if !r.inCell {
		return
	}
	r.cells = append(r.cells, strings.TrimSpace(r.text.String()))
	r.text.Reset()
	r.inCell = false
}

func (r *pageReader) endRow() {
	if !r.inRow {
		return
	}
	r.endCell()
	r.inRow = false
	r.reachDown()
	if len(r.cells) > 0 {
		row := rowOf(strings.Join(r.cells, "\t"), r.begun, r.p.opts.MaxLine)
		row.text = strings.TrimSpace(row.text)
		row.cells = r.cells
		row.head = r.heads == len(r.cells) && r.heads > 1
		if len(r.cells) == 2 && r.heads == 1 || len(r.cells) == 1 {
			// “<th>SHA-256</th><td>…</td>” is a field of a record.
			row.cells = nil
			row.text = strings.Join(r.cells, ": ")
			if len(r.cells) == 2 && strings.HasSuffix(r.cells[0], ":") {
				row.text = strings.Join(r.cells, " ")
			}
		}
		if row.text != "" {
			r.rows = append(r.rows, row)
		}
	}
	r.cells, r.spans, r.heads = nil, nil, 0
	r.text.Reset()
	r.begun = r.line
}

// reachDown puts cells of rows above that reach into this row where they stand in it, and
// notes which of its own reach further down.
func (r *pageReader) reachDown() {
	if len(r.reaching) == 0 && !slices.ContainsFunc(r.spans, func(n int) bool { return n > 1 }) {
		return
	}
	var cells []string
	var reaching []reach
	own := 0
	for column := 0; own < len(r.cells) || column < len(r.reaching); column++ {
		if column < len(r.reaching) && r.reaching[column].rows > 0 {
			above := r.reaching[column]
			cells = append(cells, above.text)
			reaching = append(reaching, reach{above.text, above.rows - 1})
			continue
		}
		if own == len(r.cells) {
			break
		}
		cells = append(cells, r.cells[own])
		reaching = append(reaching, reach{r.cells[own], r.spans[own] - 1})
		own++
	}
	r.cells, r.reaching = cells, reaching
	if !slices.ContainsFunc(reaching, func(c reach) bool { return c.rows > 0 }) {
		r.reaching = nil
	}
}

// A reach is a cell that goes on for so many more rows.
type reach struct {
	text string
	rows int
}

// maxSpan bounds the rows that a cell may reach over.
const maxSpan = 1000

func spanOf(attributes []html.Attribute) int {
	for _, a := range attributes {
		if a.Key == "rowspan" {
			if n, err := strconv.Atoi(strings.TrimSpace(a.Val)); err == nil && n > 1 {
				return min(n, maxSpan)
			}
		}
	}
	return 1
}

func (r *pageReader) open(name string, attributes []html.Attribute, closed bool) {
	switch {
	case unseen[name]:
		r.hide(name, attributes, closed)
		return
	case name == "body":
		r.hidden = nil
	case len(r.hidden) > 0:
		return
	}
	switch name {
	case "tr":
		r.endRow()
		r.flush()
		r.inRow, r.begun = true, r.line
	case "td", "th":
		r.openCell(name, attributes)
	case "table":
		r.endRow()
		r.reaching = nil
		r.endParagraph()
	case "pre", "textarea":
		r.endParagraph()
		r.pre = true
	default:
		switch {
		case paragraphs[name]:
			r.endParagraph()
		case blocks[name]:
			r.flush()
		}
	}
	if name == "dt" && !r.inRow {
		r.rows = append(r.rows, blankRow(r.line))
	}
	r.attributes(name, attributes)
}

// hide passes over an element that is not seen, but for its attributes.
func (r *pageReader) hide(name string, attributes []html.Attribute, closed bool) {
	if len(r.hidden) == 0 {
		r.attributes(name, attributes)
	}
	if !closed && name != "meta" {
		r.hidden = append(r.hidden, name)
	}
}

func (r *pageReader) openCell(name string, attributes []html.Attribute) {
	r.endCell()
	if !r.inRow {
		r.inRow, r.begun = true, r.line
	}
	r.inCell, r.spans = true, append(r.spans, spanOf(attributes))
	r.text.Reset()
	if name == "th" {
		r.heads++
	}
}

// attributes looks for digests in the attributes of an element.
func (r *pageReader) attributes(name string, attributes []html.Attribute) {
	at := element{name: name}
	for _, a := range attributes {
		switch a.Key {
		case "href", "src", "data-href", "data-url":
			at.target = a.Val
		case "data-file", "data-filename", "data-name", "download", "data-path":
			at.own = a.Val
		}
	}
	if name == "a" {
		r.link, r.shown = at.target, r.text.Len()
	}
	for _, a := range attributes {
		switch {
		case a.Key == "href" || a.Key == "src":
			t := &tree{p: r.p, format: Document}
			t.fragment(&node{line: r.line, column: 1}, r.absolute(a.Val))
		case name == "meta" || ofPage[a.Key]:
			r.p.aside.note(r.line, "it is of the page, not of a file")
		default:
			r.attribute(&at, a)
		}
	}
}

// An element is one of a page, with the file that it names.
type element struct {
	name string
	// target is what it leads to, and own the name that it gives itself.
	target, own string
}

// ofPage are attributes that say something of the page.
var ofPage = map[string]bool{"id": true, "class": true, "name": true, "style": true, "nonce": true}

// attribute looks for a digest in one attribute of an element.
func (r *pageReader) attribute(at *element, a html.Attribute) {
	key := strings.TrimPrefix(a.Key, "data-")
	label, extra := labelOfKey(key)
	values := valuesIn(a.Val, label.Size() == 4, label)
	if len(values) == 0 {
		return
	}
	said := label != digest.Unknown || isHashWord(splitKey(key)) || shownKeys[key]
	if !said || len(extra) > 0 || len(values) > 1 && at.own == "" {
		r.p.aside.note(r.line, "it is of something else than the file that is named there")
		return
	}
	text := a.Val
	if label != digest.Unknown && values[0].algorithm == digest.Unknown {
		text = label.String() + ": " + a.Val
	}
	if name := r.fileOf(at, label != digest.Unknown || a.Key == "title"); name != "" {
		r.direct(name, text)
	} else {
		r.put(" " + text + " ")
	}
}

// loaded are elements whose target is loaded: a digest in them is of that.
var loaded = map[string]bool{"script": true, "link": true, "img": true, "source": true}

// fileOf returns the file that an attribute of an element is about, or "". said tells
// whether the attribute is there for digests.
func (r *pageReader) fileOf(at *element, said bool) string {
	name := nameOfAddress(r.absolute(at.target))
	switch {
	case at.own != "":
		return at.own
	case loaded[at.name] && at.target != "", at.name == "a" && said && looksLikeFile(name):
		return name
	}
	return ""
}

// shownKeys are attributes for what is shown or copied.
var shownKeys = map[string]bool{
	"title": true, "alt": true, "value": true, "content": true,
	"aria-label": true, "clipboard-text": true, "original-title": true, "tooltip": true,
	"copy": true, "text": true, "tip": true,
}

// direct adds what an attribute says of the file that its element names.
func (r *pageReader) direct(name, value string) {
	if name == "" {
		return
	}
	sub := r.p.newLayout()
	cell := rowOf(name+"\t"+value, r.line, r.p.opts.MaxLine)
	cell.warm = true
	sub.begin(sub.typer.typeRows([]row{cell}))
	sub.readShapes()
	sub.nameless()
}

// absolute makes an address of a link's target, so that its parts can be told.
func (r *pageReader) absolute(target string) string {
	if isAddress(target) {
		return target
	}
	base := &url.URL{Scheme: "https", Host: "page.invalid", Path: "/"}
	u, err := base.Parse(target)
	if err != nil {
		return ""
	}
	return u.String()
}

// endLink puts the name that a link leads to in the place of its text.
func (r *pageReader) endLink() {
	link := r.link
	r.link = ""
	if link == "" || r.text.Len() < r.shown {
		return
	}
	text := r.text.String()
	shown := strings.TrimSpace(text[r.shown:])
	target := r.absolute(link)
	name := linkName(shown, target)
	if strings.Contains(shown, " ") && shown == nameOfAddress(target) && !strings.Contains(shown, `"`) {
		name = `"` + shown + `"` // the target shows where it ends
	}
	if name != shown {
		r.text.Reset()
		r.put(text[:r.shown] + name)
	}
}

func (r *pageReader) close(name string) {
	if n := len(r.hidden); n > 0 {
		if r.hidden[n-1] == name {
			r.hidden = r.hidden[:n-1]
		}
		return
	}
	switch name {
	case "a":
		r.endLink()
	case "td", "th":
		r.endCell()
	case "tr":
		r.endRow()
	case "table", "thead", "tbody":
		r.endRow()
		if name == "table" {
			r.endParagraph()
		}
	case "pre", "textarea":
		r.endParagraph()
		r.pre = false
		r.rows = append(r.rows, blankRow(r.line))
	case "dt":
		if !r.inRow {
			r.flush()
		}
	default:
		switch {
		case paragraphs[name] && name[0] != 'h': // what follows a heading belongs to it
			r.endParagraph()
		case blocks[name]:
			r.flush()
		}
	}
}
