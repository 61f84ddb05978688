package wire

import (
	"time"
)

// Reach tells what rests on a key, and what would become of it.
type Reach struct {
	Rests   int       `json:"rests" doc:"Artifacts with a signature by the key."`
	Batches int       `json:"batches" doc:"How many batches they are in."`
	Turns   []Turn    `json:"turns" doc:"How many verdicts would change, by what they are and would be."`
	Items   []Rejudge `json:"items" doc:"Which, up to 500."`
}

// Turn counts changes of verdict.
type Turn struct {
	From  string `json:"from" enum:"cleared,unproven,refused"`
	To    string `json:"to" enum:"cleared,unproven,refused"`
	Count int    `json:"count"`
}

// Rejudge is an artifact that is judged again.
type Rejudge struct {
	Batch  int64  `json:"batch"`
	N      int    `json:"n"`
	Shown  string `json:"shown" doc:"The path, made safe to show."`
	From   string `json:"from" enum:"cleared,unproven,refused"`
	To     string `json:"to" enum:"cleared,unproven,refused"`
	Why    string `json:"why" doc:"The ground that decides."`
	Record *int64 `json:"record,omitempty"`
}

// Reassessment is one run of judging again.
type Reassessment struct {
	ID        int64      `json:"id"`
	Selection Selection  `json:"selection"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created" doc:"Keyring, policy and waivers were asked as of then."`
	Finished  *time.Time `json:"finished,omitempty"`
	State     string     `json:"state" enum:"waiting,done,failed"`
	Note      string     `json:"note,omitempty" doc:"Why it failed."`
	Policy    int64      `json:"policy"`
	Judged    int        `json:"judged" doc:"Items that were judged again."`
	Changed   int        `json:"changed" doc:"Artifacts whose verdict changed."`
	Record    *int64     `json:"record,omitempty"`
	Items     []Rejudge  `json:"items,omitempty" doc:"Those, up to 500; only where one run is shown."`
}

// Selection says what is judged again.
type Selection struct {
	Batch     int64      `json:"batch,omitempty"`
	Publisher string     `json:"publisher,omitempty"`
	Key       string     `json:"key,omitempty"`
	From      *time.Time `json:"from,omitempty"`
	To        *time.Time `json:"to,omitempty"`
	All       bool       `json:"all,omitempty"`
}
