package manifest

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/digest"
)

// TestWhatIsWrittenReadsBack holds for any names, in every format that is
// written, and the same files give the same bytes in any order.
func TestWhatIsWrittenReadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		format := rapid.SampledFrom([]Format{DigestFirst, Tagged, Metalink}).Draw(t, "format")
		names := rapid.SliceOfNDistinct(
			rapid.StringMatching(`[a-zA-Z0-9 ._()é潮&<"-]{1,12}-x`), 1, 6, func(s string) string { return s },
		).Draw(
			t, "names",
		)
		if format != Metalink && rapid.Bool().Draw(t, "odd") {
			names = append(names, "line\nbreak x")
		}
		var files []File
		want := map[string]string{}
		for _, name := range names {
			sum, two := sha256.Sum256([]byte(name)), sha512.Sum512([]byte(name))
			f := File{
				Name: name, Size: int64(len(name)), Digests: map[digest.Algorithm]digest.Value{digest.SHA256: sum[:]},
			}
			if format != DigestFirst {
				f.Digests[digest.SHA512] = two[:]
			}
			if format == Metalink {
				f.Pieces = &Pieces{Algorithm: digest.SHA256, Length: 1 << 20, Digests: []digest.Value{sum[:]}}
			}
			files = append(files, f)
			want[name] = digest.Value(sum[:]).String()
		}
		var text, again bytes.Buffer
		require.NoError(t, Write(&text, format, files))
		for i, j := 0, len(files)-1; i < j; i, j = i+1, j-1 {
			files[i], files[j] = files[j], files[i]
		}
		require.NoError(t, Write(&again, format, files))
		if !bytes.Equal(text.Bytes(), again.Bytes()) {
			t.Fatal("the order of the files shows")
		}
		m, err := Read(bytes.NewReader(text.Bytes()), Options{FileName: "SHA256SUMS"})
		require.NoError(t, err)
		require.Empty(t, m.Problems, text.String())
		got := map[string]string{}
		for _, e := range m.Entries.All() {
			if e.Algorithm == digest.SHA256 {
				got[e.Name] = e.Digest.String()
				if format == Metalink && (e.Size == nil || *e.Size != int64(len(e.Name))) {
					t.Fatalf("the size of %q is lost", e.Name)
				}
			} else if format == Metalink && e.Pieces == nil {
				t.Fatalf("the pieces of %q are lost", e.Name)
			}
		}
		if len(got) != len(want) {
			t.Fatalf("%d names of %d came back:\n%s", len(got), len(want), text.String())
		}
		for name, value := range want {
			if got[name] != value {
				t.Fatalf("%q came back as %s", name, got[name])
			}
		}
	})
}

func TestWhatCannotBeWritten(t *testing.T) {
	two := map[digest.Algorithm]digest.Value{digest.MD5: make([]byte, 16), digest.SHA1: make([]byte, 20)}
	digests := map[digest.Algorithm]digest.Value{digest.MD5: make([]byte, 16)}
	for says, write := range map[string]func() error{
		"one algorithm only":      func() error { return Write(&bytes.Buffer{}, DigestFirst, []File{{Name: "a", Digests: two}}) },
		"leads out of the folder": func() error { return Write(&bytes.Buffer{}, Tagged, []File{{Name: "../a", Digests: digests}}) },
		"no digest":               func() error { return Write(&bytes.Buffer{}, Tagged, []File{{Name: "a"}}) },
		"XML cannot hold":         func() error { return Write(&bytes.Buffer{}, Metalink, []File{{Name: "a\x01", Digests: digests}}) },
		"read, and not written":   func() error { return Write(&bytes.Buffer{}, SPDX, []File{{Name: "a", Digests: digests}}) },
	} {
		var we *WriteError
		err := write()
		require.ErrorAs(t, err, &we)
		assert.ErrorContains(t, err, says)
	}
}

func TestCompare(t *testing.T) {
	list := func(text string) Entries { return read(t, text, Options{FileName: "CHECKSUMS"}).Entries }
	other := strings.Replace(d256, "9", "0", 1)
	third := strings.Replace(d256, "9", "1", 1)
	before := list(
		d256 + "  stays\n" + d256 + "  changes\n" + other + "  old-name\n" + third + "  goes\n" + dmd5 + "  weak\n",
	)
	after := list(
		d256 + "  ./stays\n" + other + "  changes\n" + other + "  new-name\n" + strings.Replace(
			d256, "9", "2", 1,
		) + "  comes\n" + d1 + "  weak\n",
	)
	got := map[string]string{}
	for _, c := range Compare(before, after) {
		got[c.Name] = string(c.Kind)
		if c.Kind == "renamed" {
			assert.Equal(t, "old-name", c.Was)
		}
	}
	assert.Equal(
		t,
		map[string]string{
			"stays": "unchanged", "changes": "changed", "new-name": "renamed", "goes": "removed",
			"comes": "added", "weak": "incomparable",
		},
		got,
	)
	for _, c := range Compare(before, before) {
		assert.Equal(t, Unchanged, c.Kind)
	}
	kinds := map[string]string{}
	for _, c := range CompareVersions("# packages\ntide 1.0\nlamp=2\nbuoy 3\n", "tide 1.1\nlamp, 2\nchart 4\n") {
		kinds[c.Name] = string(c.Kind) + " " + c.Before + " " + c.After
	}
	assert.Equal(
		t,
		map[string]string{
			"tide": "changed 1.0 1.1", "lamp": "unchanged 2 2", "buoy": "removed 3 ", "chart": "added  4",
		},
		kinds,
	)
}
