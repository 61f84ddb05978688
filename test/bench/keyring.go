package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/klauspost/compress/zstd"

	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/internal/client"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

// reachAndLists judges 100,000 stored items again, and lists a keyring of 10,000
// certificates.
func reachAndLists(dir string) ([]row, error) {
	const n, batches = 20_000, 5
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	made := pgptest.Simple("bench", pgptest.Ed25519, born, "Bench <bench@bench.example>")
	folder := filepath.Join(dir, "depot", "listed")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	var list bytes.Buffer
	for i := range n {
		name, content := fmt.Sprintf("part-%05d.img", i), fmt.Appendf(nil, "part %d", i)
		if err := os.WriteFile(filepath.Join(folder, name), content, 0o644); err != nil {
			return nil, err
		}
		fmt.Fprintf(&list, "%x  %s\n", sha256.Sum256(content), name)
	}
	if err := os.WriteFile(filepath.Join(folder, "SHA256SUMS"), list.Bytes(), 0o644); err != nil {
		return nil, err
	}
	if err := os.WriteFile(
		filepath.Join(folder, "SHA256SUMS.sig"),
		made.Primary.Sign(list.Bytes(), pgptest.Sig{Created: born.AddDate(1, 0, 0)}), 0o644,
	); err != nil {
		return nil, err
	}
	ctx := context.Background()
	s, err := start(ctx, dir, "reach.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	c := s.client
	fp := made.Primary.Fingerprint()
	if err := admit(ctx, c, made.Bytes(), fp); err != nil {
		return nil, err
	}
	for k := range batches {
		b, err := c.RunBatch(ctx, wire.NewBatch{Depot: "bench", Path: "listed"}, fmt.Sprint(k))
		if err != nil {
			return nil, err
		}
		if b, err = c.Follow(ctx, b.ID, func(wire.Batch) {}); err != nil || b.Counts.Cleared != n {
			return nil, fmt.Errorf("%d of %d cleared: %w", b.Counts.Cleared, n, err)
		}
	}
	conn := s.conn
	if _, err := conn.Exec(ctx, "ANALYZE"); err != nil {
		return nil, err
	}
	product, floor, err := versus(func() error {
		r, err := c.Reach(ctx, fp, nil)
		if err == nil && r.Rests != n*batches {
			err = fmt.Errorf("the reach is %d", r.Rests)
		}
		return err
	}, func() error { return readRows(ctx, conn) })
	if err != nil {
		return nil, err
	}
	admitted, err := admittedAgain(ctx, c, fp, n*batches)
	if err != nil {
		return nil, err
	}
	lists, err := keyLists(ctx, c, s.address+"/api/v1/keys", s.token)
	return append(
		[]row{
			cost(
				"a key is admitted: 100,000 waiting items judged again, and recorded",
				"reading the same evidence into memory", 5, admitted, floor,
			),
			cost(
				"reach of a key: 100,000 stored items judged again", "reading the same evidence into memory", 5,
				product, floor,
			),
		},
		lists...), err
}

// admittedAgain withdraws a key and admits it once more, and returns how long it takes until all that
// waited for it is cleared and on record.
func admittedAgain(ctx context.Context, c *client.Client, fp string, waiting int) (time.Duration, error) {
	judged := func(k wire.Key, err error) error {
		if err != nil {
			return err
		}
		for {
			r, err := c.Reassessment(ctx, *k.Reassessment)
			switch {
			case err != nil:
				return err
			case r.State == state.RunWaiting:
			case r.Changed != waiting:
				return fmt.Errorf("%d verdicts changed %s", r.Changed, r.Note)
			default:
				return nil
			}
			time.Sleep(20 * time.Millisecond)
		}
	}
	if err := judged(c.WithdrawKey(ctx, fp, "bench")); err != nil {
		return 0, err
	}
	if _, err := c.ReconsiderKey(ctx, fp, "bench"); err != nil {
		return 0, err
	}
	began := time.Now()
	err := judged(c.AdmitKey(ctx, fp, wire.Admission{Typed: fp, Publisher: "bench", Reason: "bench"}))
	return time.Since(began), err
}

func admit(ctx context.Context, c *client.Client, key []byte, fp string) error {
	if _, err := c.AddPublisher(
		ctx, wire.NewPublisher{Slug: "bench", Name: "Bench", Contact: "", Scope: nil},
	); err != nil {
		return err
	}
	if _, err := c.ImportKeys(ctx, key, "bench", "bench"); err != nil {
		return err
	}
	for _, channel := range []string{"letter", "phone"} {
		if _, err := c.SightKey(
			ctx, fp, wire.NewSighting{Read: fp, Channel: keyring.Channel(channel), Place: "bench", Note: ""},
		); err != nil {
			return err
		}
	}
	_, err := c.AdmitKey(ctx, fp, wire.Admission{Typed: fp, Publisher: "bench", Reason: "bench"})
	return err
}

// readRows is the floor of judging again: what is read for it, into memory, and nothing done.
func readRows(ctx context.Context, conn *pgx.Conn) error {
	rows, err := conn.Query(
		ctx, `SELECT i.n, o.position, o.verdict FROM items i JOIN outcomes o USING (batch_id, n) ORDER BY batch_id, n`,
	)
	if err != nil {
		return err
	}
	for rows.Next() {
		var n int
		var position int64
		var verdict *string
		if err := rows.Scan(&n, &position, &verdict); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	unpack, err := zstd.NewReader(nil)
	if err != nil {
		return err
	}
	defer unpack.Close()
	if rows, err = conn.Query(ctx, `SELECT texts FROM ledger_pages ORDER BY first`); err != nil {
		return err
	}
	for rows.Next() {
		var texts []byte
		if err := rows.Scan(&texts); err != nil {
			return err
		}
		plain, err := unpack.DecodeAll(texts, nil)
		if err != nil {
			return err
		}
		for text := range bytes.Lines(plain) {
			var evidence struct {
				Survey      survey.Item         `json:"survey"`
				Measurement measure.Measurement `json:"measurement"`
			}
			if err := json.Unmarshal(text, &evidence); err != nil {
				return err
			}
		}
	}
	return rows.Err()
}

// keyLists fills the keyring and asks for a page of it, and for a search.
func keyLists(ctx context.Context, c *client.Client, address, token string) ([]row, error) {
	const certificates = 10_000
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	for at := 0; at < certificates; at += 2000 {
		var ring bytes.Buffer
		for i := at; i < at+2000; i++ {
			ring.Write(
				pgptest.Simple(
					fmt.Sprintf("bench %d", i), pgptest.Ed25519, born,
					fmt.Sprintf("Keeper %05d <k%05d@bench.example>", i, i),
				).Bytes(),
			)
		}
		if _, err := c.ImportKeys(ctx, ring.Bytes(), "bench", ""); err != nil {
			return nil, err
		}
	}
	var out []row
	for _, q := range []struct{ what, query string }{{"a page of 100 of 10,000 keys", "?limit=100"}, {"a search in 10,000 keys", "?text=keeper+09999"}} {
		best := time.Hour
		// The first answer warms what is kept in memory.
		for range rounds + 1 {
			start := time.Now()
			if err := get(ctx, address+q.query, token, "Keeper"); err != nil {
				return nil, err
			}
			best = min(best, time.Since(start))
		}
		const aim = 50 * time.Millisecond
		out = append(
			out,
			row{
				work: q.what, floor: "—", aim: "≤ 50 ms", ours: best, against: best, reached: best <= aim,
				figure: round(best),
			},
		)
	}
	return out, nil
}

// get asks, and expects an answer that holds some words.
func get(ctx context.Context, address, token, words string) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	if err == nil && (response.StatusCode != http.StatusOK || !bytes.Contains(content, []byte(words))) {
		err = fmt.Errorf("%s: %.200s", response.Status, content)
	}
	return err
}
