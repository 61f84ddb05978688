package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A givenText is what somebody handed over to hold files against: a value, a pasted text, a
// list from elsewhere.
type givenText struct {
	name    string
	content []byte
	values  []survey.GivenValue
}

// givenValueName is what a digest is called that was given by itself.
const givenValueName = "the given value"

// maxPasted bounds what is pasted, and maxGivenList a list that lies elsewhere.
const (
	maxPasted    = 8 << 20
	maxGivenList = 64 << 20
)

// lookedFor names what a text was searched for that says nothing of a file.
const lookedFor = "Looked for were digests of 32 to 128 hexadecimal digits or in base64, checksums of eight digits behind the name of one, signed texts and signatures."

// givenTexts reads all that was given besides the files, and refuses what nothing can be
// held against, before anything goes on record.
func (a *app) givenTexts(s spot) ([]givenText, error) {
	var out []givenText
	for i, text := range s.digests {
		e, err := a.valueOf(text)
		if err != nil {
			return nil, err
		}
		name := givenValueName
		if i > 0 {
			name = fmt.Sprintf("%s %d", givenValueName, i+1)
		}
		out = append(
			out, givenText{name, []byte(text), []survey.GivenValue{{Algorithm: e.Algorithm, Digest: e.Digest}}},
		)
	}
	if s.paste {
		pasted, err := io.ReadAll(io.LimitReader(a.stdin, maxPasted+1))
		if err != nil {
			return nil, err
		}
		if len(pasted) > maxPasted {
			return nil, usage(
				"what was pasted is longer than %s; save it as a file, and give it with --manifest", size(maxPasted),
			)
		}
		if err := a.recognised("what was pasted", pasted); err != nil {
			return nil, err
		}
		out = append(out, givenText{name: "pasted text", content: pasted})
	}
	for _, file := range s.manifests {
		content, err := a.givenList(file)
		if err != nil {
			return nil, err
		}
		if err := a.recognised(plain.Quoted(file), content); err != nil {
			return nil, err
		}
		out = append(out, givenText{name: filepath.Base(file), content: content})
	}
	return out, nil
}

// givenList reads a list that lies elsewhere.
func (a *app) givenList(file string) ([]byte, error) {
	f, err := os.Open(file)
	switch {
	case err != nil && strings.Contains(file, "://"):
		return nil, usage(
			"%s is an address, and nothing is fetched here; download the list and give the file, or copy its text and use --paste",
			plain.Quoted(file),
		)
	case err != nil:
		return nil, usage("%s", reasonOf(err))
	}
	defer f.Close()
	if info, err := f.Stat(); err == nil && info.IsDir() {
		return nil, usage(
			"%s is a folder; --manifest takes one list of digests: give the file in it", plain.Quoted(file),
		)
	}
	content, err := io.ReadAll(io.LimitReader(f, maxGivenList+1))
	if err != nil {
		return nil, usage("%s", reasonOf(err))
	}
	if len(content) > maxGivenList {
		return nil, usage("%s is longer than %s, and no list is", plain.Quoted(file), size(maxGivenList))
	}
	return content, nil
}

// recognised says what a text was taken for that was handed over. One that says nothing of
// a file is wrong usage, with what was looked for in it.
func (a *app) recognised(what string, text []byte) error {
	r, err := survey.Recognise(text)
	if err != nil {
		return usage("%s cannot be read as a list: %s", what, err.Error())
	}
	switch r.Kind {
	case survey.SignedText:
		a.note("%s is taken for a signed text with %s.", capital(what), plain.Count(r.Entries, "digest"))
	case survey.SignatureText:
		a.note("%s is taken for a signature.", capital(what))
	case survey.ValueText:
		a.note("%s is taken for a value alone: %s.", capital(what), r.Says)
	case survey.ListText:
		a.note("%s is taken for a text with %s.", capital(what), plain.Count(r.Entries, "digest"))
	case survey.ReceiptText:
		return usage(
			"%s is a %s of a ledger of records; “endeixis record verify-receipt” checks receipts. Give the publisher's own list or signature here",
			what,
			r.Says,
		)
	case survey.KeyText:
		return usage("%s is a key, and vouches for nothing by itself; import it with “endeixis keyring import”", what)
	case survey.NothingText:
		return nothingIn(what, text, r)
	}
	a.tellMarks(r)
	return nil
}

// nothingIn says that a text says nothing of a file, and what in it comes near.
func nothingIn(what string, text []byte, r survey.Recognised) error {
	if strings.TrimSpace(string(text)) == "" {
		return usage("%s is empty", what)
	}
	if !manifest.IsText(text[:min(len(text), 4096)]) {
		return usage("%s is no text. %s", what, lookedFor)
	}
	near := ""
	for _, m := range r.Marks {
		near += fmt.Sprintf("\nline %d: %s", m.Line, m.Says)
	}
	return usage("there is no digest in %s that a file can be held against. %s%s", what, lookedFor, near)
}

// maxTold bounds the lines that are told of a text one by one.
const maxTold = 5

// tellMarks tells what of a text is not simply compared.
func (a *app) tellMarks(r survey.Recognised) {
	n := 0
	for _, m := range r.Marks {
		if m.Kind == "entry" {
			continue
		}
		if n++; n <= maxTold {
			a.note("  line %d: %s", m.Line, m.Says)
		}
	}
	if n > maxTold {
		a.note("  and %s more; “endeixis manifest show” tells all of them.", plain.Count(n-maxTold, "line"))
	}
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// valueOf reads a digest that was given by itself, and says what it was taken for.
func (a *app) valueOf(text string) (manifest.Entry, error) {
	e, err := parseDigest(text)
	if err == nil {
		a.note("%s is taken for %s.", plain.Grouped(e.Digest.String()), e.Recognised())
	}
	return e, err
}
