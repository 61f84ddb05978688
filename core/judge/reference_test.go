package judge_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// shelf knows files again, and nothing else of the time before.
type shelf map[string][]Reference

func (shelf) Before(context.Context, []string) (map[string]*Before, error) { return nil, nil }

func (s shelf) Same(_ context.Context, files []verify.Sought) (map[string][]Reference, error) {
	out := map[string][]Reference{}
	for _, f := range files {
		out[f.Path] = s[f.SHA256.String()]
	}
	return out, nil
}

// take puts what was judged in a folder on the shelf.
func (s shelf) take(r result, files map[string]string) {
	for name, o := range r.artifacts {
		sum := sha256.Sum256([]byte(files[name]))
		key := hex.EncodeToString(sum[:])
		s[key] = append(s[key], Reference{Record: 40, Batch: 4, At: now, File: name, Outcome: o})
	}
}

// TestKnownReference: bytes that a signature of the expected publisher has cleared, and clears still, clear a
// file where the policy for that publisher says so, and in no other case.
func TestKnownReference(t *testing.T) {
	on := func(b *Basis) { b.Policy.ReferenceClears = true }
	also := func(more func(*Basis)) func(*Basis) { return func(b *Basis) { on(b); more(b) } }
	waived := also(func(b *Basis) {
		for _, code := range []Code{ManifestUnsigned, SignatureWeak} {
			b.Waivers = append(b.Waivers, Waiver{Ground: code, Publisher: "tidewright", Until: now.AddDate(1, 0, 0)})
		}
	})
	own := func(slug string) func(*Basis) {
		return func(b *Basis) {
			policy := b.Policy
			policy.ReferenceClears = true
			b.Own = map[string]Policy{slug: policy}
		}
	}
	alone := map[string]string{"gauge-9.img": "image"}
	signed := detached("gauge-1.img", "image", tidewright, 1)
	weakly := map[string]string{
		"gauge-1.img":     "image",
		"gauge-1.img.sig": string(older.Sign([]byte("image"), pgptest.Sig{Created: signedAt, Hash: pgptest.SHA1})),
	}
	theirs := detached("buoy-1.img", "image", brackwater, 1)
	contradicted := detached("gauge-1.img", "image", tidewright, 1)
	contradicted["SHA256SUMS"] = sums(line("other", "gauge-1.img"))
	for name, c := range map[string]struct {
		before map[string]string
		today  map[string]string
		given  string
		adjust func(*Basis)
		want   Verdict
		code   bool
		says   string
	}{
		"by scope":                    {signed, alone, "", on, Cleared, true, "which is cleared by a signature of tidewright"},
		"by a list":                   {listed("gauge-1.img", "image", tidewright, 1), alone, "", on, Cleared, true, "(record 40)"},
		"given":                       {signed, map[string]string{"disk.bin": "image"}, "tidewright", on, Cleared, true, ""},
		"an unsigned list beside it":  {signed, map[string]string{"gauge-9.img": "image", "SHA256SUMS": sums(line("image", "gauge-9.img"))}, "", on, Cleared, true, ""},
		"their own policy":            {signed, alone, "", own("tidewright"), Cleared, true, ""},
		"another's policy":            {signed, alone, "", own("brackwater"), Unproven, false, ""},
		"the policy does not say so":  {signed, alone, "", nil, Unproven, false, ""},
		"expected from nobody":        {signed, map[string]string{"disk.bin": "image"}, "", on, Unproven, true, "nobody has said from whom this one is expected"},
		"expected from another":       {signed, alone, "brackwater", on, Unproven, true, "is expected from brackwater"},
		"another's file":              {theirs, alone, "", on, Unproven, true, "is expected from tidewright"},
		"other bytes":                 {signed, map[string]string{"gauge-1.img": "Image"}, "", on, Unproven, false, ""},
		"a list says otherwise":       {signed, map[string]string{"gauge-9.img": "image", "SHA256SUMS": sums(line("other", "gauge-9.img"))}, "", on, Refused, true, ""},
		"cleared by a waiver":         {weakly, alone, "", waived, Unproven, false, ""},
		"not cleared: a candidate":    {detached("gauge-1.img", "image", candidate, 1), alone, "", on, Unproven, false, ""},
		"not cleared: withdrawn":      {detached("gauge-1.img", "image", withdrawn, 1), alone, "", on, Unproven, false, ""},
		"not cleared: unsigned":       {map[string]string{"gauge-1.img": "image", "SHA256SUMS": sums(line("image", "gauge-1.img"))}, alone, "", on, Unproven, false, ""},
		"refused":                     {detached("gauge-1.img", "image", revoked, 1), alone, "", on, Unproven, false, ""},
		"refused beside a signature":  {contradicted, alone, "", on, Unproven, false, ""},
		"a stronger digest is wanted": {signed, alone, "", also(func(b *Basis) { b.Policy.DigestBits = 192 }), Unproven, false, ""},
		"its own signature clears it": {signed, detached("gauge-9.img", "image", tidewright, 3), "", on, Cleared, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := shelf{}
			s.take(judgeFolder(t, c.before, "", c.adjust), c.before)
			r := judgeAfter(t, c.today, c.given, survey.Options{}, c.adjust, s)
			require.Len(t, r.artifacts, 1)
			o := slices.Collect(maps.Values(r.artifacts))[0]
			assert.Equal(t, c.want, o.Verdict, "%+v", o.Grounds)
			at := slices.IndexFunc(o.Grounds, func(g Ground) bool { return g.Code == KnownReference })
			assert.Equal(t, c.code, at >= 0)
			if c.says != "" {
				said := o.Grounds[max(at, 0)].Sentence
				for _, p := range o.Paths {
					said += " " + p.Missing
				}
				assert.Contains(t, said, c.says)
			}
			if at >= 0 && c.want == Cleared {
				assert.Equal(t, Supports, o.Grounds[at].Effect)
				assert.EqualValues(t, 40, o.Grounds[at].Earlier.Record)
				assert.Equal(t, "tidewright", SupportOf(o.Grounds, o.Paths).Publisher)
				assert.False(t, Remembered(o.Verdict, o.Paths), "and no other file is known by it")
				assert.NotContains(t, codes(o), NotListed)
			}
		})
	}
}

// TestWhatVouchesArrived: the very file, verified later, clears it without a word of the policy, for whom it is
// expected from.
func TestWhatVouchesArrived(t *testing.T) {
	files := detached("gauge-1.img", "image", tidewright, 1)
	for _, c := range []struct {
		given string
		bits  int
		want  Verdict
	}{{"", 128, Cleared}, {"tidewright", 128, Cleared}, {"brackwater", 128, Unproven}, {"", 192, Unproven}} {
		adjust := func(b *Basis) { b.Policy.DigestBits = c.bits }
		s := shelf{}
		s.take(judgeFolder(t, files, "", adjust), files)
		for _, list := range s {
			list[0].Arrived = true
		}
		alone := map[string]string{"gauge-1.img": "image"}
		o := judgeAfter(t, alone, c.given, survey.Options{}, adjust, s).artifacts["gauge-1.img"]
		assert.Equal(t, c.want, o.Verdict, "%+v", c)
		if c.want == Cleared {
			assert.Contains(t, Deciding(o.Verdict, o.Grounds), "What vouches for it came later: in batch 4")
		}
		// Of a folder of which nobody has said whose it is, any admitted key counts, as it would beside the file.
		nobodys := judgeAfter(t, map[string]string{"disk.bin": "image"}, "", survey.Options{}, adjust, s).artifacts["disk.bin"]
		assert.Equal(t, c.bits == 128, nobodys.Verdict == Cleared)
	}
}

// TestSeveralReferences: of files with the same bytes one of the expected publisher counts, wherever it stands.
func TestSeveralReferences(t *testing.T) {
	on := func(b *Basis) { b.Policy.ReferenceClears = true }
	s := shelf{}
	for _, files := range []map[string]string{
		detached("buoy-1.img", "image", brackwater, 1), detached("gauge-1.img", "image", candidate, 1),
		detached("gauge-2.img", "image", tidewright, 1),
	} {
		s.take(judgeFolder(t, files, "", on), files)
	}
	today := map[string]string{"gauge-9.img": "image"}
	o := judgeAfter(t, today, "", survey.Options{}, on, s).artifacts["gauge-9.img"]
	assert.Equal(t, Cleared, o.Verdict)
	// What a reference says is not believed of a key that counts no longer.
	fallen := func(b *Basis) {
		on(b)
		b.Keyring = keyring.New(nil, []keyring.Publisher{{Slug: "tidewright", Scope: []string{"gauge-*"}}})
	}
	again := shelf{}
	files := detached("gauge-2.img", "image", tidewright, 1)
	again.take(judgeFolder(t, files, "", fallen), files)
	o = judgeAfter(t, today, "", survey.Options{}, fallen, again).artifacts["gauge-9.img"]
	assert.Equal(t, Unproven, o.Verdict)
	assert.NotContains(t, codes(o), KnownReference)
}
