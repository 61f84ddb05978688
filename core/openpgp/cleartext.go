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
	r := cleartextReader{data: data}
	if err := r.begin(c); err != nil {
		return nil, err
	}
	if err := r.headers(); err != nil {
		return nil, err
	}
	c.FirstLine = r.number + 1
	if err := r.text(c); err != nil {
		return nil, err
	}
	end, err := r.end(c)
	if err != nil {
		return nil, err
	}
	if err := r.between(end); err != nil {
		return nil, err
	}
	c.Signatures, err = ReadSignatures(data[r.offset:end])
	if err != nil {
		return nil, err
	}
	return c, nil
}

// A cleartextReader reads a frame line by line.
type cleartextReader struct {
	data []byte
	// offset is where the next line begins, and number counts those that were read.
	offset, number int
}

// next returns a line without the white space behind it, and where it begins.
func (r *cleartextReader) next() (line string, at int, ok bool) {
	if r.offset >= len(r.data) {
		return "", r.offset, false
	}
	at = r.offset
	raw, behind := cutLine(r.data, r.offset)
	r.offset = behind
	r.number++
	return strings.TrimRight(string(raw), " \t"), at, true
}

func badFrame(at int, format string, args ...any) error {
	return &FormatError{Offset: at, Packet: "cleartext frame", Reason: fmt.Sprintf(format, args...)}
}

// begin reads up to the first line of the frame.
func (r *cleartextReader) begin(c *Cleartext) error {
	for {
		line, _, ok := r.next()
		if !ok {
			return &EmptyError{Want: "signed text"}
		}
		if line == cleartextStart {
			return nil
		}
		if line != "" {
			c.Outside = "before the frame"
		}
	}
}

// headers reads the headers, up to an empty line. Whatever else than names of hashes stands there
// looks signed to a reader, and is not.
func (r *cleartextReader) headers() error {
	for {
		line, at, ok := r.next()
		if !ok {
			return badFrame(at, "it ends within its headers")
		}
		if line == "" {
			return nil
		}
		names, isHash := strings.CutPrefix(line, "Hash: ")
		if !isHash {
			return badFrame(
				at, "the header %q has no place here, or the empty line before the text is missing", clipped(line),
			)
		}
		for name := range strings.SplitSeq(names, ",") {
			if !slices.Contains(hashTextNames, strings.Trim(name, " ")) {
				return badFrame(
					at, "the header %q does not name hash algorithms as the standard has them", clipped(line),
				)
			}
		}
	}
}

// text reads the text, up to the first signature.
func (r *cleartextReader) text(c *Cleartext) error {
	var lines []string
	for {
		line, at, ok := r.next()
		if !ok {
			return badFrame(at, "no signature follows the text; it was cut short")
		}
		if line == signatureStart {
			r.offset = at
			c.Text = []byte(strings.Join(lines, "\n"))
			return nil
		}
		if rest, escaped := strings.CutPrefix(line, "- "); escaped {
			line = rest
		} else if line == "-" { // an escaped empty line whose space is gone
			line = ""
		} else if strings.HasPrefix(line, "-") {
			return badFrame(at, "a line of the text begins with a dash that is not escaped")
		}
		lines = append(lines, line)
	}
}

// end returns where the last signature ends, and notes what stands behind it.
func (r *cleartextReader) end(c *Cleartext) (int, error) {
	const second = "there is a second frame; only one can be used, so that it is certain what was signed"
	end := bytes.LastIndex(r.data, []byte(signatureEnd))
	if end < r.offset {
		return 0, badFrame(r.offset, "its signature has no end; it was cut short")
	}
	end += len(signatureEnd)
	if bytes.Contains(r.data[r.offset:end], []byte(cleartextStart)) {
		return 0, badFrame(r.offset, second)
	}
	rest := r.data[end:]
	if bytes.Contains(rest, []byte(cleartextStart)) {
		return 0, badFrame(end, second)
	}
	switch {
	case len(bytes.TrimSpace(rest)) == 0:
	case c.Outside != "":
		c.Outside += " and behind it"
	default:
		c.Outside = "behind the frame"
	}
	return end, nil
}

// between refuses what stands between the blocks of several signatures. A block that is damaged
// goes up to the next one.
func (r *cleartextReader) between(end int) error {
	data := r.data[:end]
	for at := r.offset; at < end; {
		_, behind, err := readArmorBlock(data, at)
		if err != nil {
			next := armorAt(data, at+len(signatureStart))
			if next < 0 {
				return nil
			}
			at = next
			continue
		}
		for behind < end && bytes.IndexByte([]byte(" \t\r\n"), data[behind]) >= 0 {
			behind++
		}
		if behind < end && !bytes.HasPrefix(data[behind:], []byte(signatureStart)) {
			return badFrame(behind, "there is text between its signatures")
		}
		at = behind
	}
	return nil
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
