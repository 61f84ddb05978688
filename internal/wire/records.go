package wire

import (
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/ledger"
)

// Record is a record.
type Record struct {
	Position int64          `json:"position"`
	Kind     ledger.Kind    `json:"kind"`
	At       time.Time      `json:"at"`
	By       string         `json:"by"`
	Subject  string         `json:"subject"`
	Verdict  *judge.Verdict `json:"verdict,omitempty"`
	Batch    *int64         `json:"batch,omitempty"`
	Leaf     string         `json:"leaf" doc:"The leaf hash, in hexadecimal."`
	Body     any            `json:"body,omitempty" doc:"The record's own JSON."`

	Sentences []string `json:"sentences,omitempty" doc:"What it says, for people; not in lists. The text alone counts."`
}

// Checkpoint is a signed checkpoint.
type Checkpoint struct {
	Size      int64  `json:"size"`
	Root      string `json:"root"`
	Signed    string `json:"signed"`
	PublicKey string `json:"public_key"`
	// Consistency is there where a size was asked about that is not greater.
	Consistency []string `json:"consistency,omitempty" doc:"The consistency proof (RFC 9162, section 2.1.4) from the size that was asked about, in base64."`
	Succession  []string `json:"succession,omitempty" doc:"What each key that the ledger had before has signed when the next followed it; docs/formats.md has its lines."`
}

// CheckpointRequest asks for a checkpoint, and how it goes on from an older one.
type CheckpointRequest struct {
	Since int64 `query:"since" minimum:"0" doc:"The size of a checkpoint that was seen before: the answer proves that the ledger goes on from it."`
}

// Audit is the result of an audit of the ledger.
type Audit struct {
	Clean         bool       `json:"clean"`
	Records       int64      `json:"records"`
	From          int64      `json:"from" doc:"The first record that was read; those before it an earlier audit has read, which held."`
	Since         *time.Time `json:"since,omitempty" doc:"When that was."`
	Checkpoints   int        `json:"checkpoints"`
	Root          string     `json:"root"`
	Sentence      string     `json:"sentence" doc:"What was found."`
	Position      int64      `json:"position" doc:"The first record that differs, or -1."`
	Discrepancies []string   `json:"differences,omitempty" doc:"The first rows that are not what the records say."`
	Nonce         string     `json:"nonce,omitempty" doc:"That of the question."`
	Signed        string     `json:"signed,omitempty" doc:"The answer as a note under the ledger's key; docs/formats.md says how it is checked."`
}

// ListRecordsRequest narrows the list of records.
type ListRecordsRequest struct {
	Kind    ledger.Kind   `query:"kind"`
	Verdict judge.Verdict `query:"verdict"`
	Batch   int64         `query:"batch"`
	Name    string        `query:"name" maxLength:"500" doc:"A part of the subject, ignoring case."`

	By        string        `query:"by" maxLength:"200" doc:"The person on whose word it stands."`
	Publisher string        `query:"publisher" maxLength:"200" doc:"Expected, or whose key signed, or whose keyring, policy or waivers it is about."`
	Ground    judge.Code    `query:"ground" doc:"A ground that an outcome has, or that a waiver lifts."`
	Cause     diagnose.Code `query:"cause" doc:"What was found to explain a difference."`
	Key       string        `query:"key" maxLength:"200" doc:"A fingerprint or key ID, or at least 8 digits of the beginning or end of one."`
	Digest    string        `query:"digest" maxLength:"300" doc:"A digest that was computed, in any algorithm, or at least its first 8 digits."`
	Device    string        `query:"device" maxLength:"200"`
	Place     string        `query:"place" maxLength:"500" doc:"A part of where bytes were read, ignoring case: a depot's folder, or a host with a folder or medium."`
	Label     string        `query:"label" maxLength:"200" doc:"A part of a batch's label, ignoring case."`
	Waiver    string        `query:"waiver" pattern:"^[0-9]{0,18}$" doc:"The record that granted it: what rests on it, and its end."`
	From      string        `query:"from" maxLength:"40" doc:"A day, as 2026-11-30, or a time (RFC 3339)."`
	To        string        `query:"to" maxLength:"40" doc:"The same; a day is included."`

	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// Narrow reports whether anything is asked for beside kind, verdict, batch and name.
func (r *ListRecordsRequest) Narrow() bool {
	return r.By+r.Publisher+string(r.Ground)+string(r.Cause)+r.Key+r.Digest+r.Device+r.Place+r.Label+r.Waiver+
		r.From+r.To != ""
}

// RecordAt names a record.
type RecordAt struct {
	Position int64 `path:"position" minimum:"0"`
}

// AuditRequest asks for an audit.
type AuditRequest struct{ Body NewAudit }

// NewAudit says what an audit is held against.
type NewAudit struct {
	Checkpoint string `json:"checkpoint,omitempty" doc:"A signed checkpoint that was kept outside, to be checked too."`
	Full       bool   `json:"full,omitempty" doc:"Begin at the first record, and not where the last audit that held has ended."`
	Nonce      string `json:"nonce,omitempty" maxLength:"64" pattern:"^[A-Za-z0-9]*$" doc:"A word that nobody can guess: the signed answer has it, so that it is an answer to this question."`
}
