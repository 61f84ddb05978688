package measure

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container"
	"endeixis/core/container/packtest"
	"endeixis/core/digest"
)

var born = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)

// openOne measures a single file of a folder.
func openOne(ctx context.Context, fsys fs.FS, target *Target, progress func(int64)) (Reading, error) {
	all, err := Open(ctx, fsys, target.Path, []*Target{target}, progress)
	return all[target.Path], err
}

func artifact(path string) *Target {
	return &Target{Path: path, Tasks: []Task{{Algorithm: digest.SHA256}}}
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

	blocked := artifact("link.img")
	blocked.Problem = &Problem{Code: LeavesDepot, Message: "leads out"}
	m, err = openOne(t.Context(), nil, blocked, nil)
	require.NoError(t, err)
	assert.Equal(t, blocked.Problem, m.Problem, "it is never opened")

	m, err = Bytes(t.Context(), io.MultiReader(bytes.NewReader([]byte("x")), failing{}), artifact("bad.img"))
	require.NoError(t, err)
	require.NotNil(t, m.Problem)
	assert.Contains(t, m.Problem.Message, "bad sector")

	m, err = openOne(t.Context(), fstest.MapFS{"dir/x": {}}, artifact("dir"), nil)
	require.NoError(t, err)
	assert.Contains(t, m.Problem.Message, "no longer a regular file")

	malformed := artifact("a.sig")
	malformed.Problem = &Problem{Code: Malformed}
	m, err = openOne(t.Context(), fstest.MapFS{"a.sig": {Data: []byte("?")}}, malformed, nil)
	require.NoError(t, err)
	assert.Nil(t, m.Problem, "a file that is not understood still has a digest")
	assert.Len(t, m.Results, 1)
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("bad sector") }

func TestCancelled(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	_, err := openOne(
		ctx, fstest.MapFS{"main.img": {Data: make([]byte, 8<<20)}}, artifact("main.img"), func(int64) { cancel() },
	)
	require.ErrorIs(t, err, context.Canceled)
}

// TestOpenMany measures files side by side and one after the other, with the
// same result: files of one length and of all, and some that cannot be read.
func TestOpenMany(t *testing.T) {
	for _, algorithm := range []digest.Algorithm{digest.MD5, digest.SHA256} {
		gain := digest.AssumeGain(algorithm)
		files := fstest.MapFS{"dir/x": {}}
		var targets []*Target
		add := func(name string, content []byte) {
			files[name] = &fstest.MapFile{Data: content}
			targets = append(
				targets, &Target{Path: name, Size: int64(len(content)), Tasks: []Task{{Algorithm: algorithm}}},
			)
		}
		total := int64(0)
		for i := range 100 {
			content := bytes.Repeat([]byte{byte(i), 1, 2}, i*i*37)
			add(fmt.Sprintf("%03d.bin", i), content)
			total += int64(len(content))
		}
		targets = append(
			targets, &Target{Path: "gone.bin", Tasks: []Task{{Algorithm: algorithm}}},
			&Target{Path: "dir", Tasks: []Task{{Algorithm: algorithm}}},
		)
		var most atomic.Int64
		many, err := OpenMany(
			t.Context(), files, targets, gain, func(read int64) { most.Store(max(most.Load(), read)) },
		)
		require.NoError(t, err)
		require.Len(t, many, 102)
		assert.LessOrEqual(t, most.Load(), total)
		assert.NotNil(t, many["gone.bin"].Problem)
		assert.NotNil(t, many["dir"].Problem)
		for _, target := range targets {
			reading, err := openOne(t.Context(), files, target, nil)
			require.NoError(t, err)
			assert.Equal(t, reading, many[target.Path], target.Path)
		}
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		_, err = OpenMany(ctx, files, targets, gain, nil)
		assert.ErrorIs(t, err, context.Canceled)
	}
}

// TestGroups: what gains goes together, up to a bound; all else is by itself, and
// nothing is lost or there twice.
func TestGroups(t *testing.T) {
	file := func(size int64, tasks ...Task) []*Target { return []*Target{{Path: "x", Size: size, Tasks: tasks}} }
	sha, md5, sha512 := Task{Algorithm: digest.SHA256}, Task{Algorithm: digest.MD5}, Task{Algorithm: digest.SHA512}
	files := [][]*Target{
		file(1<<20, sha), file(1<<20, md5), file(1<<20, sha, md5), file(1<<20, sha512), file(1<<20, sha),
		file(100, sha), file(1<<20, Task{Algorithm: digest.SHA256, After: []byte("trailer")}),
		append(file(1<<20, sha), file(9, sha)...), file(groupBytes, sha), file(1<<20, sha), file(1<<20, md5),
	}
	gain := digest.AssumeGain(digest.MD5, digest.SHA256)
	groups := func(g digest.Gain) [][]int {
		return Groups(len(files), func(i int) []*Target { return files[i] }, g, 1)
	}
	assert.Equal(
		t, [][]int{{0, 2, 4}, {1}, {3}, {5}, {6}, {7}, {8}, {9}, {10}}, groups(gain),
		"two by MD5 are too few; what is too long in a group begins another",
	)
	assert.Len(t, groups(digest.Gain{}), len(files))
	many := func(n, cores int) [][]int {
		return Groups(n, func(int) []*Target { return file(1<<20, sha) }, gain, cores)
	}
	assert.Len(t, many(1000, 1), 8)
	assert.Len(t, many(64, 4), 4, "a group for each core")
	assert.Len(t, many(8, 4), 8, "each core has two: that is too few to gain")
}

// TestTasks computes what tasks say: bytes before and after, text, the
// uncompressed form, in one read.
func TestTasks(t *testing.T) {
	text := []byte("one\ntwo\r\nthree")
	packed := packtest.Gzip(text)
	sum := func(parts ...[]byte) digest.Value {
		s := sha256.Sum256(bytes.Join(parts, nil))
		return s[:]
	}
	before, after := []byte("salt"), []byte("trailer")
	for name, test := range map[string]struct {
		content []byte
		tasks   []Task
		want    []Result
	}{
		"a digest":              {text, []Task{{Algorithm: digest.SHA256}}, []Result{{Digest: sum(text)}}},
		"the same twice":        {text, []Task{{Algorithm: digest.SHA256}, {Algorithm: digest.SHA256}}, []Result{{Digest: sum(text)}, {Digest: sum(text)}}},
		"after, shared":         {text, []Task{{Algorithm: digest.SHA256}, {Algorithm: digest.SHA256, After: after}}, []Result{{Digest: sum(text)}, {Digest: sum(text, after)}}},
		"after, by itself":      {text, []Task{{Algorithm: digest.SHA256, After: after}}, []Result{{Digest: sum(text, after)}}},
		"before":                {text, []Task{{Algorithm: digest.SHA256}, {Algorithm: digest.SHA256, Before: before, After: after}}, []Result{{Digest: sum(text)}, {Digest: sum(before, text, after)}}},
		"text":                  {text, []Task{{Algorithm: digest.SHA256, Text: true, After: after}}, []Result{{Digest: sum([]byte("one\r\ntwo\r\nthree"), after)}}},
		"no text":               {[]byte("a\x00b"), []Task{{Algorithm: digest.SHA256, Text: true}}, []Result{{Digest: sum([]byte("a\x00b")), NotText: true}}},
		"uncompressed":          {packed, []Task{{Algorithm: digest.SHA256}, {Algorithm: digest.SHA256, Expanded: container.Gzip, After: after}}, []Result{{Digest: sum(packed)}, {Digest: sum(text, after)}}},
		"uncompressed, as text": {packed, []Task{{Algorithm: digest.SHA256, Expanded: container.Gzip, Text: true}}, []Result{{Digest: sum([]byte("one\r\ntwo\r\nthree"))}}},
		"cut off":               {packed[:len(packed)-9], []Task{{Algorithm: digest.SHA256}, {Algorithm: digest.SHA256, Expanded: container.Gzip}}, []Result{{Digest: sum(packed[:len(packed)-9])}, {}}},
	} {
		// As it travels: by JSON, to a program that does not know what for.
		travelled, err := json.Marshal(&Target{Path: "x", Tasks: test.tasks})
		require.NoError(t, err)
		var target Target
		require.NoError(t, json.Unmarshal(travelled, &target))
		r, err := Bytes(t.Context(), bytes.NewReader(test.content), &target)
		require.NoError(t, err)
		require.Nil(t, r.Problem, name)
		assert.Equal(t, test.want, r.Results, name)
		assert.Equal(t, name == "cut off", r.Unexpanded != "", name)
		back, err := json.Marshal(r)
		require.NoError(t, err)
		var arrived Reading
		require.NoError(t, json.Unmarshal(back, &arrived))
		assert.Equal(t, r, arrived, name)
	}
}
