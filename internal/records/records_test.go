package records_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/fault"
	"endeixis/internal/records"
	"endeixis/internal/store"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestAuditFindsForgery changes the database behind the service's back, as
// only its owner can, and expects the audit to name the place.
func TestAuditFindsForgery(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ sql, says string }{
		"a record's text":         {`ALTER TABLE ledger_records DISABLE TRIGGER append_only; UPDATE ledger_records SET body = convert_to(replace(convert_from(body, 'UTF8'), 'tobiah', 'merit_'), 'UTF8') WHERE position = 6`, "Record 6 differs"},
		"a record with its leaf":  {`ALTER TABLE ledger_records DISABLE TRIGGER append_only; UPDATE ledger_records SET body = 'x', leaf = sha256('\x0078'::bytea) WHERE position = 5`, "Record 5 is not sealed"},
		"the last record removed": {`ALTER TABLE ledger_records DISABLE TRIGGER append_only; ALTER TABLE batches DROP CONSTRAINT batches_position_fkey; DELETE FROM ledger_records WHERE position = (SELECT max(position) FROM ledger_records)`, "is missing"},
		"an outcome's verdict":    {`ALTER TABLE outcomes DISABLE TRIGGER append_only; UPDATE outcomes SET verdict = 'cleared' WHERE verdict = 'refused'`, "What is stored is not what the records say"},
		"a page of texts":         {`ALTER TABLE ledger_pages DISABLE TRIGGER append_only; UPDATE ledger_pages SET texts = set_byte(texts, octet_length(texts) / 2, 0)`, "differs"},
		"a page of no texts":      {`ALTER TABLE ledger_pages DISABLE TRIGGER append_only; UPDATE ledger_pages SET texts = ''`, "differs"},
		"a page removed":          {`SET session_replication_role = replica; DELETE FROM ledger_pages`, "differs"},
		"an outcome removed":      {`ALTER TABLE outcomes DISABLE TRIGGER append_only; ALTER TABLE outcome_digests DROP CONSTRAINT outcome_digests_batch_id_n_fkey; ALTER TABLE outcome_signers DROP CONSTRAINT outcome_signers_batch_id_n_fkey; DELETE FROM outcomes WHERE n = 0`, "What is stored is not what the records say"},
		"a batch's verdict":       {`UPDATE batches SET verdict = 'cleared'`, "What is stored is not what the records say"},
		"a key's state":           {`ALTER TABLE key_changes DISABLE TRIGGER append_only; UPDATE key_changes SET to_state = 'withdrawn'`, "What is stored is not what the records say"},
		"a hash of the tree":      {`ALTER TABLE ledger_hashes DISABLE TRIGGER append_only; UPDATE ledger_hashes SET hash = sha256('x') WHERE index = 2`, "not those of the records"},
		"a checkpoint is gone":    {`ALTER TABLE checkpoints DISABLE TRIGGER append_only; DELETE FROM checkpoints WHERE size = (SELECT max(size) FROM checkpoints WHERE size < (SELECT max(size) FROM checkpoints))`, "is missing"},
		"a checkpoint":            {`ALTER TABLE checkpoints DISABLE TRIGGER append_only; UPDATE checkpoints SET signed = replace(signed, 'skerrow', 'skerr0w')`, "cannot be believed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := testkit.Start(t)
			c1 := s.Client(t, "operator")
			b, err := c1.RunBatch(
				t.Context(), wire.NewBatch{Depot: "quayside", Path: "tidewright/gauge-fw-4.2-flipped"}, "x",
			)
			require.NoError(t, err)
			_, err = c1.Follow(t.Context(), b.ID, func(wire.Batch) {})
			require.NoError(t, err)
			report, err := c1.Audit(t.Context(), wire.NewAudit{}, nil)
			require.NoError(t, err)
			require.True(t, report.Clean, report.Sentence)

			conn, err := pgx.Connect(t.Context(), s.Config.Database.URL)
			require.NoError(t, err)
			defer conn.Close(t.Context())
			_, err = conn.Exec(t.Context(), c.sql)
			require.NoError(t, err)
			report, err = c1.Audit(t.Context(), wire.NewAudit{}, nil)
			require.NoError(t, err)
			assert.False(t, report.Clean)
			assert.Contains(t, report.Sentence, c.says)
		})
	}
}

func TestInitRefusesHalfAKey(t *testing.T) {
	t.Parallel()
	s, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Migrate(t.Context()))
	r := records.New(s, time.Now)
	file := filepath.Join(t.TempDir(), "ledger.key")

	err = r.LoadKey(t.Context(), file)
	assert.True(t, fault.Is(err, fault.NotInitialised), "%v", err)
	created, err := r.Init(t.Context(), file, "verify.skerrow.example")
	require.NoError(t, err)
	assert.True(t, created)
	created, err = r.Init(t.Context(), file, "verify.skerrow.example")
	require.NoError(t, err)
	assert.False(t, created)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	require.NoError(t, os.Rename(file, file+".moved"))
	_, err = r.Init(t.Context(), file, "verify.skerrow.example")
	assert.True(t, fault.Is(err, fault.KeyFileMissing), "a new key would not fit the old checkpoints: %v", err)

	other, err := store.Open(t.Context(), testkit.Database(t))
	require.NoError(t, err)
	defer other.Close()
	require.NoError(t, other.Migrate(t.Context()))
	_, err = records.New(other, time.Now).Init(t.Context(), file+".moved", "verify.skerrow.example")
	assert.True(t, fault.Is(err, fault.KeyFileStray), "%v", err)
	_, _, err = records.New(other, time.Now).Sign(context.Background())
	assert.ErrorContains(t, err, "no key to sign with")
}
