package query_test

import (
	"context"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/batches"
	"endeixis/internal/query"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// folder writes files into a folder of the depot, and asks for a batch of it.
func folder(t *testing.T, p *testkit.Parts, name string, files map[string]string) query.Batch {
	t.Helper()
	dir := filepath.Join(p.Depots["quayside"], name)
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for file, content := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(content), 0o644))
	}
	b, err := p.Batches.Create(
		t.Context(), "ines",
		batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:" + name}},
	)
	require.NoError(t, err)
	return b
}

func finish(t *testing.T, p *testkit.Parts, id int64, slices []int) query.Batch {
	t.Helper()
	for _, slice := range slices {
		require.NoError(t, p.Batches.Measure(t.Context(), id, slice))
	}
	_, err := p.Batches.Finish(t.Context(), id)
	require.NoError(t, err)
	b, err := p.Batches.Get(t.Context(), id)
	require.NoError(t, err)
	return b
}

// everything follows the pages of a list to its end.
func everything[T any](t *testing.T, page func(cursor string) (query.Page[T], error)) []T {
	t.Helper()
	var out []T
	for cursor, pages := "", 0; ; pages++ {
		require.Less(t, pages, 10_000, "the list does not end")
		p, err := page(cursor)
		require.NoError(t, err)
		out = append(out, p.Rows...)
		if p.Next == "" {
			return out
		}
		cursor = p.Next
	}
}

// TestItemsRefusedFirst lists a batch while it is measured and when it is done,
// in pages of every size: each item once, those that need attention first, over
// the whole batch.
func TestItemsRefusedFirst(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	c.Work.SliceItems = 3
	p := testkit.Assemble(t, c, testkit.Now)
	q := query.New(p.Store)
	files, list := map[string]string{}, ""
	for i := range 9 {
		name := fmt.Sprintf("gauge-%d.bin", i)
		files[name] = name
		if i%4 == 2 {
			files[name] = "altered" // the later ones are refused
		}
		if i != 5 {
			list += fmt.Sprintf("%x  %s\n", sha256.Sum256([]byte(name)), name)
		}
	}
	files["SHA256SUMS"] = list
	b := folder(t, p, "order", files)
	slices := p.Surveyed(t, b.ID)
	require.Len(t, slices, 3)
	require.NoError(t, p.Batches.Measure(t.Context(), b.ID, slices[1]))

	order := func(f query.ItemFilter, limit int) []string {
		f.Limit = limit
		var out []string
		for _, row := range everything(t, func(cursor string) (query.Page[query.Item], error) {
			return q.Items(t.Context(), b.ID, f, cursor)
		}) {
			verdict := "-"
			if row.Verdict != nil {
				verdict = string(*row.Verdict)
			}
			out = append(out, verdict[:1]+" "+row.Path)
		}
		return out
	}
	for limit := 1; limit <= 11; limit++ {
		assert.Equal(t, []string{
			"u gauge-3.bin", "u gauge-4.bin", "u gauge-5.bin", "- SHA256SUMS",
			"- gauge-0.bin", "- gauge-1.bin", "- gauge-2.bin", "- gauge-6.bin", "- gauge-7.bin", "- gauge-8.bin",
		}, order(query.ItemFilter{}, limit), "pages of %d", limit)
	}
	b = finish(t, p, b.ID, slices)
	for limit := 1; limit <= 11; limit++ {
		assert.Equal(t, []string{
			"r gauge-2.bin",
			"r gauge-6.bin",
			"u gauge-0.bin",
			"u gauge-1.bin",
			"u gauge-3.bin",
			"u gauge-4.bin",
			"u gauge-5.bin",
			"u gauge-7.bin",
			"u gauge-8.bin",
			"- SHA256SUMS",
		}, order(query.ItemFilter{}, limit), "pages of %d", limit)
		assert.Equal(t, []string{"r gauge-2.bin", "r gauge-6.bin"}, order(query.ItemFilter{Verdict: "refused"}, limit))
		assert.Equal(t, []string{"- SHA256SUMS"}, order(query.ItemFilter{Role: "evidence"}, limit))
		assert.Equal(t, []string{"r gauge-6.bin"}, order(query.ItemFilter{Match: "*-6.???"}, limit))
	}
	assert.Equal(t, [4]int{0, 7, 2, 10}, [4]int{b.Cleared, b.Unproven, b.Refused, b.ItemsDone})
	for _, cursor := range []string{"x", "1", "1.x", "-1.2", "1.-2", "1.2.3"} {
		_, err := q.Items(t.Context(), b.ID, query.ItemFilter{Limit: 5}, cursor)
		assert.ErrorContains(t, err, "not a cursor", cursor)
	}
}

// TestNothingIsCut lists more absent entries than any page has.
func TestNothingIsCut(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Prepare(t), testkit.Now)
	q := query.New(p.Store)
	list := ""
	for i := range 2500 {
		list += fmt.Sprintf("%x  edition-%04d.img\n", sha256.Sum256([]byte(fmt.Sprint(i))), i)
	}
	b := folder(t, p, "absent", map[string]string{"SHA256SUMS": list, "edition-0007.img": "7"})
	slices := p.Surveyed(t, b.ID)
	b = finish(t, p, b.ID, slices)
	assert.Equal(t, 2499, b.Absent)
	rows := everything(t, func(cursor string) (query.Page[query.Absent], error) {
		return q.Absents(t.Context(), b.ID, cursor, 1000)
	})
	require.Len(t, rows, 2499)
	assert.Equal(t, "edition-2499.img", rows[2498].Name)
}

// TestWhatIsSearchedIsStored: digests of every algorithm, and the counts of a
// batch and a day, as they follow from outcomes and records.
func TestWhatIsSearchedIsStored(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	p := testkit.Assemble(t, c, testkit.Now)
	q := query.New(p.Store)
	b := folder(
		t, p, "md5",
		map[string]string{
			"MD5SUMS":  fmt.Sprintf("%x  lamp.img\n%x  lens.img\n", md5.Sum([]byte("lamp")), md5.Sum([]byte("other"))),
			"lamp.img": "lamp", "lens.img": "lens",
		},
	)
	slices := p.Surveyed(t, b.ID)
	finish(t, p, b.ID, slices)
	conn, err := pgx.Connect(t.Context(), c.Database.URL)
	require.NoError(t, err)
	defer conn.Close(context.Background())
	sum := md5.Sum([]byte("lamp"))
	rows, err := conn.Query(
		t.Context(), `SELECT i.path FROM outcome_digests d JOIN items i USING (batch_id, n) WHERE d.digest = $1`,
		sum[:],
	)
	require.NoError(t, err)
	found, err := pgx.CollectRows(rows, pgx.RowTo[string])
	require.NoError(t, err)
	assert.Equal(t, []string{"lamp.img"}, found, "an item that is listed only by MD5 is found by it")
	seen, err := q.Overview(t.Context(), time.Now())
	require.NoError(t, err)
	day := time.Now().UTC().Format(time.DateOnly)
	assert.Equal(
		t, []query.DayCount{{Day: day, Verdict: "refused", Count: 1}, {Day: day, Verdict: "unproven", Count: 1}},
		seen.Days,
	)
	require.Len(t, seen.Refused, 1)
	assert.Equal(t, [2]int{1, 1}, [2]int{seen.Refused[0].Refused, seen.Refused[0].Unproven})
	page, err := q.Records(t.Context(), query.RecordFilter{Name: "AMP.IM", Limit: 5}, "")
	require.NoError(t, err)
	require.Len(t, page.Rows, 1)
	assert.Nil(t, page.Rows[0].Body, "a list carries no bodies")
	assert.Len(t, page.Rows[0].Leaf, 32)
	for _, odd := range []string{"%", "_", `\`, "*", "?"} {
		page, err := q.Records(t.Context(), query.RecordFilter{Name: odd, Limit: 5}, "")
		require.NoError(t, err)
		assert.Empty(t, page.Rows, "%s stands for itself", odd)
	}
}

// TestLongSearch goes through the records window by window: pages may be empty,
// and nothing is left out or told twice.
func TestLongSearch(t *testing.T) {
	t.Parallel()
	p := testkit.Assemble(t, testkit.Bare(t), testkit.Now)
	for i := range 25 {
		subject := fmt.Sprintf("gauge-%d", i)
		if i%8 == 0 {
			subject = fmt.Sprintf("Lamp-77/%d.img", i)
		}
		if i%4 == 2 {
			subject = fmt.Sprintf("buoy-77/%d.img", i)
		}
		require.NoError(t, p.Store.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
			_, err := p.Records.Append(
				ctx, tx, records.Entry{By: "harbour", Subject: subject, Body: recorded.BatchCancelled{}},
			)
			return err
		}))
	}
	for _, limit := range []int{1, 2, 3, 100} {
		for _, search := range []struct {
			name string
			few  int
		}{{"lamp", 100}, {"la", 100}, {"lamp-77/", 100}, {"lAMP-77/", 2}, {"lamp-77", 0}} {
			name := search.name
			q := query.New(p.Store)
			q.Narrow(3, -1, search.few)
			var subjects []string
			empty := 0
			for cursor, more := "", true; more; {
				page, err := q.Records(t.Context(), query.RecordFilter{Name: name, Limit: limit}, cursor)
				require.NoError(t, err)
				require.LessOrEqual(t, len(page.Rows), limit)
				if len(page.Rows) == 0 {
					empty++
				}
				for _, r := range page.Rows {
					subjects = append(subjects, r.Subject)
				}
				cursor, more = page.Next, page.Next != ""
			}
			assert.Equal(
				t, []string{"Lamp-77/24.img", "Lamp-77/16.img", "Lamp-77/8.img", "Lamp-77/0.img"}, subjects,
				"%s in pages of %d", name, limit,
			)
			assert.Equal(t, name == "la", empty > 0, "only what has no index comes in parts")
		}
	}
}
