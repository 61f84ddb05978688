package records_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/records"
	"endeixis/internal/testkit"
)

// TestAuditGoesOn: an audit of a great ledger reads what is new, and says so. What is before that
// has to have the root that was proven; of rows that follow from it a full one tells.
func TestAuditGoesOn(t *testing.T) {
	t.Parallel()
	s, r, file := begun(t)
	r.AuditWholeUpTo(3)
	audit := func(q records.AuditQuestion) (records.Report, int64) {
		t.Helper()
		first := int64(-1)
		report, err := r.Audit(t.Context(), q, func(done, _ int64) {
			if first < 0 {
				first = done
			}
		})
		require.NoError(t, err)
		return report, first
	}
	alter := func(sql ...string) {
		t.Helper()
		for _, table := range []string{"ledger_records", "ledger_hashes", "checkpoints"} {
			sql = append([]string{`ALTER TABLE ` + table + ` DISABLE TRIGGER USER`}, sql...)
		}
		for _, table := range []string{"ledger_records", "ledger_hashes", "checkpoints"} {
			sql = append(sql, `ALTER TABLE `+table+` ENABLE TRIGGER USER`)
		}
		for _, inquiry := range sql {
			_, err := s.Pool.Exec(t.Context(), inquiry)
			require.NoError(t, err, inquiry)
		}
	}
	require.NoError(t, write(t, s, r, "a", "b"))
	_, _, err := r.Sign(t.Context())
	require.NoError(t, err)
	report, first := audit(records.AuditQuestion{})
	require.True(t, report.Clean, report.Sentence)
	assert.Zero(t, first)
	require.NoError(t, write(t, s, r, "c", "d"))
	_, _, err = r.Sign(t.Context())
	require.NoError(t, err)
	report, first = audit(records.AuditQuestion{})
	require.True(t, report.Clean, report.Sentence)
	assert.EqualValues(t, 2, first)
	assert.EqualValues(t, 2, report.From)
	assert.Equal(t, 1, report.Checkpoints)
	assert.Contains(t, report.Sentence, "goes on from the 2 records of the audit of")
	assert.Contains(t, report.Sentence, "the 2 new ones")
	// Nothing is new.
	report, _ = audit(records.AuditQuestion{})
	require.True(t, report.Clean, report.Sentence)
	assert.EqualValues(t, 4, report.From)
	report, first = audit(records.AuditQuestion{Full: true})
	require.True(t, report.Clean, report.Sentence)
	assert.Zero(t, first)
	assert.Zero(t, report.From)

	// A text before that: nothing leads to it but a full one.
	alter(`UPDATE ledger_records SET page = 2 WHERE position = 0`)
	report, _ = audit(records.AuditQuestion{})
	assert.True(t, report.Clean)
	report, _ = audit(records.AuditQuestion{Full: true})
	assert.False(t, report.Clean)
	assert.Contains(t, report.Sentence, "Record 0 differs")
	assert.Contains(t, r.Trouble(t.Context()), "Record 0 differs")
	report, _ = audit(records.AuditQuestion{})
	assert.True(t, report.Clean)
	assert.Contains(t, r.Trouble(t.Context()), "Record 0 differs", "until one has read as much")
	alter(`UPDATE ledger_records SET page = 0 WHERE position = 0`)
	report, _ = audit(records.AuditQuestion{Full: true})
	assert.True(t, report.Clean, report.Sentence)
	assert.Empty(t, r.Trouble(t.Context()))

	// A hash of the tree before that, and a ledger that is shorter than what was read.
	alter(
		`CREATE TABLE kept AS SELECT * FROM ledger_hashes`,
		`UPDATE ledger_hashes SET hash = sha256('x') WHERE index = 2`,
	)
	report, _ = audit(records.AuditQuestion{Full: true})
	assert.Contains(t, report.Sentence, "hashes at record 1")
	alter(`UPDATE ledger_hashes h SET hash = k.hash FROM kept k WHERE k.index = h.index`, `DROP TABLE kept`)
	alter(`UPDATE ledger_state SET size = 3`)
	r.AuditWholeUpTo(0)
	report, _ = audit(records.AuditQuestion{})
	assert.Contains(t, report.Sentence, "only 3 are here: records are missing")
	alter(`UPDATE ledger_state SET size = 4`)
	report, _ = audit(records.AuditQuestion{Full: true})
	assert.True(t, report.Clean, report.Sentence)

	// What is kept beside the key and is damaged says nothing: all of it is read.
	require.NoError(t, os.WriteFile(file+".audit", []byte("{"), 0o600))
	report, first = audit(records.AuditQuestion{})
	assert.True(t, report.Clean, report.Sentence)
	assert.Zero(t, first)
}

// TestAuditIsTakenUp: an audit whose process has ended is gone on with where it was.
func TestAuditIsTakenUp(t *testing.T) {
	t.Parallel()
	s, r, file := begun(t)
	for n := range 3 {
		subjects := make([]string, records.AuditedAtOnce)
		for i := range subjects {
			subjects[i] = fmt.Sprintf("%d-%d", n, i)
		}
		require.NoError(t, write(t, s, r, subjects...))
	}
	ctx, cancel := context.WithCancel(t.Context())
	_, err := r.Audit(ctx, records.AuditQuestion{}, func(done, _ int64) {
		if done >= records.AuditedAtOnce {
			cancel()
		}
	})
	require.Error(t, err)
	c, _, err := r.Sign(t.Context())
	require.NoError(t, err)
	half := records.AuditState{
		Going: &records.Going{Proven: records.Proven{Size: c.Size, Root: c.Root, At: testkit.Now()}},
	}
	take := func(state records.AuditState) (begun int64, report records.Report) {
		text, err := json.Marshal(state)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file+".audit", text, 0o600))
		begun = -1
		report, err = r.Audit(t.Context(), records.AuditQuestion{}, func(done, _ int64) {
			if begun < 0 {
				begun = done
			}
		})
		require.NoError(t, err)
		return begun, report
	}
	at, report := take(half)
	assert.EqualValues(t, c.Size, at)
	assert.True(t, report.Clean, report.Sentence)
	assert.Zero(t, report.From)
	half.Going.At = testkit.Now().Add(-25 * time.Hour)
	at, report = take(half)
	assert.Zero(t, at, "what was read too long ago is read again")
	assert.True(t, report.Clean)
	half.Going.At, half.Going.Root[0] = testkit.Now(), half.Going.Root[0]+1
	_, report = take(half)
	assert.Contains(t, report.Sentence, "do not belong")
}
