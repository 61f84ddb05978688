package manifest

import (
	"encoding/hex"
	"runtime"
	"strings"
	"sync"

	"endeixis/core/digest"
)

// plainBlock is how much of a list one worker reads at a time, in bytes.
const plainBlock = 1 << 20

// plainStart reads what a list begins with, if that is nothing but digest-first lines of
// one algorithm, as in long lists nearly always all of it is: by blocks, on every core.
// From the first block with anything else in it the text is read by its layout, which
// finds the same in plain lines. It returns the number of lines read.
func (p *parser) plainStart(text string) (rest string, lines int) {
	end := strings.IndexByte(text, ' ')
	if end < 32 || end > 128 || end%2 != 0 {
		return text, 0
	}
	size := end / 2
	candidates := digest.OfSize(size)
	switch {
	case candidates == nil || p.hint.Size() > size:
		return text, 0
	case p.hint.Size() == size:
		candidates = digest.Only(p.hint)
	}
	shape := entryOf("", nil, candidates, DigestFirst)
	shape.Column = 1
	var blocks []plainPart
	for from := 0; from < len(text); {
		to := min(from+plainBlock, len(text))
		if to < len(text) {
			cut := strings.LastIndexByte(text[from:to], '\n')
			if cut < 0 {
				return text, 0
			}
			to = from + cut + 1
		}
		blocks = append(blocks, plainPart{text: text[from:to]})
		from = to
	}
	if !plainFirst(text, size, shape, p.opts.MaxLine) {
		return text, 0
	}
	inParallel(len(blocks), func(i int) { blocks[i].lines = countLines(blocks[i].text) })
	total := 0
	for i := range blocks {
		blocks[i].from = total
		total += blocks[i].lines
	}
	for total > p.opts.MaxEntries {
		total = blocks[len(blocks)-1].from
		blocks = blocks[:len(blocks)-1]
	}
	entries := make([]Entry, total)
	inParallel(len(blocks), func(i int) {
		b := &blocks[i]
		b.plain = fillPlain(entries[b.from:b.from+b.lines], b.text, b.from+1, size, shape, p.opts.MaxLine)
	})
	read := 0
	for i := range blocks {
		if !blocks[i].plain {
			total = blocks[i].from
			clear(entries[total:])
			break
		}
		read += len(blocks[i].text)
	}
	if total == 0 {
		return text, 0
	}
	p.out.Entries, p.out.Format, p.out.Lines, p.line = entries[:total], DigestFirst, total, total
	return text[read:], total
}

// A plainPart is one block of a list.
type plainPart struct {
	text string
	// from is the index of its first line, and lines how many there are.
	from, lines int
	plain       bool
}

// plainFirst looks at the first lines, so that a text of another kind costs no more.
func plainFirst(text string, size int, shape Entry, maxLine int) bool {
	head := text[:min(len(text), 4096)]
	if len(head) < len(text) {
		cut := strings.LastIndexByte(head, '\n')
		if cut < 0 {
			return false
		}
		head = head[:cut+1]
	}
	return fillPlain(make([]Entry, countLines(head)), head, 1, size, shape, maxLine)
}

func countLines(text string) int {
	n := strings.Count(text, "\n")
	if text != "" && text[len(text)-1] != '\n' {
		n++
	}
	return n
}

// inParallel calls do for each number below n, on every core.
func inParallel(n int, do func(i int)) {
	workers := min(runtime.GOMAXPROCS(0), n)
	if workers <= 1 {
		for i := range n {
			do(i)
		}
		return
	}
	var wait sync.WaitGroup
	for w := range workers {
		wait.Go(func() {
			for i := w; i < n; i += workers {
				do(i)
			}
		})
	}
	wait.Wait()
}

// fillPlain reads a block of plain lines into entries, of which there are as
// many as lines. It returns false when a line is anything else.
func fillPlain(entries []Entry, text string, line, size int, shape Entry, maxLine int) bool {
	digests := make([]byte, size*len(entries))
	at := 0
	for i := range entries {
		end := strings.IndexByte(text[at:], '\n')
		if end < 0 {
			end = len(text) - at
		}
		one := text[at : at+end]
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
		if !decodeInto(value, one) {
			return false
		}
		e := &entries[i]
		*e = shape
		e.Name, e.Digest, e.Line = one[2*size+2:], value, line+i
	}
	return true
}

// decodeInto decodes the digits that a line begins with.
func decodeInto(value []byte, line string) bool {
	_, err := hex.Decode(value, []byte(line[:2*len(value)]))
	return err == nil
}

// plainName reports whether a name is safe and whole at first sight: relative, with
// clean parts that cannot be a device's, without anything that looks like a further
// column. Others are left to [SafeName] and to the layout.
func plainName(name string) bool {
	start := true
	run := 0
	for i := 0; i < len(name); i++ {
		c := name[i]
		if start {
			switch c | 0x20 {
			case ' ', '"':
				return false
			case '.', 'c', 'p', 'a', 'n', 'l', '/':
				if _, _, ok := SafeName(name); !ok {
					return false
				}
			}
			start = false
		}
		if isAlnum(c) {
			if run++; run >= 22 {
				return false
			}
			continue
		}
		run = 0
		switch c {
		case '/':
			start = true
		case ' ':
			if i > 0 && name[i-1] == ' ' {
				return false
			}
		case '\\', 0, ':', '\r':
			return false
		}
	}
	return name != ""
}
