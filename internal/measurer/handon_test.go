package measurer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
)

func one(name string, content []byte) Handed {
	sum := sha256.Sum256(content)
	return Handed{
		Path: name, Size: int64(len(content)), Digests: map[digest.Algorithm]digest.Value{digest.SHA256: sum[:]},
	}
}

// all lists the files in a folder.
func all(t *testing.T, dir string) (out []string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if !e.IsDir() {
			out = append(out, strings.TrimPrefix(path, dir+"/"))
		}
		return nil
	}))
	return out
}

func folder(t *testing.T) (string, *os.Root) {
	t.Helper()
	dir := t.TempDir()
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	t.Cleanup(func() { root.Close() })
	return dir, root
}

// opening is an [Opener] that is a function.
type opening func(offset int64) (io.ReadCloser, error)

func (o opening) OpenAt(_ context.Context, _ string, offset int64) (io.ReadCloser, error) {
	return o(offset)
}

// TestHandOnGoesOn: what is cut is gone on with where it stopped, and what was there before is
// not believed.
func TestHandOnGoesOn(t *testing.T) {
	content := bytes.Repeat([]byte("0123456789abcdef"), 1<<16)
	dir, root := folder(t)
	files := []Handed{one("bell.img", content)}
	lost := errors.New("the line is cut")
	require.NoError(t, HandOn(t.Context(), opening(func(offset int64) (io.ReadCloser, error) {
		assert.Zero(t, offset)
		return io.NopCloser(io.MultiReader(bytes.NewReader(content[:300_000]), iotest.ErrReader(lost))), nil
	}), root, files, nil))
	assert.Equal(t, lost.Error(), files[0].Why)
	left := all(t, dir)
	require.Len(t, left, 1)
	assert.True(t, strings.HasSuffix(left[0], ".part"))
	files[0].Why = ""
	require.NoError(t, HandOn(t.Context(), opening(func(offset int64) (io.ReadCloser, error) {
		assert.EqualValues(t, 300_000, offset, "not once more from the beginning")
		return io.NopCloser(bytes.NewReader(content[offset:])), nil
	}), root, files, nil))
	assert.Empty(t, files[0].Why)
	assert.Equal(t, []string{"bell.img"}, all(t, dir))

	// The source becomes shorter, longer, or goes away.
	for what, rest := range map[string][]byte{"shorter": content[:5000], "longer": append(bytes.Clone(content), 'x'), "empty": nil} {
		dir, root := folder(t)
		files := []Handed{one("bell.img", content)}
		require.NoError(t, HandOn(t.Context(), InFolder{fstest.MapFS{"bell.img": {Data: rest}}}, root, files, nil))
		assert.Contains(t, files[0].Why, "not what was verified", what)
		assert.Empty(t, all(t, dir), what)
	}
	dir, root = folder(t)
	files = []Handed{one("bell.img", content), {Path: "unmeasured"}}
	require.NoError(t, HandOn(t.Context(), InFolder{fstest.MapFS{}}, root, files, nil))
	assert.Contains(t, files[0].Why, "not exist")
	assert.Contains(t, files[1].Why, "nothing was measured")
	assert.Empty(t, all(t, dir))

	// A name as long as names can be, and one that leads elsewhere.
	dir, root = folder(t)
	long := strings.Repeat("x", 255)
	files = []Handed{one(long, content), one("../outside", content)}
	require.NoError(
		t,
		HandOn(
			t.Context(), InFolder{fstest.MapFS{long: {Data: content}, "outside": {Data: content}}}, root, files, nil,
		),
	)
	assert.Empty(t, files[0].Why)
	assert.NotEmpty(t, files[1].Why)
	assert.Equal(t, []string{long}, all(t, dir))
}

// TestHandOnToAFullStick: nothing half-copied stays, nothing is read for nothing, and the
// other files are tried.
func TestHandOnToAFullStick(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=1m"); err != nil {
		t.Skipf("a small file system cannot be mounted here: %v", err)
	}
	t.Cleanup(func() { assert.NoError(t, syscall.Unmount(dir, 0)) })
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()
	large, small := make([]byte, 8<<20), []byte("a note")
	files := []Handed{one("card.img", large), one("note.txt", small)}
	read := int64(0)
	require.NoError(
		t,
		HandOn(
			t.Context(), InFolder{fstest.MapFS{"card.img": {Data: large}, "note.txt": {Data: small}}}, root, files,
			func(n int64) { read += n },
		),
	)
	assert.Contains(t, files[0].Why, "no space left")
	assert.Empty(t, files[1].Why)
	assert.Equal(t, []string{"note.txt"}, all(t, dir))
	assert.Less(t, read, int64(6<<20))
}
