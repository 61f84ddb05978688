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

// References know files that were cleared before a batch by their bytes.
type References interface {
	// Same returns by SHA-256 digest in hexadecimal the files with that content, each judged again by
	// its own evidence.
	Same(ctx context.Context, sha256 []string) (map[string][]judge.Reference, error)
}

// After has a session hold artifacts against what was cleared before them. Without it nothing is
// known of that.
func (s *Session) After(p Predecessors) { s.predecessors = p }

// Know has a session know files again, where the policy lets them be cleared by that.
func (s *Session) Know(r References) {
	if s.basis.ReferencesClear() {
		s.references = r
	}
}

// Recall asks what was cleared before some items that are measured, so that they can be judged. What was
// recalled before is forgotten.
func (s *Session) Recall(
	ctx context.Context, n int, at func(i int) (*survey.Item, *measure.Measurement),
) (err error) {
	s.before, s.same = nil, nil
	if s.predecessors == nil && s.references == nil {
		return nil
	}
	var paths, sums []string
	for i := range n {
		item, m := at(i)
		if item.Role != survey.Artifact || item.Inside != nil || item.Against != nil {
			continue
		}
		paths = append(paths, item.Path)
		// What its own evidence clears needs no other file.
		if sum := m.Digests[digest.SHA256]; s.references != nil && sum != nil {
			if alone := s.Judge(item, m); alone.Verdict == judge.Unproven || alone.Verdict == judge.Refused {
				sums = append(sums, sum.String())
			}
		}
	}
	if s.predecessors != nil && len(paths) > 0 {
		if s.before, err = s.predecessors.Before(ctx, paths); err != nil {
			return err
		}
	}
	if s.references != nil && len(sums) > 0 {
		s.same, err = s.references.Same(ctx, sums)
	}
	return err
}
