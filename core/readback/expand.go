package readback

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
)

// A Carried is what a file carries that gives bytes for addresses: Intel HEX, S-records,
// UF2. Such files often have several parts, such as flash and the bytes of its options.
type Carried struct {
	// Format names the file's form.
	Format string
	// Parts are in the order of their addresses.
	Parts []Part
}

// A Part is what a file carries for addresses that lie together.
type Part struct {
	// Base is the lowest address, and Content the bytes from there to the highest;
	// what no record gives is FF, as in flash that is erased.
	Base    uint64
	Content []byte
	// Gaps are the places that no record gives, by offset in Content.
	Gaps []Range
}

const (
	// maxGap is the longest gap within one part, in bytes.
	maxGap = 1 << 20
	// maxCarried bounds what the addresses of all parts may span.
	maxCarried = 256 << 20
	// MaxCarrier bounds the file itself, in bytes.
	MaxCarrier = 1 << 30
)

// A CarrierError reports a file that cannot be expanded.
type CarrierError struct {
	Format string
	// Line is counted from 1; in a file of blocks it is the number of the block.
	Line   int
	Reason string
}

// Error names the place.
func (e *CarrierError) Error() string {
	unit := "line"
	if e.Format == formatUF2 {
		unit = "block"
	}
	if e.Line == 0 {
		return fmt.Sprintf("it is %s, and cannot be expanded: %s", e.Format, e.Reason)
	}
	return fmt.Sprintf("it is %s, and cannot be expanded: %s %d: %s", e.Format, unit, e.Line, e.Reason)
}

// The forms.
const (
	formatHex = "an Intel HEX file"
	formatS   = "a file of S-records"
	formatUF2 = "a UF2 file"
)

// Carries reports whether the beginning of a file is that of one which carries bytes for
// addresses.
func Carries(beginning []byte) bool { return carrier(beginning) != "" }

func carrier(b []byte) string {
	if len(b) >= 8 && binary.LittleEndian.Uint32(b) == 0x0a324655 && binary.LittleEndian.Uint32(b[4:]) == 0x9e5d5157 {
		return formatUF2
	}
	b = bytes.TrimLeft(b, "\r\n\t \ufeff")
	switch {
	case len(b) >= 11 && b[0] == ':' && isHex(b[1:11]):
		return formatHex
	case len(b) >= 10 && b[0] == 'S' && b[1] >= '0' && b[1] <= '9' && isHex(b[2:10]):
		return formatS
	}
	return ""
}

func isHex(b []byte) bool {
	_, err := hex.Decode(make([]byte, len(b)/2), b)
	return err == nil
}

// Expand reads a file that carries bytes for addresses. It fails with a [*CarrierError]
// for one that is damaged, gives an address twice with other bytes, or spans too much; ok
// is false for any other file.
func Expand(file []byte) (out Carried, ok bool, err error) {
	c := carrying{format: carrier(file)}
	switch c.format {
	case "":
		return Carried{}, false, nil
	case formatUF2:
		err = c.uf2(file)
	default:
		err = c.lines(file)
	}
	if err != nil {
		return Carried{}, true, err
	}
	out, err = c.whole()
	return out, true, err
}

// A piece is what one record carries.
type piece struct {
	at   uint64
	data []byte
	line int
}

type carrying struct {
	format string
	parts  []piece
}

func (c *carrying) bad(line int, format string, args ...any) error {
	return &CarrierError{c.format, line, fmt.Sprintf(format, args...)}
}

// lines reads records, one on each line.
func (c *carrying) lines(file []byte) error {
	var upper uint64
	records, ended, n := 0, false, 0
	for line := range bytes.Lines(file) {
		n++
		line = bytes.Trim(line, "\r\n\t \ufeff")
		if len(line) == 0 {
			continue
		}
		if ended {
			return c.bad(n, "something stands behind the record that ends it")
		}
		var err error
		if c.format == formatHex {
			ended, err = c.hexRecord(n, line, &upper)
		} else {
			ended, err = c.sRecord(n, line, &records)
		}
		if err != nil {
			return err
		}
	}
	if !ended {
		return c.bad(n, "the record that ends it is missing: the file is cut short")
	}
	return nil
}

// hexRecord reads a record of an Intel HEX file: a colon, and in hexadecimal the length,
// the address, the type, the bytes, a checksum.
func (c *carrying) hexRecord(n int, line []byte, upper *uint64) (ended bool, err error) {
	if line[0] != ':' || len(line)%2 != 1 {
		return false, c.bad(n, "it is no record")
	}
	record := make([]byte, len(line)/2)
	if _, err := hex.Decode(record, line[1:]); err != nil || len(record) < 5 || int(record[0]) != len(record)-5 {
		return false, c.bad(n, "its length is not as it says")
	}
	if sumOf(record) != 0 {
		return false, c.bad(n, "its checksum does not hold")
	}
	data, address := record[4:len(record)-1], uint64(binary.BigEndian.Uint16(record[1:]))
	switch kind := record[3]; {
	case kind == 0:
		c.parts = append(c.parts, piece{*upper + address, data, n})
	case kind == 1:
		return true, nil
	case kind == 2 && len(data) == 2:
		*upper = uint64(binary.BigEndian.Uint16(data)) << 4
	case kind == 4 && len(data) == 2:
		*upper = uint64(binary.BigEndian.Uint16(data)) << 16
	case kind == 3 || kind == 5: // where it is started, which is no content
	default:
		return false, c.bad(n, "a record of type %d is not known", kind)
	}
	return false, nil
}

// sRecord reads an S-record: S, a type, and in hexadecimal the length, the address, the
// bytes, a checksum.
func (c *carrying) sRecord(n int, line []byte, records *int) (ended bool, err error) {
	if line[0] != 'S' || len(line) < 10 || len(line)%2 != 0 {
		return false, c.bad(n, "it is no record")
	}
	kind := line[1]
	record := make([]byte, len(line)/2-1)
	if _, err := hex.Decode(record, line[2:]); err != nil || int(record[0]) != len(record)-1 {
		return false, c.bad(n, "its length is not as it says")
	}
	if sumOf(record) != 0xff {
		return false, c.bad(n, "its checksum does not hold")
	}
	wide := map[byte]int{'0': 2, '1': 2, '2': 3, '3': 4, '5': 2, '6': 3, '7': 4, '8': 3, '9': 2}[kind]
	if wide == 0 || len(record) < 2+wide {
		return false, c.bad(n, "a record of type %c is not known", kind)
	}
	address := uint64(0)
	for _, b := range record[1 : 1+wide] {
		address = address<<8 | uint64(b)
	}
	switch kind {
	case '1', '2', '3':
		*records++
		c.parts = append(c.parts, piece{address, record[1+wide : len(record)-1], n})
	case '5', '6':
		if int(address) != *records {
			return false, c.bad(n, "it counts %d records, and %d are there", address, *records)
		}
	case '7', '8', '9':
		return true, nil
	}
	return false, nil
}

// sumOf adds the bytes of a record, by which both forms tell damage.
func sumOf(record []byte) (sum byte) {
	for _, b := range record {
		sum += b
	}
	return sum
}

// uf2 reads blocks of 512 bytes, each with its place.
func (c *carrying) uf2(file []byte) error {
	total, seen := uint32(0), map[uint32]bool{}
	if len(file)%512 != 0 {
		return c.bad(0, "its length is no multiple of 512 bytes")
	}
	for n := 0; n*512 < len(file); n++ {
		b := file[n*512 : n*512+512]
		word := func(at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
		if word(0) != 0x0a324655 || word(4) != 0x9e5d5157 || word(508) != 0x0ab16f30 {
			return c.bad(n+1, "it does not begin and end as one")
		}
		flags, size, number, of := word(8), word(16), word(20), word(24)
		if flags&1 != 0 {
			continue // not for the main flash
		}
		if size == 0 || size > 476 {
			return c.bad(n+1, "it is said to carry %d bytes", size)
		}
		if total != 0 && of != total || number >= of || seen[number] {
			return c.bad(n+1, "it is said to be block %d of %d, which cannot be", number, of)
		}
		total, seen[number] = of, true
		c.parts = append(c.parts, piece{uint64(word(12)), b[32 : 32+size], n + 1})
	}
	if int64(len(seen)) != int64(total) {
		return c.bad(0, "of %d blocks, %d are there", total, len(seen))
	}
	return nil
}

// whole puts what the records carry in order, and together what lies together.
func (c *carrying) whole() (Carried, error) {
	pieces := slices.DeleteFunc(c.parts, func(p piece) bool { return len(p.data) == 0 })
	if len(pieces) == 0 {
		return Carried{}, c.bad(0, "it carries nothing")
	}
	slices.SortStableFunc(pieces, func(a, b piece) int { return cmp.Compare(a.at, b.at) })
	out := Carried{Format: c.format}
	total := uint64(0)
	for len(pieces) > 0 {
		n, end := 0, pieces[0].at
		for n < len(pieces) && pieces[n].at <= end+maxGap {
			end = max(end, pieces[n].at+uint64(len(pieces[n].data)))
			n++
		}
		if total += end - pieces[0].at; total > maxCarried {
			return Carried{}, c.bad(0, "its addresses span more than %d MiB", maxCarried>>20)
		}
		p, err := c.together(pieces[:n], end)
		if err != nil {
			return Carried{}, err
		}
		out.Parts = append(out.Parts, p)
		pieces = pieces[n:]
	}
	return out, nil
}

// together makes one part of pieces that are in order, up to an address.
func (c *carrying) together(pieces []piece, end uint64) (Part, error) {
	out := Part{Base: pieces[0].at}
	out.Content = bytes.Repeat([]byte{0xff}, int(end-out.Base)) //nolint:gosec // bounded by maxCarried
	filled := int64(0)
	for _, p := range pieces {
		from := int64(p.at - out.Base) //nolint:gosec // as above
		to := from + int64(len(p.data))
		if from > filled {
			out.Gaps = append(out.Gaps, span(filled, from-filled))
		}
		if from < filled && !bytes.Equal(out.Content[from:min(to, filled)], p.data[:min(to, filled)-from]) {
			return Part{}, c.bad(p.line, "it gives other bytes for an address that was given before")
		}
		copy(out.Content[from:], p.data)
		filled = max(filled, to)
	}
	return out, nil
}

// Said says for people what a part is.
func (p *Part) Said() string {
	return fmt.Sprintf("%d bytes from address 0x%x on", len(p.Content), p.Base)
}
