package verify

import (
	"context"

	"endeixis/core/judge"
	"endeixis/core/survey"
)

// Predecessors know what was cleared before a batch.
type Predecessors interface {
	// Before returns by path what is known of the time before some files. Of which nothing is known
	// is left out.
	Before(ctx context.Context, paths []string) (map[string]*judge.Before, error)
}

// After has a session hold artifacts against what was cleared before them. Without it nothing is
// known of that.
func (s *Session) After(p Predecessors) { s.predecessors = p }

// Recall asks what was cleared before some items, so that they can be judged. What was recalled
// before is forgotten.
func (s *Session) Recall(ctx context.Context, items ...*survey.Item) error {
	s.before = nil
	if s.predecessors == nil {
		return nil
	}
	var paths []string
	for _, item := range items {
		if item.Role == survey.Artifact && item.Inside == nil && item.Against == nil {
			paths = append(paths, item.Path)
		}
	}
	if len(paths) == 0 {
		return nil
	}
	var err error
	s.before, err = s.predecessors.Before(ctx, paths)
	return err
}
