package measure

import (
	"context"
	"io/fs"
	"sync"
	"sync/atomic"

	"endeixis/core/digest"
	"endeixis/core/survey"
)

// OnlyMD5 reports whether MD5 is all that has to be computed of a file, so that
// it gains by being read side by side with others of its kind.
func OnlyMD5(items []*survey.Item) bool {
	return len(items) == 1 && len(items[0].Digests) == 1 && items[0].Digests[0] == digest.MD5 && len(items[0].Signatures) == 0 && items[0].Inside == nil
}

// OpenMany is [Open] for several files of which only the MD5 is to be computed,
// each with its own item. They are read side by side, up to
// [digest.StreamCount] at a time. progress gets the bytes read of all of them
// and may be called by several goroutines. The measurements are by path.
func OpenMany(ctx context.Context, fsys fs.FS, items []*survey.Item, w Witness, progress func(total int64)) (map[string]Measurement, error) {
	streams := digest.NewStreams()
	defer streams.Close()
	var (
		mu    sync.Mutex
		first error
		total atomic.Int64
		wg    sync.WaitGroup
		out   = make(map[string]Measurement, len(items))
		work  = make(chan *survey.Item)
	)
	for range min(digest.StreamCount, len(items)) {
		wg.Go(func() {
			for item := range work {
				before := int64(0)
				measured, err := open(ctx, fsys, item.Path, []*survey.Item{item}, w, func(read int64) {
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
				out[item.Path] = measured[item.Path]
				mu.Unlock()
			}
		})
	}
	for _, item := range items {
		work <- item
	}
	close(work)
	wg.Wait()
	return out, first
}
