package measure

import (
	"context"
	"io/fs"
	"sync"
	"sync/atomic"

	"endeixis/core/digest"
)

// OnlyMD5 reports whether MD5 is all that has to be computed of a file, so that
// it gains by being read side by side with others of its kind.
func OnlyMD5(targets []*Target) bool {
	return len(targets) == 1 && len(targets[0].Tasks) == 1 && targets[0].Tasks[0].Algorithm == digest.MD5 && targets[0].Tasks[0].Plain() && targets[0].Inside == nil
}

// OpenMany is [Open] for several files of which only the MD5 is to be computed,
// each with its own target. They are read side by side, up to
// [digest.StreamCount] at a time. progress gets the bytes read of all of them
// and may be called by several goroutines. The readings are by path.
func OpenMany(ctx context.Context, fsys fs.FS, targets []*Target, progress func(total int64)) (map[string]Reading, error) {
	streams := digest.NewStreams()
	defer streams.Close()
	var (
		mu    sync.Mutex
		first error
		total atomic.Int64
		wg    sync.WaitGroup
		out   = make(map[string]Reading, len(targets))
		work  = make(chan *Target)
	)
	for range min(digest.StreamCount, len(targets)) {
		wg.Go(func() {
			for target := range work {
				before := int64(0)
				measured, err := open(ctx, fsys, target.Path, []*Target{target}, func(read int64) {
					sum := total.Add(read - before)
					before = read
					if progress != nil {
						progress(sum)
					}
				}, streams)
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
