package wire

import (
	"time"

	"endeixis/core/judge"
)

// FindReferencesRequest asks which file this is, or which there are.
type FindReferencesRequest struct {
	Digest    string `query:"digest" maxLength:"2000" doc:"A digest of any algorithm in hexadecimal; several with commas between. Without it, all files are listed."`
	Publisher string `query:"publisher" maxLength:"64" doc:"Only files that rest on this publisher's signature; not with digest."`
	Match     string `query:"match" maxLength:"1000" doc:"Only files with this in their name; not with digest."`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// Reference is a file that was cleared here, by which others with the same bytes are
// known again.
type Reference struct {
	Name       string         `json:"name" doc:"The file's name, made safe to show."`
	Size       int64          `json:"size"`
	Algorithm  string         `json:"algorithm" doc:"The algorithm of the digest that was asked for."`
	Digest     string         `json:"digest"`
	Publishers []string       `json:"publishers" doc:"Whom it was expected from."`
	Source     string         `json:"source" doc:"Where it lay."`
	Label      string         `json:"label"`
	Batch      int64          `json:"batch"`
	Item       int            `json:"item"`
	Record     int64          `json:"record"`
	Cleared    time.Time      `json:"cleared"`
	SignedBy   string         `json:"signed_by,omitempty" doc:"The publisher whose signature it rests on."`
	Release    string         `json:"release,omitempty" doc:"What its name says of the release, which is a guess."`
	Now        *judge.Verdict `json:"now" nullable:"true" doc:"What became of it when it was judged again, if it was."`
}
