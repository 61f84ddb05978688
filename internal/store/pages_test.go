package store

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func texts(n, size int) []*Record {
	out := make([]*Record, n)
	for i := range out {
		out[i] = &Record{
			Position: int64(100 + i), Kind: "item-outcome",
			Body: []byte(fmt.Sprintf(`{"n":%d,"text":%q}`, i, strings.Repeat("gauge ", size))),
		}
	}
	return out
}

// TestPages: texts that are stored together are what they were, however many and however long.
func TestPages(t *testing.T) {
	t.Parallel()
	p, err := packer()
	require.NoError(t, err)
	for _, c := range []struct{ records, size, pages int }{{2, 1, 1}, {64, 10, 1}, {65, 10, 2}, {1000, 20, 16}, {
		300,
		2000, 5,
	}, {2, 0, 1}, {3, shortText, 0}} {
		records := texts(c.records, c.size)
		pages, err := pagesOf(records)
		require.NoError(t, err)
		require.Len(t, pages, c.pages)
		for _, r := range records {
			if len(r.Body) > shortText {
				assert.Nil(t, r.Page, "it has its text beside it")
				continue
			}
			var of *page
			for i := range pages {
				if pages[i].first == *r.Page {
					of = &pages[i]
				}
			}
			require.NotNil(t, of)
			plain, err := p.unpack.DecodeAll(of.texts, nil)
			require.NoError(t, err)
			assert.Equal(t, r.Body, bytes.Split(plain, []byte("\n"))[r.Position-of.first])
		}
	}
	mixed := texts(5, 10)
	mixed[2] = texts(3, shortText)[2]
	pages, err := pagesOf(mixed)
	require.NoError(t, err)
	require.Len(t, pages, 2)
	assert.EqualValues(t, []int64{100, 103}, []int64{pages[0].first, pages[1].first})
	assert.Nil(t, mixed[2].Page)
	_, err = pagesOf([]*Record{{Body: []byte("{}")}, {Body: []byte("{\n}")}})
	assert.ErrorContains(t, err, "more than one line")
}
