// Package readback reads what was written to a medium, and says how it compares
// with what should be there: exactly as many bytes as the image has, what could not
// be read, what follows, and where it differs.
//
// A medium is an [io.ReaderAt]: a device node, a dump, a disc image. The package
// opens nothing and writes nothing.
package readback

import (
	"fmt"
	"slices"
	"strings"

	"endeixis/core/diagnose"
	"endeixis/core/plain"
)

// A Range is a part of a medium, in bytes from its beginning.
type Range = diagnose.Range

func span(offset, length int64) Range { return Range{Offset: offset, Length: length} }

// A Medium is what was read, as far as the system tells.
type Medium struct {
	// Name is the device node or file.
	Name string `json:"name"`
	// Size is in bytes, all of it.
	Size   int64  `json:"size"`
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
	// Label is what the image on it calls itself.
	Label string `json:"label,omitempty"`
	// Number counts media that are read one after the other; 0 for a single one.
	Number int `json:"number,omitempty"`
	// From is where the part of it begins that was looked at, in bytes; Size is how long that is.
	From int64 `json:"from,omitempty"`
}

// A Cache says whether the bytes came from the medium, and not from what the system
// still had in memory of writing them.
type Cache string

// What is known of the cache.
const (
	// Avoided: the medium was read past the system's memory.
	Avoided Cache = "avoided"
	// Dropped: the system was asked to forget before; it may not have.
	Dropped Cache = "dropped"
	// NotAvoided: the bytes may have come from memory.
	NotAvoided Cache = "not-avoided"
)

// Caches lists everything that is known of the cache.
func Caches() []Cache { return []Cache{Avoided, Dropped, NotAvoided} }

// Sentence says it for people.
func (c Cache) Sentence() string {
	switch c {
	case Avoided:
		return "It was read past the system's memory: the bytes are those of the medium."
	case Dropped:
		return "The system was asked to forget what it had in memory of it before it was read."
	default:
		return "It may have been read from the system's memory and not from the medium. To be sure, take the medium out, put it in again, and read it once more."
	}
}

// A Report is everything that reading a medium back has shown.
type Report struct {
	Medium Medium `json:"medium"`
	// Length is how many bytes were compared, and LengthFrom says where that is
	// from.
	Length     int64  `json:"length"`
	LengthFrom string `json:"length_from"`
	// Form is the number of the form of the image that was compared, from 1; 0 is the image
	// itself.
	Form int `json:"form,omitempty"`
	// Structures are what the image says of its own length.
	Structures []Structure `json:"structures,omitempty"`
	Cache      Cache       `json:"cache"`
	// Unreadable are the parts that could not be read, and MoreUnreadable how many
	// there are beside them. Steadied counts parts that were read when tried again.
	Unreadable     []Range `json:"unreadable,omitempty"`
	MoreUnreadable int     `json:"more_unreadable,omitempty"`
	Steadied       int     `json:"steadied,omitempty"`
	// Tail is what follows the image.
	Tail Tail `json:"tail"`
	// Damage tells where the medium differs, if it does and that was found out.
	Damage *Damage `json:"damage,omitempty"`
	// Carried says what a file that carries bytes for addresses was expanded from,
	// and Gaps what it leaves out.
	Carried string  `json:"carried,omitempty"`
	Gaps    []Range `json:"gaps,omitempty"`
}

// maxRanges bounds the ranges that a report names.
const maxRanges = 100

// Harmless bounds a report that a measurer sent, and makes it safe to show.
func (a *Report) Harmless() error {
	if a.Length < 0 || a.Medium.Size < 0 || a.Tail.Length < 0 || a.Form < 0 || a.Medium.From < 0 {
		return fmt.Errorf("a medium cannot have a negative length")
	}
	for _, s := range []*string{
		&a.Medium.Name, &a.Medium.Model, &a.Medium.Serial, &a.Medium.Label, &a.LengthFrom,
		&a.Carried,
	} {
		*s = plain.Text(cut(*s))
	}
	if !slices.Contains(Caches(), a.Cache) {
		a.Cache = NotAvoided
	}
	if !slices.Contains(TailKinds(), a.Tail.Kind) {
		a.Tail.Kind = Content
	}
	a.Tail.Sentence = a.Tail.words() // nobody else's words
	a.Unreadable, a.MoreUnreadable = bounded(a.Unreadable, a.MoreUnreadable)
	a.Gaps, _ = bounded(a.Gaps, 0)
	a.Structures = a.Structures[:min(len(a.Structures), 20)]
	for i := range a.Structures {
		s := &a.Structures[i]
		s.Kind, s.Detail, s.Label = plain.Text(cut(s.Kind)), plain.Text(cut(s.Detail)), plain.Text(cut(s.Label))
	}
	if d := a.Damage; d != nil {
		d.Whole = plain.Text(cut(d.Whole))
		if len(d.Differences) > maxRanges {
			d.More += len(d.Differences) - maxRanges
			d.Differences = d.Differences[:maxRanges]
		}
		for i := range d.Differences {
			d.Differences[i].Looks = plain.Text(cut(d.Differences[i].Looks))
		}
		d.Map = strings.Map(func(r rune) rune {
			if strings.ContainsRune("=x!", r) {
				return r
			}
			return -1
		}, d.Map)
		d.Map = d.Map[:min(len(d.Map), mapCells)]
	}
	return nil
}

func bounded(all []Range, more int) ([]Range, int) {
	if len(all) > maxRanges {
		return all[:maxRanges], more + len(all) - maxRanges
	}
	return all, more
}

// cut shortens a text that somebody else wrote.
func cut(text string) string {
	runes := []rune(text)
	return string(runes[:min(len(runes), 300)])
}

// bytesOf says a number of bytes for people.
func bytesOf(n int64) string {
	switch {
	case n == 1:
		return "1 byte"
	case n < 10<<10:
		return fmt.Sprintf("%d bytes", n)
	case n < 10<<20:
		return fmt.Sprintf("%d KiB", n>>10)
	case n < 10<<30:
		return fmt.Sprintf("%d MiB", n>>20)
	default:
		return fmt.Sprintf("%d GiB", n>>30)
	}
}
