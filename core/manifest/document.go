package manifest

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// metalinkSpace is the namespace of Metalink 4 (RFC 5854, section 4).
const metalinkSpace = "urn:ietf:params:xml:ns:metalink"

// cyclonedxSpace begins the namespace of CycloneDX in XML, of any version.
const cyclonedxSpace = "http://cyclonedx.org/schema/bom/"

// xmlDecoder reads XML that is in UTF-8 already, whatever its declaration says.
func xmlDecoder(text string) *xml.Decoder {
	d := xml.NewDecoder(strings.NewReader(text))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	return d
}

// metalink reads a document of Metalink 4. Entities of its own do not exist for this
// reader.
func (p *parser) metalink(text string) {
	d := xmlDecoder(text)
	for {
		token, err := d.Token()
		line, column := d.InputPos()
		if errors.Is(err, io.EOF) {
			return
		}
		if err != nil {
			p.problemAt(line, BadDocument, fmt.Sprintf("the XML is damaged: %v", err))
			return
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "file" || start.Name.Space != metalinkSpace {
			continue
		}
		more, err := p.metalinkFile(d, &start, line, column)
		if err != nil {
			p.problemAt(line, BadDocument, fmt.Sprintf("the XML is damaged: %v", err))
			return
		}
		if !more {
			return
		}
	}
}

// metalinkFile reads the size, the hashes, the hashes of pieces and the
// signatures of one file. It returns false when the bound on entries is
// reached.
//
//nolint:cyclop // one step for each element of the standard
func (p *parser) metalinkFile(d *xml.Decoder, start *xml.StartElement, line, column int) (bool, error) {
	var file struct {
		Name   string `xml:"name,attr"`
		Size   string `xml:"size"`
		Hashes []struct {
			Type  string `xml:"type,attr"`
			Value string `xml:",chardata"`
		} `xml:"hash"`
		Pieces []struct {
			Length string   `xml:"length,attr"`
			Type   string   `xml:"type,attr"`
			Hashes []string `xml:"hash"`
		} `xml:"pieces"`
		Signatures []struct {
			MediaType string `xml:"mediatype,attr"`
			Text      string `xml:",chardata"`
		} `xml:"signature"`
	}
	if err := d.DecodeElement(&file, start); err != nil {
		return true, err
	}
	p.out.Lines++
	for _, s := range file.Signatures {
		switch _, why, ok := SafeName(file.Name); {
		case !ok:
			p.problemAt(
				line, UnsafeName, fmt.Sprintf("%s: %s; the signature of it is not used", plain.Quoted(file.Name), why),
			)
		case s.MediaType != "application/pgp-signature":
			p.problemAt(
				line, UnknownLabel,
				fmt.Sprintf("a signature of the kind %q is not one that is checked here", clip([]byte(s.MediaType))),
			)
		case len(p.out.Signatures) < p.opts.MaxEntries:
			p.out.Signatures = append(p.out.Signatures, Signature{Name: file.Name, Text: s.Text, Line: line})
		}
	}
	var size *int64
	if n, err := strconv.ParseInt(strings.TrimSpace(file.Size), 10, 64); err == nil && n >= 0 {
		size = &n
	}
	var pieces *Pieces
	for _, raw := range file.Pieces {
		if pieces = p.pieces(line, raw.Type, raw.Length, raw.Hashes); pieces != nil {
			break
		}
	}
	var entries []Entry
	strongest := -1
	for _, h := range file.Hashes {
		e, ok := p.labelled(line, file.Name, h.Type, strings.TrimSpace(h.Value), Metalink)
		if !ok {
			continue
		}
		e.Size = size
		e.at(line, column)
		entries = append(entries, e)
		if strongest < 0 || e.Algorithm.CollisionBits() > entries[strongest].Algorithm.CollisionBits() {
			strongest = len(entries) - 1
		}
	}
	for i, e := range entries {
		if i == strongest {
			e.Pieces = pieces // once for each file is enough
		}
		if !p.add(e) {
			return false, nil
		}
	}
	return true, nil
}

// pieces reads the digests of a file's parts, or returns nil.
func (p *parser) pieces(line int, label, length string, hashes []string) *Pieces {
	a, err := digest.Parse(label)
	n, lengthErr := strconv.ParseInt(length, 10, 64)
	if err != nil || lengthErr != nil || n < 1 || len(hashes) == 0 {
		p.problemAt(line, BadDigest, "the hashes of pieces cannot be used: their type or length is not understood")
		return nil
	}
	out := &Pieces{Algorithm: a, Length: n}
	for _, h := range hashes {
		value, ok := decodeHex(strings.TrimSpace(h))
		if !ok || len(value) != a.Size() {
			p.problemAt(line, BadDigest, "the hashes of pieces cannot be used: one of them is damaged")
			return nil
		}
		out.Digests = append(out.Digests, value)
	}
	return out
}

// labelled makes an entry of a name, a label and a value in hexadecimal, or
// reports what is wrong.
func (p *parser) labelled(line int, name, label, value string, f Format) (Entry, bool) {
	a, err := digest.Parse(label)
	if err != nil {
		p.problemAt(line, UnknownLabel, fmt.Sprintf("%q is not an algorithm we can compute", clip([]byte(label))))
		return Entry{}, false
	}
	v, ok := decodeHex(value)
	if !ok || len(v) != a.Size() {
		p.problemAt(
			line, BadDigest,
			fmt.Sprintf("%q is not a %s digest: that is %d hexadecimal characters", clip([]byte(value)), a, 2*a.Size()),
		)
		return Entry{}, false
	}
	return entryOf(name, v, digest.Only(a), f), true
}

// tagValue reads the tag-value form of SPDX: "FileName: ./gauge.bin" and then
// "FileChecksum: SHA256: 9f86…". What stands between <text> and </text> is no field.
func (p *parser) tagValue(text string) {
	name := ""
	quoted := false
	no := 0
	for len(text) > 0 {
		var line string
		line, text, _ = strings.Cut(text, "\n")
		no++
		r := rowOf(line, no, p.opts.MaxLine)
		if r.long {
			p.problemAt(no, LineTooLong, "the line is longer than is read, and was passed over")
		}
		if r.long || r.blank {
			continue
		}
		if quoted {
			p.aside.note(r.no, "it is in a text within the document")
			quoted = !strings.Contains(r.text, "</text>")
			continue
		}
		tag, value, _ := strings.Cut(r.text, ":")
		value = strings.TrimSpace(value)
		if strings.HasPrefix(value, "<text>") {
			quoted = !strings.Contains(value, "</text>")
			continue
		}
		switch tag {
		case "FileName", "PackageFileName":
			name = strings.TrimPrefix(value, "./")
		case "PackageName":
			name = ""
		case "FileChecksum", "PackageChecksum":
			p.out.Lines++
			if name == "" {
				p.aside.note(r.no, "it is of a package, and no file of that is named")
				continue
			}
			label, digits, _ := strings.Cut(value, ":")
			e, ok := p.labelled(no, name, label, strings.TrimSpace(digits), SPDX)
			if !ok {
				continue
			}
			e.at(r.no, 1)
			if !p.add(e) {
				return
			}
		default:
			p.aside.note(
				r.no, "it is of something else than a file: “"+plain.Text(clip([]byte(tag)))+"” stands before it",
			)
		}
	}
}
