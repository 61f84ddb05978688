package satchels

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"endeixis/core/judge"
	"endeixis/core/satchel"
	"endeixis/internal/store"
)

// seen keeps what is shown of outcomes that came back, by the digest of their contents, which
// never change: a content can have megabytes, and of those nothing but this is shown.
type seen struct {
	mu      sync.Mutex
	entries map[string]satchel.Entry
	// order are the digests, the oldest first, and files how many outcomes they have together.
	order []string
	files int
	// one lets one content be read at a time.
	one sync.Mutex
}

// keptFiles bounds how many outcomes are kept, of all contents together.
const keptFiles = 200_000

func (s *seen) get(digest string) (satchel.Entry, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	e, ok := s.entries[digest]
	return e, ok
}

func (s *seen) keep(digest string, e satchel.Entry) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.entries == nil {
		s.entries = map[string]satchel.Entry{}
	}
	if _, there := s.entries[digest]; there {
		return
	}
	s.entries[digest], s.order, s.files = e, append(s.order, digest), s.files+len(e.Outcomes)+1
	for s.files > keptFiles && len(s.order) > 1 {
		oldest := s.order[0]
		s.files -= len(s.entries[oldest].Outcomes) + 1
		delete(s.entries, oldest)
		s.order = s.order[1:]
	}
}

// entry returns what is shown of an outcome: without what was found and measured.
func (s *Service) entry(ctx context.Context, row store.Visit) (satchel.Entry, error) {
	if e, ok := s.seen.get(row.Digest); ok {
		return e, nil
	}
	s.seen.one.Lock()
	defer s.seen.one.Unlock()
	if e, ok := s.seen.get(row.Digest); ok { // an earlier request has read it
		return e, nil
	}
	content := row.Content
	if len(content) == 0 {
		whole, err := s.store.Visit(ctx, row.Batch)
		if err != nil {
			return satchel.Entry{}, err
		}
		content = whole.Content
	}
	var shown struct {
		N        int              `json:"n"`
		Kind     satchel.Kind     `json:"kind"`
		At       time.Time        `json:"at"`
		By       string           `json:"by"`
		Host     string           `json:"host"`
		Path     string           `json:"path"`
		Label    string           `json:"label"`
		Verdict  judge.Verdict    `json:"verdict"`
		Outcomes []satchel.Judged `json:"outcomes"`
	}
	if err := json.Unmarshal(content, &shown); err != nil {
		return satchel.Entry{}, err
	}
	e := satchel.Entry{
		N: shown.N, Kind: shown.Kind, At: shown.At, By: shown.By, Host: shown.Host, Path: shown.Path,
		Label: shown.Label, Verdict: shown.Verdict, Outcomes: shown.Outcomes,
	}
	s.seen.keep(row.Digest, e)
	return e, nil
}
