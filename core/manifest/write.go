package manifest

import (
	"bufio"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"

	"endeixis/core/digest"
)

// A File is what a manifest is to say about one file.
type File struct {
	// Name is relative to the manifest, with slashes.
	Name    string
	Size    int64
	Digests map[digest.Algorithm]digest.Value
	// Pieces are for Metalink, and may be nil.
	Pieces *Pieces
}

// A WriteError reports something that a format cannot express.
type WriteError struct{ Reason string }

// Error says what it is.
func (e *WriteError) Error() string { return e.Reason }

// Write writes a manifest in the format [DigestFirst], [Tagged] or [Metalink].
// Files are sorted by name and algorithms in the order of the registry, so that
// the same files give the same bytes. Names that [SafeName] refuses, and more
// than one algorithm in digest-first lines, are a [*WriteError].
func Write(w io.Writer, format Format, files []File) error {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	for _, f := range files {
		if _, why, ok := SafeName(strings.ReplaceAll(f.Name, `\`, "_")); !ok {
			return &WriteError{Reason: fmt.Sprintf("%q cannot be listed: %s", f.Name, why)}
		}
		if len(f.Digests) == 0 {
			return &WriteError{Reason: fmt.Sprintf("%q has no digest", f.Name)}
		}
		if format == DigestFirst && len(f.Digests) != 1 {
			return &WriteError{
				Reason: "lines that start with a digest can hold one algorithm only; use tagged lines or Metalink for several",
			}
		}
	}
	out := bufio.NewWriter(w)
	switch format {
	case DigestFirst, Tagged:
		for _, f := range files {
			for _, a := range algorithms(f) {
				writeLine(out, format, f.Name, a, f.Digests[a])
			}
		}
	case Metalink:
		if err := writeMetalink(out, files); err != nil {
			return err
		}
	default:
		return &WriteError{Reason: fmt.Sprintf("the format %s is read, and not written", format)}
	}
	return out.Flush()
}

func algorithms(f File) []digest.Algorithm {
	var out []digest.Algorithm
	for a := range f.Digests {
		out = append(out, a)
	}
	slices.Sort(out)
	return out
}

var escaper = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)

func writeLine(w *bufio.Writer, format Format, name string, a digest.Algorithm, v digest.Value) {
	// Escaped is also what looks like more than a name: blanks in front, quotes, columns.
	if strings.ContainsAny(name, "\\\n\r") || strings.HasPrefix(name, " ") || strings.HasPrefix(name, "\"") ||
		strings.Contains(name, "  ") ||
		len(digestsIn(name)) > 0 {
		w.WriteByte('\\') //nolint:errcheck // Flush tells
		name = escaper.Replace(name)
	}
	if format == DigestFirst {
		fmt.Fprintf(w, "%s  %s\n", v, name)
		return
	}
	fmt.Fprintf(w, "%s (%s) = %s\n", a, name, v)
}

// metalinkTypes are the names that RFC 5854 takes from the IANA registry of
// hash function textual names.
var metalinkTypes = map[digest.Algorithm]string{
	digest.MD5:    "md5",
	digest.SHA1:   "sha-1",
	digest.SHA224: "sha-224",
	digest.SHA256: "sha-256",
	digest.SHA384: "sha-384",
	digest.SHA512: "sha-512",
}

func metalinkType(a digest.Algorithm) string {
	if name, ok := metalinkTypes[a]; ok {
		return name
	}
	return strings.ToLower(a.String())
}

type metalinkFile struct {
	Name   string          `xml:"name,attr"`
	Size   int64           `xml:"size"`
	Hashes []metalinkHash  `xml:"hash"`
	Pieces *metalinkPieces `xml:"pieces"`
}

type metalinkHash struct {
	Type  string `xml:"type,attr"`
	Value string `xml:",chardata"`
}

type metalinkPieces struct {
	Length int64    `xml:"length,attr"`
	Type   string   `xml:"type,attr"`
	Hashes []string `xml:"hash"`
}

func writeMetalink(w io.Writer, files []File) error {
	doc := struct {
		XMLName xml.Name       `xml:"urn:ietf:params:xml:ns:metalink metalink"`
		Files   []metalinkFile `xml:"file"`
	}{}
	for _, f := range files {
		// XML 1.0 cannot hold control characters at all.
		if strings.ContainsFunc(
			f.Name, func(r rune) bool { return r < ' ' || r == '\ufffe' || r == '\uffff' || r == '\ufffd' },
		) {
			return &WriteError{
				Reason: fmt.Sprintf("%q has a character that XML cannot hold; use lines instead", f.Name),
			}
		}
		m := metalinkFile{Name: f.Name, Size: f.Size}
		for _, a := range algorithms(f) {
			m.Hashes = append(m.Hashes, metalinkHash{metalinkType(a), f.Digests[a].String()})
		}
		if f.Pieces != nil {
			m.Pieces = &metalinkPieces{Length: f.Pieces.Length, Type: metalinkType(f.Pieces.Algorithm)}
			for _, v := range f.Pieces.Digests {
				m.Pieces.Hashes = append(m.Pieces.Hashes, v.String())
			}
		}
		doc.Files = append(doc.Files, m)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	encoder := xml.NewEncoder(w)
	encoder.Indent("", "  ")
	if err := encoder.Encode(doc); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
