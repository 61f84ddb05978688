package manifest

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestUnsafeNamesStayOut: a name that leads out of the folder is a problem of its line in
// every form, also where it is the only one in the text, and no part of it becomes a
// name.
func TestUnsafeNamesStayOut(t *testing.T) {
	for _, name := range []string{"../../gauge.bin", "/home/build/gauge.bin", `C:\build\gauge.bin`, `..\gauge.bin`, "images/../../gauge.bin", "//host/share/gauge.bin"} {
		for form, text := range map[string]string{
			"digest first": sha256Of + "  %s\n",
			"binary":       sha256Of + " *%s\n",
			"tagged":       "SHA256 (%s) = " + sha256Of + "\n",
			"name first":   "%s: " + sha256Of + "\n",
			"prose":        "The image %s has the SHA-256 digest\n" + sha256Of + "\nas of today.\n",
			"quoted":       "The digest of \"%s\" is " + sha256Of + ".\n",
		} {
			m, err := Read(strings.NewReader(fmt.Sprintf(text, name)), Options{FileName: "SHA256SUMS"})
			require.NoError(t, err)
			assert.Zero(t, m.Entries.Len(), "%s, %s", form, name)
			assert.NotEmpty(t, m.Problems, "%s, %s", form, name)
		}
	}
	// The last part of an address is a name.
	m, err := Read(
		strings.NewReader("Get https://mirror.example/pub/gauge.bin and check that its digest is\n"+sha256Of+"\n"),
		Options{},
	)
	require.NoError(t, err)
	require.Equal(t, 1, m.Entries.Len())
	assert.Equal(t, "gauge.bin", m.Entries.At(0).Name)
}
