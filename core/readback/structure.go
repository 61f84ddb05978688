package readback

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"strings"
)

// A Structure is what an image says of its own length.
type Structure struct {
	// Kind names the format.
	Kind string `json:"kind"`
	// Length is how long it says that it is, in bytes.
	Length int64 `json:"length"`
	// Label is what it calls itself, if anything.
	Label string `json:"label,omitempty"`
	// Detail says what is wrong with it, or what the length does not take in.
	Detail string `json:"detail,omitempty"`
}

// Recognise finds out what an image at the beginning of a medium says of its own length:
// the structures of discs, of partitioned media, of file systems and of firmware images.
// One that does not hold, by its own checksum, is left out. The largest comes first: a
// disc image that also has a partition table is as long as the longer of both says.
func Recognise(medium io.ReaderAt) []Structure {
	var out []Structure
	for _, look := range []func(io.ReaderAt) (Structure, bool){
		iso9660, gpt, ext, squashfs, uImage, flattenedTree,
		trx, bootImage, mcuboot,
	} {
		if s, ok := look(medium); ok && s.Length > 0 {
			out = append(out, s)
		}
	}
	slices.SortStableFunc(out, func(a, b Structure) int { return cmp.Compare(b.Length, a.Length) })
	return out
}

// at reads n bytes, or fewer where the medium ends; nil where nothing can be read.
func at(m io.ReaderAt, offset int64, n int) []byte {
	p := make([]byte, n)
	got, err := m.ReadAt(p, offset)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil
	}
	return p[:got]
}

// iso9660 reads the primary volume descriptor (ECMA-119, section 8.4).
func iso9660(m io.ReaderAt) (Structure, bool) {
	for n := range int64(16) {
		d := at(m, (16+n)*2048, 2048)
		if len(d) < 2048 || string(d[1:6]) != "CD001" || d[0] == 255 {
			return Structure{}, false
		}
		if d[0] != 1 {
			continue
		}
		blocks, size := int64(binary.LittleEndian.Uint32(d[80:])), int64(binary.LittleEndian.Uint16(d[128:]))
		if blocks != int64(binary.BigEndian.Uint32(d[84:])) || size != int64(binary.BigEndian.Uint16(d[130:])) {
			return Structure{}, false // both byte orders have to agree
		}
		return Structure{
			Kind: "ISO 9660 volume", Length: blocks * size, Label: strings.TrimRight(string(d[40:72]), " \x00"),
		}, true
	}
	return Structure{}, false
}

// gpt reads the header of a GUID partition table, and looks for the copy at its end
// (UEFI specification, section 5.3).
func gpt(m io.ReaderAt) (Structure, bool) {
	for _, sector := range []int64{512, 4096, 2048} {
		alternate, ok := gptHeader(at(m, sector, int(sector)))
		if !ok || alternate < 2 || alternate >= 1<<50 {
			continue
		}
		s := Structure{Kind: "GUID partition table", Length: (alternate + 1) * sector}
		if back, ok := gptHeader(at(m, alternate*sector, int(sector))); !ok || back != 1 {
			s.Detail = "the copy of the table that should be in its last block is not there"
		}
		return s, true
	}
	return Structure{}, false
}

// gptHeader returns where the other copy of a header is, if it holds.
func gptHeader(h []byte) (alternate int64, ok bool) {
	if len(h) < 92 || string(h[:8]) != "EFI PART" {
		return 0, false
	}
	n := binary.LittleEndian.Uint32(h[12:])
	if n < 92 || int(n) > len(h) {
		return 0, false
	}
	sum := binary.LittleEndian.Uint32(h[16:])
	zeroed := bytes.Clone(h[:n])
	clear(zeroed[16:20])
	return int64(binary.LittleEndian.Uint64(h[32:])), crc32.ChecksumIEEE(zeroed) == sum
}

// ext reads the superblock of an ext2, ext3 or ext4 file system.
func ext(m io.ReaderAt) (Structure, bool) {
	s := at(m, 1024, 1024)
	if len(s) < 1024 || binary.LittleEndian.Uint16(s[56:]) != 0xef53 {
		return Structure{}, false
	}
	shift := binary.LittleEndian.Uint32(s[24:])
	blocks := uint64(binary.LittleEndian.Uint32(s[4:]))
	if binary.LittleEndian.Uint32(s[96:])&0x80 != 0 { // the 64-bit feature
		blocks |= uint64(binary.LittleEndian.Uint32(s[0x150:])) << 32
	}
	if shift > 6 || blocks == 0 || blocks > 1<<46 {
		return Structure{}, false
	}
	return Structure{
		Kind: "ext file system", Length: int64(blocks) * (1024 << shift),
		Label: strings.TrimRight(string(s[120:136]), "\x00"),
	}, true
}

// squashfs reads the superblock of a version 4 file system.
func squashfs(m io.ReaderAt) (Structure, bool) {
	s := at(m, 0, 96)
	if len(s) < 96 || string(s[:4]) != "hsqs" || binary.LittleEndian.Uint16(s[28:]) != 4 {
		return Structure{}, false
	}
	used := binary.LittleEndian.Uint64(s[40:])
	if used < 96 || used > 1<<50 {
		return Structure{}, false
	}
	return Structure{
		Kind: "squashfs file system", Length: int64(used),
		Detail: "files of it are mostly padded to a multiple of 4096 bytes, which it does not count",
	}, true
}

// uImage reads the header of a legacy U-Boot image.
func uImage(m io.ReaderAt) (Structure, bool) {
	h := at(m, 0, 64)
	if len(h) < 64 || binary.BigEndian.Uint32(h) != 0x27051956 {
		return Structure{}, false
	}
	zeroed := bytes.Clone(h)
	clear(zeroed[4:8])
	if crc32.ChecksumIEEE(zeroed) != binary.BigEndian.Uint32(h[4:]) {
		return Structure{}, false
	}
	name, _, _ := bytes.Cut(h[32:64], []byte{0})
	return Structure{
		Kind: "U-Boot legacy image", Length: 64 + int64(binary.BigEndian.Uint32(h[12:])), Label: string(name),
	}, true
}

// maxTree bounds a flattened device tree that is read for its images.
const maxTree = 16 << 20

// flattenedTree reads a FIT image, or any flattened device tree (Devicetree specification,
// chapter 5). Images may lie behind the tree, where it says how far.
func flattenedTree(m io.ReaderAt) (Structure, bool) {
	h := at(m, 0, 40)
	if len(h) < 40 || binary.BigEndian.Uint32(h) != 0xd00dfeed {
		return Structure{}, false
	}
	total := int64(binary.BigEndian.Uint32(h[4:]))
	s := Structure{Kind: "flattened image tree", Length: total}
	if total < 40 {
		return Structure{}, false
	}
	if total > maxTree {
		return s, true // its images are in it
	}
	external, err := externalEnd(at(m, 0, int(total)))
	if err != nil {
		s.Detail = "the tree cannot be read to its end: " + err.Error()
	}
	s.Length = max(total, external)
	return s, true
}

// externalEnd returns where the last of the images ends that lie behind a tree.
func externalEnd(tree []byte) (int64, error) {
	word := func(at int64) (uint32, error) {
		if at < 0 || at+4 > int64(len(tree)) {
			return 0, errors.New("it ends early")
		}
		return binary.BigEndian.Uint32(tree[at:]), nil
	}
	if len(tree) < 40 {
		return 0, errors.New("it ends early")
	}
	at, names := int64(binary.BigEndian.Uint32(tree[8:])), int64(binary.BigEndian.Uint32(tree[12:]))
	base := (int64(binary.BigEndian.Uint32(tree[4:])) + 3) &^ 3
	end := int64(0)
	type image struct{ offset, position, size int64 }
	stack := []image{}
	for {
		token, err := word(at)
		if err != nil {
			return end, err
		}
		at += 4
		switch token {
		case 1: // a node begins, with its name
			n := bytes.IndexByte(tree[min(at, int64(len(tree))):], 0)
			if n < 0 || len(stack) > 64 {
				return end, errors.New("a name has no end")
			}
			at = (at + int64(n) + 4) &^ 3
			stack = append(stack, image{-1, -1, -1})
		case 2: // and ends
			if len(stack) == 0 {
				return end, errors.New("a node ends that has not begun")
			}
			if i := stack[len(stack)-1]; i.size >= 0 && i.position >= 0 {
				end = max(end, i.position+i.size)
			} else if i.size >= 0 && i.offset >= 0 {
				end = max(end, base+i.offset+i.size)
			}
			stack = stack[:len(stack)-1]
		case 3: // a property: length, where its name is, value
			n, err1 := word(at)
			name, err2 := word(at + 4)
			if err := errors.Join(err1, err2); err != nil {
				return end, err
			}
			from := names + int64(name)
			if value, err := word(at + 8); err == nil && n == 4 && len(stack) > 0 && from < int64(len(tree)) {
				label, _, _ := bytes.Cut(tree[from:min(from+32, int64(len(tree)))], []byte{0})
				i := &stack[len(stack)-1]
				switch string(label) {
				case "data-offset":
					i.offset = int64(value)
				case "data-position":
					i.position = int64(value)
				case "data-size":
					i.size = int64(value)
				}
			}
			at = (at + 8 + int64(n) + 3) &^ 3
		case 4: // nothing
		case 9:
			return end, nil
		default:
			return end, fmt.Errorf("at %d is no token", at-4)
		}
	}
}

// trx reads the header of a TRX firmware image, versions 1 and 2.
func trx(m io.ReaderAt) (Structure, bool) {
	h := at(m, 0, 28)
	if len(h) < 28 || string(h[:4]) != "HDR0" {
		return Structure{}, false
	}
	version := binary.LittleEndian.Uint16(h[14:])
	image := Structure{Kind: "TRX firmware image", Length: int64(binary.LittleEndian.Uint32(h[4:]))}
	return image, version == 1 || version == 2
}

// bootImage reads the header of an Android boot image, versions 0 to 4.
func bootImage(m io.ReaderAt) (Structure, bool) {
	h := at(m, 0, 1660)
	if len(h) < 1660 || string(h[:8]) != "ANDROID!" {
		return Structure{}, false
	}
	word := func(at int) int64 { return int64(binary.LittleEndian.Uint32(h[at:])) }
	s := Structure{Kind: "boot image"}
	version := word(40)
	page := int64(4096)
	parts := []int64{word(8), word(12)}
	if version < 3 {
		page = word(36)
		parts = []int64{word(8), word(16), word(24)}
		if version >= 1 {
			parts = append(parts, word(1632))
		}
		if version == 2 {
			parts = append(parts, word(1648))
		}
	} else if version == 4 {
		parts = append(parts, word(1580))
	}
	if version > 4 || page < 512 || page > 1<<20 || page&(page-1) != 0 {
		return Structure{}, false
	}
	s.Length = page
	for _, n := range parts {
		s.Length += (n + page - 1) &^ (page - 1)
	}
	return s, true
}

// mcuboot reads the header of an image for small controllers as MCUboot documents it, and
// the entries behind it.
func mcuboot(m io.ReaderAt) (Structure, bool) {
	h := at(m, 0, 32)
	if len(h) < 32 || binary.LittleEndian.Uint32(h) != 0x96f3b83d {
		return Structure{}, false
	}
	length := int64(binary.LittleEndian.Uint16(h[8:])) + int64(binary.LittleEndian.Uint32(h[12:]))
	for _, magic := range []uint16{0x6908, 0x6907} { // protected entries, then the others
		if info := at(m, length, 4); len(info) == 4 && binary.LittleEndian.Uint16(info) == magic {
			length += int64(binary.LittleEndian.Uint16(info[2:]))
		}
	}
	return Structure{
		Kind: "MCUboot image", Length: length,
		Label: fmt.Sprintf("%d.%d.%d", h[20], h[21], binary.LittleEndian.Uint16(h[22:])),
	}, true
}
