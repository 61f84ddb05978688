package readback

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestLengths: where an image may end is found from its content, whatever follows it.
func TestLengths(t *testing.T) {
	image := content(100_000, 21)
	image[len(image)-1] = 7
	for name, tail := range map[string][]byte{
		"nothing": nil, "zeros": make([]byte, 3<<20), "FF": bytes.Repeat([]byte{0xff}, 5000), "both": append(bytes.Repeat([]byte{0xff}, 70_000), make([]byte, 9)...),
	} {
		medium := append(bytes.Clone(image), tail...)
		got, err := Lengths(t.Context(), bytes.NewReader(medium), int64(len(medium)))
		require.NoError(t, err)
		assert.Contains(t, got, int64(100_000), name)
		assert.Contains(t, got, int64(len(medium)), name)
		assert.IsIncreasing(t, append([]int64{0}, got...), name)
		if len(tail) > 4096 {
			assert.Contains(t, got, int64(100_352), "up to the end of a sector of %s", name)
		}
	}
	// A run-out that cannot be read is no content.
	medium := append(bytes.Clone(image[:98_304]), make([]byte, 4096)...)
	medium[98_303] = 1
	got, err := Lengths(t.Context(), &blocked{medium, 2048, map[int64]int{48: -1, 49: -1}, true}, int64(len(medium)))
	require.NoError(t, err)
	assert.Contains(t, got, int64(98_304))
	empty, err := Lengths(t.Context(), bytes.NewReader(make([]byte, 5<<20)), 5<<20)
	require.NoError(t, err)
	assert.Contains(t, empty, int64(5<<20))
	none, err := Lengths(t.Context(), bytes.NewReader(nil), 0)
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestPartitions(t *testing.T) {
	mbr := make([]byte, 4096)
	mbr[510], mbr[511] = 0x55, 0xaa
	entry := func(i int, kind byte, from, count uint32) {
		e := mbr[446+16*i:]
		e[4] = kind
		binary.LittleEndian.PutUint32(e[8:], from)
		binary.LittleEndian.PutUint32(e[12:], count)
	}
	entry(0, 0x0c, 2048, 100)
	entry(2, 0x83, 4096, 7)
	assert.Equal(t, []Range{span(2048*512, 100*512), {}, span(4096*512, 7*512), {}}, Partitions(bytes.NewReader(mbr)))
	assert.Nil(t, Partitions(bytes.NewReader(make([]byte, 4096))))
	assert.Nil(t, Partitions(bytes.NewReader([]byte("short"))))

	const sector = 512
	disk := make([]byte, 64*sector)
	header := disk[sector : 2*sector]
	copy(header, "EFI PART")
	binary.LittleEndian.PutUint32(header[12:], 92)
	binary.LittleEndian.PutUint64(header[32:], 63)
	binary.LittleEndian.PutUint64(header[72:], 2)
	binary.LittleEndian.PutUint32(header[80:], 128)
	binary.LittleEndian.PutUint32(header[84:], 128)
	for i, p := range [][2]uint64{{34, 40}, {0, 0}, {50, 50}, {60, 10}} {
		e := disk[2*sector+128*i:]
		if p[0] > 0 {
			e[0] = 1
		}
		binary.LittleEndian.PutUint64(e[32:], p[0])
		binary.LittleEndian.PutUint64(e[40:], p[1])
	}
	binary.LittleEndian.PutUint32(header[16:], crc32.ChecksumIEEE(header[:92]))
	assert.Equal(t, []Range{span(34*sector, 7*sector), {}, span(50*sector, sector)}, Partitions(bytes.NewReader(disk)))
	header[100] = 1 // behind what the checksum is of
	header[72] = 1  // and within it
	assert.Nil(t, Partitions(bytes.NewReader(disk)), "a table whose checksum does not hold")
}
