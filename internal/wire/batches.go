package wire

import (
	"time"

	"endeixis/core/judge"
)

// Closed reports whether nothing more will happen to the batch.
func (b *Batch) Closed() bool { return b.State == "done" || b.State == "failed" }

// Counts are how many artifacts came to each verdict, and how many entries
// have no file.
type Counts struct {
	Cleared  int `json:"cleared"`
	Unproven int `json:"unproven"`
	Refused  int `json:"refused"`
	Absent   int `json:"absent"`
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
	Kind      string `json:"kind" enum:"depot"`
	Reference string `json:"reference" doc:"For a depot's folder: the depot, a colon, and the path."`
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
	Policy     int64              `json:"policy"`
	AskedBy    string             `json:"asked_by"`
	Created    time.Time          `json:"created"`
	Finished   *time.Time         `json:"finished,omitempty"`
	State      string             `json:"state" enum:"waiting,measuring,done,failed"`
	Verdict    *string            `json:"verdict" enum:"cleared,unproven,refused"`
	Note       string             `json:"note"`
	Counts     Counts             `json:"counts"`
	Progress   Progress           `json:"progress"`
	Record     *int64             `json:"record,omitempty"`
}

// Absent is a manifest entry without a file.
type Absent struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
}

// Origin is a place from which copies of manifests can be fetched.
type Origin struct {
	Name    string `json:"name"`
	URL     string `json:"url"`
	Channel string `json:"channel" enum:"vendor-site,mirror,other-network,paper"`
}

// ComesFrom says where a manifest of the folder comes from.
type ComesFrom struct {
	Manifest string `json:"manifest" doc:"The manifest, as the survey names it."`
	Channel  string `json:"channel" enum:"vendor-site,mirror,other-network,paper"`
	Place    string `json:"place,omitempty" doc:"Where exactly, such as an address."`
}

// GivenCopy is a copy of a manifest, to hold the one in the folder against:
// either origin and path, to be fetched, or text with channel and place.
type GivenCopy struct {
	Of      string `json:"of" doc:"The manifest in the folder, as the survey names it."`
	Origin  string `json:"origin,omitempty" doc:"The name of a configured origin."`
	Path    string `json:"path,omitempty" doc:"The path of the copy there."`
	Channel string `json:"channel,omitempty" enum:"vendor-site,mirror,other-network,paper" doc:"Where a text comes from."`
	Place   string `json:"place,omitempty"`
	Text    string `json:"text,omitempty" doc:"The copy itself."`
}

// Copy tells how a copy of a manifest compares.
type Copy struct {
	Of        string   `json:"of"`
	Channel   string   `json:"channel"`
	Place     string   `json:"place"`
	Size      int64    `json:"size"`
	SHA256    string   `json:"sha256,omitempty"`
	Identical bool     `json:"identical" doc:"Every byte is the same."`
	Same      int      `json:"same" doc:"Entries that agree."`
	Differ    []Change `json:"differ" doc:"Entries that do not, at most a hundred."`
	More      int      `json:"more" doc:"How many more do not agree."`
	Trouble   string   `json:"trouble,omitempty" doc:"Why it could not be had or read."`
	Sentence  string   `json:"sentence" doc:"All of this in words."`
}

// Change is how one name fares between two manifests.
type Change struct {
	Kind   string `json:"kind" enum:"added,removed,changed,renamed,incomparable"`
	Name   string `json:"name"`
	Was    string `json:"was,omitempty"`
	Before string `json:"before,omitempty" doc:"The digest in the folder's manifest."`
	After  string `json:"after,omitempty" doc:"The digest in the copy."`
}
