package verify_test

import (
	"bytes"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

var (
	born    = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	witness = measure.Attribution{Where: "service on kelp", By: "ines", At: born}
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
		"main.img": {Data: image},
		"main.img.sig": {
			Data: append(
				key.Sign(image, pgptest.Sig{Created: born}),
				key.Sign(image, pgptest.Sig{Created: born, Hash: pgptest.SHA384})...),
		},
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
	measured, err := verify.Measure(t.Context(), fsys, s, witness, digest.Gain{})
	require.NoError(t, err)
	for i := range s.Items {
		item := &s.Items[i]
		m := measured[item.Path]
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
				assert.Equal(
					t, measure.SignatureHash{File: "main.img.sig", Index: index, Digest: h.Sum(nil)},
					m.SignatureHashes[index],
				)
			}
		}
	}
	assert.Equal(t, total, read, "bytes read for verification")
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
		if container.Outermost(s.Items[i].Path) == "nl-200.zip" {
			items = append(items, &s.Items[i])
		}
	}
	require.Len(t, items, 2)
	read := int64(0)
	all, err := verify.Open(t.Context(), counting{files, &read}, verify.Files(items), witness, digest.Gain{}, nil)
	require.NoError(t, err)
	assert.EqualValues(t, len(archive), read)
	m := all["nl-200.zip//nl-200.img"]
	require.Nil(t, m.Problem)
	assert.EqualValues(t, len(image), m.Size)
	want := md5.Sum(image) //nolint:gosec // see above
	assert.Equal(t, want[:], []byte(m.Digests[digest.MD5]))
	whole := sha256.Sum256(archive)
	assert.Equal(t, whole[:], []byte(all["nl-200.zip"].Digests[digest.SHA256]))

	r, err := verify.Content(t.Context(), files, items[1], items[:1])
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(image, content))
	require.NoError(t, r.Close())

	// Replaced since it was looked into, it is not taken apart at the old places.
	files["nl-200.zip"] = &fstest.MapFile{Data: append(slices.Clone(archive), 0), ModTime: born}
	all, err = verify.Open(t.Context(), files, verify.Files(items), witness, digest.Gain{}, nil)
	require.NoError(t, err)
	require.NotNil(t, all["nl-200.zip//nl-200.img"].Problem)
	assert.Equal(t, measure.ChangedWhileReading, all["nl-200.zip//nl-200.img"].Problem.Code)
	assert.Nil(t, all["nl-200.zip"].Problem)
}
