package readback

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"slices"
)

// usualEnds are what images are padded to.
var usualEnds = []int64{
	16, 512, 2048, 4096, 64 << 10, 128 << 10, 256 << 10, 512 << 10, 1 << 20, 2 << 20, 4 << 20, 8 << 20,
}

// Lengths returns how long an image at the beginning of a medium of a size may be, in order:
// what its structures say; where its content ends, before nothing but 00, FF and what cannot
// be read; the ends of usual blocks behind that; and all of the medium. It fails only when ctx
// ends or the medium is gone.
func Lengths(ctx context.Context, medium io.ReaderAt, size int64) ([]int64, error) {
	end, err := contentEnd(ctx, medium, size)
	if err != nil {
		return nil, err
	}
	out := []int64{size, end}
	for _, s := range Recognise(medium) {
		out = append(out, s.Length)
	}
	for _, block := range usualEnds {
		out = append(out, (end+block-1)/block*block)
	}
	power := int64(1)
	for power < end {
		power *= 2
	}
	out = append(out, power)
	out = slices.DeleteFunc(out, func(n int64) bool { return n < 1 || n > size })
	slices.Sort(out)
	return slices.Compact(out), nil
}

// contentEnd returns where the content of a medium ends: behind it stands nothing but 00, FF
// and what cannot be read.
func contentEnd(ctx context.Context, medium io.ReaderAt, size int64) (int64, error) {
	const chunk = 1 << 20
	buffer := make([]byte, chunk)
	for to := size; to > 0; {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		from := max(0, (to-1)/chunk*chunk)
		n, err := io.ReadFull(NewSource(medium, from, to-from), buffer[:to-from])
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return 0, err
		}
		for n > 0 && (buffer[n-1] == 0 || buffer[n-1] == 0xff) {
			n--
		}
		if n > 0 {
			return from + int64(n), nil
		}
		to = from
	}
	return 0, nil
}

// Partitions returns the partitions of a medium in the order of its table: a GUID partition
// table (UEFI specification, section 5.3), or the four entries of a master boot record. A
// place of the table that is not in use is an empty range.
func Partitions(medium io.ReaderAt) []Range {
	for _, sector := range []int64{512, 4096, 2048} {
		header := at(medium, sector, int(sector))
		if _, ok := gptHeader(header); !ok {
			continue
		}
		first, count, long := int64(binary.LittleEndian.Uint64(header[72:])), int64(
			binary.LittleEndian.Uint32(header[80:]),
		), int64(
			binary.LittleEndian.Uint32(header[84:]),
		) //nolint:gosec // checked below
		if first < 2 || first > 1<<40 || count > 1024 || long < 128 || long > 4096 {
			return nil
		}
		table := at(medium, first*sector, int(count*long))
		var out []Range
		for i := int64(0); (i+1)*long <= int64(len(table)); i++ {
			e := table[i*long:]
			from, to := int64(binary.LittleEndian.Uint64(e[32:])), int64(
				binary.LittleEndian.Uint64(e[40:]),
			) //nolint:gosec // as above
			if filled(e[:16], 0) || from < 1 || to < from || to > 1<<50/sector {
				out = append(out, Range{})
				continue
			}
			out = append(out, span(from*sector, (to-from+1)*sector))
		}
		for len(out) > 0 && out[len(out)-1].Length == 0 {
			out = out[:len(out)-1]
		}
		return out
	}
	mbr := at(medium, 0, 512)
	if len(mbr) < 512 || mbr[510] != 0x55 || mbr[511] != 0xaa {
		return nil
	}
	var out []Range
	for i := range 4 {
		e := mbr[446+16*i:]
		from, count := int64(binary.LittleEndian.Uint32(e[8:])), int64(binary.LittleEndian.Uint32(e[12:]))
		if e[4] == 0 || e[0]&0x7f != 0 || from == 0 || count == 0 {
			out = append(out, Range{})
			continue
		}
		out = append(out, span(from*512, count*512))
	}
	if slices.ContainsFunc(out, func(r Range) bool { return r.Length > 0 }) {
		return out
	}
	return nil
}
