// Package device describes equipment with firmware slots that can hash a slot itself:
// what to ask, and how to read what it says. It connects to nothing: the caller sends
// [Kind.Question] and hands what came back to [Kind.Read].
//
// Kinds are written in YAML, in a form that docs/devices.md describes.
package device

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml/ast"
	yaml "github.com/goccy/go-yaml/parser"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// A Connection is the way in which a device is asked.
type Connection string

// The ways.
const (
	// Console is a prompt that is reached over SSH: lines are typed, and an answer ends
	// where the prompt comes back.
	Console Connection = "console"
	// Command is SSH, with a command of its own for each question.
	Command Connection = "command"
	// Typed is a console that only a person can reach, who copies what it says.
	Typed Connection = "typed"
)

// Connections lists every way.
func Connections() []Connection { return []Connection{Console, Command, Typed} }

// A Covers says over what a device computes a digest.
type Covers string

// What it can be over.
const (
	// Image is as many bytes as the image has.
	Image Covers = "image"
	// WholeSlot is all of the slot: the image, and what fills the rest.
	WholeSlot Covers = "slot"
)

// A Slot is a place for an image in a device.
type Slot struct {
	// Name is ours, Title is for people, and Sent is what stands for the slot in a
	// question.
	Name, Title, Sent string
	// Bytes is how many the slot has; 0 where that is not told.
	Bytes int64
}

// A Kind is a kind of device.
type Kind struct {
	Name, Title string
	Connection  Connection
	// Prompt matches the end of what a console has said when it waits for a line.
	Prompt *regexp.Regexp
	Covers Covers
	// Fill is what the rest of a slot holds, where a digest covers that too.
	Fill  byte
	Slots []Slot
	// Ask has the line to send by algorithm, with {slot} where the slot is to be named.
	Ask map[digest.Algorithm]string
	// Before are lines that a console is given before the first question, each of which ends
	// with the prompt: to turn paging off, to enter a mode.
	Before []string
	// Pager matches what a console shows where it waits for PagerKey before it goes on.
	Pager    *regexp.Regexp
	PagerKey string
	// Reversed is set where the bytes of checksums are given in reverse order, and Decimal
	// where they are decimal numbers.
	Reversed, Decimal bool
	// Answer and Refusal match what the device says, in their named groups: digest,
	// and perhaps slot, algorithm and size; reason.
	Answer, Refusal *regexp.Regexp
	// ConnectWithin and AnswerWithin bound one connection and one answer.
	ConnectWithin, AnswerWithin time.Duration
	// Digest is the SHA-256 digest of the text in which the kind is written.
	Digest digest.Value
}

// Bounds of a kind.
const (
	maxText    = 16 << 10
	maxPattern = 1000
	maxSlots   = 16
)

// A Mistake is something wrong in a description.
type Mistake struct {
	Line    int
	Message string
}

// A KindError reports a description that cannot be used.
type KindError struct {
	File     string
	Mistakes []Mistake
}

// Error lists the mistakes with their lines.
func (e *KindError) Error() string {
	out := make([]string, len(e.Mistakes))
	for i, m := range e.Mistakes {
		out[i] = fmt.Sprintf("%s, line %d: %s", e.File, m.Line, m.Message)
	}
	return strings.Join(out, "; ")
}

var (
	nameForm = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)
	// sentForm keeps a slot's name from being more than a word in a line.
	sentForm = regexp.MustCompile(`^[A-Za-z0-9._/:+-]{1,64}$`)
	holes    = regexp.MustCompile(`\{[^{}]*\}`)
)

// ParseKind reads a description. file names it in errors, which are [*KindError].
func ParseKind(file string, text []byte) (*Kind, error) {
	p := &kindParser{file: file}
	if len(text) > maxText || !utf8.Valid(text) {
		p.wrong(1, "a description is a text of at most %d KiB, in UTF-8", maxText>>10)
		return nil, p.error()
	}
	root, err := p.document(text)
	if err != nil {
		return nil, err
	}
	sum := sha256.Sum256(text)
	k := &Kind{
		Digest: sum[:], ConnectWithin: 10 * time.Second, AnswerWithin: time.Minute, Covers: Image,
		Ask: map[digest.Algorithm]string{},
	}
	k.Name = p.needed(root, "kind")
	if k.Name != "" && (!nameForm.MatchString(k.Name) || len(k.Name) > 60) {
		p.wrong(root.line("kind"), "a kind's name has small letters, digits and hyphens")
	}
	k.Title = p.needed(root, "title")
	k.Connection = choice(p, root, "reach", Connections(), "")
	k.Covers = choice(p, root, "covers", []Covers{Image, WholeSlot}, Image)
	k.Prompt = p.pattern(root, "prompt", p.wordWhere(k.Connection == Console, root, "prompt"))
	if k.Prompt != nil && k.Prompt.MatchString("") {
		p.wrong(root.line("prompt"), "the prompt matches where nothing was said, so that no answer would be waited for")
	}
	k.Answer = p.pattern(root, "answer", p.needed(root, "answer"), "digest", "slot", "algorithm", "size")
	if k.Answer != nil && k.Answer.SubexpIndex("digest") < 0 {
		p.wrong(root.line("answer"), "the answer needs a group for the value: (?P<digest>…)")
	}
	k.Refusal = p.pattern(root, "refusal", p.word(root, "refusal"), "reason")
	k.Before = p.lines(root, "before")
	k.Pager = p.pattern(root, "pager", p.word(root, "pager"))
	if k.Pager != nil && k.Pager.MatchString("") {
		p.wrong(root.line("pager"), "the pager's pattern matches where nothing was said")
	}
	k.PagerKey = p.word(root, "pager_key")
	if k.PagerKey == "" {
		k.PagerKey = " "
	}
	if k.Connection != Console && (len(k.Before) > 0 || k.Pager != nil) {
		p.wrong(root.at, "before and pager are for consoles")
	}
	k.Reversed = choice(p, root, "checksum_order", []string{"usual", "reversed"}, "usual") == "reversed"
	k.Decimal = choice(p, root, "checksum_base", []string{"hexadecimal", "decimal"}, "hexadecimal") == "decimal"
	k.ConnectWithin = p.time(root, "connect_within", k.ConnectWithin)
	k.AnswerWithin = p.time(root, "answer_within", k.AnswerWithin)
	p.slots(root, k)
	p.questions(root, k)
	p.fill(root, k)
	p.rest(
		root, "kind", "title", "reach", "covers", "prompt", "answer", "refusal", "connect_within", "answer_within",
		"slots", "ask", "fill", "before", "pager", "pager_key", "checksum_order", "checksum_base",
	)
	if len(p.mistakes) > 0 {
		return nil, p.error()
	}
	return k, nil
}

// Slot returns the slot with a name, or nil.
func (k *Kind) Slot(name string) *Slot {
	at := slices.IndexFunc(k.Slots, func(s Slot) bool { return s.Name == name })
	if at < 0 {
		return nil
	}
	return &k.Slots[at]
}

// Algorithms lists what the device can compute, the hardest to forge first.
func (k *Kind) Algorithms() []digest.Algorithm {
	out := slices.Sorted(maps.Keys(k.Ask))
	slices.SortStableFunc(out, func(a, b digest.Algorithm) int {
		if a.PreimageBits() != b.PreimageBits() {
			return b.PreimageBits() - a.PreimageBits()
		}
		return b.CollisionBits() - a.CollisionBits()
	})
	return out
}

// Question returns the line to send.
func (k *Kind) Question(slot *Slot, a digest.Algorithm) string {
	return strings.ReplaceAll(k.Ask[a], "{slot}", slot.Sent)
}

// kindParser reads a description.
type kindParser struct {
	file     string
	mistakes []Mistake
}

func (p *kindParser) wrong(line int, format string, args ...any) {
	p.mistakes = append(p.mistakes, Mistake{line, fmt.Sprintf(format, args...)})
}

func (p *kindParser) error() error {
	slices.SortStableFunc(p.mistakes, func(a, b Mistake) int { return a.Line - b.Line })
	return &KindError{p.file, p.mistakes}
}

// fields are those of one mapping.
type fields struct {
	at     int
	names  []string
	lines  map[string]int
	values map[string]ast.Node
}

func (f *fields) line(name string) int {
	if line := f.lines[name]; line > 0 {
		return line
	}
	return f.at
}

func (p *kindParser) document(text []byte) (root *fields, err error) {
	// The parser is somebody else's; what it stumbles over is no description.
	defer func() {
		if recover() != nil {
			p.wrong(1, "this cannot be read as YAML")
			root, err = nil, p.error()
		}
	}()
	file, err := yaml.ParseBytes(text, 0)
	if err != nil {
		line := 1
		if found := regexp.MustCompile(`^\[(\d+):\d+\] (.*)`).FindStringSubmatch(err.Error()); found != nil {
			line, _ = strconv.Atoi(found[1])
			p.wrong(line, "this is no YAML: %s", plain.Text(found[2]))
		} else {
			p.wrong(line, "this is no YAML")
		}
		return nil, p.error()
	}
	if len(file.Docs) != 1 || file.Docs[0].Body == nil {
		p.wrong(1, "a file describes one kind")
		return nil, p.error()
	}
	root = p.mapping(file.Docs[0].Body, 1)
	if root == nil {
		return nil, p.error()
	}
	return root, nil
}

// mapping returns the fields of a node, or nil where it has none.
func (p *kindParser) mapping(node ast.Node, line int) *fields {
	out := &fields{at: line, lines: map[string]int{}, values: map[string]ast.Node{}}
	var values []*ast.MappingValueNode
	switch n := node.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		p.wrong(line, "here names with their values are expected")
		return nil
	}
	for _, v := range values {
		name, at := v.Key.GetToken().Value, v.Key.GetToken().Position.Line
		if _, twice := out.values[name]; twice {
			p.wrong(at, "%s is given twice", plain.Quoted(name))
			continue
		}
		out.names = append(out.names, name)
		out.lines[name], out.values[name] = at, v.Value
	}
	return out
}

// rest complains of fields that are none.
func (p *kindParser) rest(f *fields, known ...string) {
	for _, name := range f.names {
		if !slices.Contains(known, name) {
			p.wrong(f.lines[name], "%s is no field here; there are %s", plain.Quoted(name), strings.Join(known, ", "))
		}
	}
}

// needed returns a text of one line, and complains where it is missing or empty.
func (p *kindParser) needed(f *fields, name string) string {
	node := f.values[name]
	if node == nil {
		p.wrong(f.at, "%s is missing", name)
	} else if text, ok := node.(*ast.StringNode); ok && text.Value == "" {
		p.wrong(f.lines[name], "%s is empty", name)
	}
	return p.word(f, name)
}

// wordWhere returns a text of one line, which is needed where a condition holds.
func (p *kindParser) wordWhere(holds bool, f *fields, name string) string {
	if holds {
		return p.needed(f, name)
	}
	return p.word(f, name)
}

// word returns a text of one line, or "" where there is none.
func (p *kindParser) word(f *fields, name string) string {
	node := f.values[name]
	if node == nil {
		return ""
	}
	var text string
	switch n := node.(type) {
	case *ast.StringNode:
		text = n.Value
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		text = node.GetToken().Value
	default:
		p.wrong(f.lines[name], "%s has to be a text of one line", name)
		return ""
	}
	switch {
	case strings.ContainsFunc(text, func(r rune) bool {
		return r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0x2028 ||
			r == 0x2029
	}):
		p.wrong(f.lines[name], "%s has a line break or another control character in it", name)
		return ""
	case len(text) > maxPattern:
		p.wrong(f.lines[name], "%s is longer than %d bytes", name, maxPattern)
		return ""
	}
	return text
}

// maxBefore bounds the lines before the first question.
const maxBefore = 10

// lines returns a list of texts of one line each.
func (p *kindParser) lines(f *fields, name string) []string {
	node := f.values[name]
	if node == nil {
		return nil
	}
	list, ok := node.(*ast.SequenceNode)
	if !ok || len(list.Values) > maxBefore {
		p.wrong(f.lines[name], "%s is a list of at most %d lines", name, maxBefore)
		return nil
	}
	var out []string
	for _, child := range list.Values {
		// Each is read as a field of its own would be.
		single := &fields{
			at: f.lines[name], lines: map[string]int{name: f.lines[name]}, values: map[string]ast.Node{name: child},
		}
		line := p.needed(single, name)
		if holes.MatchString(line) {
			p.wrong(f.lines[name], "in %s nothing stands for anything", name)
		}
		out = append(out, line)
	}
	return out
}

func choice[T ~string](p *kindParser, f *fields, name string, of []T, otherwise T) T {
	text := T(p.wordWhere(otherwise == "", f, name))
	switch {
	case text == "":
		return otherwise
	case !slices.Contains(of, text):
		words := make([]string, len(of))
		for i, w := range of {
			words[i] = string(w)
		}
		p.wrong(f.line(name), "%s is one of %s", name, strings.Join(words, ", "))
	}
	return text
}

// pattern returns the pattern that is the text of a field, or nil where there is none. It takes
// time in proportion to what it is matched with.
func (p *kindParser) pattern(f *fields, name, text string, groups ...string) *regexp.Regexp {
	if text == "" {
		return nil
	}
	re, err := regexp.Compile(text)
	if err != nil {
		message := "cannot be read"
		if wrong, ok := err.(*syntax.Error); ok { //nolint:errorlint // the standard library says that it is one
			message = string(wrong.Code)
			if wrong.Code == syntax.ErrInvalidPerlOp || wrong.Code == syntax.ErrInvalidEscape {
				message += " " + wrong.Expr + ", which RE2 does not have: no looking ahead or back, and no reference to a group"
			}
		}
		p.wrong(f.lines[name], "the pattern of %s is wrong: %s", name, plain.Text(message))
		return nil
	}
	for _, group := range re.SubexpNames()[1:] {
		if group != "" && !slices.Contains(groups, group) {
			p.wrong(f.lines[name], "%s has a group %s, and nothing is known of that", name, plain.Quoted(group))
		}
	}
	return re
}

func (p *kindParser) time(f *fields, name string, otherwise time.Duration) time.Duration {
	text := p.word(f, name)
	if text == "" {
		return otherwise
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 100*time.Millisecond || d > time.Hour {
		p.wrong(f.lines[name], "%s is a time from 100ms to 1h, such as 90s", name)
	}
	return d
}

func (p *kindParser) slots(root *fields, k *Kind) {
	node := root.values["slots"]
	if node == nil {
		p.wrong(root.at, "slots is missing")
		return
	}
	all := p.mapping(node, root.lines["slots"])
	if all == nil {
		return
	}
	if len(all.names) > maxSlots {
		p.wrong(all.at, "a device has at most %d slots", maxSlots)
	}
	for _, name := range all.names {
		line := all.lines[name]
		if !nameForm.MatchString(name) || len(name) > 40 {
			p.wrong(line, "a slot's name has small letters, digits and hyphens")
		}
		slot := p.mapping(all.values[name], line)
		if slot == nil {
			continue
		}
		s := Slot{Name: name, Title: p.word(slot, "title"), Sent: p.word(slot, "sent")}
		if s.Title == "" {
			s.Title = "slot " + name
		}
		if s.Sent == "" {
			s.Sent = name
		}
		if !sentForm.MatchString(s.Sent) {
			p.wrong(
				slot.line("sent"),
				"what is sent for a slot is one word of letters, digits and . _ / : + -, so that it cannot become a line of its own",
			)
		}
		if text := p.wordWhere(k.Covers == WholeSlot, slot, "bytes"); text != "" {
			n, err := strconv.ParseInt(text, 0, 64)
			if err != nil || n < 1 || n > 1<<40 {
				p.wrong(slot.lines["bytes"], "bytes is how many the slot has, from 1 to a TiB")
			}
			s.Bytes = n
		}
		p.rest(slot, "title", "sent", "bytes")
		k.Slots = append(k.Slots, s)
	}
}

func (p *kindParser) questions(root *fields, k *Kind) {
	node := root.values["ask"]
	if node == nil {
		p.wrong(root.at, "ask is missing: which line to send for which algorithm")
		return
	}
	all := p.mapping(node, root.lines["ask"])
	if all == nil {
		return
	}
	for _, name := range all.names {
		line := p.needed(all, name)
		a, err := digest.Parse(name)
		if err != nil {
			p.wrong(all.lines[name], "%s is no algorithm that is known here", plain.Quoted(name))
			continue
		}
		if _, twice := k.Ask[a]; twice {
			p.wrong(all.lines[name], "%s is there twice", a)
		}
		for _, hole := range holes.FindAllString(line, -1) {
			if hole != "{slot}" {
				p.wrong(
					all.lines[name],
					"%s stands for nothing: only {slot} does. What is expected is never sent to a device",
					plain.Quoted(hole),
				)
			}
		}
		if len(k.Slots) > 1 && !strings.Contains(line, "{slot}") {
			p.wrong(all.lines[name], "the line does not say which slot: it needs {slot}")
		}
		k.Ask[a] = line
		for i := range k.Slots {
			// A device that only repeats the question must not be taken for one that answers.
			if k.Answer != nil && k.Answer.MatchString(k.Question(&k.Slots[i], a)) {
				p.wrong(
					root.line("answer"), "the question for %s looks like an answer itself; make the pattern more exact",
					a,
				)
			}
		}
	}
}

func (p *kindParser) fill(root *fields, k *Kind) {
	text := p.wordWhere(k.Covers == WholeSlot, root, "fill")
	switch {
	case text == "":
	case k.Covers != WholeSlot:
		p.wrong(root.lines["fill"], "fill is for digests that cover the slot")
	default:
		n, err := strconv.ParseUint(strings.TrimPrefix(text, "0x"), 16, 8)
		if err != nil {
			p.wrong(root.lines["fill"], "fill is one byte in hexadecimal, such as \"ff\"")
		}
		k.Fill = byte(n)
	}
}
