package measure

import (
	"bytes"
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
)

var (
	born    = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	witness = Witness{Where: "service on kelp", By: "ines", At: born}
)

// counting counts the bytes that are read through it.
type counting struct {
	fs.FS
	read *int64
}

func (c counting) Open(name string) (fs.File, error) {
	f, err := c.FS.Open(name)
	return countingFile{f, c.read}, err
}

func (c counting) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(c.FS, name) }

type countingFile struct {
	fs.File
	read *int64
}

func (f countingFile) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	*f.read += int64(n)
	return n, err
}

// TestEveryByteIsReadOnce surveys and measures a folder with manifests,
// several algorithms and several signatures, and counts.
func TestEveryByteIsReadOnce(t *testing.T) {
	image := bytes.Repeat([]byte("gauge"), 300_000)
	list := fmt.Sprintf("%x  main.img\n%x  main.img\n", sha256.Sum256(image), sha512.Sum512(image))
	key := pgptest.NewKey("measure", pgptest.Ed25519, born)
	files := fstest.MapFS{
		"main.img":        {Data: image},
		"main.img.sig":    {Data: append(key.Sign(image, pgptest.Sig{Created: born}), key.Sign(image, pgptest.Sig{Created: born, Hash: pgptest.SHA384})...)},
		"SUMS.sha256":     {Data: []byte(list)},
		"SUMS.sha256.sig": {Data: key.Sign([]byte(list), pgptest.Sig{Created: born})},
	}
	total := int64(0)
	for _, f := range files {
		total += int64(len(f.Data))
	}
	read := int64(0)
	fsys := counting{files, &read}
	s, err := survey.Run(t.Context(), fsys, survey.Options{})
	require.NoError(t, err)
	for i := range s.Items {
		item := &s.Items[i]
		var m Measurement
		if content, ok := s.Contents[item.Path]; ok {
			m, err = Bytes(t.Context(), bytes.NewReader(content), item, witness)
		} else {
			m, err = openOne(t.Context(), fsys, item, nil)
		}
		require.NoError(t, err)
		require.Nil(t, m.Problem)
		want := sha256.Sum256(files[item.Path].Data)
		assert.Equal(t, want[:], []byte(m.Digests[digest.SHA256]))
		if item.Path == "main.img" {
			require.Len(t, m.SignatureHashes, 2)
			wide := sha512.Sum512(image)
			assert.Equal(t, wide[:], []byte(m.Digests[digest.SHA512]))
			for index, want := range []string{"SHA-256", "SHA-384"} {
				sig, err := openpgp.ParseSignature(item.Signatures[index].Raw)
				require.NoError(t, err)
				assert.Equal(t, want, sig.Hash.String())
				h, err := sig.NewHash()
				require.NoError(t, err)
				h.Write(image)
				h.Write(sig.Trailer())
				assert.EqualValues(t, h.Sum(nil), m.HashOf("main.img.sig", index).Digest)
			}
			assert.Nil(t, m.HashOf("main.img.sig", 2).Digest)
		}
	}
	assert.Equal(t, total, read, "bytes read for verification")
}

// openOne measures a single file of a folder.
func openOne(ctx context.Context, fsys fs.FS, item *survey.Item, progress func(int64)) (Measurement, error) {
	all, err := Open(ctx, fsys, item.Path, []*survey.Item{item}, witness, progress)
	return all[item.Path], err
}

func artifact(path string) *survey.Item {
	return &survey.Item{Path: path, Role: survey.Artifact, Digests: []digest.Algorithm{digest.SHA256}}
}

func TestChangedWhileReading(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "main.img")
	require.NoError(t, os.WriteFile(path, make([]byte, 3<<20), 0o600))
	for name, change := range map[string]func(){
		"grown":     func() { require.NoError(t, os.WriteFile(path, make([]byte, 4<<20), 0o600)) },
		"cut":       func() { require.NoError(t, os.Truncate(path, 1<<20)) },
		"rewritten": func() { require.NoError(t, os.Chtimes(path, born, born)) },
	} {
		done := false
		m, err := openOne(t.Context(), os.DirFS(dir), artifact("main.img"), func(int64) {
			if !done {
				done = true
				change()
			}
		})
		require.NoError(t, err)
		require.NotNil(t, m.Problem, name)
		assert.Equal(t, ChangedWhileReading, m.Problem.Code, name)
	}
}

func TestProblems(t *testing.T) {
	m, err := openOne(t.Context(), fstest.MapFS{}, artifact("gone.img"), nil)
	require.NoError(t, err)
	require.NotNil(t, m.Problem)
	assert.Contains(t, m.Problem.Message, "no longer")
	assert.Equal(t, "ines", m.By)

	blocked := artifact("link.img")
	blocked.Problem = &survey.Problem{Code: survey.LeavesDepot, Message: "leads out"}
	m, err = openOne(t.Context(), nil, blocked, nil)
	require.NoError(t, err)
	assert.Equal(t, blocked.Problem, m.Problem, "it is never opened")

	m, err = Bytes(t.Context(), io.MultiReader(bytes.NewReader([]byte("x")), failing{}), artifact("bad.img"), witness)
	require.NoError(t, err)
	require.NotNil(t, m.Problem)
	assert.Contains(t, m.Problem.Message, "bad sector")

	m, err = openOne(t.Context(), fstest.MapFS{"dir/x": {}}, artifact("dir"), nil)
	require.NoError(t, err)
	assert.Contains(t, m.Problem.Message, "no longer a regular file")

	malformed := &survey.Item{Path: "a.sig", Role: survey.Signature, Digests: []digest.Algorithm{digest.SHA256}, Problem: &survey.Problem{Code: survey.Malformed}}
	m, err = openOne(t.Context(), fstest.MapFS{"a.sig": {Data: []byte("?")}}, malformed, nil)
	require.NoError(t, err)
	assert.Nil(t, m.Problem, "a file that is not understood still has a digest")
	assert.Len(t, m.Digests, 1)
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("bad sector") }

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	_, err := openOne(ctx, fstest.MapFS{"main.img": {Data: make([]byte, 8<<20)}}, artifact("main.img"), func(int64) { cancel() })
	require.ErrorIs(t, err, context.Canceled)
}

// TestInsideIsReadOnce measures what lies in an archive in the one read that
// hashes the archive itself.
func TestInsideIsReadOnce(t *testing.T) {
	image := bytes.Repeat([]byte("light "), 300_000)
	archive := packtest.Zip("nl-200.img", string(image), "notes.txt", "hello")
	list := fmt.Sprintf("%x  nl-200.img\n", md5.Sum(image)) //nolint:gosec // what such lists are made of
	files := fstest.MapFS{"nl-200.zip": {Data: archive, ModTime: born}, "MD5SUMS": {Data: []byte(list)}}
	s, err := survey.Run(t.Context(), files, survey.Options{})
	require.NoError(t, err)
	var items []*survey.Item
	for i := range s.Items {
		if survey.Outermost(s.Items[i].Path) == "nl-200.zip" {
			items = append(items, &s.Items[i])
		}
	}
	require.Len(t, items, 2)
	read := int64(0)
	all, err := Open(t.Context(), counting{files, &read}, "nl-200.zip", items, witness, nil)
	require.NoError(t, err)
	assert.EqualValues(t, len(archive), read)
	m := all["nl-200.zip//nl-200.img"]
	require.Nil(t, m.Problem)
	assert.EqualValues(t, len(image), m.Size)
	want := md5.Sum(image) //nolint:gosec // see above
	assert.Equal(t, want[:], []byte(m.Digests[digest.MD5]))
	whole := sha256.Sum256(archive)
	assert.Equal(t, whole[:], []byte(all["nl-200.zip"].Digests[digest.SHA256]))

	r, err := Content(t.Context(), files, items[1], items[:1])
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(image, content))
	require.NoError(t, r.Close())

	// Replaced since it was looked into, it is not taken apart at the old places.
	files["nl-200.zip"] = &fstest.MapFile{Data: append(slices.Clone(archive), 0), ModTime: born}
	all, err = Open(t.Context(), files, "nl-200.zip", items, witness, nil)
	require.NoError(t, err)
	require.NotNil(t, all["nl-200.zip//nl-200.img"].Problem)
	assert.Equal(t, ChangedWhileReading, all["nl-200.zip//nl-200.img"].Problem.Code)
	assert.Nil(t, all["nl-200.zip"].Problem)
}

// TestOpenMany measures files side by side and one after the other, with the
// same result.
func TestOpenMany(t *testing.T) {
	files := fstest.MapFS{}
	var items []*survey.Item
	total := int64(0)
	for i := range 100 {
		name := fmt.Sprintf("%03d.bin", i)
		content := bytes.Repeat([]byte{byte(i), 1, 2}, i*i*37)
		files[name] = &fstest.MapFile{Data: content}
		total += int64(len(content))
		items = append(items, &survey.Item{Path: name, Role: survey.Artifact, Digests: digest.Only(digest.MD5)})
	}
	items = append(items, &survey.Item{Path: "gone.bin", Role: survey.Artifact, Digests: digest.Only(digest.MD5)})
	var most atomic.Int64
	many, err := OpenMany(t.Context(), files, items, witness, func(read int64) { most.Store(max(most.Load(), read)) })
	require.NoError(t, err)
	require.Len(t, many, 101)
	assert.LessOrEqual(t, most.Load(), total)
	assert.NotNil(t, many["gone.bin"].Problem)
	for _, item := range items {
		require.True(t, OnlyMD5([]*survey.Item{item}))
		one, err := openOne(t.Context(), files, item, nil)
		require.NoError(t, err)
		assert.Equal(t, one, many[item.Path], item.Path)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = OpenMany(ctx, files, items, witness, nil)
	assert.ErrorIs(t, err, context.Canceled)
	assert.False(t, OnlyMD5([]*survey.Item{artifact("a")}))
}
