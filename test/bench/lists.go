package main

import (
	"context"
	"crypto/sha256"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/internal/recorded"
	"endeixis/internal/records"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

// history makes up a record of a million entries: 5,000 batches, one of them with 50,000 items, over
// two years, as the service itself writes them.
func history(ctx context.Context, db *store.Store, r *records.Service) error {
	const batches, items, many = 5000, 189, 50_000
	for b := 1; b <= batches; b++ {
		n := items
		if b == batches/2 {
			n = many
		}
		if err := db.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
			return madeUp(ctx, tx, r, b, n, time.Now().UTC().Add(-time.Duration(batches-b)*210*time.Minute))
		}); err != nil {
			return err
		}
	}
	return nil
}

// people ask for the batches of the history in turn.
var people = []string{"bench", "ines", "corin", "tobiah"}

// madeUp stores one batch of the history, with its records.
func madeUp(ctx context.Context, tx *store.Tx, r *records.Service, b, n int, at time.Time) error {
	source := sources.Source{Kind: sources.Depot, Reference: fmt.Sprintf("bench:release-%d", b%400)}
	batch := store.Batch{
		Label:         "made up",
		SourceKind:    string(source.Kind),
		Source:        source.Reference,
		PolicyVersion: 1,
		AskedBy:       "bench",
		CreatedAt:     at,
		JudgedAsOf:    at,
		Corrections:   []byte("{}"),
		Origins:       []byte("{}"),
	}
	var err error
	if batch.ID, _, err = tx.AddBatch(ctx, batch); err != nil {
		return err
	}
	surveyed, outcomes := make([]store.Item, n), make([]records.Entry, n)
	result := recorded.BatchResult{
		Batch:       batch.ID,
		Label:       batch.Label,
		Source:      source,
		State:       state.BatchDone,
		Items:       n,
		Bytes:       4096 * int64(n),
		Policy:      1,
		Corrections: batch.Corrections,
		Origins:     batch.Origins,
		Publisher:   &batch.Publisher,
		Expected:    []byte(`{"publishers": [], "how": "none"}`),
		AskedAt:     at,
		JudgedAsOf:  at,
		Done:        store.Tally{Items: n, ItemsDone: n, Bytes: 4096 * int64(n), BytesDone: 4096 * int64(n)},
	}
	for i := range n {
		item := &survey.Item{
			Path: fmt.Sprintf("release-%d/part-%d.img", b%400, i), Role: survey.Artifact, Why: "made up", Size: 4096,
			ModTime: at,
		}
		if i == n-1 {
			item.Role = survey.Manifest
		}
		sum := sha256.Sum256([]byte(fmt.Sprintf("%d %d", b, i)))
		evidence := recorded.Evidence{
			Item: item,
			Measurement: measure.Measurement{
				Size: item.Size, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: sum[:]}, By: "bench",
				Where: "bench", At: at,
			},
			Outcome: judge.Outcome{
				Verdict: verdictOf(b, i),
				Grounds: []judge.Ground{
					{Code: judge.DigestMatch, Effect: judge.Supports, Sentence: "The file is as the manifest says."},
				},
				Paths: []judge.ProofPath{},
			},
		}
		switch {
		case item.Role == survey.Manifest:
			evidence.Outcome.Verdict = ""
			evidence.Outcome.Grounds[0].Signature = &judge.SignatureFacts{Issuer: fmt.Sprintf("%040X", 0xB0B0_0000_0000+b%50)}
		case evidence.Outcome.Verdict == judge.Cleared:
			result.Cleared++
		case evidence.Outcome.Verdict == judge.Unproven:
			result.Unproven++
		default:
			result.Refused++
			evidence.Outcome.Grounds[0] = judge.Ground{Code: judge.DigestMismatch, Effect: judge.Refuses, Sentence: "It differs."}
		}
		body := recorded.ItemOutcome{
			Batch: batch.ID, Source: source, N: i, Policy: 1, JudgedAsOf: at,
			Expected: judge.Expectation{Publishers: []string{fmt.Sprintf("publisher-%d", b%12)}, How: "scope"},
		}
		if err := body.Put(evidence); err != nil {
			return err
		}
		surveyed[i] = store.Item{N: i, Path: item.Path, Role: string(item.Role), Size: item.Size, Survey: body.Survey}
		outcomes[i] = records.Entry{
			By: people[b%len(people)], Subject: item.Path, Verdict: string(evidence.Outcome.Verdict), Batch: batch.ID,
			Body: body,
			At:   at,
		}
	}
	result.Verdict = judge.Batch(result.Cleared, result.Unproven, result.Refused, 0, false)
	if err := tx.Surveyed(
		ctx, batch.ID, result.Expected, []store.Slice{{Items: n, Bytes: result.Bytes, Queued: true}}, surveyed, nil,
	); err != nil {
		return err
	}
	if _, err := r.Append(ctx, tx, outcomes...); err != nil {
		return err
	}
	_, err = r.Append(
		ctx, tx,
		records.Entry{
			By: "bench", Subject: source.Reference, Verdict: string(result.Verdict), Batch: batch.ID, Body: result,
			At: at,
		},
	)
	return err
}

func verdictOf(b, i int) judge.Verdict {
	switch {
	case (i*7919+b)%97 == 0:
		return judge.Refused
	case (i*104729+b)%5 == 0:
		return judge.Unproven
	}
	return judge.Cleared
}

// day is one that was some days ago.
func day(ago int) string { return time.Now().UTC().AddDate(0, 0, -ago).Format(time.DateOnly) }

// someDigest is the beginning of one in the history.
func someDigest() string { return fmt.Sprintf("%x", sha256.Sum256([]byte("1234 56")))[:8] }

// lists asks for lists and the overview of a database of a million records.
func lists(dir string) ([]row, error) {
	ctx := context.Background()
	s, err := start(ctx, dir, "lists.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	db, err := store.Open(ctx, s.url)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	r := records.New(db, func() time.Time { return time.Now().UTC() })
	if err := r.LoadKey(ctx, filepath.Join(dir, "lists.key")); err != nil {
		return nil, err
	}
	if err := history(ctx, db, r); err != nil {
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
		{"records, by person", "/records?by=ines"},
		{"records, by ground", "/records?ground=digest-match"},
		{"records, by publisher", "/records?publisher=publisher-7"},
		{"records, by key", "/records?key=B0B000000031"},
		{"records, by eight digits of a digest", "/records?digest=" + someDigest()},
		{"records, by a part of a folder", "/records?place=release-39"},
		{"records, by label", "/records?label=made"},
		{"records, by period", "/records?from=" + day(400) + "&to=" + day(370)},
		{"records, by person and period", "/records?by=ines&from=" + day(400) + "&to=" + day(370)},
		{"records, by publisher and verdict", "/records?publisher=publisher-7&verdict=refused"},
		{"records, by publisher and ground", "/records?publisher=publisher-7&ground=digest-mismatch"},
		{"records, by publisher and person, who have nothing in common", "/records?publisher=publisher-8&by=ines"},
		{"records, by folder, person and kind", "/records?place=release-39&by=corin&kind=item-outcome"},
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
		aim := 100 * time.Millisecond
		if strings.HasPrefix(q.what, "records") {
			aim = 50 * time.Millisecond
		}
		out = append(out, row{
			work:    "a million records: " + q.what,
			floor:   "—",
			aim:     fmt.Sprintf("p95 ≤ %d ms", aim.Milliseconds()),
			ours:    took,
			against: took,
			reached: took <= aim,
			figure:  round(took),
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
