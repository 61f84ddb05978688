package plain_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/plain"
)

// TestJSON: what a document says stays, and nothing in it moves a terminal.
func TestJSON(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"gauge.img", "Größe 光", "esc\x1b[31m", "del\x7f", "c1\u009b31m", "rtl\u202egnp.img", "zero\u200bwidth", "bell\x07", "tag\U000e0041", "line\nbreak", `quoted "\\" u001b`} {
		document, err := json.MarshalIndent(map[string]string{text: text}, "", "  ")
		require.NoError(t, err)
		harmless := plain.JSON(document)
		var back map[string]string
		require.NoError(t, json.Unmarshal(harmless, &back), "%s", harmless)
		assert.Equal(t, map[string]string{text: text}, back)
		for _, r := range string(harmless) {
			assert.False(
				t, r != '\n' && (r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x202e || r == 0x200b || r == 0xe0041),
				"%q of %q", r, harmless,
			)
		}
	}
	plainly := []byte(`{"a": "b"}`)
	assert.Equal(t, plainly, plain.JSON(plainly))
}
