package query

import "time"

// Narrow has searches look through few records at a time, and stop at once.
func (s *Service) Narrow(window int64, patience time.Duration, limit int) {
	s.window, s.patience, s.few = window, patience, limit
}
