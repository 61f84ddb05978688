package judge_test

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"crypto/sha512"
	"fmt"
	"path"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	. "endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/release"
	"endeixis/core/survey"
)

// years knows what was cleared in folders one after another, and has none of their files missing.
type years struct {
	files []Predecessor
	gone  []Companionship
}

func (y *years) Before(_ context.Context, paths []string) (map[string]*Before, error) {
	out := map[string]*Before{}
	for _, p := range paths {
		b := &Before{Missing: y.gone}
		for _, f := range slices.Backward(y.files) {
			if release.Of(f.File).Stem == release.Of(p).Stem {
				b.Files = append(b.Files, f)
			}
		}
		out[p] = b
	}
	return out, nil
}

// add takes what is cleared of a folder.
func (y *years) add(r result, files map[string]string) {
	batch := int64(len(y.files) + 1)
	for name, o := range r.artifacts {
		if Remembered(o.Verdict, o.Paths) {
			sum := sha256.Sum256([]byte(files[name]))
			y.files = append(y.files, Predecessor{
				Record: 10 * batch, Batch: batch, At: now, File: path.Base(name), SHA256: digest.Value(sum[:]),
				Support: SupportOf(o.Grounds, o.Paths),
			})
		}
	}
}

// signedOn signs at a month of 2025.
func signedOn(key *pgptest.Key, month int, data string) string {
	at := time.Date(2025, time.Month(month), 1, 0, 0, 0, 0, time.UTC)
	return string(key.Sign([]byte(data), pgptest.Sig{Created: at}))
}

// listed is a release with a signed list of SHA-256 values.
func listed(name, content string, key *pgptest.Key, month int) map[string]string {
	list := sums(line(content, name))
	return map[string]string{name: content, "SHA256SUMS": list, "SHA256SUMS.sig": signedOn(key, month, list)}
}

// detached is a release with a signature beside the file.
func detached(name, content string, key *pgptest.Key, month int) map[string]string {
	return map[string]string{name: content, name + ".sig": signedOn(key, month, content)}
}

// TestUnlikeBefore: what is weaker, older or otherwise than before is said with the record that it is
// held against, decides nothing unless a person has said that it does, and never refuses or clears.
func TestUnlikeBefore(t *testing.T) {
	type folders = []map[string]string
	wide := func(content, name string) string { return fmt.Sprintf("%x  %s", sha512.Sum512([]byte(content)), name) }
	weak := func(content, name string) string { return fmt.Sprintf("%x  %s", md5.Sum([]byte(content)), name) }
	both := func(name, content string, month int) map[string]string {
		list := sums(line(content, name), wide(content, name))
		return map[string]string{name: content, "DIGESTS": list, "DIGESTS.sig": signedOn(tidewright, month, list)}
	}
	unsigned := func(name, content string) map[string]string {
		return map[string]string{name: content, "SHA256SUMS": sums(line(content, name))}
	}
	md5only := func(name, content string, month int) map[string]string {
		list := sums(weak(content, name))
		return map[string]string{name: content, "MD5SUMS": list, "MD5SUMS.sig": signedOn(tidewright, month, list)}
	}
	one := listed("gauge-4.1.img", "one", tidewright, 1)
	two := listed("gauge-4.2.img", "two", tidewright, 3)
	for name, c := range map[string]struct {
		before  folders
		today   map[string]string
		of      string
		verdict Verdict
		code    Code // "" for nothing
		says    string
	}{
		"as it always was":                 {folders{one, two}, listed("gauge-4.3.img", "three", tidewright, 5), "gauge-4.3.img", Cleared, "", ""},
		"the same again":                   {folders{one, two}, two, "gauge-4.2.img", Cleared, "", ""},
		"nothing was before":               {nil, two, "gauge-4.2.img", Cleared, "", ""},
		"nothing of its stem was":          {folders{one}, listed("gauge-fw-4.2.img", "two", tidewright, 1), "gauge-fw-4.2.img", Cleared, "", ""},
		"a list unsigned for once":         {folders{one, two}, unsigned("gauge-4.3.img", "three"), "gauge-4.3.img", Unproven, WeakerThanBefore, "It is not signed, and each of the 2 that were cleared before was"},
		"no list at all":                   {folders{one}, map[string]string{"gauge-4.3.img": "three"}, "gauge-4.3.img", Unproven, WeakerThanBefore, "the one that was cleared before was"},
		"MD5 after SHA-256":                {folders{one, two}, md5only("gauge-4.3.img", "three", 5), "gauge-4.3.img", Unproven, WeakerThanBefore, "The list states MD5 of it, and before it was always something stronger"},
		"fewer digests":                    {folders{both("gauge-4.1.img", "one", 1)}, listed("gauge-4.3.img", "three", tidewright, 5), "gauge-4.3.img", Cleared, WeakerThanBefore, "The list states no SHA-512 of it"},
		"more digests":                     {folders{one}, both("gauge-4.3.img", "three", 5), "gauge-4.3.img", Cleared, "", ""},
		"another key of theirs":            {folders{one, two}, listed("gauge-4.3.img", "three", older, 5), "gauge-4.3.img", Cleared, WeakerThanBefore, "was signed by another"},
		"one of two keys":                  {folders{one, listed("gauge-4.2.img", "two", older, 3)}, listed("gauge-4.3.img", "three", tidewright, 5), "gauge-4.3.img", Cleared, "", ""},
		"a key that nobody knows":          {folders{one}, listed("gauge-4.3.img", "three", stranger, 5), "gauge-4.3.img", Unproven, WeakerThanBefore, "Its signature names"},
		"another publisher's key":          {folders{one}, listed("gauge-4.3.img", "three", brackwater, 5), "gauge-4.3.img", Refused, WeakerThanBefore, "was signed by another"},
		"an older release":                 {folders{two}, one, "gauge-4.1.img", Cleared, OlderThanCleared, "It was signed on 2025-01-01, and what was cleared before was signed later, on 2025-03-01"},
		"an older release, newly named":    {folders{two}, detached("gauge-4.3.img", "one", tidewright, 1), "gauge-4.3.img", Cleared, OlderThanCleared, "a step back"},
		"the same bytes, newly named":      {folders{detached("gauge-4.2.img", "two", tidewright, 3)}, detached("gauge-4.3.img", "two", tidewright, 3), "gauge-4.3.img", Cleared, OlderThanCleared, "By its name it is release “4.3”, and its bytes are those of another: “gauge-4.2.img”"},
		"the same name, other bytes":       {folders{two}, listed("gauge-4.2.img", "two!", tidewright, 5), "gauge-4.2.img", Cleared, NameReused, "The last time, this name stood for other bytes: “gauge-4.2.img”, cleared in batch 1 on 2026-06-01 (record 10)"},
		"a name without a number, renewed": {folders{listed("gauge-main.img", "one", tidewright, 1)}, listed("gauge-main.img", "two", tidewright, 3), "gauge-main.img", Cleared, NameReused, "each release the same name"},
		"and stepped back":                 {folders{listed("gauge-main.img", "one", tidewright, 1), listed("gauge-main.img", "two", tidewright, 3)}, listed("gauge-main.img", "one", tidewright, 1), "gauge-main.img", Cleared, OlderThanCleared, "a step back"},
		"refused stays refused":            {folders{one}, map[string]string{"gauge-4.3.img": "four", "SHA256SUMS": sums(line("three", "gauge-4.3.img"))}, "gauge-4.3.img", Refused, WeakerThanBefore, "It is not signed"},
	} {
		t.Run(name, func(t *testing.T) {
			var y years
			for _, files := range c.before {
				y.add(judgeAfter(t, files, "", survey.Options{}, nil, &y), files)
			}
			require.Len(t, y.files, len(c.before), "all before is cleared")
			o := judgeAfter(t, c.today, "", survey.Options{}, nil, &y).artifacts[c.of]
			assert.Equal(t, c.verdict, o.Verdict, "%+v", o.Grounds)
			at := slices.IndexFunc(o.Grounds, func(g Ground) bool { return slices.Contains(UnlikeBefore(), g.Code) })
			without := judgeFolder(t, c.today, "", nil).artifacts[c.of]
			assert.Equal(t, without.Verdict, o.Verdict, "it decides nothing")
			strict := judgeAfter(t, c.today, "", survey.Options{}, func(b *Basis) {
				b.Policy.WeakerThanBefore = Withholds
			}, &y).artifacts[c.of]
			if c.code == "" {
				assert.Negative(t, at, "%+v", o.Grounds)
				assert.Equal(t, c.verdict, strict.Verdict)
				return
			}
			require.GreaterOrEqual(t, at, 0, "%v", codes(o))
			found := slices.IndexFunc(o.Grounds, func(g Ground) bool { return g.Code == c.code && g.Earlier != nil })
			require.GreaterOrEqual(t, found, 0, "%v", codes(o))
			g := o.Grounds[found]
			assert.Contains(t, g.Sentence+" "+g.Advice, c.says)
			assert.Equal(t, Notes, g.Effect)
			assert.NotZero(t, g.Earlier.Record)
			if c.verdict == Cleared {
				assert.Equal(t, o.Grounds[at].Sentence, Deciding(o.Verdict, o.Grounds), "a list shows it")
				assert.Equal(t, Unproven, strict.Verdict, "where a person has said that it withholds, it does")
				assert.False(t, slices.ContainsFunc(strict.Paths, func(p ProofPath) bool { return p.Complete }))
			} else {
				assert.Equal(t, c.verdict, strict.Verdict, "and it never refuses, and never clears")
			}
		})
	}
}

// TestFilesThatDidNotCome are told by name.
func TestFilesThatDidNotCome(t *testing.T) {
	var y years
	one := listed("gauge-4.1.img", "one", tidewright, 1)
	y.add(judgeAfter(t, one, "", survey.Options{}, nil, &y), one)
	for i := range 5 {
		y.gone = append(y.gone, Companionship{
			File: fmt.Sprintf("notes-%d.txt", i), Batch: 1, Record: 7, At: time.Unix(1700000000, 0), Times: 2,
		})
	}
	o := judgeAfter(t, listed("gauge-4.2.img", "two", tidewright, 3), "", survey.Options{}, nil, &y).artifacts["gauge-4.2.img"]
	assert.Equal(t, Cleared, o.Verdict)
	at := slices.IndexFunc(o.Grounds, func(g Ground) bool { return g.Code == WeakerThanBefore })
	require.GreaterOrEqual(t, at, 0)
	assert.Equal(t, &EarlierFacts{Record: 7, Batch: 1, File: "notes-0.txt", At: time.Unix(1700000000, 0)}, o.Grounds[at].Earlier)
	assert.Contains(
		t, Deciding(o.Verdict, o.Grounds),
		"Nothing like “notes-0.txt”, “notes-1.txt”, “notes-2.txt” and 2 more came with it, as it did each of the 2 times before",
	)
}

// TestTwoPublishersOfOneStem: each is held against its own, and what is nobody's against neither.
func TestTwoPublishersOfOneStem(t *testing.T) {
	nobodys := func(b *Basis) { b.Keyring = keyring.New(b.Keyring.Keys(), nil); b.Expected = Expectation{How: "none"} }
	var y years
	for month, key := range []*pgptest.Key{tidewright, brackwater} {
		files := listed("firmware-1.0.bin", fmt.Sprint(month), key, month+1)
		y.add(judgeAfter(t, files, "", survey.Options{}, nobodys, &y), files)
	}
	require.Len(t, y.files, 2)
	own := listed("firmware-1.1.bin", "new", tidewright, 6)
	o := judgeAfter(t, own, "", survey.Options{}, nobodys, &y).artifacts["firmware-1.1.bin"]
	assert.Equal(t, Cleared, o.Verdict)
	assert.NotContains(t, codes(o), WeakerThanBefore)
	o = judgeAfter(t, map[string]string{"firmware-1.1.bin": "x"}, "", survey.Options{}, nobodys, &y).artifacts["firmware-1.1.bin"]
	assert.Equal(t, []Code{NotListed}, codes(o), "whose it is nobody knows")
}
