package verify

import (
	"context"
	"io/fs"
	"slices"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/survey"
)

// An Assignment is an item for a measurer: what is to be computed,
// and what is expected of it, so that a difference can be explained there.
type Assignment struct {
	Target   *measure.Target
	Expected []survey.Entry
}

// A Part is a file of a folder with the assignments that are done in one read of it: its own,
// and those inside it, each after what holds it.
type Part struct {
	Path        string
	Assignments []Assignment
	// At are the places of the assignments in the list that they are from.
	At []int
}

// Parts groups assignments by the files that they are done with, in the order of the first
// assignment of each.
func Parts(assignments []Assignment) []Part {
	return grouped(
		len(assignments), func(i int) string { return assignments[i].Target.Path },
		func(path string) Part { return Part{Path: path} },
		func(p *Part, i int) { p.Assignments, p.At = append(p.Assignments, assignments[i]), append(p.At, i) },
	)
}

// A Submission is what came of an assignment.
type Submission struct {
	Reading   measure.Reading
	Diagnoses []diagnose.Diagnosis
}

// PartGroups puts parts into groups that gain by being done together, and all others by
// themselves, so that each of the cores has something to do.
func PartGroups(parts []Part, gain digest.Gain, cores int) [][]Part {
	return inGroups(parts, Part.targets, gain, cores)
}

func (p Part) targets() []*measure.Target {
	out := make([]*measure.Target, len(p.Assignments))
	for i := range p.Assignments {
		out[i] = p.Assignments[i].Target
	}
	return out
}

// MeasureParts measures parts, several of them only if they are one of the [PartGroups], and reads
// files once more that differ from what is expected, up to maxBytes of each, to explain
// why. The results are by part, in the order of its assignments. It fails only when ctx ends.
func MeasureParts(
	ctx context.Context, folder fs.FS, parts []Part, gain digest.Gain, maxBytes int64, progress func(total int64),
) ([][]Submission, error) {
	readings, err := openGroup(
		ctx, folder, parts, func(p Part) (string, []*measure.Target) { return p.Path, p.targets() }, gain, progress,
	)
	if err != nil {
		return nil, err
	}
	out := make([][]Submission, len(parts))
	for k, part := range parts {
		targets := part.targets()
		out[k] = make([]Submission, len(targets))
		for i, target := range targets {
			out[k][i].Reading = readings[target.Path]
			if out[k][i].Diagnoses, err = explainWorst(
				ctx, folder, targets[:i], part.Assignments[i], out[k][i].Reading, maxBytes,
			); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// Explain says why a reading of a file that lies in no other is not what is expected; nil
// where it is, or where nothing can be said.
func Explain(
	ctx context.Context, folder fs.FS, assignment Assignment, r measure.Reading, maxBytes int64,
) ([]diagnose.Diagnosis, error) {
	return explainWorst(ctx, folder, nil, assignment, r, maxBytes)
}

// explainWorst explains why a reading is not what is expected: of the entries that differ
// the one with the strongest algorithm.
func explainWorst(
	ctx context.Context, folder fs.FS, around []*measure.Target, assignment Assignment, r measure.Reading,
	maxBytes int64,
) ([]diagnose.Diagnosis, error) {
	if r.Problem != nil || r.Size > maxBytes || len(r.Results) != len(assignment.Target.Tasks) {
		return nil, nil
	}
	m := measure.Measurement{Size: r.Size, Digests: map[digest.Algorithm]digest.Value{}}
	for i, task := range assignment.Target.Tasks {
		if task.Plain() && r.Results[i].Digest != nil {
			m.Digests[task.Algorithm] = r.Results[i].Digest
		}
	}
	var worst *survey.Entry
	for i := range assignment.Expected {
		l := &assignment.Expected[i]
		if l.Doubtful {
			continue // another file may be meant
		}
		matches := slices.ContainsFunc(
			l.Algorithms, func(a digest.Algorithm) bool { return slices.Equal(m.Digests[a], l.Digest) },
		)
		if !matches &&
			(worst == nil ||
				digest.Strongest(l.Algorithms).CollisionBits() > digest.Strongest(worst.Algorithms).CollisionBits()) {
			worst = l
		}
	}
	if worst == nil {
		return nil, nil
	}
	again, err := measure.Content(ctx, folder, assignment.Target, around)
	if err != nil {
		return nil, nil
	}
	defer again.Close()
	d, err := explained(ctx, folder, again, assignment.Target.Path, &m, worst, otherPlaces{}, maxBytes)
	if err != nil || d == nil {
		return nil, err
	}
	return []diagnose.Diagnosis{*d}, nil
}
