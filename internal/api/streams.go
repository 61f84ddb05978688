package api

import (
	"sync"

	"endeixis/internal/fault"
)

// maxStreams bounds how many streams of events one person follows at once; each
// holds a connection and looks into the database now and then.
const maxStreams = 50

// streams counts who follows how many.
type streams struct {
	mu   sync.Mutex
	open map[string]int
}

// enter counts one more of a person, or refuses it. Call leave when it ends.
func (s *streams) enter(name string) (leave func(), err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.open == nil {
		s.open = map[string]int{}
	}
	if s.open[name] >= maxStreams {
		return nil, fault.New(fault.TooMany, "too-many-streams", "You follow %d batches already.", maxStreams).Advise("Close some of them; GET /batches/{id} tells how one stands.")
	}
	s.open[name]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.open[name]--; s.open[name] == 0 {
			delete(s.open, name)
		}
	}, nil
}
