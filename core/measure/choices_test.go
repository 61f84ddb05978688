package measure

import (
	"crypto/sha256"
	"crypto/sha3"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
)

// counted counts the bytes that are read of the files of a folder.
type counted struct {
	fs.FS
	read *int64
	// once is set for files that cannot be read again.
	once bool
}

func (c counted) Open(name string) (fs.File, error) {
	f, err := c.FS.Open(name)
	if err != nil {
		return nil, err
	}
	if c.once {
		return readOnce{f, c.read}, nil
	}
	return readAgain{f, f.(io.Seeker), c.read}, nil
}

type readOnce struct {
	fs.File
	read *int64
}

func (f readOnce) Read(b []byte) (int, error) {
	n, err := f.File.Read(b)
	*f.read += int64(n)
	return n, err
}

type readAgain struct {
	fs.File
	io.Seeker
	read *int64
}

func (f readAgain) Read(b []byte) (int, error) { return readOnce{f.File, f.read}.Read(b) }

func TestSecondChoicesWaitForTheFirst(t *testing.T) {
	content := []byte("tide tables of the outer mole, revision 7\n")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.bin"), content, 0o600))
	likely, other := sha256.Sum256(content), sha3.Sum256(content)
	for name, c := range map[string]struct {
		stated []byte
		once   bool
		reads  int64
		second []byte
	}{
		"the likeliest fits":             {stated: likely[:], reads: 1},
		"another fits":                   {stated: other[:], reads: 2, second: other[:]},
		"it cannot be read again":        {stated: likely[:], once: true, reads: 1, second: other[:]},
		"it cannot, and another may fit": {stated: other[:], once: true, reads: 1, second: other[:]},
	} {
		t.Run(name, func(t *testing.T) {
			unless := &Unless{Algorithm: digest.SHA256, Digest: c.stated}
			target := &Target{
				Path: "tides.bin",
				Tasks: []Task{
					{Algorithm: digest.SHA256}, {Algorithm: digest.SHA3256, Unless: unless}, {Algorithm: digest.MD5},
				},
			}
			read := int64(0)
			r, err := openOne(t.Context(), counted{os.DirFS(dir), &read, c.once}, target, nil)
			require.NoError(t, err)
			require.Nil(t, r.Problem)
			assert.Equal(t, c.reads*int64(len(content)), read)
			require.Len(t, r.Results, 3)
			assert.Equal(t, digest.Value(likely[:]), r.Results[0].Digest)
			assert.Equal(t, digest.Value(c.second), r.Results[1].Digest)
			assert.Len(t, r.Results[2].Digest, 16)
			assert.Equal(t, len(c.stated) > 0 && string(c.stated) == string(likely[:]), target.Spared(1, r.Results))
			assert.False(t, target.Spared(0, r.Results), "a first choice is always needed")
			assert.False(t, target.Spared(1, r.Results[:1]), "what has other results than tasks spares none")
		})
	}
}

// rewritten is a file that has other bytes when it is read again.
type rewritten struct{ readAgain }

func (f rewritten) Seek(offset int64, whence int) (int64, error) {
	n, err := f.Seeker.Seek(offset, whence)
	*f.read = 1
	return n, err
}

func (f rewritten) Read(b []byte) (int, error) {
	n, err := f.File.Read(b)
	if n > 0 && *f.read == 1 {
		b[0] ^= 1
	}
	return n, err
}

type rewrites struct {
	fs.FS
	state *int64
}

func (r rewrites) Open(name string) (fs.File, error) {
	f, err := r.FS.Open(name)
	if err != nil {
		return nil, err
	}
	return rewritten{readAgain{f, f.(io.Seeker), r.state}}, nil
}

func TestASecondReadThatDiffersIsTold(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.bin"), []byte("tides"), 0o600))
	state := int64(0)
	target := &Target{
		Path: "tides.bin",
		Tasks: []Task{
			{Algorithm: digest.SHA256},
			{Algorithm: digest.BLAKE3, Unless: &Unless{Algorithm: digest.SHA256, Digest: make([]byte, 32)}},
		},
	}
	r, err := openOne(t.Context(), rewrites{os.DirFS(dir), &state}, target, nil)
	require.NoError(t, err)
	require.NotNil(t, r.Problem)
	assert.Equal(t, ChangedWhileReading, r.Problem.Code)
}
