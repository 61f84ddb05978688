package store_test

import (
	"context"
	"database/sql"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/tlog"
	"golang.org/x/sync/errgroup"

	"endeixis/core/ledger"
	"endeixis/internal/fault"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

func open(t *testing.T) (*store.Store, *pgx.Conn) {
	t.Helper()
	url := testkit.Database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.Migrate(t.Context()))
	conn, err := pgx.Connect(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	return s, conn
}

func record(body string) *store.Record {
	return &store.Record{Kind: "test", At: time.Now().UTC(), By: "ines", Subject: body, Body: []byte(body)}
}

func TestMigrateIsSafeToRepeatAndRunTogether(t *testing.T) {
	t.Parallel()
	url := testkit.Database(t)
	var g errgroup.Group
	for range 3 {
		g.Go(func() error {
			s, err := store.Open(t.Context(), url)
			if err != nil {
				return err
			}
			defer s.Close()
			return s.Migrate(t.Context())
		})
	}
	require.NoError(t, g.Wait())
}

// TestNewerSchemaIsLeftAlone: a program does not work on what it does not know.
func TestNewerSchemaIsLeftAlone(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	_, err = s.Pool.Exec(t.Context(), `INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)`)
	require.NoError(t, err)
	assert.True(t, fault.Is(s.Migrate(t.Context()), fault.DatabaseNewer))
}

// sealer seals with a key of the tests.
func sealer(_ *store.Seal, first int64, records []*store.Record, leaves []tlog.Hash) (store.Seal, error) {
	over := ledger.OverLeaves(leaves)
	seal := ledger.Seal{First: first, Records: int64(len(records)), Over: over}
	return store.Seal{
		First: first, Records: seal.Records, Over: over[:], MAC: seal.MAC([]byte("a key of the tests")),
	}, nil
}

// TestAppendOnly tries to change history by every means SQL has.
func TestAppendOnly(t *testing.T) {
	t.Parallel()
	s, conn := open(t)
	require.NoError(t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		return tx.Append(t.Context(), []*store.Record{record("a"), record("b")}, sealer)
	}))
	require.NoError(t, s.AddCheckpoint(t.Context(), store.StoredCheckpoint{Size: 2, Signed: "x", At: time.Now()}))
	for _, sql := range []string{
		`UPDATE ledger_records SET by_name = 'nobody'`, `DELETE FROM ledger_records`, `TRUNCATE ledger_records CASCADE`,
		`UPDATE ledger_hashes SET hash = hash`, `DELETE FROM ledger_hashes`, `TRUNCATE ledger_hashes`,
		`UPDATE checkpoints SET signed = 'y'`, `DELETE FROM checkpoints`, `UPDATE outcomes SET verdict = 'cleared'`, `DELETE FROM outcomes`,
		`DELETE FROM key_changes`, `UPDATE policies SET name = 'x'`, `DELETE FROM policies WHERE false`,
	} {
		_, err := conn.Exec(t.Context(), sql)
		require.Error(t, err, sql)
		assert.Contains(t, err.Error(), "never changed or removed", sql)
	}
}

// TestAppendsFromManySides appends at the same time from several transactions,
// and expects one sequence without gaps and a tree that fits it.
func TestAppendsFromManySides(t *testing.T) {
	t.Parallel()
	s, _ := open(t)
	var g errgroup.Group
	for range 8 {
		g.Go(func() error {
			for range 10 {
				if err := s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
					return tx.Append(
						t.Context(), []*store.Record{record(`{"n":1}`), record(`{"n":2}`), record(`{"n":3}`)}, sealer,
					)
				}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, g.Wait())
	var leaves []tlog.Hash
	next := int64(0)
	require.NoError(t, s.EachRecord(t.Context(), func(r store.Record) error {
		if r.Position != next {
			return errors.New("a gap")
		}
		next++
		leaves = append(leaves, ledger.Leaf(r.Body))
		return nil
	}))
	assert.EqualValues(t, 240, next)
	root, err := ledger.Root(next, s.Hashes(t.Context()))
	require.NoError(t, err)
	want, _, err := ledger.Extend(ledger.Checkpoint{}, leaves, nil)
	require.NoError(t, err)
	assert.Equal(t, want, root)
}

func TestRolledBackAppendLeavesNothing(t *testing.T) {
	t.Parallel()
	s, _ := open(t)
	boom := errors.New("after the append")
	err := s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		require.NoError(t, tx.Append(t.Context(), []*store.Record{record("a")}, sealer))
		return boom
	})
	require.ErrorIs(t, err, boom)
	size, err := s.LedgerSize(t.Context())
	require.NoError(t, err)
	assert.Zero(t, size)
}

func TestRecordFilters(t *testing.T) {
	t.Parallel()
	s, _ := open(t)
	cleared, batch := "cleared", int64(7)
	require.NoError(t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		a, b, c := record("Gauge.img"), record("buoy.img"), record("%_")
		a.Verdict, a.BatchID, c.Kind = &cleared, &batch, "other"
		return tx.Append(t.Context(), []*store.Record{a, b, c}, sealer)
	}))
	subjects := func(f store.RecordFilter) []string {
		f.Limit = 10
		rows, err := s.Records(t.Context(), f)
		require.NoError(t, err)
		out := []string{}
		for _, r := range rows {
			out = append(out, r.Subject)
		}
		return out
	}
	assert.Equal(t, []string{"%_", "buoy.img", "Gauge.img"}, subjects(store.RecordFilter{}))
	assert.Equal(t, []string{"Gauge.img"}, subjects(store.RecordFilter{Name: "gAUGE"}))
	assert.Equal(t, []string{"%_"}, subjects(store.RecordFilter{Name: "%"}), "no wildcards")
	assert.Equal(t, []string{"Gauge.img"}, subjects(store.RecordFilter{Verdict: "cleared"}))
	assert.Equal(t, []string{"Gauge.img"}, subjects(store.RecordFilter{BatchID: 7}))
	assert.Equal(t, []string{"%_"}, subjects(store.RecordFilter{Kind: "other"}))
	assert.Equal(t, []string{"Gauge.img"}, subjects(store.RecordFilter{Before: 1}))
	_, err := s.Record(t.Context(), 99)
	require.ErrorIs(t, err, store.ErrNotFound)
}

func TestUnreachableDatabase(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), "postgres://x:y@127.0.0.1:1/none")
	require.NoError(t, err)
	defer s.Close()
	_, err = s.LedgerSize(t.Context())
	require.True(t, fault.Is(err, fault.DatabaseDown), "%v", err)
	_, err = store.Open(t.Context(), "not an address %%")
	assert.ErrorContains(t, err, "database.url")
}

// TestRescueJobs takes the job of a worker that is gone, and leaves that of one
// that lives.
func TestRescueJobs(t *testing.T) {
	t.Parallel()
	s, conn := open(t)
	alive, err := s.HoldWorker(t.Context(), "alive")
	require.NoError(t, err)
	defer alive.Release(context.Background())
	dead, err := s.HoldWorker(t.Context(), "dead")
	require.NoError(t, err)
	assert.True(t, dead.Alive(t.Context()))
	for _, worker := range []string{"alive", "dead"} {
		_, err := conn.Exec(
			t.Context(),
			`INSERT INTO river_job (kind, args, max_attempts, queue, state, attempted_at, attempted_by, attempt)
			VALUES ('x', '{}', 5, 'q', 'running', now(), ARRAY[$1], 1)`,
			worker,
		)
		require.NoError(t, err)
	}
	n, err := s.RescueJobs(t.Context())
	require.NoError(t, err)
	assert.Zero(t, n, "both workers live")
	dead.Release(t.Context())
	require.Eventually(t, func() bool {
		n, err = s.RescueJobs(t.Context())
		return err == nil && n == 1
	}, 5*time.Second, 20*time.Millisecond)
	var state string
	require.NoError(
		t, conn.QueryRow(t.Context(), `SELECT state FROM river_job WHERE attempted_by = ARRAY['alive']`).Scan(&state),
	)
	assert.Equal(t, "running", state)
}

// TestThePoolIsNotAskedWithinATransaction: whatever would wait for a second
// connection while it holds one is refused at once.
func TestThePoolIsNotAskedWithinATransaction(t *testing.T) {
	t.Parallel()
	s, _ := open(t)
	require.NoError(t, s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		_, err := tx.Batch(ctx, 1)
		assert.ErrorIs(t, err, store.ErrNotFound, "the transaction can be asked")
		for name, ask := range map[string]func() error{
			"one row":             func() error { _, err := s.Batch(ctx, 1); return err },
			"rows":                func() error { _, err := s.Publishers(ctx); return err },
			"hashes":              func() error { _, err := s.Hashes(ctx).ReadHashes([]int64{0}); return err },
			"a write":             func() error { return s.AddCheckpoint(ctx, store.StoredCheckpoint{}) },
			"another transaction": func() error { return s.Do(ctx, func(context.Context, *store.Tx) error { return nil }) },
		} {
			assert.ErrorIs(t, ask(), store.ErrThroughPool, name)
		}
		return nil
	}))
}

// TestTransactionsAskThemselves reads the source: inside a transaction's
// function nothing is called on a store, under whatever context.
func TestTransactionsAskThemselves(t *testing.T) {
	t.Parallel()
	files, seen := token.NewFileSet(), 0
	require.NoError(t, filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			f, ok := n.(*ast.FuncLit)
			if !ok || !takesTx(f) {
				return true
			}
			seen++
			ast.Inspect(f.Body, func(n ast.Node) bool {
				if call, ok := n.(*ast.SelectorExpr); ok {
					if on, ok := call.X.(*ast.SelectorExpr); ok {
						assert.NotEqual(
							t, "store", strings.ToLower(on.Sel.Name), "%s: %s is asked of the pool",
							files.Position(call.Pos()), call.Sel.Name,
						)
					}
				}
				return true
			})
			return true
		})
		return nil
	}))
	assert.Greater(t, seen, 15, "no transaction was found: this test looks for the wrong thing")
}

// takesTx reports whether a function has a *store.Tx among its parameters.
func takesTx(f *ast.FuncLit) bool {
	for _, p := range f.Type.Params.List {
		if star, ok := p.Type.(*ast.StarExpr); ok {
			if name, ok := star.X.(*ast.SelectorExpr); ok && name.Sel.Name == "Tx" {
				return true
			}
		}
	}
	return false
}

// TestBatchesOfBeforeKeepTheirSource migrates batches that were stored with depot
// and path.
func TestBatchesOfBeforeKeepTheirSource(t *testing.T) {
	t.Parallel()
	url := testkit.Database(t)
	db, err := sql.Open("pgx", url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	provider, err := goose.NewProvider(goose.DialectPostgres, db, os.DirFS("migrations"))
	require.NoError(t, err)
	_, err = provider.UpTo(t.Context(), 9)
	require.NoError(t, err)
	_, err = db.ExecContext(
		t.Context(),
		`INSERT INTO policies (name, document, created_at, created_by) VALUES ('default', '{}', now(), 'x');
		INSERT INTO batches
			(label, depot, path, publisher, require_all, policy_version, asked_by, created_at, judged_as_of, state)
		VALUES ('', 'quayside', 'tidewright/a: b', '', false, 1, 'ines', now(), now(), 'waiting')`,
	)
	require.NoError(t, err)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.Migrate(t.Context()))
	b, err := s.Batch(t.Context(), 1)
	require.NoError(t, err)
	assert.Equal(t, [2]string{"depot", "quayside:tidewright/a: b"}, [2]string{b.SourceKind, b.Source})
}
