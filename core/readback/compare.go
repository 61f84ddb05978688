package readback

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"

	"endeixis/core/digest"
)

// An Original is the image that should be on a medium, as far as it can be asked.
type Original interface {
	// Pieces returns the SHA-256 digests of the pieces of a part of it, each of
	// size bytes but for the last.
	Pieces(ctx context.Context, part Range, size int64) ([]digest.Value, error)
	// Bytes returns the image itself, or nil where only digests can be had.
	Bytes() io.ReaderAt
}

// A Difference is a part of a medium that is not as it should be.
type Difference struct {
	Range
	// Looks says what stands there, for people.
	Looks string `json:"looks"`
	// moved is how far from here stands what should be here, if it stands elsewhere.
	moved int64
}

// Damage tells where a medium differs from the image.
type Damage struct {
	// Piece is the size of the pieces that were compared, Differing how many of them
	// differ, and Of how many there are.
	Piece     int64 `json:"piece"`
	Differing int   `json:"differing"`
	Of        int   `json:"of"`
	// Differences are the first of them, more closely; More are left out.
	Differences []Difference `json:"differences"`
	More        int          `json:"more,omitempty"`
	// Whole says what is the matter with the image as a whole, where that could be told.
	Whole string `json:"whole,omitempty"`
	// Map draws the medium from its beginning to its end, each character a part of
	// it: "=" as it should be, "x" not so, "!" not readable.
	Map string `json:"map"`
}

const (
	// usualPiece is the size of the pieces of an image, unless there would be fewer than
	// a map has cells, or more than mostPieces.
	usualPiece = 1 << 20
	mostPieces = 16 << 10
	// fine is the size of the pieces into which one that differs is divided.
	fine = 4 << 10
	// maxLooked bounds how many pieces are looked at more closely.
	maxLooked = 64
	// endsBefore is what is said of where a medium is too short.
	endsBefore = "the medium ends before"
	// zerosThere and erasedThere are said of what is there instead.
	zerosThere  = "zeros stand there"
	erasedThere = "FF stands there, as in flash that is erased"
	// small is the smallest block that is told to stand elsewhere: a sector.
	small = 512
	// mapCells is how many characters a map has at most.
	mapCells = 64
)

// PieceSize returns the size of the pieces by which an image of a length is compared.
func PieceSize(length int64) int64 {
	size := int64(usualPiece)
	for size > fine && length/size < mapCells {
		size /= 2
	}
	for length/size > mostPieces {
		size *= 2
	}
	return size
}

// Compare reads the first length bytes of a medium once more, and finds out where it
// differs from the image. It fails when ctx ends, when the medium is gone, or as o does.
func Compare(
	ctx context.Context, medium io.ReaderAt, length int64, o Original, progress func(total int64),
) (*Damage, error) {
	d := &Damage{Piece: PieceSize(length), Differences: []Difference{}}
	want, err := o.Pieces(ctx, span(0, length), d.Piece)
	if err != nil {
		return nil, err
	}
	place := make(map[string]int, len(want))
	for i, w := range want {
		place[string(w)] = i
	}
	d.Of = len(want)
	state := bytes.Repeat([]byte{'='}, len(want))
	buffer := make([]byte, d.Piece)
	var closer []block
	looked := 0
	for i := range want {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		part := span(int64(i)*d.Piece, min(d.Piece, length-int64(i)*d.Piece))
		source := NewSource(medium, part.Offset, part.Length)
		got, err := io.ReadFull(source, buffer[:part.Length])
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, err
		}
		if progress != nil {
			progress(part.Offset + part.Length)
		}
		content := buffer[:got]
		sum := sha256.Sum256(content)
		switch {
		case len(source.Unreadable) > 0:
			state[i] = '!'
		case bytes.Equal(sum[:], want[i]):
			continue
		default:
			state[i] = 'x'
		}
		d.Differing++
		for _, r := range source.Unreadable {
			d.add(Difference{Range: r, Looks: "it cannot be read"})
		}
		if len(source.Unreadable) > 0 {
			continue
		}
		if looked == maxLooked {
			d.More++
			continue
		}
		looked++
		found, ok := place[string(sum[:])]
		switch {
		case int64(got) < part.Length:
			d.add(Difference{Range: span(part.Offset+int64(got), part.Length-int64(got)), Looks: endsBefore})
		case ok && !filled(content, 0) && !filled(content, 0xff):
			d.add(moved(part, int64(found)*d.Piece))
		case reversed(content, want[i]) > 0:
			d.add(Difference{Range: part, Looks: wordOrder(reversed(content, want[i]))})
		default:
			more, err := closely(ctx, part, content, o)
			if err != nil {
				return nil, err
			}
			closer = append(closer, more...)
		}
	}
	d.Differences = append(d.Differences, explained(closer, o.Bytes())...)
	d.inOrder()
	d.Map = drawn(state)
	if 2*d.Differing > d.Of {
		d.Whole, err = whole(ctx, medium, want, d.Piece, length)
	}
	return d, err
}

// inOrder puts the differences in the order of their places, and together what goes on.
func (d *Damage) inOrder() {
	all := d.Differences
	slices.SortStableFunc(all, func(a, b Difference) int { return cmp.Compare(a.Offset, b.Offset) })
	d.Differences = []Difference{}
	for _, c := range all {
		d.add(c)
	}
}

// moved is a difference where something of the image stands that belongs elsewhere.
func moved(here Range, belongs int64) Difference {
	return Difference{
		Range: here, Looks: fmt.Sprintf("what belongs at offset %d stands here", belongs), moved: belongs - here.Offset,
	}
}

// words are the lengths of words whose bytes may stand in reverse order.
var words = []int{2, 4, 8}

// reversed returns in words of which length the bytes of content stand in reverse order, or
// 0.
func reversed(content []byte, want digest.Value) int {
	for _, n := range words {
		if sum := sha256.Sum256(swapped(content, n)); bytes.Equal(sum[:], want) {
			return n
		}
	}
	return 0
}

// swapped returns content with the bytes of each word in reverse order.
func swapped(content []byte, n int) []byte {
	out := bytes.Clone(content)
	for at := 0; at+n <= len(out); at += n {
		slices.Reverse(out[at : at+n])
	}
	return out
}

func wordOrder(n int) string {
	return fmt.Sprintf("the bytes of each word of %d stand in reverse order", n)
}

// usualShifts are how far an image is written too far mostly: sectors, the space before a
// first partition, and what loaders leave free.
var usualShifts = []int64{
	512, 1024, 2048, 4096, 8192, 16 << 10, 32 << 10, 32256, 64 << 10, 128 << 10, 256 << 10, 512 << 10, 1 << 20, 2 << 20,
	4 << 20, 8 << 20, 16 << 20, 32 << 20, 64 << 20,
}

// whole finds out whether an image stands on a medium as a whole, but elsewhere.
func whole(ctx context.Context, medium io.ReaderAt, want []digest.Value, piece, length int64) (string, error) {
	buffer := make([]byte, piece)
	for _, shift := range usualShifts {
		holds := true
		for i := 0; i < len(want) && i < maxLooked && holds; i++ {
			if ctx.Err() != nil {
				return "", context.Cause(ctx)
			}
			n := min(piece, length-int64(i)*piece)
			got, _ := medium.ReadAt(buffer[:n], shift+int64(i)*piece)
			sum := sha256.Sum256(buffer[:got])
			holds = bytes.Equal(sum[:], want[i])
		}
		if holds {
			return fmt.Sprintf("The image stands %s further on than it should.", bytesOf(shift)), nil
		}
	}
	return "", nil
}

// add adds a difference, or lengthens the last one that it goes on.
func (d *Damage) add(c Difference) {
	if last := len(d.Differences) - 1; last >= 0 {
		before := &d.Differences[last]
		if before.Offset+before.Length == c.Offset &&
			(before.Looks == c.Looks || before.moved == c.moved && c.moved != 0) {
			before.Length += c.Length
			return
		}
	}
	d.Differences = append(d.Differences, c)
}

// A block is a small part of a medium that is not as it should be.
type block struct {
	at   int64
	here []byte
	// want is the digest of what should be there, and size how long that is.
	want digest.Value
	size int64
}

// closely finds the differing parts of a piece.
func closely(ctx context.Context, part Range, content []byte, o Original) ([]block, error) {
	want, err := o.Pieces(ctx, part, fine)
	if err != nil {
		return nil, err
	}
	var out []block
	for i, w := range want {
		from := int64(i) * fine
		here := content[min(from, int64(len(content))):min(from+fine, int64(len(content)))]
		if sum := sha256.Sum256(here); !bytes.Equal(sum[:], w) {
			out = append(out, block{part.Offset + from, bytes.Clone(here), w, min(fine, part.Length-from)})
		}
	}
	return out, nil
}

// explained says what stands at differing blocks, which are in order: what belongs
// elsewhere, down to a sector where the image itself can be read, and what else it looks
// like.
func explained(blocks []block, original io.ReaderAt) []Difference {
	key := func(b *block) string {
		sum := sha256.Sum256(b.here)
		return string(sum[:])
	}
	if original != nil {
		blocks = sectors(blocks, original)
	}
	belongs := map[string]int64{}
	for i := range blocks {
		belongs[string(blocks[i].want)] = blocks[i].at
	}
	var out []Difference
	for i := 0; i < len(blocks); {
		b := &blocks[i]
		if at, ok := belongs[key(b)]; ok && at != b.at && !filled(b.here, 0) && !filled(b.here, 0xff) {
			out = append(out, moved(span(b.at, b.size), at))
			i++
			continue
		}
		// What goes on is looked at as one.
		rest := Difference{Range: span(b.at, b.size)}
		here := bytes.Clone(b.here)
		for i++; i < len(blocks) && blocks[i].at == rest.Offset+rest.Length; i++ {
			next := &blocks[i]
			if at, ok := belongs[key(next)]; ok && at != next.at && !filled(next.here, 0) && !filled(next.here, 0xff) {
				break
			}
			rest.Length += next.size
			here = append(here, next.here...)
		}
		looksLike(&rest, here, original)
		out = append(out, rest)
	}
	return out
}

// sectors divides blocks into the sectors of them that differ from the image.
func sectors(blocks []block, original io.ReaderAt) []block {
	var out []block
	for i := range blocks {
		b := &blocks[i]
		should := at(original, b.at, int(b.size))
		if int64(len(should)) < b.size || int64(len(b.here)) < b.size {
			out = append(out, *b)
			continue
		}
		for from := int64(0); from < b.size; from += small {
			to := min(from+small, b.size)
			if !bytes.Equal(b.here[from:to], should[from:to]) {
				sum := sha256.Sum256(should[from:to])
				out = append(out, block{b.at + from, b.here[from:to], sum[:], to - from})
			}
		}
	}
	return out
}

// near is how far content is looked for that may be shifted.
const near = 64 << 10

// looksLike says what stands at a difference, and narrows it down where the image itself
// can be read.
func looksLike(d *Difference, here []byte, original io.ReaderAt) {
	switch {
	case len(here) == 0:
		d.Looks = endsBefore
	case filled(here, 0):
		d.Looks = zerosThere
	case filled(here, 0xff):
		d.Looks = erasedThere
	default:
		d.Looks = "other content stands there"
	}
	if original == nil || len(here) == 0 {
		return
	}
	before := min(d.Offset, near)
	around := at(original, d.Offset-before, int(before+d.Length+near))
	if int64(len(around)) < before+int64(len(here)) {
		return
	}
	should := around[before : before+int64(len(here))]
	first, last, differing, flipped := -1, 0, 0, 0
	for i := range here {
		if here[i] != should[i] {
			if first < 0 {
				first = i
			}
			last = i
			differing++
			for x := here[i] ^ should[i]; x != 0; x &= x - 1 {
				flipped++
			}
		}
	}
	if first < 0 {
		return
	}
	d.Offset, d.Length = d.Offset+int64(first), int64(last-first+1)
	exactly := here[first : last+1]
	start := d.Offset - int64(first) // of here
	switch {
	case differing > 16 && filled(exactly, 0):
		d.Looks = zerosThere
		d.widen(here, start, 0)
		return
	case differing > 16 && filled(exactly, 0xff):
		d.Looks = erasedThere
		d.widen(here, start, 0xff)
		return
	case flipped == 1:
		d.Looks = "a single bit is flipped"
		return
	case differing <= 16:
		d.Looks = fmt.Sprintf("%s differ, of %d", bytesOf(int64(differing)), d.Length)
		return
	}
	for _, n := range words {
		// Words are counted from the beginning of the image.
		from := (n - int(start%int64(n))) % n
		if from < len(here) &&
			bytes.Equal(swapped(here[from:], n)[:(len(here)-from)/n*n], should[from:from+(len(here)-from)/n*n]) {
			d.Looks = wordOrder(n)
			return
		}
	}
	// Content that is shifted stands nearby, from the middle of the difference on.
	middle := (first + last) / 2
	sample := here[middle:min(middle+64, len(here))]
	if len(sample) == 64 && !filled(sample, 0) && !filled(sample, 0xff) && bytes.Count(around, sample) == 1 {
		if by := int64(middle) - (int64(bytes.Index(around, sample)) - before); by != 0 {
			d.Looks = fmt.Sprintf("the content is shifted by %s", bytesOf(max(by, -by)))
		}
	}
}

// widen makes a difference as long as the sectors that are filled with a byte throughout:
// where the image has that byte too, nothing differs, and yet they were lost with the rest.
func (d *Difference) widen(here []byte, start int64, filler byte) {
	from, to := d.Offset-start, d.Offset+d.Length-start
	for from > 0 && (start+from)%small != 0 && here[from-1] == filler {
		from--
	}
	for to < int64(len(here)) && (start+to)%small != 0 && here[to] == filler {
		to++
	}
	d.Offset, d.Length = start+from, to-from
}

// drawn draws the states of pieces in few characters; of several in one, the worst
// shows.
func drawn(state []byte) string {
	cells := min(len(state), mapCells)
	out := bytes.Repeat([]byte{'='}, cells)
	for i, s := range state {
		cell := &out[i*cells/len(state)]
		if s == '!' || s == 'x' && *cell == '=' {
			*cell = s
		}
	}
	return string(out)
}
