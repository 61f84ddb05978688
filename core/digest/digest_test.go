package digest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestKnownAnswers checks each algorithm against the value that its standard
// prints for "abc", or for CRC-32 the customary check value of "123456789".
func TestKnownAnswers(t *testing.T) {
	for _, c := range []struct {
		algorithm Algorithm
		input     string
		want      string
	}{
		{CRC32, "123456789", "cbf43926"},
		{CRC32C, "123456789", "e3069283"},
		{CRC32BZIP2, "123456789", "fc891918"},
		{CRC32CKSUM, "123456789", "377a6011"},
		{CRC32Bare, "123456789", "765e7680"},
		{RIPEMD160, "abc", "8eb208f7e05d987a9b044a8e98c6b087f15a0bfc"},
		{SHA3224, "abc", "e642824c3f8cf24ad09234ee7d3c766fc9a3a5168d0c94ad73b46fdf"},
		{SHA3256, "abc", "3a985da74fe225b2045c172d6bd390bd855f086e3e9d525b46bfe24511431532"},
		{SHA3384, "abc", "ec01498288516fc926459f58e2c6ad8df9b473cb0fc08c2596da7cf0e49be4b298d88cea927ac7f539f1edf228376d25"},
		{SHA3512, "abc", "b751850b1a57168a5693cd924b6b096e08f621827444f70d884f5d0240d2712e10e116e9192af3c91a7ec57647e3934057340b4cf408d5a56592f8274eec53f0"},
		{BLAKE2s, "abc", "508c5e8c327c14e2e1a72ba34eeb452f37458b209ed63a294d999b4c86675982"},
		{BLAKE2b, "abc", "ba80a53f981c4d0d6a2797b69f12f6e94c212f14685ac4b74b12bb6fdbffa2d17d87c5392aab792dc252d5de4533cc9518d38aa8dbf1925ab92386edd4009923"},
		{BLAKE2b256, "abc", "bddd813c634239723171ef3fee98579b94964e3bb1cb3e427262c8c068d52319"},
		{BLAKE2b384, "abc", "6f56a82c8e7ef526dfe182eb5212f7db9df1317e57815dbda46083fc30f54ee6c66ba83be64b302d7cba6ce15bb556f4"},
		{BLAKE3, "", "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262"},
		{MD5, "abc", "900150983cd24fb0d6963f7d28e17f72"},
		{SHA1, "abc", "a9993e364706816aba3e25717850c26c9cd0d89d"},
		{SHA224, "abc", "23097d223405d8228642a477bda255b32aadbce4bda0b3f7e36c9da7"},
		{SHA256, "abc", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"},
		{SHA384, "abc", "cb00753f45a35e8bb5a03d699ac65007272c32ab0eded1631a8b605a43ff5bed8086072ba1e7cc2358baeca134c825a7"},
		{SHA512, "abc", "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f"},
		{SHA512224, "abc", "4634270f707b6a54daae7530460842e20e37ed265ceee9a43e8924aa"},
		{SHA512256, "abc", "53048e2681941ef99b2e29b76b4c7dabe4c2d0c634fc6d46e0e2f13107e7af23"},
	} {
		t.Run(c.algorithm.String(), func(t *testing.T) {
			set := NewSet([]Algorithm{c.algorithm})
			n, err := Pump(t.Context(), bytes.NewReader([]byte(c.input)), set.Writers(), nil)
			require.NoError(t, err)
			assert.EqualValues(t, len(c.input), n)
			assert.Equal(t, c.want, set.Sums()[c.algorithm].String())
			assert.Equal(t, len(c.want)/2, c.algorithm.Size())
		})
	}
}

func TestParseFoldsLabels(t *testing.T) {
	for label, want := range map[string]Algorithm{
		"SHA256": SHA256, "sha-256": SHA256, "Sha_256": SHA256, "SHA2-256": SHA256,
		"SHA512/256": SHA512256, "sha-512_256": SHA512256, "MD5": MD5, "crc32": CRC32, "SHA": SHA1,
		"sha3_256": SHA3256, "BLAKE2b-512": BLAKE2b, "crc-32/bzip2": CRC32BZIP2, "RMD160": RIPEMD160,
	} {
		got, err := Parse(label)
		require.NoError(t, err, label)
		assert.Equal(t, want, got, label)
	}
	_, err := Parse("rot13")
	var unknown *UnknownAlgorithmError
	require.ErrorAs(t, err, &unknown)
	assert.Equal(t, "rot13", unknown.Label)
	assert.Contains(t, err.Error(), "SHA-256")
}

func TestStrength(t *testing.T) {
	assert.Equal(t, Checksum, CRC32.Class())
	assert.Equal(t, Broken, SHA1.Class())
	assert.Equal(t, Sound, SHA256.Class())
	assert.Less(t, SHA224.CollisionBits(), 128)
	assert.GreaterOrEqual(t, SHA512256.CollisionBits(), 128)
	assert.Equal(t, SHA512, Strongest([]Algorithm{MD5, SHA512, SHA256}))
	assert.Equal(t, Unknown, Strongest(nil))
	assert.Equal(t, SHA256, OfSize(32)[0], "the likeliest first")
	for _, a := range All() {
		assert.Contains(t, OfSize(a.Size()), a)
		assert.Equal(t, []Algorithm{a}, Only(a))
		parsed, err := Parse(a.String())
		require.NoError(t, err)
		assert.Equal(t, a, parsed)
	}
	assert.Nil(t, Only(Unknown))
	assert.Nil(t, OfSize(31))
}

func TestAlgorithmJSON(t *testing.T) {
	b, err := json.Marshal([]Algorithm{SHA256, Unknown})
	require.NoError(t, err)
	assert.JSONEq(t, `["SHA-256", null]`, string(b))
	var back []Algorithm
	require.NoError(t, json.Unmarshal(b, &back))
	assert.Equal(t, []Algorithm{SHA256, Unknown}, back)
	assert.Error(t, json.Unmarshal([]byte(`["rot13"]`), &back))
}

// TestPumpAgreesWithPlainHashing holds for every length around the block
// size, for readers that deliver in odd pieces, and for several algorithms.
func TestPumpAgreesWithPlainHashing(t *testing.T) {
	source := make([]byte, 3*blockSize+17)
	rand.NewChaCha8([32]byte{1}).Read(source)
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.OneOf(
			rapid.IntRange(0, 64), rapid.IntRange(blockSize-2, blockSize+2), rapid.IntRange(0, len(source)),
		).
			Draw(t, "length")
		var r io.Reader = bytes.NewReader(source[:n])
		if rapid.Bool().Draw(t, "half reads") {
			r = iotest.HalfReader(r)
		}
		set := NewSet([]Algorithm{SHA256, MD5, SHA256})
		last := int64(0)
		got, err := Pump(context.Background(), r, set.Writers(), func(total int64) {
			if total <= last {
				t.Fatalf("progress went from %d to %d", last, total)
			}
			last = total
		})
		if err != nil || got != int64(n) || last != int64(n) {
			t.Fatalf("read %d of %d, last progress %d, error %v", got, n, last, err)
		}
		want := sha256.Sum256(source[:n])
		if !bytes.Equal(set.Sums()[SHA256], want[:]) {
			t.Fatalf("SHA-256 of %d bytes differs", n)
		}
	})
}

func TestPumpReportsReadErrors(t *testing.T) {
	boom := errors.New("the cable fell out")
	for _, before := range []int{0, 10, 3 * blockSize} {
		set := NewSet([]Algorithm{SHA256})
		r := io.MultiReader(bytes.NewReader(make([]byte, before)), iotest.ErrReader(boom))
		n, err := Pump(t.Context(), r, set.Writers(), nil)
		require.ErrorIs(t, err, boom)
		assert.EqualValues(t, before, n)
	}
}

// A stream that is cut off has not ended, wherever it is cut.
func TestPumpReportsACutStream(t *testing.T) {
	for _, before := range []int{0, 10, blockSize, 3*blockSize + 10} {
		for _, writers := range [][]io.Writer{nil, NewSet([]Algorithm{SHA256, MD5}).Writers()} {
			r := io.MultiReader(bytes.NewReader(make([]byte, before)), iotest.ErrReader(io.ErrUnexpectedEOF))
			n, err := Pump(t.Context(), r, writers, nil)
			require.ErrorIs(t, err, io.ErrUnexpectedEOF, before)
			assert.EqualValues(t, before, n)
		}
	}
}

// endless never ends, so only cancellation can stop the pump.
type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

func TestPumpStopsWhenCancelled(t *testing.T) {
	reason := errors.New("the operator pressed Ctrl-C")
	for _, writers := range [][]io.Writer{nil, NewSet([]Algorithm{SHA256, MD5}).Writers()} {
		ctx, cancel := context.WithCancelCause(t.Context())
		_, err := Pump(ctx, endless{}, writers, func(total int64) {
			if total > 8*blockSize {
				cancel(reason)
			}
		})
		require.ErrorIs(t, err, reason)
	}
}

func TestPumpMemoryDoesNotGrowWithTheStream(t *testing.T) {
	measure := func(size int64) float64 {
		return testing.AllocsPerRun(3, func() {
			set := NewSet([]Algorithm{SHA256})
			_, err := Pump(context.Background(), io.LimitReader(endless{}, size), set.Writers(), nil)
			require.NoError(t, err)
		})
	}
	assert.InDelta(t, measure(8<<20), measure(64<<20), 12, "allocations must not depend on the length")
}

func TestValueText(t *testing.T) {
	var v Value
	require.NoError(t, v.UnmarshalText([]byte("DEADbeef")))
	assert.Equal(t, "deadbeef", v.String())
	assert.Error(t, v.UnmarshalText([]byte("xyz")))
}

func TestCollisionSuspectedNeedsSHA1(t *testing.T) {
	set := NewSet([]Algorithm{SHA256, SHA1})
	_, err := Pump(t.Context(), bytes.NewReader([]byte("an honest file")), set.Writers(), nil)
	require.NoError(t, err)
	assert.False(t, set.CollisionSuspected())
}
