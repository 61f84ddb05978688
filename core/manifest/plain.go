package manifest

import (
	"bytes"
	"encoding/hex"
	"io"
	"runtime"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// Long manifests are nearly always one digest-first line after the other, all
// of one algorithm. After enough such lines, the rest is read by blocks on
// every core, for as long as nothing else comes. The first block with anything
// else in it, and all behind it, is read line by line again; so the result is
// the same, entry for entry.
const (
	// plainAfter is how many plain lines have to come first.
	plainAfter = 256
	// plainBlock is how much is read at once, in bytes.
	plainBlock = 1 << 20
)

// plainReady reports whether all that was read so far is plain.
func (p *parser) plainReady() bool {
	n := len(p.out.Entries)
	return n >= plainAfter && p.out.Lines == n && p.out.Format == DigestFirst && p.section == digest.Unknown && p.table == nil &&
		len(p.bare) == 0 && len(p.out.Problems) == 0 && !p.signedText && len(p.out.Entries[n-1].Digest) >= 16
}

// A plainPart is one block on its way through a worker.
type plainPart struct {
	block []byte
	// entries is where its lines go.
	from, to  int
	firstLine int
	plain     chan bool
}

// plainLines reads plain lines for as long as they come, and returns what is
// left of the text.
func (p *parser) plainLines(text io.Reader) (io.Reader, error) {
	last := p.out.Entries[len(p.out.Entries)-1]
	shape := Entry{Algorithm: last.Algorithm, Candidates: last.Candidates, Column: 1, Format: DigestFirst}
	size := len(last.Digest)
	var (
		pending []*plainPart
		spare   [][]byte // blocks that are read and settled
		carry   []byte
		ended   bool
		failure error
	)
	// settle waits until at most so many parts are under way. It reports
	// whether all that came in were plain.
	settle := func(most int) bool {
		for len(pending) > most {
			if !<-pending[0].plain {
				return false
			}
			p.line += pending[0].to - pending[0].from
			p.out.Lines += pending[0].to - pending[0].from
			spare = append(spare, pending[0].block)
			pending = pending[1:]
		}
		return true
	}
	// giveBack undoes the parts that are not settled and returns their text.
	giveBack := func() io.Reader {
		var parts []io.Reader
		for i, part := range pending {
			if i > 0 {
				<-part.plain
			}
			parts = append(parts, bytes.NewReader(part.block))
		}
		if len(pending) > 0 {
			clear(p.out.Entries[pending[0].from:])
			p.out.Entries = p.out.Entries[:pending[0].from]
		}
		return io.MultiReader(append(parts, bytes.NewReader(carry), text)...)
	}
	for !ended {
		var block []byte
		if len(spare) > 0 {
			block, spare = spare[0][:0], spare[1:]
		}
		block = slices.Grow(block, len(carry)+plainBlock)[:len(carry)+plainBlock]
		copy(block, carry)
		n, err := io.ReadFull(text, block[len(carry):])
		block = block[:len(carry)+n]
		carry = nil
		if err != nil {
			ended = true
			if err != io.EOF && err != io.ErrUnexpectedEOF {
				failure = err
			}
		} else {
			end := bytes.LastIndexByte(block, '\n') + 1
			block, carry = block[:end], slices.Clone(block[end:])
		}
		lines := bytes.Count(block, []byte{'\n'})
		if len(block) > 0 && block[len(block)-1] != '\n' {
			lines++
		}
		part := &plainPart{block: block, from: len(p.out.Entries), firstLine: 1, plain: make(chan bool, 1)}
		part.to = part.from + lines
		if len(pending) > 0 {
			part.firstLine = pending[len(pending)-1].firstLine + pending[len(pending)-1].to - pending[len(pending)-1].from
		} else {
			part.firstLine = p.line + 1
		}
		if lines == 0 || part.to > p.opts.MaxEntries || len(carry) > p.opts.MaxLine {
			ok := settle(0)
			carry = append(slices.Clone(block), carry...)
			if lines == 0 && ok && len(carry) == 0 {
				break
			}
			if !ok {
				return giveBack(), failure
			}
			return io.MultiReader(bytes.NewReader(carry), text), failure
		}
		if part.to > cap(p.out.Entries) {
			if !settle(0) {
				pending = append(pending, part)
				part.plain <- false
				return giveBack(), failure
			}
			p.out.Entries = slices.Grow(p.out.Entries, max(lines, p.expected(lines, len(block))))
		}
		p.out.Entries = p.out.Entries[:part.to]
		pending = append(pending, part)
		go func(into []Entry) {
			part.plain <- fillPlain(into, part.block, part.firstLine, size, shape, p.opts.MaxLine)
		}(p.out.Entries[part.from:part.to])
		if !settle(runtime.GOMAXPROCS(0)) {
			return giveBack(), failure
		}
	}
	if !settle(0) {
		return giveBack(), failure
	}
	return bytes.NewReader(nil), failure
}

// expected guesses how many more entries there will be from how many a block
// of some bytes held.
func (p *parser) expected(lines, size int) int {
	if p.left == nil {
		return len(p.out.Entries)
	}
	return min(lines+(p.left()/size+1)*lines*102/100, p.opts.MaxEntries)
}

// fillPlain reads a block of plain lines into entries, of which there are as
// many as lines. It returns false when a line is anything else.
func fillPlain(entries []Entry, block []byte, line, size int, shape Entry, maxLine int) bool {
	text := string(block) // one copy holds all the names
	digests := make([]byte, size*len(entries))
	at := 0
	for i := range entries {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			end = len(text) - at
		}
		one, field := text[at:at+end], block[at:]
		at += end + 1
		if n := len(one); n > 0 && one[n-1] == '\r' {
			one = one[:n-1]
		}
		if n := len(one); n > 0 && (one[n-1] == ' ' || one[n-1] == '\t') {
			return false
		}
		if len(one) < 2*size+3 || len(one) > maxLine || one[2*size] != ' ' || one[2*size+1] != ' ' && one[2*size+1] != '*' || !plainName(one[2*size+2:]) {
			return false
		}
		value := digests[i*size : (i+1)*size : (i+1)*size]
		if _, err := hex.Decode(value, field[:2*size]); err != nil {
			return false
		}
		e := &entries[i]
		*e = shape
		e.Name, e.Digest, e.Line = one[2*size+2:], value, line+i
	}
	return true
}

// plainName reports whether a name is safe at first sight: relative, with clean
// parts that cannot be a device's. Others are left to [SafeName].
func plainName(name string) bool {
	start := true
	for i := 0; i < len(name); i++ {
		c := name[i]
		if start {
			switch c | 0x20 {
			case '.', 'c', 'p', 'a', 'n', 'l', '/':
				if _, _, ok := SafeName(name); !ok {
					return false
				}
				return strings.IndexByte(name, '\r') < 0
			}
			start = false
		}
		switch c {
		case '/':
			start = true
		case '\\', 0, ':', '\r':
			return false
		}
	}
	return name != ""
}
