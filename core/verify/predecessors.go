package verify

import (
	"context"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// Predecessors know what was cleared before a batch.
type Predecessors interface {
	// Before returns by path what is known of the time before some files. Of which nothing is known
	// is left out.
	Before(ctx context.Context, paths []string) (map[string]*judge.Before, error)
}

// A Sought is a file of which the like is looked for.
type Sought struct {
	Path   string
	SHA256 digest.Value
}

// References know files of other batches by their bytes.
type References interface {
	// Same returns by path the files with the content of some, each judged again by its own evidence.
	Same(ctx context.Context, files []Sought) (map[string][]judge.Reference, error)
}

// After has a session hold artifacts against what was cleared before them. Without it nothing is
// known of that.
func (s *Session) After(p Predecessors) { s.predecessors = p }

// Know has a session know files again. Without it none is.
func (s *Session) Know(r References) { s.references = r }

// ReferencesClear reports whether the policy lets files of any publisher be known again.
func (s *Session) ReferencesClear() bool { return s.basis.ReferencesClear() }

// Recall asks what was cleared before some items that are measured, so that they can be judged. What was
// recalled before is forgotten.
func (s *Session) Recall(
	ctx context.Context, n int, at func(i int) (*survey.Item, *measure.Measurement),
) (err error) {
	s.before, s.same = nil, nil
	if s.predecessors == nil && s.references == nil {
		return nil
	}
	var paths []string
	var sought []Sought
	for i := range n {
		item, m := at(i)
		if item.Role != survey.Artifact || item.Inside != nil || item.Against != nil {
			continue
		}
		paths = append(paths, item.Path)
		// What its own evidence clears needs no other file.
		if sum := m.Digests[digest.SHA256]; s.references != nil && sum != nil {
			if alone := s.Judge(item, m); alone.Verdict == judge.Unproven || alone.Verdict == judge.Refused {
				sought = append(sought, Sought{item.Path, sum})
			}
		}
	}
	if s.predecessors != nil && len(paths) > 0 {
		if s.before, err = s.predecessors.Before(ctx, paths); err != nil {
			return err
		}
	}
	if s.references != nil && len(sought) > 0 {
		s.same, err = s.references.Same(ctx, sought)
	}
	return err
}
