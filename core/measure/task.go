package measure

import (
	"slices"
	"time"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/readback"
)

// A Task is one thing to compute from an item's bytes: a digest of them, or a
// hash that begins and ends with bytes of its own, such as a signature's. It
// says what to hash, and not what for.
type Task struct {
	Algorithm digest.Algorithm `json:"algorithm"`
	// Before and After are hashed before and after the content.
	Before []byte `json:"before,omitempty"`
	After  []byte `json:"after,omitempty"`
	// Expanded says that the uncompressed form of the content is hashed, and
	// how the content is compressed.
	Expanded container.Compression `json:"expanded,omitempty"`
	// Text says that every line end is hashed as CR LF.
	Text bool `json:"text,omitempty"`
	// Unless makes it a task of second choice, or is nil.
	Unless *Unless `json:"unless,omitempty"`
}

// An Unless says when a task of second choice is not needed: when the content's digest by
// the algorithm of first choice is this one. A measurer that can read the content again begins
// without the task; all others carry it out along with the rest.
type Unless struct {
	Algorithm digest.Algorithm `json:"algorithm"`
	Digest    digest.Value     `json:"digest"`
}

// Spared reports whether the task with an index is one of second choice that the results of
// all tasks show not to be needed.
func (t *Target) Spared(at int, results []Result) bool {
	unless := t.Tasks[at].Unless
	if unless == nil || len(results) != len(t.Tasks) {
		return false
	}
	for i := range t.Tasks {
		if first := &t.Tasks[i]; first.Plain() && first.Unless == nil && first.Algorithm == unless.Algorithm {
			return slices.Equal(results[i].Digest, unless.Digest)
		}
	}
	return false
}

// choices returns the target with the tasks of first choice alone, and their places among
// all tasks; first is nil where all are.
func (t *Target) choices() (first *Target, at []int) {
	if !slices.ContainsFunc(t.Tasks, func(task Task) bool { return task.Unless != nil }) {
		return nil, nil
	}
	out := *t
	out.Tasks = nil
	for i := range t.Tasks {
		if t.Tasks[i].Unless == nil {
			out.Tasks, at = append(out.Tasks, t.Tasks[i]), append(at, i)
		}
	}
	return &out, at
}

// rest returns the target with the tasks that the results call for and have not, and with
// those whose results have to be the same again; at are their places among all tasks.
// Second is nil where none is called for.
func (t *Target) rest(results []Result) (second *Target, at []int) {
	out := *t
	out.Tasks = nil
	needed := false
	for i := range t.Tasks {
		task := &t.Tasks[i]
		wanted := task.Unless != nil && !t.Spared(i, results)
		needed = needed || wanted
		if wanted || task.Unless == nil && task.Plain() {
			out.Tasks, at = append(out.Tasks, *task), append(at, i)
		}
	}
	if !needed {
		return nil, nil
	}
	return &out, at
}

// Plain reports whether a task is a digest of the bytes as they are.
func (t *Task) Plain() bool { return t.asIs() && len(t.After) == 0 }

// asIs reports whether a task begins with the bytes as they are, so that it can
// share its beginning with a digest of them.
func (t *Task) asIs() bool { return len(t.Before) == 0 && t.Expanded == "" && !t.Text }

// Inside tells where a file lies in the one that holds it.
type Inside struct {
	// Of is the path of the container, and Compression how that is
	// compressed as a whole, or empty.
	Of          string                `json:"of"`
	Compression container.Compression `json:"compression,omitempty"`
	Member      container.Member      `json:"member"`
}

// A Target is an item that is to be measured.
type Target struct {
	// Path is relative to the folder; for a file inside another, see
	// [container.Within].
	Path string `json:"path"`
	// Size, ModTime and Changed are as surveyed; see [ChangeTime].
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	Changed time.Time `json:"changed,omitzero"`
	// Problem is what the survey found, if anything.
	Problem *Problem `json:"problem,omitempty"`
	Inside  *Inside  `json:"inside,omitempty"`
	Tasks   []Task   `json:"tasks"`
}

// A Reading is what came of measuring a target.
type Reading struct {
	// Size is the number of bytes read.
	Size int64 `json:"size"`
	// Results are those of the tasks, in their order; none when the item could
	// not be measured.
	Results []Result `json:"results,omitempty"`
	// Unexpanded says why the uncompressed form could not be read, where a
	// task asks for that.
	Unexpanded string `json:"unexpanded,omitempty"`
	// Surplus says what a compressed file has that is no part of its uncompressed
	// form, where a task asks for that.
	Surplus string `json:"surplus,omitempty"`
	// CollisionSuspected is set when SHA-1 was computed and the bytes show
	// the marks of a collision attack.
	CollisionSuspected bool `json:"collision_suspected,omitempty"`
	// Problem is set when the item could not be measured.
	Problem *Problem `json:"problem,omitempty"`
	// Readback is the report of a medium that was read back.
	Readback *readback.Report `json:"readback,omitempty"`
}

// A Result is that of one task.
type Result struct {
	// Digest is nil when it could not be computed.
	Digest digest.Value `json:"digest,omitempty"`
	// NotText is set when a task over text met what is none.
	NotText bool `json:"not_text,omitempty"`
}

// A ProblemCode is a stable name for why a file could not be used.
type ProblemCode string

// The problem codes.
const (
	// Unreadable is a permission or I/O error.
	Unreadable ProblemCode = "unreadable"
	// LeavesDepot is a symbolic link that leads out of the folder.
	LeavesDepot ProblemCode = "leaves-depot"
	// NotAFile is a device, pipe, socket, or a link to a directory.
	NotAFile ProblemCode = "not-a-file"
	// TooLarge is a file over the bound for its role.
	TooLarge ProblemCode = "too-large"
	// Malformed is a signature or key file that does not parse.
	Malformed ProblemCode = "malformed"
	// ChangedWhileReading is a file whose size or times moved between open
	// and close.
	ChangedWhileReading ProblemCode = "changed-while-reading"
	// NotMeasured is a file that nobody has read, for a reason that is not its
	// own.
	NotMeasured ProblemCode = "not-measured"
)

// ProblemCodes lists every problem.
func ProblemCodes() []ProblemCode {
	return []ProblemCode{Unreadable, LeavesDepot, NotAFile, TooLarge, Malformed, ChangedWhileReading, NotMeasured}
}

// A Problem says why a file could not be used.
type Problem struct {
	Code    ProblemCode `json:"code"`
	Message string      `json:"message"`
}
