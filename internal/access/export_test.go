package access

// Busy takes every place for hashing until free is called.
func (s *Service) Busy() (free func()) {
	n := cap(s.hashing)
	for range n {
		s.hashing <- struct{}{}
	}
	return func() {
		for range n {
			<-s.hashing
		}
	}
}
