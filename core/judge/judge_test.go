package judge_test

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/container/packtest"
	"endeixis/core/digest"
	. "endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

var (
	born     = time.Date(2024, 3, 1, 0, 0, 0, 0, time.UTC)
	signedAt = time.Date(2025, 6, 1, 0, 0, 0, 0, time.UTC)
	now      = time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)

	tidewright = pgptest.NewKey("tidewright", pgptest.Ed25519, born)
	// older is an RSA key, with which any hash goes.
	older      = pgptest.NewKey("tidewright, older", pgptest.RSA2048, born)
	brackwater = pgptest.NewKey("brackwater", pgptest.RSA2048, born)
	stranger   = pgptest.NewKey("stranger", pgptest.RSA2048, born)
	candidate  = pgptest.NewKey("candidate", pgptest.RSA2048, born)
	withdrawn  = pgptest.NewKey("withdrawn", pgptest.Ed25519, born)
	expired    = pgptest.NewKey("expired", pgptest.RSA2048, born)
	revoked    = pgptest.NewKey("revoked", pgptest.Ed25519, born)
)

// ring holds a key for every way in which a key can stand.
func ring(t *testing.T) *keyring.Keyring {
	t.Helper()
	admitted := []keyring.Change{{At: born, To: keyring.Admitted, By: "tobiah"}}
	self := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	entry := func(made *pgptest.Certificate, publisher string, history []keyring.Change) *keyring.Key {
		certs, _, err := openpgp.ReadCertificates(made.Bytes())
		require.NoError(t, err)
		return &keyring.Key{Certificate: certs[0], Publisher: publisher, History: history}
	}
	return keyring.New([]*keyring.Key{
		entry(pgptest.NewCertificate(tidewright).UserID("Tidewright", self), "tidewright", admitted),
		entry(pgptest.NewCertificate(older).UserID("Tidewright, older", self), "tidewright", admitted),
		entry(pgptest.NewCertificate(brackwater).UserID("Brackwater", self), "brackwater", admitted),
		entry(pgptest.NewCertificate(candidate).UserID("Tidewright", self), "tidewright", nil),
		entry(
			pgptest.NewCertificate(withdrawn).UserID("W", self), "tidewright",
			append(admitted, keyring.Change{At: born.AddDate(1, 0, 0), To: keyring.Withdrawn}),
		),
		entry(
			pgptest.NewCertificate(expired).
				UserID(
					"E", pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.KeyExpires(600 * 24 * time.Hour)}},
				),
			"tidewright", admitted,
		),
		entry(
			pgptest.NewCertificate(revoked).
				Key(
					revoked,
					pgptest.Sig{
						Type:    pgptest.KeyRevocation,
						Created: now,
						Hashed:  []pgptest.Sub{pgptest.Reason(2, "")},
					},
				).
				UserID("R", self),
			"tidewright", admitted,
		),
	}, []keyring.Publisher{{Slug: "tidewright", Scope: []string{"gauge-*"}}, {Slug: "brackwater", Scope: []string{"buoy-*"}}})
}

// result is a judged folder.
type result struct {
	artifacts map[string]Outcome
	manifests map[string]*Voucher
}

// judgeFolder surveys, measures and judges files in memory.
func judgeFolder(t *testing.T, files map[string]string, given string, adjust func(*Basis)) result {
	t.Helper()
	return judgeWith(t, files, given, survey.Options{}, adjust)
}

func judgeWith(t *testing.T, files map[string]string, given string, opts survey.Options, adjust func(*Basis)) result {
	t.Helper()
	return judgeAfter(t, files, given, opts, adjust, nil)
}

// judgeAfter judges a folder with what is known of the time before.
func judgeAfter(
	t *testing.T, files map[string]string, given string, opts survey.Options, adjust func(*Basis),
	before verify.Predecessors,
) result {
	t.Helper()
	fsys := fstest.MapFS{}
	for name, content := range files {
		fsys[name] = &fstest.MapFile{Data: []byte(content)}
	}
	plan, err := survey.Run(t.Context(), fsys, opts)
	require.NoError(t, err)
	measured, err := verify.Measure(t.Context(), fsys, plan, measure.Attribution{}, digest.Gain{})
	require.NoError(t, err)
	keys := ring(t)
	b := Basis{Keyring: keys, Policy: DefaultPolicy(), Now: now, Expected: Expect(given, keys, plan.Items)}
	if adjust != nil {
		adjust(&b)
	}
	r := result{artifacts: map[string]Outcome{}, manifests: map[string]*Voucher{}}
	session := verify.New(b)
	session.After(before)
	if known, ok := before.(verify.References); ok {
		session.Know(known)
	}
	for _, role := range []survey.Role{survey.Manifest, survey.Artifact} {
		for i := range plan.Items {
			if plan.Items[i].Role != role {
				continue
			}
			item, m := stored(t, &plan.Items[i], measured[plan.Items[i].Path])
			if role == survey.Manifest {
				r.manifests[item.Path] = session.Manifest(item, m)
				continue
			}
			of := func(int) (*survey.Item, *measure.Measurement) { return item, m }
			require.NoError(t, session.Recall(t.Context(), 1, of))
			r.artifacts[item.Path] = session.Judge(item, m)
		}
	}
	return r
}

// stored returns an item and its measurement as they come back from where they
// are kept, as JSON: nothing may be lost on the way.
func stored(t *testing.T, item *survey.Item, m measure.Measurement) (*survey.Item, *measure.Measurement) {
	t.Helper()
	itemText, err := json.Marshal(item)
	require.NoError(t, err)
	text, err := json.Marshal(m)
	require.NoError(t, err)
	var itemBack survey.Item
	var back measure.Measurement
	require.NoError(t, json.Unmarshal(itemText, &itemBack))
	require.NoError(t, json.Unmarshal(text, &back))
	return &itemBack, &back
}

func sums(lines ...string) string { return strings.Join(lines, "\n") + "\n" }

func line(content, name string) string {
	return fmt.Sprintf("%x  %s", sha256.Sum256([]byte(content)), name)
}

func sign(key *pgptest.Key, data string) string {
	return string(key.Sign([]byte(data), pgptest.Sig{Created: signedAt}))
}

func gzipped(data string) string { return string(packtest.Gzip([]byte(data))) }

// zipped packs files in order of their names.
func zipped(files map[string]string) string {
	var list []string
	for _, name := range slices.Sorted(maps.Keys(files)) {
		list = append(list, name, files[name])
	}
	return string(packtest.Zip(list...))
}

func codes(o Outcome) []Code {
	out := []Code{}
	for _, g := range o.Grounds {
		out = append(out, g.Code)
	}
	return out
}

func TestVerdicts(t *testing.T) {
	list := sums(line("image", "gauge-main.img"))
	md5 := sums("78805a221a988e79ef3f42d7c5bfd418  gauge-main.img") // MD5 of "image"
	wide := sums(fmt.Sprintf("%x  gauge-main.img", sha512.Sum512([]byte("image"))))
	wrong := sums(line("another", "gauge-main.img"))

	for _, c := range []struct {
		name    string
		files   map[string]string
		given   string
		adjust  func(*Basis)
		verdict Verdict
		has     []Code
		hasNot  []Code
		missing string
	}{
		{
			name:    "a signed manifest clears",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)},
			verdict: Cleared, has: []Code{DigestMatch, SignatureValid},
		},
		{
			name:  "a signature beside the artifact clears",
			files: map[string]string{"buoy.img": "image", "buoy.img.sig": sign(brackwater, "image")}, given: "brackwater",
			verdict: Cleared, has: []Code{SignatureValid},
		},
		{
			name:    "a flipped byte is refused",
			files:   map[string]string{"gauge-main.img": "imagf", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)},
			verdict: Refused, has: []Code{DigestMismatch}, hasNot: []Code{DigestMatch}, missing: "Download the file again",
		},
		{
			name:    "a manifest altered after signing refuses what it lists",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list+"x")},
			verdict: Refused, has: []Code{DigestMatch, SignatureInvalid},
		},
		{
			name: "unless another path clears it",
			files: map[string]string{
				"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list+"x"),
				"gauge-main.img.sig": sign(tidewright, "image"),
			},
			verdict: Cleared,
		},
		{
			name:    "an unsigned manifest proves nothing",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list},
			verdict: Unproven, has: []Code{DigestMatch, ManifestUnsigned}, missing: "publisher's signature",
		},
		{
			name:    "a signature over the uncompressed form",
			files:   map[string]string{"gauge-main.img.gz": gzipped("image"), "gauge-main.img.sig": sign(tidewright, "image")},
			verdict: Cleared, has: []Code{SignatureValid},
		},
		{
			name:    "which is another one",
			files:   map[string]string{"gauge-main.img.gz": gzipped("imagf"), "gauge-main.img.sig": sign(tidewright, "image")},
			verdict: Refused, has: []Code{SignatureInvalid},
		},
		{
			name:    "which cannot be read",
			files:   map[string]string{"gauge-main.img.gz": gzipped("image")[:20], "gauge-main.img.sig": sign(tidewright, "image")},
			verdict: Unproven, has: []Code{Unreadable}, missing: "Download it again",
		},
		{
			name:    "a signature over the compressed form goes first",
			files:   map[string]string{"gauge-main.img.gz": gzipped("image"), "gauge-main.img.gz.sig": sign(tidewright, gzipped("image"))},
			verdict: Cleared,
		},
		{
			name:    "nothing speaks of it",
			files:   map[string]string{"gauge-main.img": "image"},
			verdict: Unproven, has: []Code{NotListed},
		},
		{
			name:    "only MD5",
			files:   map[string]string{"gauge-main.img": "image", "MD5SUMS": md5, "MD5SUMS.sig": sign(tidewright, md5)},
			verdict: Unproven, has: []Code{DigestMatch, WeakDigestOnly}, missing: "SHA-256 or stronger",
		},
		{
			name:    "MD5 beside something strong",
			files:   map[string]string{"gauge-main.img": "image", "MD5SUMS": md5, "SHA512SUMS": wide, "SHA512SUMS.sig": sign(tidewright, wide)},
			verdict: Cleared, hasNot: []Code{WeakDigestOnly},
		},
		{
			name:    "a signer who is not in the keyring",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(stranger, list)},
			verdict: Unproven, has: []Code{SignerUnknown}, missing: "Get the publisher's key",
		},
		{
			name:    "a candidate",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(candidate, list)},
			verdict: Unproven, has: []Code{SignerCandidate}, missing: "have a curator admit it",
		},
		{
			name:    "a withdrawn key",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(withdrawn, list)},
			verdict: Unproven, has: []Code{SignerWithdrawn},
		},
		{
			name:    "a key that has expired since withholds",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(expired, list)},
			verdict: Unproven, has: []Code{SignerExpired},
		},
		{
			name:    "or only notes it, by policy",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(expired, list)},
			adjust:  func(b *Basis) { b.Policy.ExpiredSigner = Notes },
			verdict: Cleared, has: []Code{SignerExpired},
		},
		{
			name:    "a revoked key",
			files:   map[string]string{"gauge-main.img": "image", "gauge-main.img.sig": sign(revoked, "image")},
			verdict: Refused, has: []Code{SignerRevoked},
		},
		{
			name:    "a valid signature by another publisher, by scope",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(brackwater, list)},
			verdict: Refused, has: []Code{WrongPublisher},
		},
		{
			name:  "the same, where the publisher was given",
			files: map[string]string{"chart.img": "image", "chart.img.sig": sign(brackwater, "image")}, given: "tidewright",
			verdict: Refused, has: []Code{WrongPublisher},
		},
		{
			name:    "no expectation: the admitted signer counts",
			files:   map[string]string{"chart.img": "image", "chart.img.sig": sign(brackwater, "image")},
			verdict: Cleared,
		},
		{
			name:    "an empty signature file",
			files:   map[string]string{"gauge-main.img": "image", "gauge-main.img.sig": ""},
			verdict: Unproven, has: []Code{SignatureMalformed},
		},
		{
			name:    "two unsigned manifests disagree",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "more.sha256": wrong},
			verdict: Refused, has: []Code{ManifestsDisagree, DigestMismatch},
		},
		{
			name: "the signed one outranks the other",
			files: map[string]string{
				"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list), "more.sha256": wrong,
			},
			verdict: Cleared, has: []Code{DigestMatch, DigestMismatch}, hasNot: []Code{ManifestsDisagree},
		},
		{
			name: "two signed manifests that disagree",
			files: map[string]string{
				"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list),
				"more.sha256": wrong, "more.sha256.sig": sign(tidewright, wrong),
			},
			verdict: Refused, has: []Code{ManifestsDisagree, DigestMismatch},
		},
		{
			name: "but not the other way round",
			files: map[string]string{
				"gauge-main.img": "another", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list), "more.sha256": wrong,
			},
			verdict: Refused, has: []Code{ManifestsDisagree},
		},
		{
			name:    "a weak signature hash",
			files:   map[string]string{"gauge-main.img": "image", "gauge-main.img.sig": string(older.Sign([]byte("image"), pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}))},
			verdict: Unproven, has: []Code{SignatureWeak},
		},
		{
			name:    "a signature that speaks of no document",
			files:   map[string]string{"gauge-main.img": "image", "gauge-main.img.sig": string(tidewright.Sign([]byte("image"), pgptest.Sig{Created: signedAt, Type: pgptest.Timestamp}))},
			verdict: Unproven, has: []Code{SignatureUnacceptable},
		},
		{
			name:    "dated tomorrow",
			files:   map[string]string{"gauge-main.img": "image", "gauge-main.img.sig": string(tidewright.Sign([]byte("image"), pgptest.Sig{Created: now.AddDate(0, 0, 1)}))},
			verdict: Unproven, has: []Code{SignatureInFuture},
		},
		{
			name:    "a name that leads out is a problem of its line only",
			files:   map[string]string{"gauge-main.img": "image", "SHA256SUMS": list + line("x", "../../etc/hostname") + "\n", "SHA256SUMS.sig": sign(tidewright, list+line("x", "../../etc/hostname")+"\n")},
			verdict: Cleared,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := judgeFolder(t, c.files, c.given, c.adjust)
			require.Len(t, r.artifacts, 1)
			for _, o := range r.artifacts {
				assert.Equal(t, c.verdict, o.Verdict, "%v", codes(o))
				assert.Subset(t, codes(o), c.has)
				for _, code := range c.hasNot {
					assert.NotContains(t, codes(o), code)
				}
				complete := false
				for _, p := range o.Paths {
					complete = complete || p.Complete
					if !p.Complete {
						assert.NotEmpty(t, p.Missing, "an incomplete path says what is missing")
					}
				}
				if c.missing != "" {
					require.NotEmpty(t, o.Paths)
					assert.Contains(t, o.Paths[0].Missing, c.missing)
				}
				if c.verdict == Cleared {
					assert.True(t, complete)
				}
				for _, g := range o.Grounds {
					assert.NotEmpty(t, g.Sentence)
					assert.True(t, strings.HasSuffix(g.Sentence, "."), g.Sentence)
				}
			}
		})
	}
}

func TestPathShowsEveryLink(t *testing.T) {
	list := sums(line("image", "gauge-main.img"))
	r := judgeFolder(
		t, map[string]string{"gauge-main.img": "image", "SHA256SUMS": list, "SHA256SUMS.sig": sign(candidate, list)},
		"", nil,
	)
	p := r.artifacts["gauge-main.img"].Paths[0]
	assert.False(t, p.Complete)
	states := map[string]LinkState{}
	for _, l := range p.Links {
		states[l.Kind] = l.State
	}
	assert.Equal(t, map[string]LinkState{
		"artifact":  Holds,
		"digest":    Holds,
		"entry":     Holds,
		"manifest":  Holds,
		"signature": Holds,
		"key":       Missing,
		"publisher": Unreached,
	}, states)
}

func TestBadNameIsTold(t *testing.T) {
	list := sums(line("x", "../../etc/hostname"))
	r := judgeFolder(t, map[string]string{"SHA256SUMS": list}, "", nil)
	grounds := r.manifests["SHA256SUMS"].Outcome.Grounds
	require.NotEmpty(t, grounds)
	assert.Equal(t, ManifestUnreadable, grounds[0].Code)
	assert.Equal(t, 1, grounds[0].Line)
	assert.Contains(t, grounds[0].Sentence, "leads out of the folder")
}

func TestSizeMismatch(t *testing.T) {
	size := int64(7)
	item := &survey.Item{
		Path: "a", Role: survey.Artifact, Listed: []survey.Entry{{Manifest: "M", Line: 1, Size: &size}},
	}
	out := Basis{
		Keyring: ring(t), Policy: DefaultPolicy(), Now: now,
	}.Artifact(item, &measure.Measurement{Size: 5}, Surroundings{})
	assert.Equal(t, Refused, out.Verdict)
	assert.Contains(t, codes(out), SizeMismatch)
}

// TestWrongSizeOfTheRightBytes: a stated size that differs refuses where the digest is
// weak, and is noted where it is strong; a number that nothing calls a size does neither.
func TestWrongSizeOfTheRightBytes(t *testing.T) {
	strong, weak := sha256.Sum256([]byte("firmware")), md5.Sum([]byte("firmware"))
	for name, c := range map[string]struct {
		list string
		code Code
		// refused is the verdict of an unsigned list, and of a signed one with weak digests.
		refused bool
	}{
		"gauge.csv":     {fmt.Sprintf("File,Size,SHA-256\ngauge-fw.img,9,%x\n", strong), SizeDisagrees, false},
		"gauge.meta4":   {fmt.Sprintf(`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="gauge-fw.img"><size>9</size><hash type="sha-256">%x</hash></file></metalink>`, strong), SizeDisagrees, false},
		"gauge-fw.txt":  {fmt.Sprintf("File: gauge-fw.img\nSize: 9\nSHA256: %x\n", strong), SizeDisagrees, false},
		"md5.csv":       {fmt.Sprintf("File,Size,MD5\ngauge-fw.img,9,%x\n", weak), SizeMismatch, true},
		"md5.txt":       {fmt.Sprintf("File: gauge-fw.img\nSize: 9 bytes\nMD5: %x\n", weak), SizeMismatch, true},
		"CHECKSUMS":     {fmt.Sprintf("SHA256:\n %x 9 gauge-fw.img\n", strong), Guessed, false},
		"CHECKSUMS.txt": {fmt.Sprintf("SHA256:\n9 %x *gauge-fw.img\n", strong), Guessed, false},
		"CHECKSUMS.md5": {fmt.Sprintf("9 %x gauge-fw.img\n", weak), Guessed, false},
	} {
		for _, signed := range []bool{false, true} {
			files := map[string]string{"gauge-fw.img": "firmware", name: c.list}
			if signed {
				files[name+".sig"] = string(tidewright.Sign([]byte(c.list), pgptest.Sig{Created: signedAt}))
			}
			out := judgeFolder(t, files, "tidewright", nil).artifacts["gauge-fw.img"]
			assert.Equal(t, c.refused, out.Verdict == Refused, "%s, signed %v", name, signed)
			assert.Contains(t, codes(out), c.code, name)
			assert.Contains(t, codes(out), DigestMatch, name)
			altered := judgeFolder(t, map[string]string{"gauge-fw.img": "firmwarf", name: c.list}, "tidewright", nil).artifacts["gauge-fw.img"]
			assert.Equal(t, Refused, altered.Verdict, "%s, altered", name)
		}
	}
}

// TestGuessedChecksum: eight digits that nothing calls a checksum neither clear nor refuse.
func TestGuessedChecksum(t *testing.T) {
	crc := crc32.ChecksumIEEE([]byte("firmware"))
	for content, says := range map[string]string{"firmware": "are its CRC-32", "firmwarf": "are none of its checksums"} {
		out := judgeFolder(t, map[string]string{"gauge-fw.img": content, "notes.txt": fmt.Sprintf("gauge-fw.img %08x\nboot.img %08x\n", crc, crc^0xa5a5a5a5)}, "", nil).artifacts["gauge-fw.img"]
		assert.Equal(t, Unproven, out.Verdict)
		assert.Equal(t, []Code{Guessed, NotListed}, codes(out))
		assert.Contains(t, out.Grounds[0].Sentence, says)
	}
	for _, name := range []string{"gauge.sfv", "gauge.crc"} {
		out := judgeFolder(t, map[string]string{"gauge-fw.img": "firmwarf", name: fmt.Sprintf("gauge-fw.img %08x\n", crc)}, "", nil).artifacts["gauge-fw.img"]
		assert.Equal(t, Refused, out.Verdict, name)
	}
}

// TestValuesWithoutNames: of several values that name no file, the only file here has one
// or none; a single value is meant for it.
func TestValuesWithoutNames(t *testing.T) {
	value := func(content string) string { return fmt.Sprintf("SHA-256: %x\n", sha256.Sum256([]byte(content))) }
	for list, verdict := range map[string]Verdict{
		value("firmware"): Cleared,
		value("spare") + value("firmware") + value("tides"):   Cleared,
		value("spare") + value("tides"):                       Unproven,
		value("spare"):                                        Refused,
		value("firmware") + "MD5: " + strings.Repeat("0", 32): Refused,
	} {
		out := judgeFolder(t, map[string]string{
			"gauge-fw.img": "firmware", "values.txt": list, "values.txt.sig": string(tidewright.Sign([]byte(list), pgptest.Sig{Created: signedAt})),
		}, "tidewright", nil).artifacts["gauge-fw.img"]
		assert.Equal(t, verdict, out.Verdict, list)
		if verdict == Unproven {
			require.Len(t, out.Grounds, 1)
			assert.Equal(t, NotListed, out.Grounds[0].Code)
			assert.Contains(t, out.Grounds[0].Sentence, "of the 2 digests that stand here without a name none is its")
		}
	}
}

// TestListsThatContradictThemselves: a list that gives one file two values refuses it,
// however often it has said the right one before; and one that goes on and on is judged as
// soon as any.
func TestListsThatContradictThemselves(t *testing.T) {
	line := func(content string) string { return fmt.Sprintf("%x  gauge-fw.img\n", sha256.Sum256([]byte(content))) }
	others := &strings.Builder{}
	for i := range 50_000 {
		others.WriteString(line(fmt.Sprint(i)))
	}
	for name, c := range map[string]struct {
		list    string
		verdict Verdict
	}{
		"the same":            {strings.Repeat(line("firmware"), 50_000), Cleared},
		"another, late":       {strings.Repeat(line("firmware"), 50_000) + line("spare"), Refused},
		"the right one, late": {others.String() + line("firmware"), Refused},
		"others":              {line("firmware") + others.String(), Refused},
	} {
		out := judgeFolder(t, map[string]string{
			"gauge-fw.img": "firmware", "SHA256SUMS": c.list, "SHA256SUMS.sig": string(tidewright.Sign([]byte(c.list), pgptest.Sig{Created: signedAt})),
		}, "tidewright", nil).artifacts["gauge-fw.img"]
		assert.Equal(t, c.verdict, out.Verdict, name)
		assert.Less(t, len(out.Grounds), 500, name)
	}
}

func TestProblemsWithhold(t *testing.T) {
	b := Basis{Keyring: ring(t), Policy: DefaultPolicy(), Now: now}
	item := &survey.Item{Path: "a.img", Role: survey.Artifact}
	out := b.Artifact(
		item, &measure.Measurement{Problem: &measure.Problem{Code: measure.ChangedWhileReading, Message: "it grew"}},
		Surroundings{},
	)
	assert.Equal(t, Unproven, out.Verdict)
	assert.Equal(t, []Code{ChangedWhileReading}, codes(out))
	out = b.Artifact(
		item, &measure.Measurement{Problem: &measure.Problem{Code: measure.Unreadable, Message: "no"}}, Surroundings{},
	)
	assert.Equal(t, []Code{Unreadable}, codes(out))
	other := b.Other(
		&survey.Item{
			Path: "a.sig", Role: survey.Signature,
			Problem: &measure.Problem{Code: measure.Malformed, Message: "the file is empty"},
		},
		&measure.Measurement{},
	)
	assert.Equal(t, []Code{SignatureMalformed}, codes(other))
	out = b.Artifact(item, &measure.Measurement{CollisionSuspected: true}, Surroundings{})
	assert.Equal(t, Refused, out.Verdict)
}

func TestBatch(t *testing.T) {
	assert.Equal(t, Cleared, Batch(3, 0, 0, 2, false))
	assert.Equal(t, Refused, Batch(3, 0, 0, 2, true))
	assert.Equal(t, Unproven, Batch(3, 1, 0, 0, true))
	assert.Equal(t, Refused, Batch(3, 1, 1, 0, false))
	assert.Equal(t, Unproven, Batch(0, 0, 0, 0, false), "a batch with no artifact proves nothing")
}

func TestPolicy(t *testing.T) {
	require.NoError(t, DefaultPolicy().Validate())
	for _, bad := range []func(*Policy){
		func(p *Policy) { p.DigestBits = -1 },
		func(p *Policy) { p.SightingChannels = 0 },
		func(p *Policy) { p.ExpiredSigner = Refuses },
	} {
		p := DefaultPolicy()
		bad(&p)
		assert.Error(t, p.Validate())
	}
}

// TestNamesAreMadeHarmless puts control characters into every name.
func TestNamesAreMadeHarmless(t *testing.T) {
	evil := "gauge-\x1b[31m\u202egnp.img"
	list := `\` + strings.ReplaceAll(line("image", evil), "\n", "") + "\n"
	r := judgeFolder(t, map[string]string{evil: "image", "SHA256SUMS": list}, "", nil)
	o := r.artifacts[evil]
	for _, g := range o.Grounds {
		assert.NotContains(t, g.Sentence+g.Advice, "\x1b")
		assert.NotContains(t, g.Sentence+g.Advice, "\u202e")
	}
	require.NotEmpty(t, o.Paths)
	for _, l := range o.Paths[0].Links {
		assert.NotContains(t, l.Label+l.Detail, "\x1b", l.Kind)
	}
}

// TestNothingClearsWithoutAnAdmittedSigner mixes right and wrong images,
// manifests and signatures of every kind at random. Whatever the mixture: the
// same evidence gives the same outcome; what is cleared has a complete path and
// a valid signature of an admitted, expected key over the right bytes; and
// nothing that refuses is overlooked.
func TestNothingClearsWithoutAnAdmittedSigner(t *testing.T) {
	signers := map[string]*pgptest.Key{
		"tidewright": tidewright, "brackwater": brackwater, "stranger": stranger, "candidate": candidate,
		"withdrawn": withdrawn, "expired": expired, "revoked": revoked,
	}
	names := slices.Sorted(maps.Keys(signers))
	rapid.Check(t, func(rt *rapid.T) {
		files := map[string]string{"gauge-main.img": rapid.SampledFrom([]string{"image", "other"}).Draw(rt, "image")}
		good := false
		add := func(name, content, signedContent string) {
			files[name] = content
			if rapid.Bool().Draw(rt, "sign "+name) {
				by := rapid.SampledFrom(names).Draw(rt, "signer of "+name)
				files[name+".sig"] = sign(signers[by], signedContent)
				good = good || by == "tidewright" && content == signedContent
			}
		}
		add(
			"gauge-main.img", files["gauge-main.img"],
			rapid.SampledFrom([]string{"image", "other"}).Draw(rt, "signed image"),
		)
		for _, list := range []string{"SHA256SUMS", "more.sha256"} {
			if rapid.Bool().Draw(rt, list) {
				content := sums(
					line(rapid.SampledFrom([]string{"image", "other"}).Draw(rt, list+" states"), "gauge-main.img"),
				)
				signedContent := content
				if rapid.Bool().Draw(rt, list+" altered") {
					signedContent += "x"
				}
				add(list, content, signedContent)
			}
		}
		first := judgeFolder(t, files, "", nil).artifacts["gauge-main.img"]
		second := judgeFolder(t, files, "", nil).artifacts["gauge-main.img"]
		a, err := json.Marshal(first)
		require.NoError(t, err)
		b, err := json.Marshal(second)
		require.NoError(t, err)
		if !bytes.Equal(a, b) {
			rt.Fatalf("the same evidence was judged differently:\n%s\n%s", a, b)
		}
		complete, refuses := false, false
		for _, p := range first.Paths {
			complete = complete || p.Complete
		}
		for _, g := range first.Grounds {
			refuses = refuses || g.Effect == Refuses
		}
		switch first.Verdict {
		case Cleared:
			if !complete || refuses || !good {
				rt.Fatalf("cleared with complete=%v refuses=%v good=%v: %v", complete, refuses, good, codes(first))
			}
		case Refused:
			if !refuses {
				rt.Fatalf("refused for no ground: %v", codes(first))
			}
		case Unproven:
			if complete || refuses {
				rt.Fatalf("unproven with complete=%v refuses=%v: %v", complete, refuses, codes(first))
			}
		case Companion:
			rt.Fatalf("a companion that nobody has named: %v", codes(first))
		}
	})
}

// TestInsideContainers judges what lies inside archives: by lists outside and
// inside, by signatures, and by what vouches for the archive.
func TestInsideContainers(t *testing.T) {
	list := sums(line("light", "nl-200.img"))
	plain := zipped(map[string]string{"nl-200.img": "light", "readme.md": "hello"})
	own := zipped(map[string]string{"fw/nl-200.img": "light", "fw/SHA256SUMS": list})
	bad := zipped(map[string]string{"fw/nl-200.img": "LIGHT", "fw/SHA256SUMS": list})
	nested := zipped(map[string]string{"inner.tar.gz": gzipped(string(packtest.Tar("nl-200.img", "light")))})
	for _, test := range []struct {
		name  string
		files map[string]string
		item  string
		want  Verdict
		codes []Code
	}{
		{"a signed list outside", map[string]string{"nl.zip": plain, "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}, "nl.zip//nl-200.img", Cleared, []Code{DigestMatch, SignatureValid}},
		{"which does not clear the archive", map[string]string{"nl.zip": plain, "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}, "nl.zip", Unproven, []Code{NotListed}},
		{"an unsigned list outside", map[string]string{"nl.zip": plain, "SHA256SUMS": list}, "nl.zip//nl-200.img", Unproven, []Code{DigestMatch, ManifestUnsigned}},
		{"a signature over a file inside", map[string]string{"nl.zip": plain, "nl-200.img.sig": sign(tidewright, "light")}, "nl.zip//nl-200.img", Cleared, []Code{SignatureValid}},
		{"a list inside a signed archive", map[string]string{"nl.zip": own, "nl.zip.sig": sign(tidewright, own)}, "nl.zip//fw/nl-200.img", Cleared, []Code{DigestMatch, ManifestUnsigned, WithinCleared}},
		{"a list inside an unknown archive", map[string]string{"nl.zip": own}, "nl.zip//fw/nl-200.img", Unproven, []Code{DigestMatch, ManifestUnsigned}},
		{"a signed archive that another list refuses", map[string]string{"nl.zip": own, "nl.zip.sig": sign(tidewright, own), "MD5SUMS": "00000000000000000000000000000000  nl.zip\n"}, "nl.zip//fw/nl-200.img", Unproven, []Code{DigestMatch, ManifestUnsigned}},
		{"a list that its archive breaks", map[string]string{"nl.zip": bad, "nl.zip.sig": sign(tidewright, bad)}, "nl.zip//fw/nl-200.img", Refused, []Code{DigestMismatch, WithinCleared}},
		{"a compressed archive inside another", map[string]string{"nl.zip": nested, "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}, "nl.zip//inner.tar.gz//nl-200.img", Cleared, []Code{DigestMatch, SignatureValid}},
		{"a compressed image", map[string]string{"nl-200.img.gz": gzipped("light"), "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}, "nl-200.img.gz//nl-200.img", Cleared, []Code{DigestMatch, SignatureValid}},
		{"a compressed archive", map[string]string{"nl.tgz": gzipped(string(packtest.Tar("./nl-200.img", "light"))), "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list)}, "nl.tgz//nl-200.img", Cleared, []Code{DigestMatch, SignatureValid}},
	} {
		r := judgeFolder(t, test.files, "", nil)
		o, ok := r.artifacts[test.item]
		require.True(t, ok, "%s: %v", test.name, slices.Sorted(maps.Keys(r.artifacts)))
		assert.Equal(t, test.want, o.Verdict, "%s: %+v", test.name, o.Grounds)
		assert.Equal(t, test.codes, codes(o), test.name)
	}
}

// TestMetalinkSignature clears by a signature that a Metalink file holds.
func TestMetalinkSignature(t *testing.T) {
	list := func(content, signed string) string {
		return fmt.Sprintf(
			`<metalink xmlns="urn:ietf:params:xml:ns:metalink"><file name="gauge.img"><hash type="sha-256">%x</hash><signature mediatype="application/pgp-signature">
%s</signature></file></metalink>`,
			sha256.Sum256([]byte(content)),
			pgptest.Armor("PGP SIGNATURE", []byte(sign(tidewright, signed))),
		)
	}
	o := judgeFolder(t, map[string]string{"gauge.img": "tide", "g.meta4": list("tide", "tide")}, "", nil).artifacts["gauge.img"]
	assert.Equal(t, Cleared, o.Verdict, "%+v", o.Grounds)
	o = judgeFolder(t, map[string]string{"gauge.img": "tide", "g.meta4": list("tide", "ebb")}, "", nil).artifacts["gauge.img"]
	assert.Equal(t, Refused, o.Verdict)
	assert.Contains(t, codes(o), SignatureInvalid)
	broken := strings.Replace(list("tide", "tide"), "BEGIN PGP", "BEGIN XXX", 1)
	o = judgeFolder(t, map[string]string{"gauge.img": "tide", "g.meta4": broken}, "", nil).artifacts["gauge.img"]
	assert.Equal(t, Unproven, o.Verdict)
	assert.Contains(t, codes(o), SignatureMalformed)
}

// TestSeveralReadings keeps every file that a name fits, and has the digest or
// the cryptography decide.
func TestSeveralReadings(t *testing.T) {
	r := judgeFolder(t, map[string]string{"a.img": "a", "b.img": "b", "release.sig": sign(tidewright, "b")}, "", nil)
	assert.Equal(t, Cleared, r.artifacts["b.img"].Verdict)
	assert.Contains(t, r.artifacts["b.img"].Grounds[0].Sentence, "the signature itself decides")
	assert.Equal(t, Unproven, r.artifacts["a.img"].Verdict)
	assert.Equal(t, []Code{SignatureInvalid, NotListed}, codes(r.artifacts["a.img"]))
	assert.Equal(t, Notes, r.artifacts["a.img"].Grounds[0].Effect)

	x, y := sums(line("a", "a.img")), sums(line("b", "b.img"))
	r = judgeFolder(
		t,
		map[string]string{"a.img": "a", "b.img": "b", "x.sha256": x, "y.sha256": y, "lists.sig": sign(tidewright, y)},
		"", nil,
	)
	assert.Equal(t, Cleared, r.artifacts["b.img"].Verdict)
	assert.Equal(t, Unproven, r.artifacts["a.img"].Verdict)
	assert.Equal(t, []Code{DigestMatch, ManifestUnsigned}, codes(r.artifacts["a.img"]))

	// The uncompressed form beside the compressed one: the signature is over both.
	r = judgeFolder(
		t, map[string]string{"x.tar": "tar", "x.tar.gz": gzipped("tar"), "x.tar.sig": sign(tidewright, "tar")}, "", nil,
	)
	assert.Equal(t, Cleared, r.artifacts["x.tar"].Verdict)
	assert.Equal(t, Cleared, r.artifacts["x.tar.gz"].Verdict)

	// Two archives hold a file of the listed name; the digest decides.
	list := sums(line("light 4.1", "nl-200.img"))
	r = judgeFolder(t, map[string]string{
		"4.0.zip": zipped(map[string]string{"nl-200.img": "light 4.0"}),
		"4.1.zip": zipped(map[string]string{"nl-200.img": "light 4.1"}), "SHA256SUMS": list,
		"SHA256SUMS.sig": sign(tidewright, list),
	}, "", nil)
	assert.Equal(t, Cleared, r.artifacts["4.1.zip//nl-200.img"].Verdict)
	assert.Contains(t, r.artifacts["4.1.zip//nl-200.img"].Grounds[0].Sentence, "the digest decides")
	assert.Equal(t, Unproven, r.artifacts["4.0.zip//nl-200.img"].Verdict)
	assert.Equal(t, []Code{DigestMismatch, NotListed}, codes(r.artifacts["4.0.zip//nl-200.img"]))
}

// TestCopiesOfAManifest weighs what copies from other channels state.
func TestCopiesOfAManifest(t *testing.T) {
	list, other := sums(line("logger", "logger.img")), sums(line("altered", "logger.img"))
	unsigned := map[string]string{"logger.img": "logger", "SHA256SUMS": list}
	signedFiles := map[string]string{
		"logger.img": "logger", "SHA256SUMS": list, "SHA256SUMS.sig": sign(tidewright, list),
	}
	site := map[string]survey.Provenance{"SHA256SUMS": {Channel: survey.VendorSite, Place: "oarlock.example"}}
	copied := func(content string, channels ...survey.Channel) []survey.Copy {
		var out []survey.Copy
		for _, c := range channels {
			out = append(
				out,
				survey.Copy{
					Of: "SHA256SUMS", Provenance: survey.Provenance{Channel: c, Place: "north"},
					Content: []byte(content),
				},
			)
		}
		return out
	}
	asks := func(n int) func(*Basis) { return func(b *Basis) { b.Policy.CorroborationChannels = n } }
	for _, test := range []struct {
		name   string
		files  map[string]string
		opts   survey.Options
		policy int
		want   Verdict
		says   string
	}{
		{"two channels, and two are enough", unsigned, survey.Options{Provenance: site, Copies: copied(list, survey.Mirror)}, 2, Cleared, "was seen on 2 channels: vendor site (oarlock.example), mirror (north)"},
		{"two channels, and three are asked for", unsigned, survey.Options{Provenance: site, Copies: copied(list, survey.Mirror)}, 3, Unproven, "asks for 3 channels, and the value was seen on 2"},
		{"two mirrors are one channel", unsigned, survey.Options{Copies: copied(list, survey.Mirror, survey.Mirror)}, 2, Unproven, "on one channel"},
		{"the policy does not want it", unsigned, survey.Options{Provenance: site, Copies: copied(list, survey.Mirror, survey.Paper)}, 0, Unproven, "does not let agreement between channels"},
		{"a copy disagrees", unsigned, survey.Options{Provenance: site, Copies: copied(other, survey.Mirror)}, 2, Refused, "states another SHA-256 digest"},
		{"a copy disagrees with a signed list", signedFiles, survey.Options{Copies: copied(other, survey.Mirror)}, 0, Cleared, "so the copy is wrong"},
		{"the list here was altered", map[string]string{"logger.img": "logger", "SHA256SUMS": other}, survey.Options{Copies: copied(list, survey.Mirror, survey.Paper)}, 2, Refused, "and the one here does not"},
		{"file and lists agree on another file", map[string]string{"logger.img": "swapped", "SHA256SUMS": list}, survey.Options{Copies: copied(list, survey.Mirror)}, 2, Refused, ""},
		{"a copy that could not be had", unsigned, survey.Options{Provenance: site, Copies: []survey.Copy{{Of: "SHA256SUMS", Trouble: "no answer"}}}, 2, Unproven, "on one channel"},
		{"too weak to count", map[string]string{"logger.img": "logger", "MD5SUMS": "b1e0b4a8e9a5a5d0d5c5a7b9c0e8f0aa  logger.img\n"}, survey.Options{}, 2, Refused, ""},
	} {
		o := judgeWith(t, test.files, "", test.opts, asks(test.policy)).artifacts["logger.img"]
		assert.Equal(t, test.want, o.Verdict, "%s: %+v", test.name, o.Grounds)
		text := ""
		for _, g := range o.Grounds {
			text += g.Sentence + "\n"
		}
		for _, p := range o.Paths {
			text += p.Missing + "\n"
		}
		assert.Contains(t, text, test.says, test.name)
	}
	assert.ErrorContains(
		t, Policy{RSABits: 2048, CorroborationChannels: 1, SightingChannels: 2, ExpiredSigner: Notes}.Validate(),
		"one channel corroborates nothing",
	)
}

// TestCleartextManifests takes digests from what the signatures around a text
// cover, and from nothing else.
func TestCleartextManifests(t *testing.T) {
	list := "Hello,\n\n" + line("logger", "logger.img") + "\n" + line("gone", "gone.img") + "\nbye"
	frame := func(text string, keys ...*pgptest.Key) string {
		return string(pgptest.Cleartext(text, pgptest.Sig{Created: signedAt}, keys...))
	}
	good := frame(list, tidewright)
	bytesSigned := good[:strings.Index(good, "-----BEGIN PGP SIGNATURE")] + string(
		pgptest.Armor("PGP SIGNATURE", tidewright.Sign([]byte(list), pgptest.Sig{Created: signedAt})),
	)
	for _, test := range []struct {
		name, file, content string
		want                Verdict
		code                Code
	}{
		{"by an admitted key", "SHA256SUMS.asc", good, Cleared, SignatureValid},
		{"under a text's name", "announcement.txt", good, Cleared, SignatureValid},
		{"by two, one admitted", "SHA256SUMS.asc", frame(list, stranger, tidewright), Cleared, SignatureValid},
		{"by nobody known", "SHA256SUMS.asc", frame(list, stranger), Unproven, SignerUnknown},
		{"by a candidate", "SHA256SUMS.asc", frame(list, candidate), Unproven, SignerCandidate},
		{"edited", "SHA256SUMS.asc", strings.Replace(good, "Hello", "Howdy", 1), Refused, SignatureInvalid},
		{"by another publisher", "SHA256SUMS.asc", frame(list, brackwater), Refused, WrongPublisher},
		{"with a signature over bytes", "SHA256SUMS.asc", bytesSigned, Unproven, SignatureUnacceptable},
		{"text before it", "SHA256SUMS.asc", "added\n" + good, Cleared, SignatureValid},
		{"a forged entry before it", "SHA256SUMS.asc", line("altered", "logger.img") + "\n" + good, Cleared, SignatureValid},
		{"two frames", "SHA256SUMS.asc", good + good, Unproven, NotListed},
		{"with a weak hash", "SHA256SUMS.asc", string(pgptest.Cleartext(list, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}, older)), Unproven, SignatureWeak},
		{"with a hash too short for the key", "SHA256SUMS.asc", string(pgptest.Cleartext(list, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA224}, tidewright)), Unproven, SignatureHashShort},
	} {
		r := judgeFolder(t, map[string]string{"logger.img": "logger", test.file: test.content}, "tidewright", nil)
		o := r.artifacts["logger.img"]
		assert.Equal(t, test.want, o.Verdict, "%s: %+v", test.name, o.Grounds)
		assert.Contains(t, codes(o), test.code, test.name)
	}
	o := judgeFolder(t, map[string]string{"logger.img": "altered", "SHA256SUMS.asc": line("altered", "logger.img") + "\n" + good}, "", nil).artifacts["logger.img"]
	assert.Equal(t, Refused, o.Verdict, "an entry outside the frame counts for nothing")
	assert.Equal(t, 6, o.Grounds[0].Line-1, "lines are those of the file")
	r := judgeFolder(t, map[string]string{"logger.img": "logger", "SHA256SUMS.asc": "added\n" + good}, "", nil)
	assert.Contains(t, codes(r.manifests["SHA256SUMS.asc"].Outcome), ManifestUnreadable)
}

// TestSignedMessages takes digests from the content of a signed message.
func TestSignedMessages(t *testing.T) {
	list := sums(line("logger", "logger.img"))
	message := func(content string, keys ...*pgptest.Key) string {
		return string(pgptest.Compressed(pgptest.Message([]byte(content), pgptest.Sig{Created: signedAt}, keys...)))
	}
	for _, test := range []struct {
		name, content string
		want          Verdict
		code          Code
	}{
		{"by an admitted key", message(list, tidewright), Cleared, SignatureValid},
		{"by two", message(list, stranger, tidewright), Cleared, SignatureValid},
		{"by nobody known", message(list, stranger), Unproven, SignerUnknown},
		{"by a revoked key", message(list, revoked), Refused, SignerRevoked},
		{"of a letter", message("a letter", tidewright), Unproven, SignatureMalformed},
	} {
		o := judgeFolder(t, map[string]string{"logger.img": "logger", "SHA256SUMS.pgp": test.content}, "", nil).artifacts["logger.img"]
		assert.Equal(t, test.want, o.Verdict, "%s: %+v", test.name, o.Grounds)
		assert.Contains(t, codes(o), test.code, test.name)
	}
	// A message is never a signature over the file it is named after.
	o := judgeFolder(t, map[string]string{"logger.img": "logger", "logger.img.sig": message("logger", tidewright)}, "", nil).artifacts["logger.img"]
	assert.Equal(t, Unproven, o.Verdict)
	assert.Equal(t, []Code{SignatureMalformed}, codes(o))
}

// TestPolicyFields names every field of the JSON form, and no other.
func TestPolicyFields(t *testing.T) {
	policy := DefaultPolicy()
	policy.Companions, policy.WeakerThanBefore = []string{"*.txt"}, Withholds // what is as it was is left out
	policy.ReferenceClears = true
	text, err := json.Marshal(policy)
	require.NoError(t, err)
	var form map[string]any
	require.NoError(t, json.Unmarshal(text, &form))
	for _, f := range PolicyFields() {
		assert.Contains(t, form, f.Name)
		assert.NotEmpty(t, f.Does)
		delete(form, f.Name)
	}
	assert.Empty(t, form, "fields without a word about them")
}

// TestPoliciesOfTheirOwn: what a publisher has otherwise holds for what its keys
// sign, and for nobody else.
func TestPoliciesOfTheirOwn(t *testing.T) {
	sha1Of := func(content, name string) string { return fmt.Sprintf("%x  %s", sha1.Sum([]byte(content)), name) }
	gauges := map[string]string{"gauge-1.img": "image", "SHA1SUMS": sums(sha1Of("image", "gauge-1.img"))}
	gauges["SHA1SUMS.sig"] = sign(tidewright, gauges["SHA1SUMS"])
	buoys := map[string]string{"buoy-1.img": "image", "SHA1SUMS": sums(sha1Of("image", "buoy-1.img"))}
	buoys["SHA1SUMS.sig"] = sign(brackwater, buoys["SHA1SUMS"])
	own := func(fields string) func(b *Basis) {
		return func(b *Basis) {
			p, err := b.Policy.With([]byte(fields))
			require.NoError(t, err)
			b.Own = map[string]Policy{"tidewright": p}
		}
	}
	assert.Equal(t, Unproven, judgeFolder(t, gauges, "", nil).artifacts["gauge-1.img"].Verdict)
	lax := own(`{"digest_bits": 60}`)
	assert.Equal(t, Cleared, judgeFolder(t, gauges, "", lax).artifacts["gauge-1.img"].Verdict)
	assert.Equal(t, Unproven, judgeFolder(t, buoys, "", lax).artifacts["buoy-1.img"].Verdict, "not for Brackwater")

	signed := map[string]string{
		"gauge-1.img": "image", "gauge-1.img.sig": sign(tidewright, "image"), "buoy-1.img": "b",
		"buoy-1.img.sig": sign(brackwater, "b"),
	}
	r := judgeFolder(t, signed, "", own(`{"curves": ["P-256"]}`))
	assert.Equal(t, Unproven, r.artifacts["gauge-1.img"].Verdict)
	assert.Equal(t, SignatureWeak, r.artifacts["gauge-1.img"].Grounds[0].Code)
	assert.Contains(
		t, r.artifacts["gauge-1.img"].Grounds[0].Sentence, "the policy does not accept keys on the curve Ed25519",
	)
	assert.Equal(t, Cleared, r.artifacts["buoy-1.img"].Verdict)

	// What is wrong stays wrong, and is not tried by anybody else's rules.
	signed["gauge-1.img"] = "changed"
	assert.Equal(t, Refused, judgeFolder(t, signed, "", lax).artifacts["gauge-1.img"].Verdict)
	delete(signed, "gauge-1.img.sig")
	signed["gauge-1.img.sig"] = sign(stranger, "changed")
	assert.Equal(t, Unproven, judgeFolder(t, signed, "", lax).artifacts["gauge-1.img"].Verdict)

	for fields, says := range map[string]string{`{"curves": ["P-257"]}`: "P-257", `{"digests": 1}`: "digests", `{"digest_bits": -1}`: "negative", `[]`: "cannot be read", `{"digest_bits": "x"}`: "cannot be read"} {
		_, err := DefaultPolicy().With([]byte(fields))
		assert.ErrorContains(t, err, says, fields)
	}
	before := DefaultPolicy()
	_, err := before.With([]byte(`{"curves": ["Ed448"]}`))
	require.NoError(t, err)
	assert.True(t, before.Equal(DefaultPolicy()), "the policy itself is untouched")
}

// TestMixedFolder has files of two publishers side by side: each is expected from its
// own, and what another's key signs about it does not clear it, directly or in a list.
func TestMixedFolder(t *testing.T) {
	t.Parallel()
	list := sums(line("gauge", "gauge-main.img"), line("buoy", "buoy-main.img"))
	mixed := func(more map[string]string) map[string]string {
		files := map[string]string{"gauge-main.img": "gauge", "buoy-main.img": "buoy"}
		maps.Copy(files, more)
		return files
	}
	for name, c := range map[string]struct {
		files       map[string]string
		gauge, buoy Verdict
	}{
		"a signature by the neighbour": {
			mixed(map[string]string{"gauge-main.img.sig": sign(brackwater, "gauge"), "buoy-main.img.sig": sign(brackwater, "buoy")}), Refused, Cleared,
		},
		"each by its own": {
			mixed(map[string]string{"gauge-main.img.sig": sign(tidewright, "gauge"), "buoy-main.img.sig": sign(brackwater, "buoy")}), Cleared, Cleared,
		},
		"one list of both, by one of them": {mixed(map[string]string{"SHA256SUMS": list, "SHA256SUMS.sig": sign(brackwater, list)}), Refused, Cleared},
		"the same, signed by both":         {mixed(map[string]string{"SHA256SUMS": list, "SHA256SUMS.sig": sign(brackwater, list) + sign(tidewright, list)}), Cleared, Cleared},
		"a list by the neighbour, and a signature of its own": {
			mixed(map[string]string{"SHA256SUMS": list, "SHA256SUMS.sig": sign(brackwater, list), "gauge-main.img.sig": sign(tidewright, "gauge")}), Cleared, Cleared,
		},
	} {
		r := judgeFolder(t, c.files, "", nil)
		assert.Equal(
			t, c.gauge, r.artifacts["gauge-main.img"].Verdict, "%s: %+v", name, r.artifacts["gauge-main.img"].Grounds,
		)
		assert.Equal(
			t, c.buoy, r.artifacts["buoy-main.img"].Verdict, "%s: %+v", name, r.artifacts["buoy-main.img"].Grounds,
		)
		if c.gauge == Refused {
			assert.True(
				t,
				slices.ContainsFunc(
					r.artifacts["gauge-main.img"].Grounds, func(g Ground) bool { return g.Code == WrongPublisher },
				),
				name,
			)
		}
	}
	// Who was named is expected for all of them.
	r := judgeFolder(
		t, mixed(map[string]string{"SHA256SUMS": list, "SHA256SUMS.sig": sign(brackwater, list)}), "brackwater", nil,
	)
	assert.Equal(t, Cleared, r.artifacts["gauge-main.img"].Verdict)
}
