package measure

import (
	"context"
	"io/fs"
	"sync"
	"sync/atomic"

	"endeixis/core/digest"
)

const (
	// groupFiles and groupBytes bound how many files are measured side by side
	// before there are results.
	groupFiles = 128
	groupBytes = 2 << 30
	// groupLeast is the size below which a file costs more to be handed over than
	// is gained.
	groupLeast = 16 << 10
)

// Groups puts what there are n of, each a file with its targets, into groups that
// gain by being measured together, see [OpenMany]; all others are by themselves. A
// group has the numbers of its files; groups are in the order of their first. Each is
// measured on one core: there are enough for as many cores as are given.
func Groups(n int, targets func(i int) []*Target, gain digest.Gain, cores int) [][]int {
	by := make([]digest.Algorithm, n)
	count := map[digest.Algorithm]int{}
	for i := range n {
		if file := targets(i); len(file) > 0 && file[0].Size >= groupLeast {
			by[i] = gains(file, gain)
			count[by[i]]++
		}
	}
	type open struct {
		group int // its place among the groups
		bytes int64
	}
	var out [][]int
	groups := map[digest.Algorithm]*open{}
	for i, algorithm := range by {
		most := min((count[algorithm]+cores-1)/cores, groupFiles)
		if algorithm == digest.Unknown || most < gain.From(algorithm) {
			out = append(out, []int{i})
			continue
		}
		size := targets(i)[0].Size
		g := groups[algorithm]
		if g == nil || len(out[g.group]) == most || g.bytes+size > groupBytes {
			g = &open{group: len(out)}
			groups[algorithm] = g
			out = append(out, nil)
		}
		out[g.group] = append(out[g.group], i)
		g.bytes += size
	}
	return out
}

// gains returns the algorithm by which a file gains from others beside it, and Unknown
// for one that does not.
func gains(targets []*Target, gain digest.Gain) digest.Algorithm {
	if len(targets) != 1 || targets[0].Inside != nil {
		return digest.Unknown
	}
	best := digest.Unknown
	for i := range targets[0].Tasks {
		task := &targets[0].Tasks[i]
		if !task.Plain() {
			return digest.Unknown // it goes on from the state of a digest, which streams do not give
		}
		if gain.From(task.Algorithm) > 0 && task.Algorithm > best {
			best = task.Algorithm
		}
	}
	return best
}

// OpenMany is [Open] for the files of one of the [Groups], each with its own target.
// They are read side by side. progress gets the bytes read of all of them and may be
// called by several goroutines. The readings are by path.
func OpenMany(
	ctx context.Context, fsys fs.FS, targets []*Target, gain digest.Gain, progress func(total int64),
) (map[string]Reading, error) {
	algorithm := gains(targets[:1], gain)
	streams := digest.NewStreams(algorithm, gain)
	defer streams.Close()
	var (
		mu    sync.Mutex
		first error
		total atomic.Int64
		wg    sync.WaitGroup
		out   = make(map[string]Reading, len(targets))
		work  = make(chan *Target)
	)
	for range min(gain.StreamCount(algorithm), len(targets)) {
		stream := streams.Join()
		wg.Go(func() {
			defer stream.Leave()
			for target := range work {
				before := int64(0)
				measured, err := open(ctx, fsys, target.Path, []*Target{target}, func(read int64) {
					sum := total.Add(read - before)
					before = read
					if progress != nil {
						progress(sum)
					}
				}, stream)
				mu.Lock()
				if err != nil && first == nil {
					first = err
				}
				out[target.Path] = measured[target.Path]
				mu.Unlock()
			}
		})
	}
	for _, target := range targets {
		work <- target
	}
	close(work)
	wg.Wait()
	return out, first
}
