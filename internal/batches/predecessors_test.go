package batches

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/survey"
	"endeixis/internal/store"
)

// TestMissingIsAskedOnce: what is missing depends on the batches alone, and is not worked out again for each of
// thousands of files; a folder that is too large to be looked at misses nothing.
func TestMissingIsAskedOnce(t *testing.T) {
	t.Parallel()
	record, at := int64(7), time.Unix(1700000000, 0)
	p := predecessorsOf(store.Batch{ID: 3, Source: "quayside:x", SourceKind: "depot"}, store.Reads{})
	for _, b := range []int64{1, 2} {
		p.folders[b] = map[string]store.BatchFile{}
		for i := range 3 {
			p.put(store.BatchFile{Batch: b, Path: fmt.Sprintf("part%c-%d.0.img", 'a'+i, b), Role: "artifact", Record: &record, At: &at})
		}
		p.put(store.BatchFile{Batch: b, Path: "list.sig", Role: "signature", Record: &record, At: &at})
	}
	p.here([]survey.Item{{Path: "parta-3.0.img"}, {Path: "partb-3.0.img"}})
	files := []judge.Predecessor{{Batch: 2}, {Batch: 2}, {Batch: 1}}
	for range 2 {
		missing, err := p.missing(t.Context(), files)
		require.NoError(t, err)
		assert.Equal(t, []judge.Companionship{{File: "partc-2.0.img", Batch: 2, Record: 7, At: at, Times: 2}}, missing)
		clear(p.folders[1]) // it is not looked at again
	}
	missing, err := p.missing(t.Context(), files[:2])
	require.NoError(t, err)
	assert.Empty(t, missing, "once is not always")
	many := predecessorsOf(store.Batch{ID: 3, Source: "quayside:x", SourceKind: "depot"}, store.Reads{})
	many.folders[1], many.folders[2] = p.folders[2], p.folders[2]
	many.here(make([]survey.Item, maxCompared+1))
	missing, err = many.missing(t.Context(), files)
	require.NoError(t, err)
	assert.Empty(t, missing)
}
