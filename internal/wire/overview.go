package wire

import "endeixis/core/judge"

// Overview is what needs attention.
type Overview struct {
	Refused    []Batch    `json:"refused"`
	Unproven   []Batch    `json:"unproven"`
	Running    []Batch    `json:"running"`
	Recent     []Batch    `json:"recent"`
	Candidates []Key      `json:"candidates"`
	Conflicts  []Key      `json:"conflicts"`
	Expiring   []Key      `json:"expiring" doc:"Admitted keys that have expired or expire within 60 days."`
	Days       []DayCount `json:"days" doc:"Verdicts on artifacts by day, the last 30 days."`
	Records    int64      `json:"records"`
}

// DayCount is how many artifacts of a day got a verdict.
type DayCount struct {
	Day     string        `json:"day"`
	Verdict judge.Verdict `json:"verdict"`
	Count   int           `json:"count"`
}

// ListAttentionRequest asks for what needs attention.
type ListAttentionRequest struct {
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// Attention is something that needs attention: a batch or a key.
type Attention struct {
	Word  string `json:"word" doc:"What it is: refused or unproven, or conflict, revoked, expired, expiring or candidate."`
	Batch *Batch `json:"batch,omitempty"`
	Key   *Key   `json:"key,omitempty"`
	N     int    `json:"n,omitempty" doc:"The item of the batch that decides."`
	Path  string `json:"path,omitempty" doc:"Its path."`
	Why   string `json:"why"`
	Act   string `json:"act,omitempty" doc:"What helps."`
}
