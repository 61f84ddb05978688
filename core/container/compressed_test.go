package container

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// pack compresses content; bzip2 has no writer here, so that a fixed sample
// stands for it.
func pack(t testing.TB, c Compression, content []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch c {
	case Gzip:
		w = gzip.NewWriter(&b)
	case XZ:
		w, err = xz.NewWriter(&b)
	case Zstd:
		w, err = zstd.NewWriter(&b)
	default:
		t.Fatalf("nothing writes %s here", c)
	}
	require.NoError(t, err)
	_, err = w.Write(content)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func bzip2Sample(t testing.TB) []byte {
	t.Helper()
	sample, err := base64.StdEncoding.DecodeString(
		"QlpoOTFBWSZTWa2IWnIAAA7RgAAQQAAaIJMgIABAUqjQ0eoQDTTRtMTlPE0niYmkxOE2nqfJifi7kinChIVsQtOQ",
	)
	require.NoError(t, err)
	return sample
}

// TestSurplus puts bytes into a compressed file that do not come out of it, wherever
// its format has room for them, and into places where it has none.
func TestSurplus(t *testing.T) {
	content := bytes.Repeat([]byte("lamp controller "), 20_000)
	header := func(h gzip.Header) []byte {
		var b bytes.Buffer
		w := gzip.NewWriter(&b)
		w.Header = h
		_, err := w.Write(content)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	gz, x, z, bz := pack(t, Gzip, content), pack(t, XZ, content), pack(t, Zstd, content), bzip2Sample(t)
	reserved := bytes.Clone(gz)
	reserved[3] |= 0x80
	frame := append([]byte{0x5a, 0x2a, 0x4d, 0x18, 4, 0, 0, 0}, "evil"...)
	join := func(parts ...[]byte) []byte { return bytes.Join(parts, nil) }
	for name, c := range map[string]struct {
		as   Compression
		data []byte
		says string
	}{
		"gzip":                             {Gzip, gz, ""},
		"gzip, a name and a time":          {Gzip, header(gzip.Header{Name: "lamp.img", ModTime: time.Unix(1e9, 0)}), ""},
		"gzip, an extra field":             {Gzip, header(gzip.Header{Extra: []byte("EV\x04\x00evil")}), "an extra field of 8 bytes"},
		"gzip, a comment":                  {Gzip, header(gzip.Header{Comment: "evil"}), "a comment of 4 bytes"},
		"gzip, a name that is none":        {Gzip, header(gzip.Header{Name: strings.Repeat("evil", 100)}), "a name of 400 bytes"},
		"gzip, a name with controls":       {Gzip, header(gzip.Header{Name: "\x01\x02"}), "a name of 2 bytes"},
		"gzip, reserved flags":             {Gzip, reserved, "reserved flags"},
		"gzip in parts":                    {Gzip, join(gz, gz), ""},
		"gzip, a second name":              {Gzip, join(gz, header(gzip.Header{Name: "evil"})), "a name of 4 bytes"},
		"gzip, an empty part behind":       {Gzip, join(gz, pack(t, Gzip, nil)), "an empty part"},
		"gzip, an empty part before":       {Gzip, join(pack(t, Gzip, nil), gz), "an empty part"},
		"gzip of nothing":                  {Gzip, pack(t, Gzip, nil), ""},
		"gzip, data behind":                {Gzip, join(gz, []byte("evil")), "4 bytes behind its end"},
		"gzip, one byte behind":            {Gzip, join(gz, []byte{0}), "1 bytes behind its end"},
		"xz":                               {XZ, x, ""},
		"xz in parts":                      {XZ, join(x, x), ""},
		"xz, padded":                       {XZ, join(x, make([]byte, 8)), "padding"},
		"xz, padded between":               {XZ, join(x, make([]byte, 4), x), "padding"},
		"xz, an empty part":                {XZ, join(x, pack(t, XZ, nil)), "an empty part"},
		"xz, data behind":                  {XZ, join(x, []byte("evil")), "4 bytes behind its end"},
		"xz, one byte behind":              {XZ, join(x, []byte("e")), "1 bytes behind its end"},
		"xz, padded, and data":             {XZ, join(x, make([]byte, 4), []byte("evil")), "padding behind a part, and 4 bytes behind its end"},
		"zstd":                             {Zstd, z, ""},
		"zstd in parts":                    {Zstd, join(z, z), ""},
		"zstd, a frame behind":             {Zstd, join(z, frame), "a frame of 4 bytes that is not content"},
		"zstd, a frame before":             {Zstd, join(frame, z), "a frame of 4 bytes that is not content"},
		"zstd, a frame between":            {Zstd, join(z, frame, z), "a frame of 4 bytes that is not content"},
		"zstd, data behind":                {Zstd, join(z, []byte("evil evil")), "9 bytes behind its end"},
		"zstd, three bytes behind":         {Zstd, join(z, []byte("evi")), "3 bytes behind its end"},
		"bzip2":                            {Bzip2, bz, ""},
		"bzip2 in parts":                   {Bzip2, join(bz, bz), ""},
		"bzip2, data behind":               {Bzip2, join(bz, []byte("evil evil evil")), "data behind its end"},
		"zstd without checksum, a big one": {Zstd, zstdOf(t, bytes.Repeat(content, 8), zstd.WithEncoderCRC(false)), ""},
		"zstd, a single segment":           {Zstd, zstdOf(t, content[:300], zstd.WithSingleSegment(true)), ""},
	} {
		var out bytes.Buffer
		e, err := Decompress(t.Context(), c.as, bytes.NewReader(c.data), &out)
		require.NoError(t, err, name)
		assert.EqualValues(t, out.Len(), e.Size, name)
		if c.says == "" {
			assert.Empty(t, e.Surplus, name)
		}
		assert.Contains(t, e.Surplus, c.says, name)
		if !strings.Contains(name, "nothing") {
			assert.True(
				t, bytes.Contains(out.Bytes(), content[:100]) || c.as == Bzip2, "%s: the content comes out", name,
			)
		}
		// What is cut short is an error or surplus, and never silence.
		e, err = Decompress(t.Context(), c.as, bytes.NewReader(c.data[:len(c.data)-1]), io.Discard)
		assert.True(t, err != nil || e.Surplus != "" || strings.Contains(name, "one byte"), "%s, cut", name)
	}
}

func zstdOf(t *testing.T, content []byte, options ...zstd.EOption) []byte {
	t.Helper()
	w, err := zstd.NewWriter(nil, options...)
	require.NoError(t, err)
	return w.EncodeAll(content, nil)
}

func TestDecompress(t *testing.T) {
	content := bytes.Repeat([]byte("buoy receiver "), 50_000)
	for _, c := range []Compression{Gzip, XZ, Zstd} {
		packed := pack(t, c, content)
		var out bytes.Buffer
		e, err := Decompress(t.Context(), c, bytes.NewReader(packed), &out)
		require.NoError(t, err, c)
		assert.Equal(t, Expansion{Size: int64(len(content))}, e)
		assert.True(t, bytes.Equal(content, out.Bytes()), c)

		_, err = Decompress(t.Context(), c, bytes.NewReader(packed[:len(packed)-3]), io.Discard)
		assert.Error(t, err, "%s cut short", c)
		_, err = Decompress(t.Context(), c, bytes.NewReader([]byte("no such thing")), io.Discard)
		assert.Error(t, err, "%s of something else", c)
	}
	sample := bzip2Sample(t)
	var out bytes.Buffer
	_, err := Decompress(t.Context(), Bzip2, bytes.NewReader(sample), &out)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte("buoy receiver\n"), 10), out.Bytes())
	_, err = Decompress(t.Context(), Bzip2, bytes.NewReader(sample[:10]), io.Discard)
	assert.Error(t, err)
	_, err = Decompress(t.Context(), "arj", bytes.NewReader(nil), io.Discard)
	assert.ErrorContains(t, err, "not known")
}

// zeros never ends; compressed on the fly it is a file that expands without
// end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	clear(p)
	return len(p), nil
}

func TestBombIsStopped(t *testing.T) {
	if testing.Short() {
		t.Skip("expands a gigabyte")
	}
	r, w := io.Pipe()
	go func() {
		z := gzip.NewWriter(w)
		io.Copy(z, io.LimitReader(zeros{}, 4<<30))
		w.CloseWithError(z.Close())
	}()
	_, err := Decompress(t.Context(), Gzip, r, io.Discard)
	r.Close()
	var bomb *ExpansionError
	require.ErrorAs(t, err, &bomb)
	assert.Less(t, bomb.Out, int64(1<<30+1<<20))
}

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := Decompress(ctx, Gzip, bytes.NewReader(pack(t, Gzip, make([]byte, 10<<20))), io.Discard)
	require.ErrorIs(t, err, context.Canceled)
}

func TestOfName(t *testing.T) {
	c, stem, ok := OfName("dir/fw-1.2.tar.XZ")
	assert.True(t, ok)
	assert.Equal(t, XZ, c)
	assert.Equal(t, "dir/fw-1.2.tar", stem)
	_, _, ok = OfName("fw.zip")
	assert.False(t, ok)
}

func FuzzDecompress(f *testing.F) {
	for _, c := range []Compression{Gzip, XZ, Zstd} {
		f.Add(string(c), pack(f, c, []byte("buoy receiver")))
	}
	f.Add(string(Bzip2), []byte("BZh91AY&SY"))
	f.Fuzz(func(t *testing.T, c string, data []byte) {
		e, err := Decompress(context.Background(), Compression(c), bytes.NewReader(data), io.Discard)
		if err == nil && e.Size > freely && e.Size > ratio*int64(len(data)) {
			t.Fatalf("%d bytes came out of %d", e.Size, len(data))
		}
	})
}

// TestXZMemory changes the dictionary size that a stream states.
func TestXZMemory(t *testing.T) {
	packed := pack(t, XZ, []byte("buoy receiver"))
	assert.EqualValues(t, 8<<20, xzMemory(packed))
	require.EqualValues(t, 0x21, packed[14], "the filter stands where it is looked for")
	packed[16] = 40
	_, err := Decompress(t.Context(), XZ, bytes.NewReader(packed), io.Discard)
	var memory *MemoryError
	require.ErrorAs(t, err, &memory)
	assert.EqualValues(t, 4<<30, memory.Need)
	assert.Zero(t, xzMemory([]byte("something else that is long enough to be looked at")))
}
