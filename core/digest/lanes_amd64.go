//go:build gc

package digest

import (
	"crypto/sha256"
	"unsafe"

	_ "github.com/minio/sha256-simd" // has the code for sixteen lanes
	"golang.org/x/sys/cpu"
)

// sha256X16Avx512 is the package's code for AVX-512. The package offers it only
// behind a server that can never be ended, wakes a thousand times a second for
// ever, and reads bytes after their writer has been told that they are taken; so
// it is called here without that server. [agrees] is asked before it is used.
//
//go:noescape
//go:linkname sha256X16Avx512 github.com/minio/sha256-simd.sha256X16Avx512
func sha256X16Avx512(digests *[512]byte, scratch *[512]byte, table *[512]uint64, mask []uint64, inputs [16][]byte)

// roundConstants are those of FIPS 180-4, section 4.2.2, each as often as there
// are lanes.
//
//go:linkname roundConstants github.com/minio/sha256-simd.table
var roundConstants [512]uint64

// sixteenAtOnce returns how this processor hashes sixteen lanes at once, and nil
// where it cannot.
func sixteenAtOnce() func(*laneState, *[laneCount][]byte, int) {
	if cpu.X86.HasAVX512F && cpu.X86.HasAVX512DQ && cpu.X86.HasAVX512BW && cpu.X86.HasAVX512VL {
		return byAVX512
	}
	return nil
}

func byAVX512(state *laneState, inputs *[laneCount][]byte, n int) {
	// Bit i of the mask of a block says whether lane i has that block.
	var masks [max(laneStep, laneLeast) / sha256.BlockSize]uint64
	blocks := 0
	for i, input := range inputs {
		has := min(n, len(input)) / sha256.BlockSize
		for b := range has {
			masks[b] |= 1 << i
		}
		blocks = max(blocks, has)
	}
	if blocks == 0 {
		return
	}
	var scratch [512]byte
	sha256X16Avx512((*[512]byte)(unsafe.Pointer(state)), &scratch, &roundConstants, masks[:blocks], *inputs)
}
