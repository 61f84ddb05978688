package readback

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
)

// A TailKind says what follows an image.
type TailKind string

// What can follow an image.
const (
	// Nothing: the medium ends with the image.
	Nothing TailKind = "nothing"
	// Zeros and Ones: nothing but 00, or nothing but FF as in flash that is erased.
	Zeros TailKind = "zeros"
	Ones  TailKind = "ones"
	// RunOut is what a drive writes at the end of a track: zeros, and sectors that
	// cannot be read.
	RunOut TailKind = "run-out"
	// Blank is both of them, and nothing else.
	Blank TailKind = "blank"
	// Unread is where nothing else is, and not all could be read.
	Unread TailKind = "unread"
	// Content is anything else: mostly what was on the medium before.
	Content TailKind = "content"
)

// TailKinds lists everything that can follow.
func TailKinds() []TailKind {
	return []TailKind{Nothing, Zeros, Ones, Blank, RunOut, Unread, Content}
}

// A Tail is what follows the image on a medium.
type Tail struct {
	Kind TailKind `json:"kind"`
	// Length is all that follows, in bytes, and Content how much of it is neither
	// 00 nor FF, in sectors of 512 bytes; the first of that is at First.
	Length  int64 `json:"length"`
	Content int64 `json:"content,omitempty"`
	First   int64 `json:"first,omitempty"`
	// Unreadable is how much of it could not be read.
	Unreadable int64 `json:"unreadable,omitempty"`
	// Sampled is set when it is long, and only a part of it was looked at.
	Sampled bool `json:"sampled,omitempty"`
	// Sentence says it for people.
	Sentence string `json:"sentence"`
}

const (
	// tailWhole is how much of a tail is read in full; of what follows, samples
	// are taken.
	tailWhole   = 64 << 20
	tailSamples = 512
	tailPiece   = 64 << 10
	// runOut is how long what a drive adds can be: 150 sectors of padding, and the
	// two of the run-out.
	runOut = 152 * 2048
)

// Describe looks at what follows the first length bytes of a medium of a size. It fails
// only when ctx ends or the medium is gone.
func Describe(ctx context.Context, medium io.ReaderAt, length, size int64) (Tail, error) {
	t := Tail{Length: max(size-length, 0)}
	if t.Length == 0 {
		return t.said(0, 0), nil
	}
	var zeros, ones int64
	look := func(offset, n int64) error {
		source := NewSource(medium, offset, n)
		buffer := make([]byte, tailPiece)
		for at := offset; ; {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			before := len(source.Unreadable)
			got, err := io.ReadFull(source, buffer)
			lost := source.Unreadable[before:]
			for i := 0; i < got; i += 512 {
				part := buffer[i:min(i+512, got)]
				here := at + int64(i)
				switch {
				case within(lost, here, int64(len(part))):
					t.Unreadable += int64(len(part))
				case filled(part, 0):
					zeros += int64(len(part))
				case filled(part, 0xff):
					ones += int64(len(part))
				default:
					if t.Content == 0 {
						t.First = here
					}
					t.Content += int64(len(part))
				}
			}
			at += int64(got)
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return nil
			}
			if err != nil {
				return err
			}
		}
	}
	whole := min(t.Length, tailWhole)
	if err := look(length, whole); err != nil {
		return t, err
	}
	if rest := t.Length - whole; rest > 0 {
		t.Sampled = true
		step := max(rest/tailSamples, tailPiece)
		for at := length + whole; at < size; at += step {
			if err := look(at, min(tailPiece, size-at)); err != nil {
				return t, err
			}
		}
	}
	return t.said(zeros, ones), nil
}

// within reports whether some of n bytes from a place on are in one of the ranges.
func within(all []Range, at, n int64) bool {
	for _, r := range all {
		if at+n > r.Offset && at < r.Offset+r.Length {
			return true
		}
	}
	return false
}

func filled(p []byte, filler byte) bool {
	return len(p) > 0 && p[0] == filler && bytes.Equal(p[1:], p[:len(p)-1])
}

// said concludes from what was counted.
func (t Tail) said(zeros, ones int64) Tail {
	switch {
	case t.Length == 0:
		t.Kind = Nothing
	case t.Content > 0:
		t.Kind = Content
	case t.Unreadable > 0 && t.Length <= runOut:
		t.Kind = RunOut
	case t.Unreadable > 0:
		t.Kind = Unread
	case ones == 0:
		t.Kind = Zeros
	case zeros == 0:
		t.Kind = Ones
	default:
		t.Kind = Blank
	}
	t.Sentence = t.words()
	return t
}

// words says what follows an image, for people.
func (t Tail) words() string {
	all := bytesOf(t.Length)
	sampled := ""
	if t.Sampled {
		sampled = ", as far as samples of it show"
	}
	switch t.Kind {
	case Nothing:
		return "Nothing follows the image: the medium ends with it."
	case RunOut:
		return fmt.Sprintf(
			"%s follow the image, of which %s cannot be read: the run-out that a drive writes behind a track.", all,
			bytesOf(t.Unreadable),
		)
	case Unread:
		return fmt.Sprintf(
			"%s follow the image, of which %s cannot be read%s. They are no part of the image.", all,
			bytesOf(t.Unreadable), sampled,
		)
	case Zeros:
		return fmt.Sprintf("%s of zeros follow the image%s.", all, sampled)
	case Ones:
		return fmt.Sprintf("%s of FF follow the image, as in flash that is erased%s.", all, sampled)
	case Blank:
		return fmt.Sprintf("%s follow the image, zeros and FF and nothing else%s.", all, sampled)
	default:
		return fmt.Sprintf(
			"%s follow the image, and %s of that is other content, from offset %d on%s: mostly what was on the medium before. It is no part of the image.",
			all,
			bytesOf(t.Content),
			t.First,
			sampled,
		)
	}
}
