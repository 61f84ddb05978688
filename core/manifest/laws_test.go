package manifest

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"testing"

	"pgregory.net/rapid"

	"endeixis/core/digest"
)

// A written is what a generated layout writes of one file.
type written struct {
	name  string
	size  int64
	sums  map[digest.Algorithm]digest.Value
	label []digest.Algorithm
}

// stated draws some statements. All are of the same algorithms, and their names are such
// as files have: with blanks, brackets and letters of several scripts.
func stated(t *rapid.T) []written {
	algorithms := rapid.SampledFrom([][]digest.Algorithm{
		{
			digest.SHA256,
		},
		{digest.MD5},
		{digest.SHA512},
		{digest.SHA1},
		{digest.MD5, digest.SHA256},
		{digest.SHA256, digest.SHA3256},
		{digest.SHA1, digest.BLAKE2b},
	}).Draw(t, "algorithms")
	stems := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{
		"gauge-fw-4.2",
		"boot",
		"north mole lamp (spare)",
		"tide table 2031",
		"Größe",
		"маяк-1.2",
		"灯塔",
		"a_b~c",
		"quay.min",
		"logger-2.4-arm64",
		"x86",
		"2031-03 chart",
	}), 2, 7, rapid.ID[string]).Draw(t, "stems")
	var out []written
	for i, stem := range stems {
		s := written{
			name:  stem + rapid.SampledFrom([]string{".bin", ".tar.xz", ".iso", ".img", ".csv"}).Draw(t, "ending"),
			label: algorithms,
		}
		s.size = rapid.Int64Range(1000, 1<<40).Draw(t, "size")
		s.sums = map[digest.Algorithm]digest.Value{}
		for _, a := range algorithms {
			h := a.New()
			fmt.Fprint(h, i, s.name)
			s.sums[a] = h.Sum(nil)
		}
		out = append(out, s)
	}
	return out
}

// A rendering writes statements in one way.
type rendering struct {
	name string
	// sized tells that it states sizes, and labelled that it names algorithms.
	sized, labelled bool
	// one tells that it states one algorithm for each file.
	one bool
	do  func(t *rapid.T, all []written) string
}

func rows(all []written, row func(s written) string) string {
	var b strings.Builder
	for _, s := range all {
		b.WriteString(row(s))
	}
	return b.String()
}

// renderings are the ways in which people and programs write lists.
func renderings() []rendering {
	first := func(s written) string { return s.sums[s.label[0]].String() }
	each := func(s written, do func(a digest.Algorithm, v digest.Value) string) string {
		var b strings.Builder
		for _, a := range s.label {
			b.WriteString(do(a, s.sums[a]))
		}
		return b.String()
	}
	header := func(all []written, sep string, columns []string) string {
		var cells []string
		for _, c := range columns {
			switch c {
			case "sums":
				for _, a := range all[0].label {
					cells = append(cells, a.String())
				}
			default:
				cells = append(cells, map[string]string{"name": "File", "size": "Size"}[c])
			}
		}
		return strings.Join(cells, sep) + "\n"
	}
	table := func(sep string) func(t *rapid.T, all []written) string {
		return func(t *rapid.T, all []written) string {
			columns := rapid.Permutation([]string{"name", "size", "sums"}).Draw(t, "columns")
			return header(all, sep, columns) + rows(all, func(s written) string {
				var cells []string
				for _, c := range columns {
					switch c {
					case "name":
						cells = append(cells, s.name)
					case "size":
						cells = append(cells, fmt.Sprint(s.size))
					default:
						for _, a := range s.label {
							cells = append(cells, s.sums[a].String())
						}
					}
				}
				return strings.Join(cells, sep) + "\n"
			})
		}
	}
	return []rendering{
		{"digest first", false, false, true, func(t *rapid.T, all []written) string {
			gap := rapid.SampledFrom([]string{"  ", " *", "\t", "      "}).Draw(t, "gap")
			return rows(all, func(s written) string { return first(s) + gap + s.name + "\n" })
		}},
		{"name first", false, false, true, func(t *rapid.T, all []written) string {
			gap := rapid.SampledFrom([]string{": ", " = ", "\t", "  ", ":\t", " : "}).Draw(t, "gap")
			return rows(all, func(s written) string { return s.name + gap + first(s) + "\n" })
		}},
		{"tagged", false, true, false, func(_ *rapid.T, all []written) string {
			return rows(all, func(s written) string {
				return each(
					s,
					func(a digest.Algorithm, v digest.Value) string { return fmt.Sprintf("%s (%s) = %s\n", a, s.name, v) },
				)
			})
		}},
		{"tagged, base64", false, true, false, func(_ *rapid.T, all []written) string {
			return rows(all, func(s written) string {
				return each(s, func(a digest.Algorithm, v digest.Value) string {
					return fmt.Sprintf("%s (%s) = %s\n", a, s.name, base64.StdEncoding.EncodeToString(v))
				})
			})
		}},
		{"records", true, true, false, func(t *rapid.T, all []written) string {
			gap := rapid.SampledFrom([]string{": ", " : ", "=", ":\t"}).Draw(t, "gap")
			behind := rapid.Bool().Draw(t, "the name comes last")
			return rows(all, func(s written) string {
				values := "Size" + gap + fmt.Sprint(s.size) + "\n" + each(
					s, func(a digest.Algorithm, v digest.Value) string { return a.String() + gap + v.String() + "\n" },
				)
				if behind {
					return values + "File" + gap + s.name + "\n\n"
				}
				return "File" + gap + s.name + "\n" + values + "\n"
			})
		}},
		{"name above", false, true, false, func(t *rapid.T, all []written) string {
			indent := rapid.SampledFrom([]string{"", "  ", "\t"}).Draw(t, "indent")
			blank := rapid.SampledFrom([]string{"\n", ""}).Draw(t, "blank")
			return rows(all, func(s written) string {
				return s.name + "\n" + each(
					s,
					func(a digest.Algorithm, v digest.Value) string { return indent + a.String() + ": " + v.String() + "\n" },
				) + blank
			})
		}},
		{"name below", false, false, true, func(t *rapid.T, all []written) string {
			blank := rapid.SampledFrom([]string{"\n", ""}).Draw(t, "blank")
			return rows(all, func(s written) string { return first(s) + "\n" + s.name + "\n" + blank })
		}},
		{"bars", true, true, false, table(" | ")},
		{"tabs", true, true, false, table("\t")},
		{"semicolons", true, true, false, table(";")},
		{"commas", true, true, false, table(",")},
		{"sections", true, true, false, func(t *rapid.T, all []written) string {
			heading := rapid.SampledFrom(
				[]string{"%s:\n", "# %s checksums\n", "== %s ==\n", "[%s]\n", "%s checksums of the files here:\n"},
			).
				Draw(t, "heading")
			var b strings.Builder
			for _, a := range all[0].label {
				fmt.Fprintf(&b, heading, a)
				for _, s := range all {
					fmt.Fprintf(&b, " %s %d %s\n", s.sums[a], s.size, s.name)
				}
			}
			return b.String()
		}},
		{"JSON", true, true, false, func(_ *rapid.T, all []written) string {
			var items []string
			for _, s := range all {
				items = append(
					items,
					fmt.Sprintf(`{%s"file": %q, "size": %d}`, each(s, func(a digest.Algorithm, v digest.Value) string {
						return fmt.Sprintf("%q: %q, ", a.String(), v.String())
					}), s.name, s.size),
				)
			}
			return `{"files": [` + strings.Join(items, ",\n") + "]}\n"
		}},
		{"JSON, a map", true, true, false, func(_ *rapid.T, all []written) string {
			var items []string
			for _, s := range all {
				items = append(
					items,
					fmt.Sprintf(
						`%q: {"length": %d, "hashes": {%s}}`, s.name, s.size,
						strings.TrimSuffix(each(s, func(a digest.Algorithm, v digest.Value) string {
							return fmt.Sprintf("%q: %q, ", a.String(), v.String())
						}), ", "),
					),
				)
			}
			return "{" + strings.Join(items, ",\n") + "}\n"
		}},
		{"XML", true, true, false, func(_ *rapid.T, all []written) string {
			return "<list>\n" + rows(all, func(s written) string {
				return fmt.Sprintf(
					"<file size=\"%d\"><name>%s</name>%s</file>\n", s.size, s.name,
					each(s, func(a digest.Algorithm, v digest.Value) string {
						return fmt.Sprintf("<hash type=%q>%s</hash>", a.String(), v)
					}),
				)
			}) + "</list>\n"
		}},
		{"a page", true, true, false, func(_ *rapid.T, all []written) string {
			head := "<tr><th>File</th><th>Size</th>" + each(
				all[0], func(a digest.Algorithm, _ digest.Value) string { return "<th>" + a.String() + "</th>" },
			) + "</tr>\n"
			return "<!DOCTYPE html><html><body><table>" + head + rows(all, func(s written) string {
				return fmt.Sprintf(
					"<tr><td><a href=\"/pub/x\">%s</a></td><td>%d</td>%s</tr>\n", s.name, s.size,
					each(
						s,
						func(_ digest.Algorithm, v digest.Value) string { return "<td><code>" + v.String() + "</code></td>" },
					),
				)
			}) + "</table></body></html>\n"
		}},
	}
}

// wanted returns what has to be read, one line for each entry.
func wanted(r rendering, all []written, hint bool) []string {
	var out []string
	for _, s := range all {
		labels := s.label
		if r.one {
			labels = labels[:1]
		}
		for _, a := range labels {
			size := "-"
			if r.sized {
				size = fmt.Sprint(s.size)
			}
			algorithm := a.String()
			if !r.labelled && !hint && len(digest.OfSize(a.Size())) > 1 {
				algorithm = "?"
			}
			out = append(out, fmt.Sprintf("%s %s %s %q", algorithm, s.sums[a], size, s.name))
		}
	}
	slices.Sort(out)
	return out
}

func readBack(m *Manifest) []string {
	var out []string
	for _, e := range m.Entries.All() {
		algorithm, size := "?", "-"
		if e.Algorithm != digest.Unknown {
			algorithm = e.Algorithm.String()
		}
		if e.Size != nil {
			size = fmt.Sprint(*e.Size)
		}
		out = append(out, fmt.Sprintf("%s %s %s %q", algorithm, e.Digest, size, e.Name))
	}
	slices.Sort(out)
	return out
}

// TestNothingInventedNothingLost writes statements in every way and reads them back.
func TestNothingInventedNothingLost(t *testing.T) {
	for _, r := range renderings() {
		t.Run(r.name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				all := stated(t)
				text := r.do(t, all)
				name := ""
				hint := rapid.Bool().Draw(t, "the list's own name says the algorithm") && r.one
				if hint {
					name = strings.NewReplacer("-", "", "/", "_").Replace(all[0].label[0].String()) + "SUMS"
				}
				ends := rapid.SampledFrom([]string{"\n", "\r\n", "\r"}).Draw(t, "line ends")
				m, err := Read(strings.NewReader(strings.ReplaceAll(text, "\n", ends)), Options{FileName: name})
				if err != nil {
					t.Fatal(err)
				}
				if got, want := readBack(m), wanted(r, all, hint); !slices.Equal(got, want) {
					t.Fatalf(
						"%s\nread    %s\nand not %s\nproblems %v", text, strings.Join(got, "\n        "),
						strings.Join(want, "\n        "), m.Problems,
					)
				}
				if len(m.Problems) > 0 {
					t.Fatalf("%s\nfalse alarm: %v", text, m.Problems)
				}
			})
		})
	}
}

// remarks are lines that say nothing about a file, whatever is in them.
var remarks = []string{
	"# a remark",
	"; another",
	"// and one more",
	"Thank you for flying with us",
	"-----------",
	"Version 4.2 of 2031",
	"See https://gullhaven.example/help for help",
	"We no longer publish these by telephone.",
	"(c) Gullhaven Marine",
	"release@gullhaven.example",
	"***",
	"Größe zählt nicht",
	"100 %",
	"a b c d e f 0 1 2 3",
}

// TestRemarksChangeNothing puts lines that say nothing between those of a list, or around
// its records: the same is read.
func TestRemarksChangeNothing(t *testing.T) {
	for _, r := range renderings() {
		switch r.name {
		case "digest first", "name first", "tagged", "sections":
		default:
			continue
		}
		t.Run(r.name, func(t *testing.T) {
			rapid.Check(t, func(t *rapid.T) {
				all := stated(t)
				text := r.do(t, all)
				var remarked strings.Builder
				for line := range strings.Lines(text) {
					if rapid.IntRange(0, 3).Draw(t, "a remark here") == 0 {
						remarked.WriteString(rapid.SampledFrom(remarks).Draw(t, "remark") + "\n")
					}
					remarked.WriteString(line)
				}
				m, err := Read(strings.NewReader(remarked.String()), Options{})
				if err != nil {
					t.Fatal(err)
				}
				if got, want := readBack(m), wanted(r, all, false); !slices.Equal(got, want) {
					t.Fatalf(
						"%s\nread    %s\nand not %s", remarked.String(), strings.Join(got, "\n        "),
						strings.Join(want, "\n        "),
					)
				}
			})
		})
	}
}

// TestEveryValueIsAccountedFor mixes values into words of any kind. Each has to end as an
// entry, in a line with a problem, or aside.
func TestEveryValueIsAccountedFor(t *testing.T) {
	words := []string{
		"commit", "SHA-256", "gauge.bin", "boot.img:", "is", "=", "\n", "\n\n", "\t", "|", ",", "(", ")", "MD5", "the",
		"https://gullhaven.example/x", "\"", "{", "}", "key", ":", "  ", "File: ", "#", "<a>", "4096", "- ", "size",
	}
	rapid.Check(t, func(t *rapid.T) {
		var b strings.Builder
		for range rapid.IntRange(1, 30).Draw(t, "parts") {
			if rapid.IntRange(0, 3).Draw(t, "a value") == 0 {
				a := rapid.SampledFrom([]digest.Algorithm{digest.MD5, digest.SHA1, digest.SHA256, digest.SHA512}).
					Draw(t, "algorithm")
				h := a.New()
				fmt.Fprint(h, b.Len())
				value := fmt.Sprintf("%x", h.Sum(nil))
				if rapid.IntRange(0, 4).Draw(t, "cut") == 0 {
					value = value[:len(value)-1]
				}
				b.WriteString(value)
			} else {
				b.WriteString(rapid.SampledFrom(words).Draw(t, "word"))
			}
			b.WriteString(rapid.SampledFrom([]string{" ", " ", "", "\n"}).Draw(t, "gap"))
		}
		m, err := Read(strings.NewReader(b.String()), Options{})
		if err != nil {
			t.Fatal(err)
		}
		accountedFor(t, b.String(), m)
		for _, e := range m.Entries.All() {
			// A page's blanks are one each.
			if e.Name != "" && !strings.Contains(b.String(), e.Name) &&
				!strings.Contains(strings.Join(strings.Fields(b.String()), " "), e.Name) {
				t.Fatalf("%q\nhas no %q", b.String(), e.Name)
			}
		}
	})
}

// TestManyValuesInOneLine: a line of more values than any list has is left aside, for what
// it would cost to take it apart.
func TestManyValuesInOneLine(t *testing.T) {
	var line strings.Builder
	for i := range maxValues + 1 {
		fmt.Fprintf(&line, "%s,", valueOf(t, "sha256", fmt.Sprint(i)))
	}
	m, err := Parse(line.String()+"\n"+d256+"  gauge.bin\n", Options{MaxAsides: 1000})
	if err != nil || m.Entries.Len() != 1 || len(m.LeftAside) != maxValues+1 {
		t.Fatalf("%v: %d entries, %d aside", err, m.Entries.Len(), len(m.LeftAside))
	}
}
