package manifest_test

import (
	"fmt"
	"os"
	"strings"

	"endeixis/core/digest"
	"endeixis/core/manifest"
)

// What is understood of a manifest is entries, and what is not is problems, each
// with its line: nothing is passed over in silence.
func ExampleRead() {
	list := "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  gauge.img\n" +
		"SHA1 (lamp.img) = da39a3ee5e6b4b0d3255bfef95601890afd80709\n" +
		"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  ../../etc/passwd\n"
	m, err := manifest.Read(strings.NewReader(list), manifest.Options{FileName: "SHA256SUMS"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, e := range m.Entries.All() {
		fmt.Printf("line %d: %s has the %s %s…\n", e.Line, e.Name, e.Algorithm, e.Digest.String()[:8])
	}
	for _, p := range m.Problems {
		fmt.Printf("line %d: %s\n", p.Line, p.Code)
	}
	// Output:
	// line 1: gauge.img has the SHA-256 e3b0c442…
	// line 2: lamp.img has the SHA-1 da39a3ee…
	// line 3: unsafe-name
}

// “endeixis manifest compare” tells what came, went, changed and was renamed.
func ExampleCompare() {
	read := func(list string) manifest.Entries {
		m, err := manifest.Read(strings.NewReader(list), manifest.Options{FileName: "MD5SUMS"})
		if err != nil {
			panic(err)
		}
		return m.Entries
	}
	before := read("d41d8cd98f00b204e9800998ecf8427e  a.img\n0cc175b9c0f1b6a831c399e269772661  b.img\n")
	after := read("d41d8cd98f00b204e9800998ecf8427e  c.img\n92eb5ffee6ae2fec3ad71c777531578f  b.img\n")
	for _, c := range manifest.Compare(before, after) {
		fmt.Println(strings.TrimSpace(fmt.Sprint(c.Kind, " ", c.Name, " ", c.Was)))
	}
	// Output:
	// changed b.img
	// renamed c.img a.img
}

// A list for the next person is sorted by name, and escapes what a line cannot
// hold.
func ExampleWrite() {
	empty := digest.SHA256.New().Sum(nil)
	files := []manifest.File{
		{Name: "b.img", Digests: map[digest.Algorithm]digest.Value{digest.SHA256: empty}},
		{Name: "a\nb.img", Digests: map[digest.Algorithm]digest.Value{digest.SHA256: empty}},
	}
	if err := manifest.Write(os.Stdout, manifest.DigestFirst, files); err != nil {
		fmt.Println(err)
	}
	// Output:
	// \e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  a\nb.img
	// e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855  b.img
}
