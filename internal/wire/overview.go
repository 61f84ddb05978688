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
