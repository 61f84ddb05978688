package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCopies compares copies of a manifest with the one in the folder.
func TestCopies(t *testing.T) {
	own := line("a", "a.img") + line("b", "b.img")
	files := folder(map[string]string{"a.img": "a", "b.img": "b", "lists/SHA256SUMS": own})
	north := Provenance{Channel: Mirror, Place: "north"}
	s, err := Run(t.Context(), files, Options{
		Provenance: map[string]Provenance{"lists/SHA256SUMS": {Channel: VendorSite}},
		Copies: []Copy{
			{Of: "lists/SHA256SUMS", Provenance: north, Content: []byte(own)},
			{
				Of: "lists/SHA256SUMS", Provenance: north,
				Content: []byte(line("a", "a.img") + line("other", "b.img") + line("c", "c.img")),
			},
			{Of: "lists/SHA256SUMS", Provenance: north, Content: []byte("<!DOCTYPE html><p>Not found</p>")},
			{Of: "lists/SHA256SUMS", Provenance: north, Trouble: "no answer within 15 seconds"},
		},
	})
	require.NoError(t, err)
	require.Len(t, s.Copies, 4)
	assert.True(t, s.Copies[0].Identical)
	assert.Equal(t, 2, s.Copies[0].Same)
	assert.False(t, s.Copies[1].Identical)
	assert.Equal(t, 1, s.Copies[1].Same)
	require.Len(t, s.Copies[1].Differ, 2)
	assert.Equal(
		t, []string{"changed", "b.img", "added", "c.img"},
		[]string{
			string(s.Copies[1].Differ[0].Kind), s.Copies[1].Differ[0].Name, string(s.Copies[1].Differ[1].Kind),
			s.Copies[1].Differ[1].Name,
		},
	)
	assert.Equal(t, "it holds no entry that can be read", s.Copies[2].Trouble)
	assert.Equal(t, "no answer within 15 seconds", s.Copies[3].Trouble)
	for _, item := range s.Items {
		if item.Role == Artifact {
			assert.Len(t, item.Sighted, 2, item.Path)
			assert.Equal(t, VendorSite, item.Listed[0].Origin.Channel)
		}
	}
	for _, opts := range []Options{{Provenance: map[string]Provenance{"a.img": north}}, {Copies: []Copy{{Of: "none"}}}} {
		_, err := Run(t.Context(), files, opts)
		var wrong *ProvenanceError
		assert.ErrorAs(t, err, &wrong)
	}
}
