package wire

import (
	"time"

	"endeixis/core/judge"
)

// FindReferencesRequest asks which file this is.
type FindReferencesRequest struct {
	Digest string `query:"digest" required:"true" maxLength:"2000" doc:"A digest of any algorithm in hexadecimal; several with commas between."`
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
	Now        *judge.Verdict `json:"now" nullable:"true" doc:"What became of it when it was judged again, if it was."`
}
