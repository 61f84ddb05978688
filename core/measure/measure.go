// Package measure computes, from one pass over a file's bytes, everything that
// is asked of it: each digest that a manifest needs, and each hash that a
// signature needs. What that is, [Target]s and their [Task]s say, which travel
// as JSON; this package knows neither manifests nor signatures, so that a plan
// can be carried out by a program that does not either.
package measure

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"time"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// Open opens the file at path in fsys and measures targets: the file's own, and
// those inside it. The file is read once, from its start to its end. Every target
// gets a reading, by path. An error is returned only when ctx ends; trouble with
// the file becomes the readings' Problem.
func Open(
	ctx context.Context, fsys fs.FS, path string, targets []*Target, progress func(total int64),
) (map[string]Reading, error) {
	return open(ctx, fsys, path, targets, progress, nil)
}

func open(
	ctx context.Context, fsys fs.FS, path string, targets []*Target, progress func(total int64), stream *digest.Stream,
) (map[string]Reading, error) {
	out := make(map[string]Reading, len(targets))
	all := func(p *Problem) map[string]Reading {
		for _, target := range targets {
			m := out[target.Path]
			m.Problem = p
			out[target.Path] = m
		}
		return out
	}
	var own *Target
	for _, target := range targets {
		if target.Path == path {
			own = target
		}
	}
	if own != nil && own.Problem != nil && !readsAnyway(own.Problem.Code) {
		return all(own.Problem), nil
	}
	f, err := fsys.Open(path)
	if err != nil {
		return all(unreadable(err)), nil
	}
	defer f.Close()
	before, err := f.Stat()
	if err == nil && !before.Mode().IsRegular() {
		err = errors.New("it is no longer a regular file")
	}
	if err != nil {
		return all(unreadable(err)), nil
	}
	size, problem, err := readChoices(ctx, f, path, targets, progress, stream, out)
	if err != nil {
		return out, err
	}
	if problem != nil {
		return all(problem), nil
	}
	after, err := f.Stat()
	if err != nil {
		return all(unreadable(err)), nil
	}
	if size != before.Size() || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) ||
		!ChangeTime(after).Equal(ChangeTime(before)) {
		return all(
			&Problem{
				Code: ChangedWhileReading,
				Message: fmt.Sprintf(
					"it was %d bytes when opened, %d were read, and it was %d bytes at the end: something writes to it",
					before.Size(), size, after.Size(),
				),
			},
		), nil
	}
	for _, target := range targets {
		m, ok := out[target.Path]
		switch {
		case !ok:
			m.Problem = &Problem{Code: Unreadable, Message: "what holds it was measured without it"}
		case target.Inside != nil && own != nil &&
			(own.Size != before.Size() || !own.ModTime.Equal(before.ModTime()) ||
				!own.Changed.Equal(ChangeTime(before))):
			m.Problem = &Problem{
				Code: ChangedWhileReading, Message: "the file that holds it has changed since it was looked into",
			}
		}
		out[target.Path] = m
	}
	return out, nil
}

// readChoices reads a file into readings of its targets. Where it is measured by itself and
// can be read again, tasks of second choice wait for the results of the others: most are
// never needed, and cost as much as these.
func readChoices(
	ctx context.Context, f fs.File, path string, targets []*Target, progress func(int64), stream *digest.Stream,
	out map[string]Reading,
) (size int64, problem *Problem, err error) {
	again, ok := f.(io.Seeker)
	var first *Target
	var places []int
	if ok && len(targets) == 1 && targets[0].Path == path {
		first, places = targets[0].choices()
	}
	if first == nil {
		top := nestOf(path, targets)
		top.stream = stream
		return read(ctx, f, top, progress, out)
	}
	all := make([]Result, len(targets[0].Tasks))
	readings := map[string]Reading{}
	size, problem, err = read(ctx, f, &nest{target: first, stream: stream}, progress, readings)
	reading := readings[path]
	for i, r := range reading.Results {
		all[places[i]] = r
	}
	if err == nil && problem == nil {
		problem, err = readRest(ctx, f, again, targets[0], all)
	}
	if reading.Results != nil {
		reading.Results = all
	}
	out[path] = reading
	return size, problem, err
}

// readRest reads a file once more for the tasks of second choice that the results of the
// others call for, and puts theirs beside them.
func readRest(ctx context.Context, f fs.File, again io.Seeker, target *Target, results []Result) (*Problem, error) {
	second, places := target.rest(results)
	if second == nil {
		return nil, nil
	}
	if _, err := again.Seek(0, io.SeekStart); err != nil {
		return unreadable(err), nil
	}
	readings := map[string]Reading{}
	_, problem, err := read(ctx, f, &nest{target: second}, nil, readings)
	if err != nil || problem != nil {
		return problem, err
	}
	for i, r := range readings[target.Path].Results {
		before := results[places[i]].Digest
		if before != nil && !slices.Equal(before, r.Digest) {
			return &Problem{
				Code:    ChangedWhileReading,
				Message: "its bytes were others when it was read a second time: something writes to it",
			}, nil
		}
		results[places[i]] = r
	}
	return nil, nil
}

// ChangeTime returns when a file was last changed in any way, where what tells
// about the file knows it: a method ChangeTime of it. Programs can set a file's
// modification time back, and not this. It is zero where it is not known.
func ChangeTime(info fs.FileInfo) time.Time {
	if knows, ok := info.(interface{ ChangeTime() time.Time }); ok {
		return knows.ChangeTime().UTC()
	}
	return time.Time{}
}

// readsAnyway tells problems of understanding from problems of reading: a
// signature that does not parse, or a manifest too long to be read as one, is
// still a file with a digest.
func readsAnyway(code ProblemCode) bool {
	return code == Malformed || code == TooLarge
}

// Bytes measures content that was read before.
func Bytes(ctx context.Context, content io.Reader, target *Target) (Reading, error) {
	out := map[string]Reading{}
	_, problem, err := read(ctx, content, &nest{target: target}, nil, out)
	m := out[target.Path]
	m.Problem = problem
	return m, err
}

// read streams r into everything that the nest needs, and puts readings into
// out.
func read(
	ctx context.Context, r io.Reader, n *nest, progress func(int64), out map[string]Reading,
) (int64, *Problem, error) {
	size, err := digest.Pump(ctx, r, n.writers(ctx), progress)
	defer n.set.Close()
	expandErr := n.finish()
	if ctx.Err() != nil {
		n.finishAll()
		return size, nil, context.Cause(ctx)
	}
	m := Reading{Size: size}
	if expandErr != nil {
		m.Unexpanded = plain.Text(expandErr.Error())
	}
	if err != nil {
		n.finishAll()
		if n.target != nil {
			out[n.target.Path] = m
		}
		return size, unreadable(err), nil
	}
	if err := n.conclude(&m); err != nil {
		return size, nil, err
	}
	if n.target != nil {
		out[n.target.Path] = m
	}
	return size, nil, n.collect(ctx, nil, expandErr, out)
}

func unreadable(err error) *Problem {
	message := err.Error()
	var pathErr *fs.PathError
	switch {
	case errors.Is(err, fs.ErrPermission):
		message = "the permissions do not allow reading it"
	case errors.Is(err, fs.ErrNotExist):
		message = "it was there when the folder was surveyed, and is no longer"
	case errors.As(err, &pathErr):
		message = pathErr.Err.Error()
	}
	return &Problem{Code: Unreadable, Message: plain.Text(message)}
}
