package test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/client"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestLargeKeyFile imports a ring as large as those of distributions: 900 keys with
// certifications, 28 MiB. What is told of the progress comes before the answer, and
// memory comes back.
func TestLargeKeyFile(t *testing.T) {
	s := testkit.Start(t)
	c := s.Client(t, "curator")
	born := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	by := pgptest.NewKey("a certifier", pgptest.Ed25519, born)
	var ring bytes.Buffer
	const keys = 900
	for i := range keys {
		id := fmt.Sprintf("Keeper %d <k%d@brackwater.example>", i, i)
		made := pgptest.Simple(fmt.Sprint("ring ", i), pgptest.Ed25519, born, id)
		cert := made.Certify(by, id, pgptest.Sig{Type: pgptest.Certification, Created: born})
		size := len(made.Bytes())
		// The same certification with other times would have to be signed; what is
		// of a later version counts for as much, and is kept as well.
		for n := size; n < 32<<10; n += 512 {
			cert.Add(pgptest.Packet(2, append([]byte{9, byte(n), byte(n >> 8)}, make([]byte, 506)...)))
		}
		ring.Write(cert.Bytes())
	}
	require.Greater(t, ring.Len(), 28<<20)
	before := heap()
	var told []wire.ImportProgress
	start := time.Now()
	preview, err := c.ReadKeyFile(t.Context(), ring.Bytes(), func(p wire.ImportProgress) { told = append(told, p) })
	require.NoError(t, err)
	assert.Len(t, preview.Keys, keys)
	done, err := c.LoadKeyFile(
		t.Context(), ring.Bytes(), "a distribution's ring", "", func(p wire.ImportProgress) { told = append(told, p) },
	)
	require.NoError(t, err)
	require.Len(t, done.Keys, keys)
	require.NotEmpty(t, told)
	assert.Equal(t, keys, told[len(told)-1].Total)
	t.Logf("read and imported in %s, told %d times", time.Since(start), len(told))
	again, err := c.LoadKeyFile(t.Context(), ring.Bytes(), "again", "", func(wire.ImportProgress) {})
	require.NoError(t, err)
	assert.Equal(t, "unchanged", string(again.Keys[0].Result))
	again.Keys, done.Keys, preview.Keys = nil, nil, nil
	t.Logf("%d MiB of heap before, %d behind", before>>20, heap()>>20)
	// What stays is the keyring, a few times the size of the file at most.
	assert.Eventually(
		t, func() bool { return heap() < before+4*uint64(ring.Len()) }, 20*time.Second, 200*time.Millisecond,
	)
}

func heap() uint64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}

// TestTooLargeKeyFile: whoever sends more than is taken learns why, while he is still
// sending.
func TestTooLargeKeyFile(t *testing.T) {
	s := testkit.Start(t)
	c := s.Client(t, "curator")
	_, err := c.LoadKeyFile(t.Context(), make([]byte, 129<<20), "zeros", "", func(wire.ImportProgress) {})
	var problem *client.Error
	require.ErrorAs(t, err, &problem)
	assert.Equal(t, http.StatusRequestEntityTooLarge, problem.Status)

	// One that does not ask first, and does not say how much there is.
	in, out := io.Pipe()
	go func() {
		for range 140 {
			if _, err := out.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
		out.Close()
	}()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.URL+"/api/v1/key-files?source=x", in)
	require.NoError(t, err)
	request.Header.Set("Content-Type", "application/octet-stream")
	request.Header.Set("Authorization", "Bearer "+s.Token(t, "curator"))
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Equal(t, http.StatusRequestEntityTooLarge, response.StatusCode)
	assert.Contains(t, string(text), "request-too-large")
	_, err = c.LoadKeyFile(t.Context(), []byte("no key"), "text", "", func(wire.ImportProgress) {})
	require.ErrorAs(t, err, &problem)
	assert.EqualValues(t, "not-a-key", problem.Code)
}
