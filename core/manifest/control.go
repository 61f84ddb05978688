package manifest

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"endeixis/core/digest"
)

// listing says what a field that lists files has, by its name in lower case.
var listing = map[string]digest.Algorithm{
	"files":            digest.MD5,
	"md5sum":           digest.MD5,
	"sha1":             digest.SHA1,
	"sha256":           digest.SHA256,
	"sha512":           digest.SHA512,
	"checksums-md5":    digest.MD5,
	"checksums-sha1":   digest.SHA1,
	"checksums-sha256": digest.SHA256,
	"checksums-sha512": digest.SHA512,
}

var (
	valueLine = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*:[ \t]+\S`)
	fieldLine = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*:(?:[ \t]|$)`)
	// controlList is a field that lists files, with the first of them.
	controlList = regexp.MustCompile(
		`(?im)^(?:Files|MD5Sum|SHA1|SHA256|SHA512|Checksums-(?:Md5|Sha1|Sha256|Sha512)):[ \t]*\r?\n[ \t]+[0-9a-f]{32,128}[ \t]+[0-9]+[ \t]+\S`,
	)
)

// isControl reports whether a text begins as one of fields, of which one lists files.
//
// Descriptions of source packages and indexes of releases are such texts: “Name: value”,
// of which some go on over several lines that begin with a space. Those that list files
// name an algorithm, and have a digest, a size and a name on each line. A list with
// nothing but headings does not begin with a value.
func isControl(head []byte) bool {
	first, _, _ := bytes.Cut(bytes.TrimLeft(head, "\r\n"), []byte("\n"))
	return valueLine.Match(first) && controlList.Match(head)
}

// controlText reads a text of fields. Fields that list no files are passed over.
func (p *parser) controlText(text string) {
	p.out.Format = Control
	var field string
	var algorithm digest.Algorithm
	listed := false
	for len(text) > 0 {
		var line string
		line, text, _ = strings.Cut(text, "\n")
		line = strings.TrimRight(line, " \t\r")
		p.line++
		switch {
		case line == "":
			field, listed = "", false
		case line[0] == '#':
		case line[0] == ' ' || line[0] == '\t':
			if !listed {
				break
			}
			p.out.Lines++
			if len(line) > p.opts.MaxLine {
				p.problemAt(
					p.line, LineTooLong,
					fmt.Sprintf("the line is longer than %d bytes and was passed over", p.opts.MaxLine),
				)
			} else if !p.controlEntry([]byte(line), field, algorithm) {
				return
			}
		case fieldLine.MatchString(line):
			field, _, _ = strings.Cut(line, ":")
			algorithm, listed = listing[strings.ToLower(field)]
		default:
			p.out.Lines++
			p.problemAt(p.line, NotAnEntry, "this is neither a field nor the continuation of one")
		}
	}
}

// controlEntry takes a line of a field that lists files. It returns false when the
// bound on entries is reached.
func (p *parser) controlEntry(line []byte, field string, algorithm digest.Algorithm) bool {
	parts := strings.Fields(string(line))
	// What is to be installed has a section and a priority before its name.
	if len(parts) != 3 && (len(parts) != 5 || !strings.EqualFold(field, "Files")) {
		p.problemAt(p.line, NotAnEntry, fmt.Sprintf("a line of the field %s has a digest, a size and a name", field))
		return true
	}
	var value digest.Value
	err := value.UnmarshalText([]byte(parts[0]))
	size, sizeErr := strconv.ParseInt(parts[1], 10, 64)
	switch {
	case err != nil || len(value) != algorithm.Size():
		p.problemAt(p.line, BadDigest, fmt.Sprintf("what stands in the place of the digest is none of %s", algorithm))
		return true
	case sizeErr != nil || size < 0:
		p.problemAt(p.line, NotAnEntry, "what stands in the place of the size is no number of bytes")
		return true
	}
	e := entryOf(parts[len(parts)-1], value, digest.Only(algorithm), Control)
	e.Size = &size
	e.at(p.line, len(line)-len(bytes.TrimLeft(line, " \t"))+1)
	return p.add(e)
}
