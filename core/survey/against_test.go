package survey_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
	. "endeixis/core/survey"
)

func gzipped(t *testing.T, content string) string {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, err := w.Write([]byte(content))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.String()
}

// TestFormsOf: what a medium that was written from a wrapping can have.
func TestFormsOf(t *testing.T) {
	sum := func(text string) []byte { s := sha256.Sum256([]byte(text)); return s[:] }
	forms := func(name, file string) ([]Form, error) {
		return FormsOf(context.Background(), name, strings.NewReader(file))
	}
	formsOf := func(text string) []Form {
		return []Form{{Compression: container.Gzip, Size: int64(len(text)), Digest: sum(text)}}
	}
	got, err := forms("card.img.gz", gzipped(t, "first")+gzipped(t, "second"))
	require.NoError(t, err)
	assert.Equal(t, formsOf("firstsecond"), got, "all members are in it")
	got, err = forms("card.img.gz", gzipped(t, "first")+strings.Repeat("\x00", 512))
	require.NoError(t, err)
	assert.Equal(t, formsOf("first"), got, "padding of a block is no member")
	got, err = forms("card.img.gz", gzipped(t, ""))
	require.NoError(t, err)
	assert.Empty(t, got)
	_, err = forms("card.img.gz", gzipped(t, "first")[:20])
	require.Error(t, err)
	got, err = forms("card.img", "nothing that carries anything")
	require.NoError(t, err)
	assert.Empty(t, got)
	// As many parts as nobody compares one by one: only the file as it stands is.
	var hex strings.Builder
	record := func(kind, address int, data ...byte) {
		r := append([]byte{byte(len(data)), byte(address >> 8), byte(address), byte(kind)}, data...)
		total := byte(0)
		for _, b := range r {
			total += b
		}
		fmt.Fprintf(&hex, ":%X\n", append(r, -total))
	}
	for i := range 2000 {
		upper := i * 33 // each more than 1 MiB from the last
		record(4, 0, byte(upper>>8), byte(upper))
		record(0, 0, byte(i))
	}
	record(1, 0)
	_, err = forms("flash.hex", hex.String())
	assert.ErrorContains(t, err, "parts")
}
