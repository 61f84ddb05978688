package manifest

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEntries asks for entries in every way there is, with plain lines alone, with others
// behind them, and with others alone.
func TestEntries(t *testing.T) {
	var plain strings.Builder
	for i := range 150 {
		fmt.Fprintf(&plain, "%064x  part/%03d.img\n", i, i)
	}
	for name, c := range map[string]struct {
		text        string
		plain, rest int
	}{
		"none":        {"nothing is listed here", 0, 0},
		"plain":       {plain.String(), 150, 0},
		"others":      {"SHA256 (a.img) = " + d256 + "\n", 0, 1},
		"a short one": {d256 + "  a.img\nSHA256 (b.img) = " + d256 + "\n", 0, 2},
	} {
		m := read(t, c.text, Options{})
		require.Equal(t, c.plain, m.Entries.plain.len(), name)
		require.Len(t, m.Entries.rest, c.rest, name)
		all := []Entry{}
		for i, e := range m.Entries.All() {
			require.Equal(t, i, len(all), name)
			require.Equal(t, m.Entries.At(i), e, name)
			all = append(all, e)
		}
		require.Len(t, all, m.Entries.Len(), name)
		for _, e := range all {
			assert.NotEmpty(t, e.Digest.String())
		}
		for range m.Entries.All() {
			break // whoever has seen enough may leave
		}

		encoded, err := json.Marshal(m.Entries)
		require.NoError(t, err)
		other, err := json.Marshal(all)
		require.NoError(t, err)
		assert.Equal(t, string(other), string(encoded), name)
		var back Entries
		require.NoError(t, json.Unmarshal(encoded, &back))
		assert.Equal(t, all, back.rest, name)

		below := m.Entries.Below(7)
		for i, e := range below.All() {
			assert.Equal(t, all[i].Line+7, e.Line, name)
		}
		for i := range all {
			assert.Equal(t, all[i], m.Entries.At(i), "the entries themselves stay where they are")
		}
		below.each(func(e *Entry) { e.Name = "x" })
		require.Equal(t, len(all), below.Len(), name)
		for i, e := range below.All() {
			assert.Equal(t, "x", e.Name)
			assert.Equal(t, all[i].Digest, e.Digest)
		}
	}
}

// TestSizesBehindPlainLines: sizes that stand far below the lines of the files belong to
// them all the same.
func TestSizesBehindPlainLines(t *testing.T) {
	var text strings.Builder
	const n = 20_000 // more than one block
	for i := range n {
		fmt.Fprintf(&text, "%064x  part/%06d.img\n", i, i)
	}
	text.WriteString("SIZE (part/000003.img) = 77\n")
	m := read(t, text.String(), Options{FileName: "SHA256SUMS"})
	require.Equal(t, n, m.Entries.Len())
	for i, e := range m.Entries.All() {
		if i == 3 {
			require.NotNil(t, e.Size)
			assert.EqualValues(t, 77, *e.Size)
			continue
		}
		require.Nil(t, e.Size)
	}
}
