package diagnose

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	"endeixis/core/manifest"
)

func noise(n int) []byte {
	out := make([]byte, n)
	rand.NewChaCha8([32]byte{7}).Read(out)
	return out
}

func sum(a digest.Algorithm, content []byte) digest.Value {
	h := a.New()
	h.Write(content)
	return h.Sum(nil)
}

// diagnosed runs a case in which here was found and published was listed.
func diagnosed(t *testing.T, name string, here, published []byte, adjust func(*Case)) []Cause {
	t.Helper()
	c := Case{
		Name:       name,
		Size:       int64(len(here)),
		Computed:   map[digest.Algorithm]digest.Value{digest.SHA256: sum(digest.SHA256, here)},
		Expected:   sum(digest.SHA256, published),
		Algorithms: digest.Only(digest.SHA256),
		Known:      map[string]StatedAt{},
	}
	if adjust != nil {
		adjust(&c)
	}
	found, err := Run(context.Background(), iotest.HalfReader(bytes.NewReader(here)), c)
	require.NoError(t, err)
	require.NotEmpty(t, found)
	for _, f := range found {
		assert.NotEmpty(t, f.Advice)
		assert.True(t, strings.HasSuffix(f.Sentence, "."), f.Sentence)
	}
	return found
}

func codes(found []Cause) []Code {
	var out []Code
	for _, f := range found {
		out = append(out, f.Code)
	}
	return out
}

func size(n int) func(*Case) {
	return func(c *Case) {
		s := int64(n)
		c.ExpectedSize = &s
	}
}

func TestFindings(t *testing.T) {
	image := noise(300_000)
	flipped := slices.Clone(image)
	flipped[1000] ^= 1
	preallocated := slices.Concat(image[:100_000], make([]byte, 200_000))
	gap := slices.Concat(image[:90_000], make([]byte, 120_000), image[210_000:])
	text := []byte(strings.Repeat("tide table\nharbour\n", 500))
	var archive bytes.Buffer
	w := zip.NewWriter(&archive)
	f, err := w.Create("main.img")
	require.NoError(t, err)
	f.Write(image)
	require.NoError(t, w.Close())
	disc := make([]byte, 200*2048)
	copy(disc, noise(len(disc)))
	pvd := disc[16*2048:]
	pvd[0] = 1
	copy(pvd[1:], "CD001")
	binary.LittleEndian.PutUint32(pvd[80:], 200)
	binary.LittleEndian.PutUint16(pvd[128:], 2048)

	for _, c := range []struct {
		name, file string
		here, was  []byte
		adjust     func(*Case)
		want       []Code
		says       string
	}{
		{"a flipped bit", "gauge.img", flipped, image, nil, []Code{Altered}, "nothing that usually goes wrong"},
		{"the same with its length", "gauge.img", flipped, image, size(len(image)), []Code{Altered}, "has the length that is stated"},
		{"cut short, by size", "gauge.img", image[:123_456], image, size(len(image)), []Code{Truncated}, "176544 are missing"},
		{"cut short, a zip archive", "gauge.zip", archive.Bytes()[:200_000], archive.Bytes(), nil, []Code{Truncated}, "closing part"},
		{"a whole zip archive is not cut", "gauge.zip", archive.Bytes(), image, nil, []Code{Altered}, ""},
		{"cut short, a disc image", "chart.iso", disc[:150*2048], disc, nil, []Code{Truncated}, "by its own structure the disc image has 409600 bytes"},
		{"padded with zeros", "gauge.img", append(slices.Clone(image), make([]byte, 100)...), image, size(len(image)), []Code{Padded}, "100 bytes more follow, all of them zero"},
		{"padded with many zeros", "gauge.img", append(slices.Clone(image), make([]byte, 100_000)...), image, size(len(image)), []Code{Padded}, "all of them zero"},
		{"padded with FF", "gauge.img", append(slices.Clone(image), bytes.Repeat([]byte{0xff}, 9)...), image, size(len(image)), []Code{Padded}, "all of them FF"},
		{"padded with something", "gauge.img", append(slices.Clone(image), 1, 2, 3), image, size(len(image)), []Code{Padded}, "content of their own"},
		{"padded, a disc image by its own field", "chart.iso", append(slices.Clone(disc), make([]byte, 4096)...), disc, nil, []Code{Padded}, "first 409600 bytes"},
		{"reserved and not finished", "gauge.img", preallocated, image, nil, []Code{Hole}, "The last 1"},
		{"a missing part", "gauge.img", gap, image, nil, []Code{Hole}, "bytes from byte 9"},
		{"CR LF", "tides.txt", bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n")), text, nil, []Code{LineEndings}, "turned into LF"},
		{"LF", "tides.txt", text, bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n")), nil, []Code{LineEndings}, "turned into CR LF"},
		{"an error page", "gauge.img", []byte("<!DOCTYPE html><title>404</title>"), image, nil, []Code{NotTheArtifact}, "an HTML page"},
		{"an error in JSON", "gauge.zip", []byte(`{"error":"no such release"}`), image, nil, []Code{NotTheArtifact}, "in JSON"},
		{"a text stub", "gauge.bin", []byte("moved elsewhere\n"), image, size(len(image)), []Code{NotTheArtifact, Truncated}, "a short text"},
		{"a page that is one", "notes.html", []byte("<!DOCTYPE html>x"), image, nil, []Code{Altered}, ""},
		{"another algorithm", "gauge.img", image, image, func(c *Case) { c.Expected = sum(digest.SHA3256, image) }, []Code{WrongAlgorithm}, "the SHA3-256 digest of exactly these bytes, not SHA-256"},
		{"another CRC", "gauge.img", image, image, func(c *Case) {
			c.Expected, c.Algorithms = sum(digest.CRC32BZIP2, image), digest.Only(digest.CRC32)
		}, []Code{WrongAlgorithm}, "CRC-32/BZIP2"},
		{"a CRC in the other byte order", "gauge.img", image, image, func(c *Case) {
			c.Expected, c.Algorithms = sum(digest.CRC32, image), digest.Only(digest.CRC32)
			slices.Reverse(c.Expected)
		}, []Code{WrongAlgorithm}, "reverse order"},
		{"swapped", "gauge.img", flipped, image, func(c *Case) {
			c.Known[sum(digest.SHA256, flipped).String()] = StatedAt{Name: "buoy.img", Manifest: "SHA256SUMS", Line: 3}
		}, []Code{OtherEntry}, "those of “buoy.img”, as SHA256SUMS states in line 3"},
		{"the archive's entry has its digest", "gauge.img", flipped, image, func(c *Case) {
			c.Known[sum(digest.SHA256, flipped).String()] = StatedAt{Name: "gauge.img.gz", Manifest: "SHA256SUMS", Line: 3}
		}, []Code{OtherEntry}, "states in line 3 for “gauge.img.gz” is that of this file"},
		{"an image moved in text mode", "gauge.img", bytes.ReplaceAll(image, []byte("\n"), []byte("\r\n")), image, nil, []Code{LineEndings}, "turned into LF"},
		{"cut short, gzip", "gauge.img.gz", packtest.Gzip(image)[:200_000], []byte("other"), nil, []Code{Truncated}, "ends in the middle"},
		{"a CRC of the catalogue", "gauge.img", image, image, func(c *Case) {
			c.Expected, c.Algorithms = sum(digest.CRC32Bare, image), digest.Only(digest.CRC32)
		}, []Code{WrongAlgorithm}, "CRC-32/CKSUM without the length"},
		{"an empty file", "gauge.img", nil, image, size(len(image)), []Code{Truncated}, "0 of 300000 bytes"},
	} {
		t.Run(c.name, func(t *testing.T) {
			found := diagnosed(t, c.file, c.here, c.was, c.adjust)
			assert.Equal(t, c.want, codes(found))
			assert.Contains(t, found[0].Sentence, c.says)
		})
	}
}

// TestDamageIsLocated damages any bytes and expects exactly their pieces.
func TestDamageIsLocated(t *testing.T) {
	image := noise(10_000)
	rapid.Check(t, func(t *rapid.T) {
		length := int64(rapid.IntRange(100, 4000).Draw(t, "piece"))
		pieces := &manifest.Pieces{Algorithm: digest.SHA256, Length: length}
		for at := int64(0); at < int64(len(image)); at += length {
			s := sha256.Sum256(image[at:min(at+length, int64(len(image)))])
			pieces.Digests = append(pieces.Digests, s[:])
		}
		here := slices.Clone(image)
		hit := map[int64]bool{}
		for _, at := range rapid.SliceOfN(rapid.IntRange(0, len(image)-1), 1, 5).Draw(t, "damage") {
			here[at] ^= 0x80
			hit[int64(at)] = true
		}
		if bytes.Equal(here, image) {
			t.Skip("the damage undid itself")
		}
		c := Case{
			Name: "x.img", Size: int64(len(here)), Expected: sum(digest.SHA256, image),
			Algorithms: digest.Only(digest.SHA256), Pieces: pieces,
		}
		found, err := Run(context.Background(), bytes.NewReader(here), c)
		require.NoError(t, err)
		require.Equal(t, DamagedPieces, found[0].Code)
		for i := range here {
			inside := slices.ContainsFunc(
				found[0].Damage, func(r Range) bool { return int64(i) >= r.Offset && int64(i) < r.Offset+r.Length },
			)
			if here[i] != image[i] && !inside {
				t.Fatalf("byte %d is damaged and in no part", i)
			}
		}
		for _, r := range found[0].Damage {
			if r.Offset%length != 0 || r.Length <= 0 || r.Offset+r.Length > int64(len(here)) {
				t.Fatalf("part %+v", r)
			}
		}
	})
}

func TestReadErrors(t *testing.T) {
	boom := errors.New("bad sector")
	_, err := Run(
		context.Background(), iotest.ErrReader(boom),
		Case{Expected: make([]byte, 32), Algorithms: digest.Only(digest.SHA256)},
	)
	require.ErrorIs(t, err, boom)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Run(
		ctx, bytes.NewReader(noise(1<<20)), Case{Expected: make([]byte, 32), Algorithms: digest.Only(digest.SHA256)},
	)
	require.ErrorIs(t, err, context.Canceled)
}

// FuzzRun holds that any content gets at least one cause and no part of the
// damage lies outside the file.
func FuzzRun(f *testing.F) {
	f.Add("x.zip", []byte("PK\x03\x04"), int64(9))
	f.Add("x.iso", append(make([]byte, 16*2048), "\x01CD001"...), int64(-1))
	f.Add("x.img", []byte("<html>"), int64(0))
	f.Fuzz(func(t *testing.T, name string, content []byte, stated int64) {
		c := Case{
			Name: name, Size: int64(len(content)), Expected: make([]byte, 32), Algorithms: digest.Only(digest.SHA256),
			Pieces: &manifest.Pieces{Algorithm: digest.SHA256, Length: 7, Digests: []digest.Value{make([]byte, 32)}},
		}
		if stated >= 0 {
			c.ExpectedSize = &stated
		}
		found, err := Run(context.Background(), bytes.NewReader(content), c)
		if err != nil || len(found) == 0 {
			t.Fatalf("%v, %v", found, err)
		}
		for _, cause := range found {
			for _, r := range cause.Damage {
				if r.Offset < 0 || r.Length <= 0 || r.Offset+r.Length > c.Size {
					t.Fatalf("damage %+v in %d bytes", r, c.Size)
				}
			}
		}
	})
}

// TestMistyped: a value that differs in one or two characters was copied wrongly; in more,
// it is another file's.
func TestMistyped(t *testing.T) {
	t.Parallel()
	content := bytes.Repeat([]byte{0x7f, 0x00, 0xfe, 0x11}, 40)
	sum := sha256.Sum256(content)
	right := digest.Value(sum[:])
	change := func(places ...int) digest.Value {
		text := []byte(right.String())
		for _, at := range places {
			if text[at]++; text[at] == '9'+1 || text[at] == 'f'+1 {
				text[at] = '0'
			}
		}
		var out digest.Value
		require.NoError(t, out.UnmarshalText(text))
		return out
	}
	swapped := []byte(right.String())
	at := 0
	for swapped[at] == swapped[at+1] {
		at++
	}
	swapped[at], swapped[at+1] = swapped[at+1], swapped[at]
	var swap digest.Value
	require.NoError(t, swap.UnmarshalText(swapped))
	for name, c := range map[string]struct {
		stated digest.Value
		code   Code
		says   string
	}{
		"one character":    {change(12), MistypedValue, "but for one character, the 13th"},
		"two characters":   {change(0, 61), MistypedValue, "the 1st and the 62nd"},
		"a swap":           {swap, MistypedValue, "two characters swapped"},
		"three characters": {change(0, 9, 30), Altered, ""},
	} {
		found, err := Run(t.Context(), bytes.NewReader(content), Case{
			Name:       "gauge.bin",
			Size:       int64(len(content)),
			Computed:   map[digest.Algorithm]digest.Value{digest.SHA256: right},
			Expected:   c.stated,
			Algorithms: digest.Only(digest.SHA256),
		})
		require.NoError(t, err)
		require.Len(t, found, 1, name)
		assert.Equal(t, c.code, found[0].Code, name)
		assert.Contains(t, found[0].Sentence, c.says, name)
	}
}
