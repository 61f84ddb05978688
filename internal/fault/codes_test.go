package fault

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the list of codes in docs/api.md anew")

// TestCodesAreListed: every constant is in the list, once, in its order, and says something; the
// list in docs/api.md is this one.
func TestCodesAreListed(t *testing.T) {
	text, err := os.ReadFile("codes.go")
	require.NoError(t, err)
	var constants []Code
	for _, m := range regexp.MustCompile(`Code += "([^"]+)"`).FindAllStringSubmatch(string(text), -1) {
		constants = append(constants, Code(m[1]))
	}
	require.NotEmpty(t, constants)
	assert.Equal(t, constants, Codes())
	assert.True(t, slices.IsSorted(constants))
	var list strings.Builder
	for _, c := range Codes() {
		assert.NotEmpty(t, c.Meaning(), c)
		fmt.Fprintf(&list, "| `%s` | %s |\n", c, c.Meaning())
	}
	path := filepath.Join("..", "..", "docs", "api.md")
	page, err := os.ReadFile(path)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(page), "<!-- codes -->\n")
	require.True(t, ok)
	kept, tail, ok := strings.Cut(rest, "<!-- /codes -->\n")
	require.True(t, ok)
	want := "| code | what it says |\n| --- | --- |\n" + list.String()
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(head+"<!-- codes -->\n"+want+"<!-- /codes -->\n"+tail), 0o644))
		return
	}
	assert.Equal(t, want, kept, "after a change: go test ./internal/fault -update")
	assert.Empty(t, Code("nothing-of-the-kind").Meaning())
}

func TestFault(t *testing.T) {
	cause := os.ErrNotExist
	f := New(Conflict, BatchEnded, "Batch %d has ended.", 7).Advise("Look at %s.", "it").At("id").Because(cause)
	assert.Equal(t, "Batch 7 has ended. Look at it.", f.Error())
	wrapped := fmt.Errorf("closing: %w", f)
	assert.True(t, Is(wrapped, BatchEnded))
	assert.False(t, Is(wrapped, BatchEnding))
	assert.ErrorIs(t, wrapped, cause)
	assert.False(t, Is(cause, BatchEnded))

	assert.NoError(t, Reason("it was agreed", "A waiver"))
	for _, bad := range []string{"", " \n", "a\x00b", strings.Repeat("x", maxReason+1)} {
		assert.True(t, Is(Reason(bad, "A waiver"), ReasonMissing), "%.9q", bad)
	}
	assert.NoError(t, Changed("", "2", "the policy"))
	assert.NoError(t, Changed("2", "2", "the policy"))
	assert.True(t, Is(Changed("1", "2", "the policy"), ChangedMeanwhile))
}
