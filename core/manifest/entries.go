package manifest

import (
	"encoding/json"
	"iter"
	"slices"

	"endeixis/core/digest"
)

// Entries are the statements of a manifest in the order of the text. The zero value has
// none.
//
// A list can have millions of plain lines. Of those only the place is kept, and an entry
// is made of its line whenever it is asked for; asking twice makes it twice.
type Entries struct {
	plain *plainLines
	// rest are those behind the plain lines.
	rest []Entry
}

// EntriesOf returns a list of entries as Entries, which keep the list.
func EntriesOf(list []Entry) Entries { return Entries{rest: list} }

// Len returns how many entries there are.
func (e Entries) Len() int { return e.plain.len() + len(e.rest) }

// At returns the entry with an index, from 0. It panics where there is none.
func (e Entries) At(i int) Entry {
	if n := e.plain.len(); i >= n {
		return e.rest[i-n]
	}
	return e.plain.entry(i, make([]byte, e.plain.size))
}

// All returns the entries one after the other, each with its index.
func (e Entries) All() iter.Seq2[int, Entry] {
	return func(yield func(int, Entry) bool) {
		n := e.plain.len()
		var slab []byte
		for i := range n {
			size := e.plain.size
			if len(slab) == 0 {
				slab = make([]byte, size*min(n-i, 64))
			}
			if !yield(i, e.plain.entry(i, slab[:size:size])) {
				return
			}
			slab = slab[size:]
		}
		for i, current := range e.rest {
			if !yield(n+i, current) {
				return
			}
		}
	}
}

// Below returns the entries that the text would have if it stood so many lines further
// down in another one. The entries themselves stay as they are.
func (e Entries) Below(lines int) Entries {
	out := Entries{rest: slices.Clone(e.rest)}
	if e.plain != nil {
		moved := *e.plain
		moved.shape.Line += lines
		out.plain = &moved
	}
	for i := range out.rest {
		out.rest[i].Line += lines
	}
	return out
}

// MarshalJSON writes the entries as a list.
func (e Entries) MarshalJSON() ([]byte, error) {
	out := []byte{'['}
	for i, entry := range e.All() {
		if i > 0 {
			out = append(out, ',')
		}
		b, err := entry.MarshalJSON()
		if err != nil {
			return nil, err
		}
		out = append(out, b...)
	}
	return append(out, ']'), nil
}

// UnmarshalJSON reads a list of entries.
func (e *Entries) UnmarshalJSON(b []byte) error {
	e.plain, e.rest = nil, nil
	return json.Unmarshal(b, &e.rest)
}

// each calls do for every entry, which it may change: plain lines become entries that
// are kept.
func (e *Entries) each(do func(*Entry)) {
	if e.plain != nil {
		all := make([]Entry, 0, e.Len())
		for _, entry := range e.All() {
			all = append(all, entry)
		}
		e.plain, e.rest = nil, all
	}
	for i := range e.rest {
		do(&e.rest[i])
	}
}

// plainLines are digest-first lines of one algorithm with nothing else about them.
type plainLines struct {
	text string
	// starts are the places where the lines begin, in bytes.
	starts []uint32
	// size is the length of each digest in bytes.
	size int
	// located is set once places are asked for, and shift is how many bytes stand before
	// the text.
	located bool
	shift   int
	// shape is what the entries have in common, with the line of the first.
	shape Entry
}

func (l *plainLines) len() int {
	if l == nil {
		return 0
	}
	return len(l.starts)
}

// entry makes the entry of a line, with its digest in value.
func (l *plainLines) entry(i int, value digest.Value) Entry {
	to := len(l.text)
	if i+1 < len(l.starts) {
		to = int(l.starts[i+1])
	}
	line := l.text[l.starts[i]:to]
	if end := len(line) - 1; line[end] == '\n' {
		line = line[:end]
	}
	if end := len(line) - 1; line[end] == '\r' {
		line = line[:end]
	}
	decodeInto(value, line)
	e := l.shape
	if l.located {
		e.span = Span{l.shift + int(l.starts[i]), l.shift + int(l.starts[i]) + 2*l.size}
	}
	e.Name, e.Digest, e.Line = line[2*l.size+2:], value, e.Line+i
	return e
}
