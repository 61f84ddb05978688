package wire

import (
	"time"

	"endeixis/core/judge"
	"endeixis/core/satchel"
	"endeixis/internal/state"
)

// PackSatchelRequest packs a satchel.
type PackSatchelRequest struct{ Body NewSatchel }

// NewSatchel says for whom, and for how long.
type NewSatchel struct {
	Publishers []string `json:"publishers" minItems:"1" maxItems:"100" doc:"Whose releases are to be judged with it."`
	Days       int      `json:"days" minimum:"1" maximum:"90" doc:"How long it is good for."`
	Label      string   `json:"label,omitempty" maxLength:"200"`
}

// A Satchel is one that was packed.
type Satchel struct {
	ID            string    `json:"id"`
	Label         string    `json:"label"`
	Publishers    []string  `json:"publishers"`
	Keys          []string  `json:"keys" doc:"Fingerprints of the keys by which it can clear something."`
	OtherKeys     int       `json:"other_keys" doc:"How many keys it knows beside them, such as withdrawn ones."`
	References    int       `json:"references" doc:"How many files that were cleared it knows."`
	PolicyVersion int64     `json:"policy_version"`
	By            string    `json:"by"`
	Packed        time.Time `json:"packed"`
	Until         time.Time `json:"until"`
	Ended         bool      `json:"ended"`
	Returned      int       `json:"returned" doc:"How many outcomes came back."`
	Record        int64     `json:"record"`
}

// PackedSatchel is a satchel with its file, which is told this once.
type PackedSatchel struct {
	Satchel
	File []byte `json:"file" doc:"The satchel, in base64."`
}

// SatchelAt names a satchel.
type SatchelAt struct {
	ID string `path:"satchel" maxLength:"60"`
}

// SatchelShown is a satchel with what came back of it.
type SatchelShown struct {
	Satchel
	Visits []Visit `json:"visits"`
}

// A Visit is an outcome that was sealed on site, with how it counts now.
type Visit struct {
	Number   int            `json:"number"`
	Of       satchel.Kind   `json:"of" doc:"What was verified: a folder, some files, or a medium."`
	SealedBy string         `json:"sealed_by" doc:"The fingerprint of the key that was made on site, as it was shown there."`
	Label    string         `json:"label"`
	At       time.Time      `json:"at" doc:"By the clock on site."`
	By       string         `json:"by" doc:"Who was signed in to the machine on site."`
	Host     string         `json:"host"`
	Path     string         `json:"path"`
	Clock    string         `json:"clock,omitempty" doc:"What cannot be right about the clock on site."`
	OnSite   judge.Verdict  `json:"on_site"`
	Now      *judge.Verdict `json:"now" nullable:"true" doc:"How its batch was judged when it came back."`
	State    state.Batch    `json:"state"`
	Batch    int64          `json:"batch"`
	Record   int64          `json:"record"`
	Files    int            `json:"files"`
	Known    bool           `json:"known,omitempty" doc:"Whether it had come back before."`
	Refused  string         `json:"refused,omitempty" doc:"Why it was not taken; then it has no batch."`
	Differs  []VisitDiffers `json:"differs" doc:"The files that count otherwise now than they did on site; at most 500."`
	More     int            `json:"more,omitempty" doc:"How many files differ beside them."`
}

// VisitDiffers is a file that counts otherwise now.
type VisitDiffers struct {
	N         int           `json:"n"`
	Shown     string        `json:"shown"`
	OnSite    judge.Verdict `json:"on_site,omitempty" doc:"Missing where it was not judged there."`
	WhyOnSite string        `json:"why_on_site"`
	Now       judge.Verdict `json:"now"`
	Why       string        `json:"why"`
}

// ReturnRequest brings back what was judged on site.
type ReturnRequest struct{ Body ReturnedOutcomes }

// ReturnedOutcomes are the file that was written there.
type ReturnedOutcomes struct {
	File      []byte `json:"file" doc:"The file of outcomes, in base64."`
	Key       string `json:"key,omitempty" maxLength:"60" doc:"The fingerprint of the key that was made on site; with another, nothing is taken."`
	Outcomes  int    `json:"outcomes,omitempty" minimum:"0" maximum:"2000" doc:"How many outcomes were noted on site; of a file with fewer, nothing is taken."`
	Otherwise string `json:"otherwise,omitempty" maxLength:"1000" doc:"Why the file goes on otherwise than one that came back before: its end was lost on site, say. Without it nothing of such a file is taken; with it, both are kept."`
}
