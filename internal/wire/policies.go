package wire

import (
	"time"

	"endeixis/core/judge"
)

// Waiver is an exception that was granted.
type Waiver struct {
	ID        int64      `json:"id"`
	Ground    string     `json:"ground"`
	Publisher string     `json:"publisher"`
	Pattern   string     `json:"pattern"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created"`
	Until     time.Time  `json:"until" doc:"The moment from which it counts no longer."`
	State     string     `json:"state" enum:"in force,ended,run out"`
	Ended     *time.Time `json:"ended,omitempty"`
	EndedBy   string     `json:"ended_by,omitempty"`
	EndReason string     `json:"end_reason,omitempty"`
	Record    int64      `json:"record"`
}

// PolicyVersion is one change of the policy, or of what a publisher has
// otherwise.
type PolicyVersion struct {
	Version   int64        `json:"version" doc:"Counts through all changes: a number says what was in force for everybody."`
	Publisher string       `json:"publisher" doc:"The publisher whose own fields changed; empty for the policy itself."`
	Reason    string       `json:"reason,omitempty"`
	Created   time.Time    `json:"created"`
	By        string       `json:"by"`
	Document  judge.Policy `json:"document" doc:"The whole policy, for this publisher."`
	Own       []string     `json:"own" doc:"The fields that the publisher has otherwise."`
}
