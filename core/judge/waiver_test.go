package judge_test

import (
	"crypto/md5"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "endeixis/core/judge"
	"endeixis/core/openpgp/pgptest"
)

func TestWaivers(t *testing.T) {
	md5Of := func(content, name string) string { return fmt.Sprintf("%x  %s", md5.Sum([]byte(content)), name) }
	weak := map[string]string{"gauge-1.img": "image", "MD5SUMS": sums(md5Of("image", "gauge-1.img"))}
	unsigned := map[string]string{"gauge-1.img": "image", "SHA256SUMS": sums(line("image", "gauge-1.img"))}
	signed := func(key *pgptest.Key, spec pgptest.Sig) map[string]string {
		return map[string]string{"gauge-1.img": "image", "gauge-1.img.sig": string(key.Sign([]byte("image"), spec))}
	}
	sha1Signed := signed(older, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1})
	next := now.AddDate(0, 3, 0)
	w := func(ground Code, publisher, pattern string) Waiver {
		return Waiver{
			Record: 7, Ground: ground, Publisher: publisher, Pattern: pattern, Reason: "they cannot", By: "tobiah",
			Until: next,
		}
	}
	granted := []Waiver{w(WeakDigestOnly, "tidewright", ""), w(ManifestUnsigned, "tidewright", "")}
	ended := slices.Clone(granted)
	ended[0].Until = now
	for _, c := range []struct {
		name    string
		files   map[string]string
		waivers []Waiver
		given   string
		want    Verdict
		uses    int
	}{
		{name: "none", files: weak, want: Unproven},
		{name: "weak and unsigned, both waived", files: weak, waivers: granted, want: Cleared, uses: 2},
		{name: "one of the two", files: weak, waivers: granted[:1], want: Unproven},
		{name: "the other", files: weak, waivers: granted[1:], want: Unproven},
		{name: "one has ended", files: weak, waivers: ended, want: Unproven},
		{name: "by name", files: weak, waivers: []Waiver{w(WeakDigestOnly, "", "gauge-?.img"), w(ManifestUnsigned, "", "gauge-*")}, want: Cleared, uses: 2},
		{name: "another name", files: weak, waivers: []Waiver{w(WeakDigestOnly, "", "buoy-*"), w(ManifestUnsigned, "", "gauge-*")}, want: Unproven},
		{name: "another publisher", files: weak, waivers: []Waiver{w(WeakDigestOnly, "brackwater", ""), w(ManifestUnsigned, "tidewright", "")}, want: Unproven},
		{name: "publisher given", files: weak, waivers: granted, given: "brackwater", want: Unproven},
		{name: "unsigned alone", files: unsigned, waivers: granted, want: Cleared, uses: 1},
		{name: "weak hash of a signature", files: sha1Signed, waivers: []Waiver{w(SignatureWeak, "tidewright", "")}, want: Cleared, uses: 1},
		{name: "too short for the key", files: signed(tidewright, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}), waivers: []Waiver{w(SignatureWeak, "tidewright", "")}, want: Unproven},
		{name: "weak and of a candidate", files: signed(candidate, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}), waivers: []Waiver{w(SignatureWeak, "tidewright", "")}, want: Unproven},
		{name: "weak and of another publisher", files: signed(brackwater, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}), waivers: []Waiver{w(SignatureWeak, "", "*")}, want: Refused},
		{name: "expired since", files: signed(expired, pgptest.Sig{Created: signedAt}), waivers: []Waiver{w(SignerExpired, "tidewright", "")}, want: Cleared, uses: 1},
		{name: "expired before", files: signed(expired, pgptest.Sig{Created: now.AddDate(0, -1, 0)}), waivers: []Waiver{w(SignerExpired, "tidewright", "")}, want: Unproven},
		{name: "weak and expired since", files: signed(expired, pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}), waivers: []Waiver{w(SignerExpired, "tidewright", ""), w(SignatureWeak, "tidewright", "")}, want: Unproven},
		{name: "not needed", files: signed(tidewright, pgptest.Sig{Created: signedAt}), waivers: append(granted, w(SignatureWeak, "", "*")), want: Cleared},
		{name: "what refuses stays", files: map[string]string{"gauge-1.img": "changed", "MD5SUMS": weak["MD5SUMS"]}, waivers: granted, want: Refused},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := judgeFolder(t, c.files, c.given, func(b *Basis) { b.Waivers = c.waivers })
			o := r.artifacts["gauge-1.img"]
			assert.Equal(t, c.want, o.Verdict, "%+v", o.Grounds)
			used := 0
			for _, g := range o.Grounds {
				if g.Code == WaivedGround {
					used++
					require.NotNil(t, g.Waiver)
					assert.Contains(
						t, g.Sentence, "waived by tobiah to the end of "+next.Add(-time.Nanosecond).Format(time.DateOnly)+" (record 7): they cannot",
					)
				}
			}
			assert.Equal(t, c.uses, used, "each waiver that was needed is named, and no other")
		})
	}
	// A waived path does not outrank anything.
	twice := map[string]string{
		"gauge-1.img": "image", "SHA256SUMS": sums(line("image", "gauge-1.img")),
		"other.sha256": sums(line("something else", "gauge-1.img")),
	}
	twice["SHA256SUMS.sig"] = string(
		older.Sign([]byte(twice["SHA256SUMS"]), pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1}),
	)
	r := judgeFolder(t, twice, "", func(b *Basis) { b.Waivers = []Waiver{w(SignatureWeak, "tidewright", "")} })
	assert.Equal(t, Refused, r.artifacts["gauge-1.img"].Verdict)
}
