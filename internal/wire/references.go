package wire

import (
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
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

// NoteReferencesRequest puts digests on record that were read somewhere.
type NoteReferencesRequest struct {
	Body NewNote
}

// Reaches says that it is about a publisher.
func (r NoteReferencesRequest) Reaches() Scope { return Scope{Publisher: r.Body.Publisher} }

// NewNote says which digests of a publisher's files were read, and where.
type NewNote struct {
	Publisher string          `json:"publisher" maxLength:"64"`
	Channel   keyring.Channel `json:"channel"`
	Place     string          `json:"place" doc:"Where exactly, such as the letter and its date."`
	Note      string          `json:"note,omitempty"`
	Files     []NotedFile     `json:"files" nullable:"false" minItems:"1" maxItems:"1000"`
}

// NotedFile is a file with a digest that was read.
type NotedFile struct {
	Name      string `json:"name" maxLength:"4096"`
	Digest    string `json:"digest" maxLength:"256" doc:"In hexadecimal."`
	Algorithm string `json:"algorithm,omitempty" maxLength:"32" doc:"What was stated there, if it was."`
	Size      *int64 `json:"size,omitempty" minimum:"0"`
}

// Noted tells what was put on record.
type Noted struct {
	Record int64 `json:"record" doc:"The first of the records; the others follow it."`
	Files  int   `json:"files"`
}

// ListNotedReferencesRequest asks for digests that were read somewhere.
type ListNotedReferencesRequest struct {
	Digest    string `query:"digest" maxLength:"2000" doc:"A digest in hexadecimal; several with commas between."`
	Publisher string `query:"publisher" maxLength:"64"`
	Match     string `query:"match" maxLength:"1000" doc:"A part of the file's name."`
	Cursor    string `query:"cursor"`
	Limit     int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// NotedReference is a digest that somebody has read somewhere, of a file that need not ever have been here. It
// clears nothing.
type NotedReference struct {
	Name      string          `json:"name" doc:"The file's name, made safe to show."`
	Publisher string          `json:"publisher"`
	Algorithm string          `json:"algorithm,omitempty" doc:"What was stated, if it was."`
	Digest    string          `json:"digest"`
	Size      *int64          `json:"size,omitempty"`
	Channel   keyring.Channel `json:"channel"`
	Place     string          `json:"place"`
	Note      string          `json:"note,omitempty"`
	By        string          `json:"by"`
	At        time.Time       `json:"at"`
	Record    int64           `json:"record"`
}
