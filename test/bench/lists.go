package main

import (
	"context"
	"fmt"
	"slices"
	"time"
)

// history is a made-up record of a million entries: 5,000 batches, one of them
// with 50,000 items, over two years. It is written as rows, past the service.
const history = `
	SET session_replication_role = replica;
	CREATE TEMP TABLE made AS
		SELECT b, CASE WHEN b = 2500 THEN 50000 ELSE 189 END AS n, now() - make_interval(hours => ((5000 - b) * 3.5)::int) AS at FROM generate_series(1, 5000) b;
	CREATE TEMP TABLE made_items AS
		SELECT row_number() OVER (ORDER BY b, i) - 1 + b AS position, b, i, at,
			CASE WHEN i = n - 1 THEN 'manifest' ELSE 'artifact' END AS role,
			CASE WHEN i = n - 1 THEN NULL WHEN (i * 7919::bigint + b) % 97 = 0 THEN 'refused' WHEN (i * 104729::bigint + b) % 5 = 0 THEN 'unproven' ELSE 'cleared' END AS verdict,
			format('release-%s/part-%s.img', b % 400, i) AS path, sha256(int8send(b * 100000::bigint + i)) AS digest
		FROM made CROSS JOIN LATERAL generate_series(0, n - 1) i;
	INSERT INTO ledger_records SELECT position, 'item-outcome', at, 'bench', path, verdict, b,
		convert_to(format('{"kind":"item-outcome","batch":%s,"item":"%s","verdict":"%s","filler":"%s"}', b, path, verdict, repeat('x', 400)), 'UTF8'), digest FROM made_items;
	INSERT INTO batches (label, source_kind, source, publisher, require_all, policy_version, asked_by, created_at, judged_as_of, finished_at, state, verdict, expected, position,
			total_items, total_bytes, done_items, done_bytes, total_cleared, total_unproven, total_refused, total_absent, ledger_size)
		SELECT 'made up', 'depot', format('bench:release-%s', b % 400), '', false, 1, 'bench', m.at, m.at, m.at, 'done',
			CASE WHEN r > 0 THEN 'refused' WHEN u > 0 THEN 'unproven' ELSE 'cleared' END, '{"publishers": [], "how": "none"}', last + 1, n, n * 4096, n, n * 4096, c, u, r, 0, 0
		FROM made m JOIN (SELECT b, max(position) AS last, count(*) FILTER (WHERE verdict = 'cleared') AS c, count(*) FILTER (WHERE verdict = 'unproven') AS u,
			count(*) FILTER (WHERE verdict = 'refused') AS r FROM made_items GROUP BY b) t USING (b) ORDER BY b;
	INSERT INTO ledger_records SELECT position, 'batch-result', created_at, 'bench', source, verdict, id, convert_to('{"kind":"batch-result"}', 'UTF8'), sha256(int8send(id)) FROM batches;
	INSERT INTO slices SELECT b, 0, n, n * 4096, n * 4096, true FROM made;
	INSERT INTO items SELECT b, i, 0, path, role, 4096, jsonb_build_object('path', path, 'role', role, 'why', 'made up', 'size', 4096, 'mod_time', at) FROM made_items;
	INSERT INTO outcomes (batch_id, n, verdict, measurement, grounds, paths, position)
		SELECT b, i, verdict, jsonb_build_object('size', 4096, 'digests', jsonb_build_object('SHA-256', encode(digest, 'hex')), 'where', 'bench', 'by', 'bench', 'at', at),
			jsonb_build_array(jsonb_build_object('code', 'digest-match', 'effect', 'supports', 'sentence', 'The file is as the manifest says. ' || repeat('y', 200))), '[]', position FROM made_items;
	INSERT INTO outcome_digests SELECT b, i, 'SHA-256', digest, coalesce(verdict = 'cleared', false) FROM made_items;
	INSERT INTO outcome_signers SELECT format('%s', b % 50), b, i FROM made_items WHERE role = 'manifest';
	INSERT INTO outcome_days SELECT (at AT TIME ZONE 'UTC')::date, verdict, count(*) FROM made_items WHERE verdict IS NOT NULL GROUP BY 1, 2;
	UPDATE ledger_state SET size = (SELECT max(position) + 1 FROM ledger_records);
	SET session_replication_role = origin`

// lists asks for lists and the overview of a database of a million records.
func lists(dir string) ([]row, error) {
	ctx := context.Background()
	s, err := start(ctx, dir, "lists.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	// What setting up has recorded gives way.
	if _, err := s.conn.Exec(ctx, `SET session_replication_role = replica; DELETE FROM ledger_records; DELETE FROM ledger_hashes; SET session_replication_role = origin;`+history); err != nil {
		return nil, err
	}
	if _, err := s.conn.Exec(ctx, "VACUUM ANALYZE"); err != nil {
		return nil, err
	}
	var out []row
	for _, q := range []struct{ what, path string }{
		{"overview", "/overview"},
		{"records, first page", "/records"},
		{"records, by a part of few names", "/records?name=4999"},
		{"records, by parts of many names", "/records?name=release-77%2Fpart-9"},
		{"records, by verdict and kind", "/records?verdict=refused&kind=item-outcome"},
		{"records, by batch", "/records?batch=2500"},
		{"batches, first page", "/batches"},
		{"batches, by verdict", "/batches?verdict=unproven"},
		{"batches, by state", "/batches?state=failed"},
		{"50,000 items, first page", "/batches/2500/items"},
		{"50,000 items, by verdict", "/batches/2500/items?verdict=cleared"},
		{"50,000 items, what is no artifact", "/batches/2500/items?role=evidence"},
		{"50,000 items, by name", "/batches/2500/items?match=part-4999*"},
	} {
		took, err := asked(ctx, s.address+"/api/v1"+q.path, s.token)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", q.what, err)
		}
		const aim = 100 * time.Millisecond
		out = append(out, row{
			work: "a million records: " + q.what, floor: "—", aim: "p95 ≤ 100 ms", ours: took, against: took, reached: took <= aim, figure: round(took),
		})
	}
	return out, nil
}

// asked returns the time under which 19 of 20 answers came, after a first that
// warms what is kept in memory.
func asked(ctx context.Context, address, token string) (time.Duration, error) {
	var took []time.Duration
	for range 21 {
		start := time.Now()
		if err := get(ctx, address, token, ""); err != nil {
			return 0, err
		}
		took = append(took, time.Since(start))
	}
	slices.Sort(took[1:])
	return took[19], nil
}
