package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/wire"
)

// room measures what an outcome and its record take in the database: of batches of 1,000 files by
// a signed list, with all their tables and indexes but those of the job queue.
func room(dir string) ([]row, error) {
	const n, batches = 1000, 5
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	made := pgptest.Simple("bench", pgptest.Ed25519, born, "Bench <bench@bench.example>")
	ctx := context.Background()
	s, err := start(ctx, dir, "room.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	if err := admit(ctx, s.client, made.Bytes(), made.Primary.Fingerprint()); err != nil {
		return nil, err
	}
	total := func() (size int64, err error) {
		if _, err := s.conn.Exec(ctx, "VACUUM ANALYZE"); err != nil {
			return 0, err
		}
		err = s.conn.QueryRow(
			ctx,
			`SELECT sum(pg_total_relation_size(c.oid))::bigint FROM pg_class c WHERE c.relkind = 'r' AND c.relnamespace = 'public'::regnamespace AND c.relname NOT LIKE 'river%'`,
		).Scan(&size)
		return size, err
	}
	run := func(k int) error {
		folder := filepath.Join(dir, "depot", fmt.Sprintf("release-%d", k))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		var list bytes.Buffer
		for i := range n {
			name, content := fmt.Sprintf("tidewright-gauge-%d.%04d.img", k, i), fmt.Appendf(nil, "part %d of %d", i, k)
			if err := os.WriteFile(filepath.Join(folder, name), content, 0o644); err != nil {
				return err
			}
			fmt.Fprintf(&list, "%x  %s\n", sha256.Sum256(content), name)
		}
		if err := os.WriteFile(filepath.Join(folder, "SHA256SUMS"), list.Bytes(), 0o644); err != nil {
			return err
		}
		if err := os.WriteFile(
			filepath.Join(folder, "SHA256SUMS.sig"),
			made.Primary.Sign(list.Bytes(), pgptest.Sig{Created: born.AddDate(1, 0, 0)}), 0o644,
		); err != nil {
			return err
		}
		b, err := s.client.RunBatch(ctx, wire.NewBatch{Depot: "bench", Path: filepath.Base(folder)}, "")
		if err != nil {
			return err
		}
		if b, err = s.client.Follow(ctx, b.ID, func(wire.Batch) {}); err != nil || b.Counts.Cleared != n {
			return fmt.Errorf("%d of %d cleared: %w", b.Counts.Cleared, n, err)
		}
		return nil
	}
	if err := run(0); err != nil {
		return nil, err
	}
	before, err := total()
	if err != nil {
		return nil, err
	}
	for k := range batches {
		if err := run(k + 1); err != nil {
			return nil, err
		}
	}
	after, err := total()
	each := (after - before) / (n * batches)
	return []row{{
		work: "bytes in the database for one outcome and its record, in batches of 1,000", floor: "—", aim: "≤ 2.5 KB",
		reached: each <= 2500, figure: fmt.Sprintf("%.1f KB", float64(each)/1000),
	}}, err
}
