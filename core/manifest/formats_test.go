package manifest

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
)

const (
	d1   = "a9993e364706816aba3e25717850c26c9cd0d89d"
	d512 = "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f"
)

// want is what a test expects of an entry: name, algorithm ("" when only
// candidates are known), the digest's first digits, size (-1 for none), line.
type want struct {
	name, algorithm, digest string
	size                    int64
	line                    int
}

func check(t *testing.T, m *Manifest, expected []want) {
	t.Helper()
	require.Equal(t, len(expected), m.Entries.Len(), "%+v", m)
	for i, w := range expected {
		e := m.Entries.At(i)
		assert.Equal(t, w.name, e.Name)
		algorithm := ""
		if e.Algorithm != digest.Unknown {
			algorithm = e.Algorithm.String()
		}
		assert.Equal(t, w.algorithm, algorithm, e.Name)
		assert.True(t, strings.HasPrefix(e.Digest.String(), w.digest), "%s: %s", e.Name, e.Digest)
		size := int64(-1)
		if e.Size != nil {
			size = *e.Size
		}
		assert.Equal(t, w.size, size, e.Name)
		assert.Equal(t, w.line, e.Line, e.Name)
		assert.NotEmpty(t, e.Candidates())
	}
}

// TestFormats has at least three shapes of each format, as publishers write
// them.
func TestFormats(t *testing.T) {
	raw256, err := hex.DecodeString(d256)
	require.NoError(t, err)
	b64 := base64.StdEncoding.EncodeToString(raw256)
	b64url := base64.RawURLEncoding.EncodeToString(raw256)
	for _, c := range []struct {
		name, file, text string
		format           Format
		wants            []want
		problems         []ProblemCode
	}{
		{"name first, colon", "", "gauge.bin: " + strings.ToUpper(dmd5) + "\n", NameFirst, []want{{"gauge.bin", "MD5", "098f", -1, 1}}, nil},
		{"name first, equals and spaces in the name", "", "gauge fw 4.bin = " + dmd5 + "\nboot.bin=" + dmd5, NameFirst, []want{{"gauge fw 4.bin", "MD5", "098f", -1, 1}, {"boot.bin", "MD5", "098f", -1, 2}}, nil},
		{"name first, tab and comma", "", "gauge.bin\t" + d1 + "\nboot.bin," + d1, NameFirst, []want{{"gauge.bin", "", "a999", -1, 1}, {"boot.bin", "", "a999", -1, 2}}, nil},
		{"sentences with names and digests", "", "Hello,\nSHA-256 of the images:\n  gauge.img is " + d256 + "\n  boot.img is " + d256 + "\nbye\n", FreeText, []want{{"gauge.img", "SHA-256", d256[:4], -1, 3}, {"boot.img", "SHA-256", d256[:4], -1, 4}}, nil},
		{"a message with a line like a list", "", "Hello,\nthe SHA-256 of gauge.img is\n  sorry, " + d256 + "\nand the MD5 of boot.img " + dmd5 + ".\n", FreeText, []want{{"gauge.img", "SHA-256", d256[:4], -1, 3}, {"boot.img", "MD5", "098f", -1, 4}}, nil},
		{"name first, a list of CRC-32", "", "; made by the light department\ngauge.bin 1A2B3C4D\nsub/boot.bin  00000000\n", NameFirst, []want{{"gauge.bin", "", "1a2b", -1, 2}, {"sub/boot.bin", "", "0000", -1, 3}}, nil},
		{"no CRC in a sentence", "", "the release deadbeef\n", None, nil, nil},
		{"bare", "gauge.bin.sha256", d256 + "\n", Bare, []want{{"", "SHA-256", "9f86", -1, 1}}, nil},
		{"bare with its label", "", "SHA256: " + d256 + "\n", Bare, []want{{"", "SHA-256", "9f86", -1, 1}}, nil},
		{"bare, one for each algorithm", "", "MD5: " + dmd5 + "\nSHA-256: " + d256 + "\n", Bare, []want{{"", "MD5", "098f", -1, 1}, {"", "SHA-256", "9f86", -1, 2}}, nil},
		{"bare among named ones", "", d256 + "  gauge.bin\n" + d256 + "\n", DigestFirst, []want{{"gauge.bin", "", "9f86", -1, 1}}, []ProblemCode{NoName}},
		{"sections", "", "SHA256:\n " + d256 + " 1234 gauge.bin\nMD5Sum:\n " + dmd5 + " 99 boot.bin\n", Sections, []want{{"gauge.bin", "SHA-256", "9f86", 1234, 2}, {"boot.bin", "MD5", "098f", 99, 4}}, nil},
		{"sections, name first", "", "[sha-1 checksums]\ngauge.bin 1234 " + d1 + "\n", Sections, []want{{"gauge.bin", "SHA-1", "a999", 1234, 2}}, nil},
		{"sections, size first", "", "# RIPEMD160\n77 " + d1 + " *gauge.bin\n", Sections, []want{{"gauge.bin", "RIPEMD-160", "a999", 77, 2}}, nil},
		{"a heading over digest-first lines", "", "== SHA512/256 digests ==\n" + d256 + "  gauge.bin\n", DigestFirst, []want{{"gauge.bin", "SHA-512/256", "9f86", -1, 2}}, nil},
		{"table, CSV", "", "File,Size,MD5,SHA-256\n\"gauge, new.bin\",1234," + dmd5 + "," + d256 + "\nboot.bin,99," + dmd5 + ",-\n", Table, []want{{"gauge, new.bin", "MD5", "098f", 1234, 2}, {"gauge, new.bin", "SHA-256", "9f86", 1234, 2}, {"boot.bin", "MD5", "098f", 99, 3}}, nil},
		{"table, tabs", "", "sha1\tfilename\n" + d1 + "\tgauge.bin\n", Table, []want{{"gauge.bin", "SHA-1", "a999", -1, 2}}, nil},
		{"table, bars", "", "| Image | SHA256 checksum |\n|-------|-----|\n| gauge.bin | `" + d256 + "` |\n", Table, []want{{"gauge.bin", "SHA-256", "9f86", -1, 3}}, nil},
		{"table with a damaged cell", "", "name;md5\ngauge.bin;" + dmd5[:30] + "\nboot.bin;" + dmd5 + "\n", Table, []want{{"boot.bin", "MD5", "098f", -1, 3}}, []ProblemCode{BadDigest}},
		{"subresource integrity", "", "gauge.js sha256-" + b64 + "\n", Encoded, []want{{"gauge.js", "SHA-256", "9f86", -1, 1}}, nil},
		{"subresource integrity, alone", "", "sha256-" + b64, Bare, []want{{"", "SHA-256", "9f86", -1, 1}}, nil},
		{"digest field", "", "Repr-Digest: sha-256=:" + b64 + ":\n", Bare, []want{{"", "SHA-256", "9f86", -1, 1}}, nil},
		{"named information", "", "gauge.bin ni:///sha-256;" + b64url + "\nboot.bin nih:sha-256;" + d256 + ";c", Encoded, []want{{"gauge.bin", "SHA-256", "9f86", -1, 1}, {"boot.bin", "SHA-256", "9f86", -1, 2}}, nil},
		{"Metalink", "", `<?xml version="1.0"?><metalink xmlns="urn:ietf:params:xml:ns:metalink">
<file name="gauge.bin"><size>12</size><hash type="sha-256">` + d256 + `</hash><hash type="md5">` + dmd5 + `</hash>
<pieces length="4" type="sha-1"><hash>` + d1 + `</hash><hash>` + d1 + `</hash></pieces><url>http://mirror.example/</url></file></metalink>`, Metalink, []want{{"gauge.bin", "SHA-256", "9f86", 12, 2}, {"gauge.bin", "MD5", "098f", 12, 2}}, nil},
		{"Metalink without a size", "", `<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="../x"><hash type="md5">` + dmd5 + `</hash></file><file name="y"><hash type="md5">` + dmd5 + `</hash></file></metalink>`, Metalink, []want{{"y", "MD5", "098f", -1, 1}}, []ProblemCode{UnsafeName}},
		{"Metalink cut short", "", `<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="y"><hash type="md5">` + dmd5 + `</hash></file><file name="z"><ha`, Metalink, []want{{"y", "MD5", "098f", -1, 1}}, []ProblemCode{BadDocument}},
		{"SPDX in JSON", "", `{"spdxVersion":"SPDX-2.3","files":[{"fileName":"./gauge.bin","checksums":[{"algorithm":"SHA1","checksumValue":"` + d1 + `"},{"algorithm":"SHA256","checksumValue":"` + d256 + `"}]}]}`, SPDX, []want{{"gauge.bin", "SHA-1", "a999", -1, 1}, {"gauge.bin", "SHA-256", "9f86", -1, 1}}, nil},
		{"SPDX of packages", "", `{"spdxVersion":"SPDX-2.3","packages":[{"packageFileName":"gauge.zip","checksums":[{"algorithm":"BLAKE2b-512","checksumValue":"` + d512 + `"}]}]}`, SPDX, []want{{"gauge.zip", "BLAKE2b", "ddaf", -1, 1}}, nil},
		{"SPDX in tags", "", "SPDXVersion: SPDX-2.3\nFileName: ./gauge.bin\nFileChecksum: SHA1: " + d1 + "\nFileChecksum: SHA256: " + d256[:60] + "\n", SPDX, []want{{"gauge.bin", "SHA-1", "a999", -1, 3}}, []ProblemCode{BadDigest}},
		{"CycloneDX in XML", "", `<?xml version="1.0"?><bom xmlns="http://cyclonedx.org/schema/bom/1.5"><components><component type="library"><name>libtide</name><hashes><hash alg="MD5">` + dmd5 + `</hash></hashes><components>
<component type="file"><name>./lib/tide.so</name><hashes><hash alg="SHA-1"> ` + d1 + ` </hash></hashes></component></components></component>
<component type="file"><name>gauge.bin</name><hashes><hash alg="SHA-256">` + d256 + `</hash><hash alg="SHA-999">00</hash></hashes></component></components></bom>`, CycloneDX, []want{{"lib/tide.so", "SHA-1", "a999", -1, 2}, {"gauge.bin", "SHA-256", "9f86", -1, 3}}, []ProblemCode{UnknownLabel}},
		{"CycloneDX in XML, cut short", "", `<bom xmlns="http://cyclonedx.org/schema/bom/1.4"><components><component type="file"><name>a</name><hashes><hash alg="SHA-1">` + d1 + `</hash></hashes></component><component type="file"><na`, CycloneDX, []want{{"a", "SHA-1", "a999", -1, 1}}, []ProblemCode{BadDocument}},
		{"CycloneDX", "", `{"bomFormat":"CycloneDX","components":[{"type":"library","name":"libtide","hashes":[{"alg":"MD5","content":"` + dmd5 + `"}]},{"type":"file","name":"gauge.bin","hashes":[{"alg":"SHA-256","content":"` + d256 + `"}]}]}`, CycloneDX, []want{{"gauge.bin", "SHA-256", "9f86", -1, 1}}, nil},
		{"other JSON", "", `{"error":"not found"}`, None, nil, nil},
		{"JSON cut short", "", "{\n\"spdxVersion\":\"SPDX-2.3\",\n\"files\":[", None, nil, []ProblemCode{BadDocument}},
		{"prose", "", "Dear harbour masters,\n\nwe have released gauge-fw-4.2.img today. Its SHA-256 is\n   " + d256 + "\nand for boot.img the MD5 is " + dmd5 + ".\n", FreeText, []want{{"gauge-fw-4.2.img", "SHA-256", "9f86", -1, 4}, {"boot.img", "MD5", "098f", -1, 5}}, nil},
		{"prose, the name behind", "", "Checksum " + d1 + " belongs to gauge.img, says the letter.\n", FreeText, []want{{"gauge.img", "", "a999", -1, 1}}, nil},
		{"a page", "", "<html><p>gauge.img</p><code>" + d256 + "</code></html>\n", Records, []want{{"gauge.img", "", "9f86", -1, 1}}, nil},
		{"mixed", "", d256 + "  a.bin\nSHA256 (b.bin) = " + d256 + "\nc.bin: " + d256 + "\n", Mixed, []want{{"a.bin", "", "9f86", -1, 1}, {"b.bin", "SHA-256", "9f86", -1, 2}, {"c.bin", "", "9f86", -1, 3}}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := read(t, c.text, Options{FileName: c.file})
			assert.Equal(t, c.format, m.Format)
			check(t, m, c.wants)
			codes := []ProblemCode(nil)
			for _, p := range m.Problems {
				codes = append(codes, p.Code)
				assert.NotEmpty(t, p.Message)
			}
			assert.Equal(t, c.problems, codes, "%v", m.Problems)
		})
	}
}

func TestPieces(t *testing.T) {
	m := read(
		t,
		`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="g"><hash type="md5">`+dmd5+`</hash><hash type="sha-256">`+d256+`</hash><pieces length="4" type="sha-1"><hash>`+d1+`</hash></pieces></file>
<file name="h"><hash type="md5">`+dmd5+`</hash><pieces length="0" type="sha-1"><hash>`+d1+`</hash></pieces></file></metalink>`,
		Options{},
	)
	require.Equal(t, 3, m.Entries.Len())
	assert.Nil(t, m.Entries.At(0).Pieces)
	pieces := m.Entries.At(1).Pieces
	require.NotNil(t, pieces, "they are with the strongest digest")
	assert.EqualValues(t, 4, pieces.Length)
	assert.Equal(t, digest.SHA1, pieces.Algorithm)
	assert.Len(t, pieces.Digests, 1)
	assert.Nil(t, m.Entries.At(2).Pieces)
	assert.Len(t, m.Problems, 1)
}

// TestEncodings writes one list in every encoding.
func TestEncodings(t *testing.T) {
	text := "# Prüfsummen\r\n" + d256 + "  Größe.bin\r\n"
	sixteen := func(big, mark bool) []byte {
		var b bytes.Buffer
		units := utf16.Encode([]rune(text))
		if mark {
			units = append([]uint16{0xfeff}, units...)
		}
		for _, u := range units {
			if big {
				b.Write([]byte{byte(u >> 8), byte(u)})
			} else {
				b.Write([]byte{byte(u), byte(u >> 8)})
			}
		}
		return b.Bytes()
	}
	latin := []byte(text)
	latin = bytes.ReplaceAll(latin, []byte("ü"), []byte{0xfc})
	latin = bytes.ReplaceAll(latin, []byte("ö"), []byte{0xf6})
	latin = bytes.ReplaceAll(latin, []byte("ß"), []byte{0xdf})
	for name, encoded := range map[string][]byte{
		"UTF-8": []byte(text), "UTF-8 with a mark": append([]byte("\ufeff"), text...), "UTF-16 LE with a mark": sixteen(false, true),
		"UTF-16 BE with a mark": sixteen(true, true), "UTF-16 LE": sixteen(false, false), "UTF-16 BE": sixteen(true, false), "Latin-1": latin,
	} {
		m, err := Read(bytes.NewReader(encoded), Options{})
		require.NoError(t, err, name)
		require.Equal(t, 1, m.Entries.Len(), name)
		assert.Equal(t, "Größe.bin", m.Entries.At(0).Name, name)
		assert.Equal(t, 2, m.Entries.At(0).Line, name)
	}
}

// TestNamesThatEscapeInEachFormat holds the rule in every reader.
func TestNamesThatEscapeInEachFormat(t *testing.T) {
	bad := "../../etc/hostname"
	for _, text := range []string{
		d256 + "  " + bad, "SHA256 (" + bad + ") = " + d256, bad + ": " + d256, "SHA256:\n" + d256 + " 12 " + bad,
		"name,sha256\n" + bad + "," + d256, `{"spdxVersion":"x","files":[{"fileName":"` + bad + `","checksums":[{"algorithm":"SHA256","checksumValue":"` + d256 + `"}]}]}`,
		"SPDXVersion: x\nFileName: " + bad + "\nFileChecksum: SHA256: " + d256, `{"bomFormat":"CycloneDX","components":[{"type":"file","name":"` + bad + `","hashes":[{"alg":"SHA-256","content":"` + d256 + `"}]}]}`,
		`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="` + bad + `"><hash type="sha-256">` + d256 + `</hash></file></metalink>`,
		bad + " nih:sha-256;" + d256,
	} {
		m := read(t, text, Options{})
		assert.Zero(t, m.Entries.Len(), text)
		require.Len(t, m.Problems, 1, text)
		assert.Equal(t, UnsafeName, m.Problems[0].Code, text)
	}
}

func FuzzFormats(f *testing.F) {
	for _, seed := range []string{
		"File,MD5\ngauge.bin," + dmd5, "SHA256:\n" + d256 + " 12 a.bin", `{"spdxVersion":"x","files":[]}`, "SPDXVersion: x\nFileName: a\nFileChecksum: SHA1: " + d1,
		`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="a"><hash type="md5">` + dmd5 + `</hash></file></metalink>`,
		"a.img ni:///sha-256;n4bQgYhMfWWaL-qgxVrQFaO_TxsrC4Is0V1sFbDwCgg", "see a.img: " + d256, "\xff\xfea\x00", fmt.Sprintf("| a | md5 |\n| b | %s |", dmd5),
	} {
		f.Add([]byte(seed), "SHA256SUMS")
	}
	f.Fuzz(func(t *testing.T, text []byte, name string) {
		m, err := Read(bytes.NewReader(text), Options{MaxLine: 512, MaxEntries: 16, MaxBytes: 8192, FileName: name})
		if m == nil {
			t.Fatalf("no manifest, error %v", err)
		}
		for _, e := range m.Entries.All() {
			if _, why, ok := SafeName(e.Name); !ok && e.Format() != Bare {
				t.Fatalf("unsafe name passed: %q (%s)", e.Name, why)
			}
			if len(e.Candidates()) == 0 || e.Line < 1 || e.Column() < 1 || len(e.Digest) == 0 {
				t.Fatalf("incomplete entry %+v", e)
			}
		}
	})
}

// FuzzDocuments reads structured documents, pages and tables, and holds the laws: each
// name of an entry is safe, each value is accounted for, and reading ends soon.
func FuzzDocuments(f *testing.F) {
	for _, seed := range []string{
		`{"files":[{"file":"a.bin","sha256":"` + d256 + `"},{"` + d256 + `":"b.bin"}]}`, `[["a.bin","` + d1 + `"]]`, `<a><file name="x" size="1"><hash type="md5">` + dmd5 + `</hash></file></a>`,
		"<!DOCTYPE html><table><tr><th>File</th><th>MD5</th></tr><tr><td><a href=\"x.bin\">x</a></td><td title=\"" + dmd5 + "\">0a…</td></tr></table>",
		"files:\n  a.bin:\n    md5: " + dmd5 + "\n- b\n", "%FILENAME%\na.bin\n\n%MD5SUM%\n" + dmd5, "source=(a.bin b)\nmd5sums=('" + dmd5 + "' SKIP)\n",
		"Content-Transfer-Encoding: quoted-printable\n\na.bin =3D " + dmd5[:20] + "=\n" + dmd5[20:], "a.bin: 09 8f 6b cd 46 21 d3 73\n ca de 4e 83 26 27 b4 f6\n", "| a | b |\n|---|\n",
		"<plist><dict><key>a</key><string>" + d1 + "</string></dict></plist>", "1234567890 12 a.bin\n", "a.bin deadbeef\nb.bin 00000000\n",
	} {
		f.Add([]byte(seed), "")
	}
	f.Fuzz(func(t *testing.T, text []byte, neighbour string) {
		m, err := Parse(
			string(text),
			Options{
				MaxLine: 1 << 12, MaxEntries: 64, MaxBytes: 1 << 14, MaxAsides: 1 << 10, MaxProblems: 1 << 10,
				Beside: NewNames([]string{neighbour}),
			},
		)
		if err != nil {
			return
		}
		for _, e := range m.Entries.All() {
			if _, why, ok := SafeName(e.Name); !ok && e.Format() != Bare {
				t.Fatalf("unsafe name passed: %q (%s)", e.Name, why)
			}
			if len(e.Candidates()) == 0 || e.Line < 1 || e.Column() < 1 || len(e.Digest) == 0 {
				t.Fatalf("incomplete entry %+v", e)
			}
		}
	})
}

// manyLines is a manifest of ten million lines that is never in memory.
type manyLines struct {
	line []byte
	left int
	rest []byte
}

func (m *manyLines) Read(p []byte) (int, error) {
	n := 0
	for n < len(p) {
		if len(m.rest) == 0 {
			if m.left == 0 {
				return n, io.EOF
			}
			m.left--
			m.rest = m.line
		}
		c := copy(p[n:], m.rest)
		n += c
		m.rest = m.rest[c:]
	}
	return n, nil
}

// TestTenMillionLines reads more than the bounds allow and measures what that
// costs.
func TestTenMillionLines(t *testing.T) {
	for name, c := range map[string]struct {
		opts  Options
		what  string
		lines int
	}{
		"by bytes":   {Options{}, "bytes", 10_000_000},
		"by entries": {Options{MaxEntries: 100_000}, "entries", 150_000},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		m, err := Read(&manyLines{line: []byte(d256 + "  firmware/part.img\n"), left: c.lines}, c.opts)
		runtime.ReadMemStats(&after)
		var limit *LimitError
		require.ErrorAs(t, err, &limit, name)
		assert.Equal(t, c.what, limit.What)
		assert.NotZero(t, m.Entries.Len(), "what was read before the bound is kept")
		perEntry := float64(after.TotalAlloc-before.TotalAlloc) / float64(m.Entries.Len())
		assert.Less(t, perEntry, 1200.0, "bytes allocated for each entry, %s", name)
	}
	// Lines that are no entries cost nothing that stays.
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	m, err := Read(&manyLines{line: []byte("this is not an entry of any kind\n"), left: 1_000_000}, Options{})
	runtime.GC()
	runtime.ReadMemStats(&after)
	require.NoError(t, err)
	assert.Zero(t, m.Entries.Len())
	assert.Less(t, after.HeapAlloc-min(before.HeapAlloc, after.HeapAlloc), uint64(32<<20), "bytes kept")
}

// TestMetalinkSignatures keeps the signatures that a Metalink file holds.
func TestMetalinkSignatures(t *testing.T) {
	m := read(t, `<metalink xmlns="urn:ietf:params:xml:ns:metalink">
<file name="g"><signature mediatype="application/pgp-signature">-----BEGIN PGP SIGNATURE-----</signature><signature mediatype="application/x-other">x</signature></file>
<file name="../h"><signature mediatype="application/pgp-signature">y</signature></file></metalink>`, Options{})
	assert.Equal(t, []Signature{{"g", "-----BEGIN PGP SIGNATURE-----", 2}}, m.Signatures)
	require.Len(t, m.Problems, 2)
	assert.Equal(t, []ProblemCode{UnknownLabel, UnsafeName}, []ProblemCode{m.Problems[0].Code, m.Problems[1].Code})
}
