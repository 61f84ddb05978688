package query

import "context"

// Structure names what of the database's tables, triggers, functions and views is not as the
// program has made it.
func (s *Service) Structure(ctx context.Context) ([]string, error) {
	found, err := s.store.StructureDiscrepancies(ctx)
	out := make([]string, len(found))
	for i, d := range found {
		out[i] = d.What
	}
	return out, err
}
