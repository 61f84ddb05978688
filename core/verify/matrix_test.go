package verify_test

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"path"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/readback"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// The dimensions of the matrix. What may clear is worked out below from these alone, by the
// words of the handbook, and held against what judging says of every combination.
type fact struct {
	evidence, signer, file, given, waiver string
	maker                                 measure.Maker
	serviceOnly, altered                  bool
	inside                                string
}

var (
	evidences = []string{"nothing", "a signature", "a signed list", "a signed MD5 list", "a list", "an MD5 list"}
	signers   = []string{"tidewright", "brackwater", "candidate", "withdrawn", "contradicted", "expired"}
	fileNames = map[string][]string{
		"other.img": nil, "gauge-1.img": {"tidewright"}, "shared-1.img": {"tidewright", "brackwater"},
	}
	givens = []string{"", "tidewright", "brackwater"}
	// waivers are by what they lift and for whom.
	waivers = map[string][]judge.Waiver{
		"none":             nil,
		"weak, of anybody": {{Ground: judge.WeakDigestOnly}},
		"both, of anybody": {{Ground: judge.WeakDigestOnly}, {Ground: judge.ManifestUnsigned}},
		"both, of tidewright": {
			{Ground: judge.WeakDigestOnly, Publisher: "tidewright"},
			{Ground: judge.ManifestUnsigned, Publisher: "tidewright"},
		},
		"both, of brackwater": {
			{Ground: judge.WeakDigestOnly, Publisher: "brackwater"},
			{Ground: judge.ManifestUnsigned, Publisher: "brackwater"},
		},
		"both, of other names": {
			{Ground: judge.WeakDigestOnly, Pattern: "lamp-*"}, {Ground: judge.ManifestUnsigned, Pattern: "lamp-*"},
		},
		"expired, of tidewright": {{Ground: judge.SignerExpired, Publisher: "tidewright"}},
		"both, that have ended": {
			{Ground: judge.WeakDigestOnly, Until: matrixNow}, {Ground: judge.ManifestUnsigned, Until: matrixNow},
		},
	}
	matrixBorn = time.Date(2025, 1, 1, 0, 0, 0, 0, time.UTC)
	matrixNow  = matrixBorn.AddDate(1, 0, 0)
	matrixMade = matrixBorn.AddDate(0, 1, 0)
)

// matrixKeys are the signers, and the keyring that they are in.
func matrixKeys(t *testing.T) (map[string]*pgptest.Key, *keyring.Keyring) {
	keys := map[string]*pgptest.Key{}
	var entries []*keyring.Key
	for _, name := range signers {
		keys[name] = pgptest.NewKey("matrix "+name, pgptest.Ed25519, matrixBorn)
		self := pgptest.Sig{
			Created: matrixBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign | pgptest.MayCertify)},
		}
		if name == "expired" {
			self.Hashed = append(self.Hashed, pgptest.KeyExpires(100*24*time.Hour))
		}
		certs, _, err := openpgp.ReadCertificates(pgptest.NewCertificate(keys[name]).UserID(name, self).Bytes())
		require.NoError(t, err)
		k := &keyring.Key{
			Certificate: certs[0], Publisher: "tidewright",
			History: []keyring.Change{{At: matrixBorn, To: keyring.Admitted}},
		}
		switch name {
		case "brackwater":
			k.Publisher = name
		case "candidate":
			k.History = nil
		case "withdrawn":
			k.History = append(k.History, keyring.Change{At: matrixMade, To: keyring.Withdrawn})
		case "contradicted":
			k.Conflict = true
		}
		entries = append(entries, k)
	}
	return keys, keyring.New(entries, []keyring.Publisher{
		{
			Slug: "tidewright", Scope: []string{"gauge-*", "shared-*"},
		},
		{Slug: "brackwater", Scope: []string{"buoy-*", "shared-*"}},
	})
}

// mayClear says whether a fact clears its file. open is set where the handbook leaves it so:
// the archive around the file is refused, and a waiver clears the file by itself.
func (f fact) mayClear() (may, open bool) {
	if f.altered && (f.evidence != "nothing" || f.inside != "no") || f.serviceOnly && f.maker != measure.Service {
		return false, false
	}
	expected := fileNames[f.file]
	if f.given != "" {
		expected = []string{f.given}
	}
	concerned := ""
	if len(expected) == 1 {
		concerned = expected[0]
	}
	lifts := func(ground judge.Code, publisher string) bool {
		return slices.ContainsFunc(waivers[f.waiver], func(w judge.Waiver) bool {
			named, _ := path.Match(w.Pattern, f.file)
			return w.Ground == ground && (w.Publisher == "" || w.Publisher == publisher) &&
				(w.Pattern == "" || named) &&
				!w.Until.Equal(matrixNow)
		})
	}
	publisher := "tidewright"
	if f.signer == "brackwater" {
		publisher = f.signer
	}
	counts := (f.signer == "tidewright" || f.signer == "brackwater" || f.signer == "expired" && lifts(judge.SignerExpired, publisher)) &&
		(len(expected) == 0 || slices.Contains(expected, publisher))
	switch f.evidence {
	case "a signature", "a signed list":
		may = counts
	case "a signed MD5 list":
		may = counts && lifts(judge.WeakDigestOnly, concerned)
	case "a list":
		may = lifts(judge.ManifestUnsigned, concerned)
	case "an MD5 list":
		may = lifts(judge.ManifestUnsigned, concerned) && lifts(judge.WeakDigestOnly, concerned)
	}
	if f.inside == "no" || may || !lifts(judge.ManifestUnsigned, concerned) {
		return may, false
	}
	// The list within the archive speaks of the file, unsigned.
	signed := f.evidence == "a signature" || f.evidence == "a signed list" || f.evidence == "a signed MD5 list"
	return true, signed && len(expected) > 0 && !slices.Contains(expected, publisher)
}

// files are those of the folder of a fact: the file by itself, or within an archive that all
// evidence is about, or that lies beside it.
func (f fact) files(by *pgptest.Key) (files fstest.MapFS, judged string) {
	content := "the firmware of a gauge"
	name, target := f.file, content
	inner := fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(content)), f.file)
	files = fstest.MapFS{}
	if f.inside != "no" {
		target = string(packtest.Zip(f.file, content, "SHA256SUMS", inner))
		name = f.file + ".zip"
	}
	stated := target
	put := func(name, content string) { files[name] = &fstest.MapFile{Data: []byte(content)} }
	if f.altered {
		target = "X" + target[1:]
		if f.inside != "no" {
			target = string(packtest.Zip(f.file, "other "+content, "SHA256SUMS", inner))
		}
	}
	put(name, target)
	sign := func(data string) string { return string(by.Sign([]byte(data), pgptest.Sig{Created: matrixMade})) }
	list := fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(stated)), name)
	weak := fmt.Sprintf("%x  %s\n", md5.Sum([]byte(stated)), name)
	switch f.evidence {
	case "a signature":
		put(name+".sig", sign(stated))
	case "a signed list":
		put("SHA256SUMS", list)
		put("SHA256SUMS.sig", sign(list))
	case "a signed MD5 list":
		put("MD5SUMS", weak)
		put("MD5SUMS.sig", sign(weak))
	case "a list":
		put("SHA256SUMS", list)
	case "an MD5 list":
		put("MD5SUMS", weak)
	}
	if f.inside != "no" {
		return files, name + "//" + f.file
	}
	return files, name
}

// TestMatrix judges every combination. Cleared implies a complete path of statements by a key
// that counted at that time, or a waiver for that file's publisher, over bytes that were
// measured by whom the policy allows; and what may clear does.
func TestMatrix(t *testing.T) {
	if testing.Short() {
		t.Skip("every combination, and nothing in it runs side by side")
	}
	t.Parallel()
	keys, ring := matrixKeys(t)
	n, cleared := 0, 0
	for _, evidence := range evidences {
		who := signers
		if evidence == "nothing" || evidence == "a list" || evidence == "an MD5 list" {
			who = signers[:1]
		}
		for _, signer := range who {
			for file := range fileNames {
				for _, given := range givens {
					for waiver := range waivers {
						for _, maker := range []measure.Maker{measure.Service, measure.Client} {
							for _, altered := range []bool{false, true} {
								for _, inside := range []string{"no", "an archive"} {
									f := fact{
										evidence, signer, file, given, waiver, maker, maker == measure.Client, altered,
										inside,
									}
									n++
									if f.check(t, keys[signer], ring) {
										cleared++
									}
									if maker == measure.Client {
										f.serviceOnly = false
										f.check(t, keys[signer], ring)
									}
								}
							}
						}
					}
				}
			}
		}
	}
	assert.Greater(t, n, 5000)
	assert.Greater(t, cleared, 500)
}

// check judges one combination, and again as a stored one. It reports whether it is cleared.
func (f fact) check(t *testing.T, by *pgptest.Key, ring *keyring.Keyring) bool {
	t.Helper()
	files, judged := f.files(by)
	plan, err := survey.Run(context.Background(), files, survey.Options{})
	require.NoError(t, err)
	measured, err := verify.Measure(
		context.Background(), files, plan, measure.Attribution{Maker: f.maker, Where: "a machine"}, digest.Gain{},
	)
	require.NoError(t, err)
	policy := judge.DefaultPolicy()
	if f.serviceOnly {
		policy.MeasuredBy = []measure.Maker{measure.Service}
	}
	basis := judge.Basis{
		Keyring: ring, Policy: policy, Now: matrixNow, Expected: judge.Expect(f.given, ring, plan.Items),
	}
	for i, w := range waivers[f.waiver] {
		if w.Record, w.By, w.Reason = int64(i+1), "tobiah", "they cannot"; w.Until.IsZero() {
			w.Until = matrixNow.AddDate(0, 1, 0)
		}
		basis.Waivers = append(basis.Waivers, w)
	}
	session := verify.New(basis)
	for i := range plan.Items {
		if item := &plan.Items[i]; item.Role == survey.Manifest {
			m := measured[item.Path]
			session.Manifest(item, &m)
		}
	}
	again, err := session.Again(t.Context(), len(plan.Items), func(i int) (*survey.Item, *measure.Measurement, error) {
		m := measured[plan.Items[i].Path]
		return &plan.Items[i], &m, nil
	}, []string{by.Fingerprint()})
	require.NoError(t, err)
	at := slices.IndexFunc(again, func(r verify.Rejudgement) bool { return r.Item.Path == judged })
	require.GreaterOrEqual(t, at, 0, "%+v", f)
	out := again[at].Outcome
	if may, open := f.mayClear(); !open {
		assert.Equal(t, may, out.Verdict == judge.Cleared, "%+v: %+v", f, out.Grounds)
	}
	if f.altered && (f.evidence != "nothing" || f.inside != "no") {
		assert.NotEqual(t, judge.Cleared, out.Verdict, "%+v", f)
	}
	complete := slices.ContainsFunc(out.Paths, func(p judge.ProofPath) bool { return p.Complete })
	assert.Equal(
		t, out.Verdict == judge.Cleared,
		complete && !slices.ContainsFunc(out.Grounds, func(g judge.Ground) bool { return g.Effect == judge.Refuses }),
		"%+v", f,
	)
	// The key bears on whatever its signature is about, and on what is inside of that.
	signed := f.evidence == "a signature" || f.evidence == "a signed list" || f.evidence == "a signed MD5 list"
	if !f.altered {
		assert.Equal(t, signed, again[at].Bears, "%+v", f)
	}
	return out.Verdict == judge.Cleared
}

// TestMediumMatrix: a medium is cleared only by a digest that nobody can prepare other bytes
// for, of a file that is cleared.
func TestMediumMatrix(t *testing.T) {
	for _, a := range digest.All() {
		for _, original := range []judge.Verdict{judge.Cleared, judge.Unproven, judge.Refused} {
			for _, same := range []bool{true, false} {
				value := make(digest.Value, a.Size())
				read := slices.Clone(value)
				if !same {
					read[0] ^= 1
				}
				plan := survey.Medium(
					"sr0", matrixNow,
					survey.Against{
						Batch: 1, N: 2, Path: "gauge.img", Size: 4096,
						Digests: map[digest.Algorithm]digest.Value{a: value},
					},
				)
				item := &plan.Items[0]
				m := &measure.Measurement{
					Size: 4096, Digests: map[digest.Algorithm]digest.Value{a: read},
					Readback: &readback.Report{Cache: readback.Avoided},
				}
				m.Sign(measure.Attribution{Maker: measure.Client, Where: "a machine"})
				of := judge.Outcome{Path: "gauge.img", Role: survey.Artifact, Verdict: original}
				if original == judge.Cleared {
					of.Paths = []judge.ProofPath{
						{
							Kind: judge.SignedManifest, Complete: true,
							Links: []judge.Link{{Kind: "artifact", State: judge.Holds}},
						},
					}
				}
				session := verify.New(
					judge.Basis{Keyring: keyring.New(nil, nil), Policy: judge.DefaultPolicy(), Now: matrixNow},
				)
				session.Original(item.Path, &of)
				out := session.Judge(item, m)
				want := same && original == judge.Cleared && a.CollisionBits() >= 128
				assert.Equal(
					t, want, out.Verdict == judge.Cleared, "%s, %s, same bytes %v: %+v", a, original, same, out.Grounds,
				)
				if !same {
					assert.Equal(t, judge.Refused, out.Verdict, "%s", a)
				}
			}
		}
	}
}
