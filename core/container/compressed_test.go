package container

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"io"
	"testing"

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

func TestDecompress(t *testing.T) {
	content := bytes.Repeat([]byte("buoy receiver "), 50_000)
	for _, c := range []Compression{Gzip, XZ, Zstd} {
		packed := pack(t, c, content)
		var out bytes.Buffer
		n, err := Decompress(t.Context(), c, bytes.NewReader(packed), &out)
		require.NoError(t, err, c)
		assert.EqualValues(t, len(content), n)
		assert.True(t, bytes.Equal(content, out.Bytes()), c)

		_, err = Decompress(t.Context(), c, bytes.NewReader(packed[:len(packed)-3]), io.Discard)
		assert.Error(t, err, "%s cut short", c)
		_, err = Decompress(t.Context(), c, bytes.NewReader([]byte("no such thing")), io.Discard)
		assert.Error(t, err, "%s of something else", c)
	}
	sample, err := base64.StdEncoding.DecodeString("QlpoOTFBWSZTWa2IWnIAAA7RgAAQQAAaIJMgIABAUqjQ0eoQDTTRtMTlPE0niYmkxOE2nqfJifi7kinChIVsQtOQ")
	require.NoError(t, err)
	var out bytes.Buffer
	_, err = Decompress(t.Context(), Bzip2, bytes.NewReader(sample), &out)
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
		n, err := Decompress(context.Background(), Compression(c), bytes.NewReader(data), io.Discard)
		if err == nil && n > freely && n > ratio*int64(len(data)) {
			t.Fatalf("%d bytes came out of %d", n, len(data))
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
