package measure

import (
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
)

// A SignatureHash is the finished hash for one signature over the item: its
// bytes, then the signature's trailer.
type SignatureHash struct {
	File   string       `json:"file"`
	Index  int          `json:"index"`
	Digest digest.Value `json:"digest"`
	// NotText is set for a signature over text when the bytes are no text.
	NotText bool `json:"not_text,omitempty"`
}

// A Measurement is what was computed from one item's bytes.
type Measurement struct {
	// Size is the number of bytes read.
	Size            int64                             `json:"size"`
	Digests         map[digest.Algorithm]digest.Value `json:"digests,omitempty"`
	SignatureHashes []SignatureHash                   `json:"signature_hashes,omitempty"`
	// Unexpanded says why the uncompressed form could not be read, where a
	// signature is over that.
	Unexpanded string `json:"unexpanded,omitempty"`
	// Surplus says what a compressed file has that is no part of its uncompressed
	// form, where a task asks for that.
	Surplus string `json:"surplus,omitempty"`
	// CollisionSuspected is set when SHA-1 was computed and the bytes show
	// the marks of a collision attack.
	CollisionSuspected bool `json:"collision_suspected,omitempty"`
	// Diagnoses explain why the item does not match an entry. They come from
	// a second read, after a mismatch only.
	Diagnoses []diagnose.Diagnosis `json:"diagnoses,omitempty"`
	// Problem is set when the item could not be measured.
	Problem *Problem `json:"problem,omitempty"`
	// Where and By say which program on which host read the bytes, and for
	// whom.
	Where string    `json:"where"`
	By    string    `json:"by"`
	At    time.Time `json:"at"`
}

// A Witness signs measurements with where they were made, for whom and when.
type Witness struct {
	Where string
	By    string
	At    time.Time
}
