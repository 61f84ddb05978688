package survey

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/openpgp/pgptest"
)

var born = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)

func line(content, name string) string {
	return fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(content)), name)
}

func folder(files map[string]string) fstest.MapFS {
	out := fstest.MapFS{}
	for name, content := range files {
		out[name] = &fstest.MapFile{Data: []byte(content), Mode: 0o644}
	}
	return out
}

// run surveys a folder as it is done where the files are elsewhere: what was
// found travels as JSON before it is planned, and nothing is lost on the way.
func run(t *testing.T, fsys fs.FS) (*Survey, map[string]Item) {
	t.Helper()
	found, err := Gather(t.Context(), fsys, Limits{})
	require.NoError(t, err)
	text, err := json.Marshal(found)
	require.NoError(t, err)
	var arrived Findings
	require.NoError(t, json.Unmarshal(text, &arrived))
	s, err := Plan(&arrived, Options{})
	require.NoError(t, err)
	here, err := Plan(found, Options{})
	require.NoError(t, err)
	require.Equal(t, here, s)
	again, err := Plan(found, Options{})
	require.NoError(t, err)
	require.Equal(t, here, again, "planning changes nothing of what was found")
	items := map[string]Item{}
	for _, item := range s.Items {
		items[item.Path] = item
	}
	return s, items
}

func TestRolesAndPairs(t *testing.T) {
	key := pgptest.NewKey("survey", pgptest.Ed25519, born)
	sig := string(key.Sign([]byte("x"), pgptest.Sig{Created: born}))
	s, items := run(t, folder(map[string]string{
		"boot.img":           "boot",
		"deep/main.img":      "main",
		"notes.txt":          "what changed in this release\n",
		"SHA256SUMS":         line("boot", "boot.img") + line("main", "./deep/main.img") + line("gone", "gone.img"),
		"SHA256SUMS.sig":     sig,
		"boot.img.asc":       string(pgptest.Armor("PGP SIGNATURE", []byte(sig))),
		"deep/list":          line("main", "main.img"),
		"publisher.asc":      string(pgptest.Simple("survey", pgptest.Ed25519, born, "T").Armored()),
		"other/one.img":      "1",
		"other/release.sig":  sig,
		"many/a.img":         "1",
		"many/b.img":         "1",
		"many/unclear.sig":   sig,
		"deep/empty.img.sig": "",
		"deep/empty.img":     "",
	}))
	roles := map[string]Role{}
	for path, item := range items {
		roles[path] = item.Role
		assert.NotEmpty(t, item.Why)
	}
	assert.Equal(t, map[string]Role{
		"boot.img": Artifact, "deep/main.img": Artifact, "notes.txt": Artifact, "SHA256SUMS": Manifest,
		"SHA256SUMS.sig": Signature, "boot.img.asc": Signature, "deep/list": Manifest, "publisher.asc": Key,
		"other/one.img": Artifact, "other/release.sig": Signature, "many/a.img": Artifact, "many/b.img": Artifact,
		"many/unclear.sig": Signature, "deep/empty.img.sig": Signature, "deep/empty.img": Artifact,
	}, roles)

	require.Len(t, items["boot.img"].Listed, 1)
	require.Len(t, items["boot.img"].Signatures, 1)
	assert.Equal(t, "it is named after this file", items["boot.img"].Signatures[0].Why)
	require.Len(t, items["deep/main.img"].Listed, 2, "one manifest above, one beside it")
	assert.Equal(t, digest.OfSize(32), items["deep/main.img"].Digests, "a list without a label leaves several readings")
	assert.Equal(t, []digest.Algorithm{digest.SHA256}, items["boot.img"].Digests)
	require.Len(t, items["SHA256SUMS"].Signatures, 1)
	require.Len(t, items["other/one.img"].Signatures, 1, "the only artifact beside it")
	assert.Contains(t, items["other/one.img"].Signatures[0].Why, "only artifact")
	for _, path := range []string{"many/a.img", "many/b.img"} {
		require.Len(t, items[path].Signatures, 1, "both readings are kept")
		assert.True(t, items[path].Signatures[0].Doubtful)
		assert.Contains(t, items[path].Signatures[0].Why, "which of 2 files")
	}
	assert.False(t, items["other/one.img"].Signatures[0].Doubtful)
	require.Len(t, items["deep/empty.img"].Signatures, 1)
	require.NotNil(t, items["deep/empty.img"].Signatures[0].Problem)
	assert.Contains(t, items["deep/empty.img"].Signatures[0].Problem.Message, "empty")
	require.Len(t, s.Absent, 1)
	assert.Equal(t, []any{"gone.img", "SHA256SUMS", 3}, []any{s.Absent[0].Name, s.Absent[0].Manifest, s.Absent[0].Line})
	assert.Len(t, s.Absent[0].Digest, 32)
	assert.Contains(t, s.Contents, "SHA256SUMS")
	assert.NotContains(t, s.Contents, "boot.img", "an artifact is not read by the survey")
}

func TestSignedTextIsNotParsed(t *testing.T) {
	_, items := run(t, folder(map[string]string{
		"boot.img": "boot",
		"SHA256SUMS": "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n" + line(
			"boot", "boot.img",
		) + "-----BEGIN PGP SIGNATURE-----\n",
	}))
	assert.Empty(t, items["boot.img"].Listed, "nothing inside the frame counts before it is verified")
	assert.Equal(t, Manifest, items["SHA256SUMS"].Role)
}

func TestSecretKeyIsNoticed(t *testing.T) {
	made := pgptest.Simple("survey", pgptest.Ed25519, born, "T")
	_, items := run(t, folder(map[string]string{"keys.gpg": string(made.Secret())}))
	require.NotNil(t, items["keys.gpg"].Problem)
	assert.Contains(t, items["keys.gpg"].Problem.Message, "secret key")
}

// TestHostileFolder uses a real directory: links out, pipes and links to
// directories are reported and never opened.
func TestHostileFolder(t *testing.T) {
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "secret.txt"), []byte("secret"), 0o600))
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "inside.img"), []byte("in"), 0o600))
	require.NoError(t, os.Symlink(filepath.Join(outside, "secret.txt"), filepath.Join(dir, "leak.txt")))
	require.NoError(t, os.Symlink("../"+filepath.Base(outside)+"/secret.txt", filepath.Join(dir, "leak2.sig")))
	require.NoError(t, os.Symlink("inside.img", filepath.Join(dir, "alias.img")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "dangling.img")))
	require.NoError(t, os.Symlink(".", filepath.Join(dir, "loop")))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "SHA256SUMS"), 0o600))
	root, err := os.OpenRoot(dir)
	require.NoError(t, err)
	defer root.Close()

	s, items := run(t, root.FS())
	for path, code := range map[string]measure.ProblemCode{
		"leak.txt": measure.LeavesDepot, "leak2.sig": measure.LeavesDepot, "dangling.img": measure.Unreadable, "loop": measure.NotAFile, "SHA256SUMS": measure.NotAFile,
	} {
		require.NotNil(t, items[path].Problem, path)
		assert.Equal(t, code, items[path].Problem.Code, path)
	}
	assert.Nil(t, items["alias.img"].Problem, "a link that stays inside is followed")
	assert.Nil(t, items["inside.img"].Problem)
	assert.Empty(t, s.Contents)
}

func TestLimits(t *testing.T) {
	_, err := Run(
		t.Context(), folder(map[string]string{"a": "1", "b": "2", "c": "3"}), Options{Limits: Limits{Files: 2}},
	)
	var many *TooManyFilesError
	require.ErrorAs(t, err, &many)

	s, err := Run(
		t.Context(), folder(map[string]string{"SHA256SUMS": strings.Repeat(line("x", "x.img"), 50), "x.img": "x"}),
		Options{Limits: Limits{ControlFile: 1000}},
	)
	require.NoError(t, err)
	require.NotNil(t, s.Items[0].Problem)
	assert.Equal(t, measure.TooLarge, s.Items[0].Problem.Code)
	assert.Empty(t, s.Contents)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Run(ctx, folder(map[string]string{"a": "1"}), Options{})
	require.ErrorIs(t, err, context.Canceled)
	_, err = Run(t.Context(), os.DirFS(filepath.Join(t.TempDir(), "nowhere")), Options{})
	require.ErrorIs(t, err, fs.ErrNotExist)
	s, err = Run(t.Context(), fstest.MapFS{}, Options{})
	require.NoError(t, err)
	assert.Empty(t, s.Items)
}

// TestHugeManifestIsNotOpened uses a sparse file of 2 GiB.
func TestHugeManifestIsNotOpened(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "SHA256SUMS"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(2<<30))
	require.NoError(t, f.Close())
	s, items := run(t, os.DirFS(dir))
	require.NotNil(t, items["SHA256SUMS"].Problem)
	assert.Equal(t, measure.TooLarge, items["SHA256SUMS"].Problem.Code)
	assert.Contains(t, items["SHA256SUMS"].Problem.Message, "2147483648")
	assert.Empty(t, s.Contents)
}

// TestUnlistedFilesAreReadForWhatIsAbsent plans the digests by which a renamed
// file can be recognised.
func TestUnlistedFilesAreReadForWhatIsAbsent(t *testing.T) {
	_, items := run(t, folder(map[string]string{
		"here.img":  "1",
		"stray.img": "2",
		"MD5SUMS":   "00000000000000000000000000000000  here.img\n11111111111111111111111111111111  gone.img\n",
	}))
	assert.Equal(t, []digest.Algorithm{digest.MD5, digest.SHA256}, items["stray.img"].Digests)
	_, items = run(
		t,
		folder(
			map[string]string{
				"here.img": "1", "stray.img": "2", "MD5SUMS": "00000000000000000000000000000000  here.img\n",
			},
		),
	)
	assert.Equal(t, []digest.Algorithm{digest.SHA256}, items["stray.img"].Digests)
}

// TestCorrections pair by hand what the names leave open.
func TestCorrections(t *testing.T) {
	key := pgptest.NewKey("survey", pgptest.Ed25519, born)
	files := folder(
		map[string]string{
			"a.img": "a", "b.img": "b",
			"release.sig": string(key.Sign([]byte("b"), pgptest.Sig{Created: born})),
		},
	)
	s, err := Run(t.Context(), files, Options{Corrections: []Correction{{Signature: "release.sig", File: "b.img"}}})
	require.NoError(t, err)
	assert.Empty(t, s.Items[0].Signatures)
	require.Len(t, s.Items[1].Signatures, 1)
	assert.Contains(t, s.Items[1].Signatures[0].Why, "by hand")
	for _, bad := range []Correction{{"a.img", "b.img"}, {"none.sig", "a.img"}, {"release.sig", "none.img"}, {"release.sig", "release.sig"}} {
		_, err := Run(t.Context(), files, Options{Corrections: []Correction{bad}})
		var wrong *CorrectionError
		require.ErrorAs(t, err, &wrong)
		assert.Equal(t, bad, wrong.Correction)
	}
}

// opened counts the bytes that are read of each file.
type opened struct {
	fstest.MapFS
	read map[string]int64
}

type openedFile struct {
	fs.File
	name string
	read map[string]int64
}

func (o opened) Open(name string) (fs.File, error) {
	f, err := o.MapFS.Open(name)
	return openedFile{f, name, o.read}, err
}

func (f openedFile) ReadAt(p []byte, at int64) (int, error) {
	n, err := f.File.(io.ReaderAt).ReadAt(p, at)
	f.read[f.name] += int64(n)
	return n, err
}

// TestLooksInside tells which members become items, and what is read for it.
func TestLooksInside(t *testing.T) {
	noise := make([]byte, 1<<20)
	rand.NewChaCha8([32]byte{}).Read(noise)
	big := string(noise)
	files := opened{folder(map[string]string{
		"MD5SUMS": "0cc175b9c0f1b6a831c399e269772661  nl-200.img\n00000000000000000000000000000000  gone.img\n",
		"nl.zip": string(
			packtest.Zip(
				"nl-200.img", big, "readme.md", "x", "docs/SHA256SUMS", line("g", "guide.pdf")+line("?", "lost.pdf"),
				"docs/guide.pdf", "g", "docs/other.pdf", "o",
			),
		),
		"signed.tgz": string(packtest.Gzip(packtest.Tar("a.img", "a"))),
		"plain.tar":  string(packtest.Tar("b.img", "b", "CHECKSUMS.md5", "92eb5ffee6ae2fec3ad71c777531578f  b.img\n")),
		"broken.zip": "PK\x03\x04 and then nothing",
		"not.iso":    "just text",
		"deep.zip": string(
			packtest.Zip(
				"two.zip",
				string(
					packtest.Zip(
						"three.zip", string(packtest.Zip("four.zip", string(packtest.Zip("nl-200.img", "x")))),
						"gone.img", "y",
					),
				),
			),
		),
	}), map[string]int64{}}
	s, items := run(t, files)
	var paths []string
	for _, item := range s.Items {
		paths = append(paths, item.Path)
	}
	assert.Equal(t, []string{
		"MD5SUMS",
		"broken.zip",
		"deep.zip",
		"deep.zip//two.zip",
		"deep.zip//two.zip//gone.img",
		"nl.zip",
		"nl.zip//docs/SHA256SUMS",
		"nl.zip//docs/guide.pdf",
		"nl.zip//nl-200.img",
		"not.iso",
		"plain.tar",
		"plain.tar//CHECKSUMS.md5",
		"plain.tar//b.img",
		"signed.tgz",
	}, paths, "what lies four deep is not looked at")
	assert.Equal(t, Manifest, items["nl.zip//docs/SHA256SUMS"].Role)
	assert.Len(t, items["nl.zip//docs/guide.pdf"].Listed, 1)
	assert.Equal(t, 3, items["nl.zip"].Holds.Spoken)
	assert.Equal(t, "zip archive with 5 members", items["nl.zip"].Holds.String())
	assert.Contains(t, items["broken.zip"].Holds.Trouble, "cut short")
	assert.Nil(t, items["not.iso"].Holds)
	require.Len(t, s.Absent, 1)
	assert.Equal(t, "lost.pdf", s.Absent[0].Name)
	assert.Less(
		t, files.read["nl.zip"], int64(len(files.MapFS["nl.zip"].Data)/2),
		"of a zip the directory is read, and what can be a list",
	)

	// A compressed archive that something speaks of is not read through.
	content := packtest.Gzip(packtest.Tar("a.img", big))
	files = opened{
		folder(map[string]string{"a.tgz": string(content), "SHA256SUMS": line(string(content), "a.tgz")}),
		map[string]int64{},
	}
	_, items = run(t, files)
	assert.Zero(t, files.read["a.tgz"])
	assert.Nil(t, items["a.tgz"].Holds)
}
