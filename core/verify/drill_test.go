package verify_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/fstest"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// TestAlter measures what is altered as it is meant: each reading is that of the stream
// that its name says, whatever the pieces in which the stream comes.
func TestAlter(t *testing.T) {
	t.Parallel()
	for _, size := range []int{0, 1, 2, 7, 1000, 600_001} {
		content := bytes.Repeat([]byte("Skerrow"), size/7+1)[:size]
		alterations := verify.Alterations(int64(size), []byte("seed"))
		target := &measure.Target{
			Path: "x", Size: int64(size),
			Tasks: []measure.Task{
				{Algorithm: digest.SHA256}, {Algorithm: digest.SHA512, Before: []byte("salt"), After: []byte("end")},
			},
		}
		readings, err := verify.Alter(
			t.Context(), target, iotest.HalfReader(bytes.NewReader(content)), int64(size), alterations,
		)
		require.NoError(t, err)
		require.Len(t, readings, len(alterations))
		seen := map[string]bool{}
		for i, a := range alterations {
			want := bytes.Clone(content)
			switch a.Kind {
			case verify.BitFlipped:
				want[a.At] ^= 1 << (a.At % 8)
			case verify.ByteMissing:
				want = want[:size-1]
			case verify.ByteAdded:
				want = append(want, 0)
			case verify.Unaltered, verify.ManifestAltered, verify.SignatureAltered, verify.SignerReplaced:
			}
			sum := sha256.Sum256(want)
			require.Nil(t, readings[i].Problem)
			assert.Equal(t, sum[:], []byte(readings[i].Results[0].Digest), "%s of %d bytes", a, size)
			assert.EqualValues(t, len(want), readings[i].Size)
			assert.False(t, seen[string(sum[:])], "%s is another's", a)
			seen[string(sum[:])] = true
		}
		assert.Equal(t, size > 0, len(alterations) > 2)
	}
	_, err := verify.Alter(
		t.Context(), &measure.Target{Tasks: []measure.Task{{Algorithm: digest.MD5}}},
		io.MultiReader(strings.NewReader("abc"), iotest.ErrReader(io.ErrClosedPipe)), 9, verify.Alterations(9, nil),
	)
	assert.ErrorIs(t, err, io.ErrClosedPipe)
}

// drilled is a folder that is verified, and the drill of one of its files.
type drilled struct {
	items    map[string]*survey.Item
	measured map[string]measure.Measurement
	session  *verify.Session
	list     []verify.Item
	folder   fstest.MapFS
}

func verifiedFolder(t *testing.T, folder fstest.MapFS, ring *keyring.Keyring, policy judge.Policy) *drilled {
	t.Helper()
	plan, err := survey.Run(t.Context(), folder, survey.Options{})
	require.NoError(t, err)
	d := &drilled{items: map[string]*survey.Item{}, folder: folder}
	d.measured, err = verify.Measure(t.Context(), folder, plan, witness, digest.Gain{})
	require.NoError(t, err)
	d.session = verify.New(
		judge.Basis{
			Keyring: ring, Policy: policy, Now: born.AddDate(0, 6, 0), Expected: judge.Expect("", ring, plan.Items),
		},
	)
	for i := range plan.Items {
		item := &plan.Items[i]
		d.items[item.Path] = item
		if item.Role == survey.Manifest {
			m := d.measured[item.Path]
			d.session.Manifest(item, &m)
			d.list = append(d.list, verify.Item{Planned: item, Measurement: m})
		}
	}
	return d
}

func (d *drilled) drill(t *testing.T, path string, content []byte) map[string]verify.Drilled {
	t.Helper()
	item, m := d.items[path], d.measured[path]
	out := d.session.Judge(item, &m)
	require.Equal(t, judge.Cleared, out.Verdict, path)
	alterations := verify.Alterations(m.Size, []byte(path))
	target, _ := item.Target()
	readings, err := verify.Alter(t.Context(), target, bytes.NewReader(content), m.Size, alterations)
	require.NoError(t, err)
	all := map[string]verify.Drilled{}
	for _, result := range d.session.Drill(item, &m, &out, d.list, alterations, readings, witness) {
		all[result.What] = result
	}
	return all
}

// TestDrill: of a file that is cleared by a signed list, by a signature of its own, or by
// both, nothing that is altered is cleared.
func TestDrill(t *testing.T) {
	t.Parallel()
	key := pgptest.NewKey("drill", pgptest.Ed25519, born)
	may := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	certificates, _, err := openpgp.ReadCertificates(
		pgptest.NewCertificate(key).UserID("Tidewright Instruments", may).Bytes(),
	)
	require.NoError(t, err)
	admitted := &keyring.Key{
		Certificate: certificates[0], Publisher: "tidewright",
		History: []keyring.Change{{At: born, To: keyring.Admitted}},
	}
	image := bytes.Repeat([]byte("gauge"), 50_000)
	list := fmt.Sprintf("%x  gauge.img\n", sha256.Sum256(image))
	signed := pgptest.Sig{Created: born.AddDate(0, 1, 0)}
	for name, c := range map[string]struct {
		folder fstest.MapFS
		scope  []string
		rows   []string
	}{
		"a signed list":        {fstest.MapFS{"SHA256SUMS": {Data: []byte(list)}, "SHA256SUMS.sig": {Data: key.Sign([]byte(list), signed)}}, []string{"gauge*"}, []string{"a character of the manifest altered", "a bit of the signature flipped", "another publisher's key in place of the signer's"}},
		"without expectation":  {fstest.MapFS{"SHA256SUMS": {Data: []byte(list)}, "SHA256SUMS.sig": {Data: key.Sign([]byte(list), signed)}}, nil, []string{"another publisher's key in place of the signer's"}},
		"a signature over it":  {fstest.MapFS{"gauge.img.sig": {Data: key.Sign(image, signed)}}, []string{"gauge*"}, []string{"a bit of the signature flipped", "another publisher's key in place of the signer's"}},
		"both":                 {fstest.MapFS{"SHA256SUMS": {Data: []byte(list)}, "SHA256SUMS.sig": {Data: key.Sign([]byte(list), signed)}, "gauge.img.sig": {Data: key.Sign(image, signed)}}, []string{"gauge*"}, []string{"a character of the manifest altered", "a bit of the signature flipped"}},
		"a signature and list": {fstest.MapFS{"SHA256SUMS": {Data: []byte(list)}, "gauge.img.sig": {Data: key.Sign(image, signed)}}, []string{"gauge*"}, []string{"a bit of the signature flipped"}},
	} {
		c.folder["gauge.img"] = &fstest.MapFile{Data: image}
		d := verifiedFolder(
			t, c.folder,
			keyring.New([]*keyring.Key{admitted}, []keyring.Publisher{{Slug: "tidewright", Scope: c.scope}}),
			judge.DefaultPolicy(),
		)
		all := d.drill(t, "gauge.img", image)
		assert.GreaterOrEqual(t, len(all), 10, name)
		for _, row := range c.rows {
			assert.Contains(t, all, row, name)
		}
		for what, result := range all {
			assert.False(t, result.Alarm, "%s: %s: %s %s", name, what, result.Verdict, result.Said)
			assert.NotEmpty(t, result.Said)
			if result.Kind == verify.Unaltered {
				assert.Equal(t, judge.Cleared, result.Verdict)
				continue
			}
			assert.NotEqual(t, judge.Cleared, result.Verdict, what)
		}
	}
}

// TestDrillAlarms: a check that cannot fail is found out, and so is a file that is not
// what was verified any more.
func TestDrillAlarms(t *testing.T) {
	t.Parallel()
	key := pgptest.NewKey("drill", pgptest.Ed25519, born)
	may := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	certificates, _, err := openpgp.ReadCertificates(
		pgptest.NewCertificate(key).UserID("Tidewright Instruments", may).Bytes(),
	)
	require.NoError(t, err)
	admitted := &keyring.Key{
		Certificate: certificates[0], Publisher: "tidewright",
		History: []keyring.Change{{At: born, To: keyring.Admitted}},
	}
	image := []byte("gauge image")
	folder := fstest.MapFS{
		"gauge.img":     {Data: image},
		"gauge.img.sig": {Data: key.Sign(image, pgptest.Sig{Created: born.AddDate(0, 1, 0)})},
	}
	d := verifiedFolder(t, folder, keyring.New([]*keyring.Key{admitted}, nil), judge.DefaultPolicy())
	item, m := d.items["gauge.img"], d.measured["gauge.img"]
	out := d.session.Judge(item, &m)

	// A measurer that says the same whatever it reads.
	target, over := item.Target()
	require.Len(t, over, 1)
	alterations := verify.Alterations(m.Size, nil)
	honest, err := measure.Bytes(t.Context(), bytes.NewReader(image), target)
	require.NoError(t, err)
	stuck := make([]measure.Reading, len(alterations))
	for i := range stuck {
		stuck[i] = honest
	}
	alarms := 0
	for _, result := range d.session.Drill(item, &m, &out, nil, alterations, stuck, witness) {
		if result.Alarm {
			alarms++
			assert.Equal(t, judge.Cleared, result.Verdict)
		}
	}
	assert.Equal(t, len(alterations)-1, alarms)

	altered := d.drill(t, "gauge.img", []byte("gauge imagE"))["nothing altered"]
	assert.True(t, altered.Alarm)
	assert.Contains(t, altered.Said, "it has changed since")
}
