// Package state has the states that work goes through, as they are stored and
// as they travel.
package state

// A Batch is how far a batch has come.
type Batch string

// The states of a batch.
const (
	// BatchWaiting has not been surveyed.
	BatchWaiting Batch = "waiting"
	// BatchMeasuring is surveyed; its items are measured and judged.
	BatchMeasuring Batch = "measuring"
	// BatchDone has its verdict.
	BatchDone Batch = "done"
	// BatchFailed could not be carried out; its note says why.
	BatchFailed Batch = "failed"
	// BatchCancelled was ended by somebody before it was done.
	BatchCancelled Batch = "cancelled"
)

// Batches lists every state of a batch.
func Batches() []Batch {
	return []Batch{BatchWaiting, BatchMeasuring, BatchDone, BatchFailed, BatchCancelled}
}

// Ended reports whether nothing more will happen.
func (b Batch) Ended() bool { return b != BatchWaiting && b != BatchMeasuring }

// A Run is how far work of one step has come: a reassessment, an audit, a
// reach.
type Run string

// The states of a run.
const (
	RunWaiting Run = "waiting"
	RunDone    Run = "done"
	// RunFailed could not be carried out; its note says why.
	RunFailed Run = "failed"
)

// Runs lists every state of a run.
func Runs() []Run { return []Run{RunWaiting, RunDone, RunFailed} }

// A Waiver is how a waiver stands.
type Waiver string

// The states of a waiver.
const (
	WaiverInForce Waiver = "in force"
	// WaiverEnded was ended by somebody before its day.
	WaiverEnded Waiver = "ended"
	// WaiverRunOut has reached its day.
	WaiverRunOut Waiver = "run out"
)

// Waivers lists every state of a waiver.
func Waivers() []Waiver { return []Waiver{WaiverInForce, WaiverEnded, WaiverRunOut} }
