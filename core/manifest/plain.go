package manifest

import (
	"encoding/binary"
	"math"
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
//
//nolint:cyclop // the loop of a million plain lines: calls would cost more than it does
func (p *parser) plainStart(text string) (rest string, lines int) {
	end := strings.IndexByte(text[:min(len(text), 130)], ' ')
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
	if len(text) > math.MaxUint32 {
		return text, 0
	}
	list := plainLines{size: size, shape: entryOf("", nil, candidates, DigestFirst)}
	list.shape.at(1, 1)
	if !plainFirst(text, size, p.opts.MaxLine) {
		return text, 0
	}
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
		blocks = append(blocks, plainPart{from: from, to: to})
		from = to
	}
	inParallel(len(blocks), func(i int) {
		b := &blocks[i]
		b.starts, b.plain = plainStarts(text[b.from:b.to], uint32(b.from), size, p.opts.MaxLine)
	})
	read, total := 0, 0
	for i := range blocks {
		if !blocks[i].plain || total+len(blocks[i].starts) > p.opts.MaxEntries {
			blocks = blocks[:i]
			break
		}
		read, total = blocks[i].to, total+len(blocks[i].starts)
	}
	if total == 0 {
		return text, 0
	}
	list.text, list.starts = text[:read], make([]uint32, 0, total)
	for i := range blocks {
		list.starts = append(list.starts, blocks[i].starts...)
	}
	p.out.Entries.plain, p.out.Format, p.out.Lines, p.line = &list, DigestFirst, total, total
	return text[read:], total
}

// A plainPart is one block of a list.
type plainPart struct {
	// from and to say which part of the text it is.
	from, to int
	// starts are the places of its lines, if all of them are plain.
	starts []uint32
	plain  bool
}

// plainFirst looks at the first lines, so that a text of another kind costs no more.
func plainFirst(text string, size, maxLine int) bool {
	head := text[:min(len(text), 4096)]
	if len(head) < len(text) {
		cut := strings.LastIndexByte(head, '\n')
		if cut < 0 {
			return false
		}
		head = head[:cut+1]
	}
	_, plain := plainStarts(head, 0, size, maxLine)
	return plain
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

// plainStarts returns where the lines of a block begin, counted from base. It returns
// false when a line is anything but plain.
func plainStarts(block string, base uint32, size, maxLine int) ([]uint32, bool) {
	shortest := 2*size + 3
	starts := make([]uint32, 0, len(block)/(shortest+1)+1)
	for at := 0; at < len(block); {
		end := strings.IndexByte(block[at:], '\n')
		if end < 0 {
			end = len(block) - at
		}
		line := block[at : at+end]
		if end > 0 && line[end-1] == '\r' {
			line = line[:end-1]
		}
		if len(line) < shortest || len(line) > maxLine {
			return nil, false
		}
		if last := line[len(line)-1]; last == ' ' || last == '\t' {
			return nil, false
		}
		if line[2*size] != ' ' || line[2*size+1] != ' ' && line[2*size+1] != '*' || !hexOnly(line[:2*size]) ||
			!plainName(line[2*size+2:]) {
			return nil, false
		}
		starts = append(starts, base+uint32(at))
		at += end + 1
	}
	return starts, true
}

const (
	ones = 0x0101010101010101
	tops = 0x8080808080808080
)

// hexOnly reports whether a text, of a multiple of eight bytes, is all hexadecimal
// digits. Eight are looked at together, each byte of a word where it is.
func hexOnly(text string) bool {
	wrong := uint64(0)
	for i := 0; i+8 <= len(text); i += 8 {
		v := wordOf(text[i : i+8])
		small := v | 0x20*ones
		// The top bit of each byte of a sum tells whether the byte is at least so large.
		digit := (v + (0x80-'0')*ones) &^ (v + (0x80-'9'-1)*ones)
		letter := (small + (0x80-'a')*ones) &^ (small + (0x80-'f'-1)*ones)
		wrong |= (digit|letter)&tops ^ tops | v&tops
	}
	return wrong == 0
}

// decodeInto decodes the digits that a line begins with, which [hexOnly] has seen, eight
// at a time.
func decodeInto(value []byte, line string) {
	for i := 0; i+4 <= len(value); i += 4 {
		v := wordOf(line[2*i : 2*i+8])
		n := v&(0x0f*ones) + (v>>6)&ones*9
		n = (n<<4 | n>>8) & 0x00ff00ff00ff00ff
		n = (n | n>>8) & 0x0000ffff0000ffff
		binary.LittleEndian.PutUint32(value[i:i+4], uint32(n|n>>16))
	}
}

// wordOf returns the first eight bytes of a line, the first of them lowest.
func wordOf(line string) uint64 {
	_ = line[7]
	return uint64(line[0]) | uint64(line[1])<<8 | uint64(line[2])<<16 | uint64(line[3])<<24 |
		uint64(line[4])<<32 | uint64(line[5])<<40 | uint64(line[6])<<48 | uint64(line[7])<<56
}

// signs tells of each byte what it is in a name: part of a word, or something to look at.
var signs = func() (t [256]byte) {
	for i := range t {
		switch c := byte(i); {
		case isAlnum(c):
			t[i] = 1
		case c == '/', c == ' ', c == '\\', c == 0, c == ':', c == '\r':
			t[i] = 2
		}
	}
	return t
}()

// plainName reports whether a name is safe and whole at first sight: relative, with
// clean parts that cannot be a device's, without anything that looks like a further
// column. Others are left to [SafeName] and to the layout.
func plainName(name string) bool {
	if name == "" || name == "-" || !harmlessPart(name) {
		return false
	}
	word := 0 // where the word began that is being looked at
	for i := 0; i < len(name); i++ {
		sign := signs[name[i]]
		if sign == 1 {
			continue
		}
		if i-word >= maxPlainWord {
			return false
		}
		word = i + 1
		if sign != 2 {
			continue
		}
		switch name[i] {
		case '/':
			if !harmlessPart(name[i+1:]) {
				return false
			}
		case ' ':
			if name[i-1] == ' ' {
				return false
			}
		default:
			return false
		}
	}
	return len(name)-word < maxPlainWord
}

// maxPlainWord bounds the words in a plain name: a longer one may be a value.
const maxPlainWord = 22

// harmlessPart reports whether what begins here cannot be a device, a step up or a column.
func harmlessPart(rest string) bool {
	if rest == "" {
		return false
	}
	switch rest[0] | 0x20 {
	case ' ', '"', '.', '/':
		return false
	case 'c', 'p', 'a', 'n', 'l':
		part, _, _ := strings.Cut(rest, "/")
		return !isDevice(part)
	}
	return true
}
