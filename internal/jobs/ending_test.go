package jobs_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/batches"
	"endeixis/internal/sources"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestWorkThatAlwaysFailsEnds makes each write of a batch's steps fail for ever:
// the batch fails with a record that says why, and nobody comes back to it.
func TestWorkThatAlwaysFailsEnds(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	where := s.Write(
		t, "ending",
		map[string][]byte{
			"a.img": []byte("a"), "b.img": []byte("b"),
			"SHA256SUMS": []byte(strings.Repeat("0", 64) + "  c.img\n"),
		},
	)
	depot, path, _ := strings.Cut(where, ":")
	sql, err := pgx.Connect(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	t.Cleanup(func() { sql.Close(context.Background()) })
	operator := s.Client(t, "operator")

	_, err = sql.Exec(
		t.Context(),
		`CREATE FUNCTION fails() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'made to fail at %', TG_NAME; END $$`,
	)
	require.NoError(t, err)
	steps := map[string]string{
		"slices":         `BEFORE INSERT ON slices FOR EACH ROW WHEN (NEW.batch_id = %d)`,
		"items":          `BEFORE INSERT ON items FOR EACH ROW WHEN (NEW.batch_id = %d)`,
		"absents":        `BEFORE INSERT ON absents FOR EACH ROW WHEN (NEW.batch_id = %d)`,
		"slice_jobs":     `BEFORE INSERT ON river_job FOR EACH ROW WHEN (NEW.kind = 'measure-slice' AND (NEW.args ->> 'batch')::bigint = %d)`,
		"outcomes":       `BEFORE INSERT ON outcomes FOR EACH ROW WHEN (NEW.batch_id = %d)`,
		"item_records":   `BEFORE INSERT ON ledger_records FOR EACH ROW WHEN (NEW.kind = 'item-outcome' AND NEW.batch_id = %d)`,
		"slice_done":     `BEFORE UPDATE ON slices FOR EACH ROW WHEN (NEW.done AND NEW.n > 0 AND NEW.batch_id = %d)`,
		"batch_done":     `BEFORE UPDATE ON batches FOR EACH ROW WHEN (NEW.state = 'done' AND NEW.id = %d)`,
		"batch_surveyed": `BEFORE UPDATE ON batches FOR EACH ROW WHEN (NEW.state = 'measuring' AND NEW.id = %d)`,
	}
	started := map[string]int64{}
	for step, where := range steps {
		// The number is known before the batch is made, so that no step slips
		// through.
		var next int64
		require.NoError(t, sql.QueryRow(t.Context(), `SELECT coalesce(max(id), 0) + 1 FROM batches`).Scan(&next))
		_, err := sql.Exec(
			t.Context(), fmt.Sprintf(`CREATE TRIGGER fails_%s `+where+` EXECUTE FUNCTION fails()`, step, next),
		)
		require.NoError(t, err)
		b, err := operator.RunBatch(t.Context(), wire.NewBatch{Depot: depot, Path: path}, "")
		require.NoError(t, err)
		require.Equal(t, next, b.ID)
		started[step] = b.ID
	}
	for step, id := range started {
		var b wire.Batch
		require.Eventually(t, func() bool {
			b, err = operator.Batch(t.Context(), id)
			return err == nil && b.Closed()
		}, time.Minute, 100*time.Millisecond, step)
		assert.EqualValues(t, "failed", b.State, step)
		assert.Contains(t, b.Note, "made to fail at fails_"+step)
		if assert.NotNil(t, b.Record, step) {
			r, err := operator.Record(t.Context(), *b.Record)
			require.NoError(t, err)
			body, ok := r.Body.(map[string]any)
			require.True(t, ok)
			assert.Equal(t, "failed", body["state"], step)
			assert.Equal(t, b.Note, body["note"], step)
		}
	}
	// A moment longer than any job waits to be tried again.
	time.Sleep(7 * time.Second)
	var live int
	require.NoError(
		t,
		sql.QueryRow(
			t.Context(),
			`SELECT count(*) FROM river_job WHERE state IN ('available', 'retryable', 'running', 'scheduled', 'pending') AND kind IN ('survey-batch', 'measure-slice')`,
		).Scan(&live),
	)
	assert.Zero(t, live, "somebody comes back to it")
	_, err = sql.Exec(t.Context(), `DROP FUNCTION fails() CASCADE`)
	require.NoError(t, err)
	report, err := s.Client(t, "auditor").Audit(t.Context(), wire.NewAudit{}, nil)
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
}

// TestReassessmentThatAlwaysFailsEnds is the same for judging again.
func TestReassessmentThatAlwaysFailsEnds(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	sql, err := pgx.Connect(t.Context(), s.Config.Database.URL)
	require.NoError(t, err)
	t.Cleanup(func() { sql.Close(context.Background()) })
	_, err = sql.Exec(
		t.Context(),
		`CREATE FUNCTION fails() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'made to fail'; END $$;
		CREATE TRIGGER fails BEFORE UPDATE ON reassessments FOR EACH ROW WHEN (NEW.state = 'done') EXECUTE FUNCTION fails()`,
	)
	require.NoError(t, err)
	operator := s.Client(t, "operator")
	r, err := operator.Reassess(t.Context(), wire.Selection{All: true}, "a test")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		r, err = operator.Reassessment(t.Context(), r.ID)
		return err == nil && r.State != "waiting"
	}, time.Minute, 100*time.Millisecond)
	assert.EqualValues(t, "failed", r.State)
	assert.Contains(t, r.Note, "made to fail")
	assert.NotNil(t, r.Record)
}

// TestOpenWorkWithoutJobIsAdopted starts on a database that has lost its queue.
func TestOpenWorkWithoutJobIsAdopted(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	dir := filepath.Join(c.Depots["quayside"], "left")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.img"), []byte("a"), 0o644))
	p := testkit.Assemble(t, c, testkit.Now)
	var ids []int64
	for range 3 {
		b, err := p.Batches.Create(
			t.Context(), "ines",
			batches.Request{Source: sources.Source{Kind: sources.Depot, Reference: "quayside:left"}},
		)
		require.NoError(t, err)
		ids = append(ids, b.ID)
	}
	// One waits, one is surveyed, and of one nothing is left but to close it.
	for _, id := range ids[1:] {
		require.NoError(t, p.Batches.Survey(t.Context(), id))
	}
	require.NoError(t, p.Batches.Measure(t.Context(), ids[2], 1))
	sql, err := pgx.Connect(t.Context(), c.Database.URL)
	require.NoError(t, err)
	defer sql.Close(context.Background())
	_, err = sql.Exec(t.Context(), `TRUNCATE river_job`)
	require.NoError(t, err)
	testkit.StartWith(t, c)
	for _, id := range ids {
		assert.Eventually(t, func() bool {
			b, err := p.Batches.Get(t.Context(), id)
			return err == nil && b.State == "done"
		}, 20*time.Second, 50*time.Millisecond)
	}
}
