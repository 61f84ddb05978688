package openpgp

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"strings"
)

// An armorBlock is one ASCII-armored block (RFC 9580, section 6.2).
type armorBlock struct {
	kind string // "PGP SIGNATURE", "PGP PUBLIC KEY BLOCK", …
	data []byte
	// damage says what is wrong with one that cannot be read; then it has no data.
	damage error
}

var armorStart = []byte("-----BEGIN PGP ")

// isArmored reports whether data holds an armor header line at the start of a line. What
// begins like a packet in binary is armored only if what the line begins is a block: text in
// any script may stand in front of one, and a binary form may hold such a line by chance.
func isArmored(data []byte) bool {
	at := armorAt(data, 0)
	if at < 0 {
		return false
	}
	if data[0] < 0x80 || at == 0 {
		return true
	}
	_, _, err := readArmorBlock(data, at)
	return err == nil
}

// armorAt returns where the next armor header line begins, from an offset on, or -1.
func armorAt(data []byte, offset int) int {
	for {
		at := bytes.Index(data[offset:], armorStart)
		if at < 0 {
			return -1
		}
		start := offset + at
		if start == 0 || data[start-1] == '\n' || data[start-1] == '\r' ||
			bytes.HasSuffix(data[:start], byteOrderMark) {
			return start
		}
		offset = start + len(armorStart)
	}
}

// byteOrderMark may stand before the first line of a text in UTF-8.
var byteOrderMark = []byte("\ufeff")

// readArmor returns every block in data. Text around the blocks is passed
// over, so is the checksum (RFC 9580, section 6.1: a reader must not reject a
// block for it). Any line ending is accepted.
func readArmor(data []byte) ([]armorBlock, error) {
	blocks := armorBlocks(data)
	for _, b := range blocks {
		if b.damage != nil {
			return nil, b.damage
		}
	}
	return blocks, nil
}

// armorBlocks returns every block in data; of one that is damaged what is wrong with it. It
// spoils no other.
func armorBlocks(data []byte) []armorBlock {
	var blocks []armorBlock
	for at := armorAt(data, 0); at >= 0; {
		block, end, err := readArmorBlock(data, at)
		if err != nil {
			line, _ := cutLine(data, at)
			kind := strings.TrimSuffix(
				strings.TrimPrefix(strings.TrimRight(string(line), " \t"), "-----BEGIN "), "-----",
			)
			block, end = armorBlock{kind: kind, damage: err}, at+len(armorStart)
		}
		blocks = append(blocks, block)
		at = armorAt(data, end)
	}
	return blocks
}

// readArmorBlock reads the block whose header line starts at start, and
// returns the offset behind it.
func readArmorBlock(data []byte, start int) (armorBlock, int, error) {
	line, next := cutLine(data, start)
	kind, ok := strings.CutSuffix(strings.TrimRight(string(line), " \t"), "-----")
	if !ok {
		return armorBlock{}, 0, &FormatError{Offset: start, Reason: "the armor header line does not end in five dashes"}
	}
	kind = strings.TrimPrefix(kind, "-----BEGIN ")
	end := "-----END " + kind + "-----"

	inHeaders := true
	var text []byte
	for next < len(data) {
		at := next
		line, next = cutLine(data, next)
		trimmed := strings.TrimRight(string(line), " \t")
		switch {
		case trimmed == end, strings.HasPrefix(trimmed, "-----END PGP ") && strings.HasSuffix(trimmed, "-----"):
			// Some publishers' tools end a block as if it were of another kind.
			// What it is, its first line and its content say.
			raw := make([]byte, base64.StdEncoding.DecodedLen(len(text)))
			n, err := base64.StdEncoding.Decode(raw, text)
			if err != nil {
				return armorBlock{}, 0, &FormatError{
					Offset: start, Reason: fmt.Sprintf("the armored text is damaged: %v", err),
				}
			}
			return armorBlock{kind: kind, data: raw[:n]}, next, nil
		case strings.HasPrefix(trimmed, "-----"):
			return armorBlock{}, 0, &FormatError{
				Offset: at, Reason: fmt.Sprintf("expected %q, found another dashed line", end),
			}
		case inHeaders && trimmed == "":
			inHeaders = false
		case inHeaders && strings.Contains(trimmed, ":"):
			// An armor header such as "Comment:", whose value may be empty. It says nothing
			// that counts. A colon is no part of base64.
		case len(trimmed) == 5 && trimmed[0] == '=':
			// The optional checksum.
		default:
			inHeaders = false
			text = append(text, trimmed...)
		}
	}
	return armorBlock{}, 0, &FormatError{
		Offset: len(data), Reason: fmt.Sprintf("the armored text ends without the line %q; it was cut short", end),
	}
}

// cutLine returns the line at offset without its ending (LF, CRLF or CR) and
// the offset of the next one.
func cutLine(data []byte, offset int) ([]byte, int) {
	rest := data[offset:]
	i := bytes.IndexAny(rest, "\r\n")
	if i < 0 {
		return rest, len(data)
	}
	next := i + 1
	if rest[i] == '\r' && next < len(rest) && rest[next] == '\n' {
		next++
	}
	return rest[:i], offset + next
}

// describe says what data looks like when it is not OpenPGP.
func describe(data []byte) string {
	head := data[:min(len(data), 512)]
	trimmed := bytes.ToLower(bytes.TrimSpace(head))
	switch {
	case len(data) == 0:
		return "the file is empty"
	case bytes.HasPrefix(data, []byte("\xff\xd8\xff")):
		return "it is a JPEG picture"
	case bytes.HasPrefix(data, []byte("\x89PNG\r\n")):
		return "it is a PNG picture"
	case bytes.HasPrefix(data, []byte("%PDF-")):
		return "it is a PDF document"
	case bytes.HasPrefix(data, []byte("PK\x03\x04")):
		return "it is a zip archive"
	case bytes.HasPrefix(trimmed, []byte("<!doctype html")), bytes.HasPrefix(trimmed, []byte("<html")):
		return "it is an HTML page, perhaps an error message of a web server"
	case bytes.HasPrefix(trimmed, []byte("{")):
		return "it looks like JSON"
	case bytes.HasPrefix(data, []byte("-----BEGIN CERTIFICATE")),
		bytes.HasPrefix(data, []byte("-----BEGIN PKCS7")),
		bytes.HasPrefix(data, []byte("-----BEGIN PUBLIC KEY")):
		return "it is PEM data of another kind"
	}
	return ""
}
