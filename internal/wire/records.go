package wire

import (
	"time"
)

// Record is a record.
type Record struct {
	Position int64     `json:"position"`
	Kind     string    `json:"kind"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Subject  string    `json:"subject"`
	Verdict  *string   `json:"verdict,omitempty"`
	Batch    *int64    `json:"batch,omitempty"`
	Leaf     string    `json:"leaf" doc:"The leaf hash, in hexadecimal."`
	Body     any       `json:"body,omitempty" doc:"The record's own JSON."`
}

// Checkpoint is a signed checkpoint.
type Checkpoint struct {
	Size      int64  `json:"size"`
	Root      string `json:"root"`
	Signed    string `json:"signed"`
	PublicKey string `json:"public_key"`
}

// Audit is the result of an audit of the ledger.
type Audit struct {
	Clean       bool   `json:"clean"`
	Records     int64  `json:"records"`
	Checkpoints int    `json:"checkpoints"`
	Root        string `json:"root"`
	Sentence    string `json:"sentence" doc:"What was found."`
	Position    int64  `json:"position" doc:"The first record that differs, or -1."`
}
