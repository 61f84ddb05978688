// Package isotest writes small ISO 9660 images (ECMA-119) for tests and demo
// data, with Rock Ridge or Joliet names as wanted. Images are the same bytes
// for the same input.
package isotest

import (
	"encoding/binary"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf16"
)

// Sector is the size of a logical block, in bytes.
const Sector = 2048

// A File is one file of an image. Name has slashes.
type File struct {
	Name    string
	Content []byte
	// Link makes it a symbolic link of Rock Ridge instead.
	Link bool
}

// Options say which names an image has beside the plain ones.
type Options struct {
	Volume    string
	RockRidge bool
	Joliet    bool
	// Time is that of all files and of the volume.
	Time time.Time
}

// A node is a directory or a file on its way into an image.
type node struct {
	name, plain string
	file        *File
	children    []*node
	sector      uint32
	size        uint32
	// The same for the Joliet view of a directory.
	jolietSector, jolietSize uint32
}

func (n *node) child(name string, dir bool) *node {
	for _, c := range n.children {
		if c.name == name {
			return c
		}
	}
	c := &node{
		name: name, plain: fmt.Sprintf("%s%d", upper(strings.TrimSuffix(name, path.Ext(name)), 6), len(n.children)),
	}
	if !dir {
		c.plain += "." + upper(strings.TrimPrefix(path.Ext(name), "."), 3) + ";1"
	}
	n.children = append(n.children, c)
	return c
}

func upper(s string, most int) string {
	var b strings.Builder
	for _, r := range strings.ToUpper(s) {
		if b.Len() == most {
			break
		}
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			b.WriteRune(r)
		} else {
			b.WriteByte('_')
		}
	}
	return b.String()
}

// Image returns the bytes of an image with the given files.
func Image(files []File, o Options) []byte {
	root := &node{}
	for i := range files {
		at := root
		parts := strings.Split(files[i].Name, "/")
		for _, dir := range parts[:len(parts)-1] {
			at = at.child(dir, true)
		}
		at.child(parts[len(parts)-1], false).file = &files[i]
	}
	var dirs, leaves []*node
	var walk func(n *node)
	walk = func(n *node) {
		slices.SortFunc(n.children, func(a, b *node) int { return strings.Compare(a.plain, b.plain) })
		dirs = append(dirs, n)
		for _, c := range n.children {
			if c.file == nil {
				walk(c)
			} else {
				leaves = append(leaves, c)
			}
		}
	}
	walk(root)

	w := &writer{Options: o}
	next := uint32(16 + 2)
	if o.Joliet {
		next++
	}
	pathTable := next
	next += 4 // two orders, for two views; one sector each is enough here
	for _, d := range dirs {
		d.sector, d.size = next, w.length(d, root, false)
		next += d.size / Sector
	}
	if o.Joliet {
		for _, d := range dirs {
			d.jolietSector, d.jolietSize = next, w.length(d, root, true)
			next += d.jolietSize / Sector
		}
	}
	for _, f := range leaves {
		f.sector, f.size = next, uint32(len(f.file.Content))
		if f.file.Link {
			f.sector, f.size = 0, 0
			continue
		}
		next += (f.size + Sector - 1) / Sector
	}
	w.out = make([]byte, int(next)*Sector)
	w.descriptor(16, 1, next, pathTable, root, false)
	end := 17
	if o.Joliet {
		w.descriptor(17, 2, next, pathTable+2, root, true)
		end++
	}
	copy(w.out[end*Sector:], "\xffCD001\x01")
	w.pathTables(pathTable, root, false)
	if o.Joliet {
		w.pathTables(pathTable+2, root, true)
	}
	for _, d := range dirs {
		copy(w.out[d.sector*Sector:], w.directory(d, root, false))
		if o.Joliet {
			copy(w.out[d.jolietSector*Sector:], w.directory(d, root, true))
		}
	}
	for _, f := range leaves {
		if !f.file.Link {
			copy(w.out[f.sector*Sector:], f.file.Content)
		}
	}
	return w.out
}

type writer struct {
	Options
	out []byte
}

func both32(b []byte, v uint32) {
	binary.LittleEndian.PutUint32(b, v)
	binary.BigEndian.PutUint32(b[4:], v)
}

func both16(b []byte, v uint16) {
	binary.LittleEndian.PutUint16(b, v)
	binary.BigEndian.PutUint16(b[2:], v)
}

func bigUTF16(s string) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = binary.BigEndian.AppendUint16(b, u)
	}
	return b
}

// descriptor writes a volume descriptor, ECMA-119 section 8.4.
func (w *writer) descriptor(sector int, kind byte, blocks, pathTable uint32, root *node, joliet bool) {
	b := w.out[sector*Sector : (sector+1)*Sector]
	b[0] = kind
	copy(b[1:], "CD001\x01")
	for i := 8; i < 72; i++ {
		b[i] = ' '
	}
	if joliet {
		copy(b[40:72], bigUTF16(w.Volume))
		copy(b[88:], "%/E")
	} else {
		copy(b[40:72], w.Volume)
	}
	both32(b[80:], blocks)
	both16(b[120:], 1)
	both16(b[124:], 1)
	both16(b[128:], Sector)
	both32(b[132:], 10) // the path table's length, for the root
	binary.LittleEndian.PutUint32(b[140:], pathTable)
	binary.BigEndian.PutUint32(b[148:], pathTable+1)
	copy(b[156:], w.record("\x00", root, nil, joliet))
	copy(b[813:], w.Time.UTC().Format("20060102150405")+"00\x00")
	b[881] = 1
}

// pathTables writes the table of directories with the root alone, which every
// reader can go on from.
func (w *writer) pathTables(sector uint32, root *node, joliet bool) {
	at := root.sector
	if joliet {
		at = root.jolietSector
	}
	little, big := w.out[sector*Sector:], w.out[(sector+1)*Sector:]
	little[0], big[0] = 1, 1
	binary.LittleEndian.PutUint32(little[2:], at)
	binary.BigEndian.PutUint32(big[2:], at)
	binary.LittleEndian.PutUint16(little[6:], 1)
	binary.BigEndian.PutUint16(big[6:], 1)
}

// record returns a directory record, ECMA-119 section 9.1.
func (w *writer) record(name string, n *node, system []byte, joliet bool) []byte {
	length := 33 + len(name)
	if len(name)%2 == 0 {
		length++
	}
	b := make([]byte, length+len(system)+len(system)%2)
	copy(b[length:], system)
	b[0] = byte(len(b))
	sector, size := n.sector, n.size
	if joliet && n.file == nil {
		sector, size = n.jolietSector, n.jolietSize
	}
	both32(b[2:], sector)
	both32(b[10:], size)
	t := w.Time.UTC()
	copy(
		b[18:],
		[]byte{
			byte(max(t.Year()-1900, 0)), byte(t.Month()), byte(t.Day()), byte(t.Hour()), byte(t.Minute()),
			byte(t.Second()), 0,
		},
	)
	if n.file == nil {
		b[25] = 2
	}
	both16(b[28:], 1)
	b[32] = byte(len(name))
	copy(b[33:], name)
	return b
}

// directory returns the records of a directory, none crossing a sector.
func (w *writer) directory(d, root *node, joliet bool) []byte {
	var out []byte
	add := func(record []byte) {
		if left := Sector - len(out)%Sector; left < len(record) {
			out = append(out, make([]byte, left)...)
		}
		out = append(out, record...)
	}
	var system []byte
	if w.RockRidge && !joliet && d == root {
		system = []byte("SP\x07\x01\xbe\xef\x00")
	}
	add(w.record("\x00", d, system, joliet))
	add(w.record("\x01", root, nil, joliet)) // readers here do not go up
	for _, c := range d.children {
		name, system := c.plain, []byte(nil)
		switch {
		case joliet:
			name = string(bigUTF16(c.name))
		case w.RockRidge:
			system = append([]byte{'N', 'M', byte(5 + len(c.name)), 1, 0}, c.name...)
			if c.file != nil && c.file.Link {
				system = append(system, "SL\x0a\x01\x00\x00\x03x/y"...)
			}
		}
		add(w.record(name, c, system, joliet))
	}
	return append(out, make([]byte, (Sector-len(out)%Sector)%Sector)...)
}

func (w *writer) length(d, root *node, joliet bool) uint32 {
	return uint32(len(w.directory(d, root, joliet)))
}
