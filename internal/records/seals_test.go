package records_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
)

// begun returns a new ledger, and the file of its key.
func begun(t *testing.T) (*store.Store, *records.Service, string) {
	t.Helper()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.Migrate(t.Context()))
	file := filepath.Join(t.TempDir(), "ledger.key")
	r := records.New(s, testkit.Now)
	_, err = r.Init(t.Context(), file, "verify.skerrow.example")
	require.NoError(t, err)
	return s, r, file
}

func write(t *testing.T, s *store.Store, r *records.Service, subjects ...string) error {
	t.Helper()
	return s.Do(t.Context(), func(ctx context.Context, tx *store.Tx) error {
		var entries []records.Entry
		for _, subject := range subjects {
			entries = append(entries, records.Entry{By: "a test", Subject: subject, Body: recorded.BatchCancelled{}})
		}
		_, err := r.Append(ctx, tx, entries...)
		return err
	})
}

// TestWritersKey: a host without the ledger's key seals what it records with a key of its own
// file, and the service signs that; with another key it does not.
func TestWritersKey(t *testing.T) {
	t.Parallel()
	s, r, _ := begun(t)
	require.NoError(t, write(t, s, r, "a", "b"))
	text, err := r.WritersKey()
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "writers.key")
	require.NoError(t, os.WriteFile(file, []byte(text+"\n"), 0o600))

	worker := records.New(s, testkit.Now)
	require.ErrorContains(t, write(t, s, worker, "c"), "no key to seal records with")
	require.NoError(t, worker.LoadWritersKey(file))
	_, err = worker.WritersKey()
	require.Error(t, err, "it has no other key")
	require.NoError(t, write(t, s, worker, "c"))
	c, _, err := r.Sign(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 3, c.Size)

	first, keys, _ := strings.Cut(text, "\n")
	for _, bad := range []string{
		"", "endeixis-writers-key-1", first, first[:len(first)-2] + "\n" + keys, first + "00\n" + keys, text[len("endeixis-writers-key-1 "):], "endeixis-writers-key-1 " + text, keys, first + "\nledger x", first + "\n" + keys + "x",
	} {
		require.NoError(t, os.WriteFile(file, []byte(bad), 0o600))
		assert.True(t, fault.Is(worker.LoadWritersKey(file), fault.BadWritersKey), "%q", bad)
	}
	require.NoError(t, os.WriteFile(file, []byte(first[:len(first)-2]+"00\n"+keys), 0o600))
	require.NoError(t, worker.LoadWritersKey(file))
	err = write(t, s, worker, "d")
	assert.True(t, fault.Is(err, fault.LedgerAltered), "it does not know the others: %v", err)
}

// TestResume: the ledger of an earlier version is sealed once; one that does not go on from
// what is known beside the key is not gone on from, unless somebody says so.
func TestResume(t *testing.T) {
	t.Parallel()
	s, r, file := begun(t)
	require.NoError(t, write(t, s, r, "a", "b"))
	_, err := s.Pool.Exec(t.Context(), `DELETE FROM seals`) // as an earlier version leaves it
	require.NoError(t, err)
	again := func(resume func(*records.Service, context.Context) error) (*records.Service, error) {
		r := records.New(s, testkit.Now)
		require.NoError(t, r.LoadKey(t.Context(), file))
		return r, resume(r, t.Context())
	}
	r, err = again((*records.Service).Resume)
	require.NoError(t, err)
	c, signed, err := r.Sign(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 2, c.Size)
	kept, err := os.ReadFile(file + ".checkpoint")
	require.NoError(t, err)
	assert.Equal(t, signed, string(kept))
	// From then on nothing is sealed that stands there.
	_, err = s.Pool.Exec(t.Context(), `DELETE FROM seals`)
	require.NoError(t, err)
	r, err = again((*records.Service).Resume)
	require.NoError(t, err)
	report, err := r.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
	require.NoError(t, err)
	assert.False(t, report.Clean)
	assert.Contains(t, report.Sentence, "Record 0 is not sealed")

	// A checkpoint that is none of this ledger.
	require.NoError(t, os.WriteFile(file+".checkpoint", []byte("x"), 0o600))
	_, err = again((*records.Service).Resume)
	assert.True(t, fault.Is(err, fault.CheckpointStray), "%v", err)
	_, err = again((*records.Service).ResumeRestored)
	assert.True(t, fault.Is(err, fault.CheckpointStray), "nor after a restore: %v", err)

	// A ledger that is another, with as many records and more.
	other, o, _ := begun(t)
	require.NoError(t, write(t, other, o, "x", "y", "z"))
	o = records.New(other, func() time.Time { return testkit.Now().Add(time.Hour) })
	key, err := s.ServiceKey(t.Context())
	require.NoError(t, err)
	_, err = other.Pool.Exec(
		t.Context(),
		`ALTER TABLE service_key DISABLE TRIGGER append_only; UPDATE service_key SET public_key = '`+key.PublicKey+`'`,
	)
	require.NoError(t, err)
	require.NoError(t, o.LoadKey(t.Context(), file))
	require.NoError(t, os.WriteFile(file+".checkpoint", kept, 0o600))
	err = o.Resume(t.Context())
	assert.True(t, fault.Is(err, fault.LedgerOlder), "%v", err)
	assert.ErrorContains(t, err, "its first records are others")
	err = o.ResumeRestored(t.Context())
	assert.True(t, fault.Is(err, fault.LedgerAltered), "a restored database has the seals of this key: %v", err)
}

// TestResumeAfterRestore: a backup from before the newest record is gone on from, when somebody
// says so, and that is on record.
func TestResumeAfterRestore(t *testing.T) {
	t.Parallel()
	s, r, file := begun(t)
	require.NoError(t, write(t, s, r, "a"))
	require.NoError(t, write(t, s, r, "b"))
	c, kept, err := r.Sign(t.Context())
	require.NoError(t, err)
	require.EqualValues(t, 2, c.Size)
	_, err = s.Pool.Exec(
		t.Context(),
		`SET session_replication_role = replica; DELETE FROM ledger_records WHERE position = 1; DELETE FROM ledger_hashes WHERE index >= 1;
		DELETE FROM seals WHERE first = 1; UPDATE ledger_state SET size = 1; DELETE FROM checkpoints; SET session_replication_role = origin`,
	)
	require.NoError(t, err)
	r = records.New(s, testkit.Now)
	require.NoError(t, r.LoadKey(t.Context(), file))
	err = r.Resume(t.Context())
	assert.True(t, fault.Is(err, fault.LedgerOlder), "%v", err)
	assert.ErrorContains(t, err, "2 records are known")
	require.NoError(t, r.ResumeRestored(t.Context()))
	last, err := s.Record(t.Context(), 1)
	require.NoError(t, err)
	assert.Contains(t, string(last.Body), `"before":{"size":2`)
	assert.Contains(t, string(last.Body), `"after":{"size":1`)
	c, _, err = r.Sign(t.Context())
	require.NoError(t, err)
	assert.EqualValues(t, 2, c.Size)
	again := records.New(s, testkit.Now)
	require.NoError(t, again.LoadKey(t.Context(), file))
	require.NoError(t, again.Resume(t.Context()), "it is accepted once")

	// Whoever kept the checkpoint of what was there before is told by an audit against it.
	report, err := again.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
	report, err = again.Audit(t.Context(), records.AuditQuestion{Checkpoint: kept}, func(int64, int64) {})
	require.NoError(t, err)
	assert.False(t, report.Clean)
	assert.Contains(t, report.Sentence, "do not have the root of the checkpoint signed over them")
}

// TestClockSetBack: a clock that is a year behind for a while breaks nothing: records keep their
// order, and the audit holds.
func TestClockSetBack(t *testing.T) {
	t.Parallel()
	s, _, file := begun(t)
	now := testkit.Now()
	r := records.New(s, func() time.Time { return now })
	require.NoError(t, r.LoadKey(t.Context(), file))
	require.NoError(t, r.Resume(t.Context()))
	for _, years := range []int{0, -1, 0} {
		now = testkit.Now().AddDate(years, 0, 0)
		require.NoError(t, write(t, s, r, "a"))
		_, _, err := r.Sign(t.Context())
		require.NoError(t, err)
	}
	report, err := r.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
	assert.EqualValues(t, 3, report.Records)
}

// TestTwoKeysOverOneDatabase: a second service with a key of its own does not start.
func TestTwoKeysOverOneDatabase(t *testing.T) {
	t.Parallel()
	s, r, _ := begun(t)
	require.NoError(t, write(t, s, r, "a"))
	_, _, other := begun(t)
	second := records.New(s, testkit.Now)
	require.ErrorContains(t, second.LoadKey(t.Context(), other), "is not the one that this database has")
	require.ErrorContains(t, write(t, s, second, "b"), "no key to seal records with")
	report, err := r.Audit(t.Context(), records.AuditQuestion{}, func(int64, int64) {})
	require.NoError(t, err)
	assert.True(t, report.Clean, report.Sentence)
}
