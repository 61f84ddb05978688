package depots

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/measure"
	"endeixis/internal/fault"
)

func depot(t *testing.T) (*Depots, string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in", "deep"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a.img"), []byte("abc"), 0o600))
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "out")))
	require.NoError(t, os.Symlink("in", filepath.Join(dir, "alias")))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret"), filepath.Join(dir, "in", "leak")))
	return New(map[string]string{"quayside": dir}), dir
}

func TestOpenStaysInside(t *testing.T) {
	d, _ := depot(t)
	for folder, code := range map[string]fault.Code{
		"..": fault.FolderOutsideDepot, "in/../..": fault.FolderOutsideDepot, "/etc": fault.FolderOutsideDepot, "a\x00b": fault.FolderOutsideDepot,
		"out": fault.FolderOutsideDepot, "none": fault.FolderUnknown, "in/a.img": fault.NotAFolder,
	} {
		_, err := d.Open("quayside", folder)
		assert.True(t, fault.Is(err, code), "%q: %v", folder, err)
	}
	_, err := d.Open("attic", "")
	assert.True(t, fault.Is(err, fault.DepotUnknown))
	for _, folder := range []string{"", ".", "in", "in/", "alias", "./in/deep"} {
		f, err := d.Open("quayside", folder)
		require.NoError(t, err, folder)
		f.Close()
	}
}

func TestFiles(t *testing.T) {
	d, dir := depot(t)
	f, err := d.Open("quayside", "in")
	require.NoError(t, err)
	defer f.Close()
	entries, err := f.List()
	require.NoError(t, err)
	require.Len(t, entries, 3)
	assert.Equal(t, Entry{Name: "deep", Folder: true}, entries[0], "folders first")
	assert.Equal(t, Entry{Name: "a.img", Size: 3}, entries[1])
	content, err := fs.ReadFile(f.FS(), "a.img")
	require.NoError(t, err)
	assert.Equal(t, "abc", string(content))
	_, err = f.FS().Open("leak")
	assert.Error(t, err, "a link that leads out is not followed")
	_, err = f.FS().Open("../a")
	assert.ErrorIs(t, err, fs.ErrInvalid)

	// A pipe in a file's place must not hold the worker for ever.
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "in", "pipe"), 0o600))
	done := make(chan struct{})
	go func() {
		defer close(done)
		if file, err := f.FS().Open("pipe"); err == nil {
			file.Close()
		}
	}()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		t.Fatal("opening a pipe waited for a writer")
	}
}

// TestPipesInTheWay: nothing waits for somebody at the other end of a pipe.
func TestPipesInTheWay(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "release"), 0o755))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "release", "pipe"), 0o644))
	require.NoError(t, os.Symlink("pipe", filepath.Join(dir, "link")))
	d := New(map[string]string{"quayside": dir})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for _, folder := range []string{"pipe", "pipe/below", "release/pipe", "release/pipe/below", "link"} {
			_, err := d.Open("quayside", folder)
			assert.True(t, fault.Is(err, fault.NotAFolder), "%s: %v", folder, err)
		}
		f, err := d.Open("quayside", "release")
		if assert.NoError(t, err) {
			_, err = fs.ReadDir(f.FS(), "pipe")
			assert.Error(t, err)
			f.Close()
		}
	}()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("something waits for the pipe")
	}
}

// TestHostTrouble is not told as what it is not.
func TestHostTrouble(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "release"), 0o755))
	d := New(map[string]string{"quayside": dir})
	var before syscall.Rlimit
	require.NoError(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &before))
	spare, err := os.Open(dir)
	require.NoError(t, err)
	require.NoError(
		t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &syscall.Rlimit{Cur: uint64(spare.Fd()) + 1, Max: before.Max}),
	)
	_, err = d.Open("quayside", "release")
	require.NoError(t, syscall.Setrlimit(syscall.RLIMIT_NOFILE, &before))
	spare.Close()
	assert.True(t, fault.Is(err, fault.DepotUnreadable), "%v", err)
	assert.ErrorIs(t, err, syscall.EMFILE, "whoever tries again has to know")
}

// TestRewrittenWithItsTimesPutBack: a file whose content was replaced in place by
// as many bytes, and whose times were set back, is not the file that was surveyed.
func TestRewrittenWithItsTimesPutBack(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "release"), 0o755))
	name := filepath.Join(dir, "release", "gauge.img")
	require.NoError(t, os.WriteFile(name, []byte("image a"), 0o600))
	f, err := New(map[string]string{"quayside": dir}).Open("quayside", "release")
	require.NoError(t, err)
	defer f.Close()
	before, err := fs.Stat(f.FS(), "gauge.img")
	require.NoError(t, err)
	require.False(t, measure.ChangeTime(before).IsZero())
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, os.WriteFile(name, []byte("image b"), 0o600))
	require.NoError(t, os.Chtimes(name, time.Now(), before.ModTime()))
	opened, err := f.FS().Open("gauge.img")
	require.NoError(t, err)
	defer opened.Close()
	after, err := opened.Stat()
	require.NoError(t, err)
	assert.Equal(t, before.ModTime(), after.ModTime())
	assert.NotEqual(t, measure.ChangeTime(before), measure.ChangeTime(after))
}
