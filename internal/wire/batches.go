package wire

import (
	"time"

	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/survey"
	"endeixis/internal/sources"
	"endeixis/internal/state"
)

// Closed reports whether nothing more will happen to the batch.
func (b *Batch) Closed() bool { return b.State.Ended() }

// Counts are how many artifacts came to each verdict, and how many entries
// have no file.
type Counts struct {
	Cleared  int `json:"cleared"`
	Unproven int `json:"unproven"`
	Refused  int `json:"refused"`
	Absent   int `json:"absent"`

	Companions int `json:"companions,omitempty" doc:"Files that come along and need no clearing."`
}

// Progress is how far a batch has come.
type Progress struct {
	Items     int   `json:"items"`
	ItemsDone int   `json:"items_done"`
	Bytes     int64 `json:"bytes"`
	BytesDone int64 `json:"bytes_done"`
}

// Source is where a batch's bytes are.
type Source struct {
	Kind      sources.Kind `json:"kind"`
	Reference string       `json:"reference" doc:"For a depot's folder: the depot, a colon, and the path."`
}

// Batch is a batch.
type Batch struct {
	ID         int64              `json:"id"`
	Label      string             `json:"label"`
	Source     Source             `json:"source" doc:"Where its bytes are."`
	Depot      string             `json:"depot" doc:"Of a depot's folder: the depot."`
	Path       string             `json:"path" doc:"Of a depot's folder: the folder."`
	Publisher  string             `json:"publisher"`
	Expected   *judge.Expectation `json:"expected,omitempty"`
	RequireAll bool               `json:"require_all"`
	Companions []string           `json:"companions,omitempty" doc:"The patterns for companions that it was asked with."`
	Policy     int64              `json:"policy"`
	AskedBy    string             `json:"asked_by"`
	Created    time.Time          `json:"created"`
	Finished   *time.Time         `json:"finished,omitempty"`
	State      state.Batch        `json:"state"`
	Verdict    *judge.Verdict     `json:"verdict" nullable:"true" doc:"The one with which it ended."`
	Now        *BatchNow          `json:"now,omitempty" doc:"What it comes to by all reassessments since it ended; absent where none has changed anything."`
	Note       string             `json:"note"`
	Counts     Counts             `json:"counts"`
	Progress   Progress           `json:"progress"`
	Record     *int64             `json:"record,omitempty" doc:"The record that closed it: nothing more will happen to a batch that has one."`
	Against    *Against           `json:"against,omitempty" doc:"What a medium is read back against; only where one batch is shown."`
}

// BatchNow is what a batch comes to after its artifacts were judged again.
type BatchNow struct {
	Verdict      judge.Verdict `json:"verdict"`
	Counts       Counts        `json:"counts"`
	At           time.Time     `json:"at" doc:"When the newest reassessment that changed something in it was recorded."`
	Reassessment int64         `json:"reassessment"`
	Record       int64         `json:"record"`
}

// Present is the verdict that the batch has now: of the newest reassessment that changed something in it, or
// the one with which it ended. It is nil before the batch is done.
func (b Batch) Present() *judge.Verdict {
	if b.Now != nil {
		return &b.Now.Verdict
	}
	return b.Verdict
}

// PresentCounts counts the artifacts by the verdicts that they have now.
func (b Batch) PresentCounts() Counts {
	if b.Now != nil {
		return b.Now.Counts
	}
	return b.Counts
}

// Absent is a manifest entry without a file.
type Absent struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
}

// Origin is a place from which copies of manifests can be fetched.
type Origin struct {
	Name    string         `json:"name"`
	URL     string         `json:"url"`
	Channel survey.Channel `json:"channel"`
}

// ComesFrom says where a manifest of the folder comes from.
type ComesFrom struct {
	Manifest string         `json:"manifest" doc:"The manifest, as the survey names it."`
	Channel  survey.Channel `json:"channel"`
	Place    string         `json:"place,omitempty" doc:"Where exactly, such as an address."`
}

// GivenCopy is a copy of a manifest, to hold the one in the folder against:
// either origin and path, to be fetched, or text with channel and place.
type GivenCopy struct {
	Of      string         `json:"of" doc:"The manifest in the folder, as the survey names it."`
	Origin  string         `json:"origin,omitempty" doc:"The name of a configured origin."`
	Path    string         `json:"path,omitempty" doc:"The path of the copy there."`
	Channel survey.Channel `json:"channel,omitempty" doc:"Where a text comes from."`
	Place   string         `json:"place,omitempty"`
	Text    string         `json:"text,omitempty" doc:"The copy itself."`
}

// Copy tells how a copy of a manifest compares.
type Copy struct {
	Of        string         `json:"of"`
	Channel   survey.Channel `json:"channel"`
	Place     string         `json:"place"`
	Size      int64          `json:"size"`
	SHA256    string         `json:"sha256,omitempty"`
	Identical bool           `json:"identical" doc:"Every byte is the same."`
	Same      int            `json:"same" doc:"Entries that agree."`
	Differ    []Change       `json:"differ" doc:"Entries that do not, at most a hundred."`
	More      int            `json:"more" doc:"How many more do not agree."`
	Trouble   string         `json:"trouble,omitempty" doc:"Why it could not be had or read."`
	Sentence  string         `json:"sentence" doc:"All of this in words."`
}

// Change is how one name fares between two manifests.
type Change struct {
	Kind   manifest.ChangeKind `json:"kind"`
	Name   string              `json:"name"`
	Was    string              `json:"was,omitempty"`
	Before string              `json:"before,omitempty" doc:"The digest in the folder's manifest."`
	After  string              `json:"after,omitempty" doc:"The digest in the copy."`
}

// RunBatchRequest asks for a batch.
type RunBatchRequest struct {
	Key  string `header:"Idempotency-Key" maxLength:"200" doc:"A request repeated with the same key makes no second batch."`
	Body NewBatch
}

// NewBatch says what is to be verified.
type NewBatch struct {
	Depot string `json:"depot,omitempty" maxLength:"100" doc:"The depot whose folder the service reads."`
	Path  string `json:"path,omitempty" maxLength:"4096" doc:"The folder, relative to the depot."`
	// Measurer stands instead of a depot.
	Measurer   *Measurer `json:"measurer,omitempty" doc:"Instead of a depot: who reads the files where they are, and sends what it finds."`
	Label      string    `json:"label,omitempty"`
	Publisher  string    `json:"publisher,omitempty" doc:"The expected publisher; without it the scopes of the publishers tell."`
	RequireAll bool      `json:"require_all,omitempty" doc:"Refuse the batch when a manifest lists files that are not here."`

	Companions []string `json:"companions,omitempty" maxItems:"100" doc:"Patterns for names of files that come along and need no clearing."`

	Corrections []Correction `json:"corrections,omitempty" maxItems:"1000" doc:"Pairs of signature and file, set by hand."`
	Origins     []ComesFrom  `json:"origins,omitempty" maxItems:"1000" doc:"Where manifests of the folder come from."`
	Copies      []GivenCopy  `json:"copies,omitempty" maxItems:"16" doc:"Other copies of manifests, to hold those in the folder against."`

	// Against makes it a readback.
	Against *NewAgainst `json:"against,omitempty" doc:"What a medium is read back against; the measurer's one file is the medium."`
}

// BatchStepRequest carries why something is done about a batch.
type BatchStepRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body Reasoned
}

// ListBatchesRequest narrows the list of batches.
type ListBatchesRequest struct {
	State   state.Batch   `query:"state"`
	Verdict judge.Verdict `query:"verdict"`
	Depot   string        `query:"depot" maxLength:"200" doc:"With folder: only batches of this folder of a depot."`
	Folder  string        `query:"folder" maxLength:"4096"`
	Cursor  string        `query:"cursor"`
	Limit   int           `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// BatchAt names a batch.
type BatchAt struct {
	ID int64 `path:"id"`
}

// ListAbsentRequest asks for entries of a batch without a file.
type ListAbsentRequest struct {
	ID     int64  `path:"id"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"1000"`
}

// FollowBatchRequest asks to be told how a batch moves.
type FollowBatchRequest struct {
	ID   int64 `path:"id"`
	Last int   `header:"Last-Event-ID"`
}
