// Package plain makes text from outside harmless. File names, user IDs and
// notations are chosen by strangers; shown as they are, they can move the
// cursor of a terminal, reverse the reading order of a line, or hide a part of
// a name. Everything that leaves the program for a person's eyes goes through
// [Text] first.
package plain

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Text returns s with everything replaced by a visible escape that would not
// show as itself: control characters, bidirectional and zero-width marks,
// private and unassigned code points, line breaks, and bytes that are not
// UTF-8. Letters of any script and ordinary spaces stay.
func Text(s string) string {
	if clean(s) {
		return s
	}
	var b strings.Builder
	b.Grow(len(s) + 16)
	for i := 0; i < len(s); {
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case visible(r):
			b.WriteRune(r)
		case r < 0x100:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u{%04x}`, r)
		}
		i += size
	}
	return b.String()
}

// Quoted returns [Text] of s between quotation marks, so that leading and
// trailing spaces show.
func Quoted(s string) string { return "“" + Text(s) + "”" }

func clean(s string) bool {
	for i, r := range s {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return false
			}
		}
		if !visible(r) {
			return false
		}
	}
	return true
}

// visible reports whether r shows as itself. unicode.IsGraphic includes the
// other space characters, which look like an ordinary space and are not.
func visible(r rune) bool {
	return r == ' ' || r == utf8.RuneError || unicode.IsPrint(r) && !unicode.Is(unicode.Cf, r)
}

// Cell returns [Text] of s made safe for a cell of a spreadsheet: a value that
// such a program would take for a formula gets an apostrophe in front.
func Cell(s string) string {
	t := Text(s)
	if t != "" && strings.ContainsRune("=+-@\t\r", rune(t[0])) {
		return "'" + t
	}
	return t
}

// Grouped returns hexadecimal in upper case and groups of four, the way a
// fingerprint is read aloud.
func Grouped(hex string) string {
	var b strings.Builder
	for i, r := range strings.ToUpper(hex) {
		if i > 0 && i%4 == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// Unlike reports whether two values differ in most of their characters, so that they are
// different values and not one with a slip in it.
func Unlike(a, b string) bool {
	long := max(len(a), len(b))
	differ := long - min(len(a), len(b))
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			differ++
		}
	}
	return 2*differ > long
}

// JSON returns a JSON document in which every character inside its strings that
// would not show as itself is written as an escape; what it says is the same.
// Outside of strings JSON has no such characters.
func JSON(document []byte) []byte {
	if clean(strings.ReplaceAll(string(document), "\n", " ")) {
		return document
	}
	out := make([]byte, 0, len(document)+64)
	for i := 0; i < len(document); {
		r, size := utf8.DecodeRune(document[i:])
		switch {
		case r == '\n' || visible(r):
			out = append(out, document[i:i+size]...)
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			out = fmt.Appendf(out, `\u%04x\u%04x`, high, low)
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		i += size
	}
	return out
}

// Count returns a number with its noun: “one file”, “7 files”, “2 batches”, “0 entries”. noun is
// singular; its plural is formed by rule, of its last word.
func Count(n int, noun string) string {
	if n == 1 {
		return "one " + noun
	}
	return fmt.Sprintf("%d %s", n, plural(noun))
}

func plural(noun string) string {
	switch last := noun[max(len(noun)-1, 0):]; {
	case strings.HasSuffix(noun, "ch"), last == "s", last == "x":
		return noun + "es"
	case last == "y" && len(noun) > 1 && !strings.ContainsRune("aeiou", rune(noun[len(noun)-2])):
		return noun[:len(noun)-1] + "ies"
	}
	return noun + "s"
}
