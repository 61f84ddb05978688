package query

import "time"

// Narrow has searches look through few records at a time, and stop at once.
func (s *Service) Narrow(window int64, patience time.Duration, limit int) {
	s.window, s.patience, s.few = window, patience, limit
}

// Hasty has searches look at few records at once, and has them patient for no longer than for one question.
func (s *Service) Hasty(atOnce int) { s.atOnce, s.patience = atOnce, 0 }
