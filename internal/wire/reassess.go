package wire

import (
	"time"

	"endeixis/core/judge"
	"endeixis/internal/state"
)

// Reach tells what rests on a key, and what would become of it.
type Reach struct {
	Rests          int             `json:"rests" doc:"Artifacts with a signature by the key."`
	Batches        int             `json:"batches" doc:"How many batches they are in."`
	VerdictChanges []VerdictChange `json:"turns" doc:"How many verdicts would change, by what they are and would be."`
	Items          []Rejudge       `json:"items" doc:"Which, up to 500."`
}

// Inquiry is a question whose answer takes a while. Ask for it again until its
// state is not waiting.
type Inquiry struct {
	ID       int64      `json:"id"`
	State    state.Run  `json:"state"`
	Done     int64      `json:"done" doc:"How much is done."`
	Total    int64      `json:"total" doc:"Of how much; 0 while that is not known."`
	Created  time.Time  `json:"created"`
	Finished *time.Time `json:"finished,omitempty"`
	Note     string     `json:"note,omitempty" doc:"Why there is no answer."`
	Audit    *Audit     `json:"audit,omitempty" doc:"The answer of an audit."`
	Reach    *Reach     `json:"reach,omitempty" doc:"The answer about a key's reach."`
}

// InquiryAt names an inquiry.
type InquiryAt struct {
	ID int64 `path:"id" minimum:"1"`
}

// VerdictChange counts changes of verdict.
type VerdictChange struct {
	From  judge.Verdict `json:"from"`
	To    judge.Verdict `json:"to"`
	Count int           `json:"count"`
}

// Rejudge is an artifact that is judged again.
type Rejudge struct {
	Batch  int64         `json:"batch"`
	N      int           `json:"n"`
	Shown  string        `json:"shown" doc:"The path, made safe to show."`
	From   judge.Verdict `json:"from"`
	To     judge.Verdict `json:"to"`
	Why    string        `json:"why" doc:"The ground that decides."`
	Record *int64        `json:"record,omitempty"`
}

// Reassessment is one run of judging again.
type Reassessment struct {
	ID        int64      `json:"id"`
	Selection Selection  `json:"selection"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created" doc:"Keyring, policy and waivers were asked as of then."`
	Finished  *time.Time `json:"finished,omitempty"`
	State     state.Run  `json:"state"`
	Note      string     `json:"note,omitempty" doc:"Why it failed."`
	Policy    int64      `json:"policy"`
	Judged    int        `json:"judged" doc:"Items that were judged again."`
	Changed   int        `json:"changed" doc:"Artifacts whose verdict changed."`
	Record    *int64     `json:"record,omitempty"`
}

// Selection says what is judged again.
type Selection struct {
	Batch     int64      `json:"batch,omitempty"`
	Publisher string     `json:"publisher,omitempty"`
	Key       string     `json:"key,omitempty"`
	From      *time.Time `json:"from,omitempty"`
	To        *time.Time `json:"to,omitempty"`
	Waiting   bool       `json:"waiting,omitempty" doc:"Batches in which something is not cleared."`
	All       bool       `json:"all,omitempty"`
}

// ReassessRequest asks that something be judged again.
type ReassessRequest struct{ Body NewReassessment }

// NewReassessment says what is judged again, and why.
type NewReassessment struct {
	Selection
	Reason string `json:"reason"`
}

// ListReassessmentsRequest asks for runs.
type ListReassessmentsRequest struct {
	Key    string `query:"key" maxLength:"128" doc:"Only of what has a signature by the key with this fingerprint."`
	Rules  bool   `query:"rules" doc:"Only those that follow from a policy or a waiver, or were asked for of everything."`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"100"`
}

// ReassessmentAt names a run.
type ReassessmentAt struct {
	ID int64 `path:"id" minimum:"1"`
}

// ListRejudgedRequest asks for what a run changed.
type ListRejudgedRequest struct {
	ID     int64  `path:"id" minimum:"1"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"500"`
}
