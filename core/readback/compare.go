package readback

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

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
func Compare(ctx context.Context, medium io.ReaderAt, length int64, o Original, progress func(total int64)) (*Damage, error) {
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
		if looked == maxLooked {
			d.More++
			continue
		}
		looked++
		elsewhere, ok := place[string(sum[:])]
		switch {
		case len(source.Unreadable) > 0:
			for _, r := range source.Unreadable {
				d.add(Difference{Range: r, Looks: "it cannot be read"})
			}
		case int64(got) < part.Length:
			d.add(Difference{Range: span(part.Offset+int64(got), part.Length-int64(got)), Looks: endsBefore})
		case ok && !filled(content, 0) && !filled(content, 0xff):
			d.add(Difference{Range: part, Looks: fmt.Sprintf("what belongs at offset %d stands here", int64(elsewhere)*d.Piece), moved: int64(elsewhere)*d.Piece - part.Offset})
		default:
			closer, err := closely(ctx, part, content, o)
			if err != nil {
				return nil, err
			}
			for _, c := range closer {
				d.add(c)
			}
		}
	}
	d.Map = drawn(state)
	return d, nil
}

// add adds a difference, or lengthens the last one that it goes on.
func (d *Damage) add(c Difference) {
	if last := len(d.Differences) - 1; last >= 0 {
		before := &d.Differences[last]
		if before.Offset+before.Length == c.Offset && (before.Looks == c.Looks || before.moved == c.moved && c.moved != 0) {
			before.Length += c.Length
			return
		}
	}
	d.Differences = append(d.Differences, c)
}

// closely finds the differing parts of a piece.
func closely(ctx context.Context, part Range, content []byte, o Original) ([]Difference, error) {
	want, err := o.Pieces(ctx, part, fine)
	if err != nil {
		return nil, err
	}
	var out []Difference
	for i, w := range want {
		from := int64(i) * fine
		here := content[min(from, int64(len(content))):min(from+fine, int64(len(content)))]
		if sum := sha256.Sum256(here); bytes.Equal(sum[:], w) {
			continue
		}
		r := span(part.Offset+from, min(fine, part.Length-from))
		if last := len(out) - 1; last >= 0 && out[last].Offset+out[last].Length == r.Offset {
			out[last].Length += r.Length
			continue
		}
		out = append(out, Difference{Range: r})
	}
	for i := range out {
		d := &out[i]
		from := d.Offset - part.Offset
		looksLike(d, content[min(from, int64(len(content))):min(from+d.Length, int64(len(content)))], o.Bytes())
	}
	return out, nil
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
	switch {
	case differing > 16 && filled(exactly, 0):
		d.Looks = zerosThere
		return
	case differing > 16 && filled(exactly, 0xff):
		d.Looks = erasedThere
		return
	case flipped == 1:
		d.Looks = "a single bit is flipped"
		return
	case differing <= 16:
		d.Looks = fmt.Sprintf("%s differ, of %d", bytesOf(int64(differing)), d.Length)
		return
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
