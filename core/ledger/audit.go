package ledger

import (
	"fmt"

	"golang.org/x/mod/sumdb/tlog"
)

// An Audit recomputes a ledger from its records alone. Feed it every record in
// order with Record, and it checks each against its stored leaf and the root
// against every checkpoint on the way.
type Audit struct {
	size        int64
	peaks       []peak
	checkpoints map[int64]tlog.Hash
	problem     *Difference
}

// A peak is the root of a complete subtree of 1<<level records.
type peak struct {
	level int
	hash  tlog.Hash
}

// A Difference is the first thing an audit found wrong.
type Difference struct {
	// Position is that of the first record that differs.
	Position int64
	Reason   string
}

// Error names the record.
func (d *Difference) Error() string { return fmt.Sprintf("record %d: %s", d.Position, d.Reason) }

// NewAudit prepares an audit against the given checkpoints, whose signatures
// the caller has verified.
func NewAudit(checkpoints []Checkpoint) (*Audit, error) {
	a := &Audit{checkpoints: map[int64]tlog.Hash{}}
	for _, c := range checkpoints {
		if root, ok := a.checkpoints[c.Size]; ok && root != c.Root {
			return nil, &Difference{Position: c.Size, Reason: "two checkpoints of this size have different roots"}
		}
		a.checkpoints[c.Size] = c.Root
	}
	return a, nil
}

// Record takes the next record with the leaf hash stored beside it, and returns
// the hashes that a tree stores for it, its leaf first, in the order of their
// indexes. After the first difference it does nothing more.
func (a *Audit) Record(record []byte, storedLeaf tlog.Hash) []tlog.Hash {
	if a.problem != nil {
		return nil
	}
	leaf := Leaf(record)
	if leaf != storedLeaf {
		a.problem = &Difference{Position: a.size, Reason: "its text does not have the hash that was stored with it"}
		return nil
	}
	next := peak{0, leaf}
	hashes := []tlog.Hash{leaf}
	for n := len(a.peaks); n > 0 && a.peaks[n-1].level == next.level; n-- {
		next = peak{next.level + 1, tlog.NodeHash(a.peaks[n-1].hash, next.hash)}
		a.peaks = a.peaks[:n-1]
		hashes = append(hashes, next.hash)
	}
	a.peaks = append(a.peaks, next)
	a.size++
	if root, ok := a.checkpoints[a.size]; ok {
		delete(a.checkpoints, a.size)
		if root != a.Root() {
			a.problem = &Difference{Position: a.size - 1, Reason: fmt.Sprintf("the first %d records do not have the root of the checkpoint signed over them; one of them was altered since", a.size)}
		}
	}
	return hashes
}

// Size returns how many records were taken.
func (a *Audit) Size() int64 { return a.size }

// Root returns the root of what was taken so far (RFC 9162, section 2.1.1).
func (a *Audit) Root() tlog.Hash {
	if len(a.peaks) == 0 {
		root, _ := tlog.TreeHash(0, nil)
		return root
	}
	root := a.peaks[len(a.peaks)-1].hash
	for i := len(a.peaks) - 2; i >= 0; i-- {
		root = tlog.NodeHash(a.peaks[i].hash, root)
	}
	return root
}

// Finish returns the first difference, or nil. A checkpoint over more records
// than there are is one: records are missing.
func (a *Audit) Finish() *Difference {
	if a.problem != nil {
		return a.problem
	}
	for size := range a.checkpoints {
		if size > a.size {
			return &Difference{Position: a.size, Reason: fmt.Sprintf("a checkpoint was signed over %d records and only %d are here: records are missing", size, a.size)}
		}
	}
	return nil
}
