package store_test

import (
	"bytes"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// TestOddPages: a page that is not what was written makes records without a text, whatever is in
// it, and costs no more memory than a record may.
func TestOddPages(t *testing.T) {
	t.Parallel()
	s := testkit.Assemble(t, testkit.Bare(t), testkit.Now).Store
	pack, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	const megabyte = 1 << 20
	var huge bytes.Buffer
	w, err := zstd.NewWriter(&huge)
	require.NoError(t, err)
	for range 600 {
		_, err := w.Write(make([]byte, megabyte))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	two := pack.EncodeAll([]byte("one\ntwo\n"), nil)
	for page, packed := range [][]byte{{}, []byte("none"), pack.EncodeAll(nil, nil), two[:9], huge.Bytes(), two} {
		_, err := s.Pool.Exec(
			t.Context(), `INSERT INTO ledger_pages (first, texts) VALUES ($1, $2)`, 1000+10*page, packed,
		)
		require.NoError(t, err)
	}
	for _, c := range []struct {
		position, page int64
		text           string
	}{{1000, 1000, ""}, {1010, 1010, ""}, {1011, 1010, ""}, {1020, 1020, ""}, {1030, 1030, ""}, {1040, 1040, ""}, {1050, 1050, "one"}, {1051, 1050, "two"}, {1052, 1050, ""}, {1049, 1050, ""}, {1 << 62, 1050, ""}, {1070, 1070, ""}} {
		_, err := s.Pool.Exec(
			t.Context(),
			`INSERT INTO ledger_records (position, kind, at, by_name, subject, leaf, page) VALUES ($1, 'drill', now(), 'x', 'x', sha256('x'), $2)`,
			c.position,
			c.page,
		)
		require.NoError(t, err)
		require.NoError(t, s.RecordsFrom(t.Context(), c.position, c.position+1, func(r store.Record) error {
			assert.Equal(t, c.text, string(r.Body), c.position)
			return nil
		}))
		_, err = s.Record(t.Context(), c.position)
		assert.True(t, fault.Is(err, fault.LedgerAltered), "%d: %v", c.position, err)
	}
}
