package openpgp

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// A Cleartext is a text in the cleartext signature framework (RFC 9580, section
// 7), taken out of its frame.
type Cleartext struct {
	// Text is what was signed, and nothing else of the file: dash escapes are
	// undone, white space at the ends of lines is gone, as it is in what the
	// signature covers, and lines end in LF. The last line has no ending.
	Text []byte
	// FirstLine is the line of the file, from 1, on which Text begins.
	FirstLine int
	// Signatures are those behind the text.
	Signatures []*Signature
	// Outside says where there is text before or behind the frame, or is
	// empty. Nothing of it is signed.
	Outside string
}

const (
	cleartextStart = "-----BEGIN PGP SIGNED MESSAGE-----"
	signatureStart = "-----BEGIN PGP SIGNATURE-----"
	signatureEnd   = "-----END PGP SIGNATURE-----"
)

// IsCleartext reports whether data holds the first line of the cleartext
// signature framework.
func IsCleartext(data []byte) bool {
	at := bytes.Index(data, []byte(cleartextStart))
	return at == 0 || at > 0 && (data[at-1] == '\n' || data[at-1] == '\r')
}

// ReadCleartext takes a text out of its frame. It returns a [*FormatError],
// with the offset, for a frame that does not end, more than one frame, headers
// other than Hash, a line that begins with a dash and is not escaped, and
// damaged signatures; and an [*EmptyError] when there is no frame.
func ReadCleartext(data []byte) (*Cleartext, error) {
	c := &Cleartext{}
	offset, number := 0, 0
	next := func() (line string, at int, ok bool) {
		if offset >= len(data) {
			return "", offset, false
		}
		at = offset
		raw, behind := cutLine(data, offset)
		offset = behind
		number++
		return strings.TrimRight(string(raw), " \t"), at, true
	}
	bad := func(at int, format string, args ...any) error {
		return &FormatError{Offset: at, Packet: "cleartext frame", Reason: fmt.Sprintf(format, args...)}
	}
	for {
		line, _, ok := next()
		if !ok {
			return nil, &EmptyError{Want: "signed text"}
		}
		if line == cleartextStart {
			break
		}
		if line != "" {
			c.Outside = "before the frame"
		}
	}
	for { // headers, up to an empty line
		line, at, ok := next()
		if !ok {
			return nil, bad(at, "it ends within its headers")
		}
		if line == "" {
			break
		}
		names, isHash := strings.CutPrefix(line, "Hash: ")
		if !isHash {
			return nil, bad(
				at, "the header %q has no place here, or the empty line before the text is missing", clipped(line),
			)
		}
		// Whatever else stands there looks signed to whoever reads it, and is not.
		for name := range strings.SplitSeq(names, ",") {
			if !slices.Contains(hashTextNames, strings.Trim(name, " ")) {
				return nil, bad(
					at, "the header %q does not name hash algorithms as the standard has them", clipped(line),
				)
			}
		}
	}
	c.FirstLine = number + 1
	var lines []string
	for {
		line, at, ok := next()
		if !ok {
			return nil, bad(at, "no signature follows the text; it was cut short")
		}
		if line == signatureStart {
			offset = at
			break
		}
		if rest, escaped := strings.CutPrefix(line, "- "); escaped {
			line = rest
		} else if line == "-" { // an escaped empty line whose space is gone
			line = ""
		} else if strings.HasPrefix(line, "-") {
			return nil, bad(at, "a line of the text begins with a dash that is not escaped")
		}
		lines = append(lines, line)
	}
	c.Text = []byte(strings.Join(lines, "\n"))
	start := offset
	end := bytes.LastIndex(data, []byte(signatureEnd))
	if end < start {
		return nil, bad(start, "its signature has no end; it was cut short")
	}
	end += len(signatureEnd)
	if bytes.Contains(data[start:end], []byte(cleartextStart)) {
		return nil, bad(start, "there is a second frame; only one can be used, so that it is certain what was signed")
	}
	if rest := data[end:]; len(bytes.TrimSpace(rest)) > 0 {
		if bytes.Contains(rest, []byte(cleartextStart)) {
			return nil, bad(end, "there is a second frame; only one can be used, so that it is certain what was signed")
		}
		if c.Outside != "" {
			c.Outside += " and behind it"
		} else {
			c.Outside = "behind the frame"
		}
	}
	// Between the blocks of several signatures there is nothing. A block that is damaged goes
	// up to the next one.
	for at := start; at < end; {
		_, behind, err := readArmorBlock(data[:end], at)
		if err != nil {
			next := armorAt(data[:end], at+len(signatureStart))
			if next < 0 {
				break
			}
			at = next
			continue
		}
		for behind < end && bytes.IndexByte([]byte(" \t\r\n"), data[behind]) >= 0 {
			behind++
		}
		if behind < end && !bytes.HasPrefix(data[behind:], []byte(signatureStart)) {
			return nil, bad(behind, "there is text between its signatures")
		}
		at = behind
	}
	sigs, err := ReadSignatures(data[start:end])
	if err != nil {
		return nil, err
	}
	c.Signatures = sigs
	return c, nil
}

// Document returns what a signature of the framework is held against. A
// signature of another type than text says nothing about a text, for what it
// covers would not be certain; [Verify] then finds that it does not hold.
func (c *Cleartext) Document(s *Signature) (Document, error) {
	if s.unsupported == nil && s.Type != Text {
		return Document{}, &UnsupportedError{What: fmt.Sprintf("a %s signature around a text", s.Type)}
	}
	return s.over(c.Text)
}

// hashTextNames are the names of hash algorithms in a Hash header (RFC 9580, section
// 9.5).
var hashTextNames = []string{"MD5", "SHA1", "RIPEMD160", "SHA256", "SHA384", "SHA512", "SHA224", "SHA3-256", "SHA3-512"}

func clipped(line string) string {
	if len(line) > 60 {
		return line[:60] + "…"
	}
	return line
}
