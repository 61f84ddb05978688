package compare

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"

	"endeixis/core/manifest"
	"endeixis/core/plain"
)

// MaxPackageList bounds a list of packages, in bytes.
const MaxPackageList = 64 << 20

// maxNesting bounds how deep components lie in components.
const maxNesting = 64

// NamesPackages reports whether a file is named like one that lists packages: its content decides.
func NamesPackages(file string) bool {
	name := strings.ToLower(path.Base(file))
	return strings.Contains(name, "packages") ||
		strings.HasSuffix(name, ".json") && (strings.Contains(name, "bom") || strings.Contains(name, "spdx") ||
			strings.Contains(name, "cdx"))
}

// Packages maps the names of packages to their versions, each once and sorted.
type Packages map[string][]string

// A PackagesError reports a text that is no list of packages which is understood.
type PackagesError struct {
	// Line is where it stops being one, or 0.
	Line   int
	Reason string
}

func (e *PackagesError) Error() string {
	if e.Line > 0 {
		return fmt.Sprintf("line %d: %s", e.Line, e.Reason)
	}
	return e.Reason
}

func (p Packages) add(name, version string) {
	if name != "" && !slices.Contains(p[name], version) {
		p[name] = append(p[name], version)
		slices.Sort(p[name])
	}
}

// ReadPackages reads a bill of materials in JSON, by CycloneDX (ECMA-424) or SPDX 2; the paragraphs of a package
// index, each with Package and Version; or a plain list with a name and a version in each line. It returns a
// [*PackagesError] for anything else: it reads all of a text, or nothing.
func ReadPackages(text []byte) (Packages, error) {
	trimmed := bytes.TrimSpace(text)
	if len(trimmed) > 0 && trimmed[0] == '{' {
		return bill(trimmed)
	}
	if bytes.HasPrefix(trimmed, []byte("Package:")) {
		return paragraphs(trimmed)
	}
	return lines(text)
}

type component struct {
	Group      string      `json:"group"`
	Name       string      `json:"name"`
	Version    string      `json:"version"`
	Components []component `json:"components"`
}

func bill(text []byte) (Packages, error) {
	var doc struct {
		BOMFormat   string      `json:"bomFormat"`
		Components  []component `json:"components"`
		SPDXVersion string      `json:"spdxVersion"`
		Packages    []struct {
			Name        string `json:"name"`
			VersionInfo string `json:"versionInfo"`
		} `json:"packages"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, &PackagesError{Reason: "it is no JSON that is understood: " + plain.Text(err.Error())}
	}
	out := Packages{}
	switch {
	case doc.BOMFormat == "CycloneDX":
		if !out.components(doc.Components, 0) {
			return nil, &PackagesError{Reason: "its components lie too deep in each other"}
		}
	case strings.HasPrefix(doc.SPDXVersion, "SPDX-2"):
		for _, p := range doc.Packages {
			out.add(p.Name, p.VersionInfo)
		}
	default:
		return nil, &PackagesError{Reason: "it says neither that it is of CycloneDX nor of SPDX 2"}
	}
	return out, nil
}

func (p Packages) components(list []component, depth int) bool {
	for _, c := range list {
		name := c.Name
		if c.Group != "" {
			name = c.Group + "/" + c.Name
		}
		p.add(name, c.Version)
		if depth == maxNesting || !p.components(c.Components, depth+1) {
			return false
		}
	}
	return true
}

// paragraphs reads fields as RFC 822 writes them, of which a line that begins with white space goes on.
func paragraphs(text []byte) (Packages, error) {
	out := Packages{}
	var name, version string
	end := func(line int) error {
		if name == "" && version == "" {
			return nil
		}
		if name == "" || version == "" {
			return &PackagesError{line, "the paragraph before it has not both Package and Version"}
		}
		out.add(name, version)
		name, version = "", ""
		return nil
	}
	n := 0
	in := scanner(text)
	for in.Scan() {
		n++
		line := in.Text()
		if strings.TrimSpace(line) == "" {
			if err := end(n); err != nil {
				return nil, err
			}
			continue
		}
		field, value, ok := strings.Cut(line, ":")
		switch {
		case line[0] == ' ' || line[0] == '\t':
		case !ok:
			return nil, &PackagesError{n, "it is no field of a paragraph"}
		case field == "Package":
			name = strings.TrimSpace(value)
		case field == "Version":
			version = strings.TrimSpace(value)
		}
	}
	if err := in.Err(); err != nil {
		return nil, &PackagesError{n + 1, "it is too long"}
	}
	return out, end(n + 1)
}

func lines(text []byte) (Packages, error) {
	out := Packages{}
	n := 0
	in := scanner(text)
	for in.Scan() {
		n++
		line := strings.TrimSpace(in.Text())
		if line == "" || line[0] == '#' {
			continue
		}
		fields := strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" \t=", r) })
		if len(fields) != 2 {
			return nil, &PackagesError{n, "it is not a name and a version"}
		}
		out.add(fields[0], fields[1])
	}
	if err := in.Err(); err != nil {
		return nil, &PackagesError{n + 1, "it is too long"}
	}
	if len(out) == 0 {
		return nil, &PackagesError{Reason: "it names no package"}
	}
	return out, nil
}

func scanner(text []byte) *bufio.Scanner {
	in := bufio.NewScanner(bytes.NewReader(text))
	in.Buffer(nil, 1<<20)
	return in
}

// A PackageChange is how a package fares. Of one that came, Before is empty, and of one that went, After.
type PackageChange struct {
	Kind   manifest.ChangeKind
	Name   string
	Before string
	After  string
}

// Changes tells which packages came, went and have other versions after, sorted by name.
func (p Packages) Changes(after Packages) []PackageChange {
	out := []PackageChange{}
	joined := func(v []string) string { return strings.Join(v, ", ") }
	for name, was := range p {
		now, ok := after[name]
		switch {
		case !ok:
			out = append(out, PackageChange{manifest.Removed, name, joined(was), ""})
		case !slices.Equal(was, now):
			out = append(out, PackageChange{manifest.Changed, name, joined(was), joined(now)})
		}
	}
	for name, now := range after {
		if _, ok := p[name]; !ok {
			out = append(out, PackageChange{manifest.Added, name, "", joined(now)})
		}
	}
	slices.SortFunc(out, func(a, b PackageChange) int { return cmp.Compare(a.Name, b.Name) })
	return out
}
