package container

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
)

// An ISO 9660 image (ECMA-119) begins with 16 unused sectors; then come volume
// descriptors of one sector each, up to a terminator.
const (
	isoSector = 2048
	isoStart  = 16 * isoSector
	// isoDescriptors bounds the volume descriptors.
	isoDescriptors = 64
	// isoDirectories bounds the bytes of all directories of an image.
	isoDirectories = 256 << 20
	// isoDepth bounds how deep directories nest; the standard says 8.
	isoDepth = 64
)

// The kinds of volume descriptor, ECMA-119 section 8.
const (
	isoPrimary       = 1
	isoSupplementary = 2
	isoTerminator    = 255
)

// The flags of a directory record, ECMA-119 section 9.1.6.
const (
	isoDirectory  = 0x02
	isoAssociated = 0x04
	isoMore       = 0x80 // this is not the file's last record
)

// An isoVolume is one volume descriptor's view of the image.
type isoVolume struct {
	block  int64 // bytes of a logical block
	root   isoRecord
	joliet bool
	// rockRidge is set when the root says that the extension is in use, and
	// skip is how much of each system use area belongs to others.
	rockRidge bool
	skip      int
}

// An isoRecord is a directory record, ECMA-119 section 9.1.
type isoRecord struct {
	at       int64 // of the record itself
	location int64 // in blocks
	length   int64
	flags    byte
	name     []byte
	system   []byte // the system use area
	spread   bool   // interleaved, which is not read
}

func parseISORecord(b []byte, at int64) (isoRecord, bool) {
	if len(b) < 34 || int(b[0]) > len(b) || b[0] < 34 || 33+int(b[32]) > int(b[0]) {
		return isoRecord{}, false
	}
	b = b[:b[0]]
	r := isoRecord{
		at:       at,
		location: int64(binary.LittleEndian.Uint32(b[2:])) + int64(b[1]), // past the extended attributes
		length:   int64(binary.LittleEndian.Uint32(b[10:])),
		flags:    b[25],
		name:     b[33 : 33+int(b[32])],
		spread:   b[26] != 0 || b[27] != 0,
	}
	system := 33 + int(b[32])
	if b[32]%2 == 0 {
		system++ // a padding byte keeps the length even
	}
	if system < len(b) {
		r.system = b[system:]
	}
	return r, true
}

func (l *lister) iso() error {
	var primary, joliet *isoVolume
	sector := make([]byte, isoSector)
	for n := range isoDescriptors {
		at := int64(isoStart + n*isoSector)
		if _, err := l.r.ReadAt(sector, at); err != nil {
			return &FormatError{ISO9660, at, "it ends within its volume descriptors"}
		}
		if string(sector[1:6]) != "CD001" {
			return &FormatError{ISO9660, at, "a volume descriptor is not marked as one"}
		}
		kind := sector[0]
		if kind == isoTerminator {
			break
		}
		if kind != isoPrimary && kind != isoSupplementary {
			continue
		}
		root, ok := parseISORecord(bytes.Clone(sector[156:190]), at+156)
		block := int64(binary.LittleEndian.Uint16(sector[128:]))
		if !ok || block != 512 && block != 1024 && block != 2048 {
			return &FormatError{ISO9660, at, "a volume descriptor makes no sense"}
		}
		v := &isoVolume{block: block, root: root}
		switch escape := string(sector[88:91]); {
		case kind == isoPrimary && primary == nil:
			primary = v
		case kind == isoSupplementary && (escape == "%/@" || escape == "%/C" || escape == "%/E"):
			v.joliet, joliet = true, v
		}
	}
	if primary == nil {
		return &FormatError{ISO9660, isoStart, "it has no primary volume descriptor"}
	}
	l.findRockRidge(primary)
	if joliet != nil && !primary.rockRidge {
		primary = joliet
	}
	w := &isoWalk{lister: l, volume: primary, visited: map[int64]bool{}}
	return w.walk()
}

// findRockRidge reads the root's own record for the mark of the system use
// sharing protocol and for any Rock Ridge entry (IEEE P1281, P1282).
func (l *lister) findRockRidge(v *isoVolume) {
	b := make([]byte, 256)
	at := v.root.location * v.block
	n, _ := l.r.ReadAt(b, at)
	own, ok := parseISORecord(b[:n], at)
	if !ok {
		return
	}
	for _, e := range l.systemUse(v, own.system) {
		switch {
		case e.tag == "SP" && len(e.data) >= 3 && e.data[0] == 0xbe && e.data[1] == 0xef:
			v.skip = int(e.data[2])
			v.rockRidge = true
		case e.tag == "ER" && !v.rockRidge:
			v.rockRidge = true
		}
	}
}

// A systemEntry is one entry of a system use area.
type systemEntry struct {
	tag  string
	data []byte
}

// systemUse reads the entries of a system use area and of its continuations,
// of which there can be so many and no more.
func (l *lister) systemUse(v *isoVolume, area []byte) []systemEntry {
	var out []systemEntry
	for range 16 {
		var next []byte
		for len(area) >= 4 {
			size := int(area[2])
			if size < 4 || size > len(area) {
				break
			}
			tag, data := string(area[:2]), area[4:size]
			area = area[size:]
			if tag == "ST" {
				break
			}
			if tag == "CE" && len(data) >= 24 {
				at := int64(binary.LittleEndian.Uint32(data))*v.block + int64(binary.LittleEndian.Uint32(data[8:]))
				length := min(binary.LittleEndian.Uint32(data[16:]), isoSector)
				next = make([]byte, length)
				n, _ := l.r.ReadAt(next, at)
				next = next[:n]
				continue
			}
			out = append(out, systemEntry{tag, data})
		}
		if next == nil {
			break
		}
		area = next
	}
	return out
}

// An isoWalk goes through the directories of a volume, each of them once.
type isoWalk struct {
	*lister
	volume  *isoVolume
	visited map[int64]bool
	read    int64
}

// A folder is a directory that is still to be read.
type folder struct {
	record isoRecord
	path   string
	depth  int
}

func (w *isoWalk) walk() error {
	open := []folder{{record: w.volume.root}}
	for len(open) > 0 {
		if w.ctx.Err() != nil {
			return w.ctx.Err()
		}
		dir := open[len(open)-1]
		open = open[:len(open)-1]
		at := dir.record.location * w.volume.block
		switch {
		case w.visited[dir.record.location]:
			return &FormatError{
				ISO9660, dir.record.at,
				fmt.Sprintf("the directory /%s leads back to one that holds it, or to another's place", dir.path),
			}
		case dir.depth > isoDepth:
			return &LimitError{What: fmt.Sprintf("%d directories deep", isoDepth)}
		case dir.record.length > w.size-at:
			w.problem(dir.path, dir.record.at, "this directory lies beyond the end of the image")
			continue
		}
		w.visited[dir.record.location] = true
		if w.read += dir.record.length; w.read > isoDirectories {
			return &LimitError{What: "256 MiB of directories"}
		}
		below, err := w.list(dir, at)
		if err != nil {
			return err
		}
		open = append(open, below...)
	}
	return nil
}

// list takes the files of one directory and returns the directories in it.
// Records do not cross sectors; the rest of a sector is zero.
func (w *isoWalk) list(dir folder, start int64) ([]folder, error) {
	var below []folder
	var open *Member // a file whose records go on
	sector := make([]byte, isoSector)
	for from := int64(0); from < dir.record.length; from += isoSector {
		n, err := w.r.ReadAt(sector[:min(isoSector, dir.record.length-from)], start+from)
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, err
		}
		for i := 0; i < n && sector[i] != 0; {
			at := start + from + int64(i)
			r, ok := parseISORecord(sector[i:n], at)
			if !ok {
				w.problem(dir.path, at, "the directory is damaged here")
				break
			}
			i += int(sector[i])
			if len(r.name) == 1 && r.name[0] <= 1 {
				continue // the directory itself and the one above
			}
			name, what := w.nameOf(&r)
			full := name
			if dir.path != "" {
				full = dir.path + "/" + name
			}
			switch {
			case what == isLink:
				w.out.Links++
			case what == isMoved, r.flags&isoAssociated != 0:
			case what == isPacked:
				w.problem(full, at, "it is packed in a way that is not read here")
			case r.flags&isoDirectory != 0:
				below = append(below, folder{r, full, dir.depth + 1})
			default:
				open, err = w.file(open, full, &r)
				if err != nil {
					return nil, err
				}
			}
		}
	}
	return below, nil
}

// file takes one record of a file. A file of more than 4 GiB has several, of
// which all but the last say that more follow.
func (w *isoWalk) file(open *Member, name string, r *isoRecord) (*Member, error) {
	at := r.location * w.volume.block
	if open != nil && open.Name != name {
		w.problem(open.Name, r.at, "its last part is missing from the directory")
		open = nil
	}
	switch {
	case r.spread:
		w.problem(name, r.at, "it is stored interleaved, which is not read here")
		return nil, nil
	case r.length > w.size-at:
		w.problem(name, r.at, "it lies at byte %d and is %d bytes long, beyond the end of the image", at, r.length)
		return nil, nil
	}
	m := Member{Name: name}
	if open != nil {
		m = *open
		if last := m.Extents[len(m.Extents)-1]; at < last.Offset+last.Length {
			w.problem(name, r.at, "its parts are not in order")
			return nil, nil
		}
	}
	m.Extents = append(m.Extents, Extent{at, r.length})
	m.Size += r.length
	if r.flags&isoMore != 0 && len(m.Extents) < 1024 {
		return &m, nil
	}
	return nil, w.add(m)
}

// What the extensions say of a record.
type isoKind int

const (
	isPlain  isoKind = iota
	isLink           // a symbolic link
	isMoved          // a placeholder, or a directory that is reached by one
	isPacked         // transparently compressed
)

// nameOf returns the name of a record in the best form there is: Rock Ridge,
// Joliet, or the standard's own without version number.
func (w *isoWalk) nameOf(r *isoRecord) (string, isoKind) {
	if w.volume.joliet {
		units := make([]uint16, len(r.name)/2)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(r.name[2*i:])
		}
		return strings.TrimSuffix(string(utf16.Decode(units)), ";1"), isPlain
	}
	kind := isPlain
	if w.volume.rockRidge && len(r.system) > w.volume.skip {
		var alternate []byte
		for _, e := range w.systemUse(w.volume, r.system[w.volume.skip:]) {
			switch {
			case e.tag == "NM" && len(e.data) >= 1:
				alternate = append(alternate, e.data[1:]...)
			case e.tag == "SL":
				kind = isLink
			case e.tag == "ZF":
				kind = isPacked
			case e.tag == "RE":
				kind = isMoved
			case e.tag == "CL" && len(e.data) >= 4:
				// The directory lies elsewhere because the standard bounds
				// how deep they nest; its own first record has its length.
				r.location = int64(binary.LittleEndian.Uint32(e.data))
				own := make([]byte, 34)
				if _, err := w.r.ReadAt(own, r.location*w.volume.block); err == nil {
					r.length = int64(binary.LittleEndian.Uint32(own[10:]))
				}
				r.flags |= isoDirectory
			}
		}
		if len(alternate) > 0 {
			return string(alternate), kind
		}
	}
	name, _, _ := strings.Cut(string(r.name), ";")
	return strings.TrimSuffix(name, "."), kind
}
