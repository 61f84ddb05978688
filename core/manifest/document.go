package manifest

import (
	"bufio"
	"encoding/json"
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

// xml reads documents of Metalink 4 and CycloneDX. External entities do not
// exist for this reader.
func (p *parser) xml(text io.Reader) error {
	d := xml.NewDecoder(text)
	for {
		token, err := d.Token()
		line, column := d.InputPos()
		p.line = line
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			p.problem(BadDocument, fmt.Sprintf("the XML is damaged: %v", err))
			return nil
		}
		start, ok := token.(xml.StartElement)
		if !ok {
			continue
		}
		var more bool
		switch {
		case start.Name.Local == "file" && start.Name.Space == metalinkSpace:
			more, err = p.metalinkFile(d, &start, line, column)
		case start.Name.Local == "component" && strings.HasPrefix(start.Name.Space, cyclonedxSpace):
			more, err = p.component(d, &start, line, column)
		default:
			continue
		}
		if err != nil {
			p.problem(BadDocument, fmt.Sprintf("the XML is damaged: %v", err))
			return nil
		}
		if !more {
			return p.full()
		}
	}
}

// metalinkFile reads the size, the hashes, the hashes of pieces and the
// signatures of one file. It returns false when the bound on entries is
// reached.
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
			p.problem(UnsafeName, fmt.Sprintf("%s: %s; the signature of it is not used", plain.Quoted(file.Name), why))
		case s.MediaType != "application/pgp-signature":
			p.problem(UnknownLabel, fmt.Sprintf("a signature of the kind %q is not one that is checked here", clip([]byte(s.MediaType))))
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
		if pieces = p.pieces(raw.Type, raw.Length, raw.Hashes); pieces != nil {
			break
		}
	}
	var entries []Entry
	strongest := -1
	for _, h := range file.Hashes {
		e, ok := p.labelled(file.Name, h.Type, strings.TrimSpace(h.Value), Metalink)
		if !ok {
			continue
		}
		e.Size, e.Line, e.Column = size, line, column
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

// component reads the hashes of a CycloneDX component that is a file, and of
// those in it. It returns false when the bound on entries is reached.
func (p *parser) component(d *xml.Decoder, start *xml.StartElement, line, column int) (bool, error) {
	var c xmlComponent
	if err := d.DecodeElement(&c, start); err != nil {
		return true, err
	}
	return p.componentFile(&c, line, column), nil
}

type xmlComponent struct {
	Type   string `xml:"type,attr"`
	Name   string `xml:"name"`
	Hashes []struct {
		Algorithm string `xml:"alg,attr"`
		Content   string `xml:",chardata"`
	} `xml:"hashes>hash"`
	Components []xmlComponent `xml:"components>component"`
}

func (p *parser) componentFile(c *xmlComponent, line, column int) bool {
	for _, h := range c.Hashes {
		if c.Type != "file" {
			break
		}
		p.out.Lines++
		e, ok := p.labelled(strings.TrimPrefix(c.Name, "./"), h.Algorithm, strings.TrimSpace(h.Content), CycloneDX)
		if !ok {
			continue
		}
		e.Line, e.Column = line, column
		if !p.add(e) {
			return false
		}
	}
	for i := range c.Components {
		if !p.componentFile(&c.Components[i], line, column) {
			return false
		}
	}
	return true
}

// pieces reads the digests of a file's parts, or returns nil.
func (p *parser) pieces(label, length string, hashes []string) *Pieces {
	a, err := digest.Parse(label)
	n, lengthErr := strconv.ParseInt(length, 10, 64)
	if err != nil || lengthErr != nil || n < 1 || len(hashes) == 0 {
		p.problem(BadDigest, "the hashes of pieces cannot be used: their type or length is not understood")
		return nil
	}
	out := &Pieces{Algorithm: a, Length: n}
	for _, h := range hashes {
		value, ok := decodeHex([]byte(strings.TrimSpace(h)))
		if !ok || len(value) != a.Size() {
			p.problem(BadDigest, "the hashes of pieces cannot be used: one of them is damaged")
			return nil
		}
		out.Digests = append(out.Digests, value)
	}
	return out
}

// labelled makes an entry of a name, a label and a value in hexadecimal, or
// reports what is wrong.
func (p *parser) labelled(name, label, value string, f Format) (Entry, bool) {
	a, err := digest.Parse(label)
	if err != nil {
		p.problem(UnknownLabel, fmt.Sprintf("%q is not an algorithm we can compute", clip([]byte(label))))
		return Entry{}, false
	}
	v, ok := decodeHex([]byte(value))
	if !ok || len(v) != a.Size() {
		p.problem(BadDigest, fmt.Sprintf("%q is not a %s digest: that is %d hexadecimal characters", clip([]byte(value)), a, 2*a.Size()))
		return Entry{}, false
	}
	return entryOf(name, v, digest.Only(a), f), true
}

// json reads SPDX and CycloneDX documents. Any other JSON holds no entries.
func (p *parser) json(text io.Reader) error {
	var doc struct {
		SPDXVersion string `json:"spdxVersion"`
		Files       []struct {
			FileName  string `json:"fileName"`
			Checksums []struct {
				Algorithm string `json:"algorithm"`
				Value     string `json:"checksumValue"`
			} `json:"checksums"`
		} `json:"files"`
		Packages []struct {
			FileName  string `json:"packageFileName"`
			Checksums []struct {
				Algorithm string `json:"algorithm"`
				Value     string `json:"checksumValue"`
			} `json:"checksums"`
		} `json:"packages"`
		BOMFormat  string `json:"bomFormat"`
		Components []struct {
			Type   string `json:"type"`
			Name   string `json:"name"`
			Hashes []struct {
				Algorithm string `json:"alg"`
				Content   string `json:"content"`
			} `json:"hashes"`
		} `json:"components"`
	}
	counted := &lineCounter{r: text, line: 1}
	if err := json.NewDecoder(counted).Decode(&doc); err != nil {
		p.line = counted.line
		p.out.Lines++
		p.problem(BadDocument, fmt.Sprintf("the JSON is damaged: %v", err))
		return nil
	}
	p.line = 1
	add := func(name, label, value string, f Format) bool {
		p.out.Lines++
		e, ok := p.labelled(strings.TrimPrefix(name, "./"), label, value, f)
		if !ok {
			return true
		}
		e.Line, e.Column = 1, 1 // a JSON document has no lines that mean anything
		return p.add(e)
	}
	if doc.SPDXVersion != "" {
		for _, file := range doc.Files {
			for _, c := range file.Checksums {
				if !add(file.FileName, c.Algorithm, c.Value, SPDX) {
					return p.full()
				}
			}
		}
		for _, pkg := range doc.Packages {
			for _, c := range pkg.Checksums {
				if pkg.FileName != "" && !add(pkg.FileName, c.Algorithm, c.Value, SPDX) {
					return p.full()
				}
			}
		}
	}
	if doc.BOMFormat == "CycloneDX" {
		for _, component := range doc.Components {
			for _, h := range component.Hashes {
				if component.Type == "file" && !add(component.Name, h.Algorithm, h.Content, CycloneDX) {
					return p.full()
				}
			}
		}
	}
	return nil
}

// lineCounter knows in which line the bytes last read were.
type lineCounter struct {
	r    io.Reader
	line int
}

func (c *lineCounter) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	for _, ch := range b[:n] {
		if ch == '\n' {
			c.line++
		}
	}
	return n, err
}

// tagValue reads the tag-value form of SPDX: "FileName: ./gauge.bin" and then
// "FileChecksum: SHA256: 9f86…".
func (p *parser) tagValue(text *bufio.Reader) error {
	name := ""
	for {
		raw, err := text.ReadSlice('\n')
		if len(raw) > 0 {
			p.line++
			tag, value, _ := strings.Cut(strings.TrimSpace(string(raw)), ":")
			value = strings.TrimSpace(value)
			switch tag {
			case "FileName", "PackageFileName":
				name = strings.TrimPrefix(value, "./")
			case "FileChecksum", "PackageChecksum":
				p.out.Lines++
				label, digits, _ := strings.Cut(value, ":")
				e, ok := p.labelled(name, label, strings.TrimSpace(digits), SPDX)
				if !ok {
					break
				}
				e.Line, e.Column = p.line, 1
				if !p.add(e) {
					return p.full()
				}
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if errors.Is(err, bufio.ErrBufferFull) {
			p.problem(LineTooLong, "the line is too long and was passed over in part")
			p.line-- // the rest of it is still the same line
			continue
		}
		if err != nil {
			return err
		}
	}
}
