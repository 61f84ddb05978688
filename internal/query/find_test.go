package query_test

import (
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/fault"
	"endeixis/internal/keys"
	"endeixis/internal/policy"
	"endeixis/internal/publishers"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// history is a service in which a few things have happened, a day apart.
func history(t *testing.T) (*testkit.Parts, *pgptest.Key) {
	t.Helper()
	at := testkit.Now()
	p := testkit.Assemble(t, testkit.Prepare(t), func() time.Time { return at })
	key := pgptest.NewKey("finder", pgptest.Ed25519, at.AddDate(-1, 0, 0))
	made := pgptest.NewCertificate(key).UserID("Finder", pgptest.Sig{
		Created: at.AddDate(-1, 0, 0), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)},
	})
	_, err := p.Publishers.Add(t.Context(), "tobiah", publishers.Details{Slug: "quoin", Name: "Quoin", Scope: []string{"q-*"}})
	require.NoError(t, err)
	for _, name := range []string{"q-1", "p_%", "q-2"} {
		b := folder(t, p, name, map[string]string{
			"q-light.img": name, "q-light.img.sig": string(key.Sign([]byte(name), pgptest.Sig{Created: at.AddDate(0, -1, 0)})),
			"other.img": "other " + name, "SHA256SUMS": strings.Repeat("ab", 32) + "  other.img\n",
		})
		finish(t, p, b.ID, p.Surveyed(t, b.ID))
		at = at.AddDate(0, 0, 1)
		if name != "q-1" {
			continue
		}
		_, _, err = p.Keys.Import(t.Context(), "tobiah", "quoin", "a letter", made.Bytes(), nil)
		require.NoError(t, err)
		fp := key.Fingerprint()
		_, _, err = p.Keys.Sight(t.Context(), "ines", fp, keys.NewSighting{Read: fp, Channel: keyring.Letter, Place: "a letter"})
		require.NoError(t, err)
		at = at.AddDate(0, 0, 1)
		_, err = p.Policy.Grant(
			t.Context(), "tobiah",
			policy.NewWaiver{Ground: judge.ManifestUnsigned, Pattern: "other*", Until: at.AddDate(0, 0, 30), Reason: "a test"},
		)
		require.NoError(t, err)
	}
	return p, key
}

// told is what a record says, as a search is held against it.
type told struct {
	store.Record
	head  recorded.Head
	terms []store.Term
	body  recorded.Body
}

func (r *told) has(facet string, fits func(value string) bool) bool {
	for _, t := range r.terms {
		if t.Facet == facet && fits(t.Value) {
			return true
		}
	}
	return false
}

func containing(part string) func(string) bool {
	return func(value string) bool { return strings.Contains(strings.ToLower(value), strings.ToLower(part)) }
}

func exactly(want string) func(string) bool { return func(value string) bool { return value == want } }

// fits is the filter, read by hand.
func (r *told) fits(f query.RecordFilter) bool {
	out := (f.Kind == "" || r.head.Kind == f.Kind) && (f.By == "" || r.head.By == f.By) &&
		(f.From == nil || !r.head.At.Before(*f.From)) && (f.To == nil || r.head.At.Before(*f.To)) &&
		(f.Name == "" || containing(f.Name)(r.head.Subject)) &&
		(f.Publisher == "" || r.has(store.PublisherFacet, exactly(f.Publisher))) &&
		(f.Ground == "" || r.has(store.GroundFacet, exactly(string(f.Ground)))) &&
		(f.Place == "" || r.has(store.PlaceFacet, containing(f.Place))) &&
		(f.Waiver == nil || r.has(store.WaiverFacet, exactly(strconv.FormatInt(*f.Waiver, 10)))) &&
		(f.Key == "" || r.has(store.KeyFacet, func(v string) bool {
			return strings.HasPrefix(v, strings.ToUpper(f.Key)) || strings.HasSuffix(v, strings.ToUpper(f.Key))
		}))
	if out && f.Digest != "" {
		outcome, ok := r.body.(recorded.ItemOutcome)
		if !ok {
			return false
		}
		digests, _ := outcome.Digests()
		out = false
		for _, d := range digests {
			out = out || strings.HasPrefix(d, strings.ToLower(f.Digest))
		}
	}
	return out
}

// TestSearchesFindWhatFits holds searches by all filters and any of their combinations against what the records
// say themselves, in questions of every size, page by page, with the count.
func TestSearchesFindWhatFits(t *testing.T) {
	t.Parallel()
	p, key := history(t)
	var all []told
	var digest string
	require.NoError(t, p.Store.EachRecord(t.Context(), func(r store.Record) error {
		head, body, err := recorded.Read(r.Position, r.Body)
		require.NoError(t, err)
		if o, ok := body.(recorded.ItemOutcome); ok {
			digests, err := o.Digests()
			require.NoError(t, err)
			digest = digests["SHA-256"]
		}
		all = append(all, told{r, head, recorded.Terms(head, body), body})
		return nil
	}))
	waiver := int64(-1)
	for _, r := range all {
		if r.head.Kind == ledger.WaiverGranted {
			waiver = r.head.Position
		}
	}
	require.NotEqual(t, int64(-1), waiver)
	fp := key.Fingerprint()
	day := testkit.Now().AddDate(0, 0, 1)
	choices := []func(*query.RecordFilter){
		func(f *query.RecordFilter) { f.By = "ines" }, func(f *query.RecordFilter) { f.By = "tobiah" },
		func(f *query.RecordFilter) { f.From = &day }, func(f *query.RecordFilter) { f.To = &day },
		func(f *query.RecordFilter) { f.Publisher = "quoin" }, func(f *query.RecordFilter) { f.Publisher = "nobody" },
		func(f *query.RecordFilter) { f.Ground = judge.SignerUnknown },
		func(f *query.RecordFilter) { f.Ground = judge.ManifestUnsigned },
		func(f *query.RecordFilter) { f.Key = strings.ToLower(fp[:8]) },
		func(f *query.RecordFilter) { f.Key = fp[len(fp)-16:] }, func(f *query.RecordFilter) { f.Key = fp },
		func(f *query.RecordFilter) { f.Digest = digest[:8] }, func(f *query.RecordFilter) { f.Digest = digest[:33] },
		func(f *query.RecordFilter) { f.Place = "Q-" }, func(f *query.RecordFilter) { f.Place = "p_%" },
		func(f *query.RecordFilter) { f.Place = "%" }, func(f *query.RecordFilter) { f.Place = `\` },
		func(f *query.RecordFilter) { f.Waiver = &waiver }, func(f *query.RecordFilter) { f.Name = "LIGHT" },
		func(f *query.RecordFilter) { f.Kind = ledger.ItemOutcome },
		func(f *query.RecordFilter) { f.Kind = ledger.Reassessed },
	}
	random := rand.New(rand.NewPCG(1, 2)) //nolint:gosec // the same each time
	some := 0
	for try := range 400 {
		var f query.RecordFilter
		if try < len(choices) {
			choices[try](&f)
		} else {
			for range 1 + random.IntN(3) {
				choices[random.IntN(len(choices))](&f)
			}
		}
		f.Limit = 1 + random.IntN(6)
		var want []int64
		for i := len(all) - 1; i >= 0; i-- {
			if all[i].fits(f) {
				want = append(want, all[i].head.Position)
			}
		}
		q := query.New(p.Store)
		if random.IntN(2) == 0 {
			q.Hasty(1 + random.IntN(9))
		}
		first := true
		var got []int64
		for _, r := range everything(t, func(cursor string) (query.Page[query.Record], error) {
			page, err := q.Records(t.Context(), f, cursor)
			if first && page.Count != nil {
				if page.AtLeast {
					assert.LessOrEqual(t, *page.Count, len(want), "%+v", f)
				} else {
					assert.Len(t, want, *page.Count, "%+v", f)
				}
			}
			first = false
			return page, err
		}) {
			got = append(got, r.Position)
		}
		require.Equal(t, want, got, "%+v", f)
		if len(want) > 0 {
			some++
		}
	}
	assert.Greater(t, some, 150, "of what was looked for most is there")
	for _, odd := range []query.RecordFilter{
		{By: "a\x00b"}, {By: "\xff"}, {Place: strings.Repeat("é%_'\"\\", 2000)}, {Label: "\x00"}, {Device: "’ OR true --"},
	} {
		odd.Limit = 10
		page, err := query.New(p.Store).Records(t.Context(), odd, "")
		require.NoError(t, err)
		assert.Empty(t, page.Rows)
		require.NotNil(t, page.Count)
		assert.Zero(t, *page.Count)
	}
	_, err := query.New(p.Store).Records(t.Context(), query.RecordFilter{Key: "4f6a", Limit: 10}, "")
	assert.True(t, fault.Is(err, fault.WideSearch), "%v", err)
	found, err := p.Records.Audit(t.Context(), records.AuditQuestion{Full: true}, func(int64, int64) {})
	require.NoError(t, err)
	assert.True(t, found.Clean, found.Sentence)
}
