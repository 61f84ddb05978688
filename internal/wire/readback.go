package wire

import (
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/survey"
)

// NewAgainst says what a medium is read back against: one of a record, a file of a depot,
// and a digest.
type NewAgainst struct {
	Record    int64  `json:"record,omitempty" minimum:"1" doc:"The record of the outcome of a file."`
	Depot     string `json:"depot,omitempty" maxLength:"100" doc:"With path: a file of a depot that was verified."`
	Path      string `json:"path,omitempty" maxLength:"4096"`
	Digest    string `json:"digest,omitempty" maxLength:"200" doc:"In hexadecimal, the digest of the image."`
	Algorithm string `json:"algorithm,omitempty" maxLength:"40" doc:"That of the digest; without it any of that length may be meant."`
	Length    int64  `json:"length,omitempty" minimum:"0" doc:"With a digest of a file that was not verified here: how long it is, in bytes."`
	// Forms are what is in the image.
	Forms []survey.Form `json:"forms,omitempty" maxItems:"64" doc:"What is in the image, if it is compressed or carries bytes for addresses: a medium that was written from it has that. What the service can read it says itself."`
}

// Against is what a medium is read back against.
type Against struct {
	Batch   int64             `json:"batch,omitempty" doc:"With n: the item that the file is; missing where only a value is known."`
	N       int               `json:"n,omitempty"`
	Shown   string            `json:"shown,omitempty" doc:"The file's path there, made safe to show."`
	Inner   string            `json:"inner,omitempty" doc:"Set where it is a file inside of that item, which nothing speaks of by itself; its name there."`
	Size    int64             `json:"size" doc:"How many bytes of the medium are compared."`
	Digests map[string]string `json:"digests" doc:"What they have to be, by algorithm."`
	Forms   []survey.Form     `json:"forms,omitempty" doc:"What is in the file, if it is compressed or carries bytes for addresses: the medium may have one of these."`
}

// ReadBack is a medium that was read back against a file.
type ReadBack struct {
	Batch   int64          `json:"batch"`
	N       int            `json:"n"`
	Medium  string         `json:"medium"`
	Source  string         `json:"source" doc:"The machine, a colon, and the medium there."`
	At      time.Time      `json:"at"`
	Verdict *judge.Verdict `json:"verdict" nullable:"true"`
	Now     *judge.Verdict `json:"now,omitempty" doc:"What a reassessment made of the verdict."`
}

// ContentRequest asks for the bytes of a file, or a part of them.
type ContentRequest struct {
	ID    int64  `path:"id" minimum:"1"`
	N     int    `path:"n" minimum:"0" maximum:"2147483647"`
	Range string `header:"Range" maxLength:"200" doc:"The part that is wanted (RFC 9110, section 14); all of it, if left out."`
}

// PiecesRequest asks for digests of pieces.
type PiecesRequest struct {
	ID     int64 `path:"id" minimum:"1"`
	N      int   `path:"n" minimum:"0" maximum:"2147483647"`
	Offset int64 `query:"offset" minimum:"0" doc:"Where the part begins, in bytes."`
	Length int64 `query:"length" minimum:"1" doc:"How long it is."`
	Size   int64 `query:"size" minimum:"4096" maximum:"1073741824" doc:"How long a piece is. At most 65,536 pieces are told at once."`
}

// PieceDigests are the digests of the pieces of a part of a file.
type PieceDigests struct {
	SHA256 []digest.Value `json:"sha256" doc:"In their order, in hexadecimal; the last piece may be shorter."`
}
