// Package pastetest has texts as people hand them over for a file, for tests: each is held
// against the right file, which has to match, and against an altered one, which has to be
// refused. README.md tells the form of pasted.txt.
package pastetest

import (
	_ "embed" // the texts
	"encoding/base64"
	"fmt"
	"regexp"
	"strings"

	"endeixis/core/digest"
)

//go:embed pasted.txt
var texts string

// FileName is the name of the file that the texts are about.
const FileName = "gauge-fw-4.2.1.bin"

// Right returns the bytes of the file that the texts are about, and Altered those of one
// that differs in a single byte.
func Right() []byte { return []byte(strings.Repeat("the gauge of the north mole\n", 100)) }

// Altered returns other bytes than [Right], of the same length.
func Altered() []byte {
	out := Right()
	out[0] = 'T'
	return out
}

// A Case is one text that was handed over.
type Case struct {
	Title, Text string
	// Doubt is set where the text leaves open which value is meant, and Other where it names
	// another file: then the altered file is at most unproven.
	Doubt, Other bool
}

// placeholder is “{ALGORITHM FORM:other}” in a text.
var placeholder = regexp.MustCompile(`\{([a-z0-9-]+)(?: ([a-z0-9]+))?(:other)?\}`)

// Cases returns all texts. It fails for one in a form that is not known.
func Cases() ([]Case, error) {
	var out []Case
	var wrong error
	for part := range strings.SplitSeq(texts, "=== ") {
		title, text, ok := strings.Cut(part, "\n")
		if !ok {
			continue
		}
		c := Case{Title: title}
		text, c.Doubt = strings.CutSuffix(text, "(doubt)\n")
		c.Other = strings.Contains(title, "another name")
		c.Text = placeholder.ReplaceAllStringFunc(text, func(s string) string {
			m := placeholder.FindStringSubmatch(s)
			filled, err := fill(m[1], m[2], m[3] != "")
			if err != nil {
				wrong = fmt.Errorf("%s: %w", title, err)
			}
			return filled
		})
		out = append(out, c)
	}
	return out, wrong
}

// fill writes what stands in the place of a placeholder.
func fill(what, form string, other bool) (string, error) {
	switch what {
	case "name":
		return FileName, nil
	case "size":
		return fmt.Sprint(len(Right())), nil
	}
	a, err := digest.Parse(what)
	if err != nil {
		return "", err
	}
	h := a.New()
	h.Write(Right())
	if other {
		h.Write([]byte("another"))
	}
	v := digest.Value(h.Sum(nil))
	write, ok := forms[form]
	if !ok {
		return "", fmt.Errorf("no form is called %q", form)
	}
	return write(v), nil
}

// forms are ways of writing a digest.
var forms = map[string]func(digest.Value) string{
	"":       digest.Value.String,
	"upper":  func(v digest.Value) string { return strings.ToUpper(v.String()) },
	"pairs":  func(v digest.Value) string { return groups(v, 2, " ") },
	"colons": func(v digest.Value) string { return groups(v, 2, ":") },
	"fours":  func(v digest.Value) string { return groups(v, 4, " ") },
	"eights": func(v digest.Value) string { return groups(v, 8, " ") },
	"bytes":  func(v digest.Value) string { return "0x" + groups(v, 2, ", 0x") },
	"b64":    func(v digest.Value) string { return base64.StdEncoding.EncodeToString(v) },
	"b64url": func(v digest.Value) string { return base64.RawURLEncoding.EncodeToString(v) },
	"cut31":  func(v digest.Value) string { return v.String()[:31] },
	"halves": func(v digest.Value) string { return groups(v[:len(v)/2], 4, " ") + "\n" + groups(v[len(v)/2:], 4, " ") },
}

// groups writes a digest in groups of digits.
func groups(v digest.Value, n int, sign string) string {
	text := v.String()
	var parts []string
	for i := 0; i < len(text); i += n {
		parts = append(parts, text[i:min(i+n, len(text))])
	}
	return strings.Join(parts, sign)
}
