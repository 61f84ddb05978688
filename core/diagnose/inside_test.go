package diagnose

import (
	"bytes"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container/isotest"
	"endeixis/core/container/packtest"
)

// TestInnerFile finds the digest that was meant for what lies inside.
func TestInnerFile(t *testing.T) {
	light := string(noise(200_000))
	around := []string{"readme.txt", "r", "fw/nl-200.img", light, "last", "l"}
	for name, here := range map[string][]byte{
		"nl.zip": packtest.Zip(around...), "nl.tar": packtest.Tar(around...), "nl.tar.gz": packtest.Gzip(packtest.Tar(around...)),
		"nl.iso": isotest.Image([]isotest.File{{Name: "a", Content: []byte("a")}, {Name: "fw/nl-200.img", Content: []byte(light)}}, isotest.Options{RockRidge: true}),
	} {
		random := func(c *Case) { c.At = bytes.NewReader(here) }
		found := diagnosed(t, name, here, []byte(light), random)
		require.Equal(t, InnerFile, found[0].Code, name)
		assert.Equal(
			t, "The value stated is the SHA-256 digest of “fw/nl-200.img” inside this file, not of the file itself.",
			found[0].Sentence, name,
		)
		for _, f := range diagnosed(t, name, here, []byte("something else"), random) {
			assert.NotEqual(t, InnerFile, f.Code, name)
		}
	}
	found := diagnosed(t, "nl-200.img.gz", packtest.Gzip([]byte(light)), []byte(light), nil)
	assert.Equal(t, InnerFile, found[0].Code)
	assert.Contains(t, found[0].Sentence, "once it is uncompressed")
	cut := packtest.Gzip([]byte(light))
	assert.NotContains(
		t, codes(diagnosed(t, "nl-200.img.gz", cut[:len(cut)-9], []byte(light), nil)), InnerFile,
		"a part of it is not it",
	)

	// And the reverse: the digest is that of the archive beside it.
	archive := packtest.Zip(around...)
	neighbour := func(c *Case) {
		c.Around = []Holder{
			{Name: "gone.zip", Open: func() (io.ReadCloser, error) { return nil, io.ErrUnexpectedEOF }},
			{Name: "nl-200.zip", Open: func() (io.ReadCloser, error) {
				return io.NopCloser(bytes.NewReader(archive)), nil
			}},
		}
	}
	found = diagnosed(t, "nl-200.img", []byte(light), archive, neighbour)
	require.Len(t, found, 1)
	assert.Equal(t, InnerFile, found[0].Code)
	assert.Contains(t, found[0].Sentence, "“nl-200.zip” beside it")
	assert.Equal(t, []Code{Altered}, codes(diagnosed(t, "nl-200.img", []byte(light), []byte("other"), neighbour)))
}

func TestOtherRelease(t *testing.T) {
	found := diagnosed(t, "gauge.bin", noise(3000), noise(3001), func(c *Case) {
		c.Earlier = &Earlier{
			Name: "gauge-4.1.bin", Folder: "quayside:tidewright/4.1", Label: "May", Batch: 7,
			On: time.Date(2026, 5, 4, 0, 0, 0, 0, time.UTC),
		}
	})
	require.Len(t, found, 1)
	assert.Equal(t, OtherRelease, found[0].Code)
	assert.Equal(
		t,
		"These bytes are known: they are those of “gauge-4.1.bin” in quayside:tidewright/4.1, cleared on 2026-05-04 in batch 7 (May).",
		found[0].Sentence,
	)
}
