package test

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/readback"
	"endeixis/internal/measurer"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// backJSON is what a readback prints.
type backJSON struct {
	ID      int64  `json:"id"`
	State   string `json:"state"`
	Verdict string `json:"verdict"`
	Items   []struct {
		N        int               `json:"n"`
		Verdict  string            `json:"verdict"`
		Now      *wire.Now         `json:"now"`
		Grounds  []judge.Ground    `json:"grounds"`
		Paths    []judge.ProofPath `json:"paths"`
		Readback *readback.Report  `json:"readback"`
		Against  *wire.Against     `json:"against"`
	} `json:"items"`
}

// readBack reads a medium back and returns what is printed, and as what the client ended.
func readBack(t *testing.T, s *testkit.Service, medium, against string, more ...string) (backJSON, int) {
	t.Helper()
	r := endeixis(
		t,
		s,
		"operator",
		append([]string{"readback", medium, "--against", against, "-o", "json"}, more...)...)
	require.Contains(t, []int{0, 10, 11}, r.code, r.err)
	var out backJSON
	require.NoError(t, json.Unmarshal([]byte(r.out), &out), r.out)
	require.Len(t, out.Items, 1)
	return out, r.code
}

// the month's disc, as it lies in the depot.
const (
	discFolder = "corran/chart-disc-2026-10"
	discName   = "chart-disc-2026-10.iso"
)

// TestWrittenDisc follows the chart table's disc from its folder to the medium: verified,
// written with a run-out behind it, read back; written badly, read back; and judged again
// when a key falls on which the image rests.
func TestWrittenDisc(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	image, err := os.ReadFile(filepath.Join(s.Depot, discFolder, discName))
	require.NoError(t, err)
	dir := t.TempDir()
	medium := func(name string, parts ...[]byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, bytes.Join(parts, nil), 0o644))
		return path
	}
	disc := medium("disc", image, make([]byte, 150*2048))
	against := "quayside:" + discFolder + "/" + discName

	r := endeixis(t, s, "operator", "readback", disc, "--against", against)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "was not verified yet")
	there := verified(t, s, "quayside:"+discFolder)
	n := itemNumber(t, there, discName)

	got, code := readBack(t, s, disc, against)
	assert.Zero(t, code)
	item := got.Items[0]
	assert.Equal(t, "cleared", item.Verdict)
	assert.Equal(t, there.ID, item.Against.Batch)
	assert.EqualValues(t, len(image), item.Readback.Length)
	assert.Equal(t, readback.Zeros, item.Readback.Tail.Kind)
	assert.EqualValues(t, 150*2048, item.Readback.Tail.Length)
	require.NotEmpty(t, item.Readback.Structures)
	assert.Equal(t, "ISO 9660 volume", item.Readback.Structures[0].Kind)
	require.Len(t, item.Paths, 1)
	assert.Equal(t, judge.Readback, item.Paths[0].Kind)
	assert.True(t, item.Paths[0].Complete)
	kinds := []string{}
	for _, l := range item.Paths[0].Links {
		kinds = append(kinds, l.Kind)
	}
	assert.Equal(t, []string{"medium", "image"}, kinds[:2])
	assert.Equal(t, "publisher", kinds[len(kinds)-1], "the path goes on as that of the image does")

	shown := endeixis(t, s, "operator", "readback", disc, "--against", against)
	assert.Contains(t, shown.out, "are exactly those of "+discName)
	assert.Contains(t, strings.Join(strings.Fields(shown.out), " "), "zeros follow the image")
	assert.LessOrEqual(t, strings.Count(shown.out, "\n"), 24, "it fits one screen")

	// The item's page tells which media were written from it.
	cl := s.Client(t, roles.Auditor)
	original, err := cl.Item(t.Context(), there.ID, n)
	require.NoError(t, err)
	require.Len(t, original.ReadBacks, 2)
	assert.Equal(t, got.ID, original.ReadBacks[1].Batch)
	assert.Equal(t, "disc", original.ReadBacks[1].Medium)

	shown = endeixis(t, s, "operator", "batch", "show", fmt.Sprint(there.ID), "--item", discName)
	assert.Contains(t, shown.out, "Read back from media")
	assert.Contains(t, shown.out, fmt.Sprintf("batch %d", got.ID))
	shown = endeixis(t, s, "operator", "batch", "show", fmt.Sprint(got.ID), "--item", "disc")
	assert.Contains(t, shown.out, "Proof by readback: complete")

	// On the pages too.
	b := open(t, s)
	b.signIn("auditor")
	b.visit(fmt.Sprintf("/batches/%d/items/%d", there.ID, n), "Read back from media")
	b.accessible("a file that was written to media")
	b.visit(fmt.Sprintf("/batches/%d", got.ID), "A medium, read back against")
	b.visit(fmt.Sprintf("/batches/%d/items/0", got.ID), "bytes were compared with")
	b.accessible("a medium that was read back")

	// The same image, named in every way.
	imageFile := filepath.Join(s.Depot, discFolder, discName)
	for _, way := range []string{imageFile, fmt.Sprintf("record:%d", *original.Record), original.Digests["SHA-256"], strings.ToUpper(original.Digests["SHA-256"])} {
		got, code := readBack(t, s, disc, way)
		assert.Zero(t, code, way)
		assert.Equal(t, n, got.Items[0].Against.N, way)
	}

	// Damage is located, by the service's digests and by the image itself.
	flipped := bytes.Clone(image)
	flipped[123_456] ^= 8
	bad := medium("bad", flipped, make([]byte, 2048))
	for _, way := range []string{against, imageFile} {
		got, code := readBack(t, s, bad, way)
		assert.Equal(t, 10, code)
		d := got.Items[0].Readback.Damage
		require.NotNil(t, d, way)
		assert.Equal(t, 1, d.Differing)
		require.Len(t, d.Differences, 1)
		assert.LessOrEqual(t, d.Differences[0].Offset, int64(123_456))
		assert.Greater(t, d.Differences[0].Offset+d.Differences[0].Length, int64(123_456))
	}
	shown = endeixis(t, s, "operator", "readback", bad, "--against", imageFile)
	assert.Equal(t, 10, shown.code)
	assert.Contains(t, shown.out, "offset 123456, 1 B: a single bit is flipped")

	// Of a file that nothing is known of, the value is that of what was given.
	unknown := medium("unknown", []byte("tides of another year"))
	shown = endeixis(t, s, "operator", "readback", unknown, "--against", unknown)
	assert.Equal(t, 11, shown.code)
	assert.Contains(t, shown.out, "SHA-256, as it was given:")

	// A file inside the image is a file too.
	inner, chart := "", []byte(nil)
	for _, item := range there.Items {
		for at := 0; chart == nil && strings.HasSuffix(item.Path, ".chart") && at+int(item.Size) < len(image); at += 2048 {
			if sum := sha256.Sum256(image[at : at+int(item.Size)]); hex.EncodeToString(
				sum[:],
			) == item.Digests["SHA-256"] {
				inner, chart = item.Path, image[at:at+int(item.Size)]
			}
		}
	}
	require.Contains(t, inner, "//")
	got, code = readBack(t, s, medium("chart", chart, make([]byte, 99)), "quayside:"+discFolder+"/"+inner)
	assert.Zero(t, code)
	assert.Equal(t, itemNumber(t, there, inner), got.Items[0].Against.N)

	got, code = readBack(t, s, medium("short", image[:len(image)-5000]), against)
	assert.Equal(t, 10, code)
	assert.Equal(t, judge.SizeMismatch, got.Items[0].Grounds[0].Code)

	got, _ = readBack(t, s, medium("stick", image, make([]byte, 4096), flipped), against)
	assert.Equal(t, readback.Content, got.Items[0].Readback.Tail.Kind, "an older edition is behind it")
	assert.Equal(t, "cleared", got.Items[0].Verdict)

	// When the image counts no more, neither does what was written from it.
	key := ""
	for _, g := range item.Grounds {
		if g.Signature != nil {
			key = string(g.Signature.Key)
		}
	}
	require.NotEmpty(t, key)
	r = endeixis(t, s, "curator", "keyring", "withdraw", key, "--reason", "it was on a laptop that is lost")
	require.Zero(t, r.code, r.err)
	require.Eventually(t, func() bool {
		row, err := cl.Item(t.Context(), got.ID, 0)
		return err == nil && row.Now != nil && row.Now.Verdict == judge.Unproven
	}, patience, 100*time.Millisecond)
	again, code := readBack(t, s, disc, against)
	assert.Equal(t, 11, code)
	var codes []judge.Code
	for _, g := range again.Items[0].Grounds {
		codes = append(codes, g.Code)
	}
	assert.Contains(t, codes, judge.SignerWithdrawn)
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestReadbackOfOtherThings: images that nobody verified, digests alone, files of addresses
// and bytes, several media.
func TestReadbackOfOtherThings(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	file := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, content, 0o644))
		return path
	}
	content := bytes.Repeat([]byte("gauge"), 100)
	image := file("gauge.img", content)
	flash := file("flash.bin", append(bytes.Clone(content), bytes.Repeat([]byte{0xff}, 3000)...))
	got, code := readBack(t, s, flash, image)
	assert.Equal(t, 11, code, "nobody vouches for it")
	assert.Equal(t, readback.Ones, got.Items[0].Readback.Tail.Kind)
	assert.Equal(t, judge.DigestMatch, got.Items[0].Grounds[0].Code)
	assert.Equal(t, judge.NotListed, got.Items[0].Grounds[1].Code)
	sum := endeixis(t, s, "operator", "digest", image, "-o", "json")
	var sums []struct{ Digests map[string]string }
	sum.decode(t, &sums)
	got, code = readBack(t, s, flash, sums[0].Digests["SHA-256"], "--length", "500")
	assert.Equal(t, 11, code)
	assert.Equal(t, "--length", got.Items[0].Readback.LengthFrom)
	_, code = readBack(t, s, flash, sums[0].Digests["SHA-256"], "--length", "499")
	assert.Equal(t, 10, code)
	// A value of another algorithm of that length is no other image.
	for _, algorithm := range []string{"blake3", "sha3-256", "sha-512/256", "md5"} {
		endeixis(t, s, "operator", "digest", image, "--algorithm", algorithm, "-o", "json").decode(t, &sums)
		for _, value := range sums[0].Digests {
			got, code := readBack(t, s, flash, value, "--length", "500")
			assert.Equal(t, 11, code, algorithm)
			assert.Equal(t, judge.DigestMatch, got.Items[0].Grounds[0].Code, algorithm)
			assert.Nil(t, got.Items[0].Readback.Damage)
		}
	}
	endeixis(t, s, "operator", "digest", image, "-o", "json").decode(t, &sums)

	var hexFile strings.Builder
	for at := 0; at < len(content); at += 16 {
		record := append([]byte{16, byte(at >> 8), byte(at), 0}, content[at:min(at+16, len(content))]...)
		record[0] = byte(len(record) - 4)
		total := byte(0)
		for _, b := range record {
			total += b
		}
		fmt.Fprintf(&hexFile, ":%X\n", append(record, -total))
	}
	hexFile.WriteString(":00000001FF\n")
	carried := file("gauge.hex", []byte(hexFile.String()))
	got, _ = readBack(t, s, flash, carried)
	assert.Equal(t, judge.DigestMatch, got.Items[0].Grounds[0].Code, "what it carries is compared")
	got, _ = readBack(t, s, carried, image)
	assert.Equal(t, judge.DigestMatch, got.Items[0].Grounds[0].Code)
	assert.Contains(t, got.Items[0].Readback.Carried, "Intel HEX")

	r := endeixisWith(
		t, []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "operator")}, "\n\nq\n", "readback",
		flash, "--against", image, "--each",
	)
	assert.Equal(t, 11, r.code)
	assert.Contains(t, r.err, "Media: 2 unproven.")

	got, code = readBack(t, s, file("broken.hex", []byte(":10010000214601360121470136007EFE09D2190141\n")), image)
	assert.Equal(t, 10, code)
	assert.Contains(t, got.Items[0].Readback.Carried, "checksum does not hold")

	// What cannot be, is said, and makes no batch.
	before, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	require.NoError(t, exec.CommandContext(t.Context(), "mkfifo", filepath.Join(dir, "pipe")).Run())
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{1, "is a folder", []string{dir, "--against", image}},
		{1, "is not there", []string{filepath.Join(dir, "sr9"), "--against", image}},
		{1, "is no medium", []string{"/dev/null", "--against", image}},
		{1, "is no medium", []string{filepath.Join(dir, "pipe"), "--against", image}},
		{1, "nothing on it", []string{file("empty", nil), "--against", image}},
		{2, "go with --against", []string{flash, "--each"}},
		{2, "is a folder", []string{flash, "--against", dir}},
		{2, "no digest", []string{flash, "--against", "gauge.img.old"}},
		{2, "at least one byte", []string{flash, "--against", sums[0].Digests["SHA-256"], "--length", "-4"}},
		{2, "goes with a digest", []string{flash, "--against", image, "--length", "4"}},
		{1, "nothing tells how long", []string{flash, "--against", sums[0].Digests["SHA-256"]}},
		{1, "is not the outcome of a file", []string{flash, "--against", "record:1"}},
		{1, "was not verified", []string{flash, "--against", "quayside:gauge.img"}},
	} {
		r := endeixis(t, s, "operator", append([]string{"readback"}, c.args...)...)
		assert.Equal(t, c.code, r.code, "%v: %s", c.args, r.err)
		assert.Contains(t, r.err, c.says, c.args)
	}
	after, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	assert.Len(t, after, len(before))
}

// publishes puts a folder with files into the depot, signed by a key that is admitted, and
// verifies it.
func publishes(t *testing.T, s *testkit.Service, folder string, files map[string][]byte) fullJSON {
	t.Helper()
	s.Write(t, folder, signed(keyAdmitted(t, s, folder), 1, files))
	return verified(t, s, "quayside:"+folder)
}

// keysBorn is when the keys of [keyAdmitted] were made.
var keysBorn = time.Date(2025, 1, 14, 9, 30, 0, 0, time.UTC)

// keyAdmitted makes a key that is admitted for corran.
func keyAdmitted(t *testing.T, s *testkit.Service, name string) *pgptest.Key {
	t.Helper()
	key := pgptest.NewKey(name, pgptest.Ed25519, keysBorn)
	made := pgptest.NewCertificate(key).
		UserID(
			"Signs "+name,
			pgptest.Sig{
				Created: keysBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)},
			},
		)
	fp := key.Fingerprint()
	c := s.Client(t, roles.Curator)
	_, err := c.ImportKeys(t.Context(), made.Bytes(), "a test", "")
	require.NoError(t, err)
	for _, channel := range []keyring.Channel{"letter", "phone"} {
		_, err := c.SightKey(t.Context(), fp, wire.NewSighting{Read: fp, Channel: channel, Place: "a test"})
		require.NoError(t, err)
	}
	_, err = c.AdmitKey(t.Context(), fp, wire.Admission{Typed: fp, Publisher: "corran", Reason: "a test"})
	require.NoError(t, err)
	return key
}

// signed adds a list of files to them, signed so many months after the key was made.
func signed(key *pgptest.Key, month int, files map[string][]byte) map[string][]byte {
	list := ""
	for _, name := range slices.Sorted(maps.Keys(files)) {
		list += fmt.Sprintf("%x  %s\n", sha256.Sum256(files[name]), name)
	}
	files["SHA256SUMS"] = []byte(list)
	files["SHA256SUMS.sig"] = key.Sign([]byte(list), pgptest.Sig{Created: keysBorn.AddDate(0, month, 0)})
	return files
}

// hexOf writes content as records of an Intel HEX file, so many bytes on each line.
func hexOf(at uint32, content []byte, each int) string {
	var out strings.Builder
	record := func(kind byte, address uint16, data []byte) {
		r := append([]byte{byte(len(data)), byte(address >> 8), byte(address), kind}, data...)
		total := byte(0)
		for _, b := range r {
			total += b
		}
		fmt.Fprintf(&out, ":%X\n", append(r, -total))
	}
	upper := uint32(0xffffffff)
	for i := 0; i < len(content); i += each {
		if high := (at + uint32(i)) >> 16; high != upper {
			upper = high
			record(4, 0, []byte{byte(high >> 8), byte(high)})
		}
		record(0, uint16(at+uint32(i)), content[i:min(i+each, len(content))])
	}
	return out.String()
}

// TestReadbackOfWhatIsInside: an image that is compressed, or carries bytes for addresses, is
// what is in it and what it is; a medium is compared with both.
func TestReadbackOfWhatIsInside(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	flash, options := bytes.Repeat([]byte("gauge firmware "), 300), []byte{0xaa, 0x55, 1, 2, 3, 4, 5, 6}
	card := bytes.Repeat([]byte("card of the mole "), 40_000)
	end := ":00000001FF\n"
	const at, opt = 0x0800_0000, 0x1fff_f800
	release := []byte(hexOf(at, flash, 16) + hexOf(opt, options, 16) + end)
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	_, err := w.Write(card)
	require.NoError(t, errors.Join(err, w.Close()))
	var bundle bytes.Buffer
	z := zip.NewWriter(&bundle)
	inner, err := z.Create("fw/inner.img")
	require.NoError(t, err)
	_, err = inner.Write(card)
	require.NoError(t, errors.Join(err, z.Close()))
	// More parts than are compared one by one.
	many := func(last byte) []byte {
		text := ""
		for i := range uint32(65) {
			text += hexOf(i<<21, []byte{byte(i), 1, 2, map[bool]byte{true: last, false: 3}[i == 64]}, 16)
		}
		return []byte(text + end)
	}
	b := publishes(
		t, s, "corran/inside",
		map[string][]byte{
			"many.hex":  many(3),
			"unset.hex": []byte(hexOf(at, flash, 16) + hexOf(opt, bytes.Repeat([]byte{0xff}, 16), 16) + end),
			"gauge.hex": release, "card.img.gz": packed.Bytes(), "bundle.zip": bundle.Bytes(),
		},
	)
	require.Equal(t, "cleared", *b.Verdict, b.Items)
	dir := t.TempDir()
	file := func(name string, content []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, content, 0o644))
		return path
	}
	altered := func(b []byte, at int) []byte {
		out := bytes.Clone(b)
		out[at] ^= 1
		return out
	}
	ff := bytes.Repeat([]byte{0xff}, 4096)
	for name, c := range map[string]struct {
		medium  []byte
		against string
		code    int
	}{
		"a copy of the file":                    {release, "gauge.hex", 0},
		"a dump of the flash":                   {flash, "gauge.hex", 0},
		"a dump with the rest of the flash":     {append(bytes.Clone(flash), ff...), "gauge.hex", 0},
		"the same in other records":             {[]byte(hexOf(at, flash, 32) + hexOf(opt, options, 8) + end), "gauge.hex", 0},
		"in S-records, flash alone":             {[]byte(hexOf(at, flash, 7) + end), "gauge.hex", 0},
		"an altered copy":                       {[]byte(hexOf(at, altered(flash, 100), 16) + hexOf(opt, options, 16) + end), "gauge.hex", 10},
		"an altered dump":                       {altered(flash, 4000), "gauge.hex", 10},
		"other options":                         {[]byte(hexOf(at, flash, 16) + hexOf(opt, altered(options, 0), 16) + end), "gauge.hex", 10},
		"fewer options":                         {[]byte(hexOf(at, flash, 16) + hexOf(opt, options[:7], 16) + end), "gauge.hex", 10},
		"a dump of all of the flash, as HEX":    {[]byte(hexOf(at, append(bytes.Clone(flash), ff...), 16) + hexOf(opt, append(bytes.Clone(options), 9), 16) + end), "gauge.hex", 0},
		"a dump that is too short":              {flash[:4000], "gauge.hex", 10},
		"a copy with many parts":                {many(3), "many.hex", 0},
		"the last of many parts altered":        {many(4), "many.hex", 10},
		"an erased flash, as options may be":    {ff, "unset.hex", 10},
		"nothing but the options":               {[]byte(hexOf(opt, options, 16) + end), "gauge.hex", 10},
		"a damaged copy":                        {altered(release, 30), "gauge.hex", 10},
		"the card that was written":             {card, "card.img.gz", 0},
		"the card with more behind it":          {append(bytes.Clone(card), make([]byte, 100_000)...), "card.img.gz", 0},
		"a copy of the compressed file":         {packed.Bytes(), "card.img.gz", 0},
		"the compressed file written to a card": {append(packed.Bytes(), make([]byte, 1<<20)...), "card.img.gz", 0},
		"an altered card":                       {altered(card, 123_456), "card.img.gz", 10},
		"an image inside of a bundle":           {card, "bundle.zip//fw/inner.img", 0},
		"an altered one":                        {altered(card, 7), "bundle.zip//fw/inner.img", 10},
	} {
		got, code := readBack(t, s, file("medium", c.medium), "quayside:corran/inside/"+c.against)
		assert.Equal(t, c.code, code, "%s: %v", name, told(got.Items[0].Grounds))
		if strings.Contains(c.against, "//") {
			continue
		}
		local, code := readBack(t, s, file("medium", c.medium), filepath.Join(s.Depot, "corran", "inside", c.against))
		assert.Equal(t, c.code, code, "%s, against the file here: %v", name, told(local.Items[0].Grounds))
		assert.Equal(t, got.Items[0].Readback.Form, local.Items[0].Readback.Form, name)
	}
	part, _ := readBack(t, s, file("dump", flash), "quayside:corran/inside/gauge.hex")
	assert.Contains(
		t, part.Items[0].Readback.Carried,
		"Parts of the image that were not compared, as the medium has nothing for their addresses: 1.",
	)
	got, _ := readBack(t, s, file("card", altered(card, 123_456)), "quayside:corran/inside/card.img.gz")
	assert.Contains(t, got.Items[0].Grounds[0].Sentence, "not those of the uncompressed form of card.img.gz")
	got, _ = readBack(t, s, file("dump", altered(flash, 100)), filepath.Join(s.Depot, "corran", "inside", "gauge.hex"))
	require.NotNil(t, got.Items[0].Readback.Damage)
	r := endeixis(
		t, s, "operator", "readback", file("card", card), "--against",
		"quayside:corran/inside/bundle.zip//fw/other.img",
	)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "it holds none of that name")
	got, _ = readBack(
		t, s, file("card", append(packed.Bytes(), make([]byte, 1<<20)...)), "quayside:corran/inside/card.img.gz",
	)
	assert.Contains(t, got.Items[0].Grounds[0].Sentence, "and not what is in it")
	got, _ = readBack(t, s, file("dump", altered(flash, 100)), filepath.Join(s.Depot, "corran", "inside", "gauge.hex"))
	assert.Equal(t, "a single bit is flipped", got.Items[0].Readback.Damage.Differences[0].Looks)
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestWhatIsOnTheMedium: a medium alone, of which nobody knows what should be on it; and parts
// of media.
func TestWhatIsOnTheMedium(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	firmware := bytes.Repeat([]byte("light controller "), 5000)
	padded := append(bytes.Clone(firmware), bytes.Repeat([]byte{0xff}, 128<<10-len(firmware))...) // its own end is FF
	b := publishes(t, s, "corran/lights", map[string][]byte{"light.bin": firmware, "padded.bin": padded})
	require.Equal(t, 2, b.Counts.Cleared)
	dir := t.TempDir()
	medium := func(content ...[]byte) string {
		path := filepath.Join(dir, "medium")
		require.NoError(t, os.WriteFile(path, bytes.Join(content, nil), 0o644))
		return path
	}
	erased := bytes.Repeat([]byte{0xff}, 1<<20)
	r := endeixis(t, s, "operator", "readback", medium(firmware, make([]byte, 5000)))
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, words(r), "exactly those of light.bin of batch")
	assert.Contains(t, r.err, "which has 85000 bytes; 5000 more follow")
	dumped := medium(firmware, make([]byte, 5000))
	r = endeixis(t, s, "operator", "spot", dumped)
	assert.Equal(t, 11, r.code, r.out+r.err)
	assert.Contains(t, words(r), "begins with light.bin, which was cleared and has 85000 bytes; 5000 more follow")
	r = endeixis(t, s, "operator", "readback", medium(padded, erased))
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, words(r), "exactly those of padded.bin of batch", "the longest says the most")
	before, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	firmware[100] ^= 1
	r = endeixis(t, s, "operator", "readback", medium(firmware, erased))
	assert.Equal(t, 11, r.code, r.out+r.err)
	assert.Contains(t, words(r), "begins with no file that was cleared here")
	assert.Contains(t, r.err, "Nothing is on record")
	after, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	assert.Len(t, after, len(before))
	firmware[100] ^= 1

	// Somewhere on the medium, and in a partition of it.
	table := make([]byte, 8192)
	table[510], table[511], table[446+4], table[446+8], table[446+12] = 0x55, 0xaa, 0x83, 16, 200
	card := medium(table, firmware, erased)
	for _, where := range [][]string{{"--offset", "8192"}, {"--partition", "1"}} {
		r = endeixis(
			t,
			s,
			"operator",
			append([]string{"readback", card, "--against", "quayside:corran/lights/light.bin"}, where...)...)
		assert.Zero(t, r.code, r.out+r.err)
		assert.Contains(t, words(r), "The 85000 bytes of the medium from offset 8192 on are exactly those of light.bin")
		r = endeixis(t, s, "operator", append([]string{"readback", card}, where...)...)
		assert.Zero(t, r.code, r.out+r.err)
	}
	for says, args := range map[string][]string{
		"has no partition 2. There are 1 (102400 bytes from 8192 on)": {"--partition", "2"},
		"no part of 0 from 99999999 on":                               {"--offset", "99999999"},
		"both say where it begins":                                    {"--offset", "1", "--partition", "1"},
	} {
		r = endeixis(
			t,
			s,
			"operator",
			append([]string{"readback", card, "--against", "quayside:corran/lights/light.bin"}, args...)...)
		assert.NotZero(t, r.code)
		assert.Contains(t, r.err, says)
	}
	// On site, by what a satchel knows.
	v := visit(t, s, "corran")
	r = v.on("spot", medium(firmware, make([]byte, 5000)))
	assert.Equal(t, 11, r.code, r.out+r.err)
	assert.Contains(t, words(r), "begins with light.bin")
	r = v.on("readback", medium(firmware, make([]byte, 5000)))
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, words(r), "exactly those of light.bin")
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// scratched is a medium that cannot be read in a place, or that is gone from one on.
type scratched struct {
	*bytes.Reader
	from, to, gone int64
}

func (m scratched) ReadAt(p []byte, off int64) (int, error) {
	end := off + int64(len(p))
	switch {
	case m.gone > 0 && end > m.gone:
		return 0, &readback.GoneError{Err: errors.New("no such device")}
	case off < m.to && end > m.from && off < m.from:
		n, _ := m.Reader.ReadAt(p[:m.from-off], off)
		return n, errors.New("input/output error")
	case off < m.to && end > m.from:
		return 0, errors.New("input/output error")
	}
	return m.Reader.ReadAt(p, off)
}

// TestScratchedMedium: what cannot be read is located and on record; a medium that vanishes
// leaves nothing that is judged.
func TestScratchedMedium(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	there := verified(t, s, "quayside:"+discFolder)
	image, err := os.ReadFile(filepath.Join(s.Depot, discFolder, discName))
	require.NoError(t, err)
	c := s.Client(t, roles.Operator)
	read := func(m io.ReaderAt) (wire.Batch, error) {
		medium := &measurer.Medium{
			ReaderAt: m, Info: readback.Medium{Name: "/dev/sr0", Size: int64(len(image)), Serial: "K\x1b[2JX"},
			Cache: readback.Avoided,
		}
		b, err := c.RunBatch(t.Context(), wire.NewBatch{
			Against:  &wire.NewAgainst{Depot: "quayside", Path: discFolder + "/" + discName},
			Measurer: &wire.Measurer{Kind: measure.Client, Host: "chart-table", Path: "/dev/sr0"},
		}, "")
		require.NoError(t, err)
		require.NotNil(t, b.Against)
		assert.Equal(t, there.ID, b.Against.Batch)
		require.NoError(t, measurer.ListMedium(t.Context(), c, b.ID, medium))
		surveyed, err := measurer.Surveyed(t.Context(), c, b.ID)
		require.NoError(t, err)
		surveyed.Against = b.Against
		_, err = measurer.ReadBack(
			t.Context(), c, surveyed,
			measurer.Back{
				Medium: medium, Original: measurer.File{Image: bytes.NewReader(image), Length: int64(len(image))},
			},
			nil,
		)
		return b, err
	}
	b, err := read(scratched{Reader: bytes.NewReader(image), from: 200_000, to: 200_100})
	require.NoError(t, err)
	b, err = c.Follow(t.Context(), b.ID, nothing)
	require.NoError(t, err)
	item, err := c.Item(t.Context(), b.ID, 0)
	require.NoError(t, err)
	assert.Equal(t, judge.Unproven, *item.Verdict)
	assert.Equal(t, judge.Unreadable, item.Grounds[0].Code)
	require.Len(t, item.Readback.Unreadable, 1)
	assert.LessOrEqual(t, item.Readback.Unreadable[0].Offset, int64(200_000))
	assert.Contains(t, item.Readback.Damage.Map, "!")
	assert.NotContains(t, item.Readback.Medium.Serial, "\x1b", "what a device calls itself is made harmless")

	b, err = read(scratched{Reader: bytes.NewReader(image), gone: 100_000})
	var gone *readback.GoneError
	require.ErrorAs(t, err, &gone)
	got, err := c.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.False(t, got.Closed(), "it waits, and ends as not measured")
	assert.Zero(t, got.Progress.ItemsDone)
}

// TestReadbackAPI: what a client of another make may send.
func TestReadbackAPI(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	there := verified(t, s, "quayside:"+discFolder)
	c := s.Client(t, roles.Operator)
	here := &wire.Measurer{Kind: measure.Client, Host: "chart-table", Path: "/dev/sr0"}
	for name, r := range map[string]wire.NewBatch{
		"two":     {Measurer: here, Against: &wire.NewAgainst{Record: 1, Digest: "aa"}},
		"none":    {Measurer: here, Against: &wire.NewAgainst{}},
		"console": {Measurer: &wire.Measurer{Kind: measure.Console, Host: "x", Path: "y"}, Against: &wire.NewAgainst{Record: 1}},
		"depot":   {Depot: "quayside", Path: discFolder, Against: &wire.NewAgainst{Record: 1}},
		"out":     {Measurer: here, Against: &wire.NewAgainst{Depot: "quayside", Path: "../../etc/passwd"}},
		"short":   {Measurer: here, Against: &wire.NewAgainst{Digest: "abcd", Length: 5}},
	} {
		_, err := c.RunBatch(t.Context(), r, "")
		assert.Error(t, err, name)
	}
	// The key of one request is not that of another.
	aa := wire.NewBatch{Measurer: here, Against: &wire.NewAgainst{Digest: strings.Repeat("aa", 32), Length: 5}}
	batch, err := c.RunBatch(t.Context(), aa, "key")
	require.NoError(t, err)
	again, err := c.RunBatch(t.Context(), aa, "key")
	require.NoError(t, err)
	assert.Equal(t, batch.ID, again.ID)
	_, err = c.RunBatch(
		t.Context(),
		wire.NewBatch{Measurer: here, Against: &wire.NewAgainst{Digest: strings.Repeat("bb", 32), Length: 5}}, "key",
	)
	assert.ErrorContains(t, err, "used for another request")
	_, err = c.RunBatch(t.Context(), wire.NewBatch{Measurer: here}, "key")
	assert.ErrorContains(t, err, "used for another request")
	r := endeixis(t, s, "operator", "batch", "resume", fmt.Sprint(batch.ID))
	assert.Contains(t, r.err, "reads a medium back")
	n := itemNumber(t, there, discName)
	size := there.Items[0].Size
	for _, item := range there.Items {
		if item.Path == discName {
			size = item.Size
		}
	}
	first, err := c.Pieces(t.Context(), there.ID, n, 0, size, 1<<20)
	require.NoError(t, err)
	kept, err := c.Pieces(t.Context(), there.ID, n, 0, size, 1<<20)
	require.NoError(t, err)
	assert.Equal(t, first, kept)
	part, err := c.Pieces(t.Context(), there.ID, n, 0, min(size, 1<<20), 1<<20)
	require.NoError(t, err)
	assert.Equal(t, first[0], part[0])
	for _, bad := range [][3]int64{{0, size + 1, 4096}, {-1, 4096, 4096}, {size, 1, 4096}, {0, size, 1}, {
		1 << 62,
		1 << 62, 4096,
	}} {
		_, err := c.Pieces(t.Context(), there.ID, n, bad[0], bad[1], bad[2])
		assert.Error(t, err, bad)
	}
	// A file that was changed since is not taken for what was verified.
	path := filepath.Join(s.Depot, discFolder, discName)
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	content[0] ^= 1
	require.NoError(t, os.WriteFile(path, content, 0o644))
	_, err = c.Pieces(t.Context(), there.ID, n, 0, size, 8192)
	require.Error(t, err)
	assert.Contains(t, err.Error(), "is not what was verified")
}

// TestLoopDevice reads a real block device back, past the system's memory.
func TestLoopDevice(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("losetup"); err != nil {
		t.Skip("there is no losetup here")
	}
	dir := t.TempDir()
	image := filepath.Join(dir, "image")
	content := append(bytes.Repeat([]byte("skerrow"), 100_000), bytes.Repeat([]byte{0}, 512-700_000%512+8192)...)
	require.NoError(t, os.WriteFile(image, content, 0o644))
	out, err := exec.CommandContext(t.Context(), "losetup", "--find", "--show", "--read-only", image).CombinedOutput()
	if err != nil {
		t.Skipf("this machine gives no loop devices: %s", bytes.TrimSpace(out))
	}
	device := strings.TrimSpace(string(out))
	t.Cleanup(func() { exec.Command("losetup", "--detach", device).Run() })
	m, err := measurer.OpenMedium(device)
	require.NoError(t, err)
	defer m.Close()
	assert.EqualValues(t, len(content), m.Info.Size)
	assert.Equal(t, readback.Avoided, m.Cache)
	got := make([]byte, len(content))
	_, err = io.ReadFull(io.NewSectionReader(m, 0, m.Info.Size), got)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(content, got))
	for _, at := range []int64{0, 1, 4095, 4096, 511, int64(len(content)) - 3} {
		p := make([]byte, 5000)
		n, err := m.ReadAt(p, at)
		want := content[at:min(int64(len(content)), at+5000)]
		assert.Equal(t, len(want), n)
		assert.True(t, bytes.Equal(want, p[:n]))
		assert.Equal(t, n < len(p), errors.Is(err, io.EOF))
	}
}

// TestMediumNotAllowed: somebody who may not read a medium is told how to be allowed to.
func TestMediumNotAllowed(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	// Where another person can get at them, unlike the test's own folders.
	dir, err := os.MkdirTemp("", "endeixis-not-allowed-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	// Another process writes the program: what this one has open while it starts others, they have open too, and a
	// program that somebody has open for writing cannot be started.
	copied, err := exec.CommandContext(t.Context(), "cp", binary(t, "endeixis"), filepath.Join(dir, "endeixis")).CombinedOutput()
	require.NoError(t, err, "%s", copied)
	require.NoError(t, os.Chmod(filepath.Join(dir, "endeixis"), 0o755))
	medium := filepath.Join(dir, "medium")
	require.NoError(t, os.WriteFile(medium, []byte("what was written"), 0o000))
	cmd := exec.CommandContext(
		t.Context(), filepath.Join(dir, "endeixis"), "readback", medium, "--against", strings.Repeat("ab", 32),
		"--length", "16",
	)
	cmd.Env = []string{
		"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator),
		"ENDEIXIS_PROFILE=" + filepath.Join(dir, "none.yaml"), "HOME=" + dir,
	}
	if os.Geteuid() == 0 {
		// The administrator may read everything; nobody may not.
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	out, err := cmd.CombinedOutput()
	var exit *exec.ExitError
	require.ErrorAs(t, err, &exit, "%s", out)
	assert.Equal(t, 1, exit.ExitCode(), "%s", out)
	assert.Contains(t, string(out), "may not be read by you")
	assert.Contains(t, string(out), "“disk” or “cdrom”")
}
