package wire

import (
	"encoding/json"
	"strconv"
	"time"

	"endeixis/core/judge"
	"endeixis/internal/state"
)

// Waiver is an exception that was granted.
type Waiver struct {
	ID           int64        `json:"id"`
	Ground       judge.Code   `json:"ground"`
	Publisher    string       `json:"publisher"`
	Pattern      string       `json:"pattern"`
	Reason       string       `json:"reason"`
	By           string       `json:"by"`
	Created      time.Time    `json:"created"`
	Until        time.Time    `json:"until" doc:"The moment from which it counts no longer."`
	State        state.Waiver `json:"state"`
	Ended        *time.Time   `json:"ended,omitempty"`
	EndedBy      string       `json:"ended_by,omitempty"`
	EndReason    string       `json:"end_reason,omitempty"`
	Record       int64        `json:"record"`
	Reassessment *int64       `json:"reassessment,omitempty" doc:"The run that judges again what it concerns; set in the answer to the decision, where there is anything."`
}

// PolicyVersion is one change of the policy, or of what a publisher has
// otherwise.
type PolicyVersion struct {
	Version      int64        `json:"version" doc:"Counts through all changes: a number says what was in force for everybody."`
	Publisher    string       `json:"publisher" doc:"The publisher whose own fields changed; empty for the policy itself."`
	Reason       string       `json:"reason,omitempty"`
	Created      time.Time    `json:"created"`
	By           string       `json:"by"`
	Document     judge.Policy `json:"document" doc:"The whole policy, for this publisher."`
	Own          []string     `json:"own" doc:"The fields that the publisher has otherwise."`
	Reassessment *int64       `json:"reassessment,omitempty" doc:"The run that judges again what was verified; set in the answer to the decision, where there is anything."`
}

// Tag is the version, for a header.
func (v PolicyVersion) Tag() string { return strconv.FormatInt(v.Version, 10) }

// SetPolicyRequest carries a new version of the policy.
type SetPolicyRequest struct {
	IfMatch string `header:"If-Match" maxLength:"100" doc:"The version that you saw, in quotes: nothing is changed when there is another."`
	Body    NewPolicy
}

// NewPolicy is a policy to be put in force.
type NewPolicy struct {
	Document judge.Policy `json:"document" doc:"The whole policy; “endeixis policy show” prints the one in force."`
	Reason   string       `json:"reason" minLength:"3" maxLength:"1000"`
}

// SetOwnPolicyRequest gives a publisher fields of its own.
type SetOwnPolicyRequest struct {
	Slug    string `path:"slug"`
	IfMatch string `header:"If-Match" maxLength:"100" doc:"The version that you saw, in quotes: nothing is changed when there is another."`
	Body    OwnPolicy
}

// OwnPolicy is what a publisher has otherwise.
type OwnPolicy struct {
	Fields json.RawMessage `json:"fields" doc:"An object with the fields of the policy that this publisher has otherwise; an empty one leaves it none."`
	Reason string          `json:"reason" minLength:"3" maxLength:"1000"`
}

// A WaivableGround is a ground that a waiver can lift.
type WaivableGround string

// WaivableGrounds lists them.
func WaivableGrounds() []WaivableGround {
	var out []WaivableGround
	for _, c := range judge.Waivable() {
		out = append(out, WaivableGround(c))
	}
	return out
}

// GrantWaiverRequest carries a new waiver.
type GrantWaiverRequest struct{ Body NewWaiver }

// NewWaiver asks for an exception.
type NewWaiver struct {
	Ground    WaivableGround `json:"ground"`
	Publisher string         `json:"publisher,omitempty" maxLength:"64"`
	Pattern   string         `json:"pattern,omitempty" maxLength:"500" doc:"A pattern for the names of the files that the ground is about."`
	Until     time.Time      `json:"until" doc:"The moment from which it counts no longer."`
	Reason    string         `json:"reason"`
}

// EndWaiverRequest ends a waiver.
type EndWaiverRequest struct {
	ID   int64 `path:"id" minimum:"1"`
	Body Reasoned
}
