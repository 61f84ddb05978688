package wire

import (
	"endeixis/core/manifest"
	"endeixis/core/survey"
)

// Correction says by hand which file a signature is over.
type Correction struct {
	Signature string `json:"signature" doc:"The signature file, as the survey names it."`
	File      string `json:"file" doc:"The file it is over."`
}

// Survey is the plan of a batch: what each file is, and what vouches for what.
type Survey struct {
	Items  []Planned `json:"items"`
	Absent []Absent  `json:"absent"`
}

// Planned is one file of a survey.
type Planned struct {
	Path       string      `json:"path"`
	Shown      string      `json:"shown" doc:"The path, made safe to show."`
	Role       survey.Role `json:"role"`
	Why        string      `json:"why" doc:"How the role was found."`
	Size       int64       `json:"size"`
	Problem    string      `json:"problem,omitempty"`
	Inside     string      `json:"inside,omitempty" doc:"The path of the container that holds it."`
	Holds      string      `json:"holds,omitempty" doc:"What a container is and how much is in it."`
	Algorithms []string    `json:"algorithms" doc:"What will be computed from its bytes."`
	Listed     []Vouched   `json:"listed" doc:"Manifest entries that speak of it."`
	Signatures []Vouched   `json:"signatures" doc:"Signatures that may be over it."`
}

// Vouched is something that speaks of a file.
type Vouched struct {
	By   string `json:"by" doc:"The manifest or signature file."`
	Line int    `json:"line,omitempty"`
	Why  string `json:"why"`
}

// ManifestContent is what was understood of a manifest.
type ManifestContent struct {
	Format       manifest.Format `json:"format"`
	Entries      []ReadEntry     `json:"entries"`
	Problems     []ReadProblem   `json:"problems"`
	MoreProblems int             `json:"more_problems"`
	LeftAside    []ReadAside     `json:"left_aside" doc:"Parts in the form of a digest that are in no entry and no problem, and why."`
	MoreAside    int             `json:"more_left_aside"`
	Cut          bool            `json:"cut" doc:"There are more entries than are shown."`
}

// ReadEntry is one entry of a manifest that was read.
type ReadEntry struct {
	Name       string   `json:"name" doc:"Made safe to show; empty for a bare digest."`
	Algorithm  *string  `json:"algorithm" doc:"Null where only candidates are known."`
	Candidates []string `json:"candidates"`
	Digest     string   `json:"digest"`
	Size       *int64   `json:"size"`
	Line       int      `json:"line"`
	Span       Span     `json:"span" doc:"Where the value stands."`
	Guessed    []string `json:"guessed,omitempty" doc:"The parts that the text does not state: digest, size. A guess decides nothing."`
}

// Span is a place in a text, in bytes of it in UTF-8, from 0.
type Span struct {
	Start int `json:"start"`
	End   int `json:"end"`
}

// ReadProblem is a line that could not be used.
type ReadProblem struct {
	Line    int                  `json:"line"`
	Code    manifest.ProblemCode `json:"code"`
	Message string               `json:"message"`
	Span    Span                 `json:"span" doc:"Where the line stands."`
}

// ReadAside is a part of a text that has the form of a digest and was used for nothing.
type ReadAside struct {
	Line   int    `json:"line"`
	Column int    `json:"column" doc:"Where it begins in the line, in bytes from 1."`
	Length int    `json:"length" doc:"How many bytes it has."`
	Span   Span   `json:"span"`
	Text   string `json:"text" doc:"The part itself, shortened where it is long."`
	Why    string `json:"why"`
}

// SurveyRequest asks for the plan of a folder.
type SurveyRequest struct{ Body NewSurvey }

// NewSurvey says what is surveyed.
type NewSurvey struct {
	Depot       string       `json:"depot" maxLength:"100"`
	Path        string       `json:"path" maxLength:"4096"`
	Corrections []Correction `json:"corrections,omitempty" maxItems:"1000"`
}

// ReadManifestRequest carries a manifest.
type ReadManifestRequest struct{ Body ManifestText }

// ManifestText is a manifest.
type ManifestText struct {
	Text string `json:"text" maxLength:"4194304" doc:"The manifest, or a page or message with digests in it."`
	Name string `json:"name,omitempty" maxLength:"255" doc:"Its file name, which can tell the algorithm."`

	Beside []string `json:"beside,omitempty" maxItems:"10000" doc:"The names of files that it lies beside: they are found in it, where otherwise the end of a name is guessed."`
}
