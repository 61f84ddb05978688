package container

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/flate"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/container/isotest"
)

// content is what a made-up archive holds.
type content struct{ name, text string }

var slipway = []content{
	{"notes/read me.txt", "Lantern firmware 4.1\n"},
	{"nl-200.img", strings.Repeat("light ", 40_000)},
	{"leuchtfeuer-ß.cfg", ""},
}

func zipOf(t testing.TB, method uint16, files []content) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.name, Method: method}
		out, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(out, f.text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func tarOf(t testing.TB, files []content) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		require.NoError(
			t, w.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.text)), Typeflag: tar.TypeReg}),
		)
		_, err := io.WriteString(w, f.text)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

func isoOf(o isotest.Options, files []content) []byte {
	var list []isotest.File
	for _, f := range files {
		list = append(list, isotest.File{Name: f.name, Content: []byte(f.text)})
	}
	return isotest.Image(list, o)
}

func list(t testing.TB, image []byte) (*Layout, error) {
	return List(t.Context(), bytes.NewReader(image), int64(len(image)), "x.img.gz", Options{})
}

// contents streams a container in uneven parts and returns what its lanes got.
func contents(t testing.TB, l *Layout, image []byte, step int) map[string]string {
	got := map[string]*bytes.Buffer{}
	var lanes []*Lane
	for _, m := range l.Members {
		got[m.Name] = &bytes.Buffer{}
		lanes = append(lanes, &Lane{Member: m, To: []io.Writer{got[m.Name]}})
	}
	s := NewSplitter(t.Context(), lanes...)
	var w io.Writer = s
	var e *Expander
	if l.Compression != "" {
		e = NewExpander(t.Context(), l.Compression, s)
		w = e
	}
	for len(image) > 0 {
		n := min(step, len(image))
		w.Write(image[:n])
		image = image[n:]
	}
	if e != nil {
		require.NoError(t, e.Finish())
	}
	s.Finish()
	out := map[string]string{}
	for _, lane := range lanes {
		require.NoError(t, lane.Err(), lane.Member.Name)
		assert.EqualValues(t, got[lane.Member.Name].Len(), lane.Size())
		out[lane.Member.Name] = got[lane.Member.Name].String()
	}
	return out
}

func TestContainersOfEachFormat(t *testing.T) {
	at := time.Date(2026, 5, 4, 12, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		image []byte
		says  string
	}{
		"zip, packed":     {zipOf(t, zip.Deflate, slipway), "zip archive with 3 members"},
		"zip, stored":     {zipOf(t, zip.Store, slipway), "zip archive with 3 members"},
		"tar":             {tarOf(t, slipway), "tar archive with 3 members"},
		"tar in gzip":     {pack(t, Gzip, tarOf(t, slipway)), "gzip-compressed tar archive with 3 members"},
		"tar in zstd":     {pack(t, Zstd, tarOf(t, slipway)), "zstd-compressed tar archive with 3 members"},
		"disc, Rock R.":   {isoOf(isotest.Options{RockRidge: true, Time: at}, slipway), "disc image with 3 members"},
		"disc, Joliet":    {isoOf(isotest.Options{Joliet: true, Time: at}, slipway), "disc image with 3 members"},
		"disc, with both": {isoOf(isotest.Options{RockRidge: true, Joliet: true, Time: at}, slipway), "disc image with 3 members"},
	} {
		l, err := list(t, c.image)
		require.NoError(t, err, name)
		assert.Empty(t, l.Problems, name)
		assert.Equal(t, c.says, l.String(), name)
		for _, step := range []int{1 << 20, 1000, 61} {
			got := contents(t, l, c.image, step)
			require.Len(t, got, 3, name)
			for _, f := range slipway {
				assert.Equal(t, f.text, got[f.name], "%s: %s in steps of %d", name, f.name, step)
			}
		}
	}

	plain := isoOf(isotest.Options{Time: at}, slipway)
	l, err := list(t, plain)
	require.NoError(t, err)
	assert.Equal(
		t, []string{"LEUCHT2.CFG", "NL_2001.IMG", "NOTES0/READ_M0.TXT"}, names(l),
		"the standard's own names, without version",
	)

	single := pack(t, XZ, []byte("one image"))
	l, err = list(t, single)
	require.NoError(t, err)
	assert.Equal(t, Single, l.Format)
	assert.Equal(t, map[string]string{"x.img": "one image"}, contents(t, l, single, 5))

	_, err = list(t, []byte("just text"))
	assert.ErrorIs(t, err, ErrNotContainer)
	_, err = list(t, nil)
	assert.ErrorIs(t, err, ErrNotContainer)
}

func names(l *Layout) []string {
	var out []string
	for _, m := range l.Members {
		out = append(out, m.Name)
	}
	slices.Sort(out)
	return out
}

// TestKeep holds that small members are read in the one look, whatever keeps
// them.
func TestKeep(t *testing.T) {
	keep := func(name string, size int64) bool { return strings.HasSuffix(name, ".txt") }
	for name, image := range map[string][]byte{
		"zip": zipOf(t, zip.Deflate, slipway), "tar": tarOf(t, slipway), "tar.gz": pack(t, Gzip, tarOf(t, slipway)),
		"iso": isoOf(isotest.Options{RockRidge: true}, slipway),
	} {
		l, err := List(t.Context(), bytes.NewReader(image), int64(len(image)), "x", Options{Keep: keep})
		require.NoError(t, err, name)
		kept := 0
		for _, m := range l.Members {
			if m.Content != nil {
				kept++
				assert.Equal(t, slipway[0].text, string(m.Content), name)
			}
		}
		assert.Equal(t, 1, kept, name)
		l, err = List(
			t.Context(), bytes.NewReader(image), int64(len(image)), "x", Options{Keep: keep, Limits: Limits{Kept: 3}},
		)
		require.NoError(t, err, name)
		for _, m := range l.Members {
			assert.Nil(t, m.Content, "%s: beyond the limit", name)
		}
	}
}

// TestSplitterIsExact holds for any members and any parts of the stream that
// each lane gets just its own bytes.
func TestSplitterIsExact(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		stream := rapid.SliceOfN(rapid.Byte(), 1, 400).Draw(t, "stream")
		var lanes []*Lane
		var want []string
		var got []*bytes.Buffer
		for range rapid.IntRange(0, 6).Draw(t, "lanes") {
			var m Member
			var text []byte
			at := 0
			for range rapid.IntRange(1, 3).Draw(t, "extents") {
				from := rapid.IntRange(at, len(stream)).Draw(t, "from")
				to := rapid.IntRange(from, len(stream)).Draw(t, "to")
				m.Extents = append(m.Extents, Extent{int64(from), int64(to - from)})
				text = append(text, stream[from:to]...)
				at = to
			}
			m.Size = int64(len(text))
			b := &bytes.Buffer{}
			lanes = append(lanes, &Lane{Member: m, To: []io.Writer{b}})
			want = append(want, string(text))
			got = append(got, b)
		}
		s := NewSplitter(context.Background(), lanes...)
		for rest := stream; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "part")
			s.Write(rest[:n])
			rest = rest[n:]
		}
		s.Finish()
		for i, lane := range lanes {
			if lane.Err() != nil || got[i].String() != want[i] {
				t.Fatalf("lane %d: %q, want %q (%v)", i, got[i].String(), want[i], lane.Err())
			}
		}
	})
}

func TestLanesThatFallShort(t *testing.T) {
	image := zipOf(t, zip.Deflate, slipway)
	l, err := list(t, image)
	require.NoError(t, err)
	lane := &Lane{Member: l.Members[1]}
	s := NewSplitter(t.Context(), lane)
	s.Write(image[:l.Members[1].Extents[0].Offset+20])
	s.Finish()
	assert.ErrorIs(t, lane.Err(), ErrEndsEarly)

	m := l.Members[1]
	m.Size = 10
	lane = &Lane{Member: m}
	s = NewSplitter(t.Context(), lane)
	s.Write(image)
	s.Finish()
	assert.ErrorContains(t, lane.Err(), "more than is stated")

	m.Size = 1 << 30
	lane = &Lane{Member: m}
	s = NewSplitter(t.Context(), lane)
	s.Write(image)
	s.Finish()
	assert.ErrorContains(t, lane.Err(), "it holds 240000 bytes, and 1073741824 are stated")
}

// TestNamesThatEscape holds for every format that a member whose name leads
// elsewhere is told and not used, and that the others are.
func TestNamesThatEscape(t *testing.T) {
	evil := []content{
		{"../gauge.bin", "a"},
		{"/etc/passwd", "b"},
		{"c:\\boot.ini", "c"},
		{"x/../../y", "d"},
		{"nul", "e"},
		{"good.bin", "f"},
	}
	for name, image := range map[string][]byte{"zip": zipOf(t, zip.Store, evil), "tar": tarOf(t, evil)} {
		l, err := list(t, image)
		require.NoError(t, err, name)
		assert.Equal(t, []string{"good.bin"}, names(l), name)
		assert.Len(t, l.Problems, 5, name)
		for _, p := range l.Problems {
			assert.NotEmpty(t, p.Message)
		}
	}
	l, err := list(
		t,
		isotest.Image(
			[]isotest.File{{Name: "good.bin", Content: []byte("f")}, {Name: "con.txt"}, {Name: "away", Link: true}},
			isotest.Options{RockRidge: true},
		),
	)
	require.NoError(t, err)
	assert.Equal(t, []string{"good.bin"}, names(l))
	assert.Equal(t, 1, l.Links)
	assert.Len(t, l.Problems, 1)
	image := bytes.ReplaceAll(
		isoOf(isotest.Options{RockRidge: true}, slipway), []byte("nl-200.img"), []byte("../../p.qq"),
	)
	l, err = list(t, image)
	require.NoError(t, err)
	assert.Len(t, l.Members, 2)
	require.Len(t, l.Problems, 1)
	assert.Contains(t, l.Problems[0].Message, "leads out of the folder")
}

func TestLinksAndOddMembers(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, h := range []tar.Header{
		{Name: "away", Typeflag: tar.TypeSymlink, Linkname: "/etc/shadow"},
		{Name: "twin", Typeflag: tar.TypeLink, Linkname: "../../x"},
		{Name: "pipe", Typeflag: tar.TypeFifo},
		{Name: "disk", Typeflag: tar.TypeBlock},
		{Name: "dir/", Typeflag: tar.TypeDir},
	} {
		require.NoError(t, w.WriteHeader(&h))
	}
	require.NoError(t, w.Close())
	l, err := list(t, b.Bytes())
	require.NoError(t, err)
	assert.Empty(t, l.Members)
	assert.Equal(t, 2, l.Links)
	assert.Len(t, l.Problems, 2)

	// As GNU tar stores a file with holes: a type of its own, and where the holes are.
	b.Reset()
	w = tar.NewWriter(&b)
	require.NoError(
		t, w.WriteHeader(&tar.Header{Name: "hollow", Typeflag: tar.TypeReg, Format: tar.FormatGNU, Devmajor: 1}),
	)
	require.NoError(t, w.Close())
	header := b.Bytes()[:512]
	header[156] = tar.TypeGNUSparse
	copy(header[148:156], "        ")
	sum := 0
	for _, c := range header {
		sum += int(c)
	}
	copy(header[148:156], fmt.Sprintf("%06o\x00 ", sum))
	l, err = list(t, b.Bytes())
	require.NoError(t, err)
	require.Len(t, l.Problems, 1)
	assert.Equal(t, "it is stored with holes, which is not read here", l.Problems[0].Message)

	encrypted := zipOf(t, zip.Store, slipway[:1])
	at := bytes.Index(encrypted, []byte("PK\x01\x02"))
	encrypted[at+8] |= 1
	l, err = list(t, encrypted)
	require.NoError(t, err)
	require.Len(t, l.Problems, 1)
	assert.Equal(t, "it is encrypted", l.Problems[0].Message)
	encrypted[at+8] &^= 1
	encrypted[at+10] = 99
	l, err = list(t, encrypted)
	require.NoError(t, err)
	require.Len(t, l.Problems, 1)
	assert.Contains(t, l.Problems[0].Message, "method 99")
}

func TestRepeatedMembers(t *testing.T) {
	files := []content{{"gauge.bin", "one"}, {"./gauge.bin", "two"}, {"other.bin", "three"}}
	for name, image := range map[string][]byte{"zip": zipOf(t, zip.Store, files), "tar": tarOf(t, files)} {
		l, err := list(t, image)
		require.NoError(t, err, name)
		assert.Equal(t, []string{"other.bin"}, names(l), name)
		require.Len(t, l.Problems, 1, name)
		assert.Contains(t, l.Problems[0].Message, "2 members of this name")
	}
}

// TestOverlappingMembers makes a zip whose two members share their bytes, as
// archives that expand without end do.
func TestOverlappingMembers(t *testing.T) {
	image := zipOf(t, zip.Store, []content{{"a", strings.Repeat("x", 100)}, {"b", strings.Repeat("y", 100)}})
	first := bytes.Index(image, []byte("PK\x01\x02"))
	second := first + bytes.Index(image[first+4:], []byte("PK\x01\x02")) + 4
	binary.LittleEndian.PutUint32(image[second+42:], 0) // the second begins where the first does
	_, err := list(t, image)
	var format *FormatError
	require.ErrorAs(t, err, &format)
	assert.Equal(t, "its members “a” and “b” overlap", format.Reason)
}

// TestExpansionWithoutEnd holds that neither listing nor streaming goes on for
// ever or fills the memory.
func TestExpansionWithoutEnd(t *testing.T) {
	var packed bytes.Buffer
	w, err := flate.NewWriter(&packed, 9)
	require.NoError(t, err)
	zeros := make([]byte, 1<<20)
	for range 64 {
		w.Write(zeros)
	}
	require.NoError(t, w.Close())
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range 40 {
		h := &zip.FileHeader{
			Name: fmt.Sprint(i), Method: zip.Deflate, CompressedSize64: uint64(packed.Len()),
			UncompressedSize64: 64 << 20,
		}
		out, err := z.CreateRaw(h)
		require.NoError(t, err)
		out.Write(packed.Bytes())
	}
	require.NoError(t, z.Close())
	_, err = list(t, b.Bytes())
	var expansion *ExpansionError
	require.ErrorAs(t, err, &expansion)
	assert.EqualValues(t, b.Len(), expansion.In)

	// A member that states little and holds much is stopped at what it states.
	image := b.Bytes()
	for at := 0; ; at++ {
		next := bytes.Index(image[at:], []byte("PK\x01\x02"))
		if next < 0 {
			break
		}
		at += next
		binary.LittleEndian.PutUint32(image[at+24:], 1000)
	}
	l, err := List(
		t.Context(), bytes.NewReader(image), int64(len(image)), "x",
		Options{Keep: func(string, int64) bool { return true }},
	)
	require.NoError(t, err)
	require.Len(t, l.Problems, 40)
	assert.Contains(t, l.Problems[0].Message, "more than is stated")
}

func TestAbsurdNumbers(t *testing.T) {
	many := make([]content, 30)
	for i := range many {
		many[i].name = fmt.Sprint(i)
	}
	for name, image := range map[string][]byte{"zip": zipOf(t, zip.Store, many), "tar": tarOf(t, many), "tar.gz": pack(t, Gzip, tarOf(t, many)), "iso": isoOf(isotest.Options{RockRidge: true}, many)} {
		_, err := List(
			t.Context(), bytes.NewReader(image), int64(len(image)), "x", Options{Limits: Limits{Members: 20}},
		)
		var limit *LimitError
		require.ErrorAs(t, err, &limit, name)
		assert.Equal(t, "it was not looked into further than 20 members", limit.Error())
	}
	huge := zipOf(t, zip.Store, slipway)
	at := bytes.Index(huge, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(huge[at+20:], 0xfffffff0)
	binary.LittleEndian.PutUint32(huge[at+24:], 0xfffffff0)
	l, err := list(t, huge)
	require.NoError(t, err)
	assert.Len(t, l.Members, 2)
	require.Len(t, l.Problems, 1)
	assert.Contains(t, l.Problems[0].Message, "beyond the end")

	_, err = list(t, zipOf(t, zip.Store, slipway)[:3000])
	assert.ErrorContains(t, err, "a download that was cut short looks like this")
	cut := tarOf(t, slipway)
	l, err = list(t, cut[:2000])
	require.NoError(t, err)
	require.NotEmpty(t, l.Problems)

	over, cancel := context.WithTimeoutCause(t.Context(), time.Nanosecond, &LimitError{What: "a moment of reading"})
	defer cancel()
	_, err = List(over, bytes.NewReader(cut), int64(len(cut)), "x", Options{})
	assert.ErrorContains(t, err, "of reading")
}

// TestDiscThatLoops gives a directory the place of the one that holds it.
func TestDiscThatLoops(t *testing.T) {
	image := isoOf(isotest.Options{RockRidge: true}, slipway)
	root := binary.LittleEndian.Uint32(image[isoStart+156+2:])
	records := image[root*2048 : root*2048+2048]
	at := bytes.Index(records, []byte("NOTES0"))
	require.Positive(t, at)
	binary.LittleEndian.PutUint32(records[at-33+2:], root)
	_, err := list(t, image)
	var format *FormatError
	require.ErrorAs(t, err, &format)
	assert.Contains(t, format.Reason, "/notes leads back")

	beyond := isoOf(isotest.Options{RockRidge: true}, slipway)
	at = bytes.Index(beyond, []byte("NOTES0"))
	binary.LittleEndian.PutUint32(beyond[at-33+2:], 1<<30)
	l, err := list(t, beyond)
	require.NoError(t, err)
	assert.Len(t, l.Members, 2)
	assert.Contains(t, l.Problems[0].Message, "beyond the end of the image")

	l, err = list(t, isoOf(isotest.Options{RockRidge: true}, slipway)[:isoStart+10*2048])
	require.NoError(t, err)
	require.NotEmpty(t, l.Problems)
	_, err = list(t, image[:isoStart+2048])
	assert.ErrorContains(t, err, "ends within its volume descriptors")
}

// TestForgedDirectory holds that a zip archive's directory of any length costs
// bounded memory.
func TestForgedDirectory(t *testing.T) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	_, err := z.Create("a")
	require.NoError(t, err)
	require.NoError(t, z.Close())
	image := b.Bytes()
	at := bytes.Index(image, []byte("PK\x01\x02"))
	end := bytes.Index(image, []byte("PK\x05\x06"))
	record := image[at:end]
	directory := bytes.Repeat(record, (100<<20)/len(record))
	forged := append(append(bytes.Clone(image[:at]), directory...), image[end:]...)
	tail := forged[len(forged)-22:]
	binary.LittleEndian.PutUint32(tail[12:], uint32(len(directory)))

	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = list(t, forged)
	runtime.ReadMemStats(&after)
	assert.ErrorContains(t, err, "its directory is longer than 32 MiB")
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(512<<20))
}

func FuzzList(f *testing.F) {
	small := []content{{"a.txt", "alpha"}, {"d/b.img", strings.Repeat("b", 3000)}}
	f.Add(zipOf(f, zip.Deflate, small))
	f.Add(zipOf(f, zip.Store, small))
	f.Add(tarOf(f, small))
	f.Add(pack(f, Gzip, tarOf(f, small)))
	f.Add(isoOf(isotest.Options{RockRidge: true}, small))
	f.Add(isoOf(isotest.Options{Joliet: true}, small))
	f.Fuzz(func(t *testing.T, image []byte) {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		l, err := List(ctx, bytes.NewReader(image), int64(len(image)), "x.gz", Options{
			Keep: func(string, int64) bool { return true }, Limits: Limits{Kept: 1 << 20},
		})
		if err != nil {
			if err.Error() == "" {
				t.Fatal("an error without words")
			}
			return
		}
		var lanes []*Lane
		for _, m := range l.Members {
			lanes = append(lanes, &Lane{Member: m})
		}
		s := NewSplitter(t.Context(), lanes...)
		if l.Compression != "" {
			e := NewExpander(t.Context(), l.Compression, s)
			e.Write(image)
			e.Finish()
		} else {
			s.Write(image)
		}
		s.Finish()
		for _, lane := range lanes {
			m := lane.Member
			if lane.Err() == nil && m.Size >= 0 && lane.Size() != m.Size {
				t.Fatalf("%q: %d bytes, %d stated, no error", m.Name, lane.Size(), m.Size)
			}
			if strings.HasPrefix(m.Name, "/") || strings.Contains("/"+m.Name+"/", "/../") {
				t.Fatalf("%q leads out", m.Name)
			}
			if m.Content != nil && lane.Err() == nil && int64(len(m.Content)) != lane.Size() {
				t.Fatalf("%q: kept %d bytes, streamed %d", m.Name, len(m.Content), lane.Size())
			}
		}
	})
}
