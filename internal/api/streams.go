package api

import (
	"context"
	"sync"
	"time"
)

const (
	// maxStreams bounds how many streams of events one person follows at once;
	// each holds a connection and looks into the database now and then.
	maxStreams = 50
	// maxUnderway bounds how many requests of one person, or of one address that
	// nobody has signed in from, are answered at once.
	maxUnderway = 64
	// maxPieces is of how many files pieces are hashed at once for one person.
	maxPieces = 4
)

// aMoment is how long a request waits for the one before it to end: whoever has its answer
// sends the next before everything of it is put away.
const aMoment = 2 * time.Second

// A counter counts what is under way, by name.
type counter struct {
	most int
	mu   sync.Mutex
	open map[string]int
}

// enterWithin is enter, and tries again for some time.
func (s *counter) enterWithin(ctx context.Context, name string, within time.Duration) (leave func(), ok bool) {
	for until := time.Now().Add(within); ; {
		if leave, ok = s.enter(name); ok || ctx.Err() != nil || time.Now().After(until) {
			return leave, ok
		}
		select {
		case <-ctx.Done():
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// enter counts one more under a name, unless there are as many as there may be. Call
// leave when it ends.
func (s *counter) enter(name string) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open == nil {
		s.open = map[string]int{}
	}
	if s.open[name] >= s.most {
		return nil, false
	}
	s.open[name]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.open[name]--; s.open[name] == 0 {
			delete(s.open, name)
		}
	}, true
}
