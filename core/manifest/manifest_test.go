package manifest

import (
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/digest"
)

const (
	d256 = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08"
	dmd5 = "098f6bcd4621d373cade4e832627b4f6"
)

func read(t *testing.T, text string, opts Options) *Manifest {
	t.Helper()
	m, err := Read(strings.NewReader(text), opts)
	require.NoError(t, err)
	return m
}

func TestDigestFirst(t *testing.T) {
	for _, c := range []struct {
		line, file, name string
		candidates       []digest.Algorithm
	}{
		{d256 + "  gauge.bin", "", "gauge.bin", digest.OfSize(32)},
		{d256 + " *gauge.bin", "SHA256SUMS", "gauge.bin", []digest.Algorithm{digest.SHA256}},
		{strings.ToUpper(d256) + "\tgauge.bin", "", "gauge.bin", digest.OfSize(32)},
		{d256 + " gauge.bin", "", "gauge.bin", digest.OfSize(32)},
		{d256 + "  two words.bin ", "", "two words.bin", digest.OfSize(32)},
		{d256 + "   lead.bin", "", "lead.bin", digest.OfSize(32)},
		{dmd5 + "  ./boot/gauge.bin", "", "./boot/gauge.bin", []digest.Algorithm{digest.MD5}},
		{`\` + d256 + `  odd\nname\\x`, "", "odd\nname\\x", digest.OfSize(32)},
		{"\ufeff" + d256 + "  gauge.bin\r", "", "gauge.bin", digest.OfSize(32)},
	} {
		m := read(t, c.line+"\n", Options{FileName: c.file})
		require.Empty(t, m.Problems, c.line)
		require.Equal(t, 1, m.Entries.Len(), c.line)
		assert.Equal(t, c.name, m.Entries.At(0).Name)
		assert.Equal(t, c.candidates, m.Entries.At(0).Candidates())
		assert.Equal(t, DigestFirst, m.Format)
		assert.Equal(t, 1, m.Entries.At(0).Line)
	}
}

func TestTagged(t *testing.T) {
	m := read(t, strings.Join([]string{
		"# release 4.2",
		"SHA256 (gauge.bin) = " + d256,
		"  SHA512/256 (gauge (copy).bin)=" + strings.ToUpper(d256),
		"md5 (boot.bin) = " + dmd5,
		`\SHA256 (odd\nname) = ` + d256,
	}, "\n"), Options{})
	require.Empty(t, m.Problems)
	require.Equal(t, 4, m.Entries.Len())
	assert.Equal(t, Tagged, m.Format)
	assert.Equal(t, "gauge (copy).bin", m.Entries.At(1).Name)
	assert.Equal(t, digest.SHA512256, m.Entries.At(1).Algorithm)
	assert.Equal(t, 3, m.Entries.At(1).Line)
	assert.Equal(t, 3, m.Entries.At(1).Column())
	assert.Equal(t, digest.MD5, m.Entries.At(2).Algorithm)
	assert.Equal(t, "odd\nname", m.Entries.At(3).Name)
}

func TestProblemsNameTheirLine(t *testing.T) {
	for _, c := range []struct {
		line string
		code ProblemCode
	}{
		{"gauge.bin", NotAnEntry},
		{d256[:62] + "  short.bin", BadDigest},
		{d256[:40] + "zz" + d256[42:] + "  typo.bin", BadDigest},
		{d256 + "  ", NoName},
		{"SHA256 (gauge.bin) = " + dmd5, BadDigest},
		{"ROT13 (gauge.bin) = " + dmd5, UnknownLabel},
		{`\` + d256 + `  odd\qname`, BadEscape},
		{d256 + "  ../../etc/hostname", UnsafeName},
		{d256 + "  /etc/hostname", UnsafeName},
		{d256 + `  ..\..\etc\hostname`, UnsafeName},
		{d256 + `  C:\boot.bin`, UnsafeName},
		{d256 + "  nul.txt", UnsafeName},
		{d256 + "  a\x00b", UnsafeName},
		{"-----BEGIN PGP SIGNED MESSAGE-----", SignedText},
	} {
		m := read(t, "\n"+c.line+"\n"+d256+"  good.bin\n", Options{})
		require.Len(t, m.Problems, 1, c.line)
		assert.Equal(t, c.code, m.Problems[0].Code, c.line)
		assert.Equal(t, 2, m.Problems[0].Line)
		assert.Contains(t, m.Problems[0].String(), "line 2: ")
		require.Equal(t, 1, m.Entries.Len(), "one bad line must not hide the good one: %s", c.line)
		assert.Equal(t, 3, m.Entries.At(0).Line)
	}
}

func TestSafeName(t *testing.T) {
	clean, _, ok := SafeName(`.\boot\\gauge.bin`)
	assert.True(t, ok)
	assert.Equal(t, "boot/gauge.bin", clean)
	clean, _, ok = SafeName("..gauge..bin")
	assert.True(t, ok)
	assert.Equal(t, "..gauge..bin", clean)
	for _, bad := range []string{"", ".", "./", "a/../../b", "/", "COM1", "dir/aux.log"} {
		_, why, ok := SafeName(bad)
		assert.False(t, ok, bad)
		assert.NotEmpty(t, why)
	}
}

func TestNames(t *testing.T) {
	for name, want := range map[string]digest.Algorithm{
		"SHA256SUMS": digest.SHA256, "sha512sum.txt": digest.SHA512, "gauge.bin.md5": digest.MD5,
		"gauge-4.2.sha1": digest.SHA1, "checksums.txt": digest.Unknown,
	} {
		assert.True(t, NamedLikeOne(name), name)
		assert.Equal(t, want, AlgorithmOfName(name), name)
	}
	for _, name := range []string{"gauge-fw-4.2-main.img", "release-notes.txt", "hashtable.c"} {
		assert.False(t, NamedLikeOne(name), name)
	}
}

func TestBounds(t *testing.T) {
	line := d256 + "  gauge.bin\n"
	_, err := Read(strings.NewReader(strings.Repeat(line, 11)), Options{MaxEntries: 10})
	var limit *LimitError
	require.ErrorAs(t, err, &limit)
	assert.Equal(t, 11, limit.Line)
	assert.Contains(t, err.Error(), "10 entries")

	m, err := Read(strings.NewReader(strings.Repeat(line, 11)), Options{MaxBytes: int64(len(line)) * 10})
	require.ErrorAs(t, err, &limit)
	assert.Equal(t, 10, m.Entries.Len(), "what was read before the limit is kept")

	m = read(t, strings.Repeat("x", 200<<10)+"\n"+line, Options{})
	require.Len(t, m.Problems, 1)
	assert.Equal(t, LineTooLong, m.Problems[0].Code)
	assert.Equal(t, 1, m.Entries.Len())

	m = read(t, strings.Repeat(d256[:60]+"  cut.bin\n", 500), Options{FileName: "SHA256SUMS"})
	assert.Len(t, m.Problems, 100)
	assert.Equal(t, 400, m.MoreProblems)
	assert.Equal(t, None, m.Format)
}

// endless is a text that never ends and has no line breaks.
type endless struct{ read int64 }

func (e *endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = 'a'
	}
	e.read += int64(len(p))
	return len(p), nil
}

// TestEndlessTextCostsNoMoreThanTheLimit: the text is held once, and grows as it is read.
func TestEndlessTextCostsNoMoreThanTheLimit(t *testing.T) {
	const most = 64 << 20
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	source := &endless{}
	_, err := Read(source, Options{MaxBytes: most})
	runtime.ReadMemStats(&after)
	var limit *LimitError
	require.ErrorAs(t, err, &limit)
	assert.LessOrEqual(t, source.read, int64(most+128<<10))
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(6*most), "bytes allocated")
}

// TestAnyNameSurvives writes entries in both formats and reads them back.
func TestAnyNameSurvives(t *testing.T) {
	escape := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-zA-Z0-9 ._()\\é潮\n\r-]{1,20}`).Draw(t, "name") + "x"
		if _, _, ok := SafeName(name); !ok {
			t.Skip("not a name to be written")
		}
		value := fmt.Sprintf("%x", sha256.Sum256([]byte(name)))
		for _, line := range []string{
			`\` + value + "  " + escape.Replace(name),
			`\SHA256 (` + escape.Replace(name) + ") = " + value,
		} {
			m, err := Read(strings.NewReader(line+"\n"), Options{FileName: "SHA256SUMS"})
			if err != nil || m.Entries.Len() != 1 {
				t.Fatalf("%q: %v %+v", line, err, m.Problems)
			}
			if m.Entries.At(0).Name != name || m.Entries.At(0).Digest.String() != value ||
				m.Entries.At(0).Algorithm != digest.SHA256 {
				t.Fatalf("%q came back as %+v", line, m.Entries.At(0))
			}
		}
	})
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(d256 + "  gauge.bin\n"))
	f.Add([]byte("SHA256 (gauge.bin) = " + d256 + "\n# note\n\\" + dmd5 + " *a\\nb"))
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\r\nHash: SHA256\r\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := Read(
			io.MultiReader(strings.NewReader(string(text))), Options{MaxLine: 256, MaxEntries: 8, MaxBytes: 4096},
		)
		if m == nil {
			t.Fatalf("no manifest, error %v", err)
		}
		for _, e := range m.Entries.All() {
			if _, why, ok := SafeName(e.Name); !ok && e.Format() != Bare {
				t.Fatalf("unsafe name passed: %q (%s)", e.Name, why)
			}
			if len(e.Candidates()) == 0 || e.Line < 1 || e.Column() < 1 {
				t.Fatalf("incomplete entry %+v", e)
			}
		}
	})
}

// TestBlocksAreReadLikeLines reads long manifests with something odd at any
// place, in blocks and line by line, and expects the same.
func TestBlocksAreReadLikeLines(t *testing.T) {
	line := func(i int) string { return fmt.Sprintf("%064x  part/%06d.img\n", i, i) }
	var plain strings.Builder
	const n = 40_000 // some 3 MiB: several blocks
	for i := range n {
		plain.WriteString(line(i))
	}
	all := plain.String()
	for name, text := range map[string]string{
		"plain":               all,
		"no newline at end":   strings.TrimSuffix(all, "\n"),
		"CR LF":               strings.ReplaceAll(all, "\n", "\r\n"),
		"a comment":           all + "# end\n" + line(7),
		"a blank line":        all[:2_000_000] + "\n\n" + line(1) + all[2_000_000:],
		"another algorithm":   all + fmt.Sprintf("%0128x  x.img\n", 5) + line(9),
		"tagged":              all + fmt.Sprintf("SHA512 (y.img) = %0128x\n", 5) + all,
		"escaped":             all + `\` + fmt.Sprintf("%064x", 5) + "  odd\\nname\n" + line(9),
		"a device":            all + fmt.Sprintf("%064x  aux.img\n", 5) + line(9),
		"climbs":              all + fmt.Sprintf("%064x  a/../../b\n", 5) + line(9),
		"damaged":             all + fmt.Sprintf("%063xg  b\n", 5) + line(9),
		"a line without end":  all + strings.Repeat("x", 200_000) + "\n" + all,
		"cut in the first":    all[:50],
		"a heading far below": all + "MD5:\n" + fmt.Sprintf("%032x 12 z.img\n", 5),
	} {
		blocks, err := Read(strings.NewReader(text), Options{})
		require.NoError(t, err, name)
		lines, err := Read(
			iotest.HalfReader(strings.NewReader("# a remark has all be read by its layout\n"+text)), Options{},
		)
		require.NoError(t, err, name)
		lines.Entries = lines.Entries.Below(-1)
		for i := range lines.Problems {
			lines.Problems[i].Line--
		}
		require.Equal(t, lines.Entries.Len(), blocks.Entries.Len(), name)
		require.Equal(t, lines.Problems, blocks.Problems, name)
		require.Equal(t, lines.Format, blocks.Format, name)
		for i := range lines.Entries.Len() {
			if !assert.ObjectsAreEqual(lines.Entries.At(i), blocks.Entries.At(i)) {
				t.Fatalf("%s: entry %d: %+v and %+v", name, i, lines.Entries.At(i), blocks.Entries.At(i))
			}
		}
	}
	_, err := Read(strings.NewReader(all), Options{MaxEntries: 30_000})
	var limit *LimitError
	require.ErrorAs(t, err, &limit)
	assert.Equal(t, 30_001, limit.Line)
	m, err := Read(io.MultiReader(strings.NewReader(all), iotest.ErrReader(errors.New("bad sector"))), Options{})
	require.ErrorContains(t, err, "bad sector")
	assert.Equal(t, n, m.Entries.Len())
}

// TestEntryInJSON: an entry is written as its members are, and read back.
func TestEntryInJSON(t *testing.T) {
	size := int64(12)
	value, _ := decodeHex(d256)
	for _, e := range []Entry{
		entryOf("gauge <b>\u2028\".bin", value, digest.OfSize(32), NameFirst), entryOf("", value, digest.Only(digest.BLAKE3), Bare),
		{Name: "x", Digest: value[:4], Size: &size, format: codeOf(Metalink), Pieces: &Pieces{Algorithm: digest.MD5, Length: 4, Digests: []digest.Value{value[:16]}}},
	} {
		e.at(7, 3)
		plain, err := json.Marshal(
			entryJSON{
				e.Name, e.Algorithm, e.Candidates(), e.Digest, e.Size, e.Line, e.Column(), e.Format(),
				e.Guessed.Names(), e.Question, e.span, e.Pieces,
			},
		)
		require.NoError(t, err)
		got, err := json.Marshal(e)
		require.NoError(t, err)
		assert.Equal(t, string(plain), string(got))
		var back Entry
		require.NoError(t, json.Unmarshal(got, &back))
		assert.Equal(t, e, back)
	}
}
