package digest

import (
	"crypto/sha256"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestLanesAgreeWithTheStandardLibrary hashes files of all lengths in streams that
// come and go, in pieces of all lengths that are overwritten as soon as they are
// taken, by every way of hashing that there is here.
func TestLanesAgreeWithTheStandardLibrary(t *testing.T) {
	ways := map[string]func(*laneState, *[laneCount][]byte, int){"one by one": oneByOne}
	if wide := sixteenAtOnce(); wide != nil {
		ways["at once"] = wide
	} else {
		t.Log("this processor has no AVX-512: only the portable way is tried")
	}
	source := make([]byte, 3*laneStep+100)
	rand.NewChaCha8([32]byte{7}).Read(source)
	for name, way := range ways {
		rapid.Check(t, func(rt *rapid.T) {
			l := &lanes{compress: way, from: rapid.IntRange(0, laneCount).Draw(rt, "from")}
			length := rapid.OneOf(rapid.IntRange(0, 200), rapid.IntRange(0, len(source)))
			plans := rapid.SliceOfN(rapid.SliceOfN(length, 0, 4), 1, 2*laneCount+3).Draw(rt, "files of each stream")
			piece := rapid.SampledFrom([]int{1 << 20, laneStep, 4096, 1000, 64}).Draw(rt, "piece")
			var all sync.WaitGroup
			wrong := make([]int, len(plans))
			streams := make([]*lane, len(plans))
			for i := range plans {
				streams[i] = l.join()
			}
			for i, files := range plans {
				all.Go(func() {
					defer streams[i].leave()
					buffer := make([]byte, piece)
					for k, n := range files {
						content := source[:n]
						want := sha256.Sum256(content)
						streams[i].Reset()
						if k%2 == 1 { // begin in the middle of a block
							streams[i].Write(content[:min(n, 7)])
							content = content[min(n, 7):]
						}
						for len(content) > 0 {
							taken := copy(buffer, content)
							streams[i].Write(buffer[:taken])
							clear(buffer)
							content = content[taken:]
						}
						if string(streams[i].Sum(nil)) != string(want[:]) {
							wrong[i]++
						}
					}
				})
			}
			all.Wait()
			for i := range wrong {
				if wrong[i] > 0 {
					rt.Fatalf("%s: %d digests of stream %d are wrong", name, wrong[i], i)
				}
			}
		})
	}
}

// TestWrongLanesAreNotUsed: what gives other digests is found out before.
func TestWrongLanesAreNotUsed(t *testing.T) {
	assert.True(t, agrees(oneByOne))
	for at := range laneCount {
		assert.False(t, agrees(func(state *laneState, inputs *[laneCount][]byte, n int) {
			oneByOne(state, inputs, n)
			state[at%8][at] ^= 1
		}), "lane %d", at)
	}
}

// TestGainIsMeasured: what the clock says decides.
func TestGainIsMeasured(t *testing.T) {
	clock := func(separate, together time.Duration) func() time.Time {
		now, calls := time.Time{}, 0
		return func() time.Time {
			if calls%2 == 1 {
				if calls/6%2 == 0 {
					now = now.Add(separate)
				} else {
					now = now.Add(together)
				}
			}
			calls++
			return now
		}
	}
	many := MeasureGain(clock(16*time.Millisecond, 2*time.Millisecond))
	assert.Equal(t, 6, many.From(MD5), "5 of 32 take as long apart as all together")
	assert.Zero(t, many.From(SHA512))
	none := MeasureGain(clock(2*time.Millisecond, 2*time.Millisecond))
	assert.Equal(t, Gain{}, none)
	assert.Equal(t, 1, none.StreamCount(SHA256))
	assert.Equal(t, Gain{}, MeasureGain(clock(0, 0)), "a clock that stands still tells nothing")
	assert.Equal(t, Gain{}, MeasureGain(clock(0, time.Millisecond)))
	if sixteenAtOnce() != nil {
		assert.Equal(t, 3, many.From(SHA256), "two of sixteen are even, three gain")
	} else {
		assert.Zero(t, many.From(SHA256))
	}
	start := time.Now()
	real := MeasureGain(time.Now)
	t.Logf("here: MD5 from %d, SHA-256 from %d files on, measured in %s", real.md5, real.sha256, time.Since(start))
}
