package readback

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/digest"
)

// content returns bytes that repeat nowhere.
func content(n int, seed byte) []byte {
	out := make([]byte, n)
	rand.NewChaCha8([32]byte{seed}).Read(out)
	return out
}

// A scratched medium cannot be read in places: for ever, or so many times.
type scratched struct {
	bytes []byte
	bad   map[Range]int // how many times a read of it fails; -1 is always
	gone  int64         // from here on the medium is gone, if not 0
	reads int
}

var errScratch = errors.New("input/output error")

func (m *scratched) ReadAt(p []byte, off int64) (int, error) {
	m.reads++
	if m.gone > 0 && off+int64(len(p)) > m.gone {
		return 0, &GoneError{errors.New("no such device")}
	}
	for r, times := range m.bad {
		if off < r.Offset+r.Length && off+int64(len(p)) > r.Offset && times != 0 {
			m.bad[r] = times - 1
			if off < r.Offset { // what is before it can be read
				return copy(p, m.bytes[off:r.Offset]), errScratch
			}
			return 0, errScratch
		}
	}
	return bytes.NewReader(m.bytes).ReadAt(p, off)
}

func sum(b []byte) digest.Value {
	s := sha256.Sum256(b)
	return s[:]
}

func TestReadExactly(t *testing.T) {
	medium := content(3<<20+777, 1)
	for _, length := range []int64{0, 1, 512, 1 << 20, 3<<20 + 777} {
		r, err := Read(t.Context(), bytes.NewReader(medium), length, digest.Only(digest.SHA256), nil)
		require.NoError(t, err)
		assert.Equal(t, length, r.Size)
		assert.Equal(t, sum(medium[:length]), r.Digests[digest.SHA256])
	}
	// A medium that is shorter has as many bytes as it has.
	r, err := Read(t.Context(), bytes.NewReader(medium), 10<<20, digest.Only(digest.SHA256), nil)
	require.NoError(t, err)
	assert.EqualValues(t, len(medium), r.Size)
	assert.Equal(t, sum(medium), r.Digests[digest.SHA256])
}

// TestReadErrorsAreSurvived: what cannot be read is located, the rest is read, and no
// digest is given of bytes that were not read.
func TestReadErrorsAreSurvived(t *testing.T) {
	medium := content(2<<20, 2)
	m := &scratched{bytes: medium, bad: map[Range]int{span(700_000, 5): -1, span(1_500_000, 100): -1}}
	r, err := Read(t.Context(), m, int64(len(medium)), digest.Only(digest.SHA256), nil)
	require.NoError(t, err)
	assert.EqualValues(t, len(medium), r.Size)
	assert.Empty(t, r.Digests)
	require.Len(t, r.Unreadable, 2)
	for i, bad := range []int64{700_000, 1_500_000} {
		u := r.Unreadable[i]
		assert.LessOrEqual(t, u.Offset, bad)
		assert.GreaterOrEqual(t, u.Offset+u.Length, bad+5)
		assert.LessOrEqual(t, u.Length, int64(2*usualBlock), "no more is given up than the blocks around it")
	}
	// What is read the second time is read.
	m = &scratched{bytes: medium, bad: map[Range]int{span(700_000, 5): 2}}
	r, err = Read(t.Context(), m, int64(len(medium)), digest.Only(digest.SHA256), nil)
	require.NoError(t, err)
	assert.Equal(t, sum(medium), r.Digests[digest.SHA256])
	// A medium that is dead from somewhere on does not take for ever.
	m = &scratched{bytes: make([]byte, 512<<20), bad: map[Range]int{span(1<<20, 511<<20): -1}}
	r, err = Read(t.Context(), m, int64(len(m.bytes)), digest.Only(digest.SHA256), nil)
	require.NoError(t, err)
	assert.Equal(t, []Range{span(1<<20, 511<<20)}, r.Unreadable)
	assert.Less(t, m.reads, 300)
	// One that vanishes ends the reading.
	m = &scratched{bytes: medium, gone: 1 << 20}
	_, err = Read(t.Context(), m, int64(len(medium)), digest.Only(digest.SHA256), nil)
	var gone *GoneError
	require.ErrorAs(t, err, &gone)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Read(ctx, bytes.NewReader(medium), int64(len(medium)), digest.Only(digest.SHA256), nil)
	require.ErrorIs(t, err, context.Canceled)
}

// A blocked medium is read in whole blocks, as discs are: what touches a bad one fails.
type blocked struct {
	bytes []byte
	block int64
	bad   map[int64]int // how many times a block cannot be read by itself; -1 is always
	whole bool          // a read fails as a whole, as past the system's memory
}

func (m *blocked) BlockSize() int64 { return m.block }

func (m *blocked) ReadAt(p []byte, off int64) (int, error) {
	end := min(off+int64(len(p)), int64(len(m.bytes)))
	for b := off / m.block; b*m.block < end; b++ {
		if times := m.bad[b]; times != 0 {
			if int64(len(p)) <= m.block {
				m.bad[b] = times - 1
			}
			if before := b*m.block - off; before > 0 && !m.whole {
				return copy(p, m.bytes[off:b*m.block]), errScratch
			}
			return 0, errScratch
		}
	}
	return bytes.NewReader(m.bytes).ReadAt(p, off)
}

// TestBlocks: reading ends where the image ends, a bad block costs itself and no other, and
// only one that had to be tried again counts as unsteady.
func TestBlocks(t *testing.T) {
	const disc = 2048
	medium := content(1001*disc, 7)
	for _, whole := range []bool{false, true} {
		read := func(length int64, bad map[int64]int) Beginning {
			t.Helper()
			r, err := Read(t.Context(), &blocked{medium, disc, bad, whole}, length, digest.Only(digest.SHA256), nil)
			require.NoError(t, err)
			return r
		}
		// What follows an image with an odd number of sectors cannot be read.
		r := read(999*disc, map[int64]int{999: -1, 1000: -1})
		assert.Empty(t, r.Unreadable)
		assert.Zero(t, r.Steadied)
		assert.Equal(t, sum(medium[:999*disc]), r.Digests[digest.SHA256])
		r = read(1001*disc, map[int64]int{77: -1})
		assert.Equal(t, []Range{span(77*disc, disc)}, r.Unreadable)
		assert.Zero(t, r.Steadied)
		r = read(1001*disc, map[int64]int{77: -1, 79: -1, 80: -1, 81: -1, 82: -1, 83: -1, 1000: -1})
		assert.Equal(t, []Range{span(77*disc, disc), span(79*disc, 5*disc), span(1000*disc, disc)}, r.Unreadable)
		// Those that are read when they are tried again are counted, each once; their
		// neighbours, which were only ever read with them, are not.
		r = read(1001*disc, map[int64]int{5: 1, 6: 2, 300: 1, 301: 1, 900: 2})
		assert.Equal(t, sum(medium), r.Digests[digest.SHA256])
		assert.Equal(t, 5, r.Steadied)
	}
}

// TestScratchesAnywhere: however a medium is scratched, every byte that is not told as
// unreadable is as it stands there.
func TestScratchesAnywhere(t *testing.T) {
	medium := content(600_000, 3)
	rapid.Check(t, func(t *rapid.T) {
		m := &scratched{bytes: medium, bad: map[Range]int{}}
		for range rapid.IntRange(0, 4).Draw(t, "scratches") {
			m.bad[span(rapid.Int64Range(0, 599_000).Draw(t, "at"), rapid.Int64Range(1, 20_000).Draw(t, "long"))] = rapid.IntRange(
				-1,
				4,
			).
				Draw(
					t,
					"times",
				)
		}
		source := NewSource(m, 0, int64(len(medium)))
		got, err := io.ReadAll(source)
		if err != nil || len(got) != len(medium) {
			t.Fatalf("%d bytes, %v", len(got), err)
		}
		at := int64(0)
		for _, u := range append(source.Unreadable, span(int64(len(medium)), 0)) {
			if !bytes.Equal(got[at:u.Offset], medium[at:u.Offset]) {
				t.Fatalf("between %d and %d are other bytes", at, u.Offset)
			}
			at = u.Offset + u.Length
		}
	})
}

func TestTails(t *testing.T) {
	image := content(4096, 4)
	ending := func(more ...[]byte) []byte { return bytes.Join(append([][]byte{image}, more...), nil) }
	zeros, ones := make([]byte, 300<<10), bytes.Repeat([]byte{0xff}, 8192)
	for name, test := range map[string]struct {
		medium io.ReaderAt
		size   int
		kind   TailKind
		says   string
	}{
		"nothing":       {bytes.NewReader(image), 4096, Nothing, "ends with it"},
		"shorter":       {bytes.NewReader(image), 100, Nothing, "ends with it"},
		"zeros":         {bytes.NewReader(ending(zeros)), 4096 + len(zeros), Zeros, "300 KiB of zeros"},
		"FF":            {bytes.NewReader(ending(ones)), 4096 + len(ones), Ones, "erased"},
		"both":          {bytes.NewReader(ending(ones, zeros)), 4096 + len(ones) + len(zeros), Blank, "nothing else"},
		"run-out":       {&scratched{bytes: ending(zeros, make([]byte, 4096)), bad: map[Range]int{span(4096+300<<10, 4096): -1}}, 8192 + len(zeros), RunOut, "run-out"},
		"older content": {bytes.NewReader(ending(zeros, content(2048, 5))), 4096 + len(zeros) + 2048, Content, "2048 bytes of that is other content, from offset 311296 on"},
		"damaged":       {&scratched{bytes: ending(make([]byte, 1<<20)), bad: map[Range]int{span(9000, 1): -1}}, 4096 + 1<<20, Unread, "cannot be read"},
	} {
		tail, err := Describe(t.Context(), test.medium, 4096, int64(test.size))
		require.NoError(t, err)
		assert.Equal(t, test.kind, tail.Kind, name)
		assert.Contains(t, tail.Sentence, test.says, name)
	}
	// A long one is sampled.
	long := sparse{size: 40 << 30, at: 20 << 30, long: 1 << 30}
	tail, err := Describe(t.Context(), long, 1<<20, long.size)
	require.NoError(t, err)
	assert.True(t, tail.Sampled)
	assert.Equal(t, Content, tail.Kind)
}

// sparse is a large medium with some content in it.
type sparse struct {
	size, at, long int64
}

func (s sparse) ReadAt(p []byte, off int64) (int, error) {
	n := int(min(int64(len(p)), s.size-off))
	clear(p[:n])
	if off >= s.at && off < s.at+s.long {
		copy(p[:n], "an older edition")
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// image is an [Original] with its bytes, or with digests alone.
type image struct {
	content []byte
	remote  bool
}

func (o image) Pieces(_ context.Context, part Range, size int64) (out []digest.Value, err error) {
	for at := part.Offset; at < part.Offset+part.Length; at += size {
		out = append(out, sum(o.content[at:min(at+size, part.Offset+part.Length)]))
	}
	return out, nil
}

func (o image) Bytes() io.ReaderAt {
	if o.remote {
		return nil
	}
	return bytes.NewReader(o.content)
}

func TestCompare(t *testing.T) {
	should := content(5<<20+3000, 7)
	length := int64(len(should))
	changed := func(change func(b []byte) []byte) []byte { return change(bytes.Clone(should)) }
	for name, test := range map[string]struct {
		medium []byte
		offset int64
		long   int64
		looks  string
	}{
		"a bit":               {changed(func(b []byte) []byte { b[3_000_000] ^= 4; return b }), 3_000_000, 1, "a single bit is flipped"},
		"few":                 {changed(func(b []byte) []byte { b[10] ^= 4; b[30] ^= 255; return b }), 10, 21, "2 bytes differ"},
		"zeros":               {changed(func(b []byte) []byte { clear(b[1<<20 : 1<<20+8192]); return b }), 1 << 20, 8192, "zeros"},
		"zeros within blocks": {changed(func(b []byte) []byte { clear(b[400_000:420_000]); return b }), 400_000, 20_000, "zeros"},
		"erased":              {changed(func(b []byte) []byte { copy(b[4096:8192], bytes.Repeat([]byte{255}, 4096)); return b }), 4096, 4096, "erased"},
		"cut short":           {should[:5<<20], 5 << 20, 3000, "the medium ends"},
		"other":               {changed(func(b []byte) []byte { copy(b[2<<20:], content(4096, 9)); return b }), 2 << 20, 4096, "other content"},
		"swapped": {changed(func(b []byte) []byte {
			copy(b[1<<20:2<<20], should[2<<20:3<<20])
			copy(b[2<<20:3<<20], should[1<<20:2<<20])
			return b
		}), 1 << 20, 1 << 20, "what belongs at offset 2097152"},
		"shifted": {changed(func(b []byte) []byte { copy(b[100:60_000], should[93:59_893]); return b }), 100, 59_800, "shifted by 7 bytes"},
	} {
		d, err := Compare(t.Context(), bytes.NewReader(test.medium), length, image{content: should}, nil)
		require.NoError(t, err)
		require.NotEmpty(t, d.Differences, name)
		cell := int(test.offset / d.Piece * int64(len(d.Map)) / int64(d.Of))
		assert.Equal(t, cell, strings.IndexByte(d.Map, 'x'), "%s: %s", name, d.Map)
		first := d.Differences[0]
		assert.Contains(t, first.Looks, test.looks, name)
		assert.InDelta(t, test.offset, first.Offset, 2, name)
		assert.InDelta(t, test.long, first.Length, 8, name)
		assert.Len(
			t, d.Differences, map[string]int{"swapped": 2}[name]+map[bool]int{true: 1}[name != "swapped"], "%s: %v",
			name, d.Differences,
		)
		// With digests alone the place is found too, less closely.
		d, err = Compare(t.Context(), bytes.NewReader(test.medium), length, image{should, true}, nil)
		require.NoError(t, err)
		assert.Equal(t, cell, strings.IndexByte(d.Map, 'x'), name)
		assert.LessOrEqual(t, d.Differences[0].Offset, test.offset)
	}
	d, err := Compare(
		t.Context(), &scratched{bytes: should, bad: map[Range]int{span(2_500_000, 10): -1}}, length,
		image{content: should}, nil,
	)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(d.Map, "!"))
	assert.Zero(t, strings.Count(d.Map, "x"))
	assert.Equal(t, "it cannot be read", d.Differences[0].Looks)
	d, err = Compare(t.Context(), bytes.NewReader(should), length, image{content: should}, nil)
	require.NoError(t, err)
	assert.Zero(t, d.Differing)
	assert.Equal(t, strings.Repeat("=", mapCells), d.Map)
	// What differs everywhere is counted, and not told in full.
	d, err = Compare(
		t.Context(), bytes.NewReader(content(100<<20, 8)), 100<<20, image{content: make([]byte, 100<<20)}, nil,
	)
	require.NoError(t, err)
	assert.Equal(t, 100, d.Differing)
	assert.LessOrEqual(t, len(d.Differences), 100)
	assert.Equal(t, 100-maxLooked, d.More)
	assert.Equal(t, strings.Repeat("x", mapCells), d.Map)
}

// TestWhatDamageLooksLike: what is the matter is told at its own size, and all of it is told
// or counted.
func TestWhatDamageLooksLike(t *testing.T) {
	should := content(4<<20, 11)
	clear(should[300<<10 : 300<<10+700]) // the image has zeros of its own
	length := int64(len(should))
	changed := func(change func(b []byte)) []byte {
		b := bytes.Clone(should)
		change(b)
		return b
	}
	compared := func(medium []byte, digestsOnly bool) *Damage {
		t.Helper()
		d, err := Compare(t.Context(), bytes.NewReader(medium), length, image{should, digestsOnly}, nil)
		require.NoError(t, err)
		return d
	}
	swap := func(b []byte, i, j, n int) {
		copy(b[i:i+n], should[j:j+n])
		copy(b[j:j+n], should[i:i+n])
	}
	sectors := compared(changed(func(b []byte) { swap(b, 5*512, 9*512, 512) }), false)
	assert.Equal(t, []Difference{
		{Range: span(5*512, 512), Looks: "what belongs at offset 4608 stands here", moved: 4 * 512},
		{Range: span(9*512, 512), Looks: "what belongs at offset 2560 stands here", moved: -4 * 512},
	}, sectors.Differences)
	for _, digestsOnly := range []bool{false, true} {
		far := compared(changed(func(b []byte) { swap(b, 8<<10, 3<<20, 8192) }), digestsOnly)
		require.Len(t, far.Differences, 2)
		assert.Equal(t, span(8<<10, 8192), far.Differences[0].Range)
		assert.Equal(t, "what belongs at offset 3145728 stands here", far.Differences[0].Looks)
		assert.Equal(t, span(3<<20, 8192), far.Differences[1].Range)
		for _, n := range words {
			d := compared(swapped(should, n), digestsOnly)
			assert.Equal(t, []Difference{{Range: span(0, length), Looks: wordOrder(n)}}, d.Differences)
		}
		// The image, a MiB too far, behind something else.
		further := compared(append(content(1<<20, 12), should...), digestsOnly)
		assert.Equal(t, "The image stands 1024 KiB further on than it should.", further.Whole)
		assert.Empty(t, compared(changed(func(b []byte) { b[77] ^= 1 }), digestsOnly).Whole)
	}
	damage := compared(changed(func(b []byte) { copy(b[10<<10:], swapped(should[10<<10:11<<10], 4)) }), false)
	assert.Equal(t, []Difference{{Range: span(10<<10, 1024), Looks: wordOrder(4)}}, damage.Differences)
	zeroed := compared(changed(func(b []byte) { clear(b[300<<10+512 : 300<<10+1024]) }), false)
	assert.Equal(
		t, []Difference{{Range: span(300<<10+512, 512), Looks: zerosThere}}, zeroed.Differences,
		"a sector, of which the image has zeros at the beginning",
	)

	// Many places: what is not looked at more closely is counted.
	many := compared(changed(func(b []byte) {
		for i := 0; i < len(b); i += len(b) / 98 {
			b[i] ^= 1
		}
	}), false)
	assert.Equal(t, many.Of, many.Differing+strings.Count(many.Map, "="))
	assert.GreaterOrEqual(t, len(many.Differences)+many.More, many.Differing)
	bad := map[int64]int{}
	for i := range int64(98) {
		bad[i*80+1] = -1
	}
	d, err := Compare(t.Context(), &blocked{should, 512, bad, true}, length, image{content: should}, nil)
	require.NoError(t, err)
	assert.Len(t, d.Differences, 98, "every place that cannot be read is told")
	assert.Zero(t, d.More)
}

// TestStructures builds the head of each from its specification.
func TestStructures(t *testing.T) {
	put := func(b []byte, at int, v any) {
		out, err := binary.Append(nil, binary.LittleEndian, v)
		require.NoError(t, err)
		copy(b[at:], out)
	}
	big := func(b []byte, at int, v any) {
		out, err := binary.Append(nil, binary.BigEndian, v)
		require.NoError(t, err)
		copy(b[at:], out)
	}
	iso := make([]byte, 40*2048)
	copy(iso[16*2048:], "\x01CD001\x01")
	copy(iso[16*2048+40:], "CHARTS_2026_10                  ")
	put(iso, 16*2048+80, uint32(40))
	big(iso, 16*2048+84, uint32(40))
	put(iso, 16*2048+128, uint16(2048))
	big(iso, 16*2048+130, uint16(2048))

	disk := make([]byte, 64*512)
	header := func(at int, alternate uint64) {
		copy(disk[at:], "EFI PART")
		put(disk, at+12, uint32(92))
		put(disk, at+32, alternate)
		put(disk, at+16, uint32(0))
		put(disk, at+16, crc32.ChecksumIEEE(disk[at:at+92]))
	}
	header(512, 63)
	header(63*512, 1)
	cutDisk := bytes.Clone(disk[:40*512])

	fs := make([]byte, 4096)
	put(fs, 1024+56, uint16(0xef53))
	put(fs, 1024+4, uint32(100))
	put(fs, 1024+24, uint32(2))
	copy(fs[1024+120:], "root")

	squash := make([]byte, 128)
	copy(squash, "hsqs")
	put(squash, 28, uint16(4))
	put(squash, 40, uint64(12345))

	uimage := make([]byte, 64)
	big(uimage, 0, uint32(0x27051956))
	big(uimage, 12, uint32(1000))
	copy(uimage[32:], "gauge")
	big(uimage, 4, crc32.ChecksumIEEE(uimage))

	// A tree with one image that lies 64 bytes behind it, 500 long.
	names := "data-offset\x00data-size\x00"
	var tree []byte
	add := func(words ...uint32) {
		for _, w := range words {
			tree = binary.BigEndian.AppendUint32(tree, w)
		}
	}
	add(1, 0, 1)
	tree = append(tree, "kernel\x00\x00"...)
	add(3, 4, 0, 64, 3, 4, 12, 500, 2, 2, 9)
	fit := make([]byte, 40)
	big(fit, 0, uint32(0xd00dfeed))
	big(fit, 4, uint32(40+len(tree)+len(names)))
	big(fit, 8, uint32(40))
	big(fit, 12, uint32(40+len(tree)))
	fit = append(append(fit, tree...), names...)

	trxImage := make([]byte, 28)
	copy(trxImage, "HDR0")
	put(trxImage, 4, uint32(777))
	put(trxImage, 14, uint16(1))

	boot := make([]byte, 2048)
	copy(boot, "ANDROID!")
	put(boot, 8, uint32(5000))
	put(boot, 16, uint32(1))
	put(boot, 36, uint32(2048))

	mcu := make([]byte, 200)
	put(mcu, 0, uint32(0x96f3b83d))
	put(mcu, 8, uint16(32))
	put(mcu, 12, uint32(100))
	mcu[20] = 4
	put(mcu, 132, uint16(0x6907))
	put(mcu, 134, uint16(40))

	for name, test := range map[string]struct {
		image  []byte
		kind   string
		length int64
		label  string
		detail string
	}{
		"iso":      {iso, "ISO 9660 volume", 40 * 2048, "CHARTS_2026_10", ""},
		"gpt":      {disk, "GUID partition table", 64 * 512, "", ""},
		"gpt, cut": {cutDisk, "GUID partition table", 64 * 512, "", "not there"},
		"ext":      {fs, "ext file system", 100 * 4096, "root", ""},
		"squashfs": {squash, "squashfs file system", 12345, "", "padded"},
		"uImage":   {uimage, "U-Boot legacy image", 1064, "gauge", ""},
		"FIT":      {fit, "flattened image tree", int64((len(fit)+3)&^3 + 64 + 500), "", ""},
		"TRX":      {trxImage, "TRX firmware image", 777, "", ""},
		"boot":     {boot, "boot image", 2048 + 6144 + 2048, "", ""},
		"MCUboot":  {mcu, "MCUboot image", 172, "4.0.0", ""},
	} {
		found := Recognise(bytes.NewReader(test.image))
		require.Len(t, found, 1, name)
		assert.Equal(t, test.kind, found[0].Kind)
		assert.Equal(t, test.length, found[0].Length, name)
		assert.Equal(t, test.label, found[0].Label, name)
		assert.Contains(t, found[0].Detail, test.detail, name)
		// Cut anywhere, nothing breaks.
		for n := range len(test.image) {
			if n < 200 || n%97 == 0 {
				Recognise(bytes.NewReader(test.image[:n]))
			}
		}
	}
	// One that does not hold says nothing.
	disk[512+40] ^= 1
	uimage[13] ^= 1
	put(iso, 16*2048+80, uint32(41))
	for _, broken := range [][]byte{disk, uimage, iso, content(100_000, 1), nil} {
		assert.Empty(t, Recognise(bytes.NewReader(broken)))
	}
	// A hybrid image has two lengths; the longer comes first.
	hybrid := make([]byte, 40*2048)
	put(iso, 16*2048+80, uint32(40))
	copy(hybrid, iso)
	disk[512+40] ^= 1
	copy(hybrid[512:1024], disk[512:1024])
	found := Recognise(bytes.NewReader(hybrid))
	require.Len(t, found, 2)
	assert.Equal(t, "ISO 9660 volume", found[0].Kind)
}

func FuzzRecognise(f *testing.F) {
	f.Add([]byte("\xd0\x0d\xfe\xed\x00\x00\x00\x80"))
	f.Fuzz(func(_ *testing.T, b []byte) {
		Recognise(bytes.NewReader(b))
		Expand(b)
	})
}

// TestExpand reads records that were written down from the forms' descriptions.
func TestExpand(t *testing.T) {
	block := func(number, of, address uint32, data []byte) []byte {
		b := make([]byte, 512)
		for i, w := range []uint32{0x0a324655, 0x9e5d5157, 0, address, uint32(len(data)), number, of, 0} {
			binary.LittleEndian.PutUint32(b[4*i:], w)
		}
		copy(b[32:], data)
		binary.LittleEndian.PutUint32(b[508:], 0x0ab16f30)
		return b
	}
	for name, test := range map[string]struct {
		file string
		base uint64
		want string
		gaps []Range
	}{
		"Intel HEX": {
			":10010000214601360121470136007EFE09D2190140\n:100110002146017E17C20001FF5F16002148011928\n:00000001FF\n", 0x100,
			"214601360121470136007efe09d219012146017e17c20001ff5f160021480119", nil,
		},
		"extended": {":020000040800F2\r\n:0400000001020304F2\r\n:020008000506EB\r\n:00000001FF\r\n", 0x08000000, "01020304ffffffff0506", []Range{span(4, 4)}},
		"S-record": {
			"S00F000068656C6C6F202020202000003C\nS11F00007C0802A6900100049421FFF07C6C1B787C8C23783C6000003863000026\nS5030001FB\nS9030000FC\n", 0,
			"7c0802a6900100049421fff07c6c1b787c8c23783c60000038630000", nil,
		},
		"UF2": {string(block(1, 2, 0x2100, []byte{3, 4})) + string(block(0, 2, 0x2000, bytes.Repeat([]byte{1}, 256))), 0x2000, strings.Repeat("01", 256) + "0304", nil},
	} {
		require.True(t, Carries([]byte(test.file)), name)
		got, ok, err := Expand([]byte(test.file))
		require.NoError(t, err, name)
		require.True(t, ok)
		require.Len(t, got.Parts, 1)
		assert.Equal(t, test.base, got.Parts[0].Base, name)
		assert.Equal(t, test.want, hex.EncodeToString(got.Parts[0].Content), name)
		assert.Equal(t, test.gaps, got.Parts[0].Gaps, name)
	}
	// Flash, and far away the bytes of its options.
	got, ok, err := Expand([]byte(":020000040800F2\n:0400000001020304F2\n:020000041FFFDC\n:02F80000AA55 07\n"))
	require.True(t, ok)
	require.Error(t, err, "a blank in a record")
	assert.Empty(t, got.Parts)
	got, ok, err = Expand(
		[]byte(":020000040800F2\n:0400000001020304F2\n:020000041FFFDC\n:02F80000AA5507\n:00000001FF\n"),
	)
	require.NoError(t, err)
	require.True(t, ok)
	require.Len(t, got.Parts, 2)
	assert.Equal(t, Part{Base: 0x08000000, Content: []byte{1, 2, 3, 4}}, got.Parts[0])
	assert.Equal(t, Part{Base: 0x1ffff800, Content: []byte{0xaa, 0x55}}, got.Parts[1])
	for _, file := range []string{
		":10010000214601360121470136007EFE09D2190141\n:00000001FF\n", // a checksum
		":10010000214601360121470136007EFE09D2190140\n",              // cut short
		":0100000001FE\n:0100000002FD\n:00000001FF\n",                // an address twice
		":00000001FF\n", // nothing
		"S11F00007C0802A6900100049421FFF07C6C1B787C8C23783C6000003863000026\nS5030002FA\nS9030000FC\n", // its count
		string(block(0, 2, 0, []byte{1})),
		string(block(0, 1, 0, []byte{1}))[:500],
	} {
		_, ok, err := Expand([]byte(file))
		var bad *CarrierError
		require.ErrorAs(t, err, &bad, file)
		assert.True(t, ok)
	}
	_, ok, err = Expand([]byte("anything else"))
	assert.False(t, ok)
	assert.NoError(t, err)
}

func TestAccountIsMadeHarmless(t *testing.T) {
	a := Report{
		Medium: Medium{Name: "sr0\x1b[2J", Size: 1}, LengthFrom: strings.Repeat("x", 9000), Cache: "?",
		Damage: &Damage{Map: "x\n=="}, Tail: Tail{Kind: "?", Sentence: "It is cleared."},
	}
	for i := range int64(1000) {
		a.Unreadable = append(a.Unreadable, span(i*9000, 4096))
		a.Damage.Differences = append(a.Damage.Differences, Difference{Looks: fmt.Sprintf("\x1b%d", i)})
	}
	require.NoError(t, a.Harmless())
	assert.Len(t, a.Unreadable, maxRanges)
	assert.Equal(t, 900, a.MoreUnreadable)
	assert.Equal(t, NotAvoided, a.Cache)
	assert.Equal(t, "x==", a.Damage.Map)
	assert.NotContains(t, a.Tail.Sentence, "cleared", "what is said is said by us")
	assert.Len(t, a.Damage.Differences, maxRanges)
	assert.NotContains(t, a.Medium.Name+a.Damage.Differences[0].Looks+a.Damage.Map, "\x1b")
	assert.Less(t, len(a.LengthFrom), 400)
	assert.Error(t, (&Report{Length: -1}).Harmless())
}
