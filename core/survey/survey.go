// Package survey turns a folder into a plan: which file is an artifact, a
// manifest, a signature or a key, what vouches for what and why, and what has
// to be computed from each file's bytes.
//
// It has two halves. [Gather] looks at files: names, sizes, the content of the
// small ones that can be manifests, signatures or keys, and the directories of
// archives and disc images. What it finds travels as JSON, so that it can be
// done where the files are. [Plan] is pure: from [Findings] it comes to the
// [Survey], and believes nobody about what a manifest says. [Run] does both.
//
// The small files are read once: their content stays in [Survey.Contents], from
// where it is measured. A compressed archive has no directory; it is read
// through only when an entry has no file, or when nothing speaks of the archive.
// No other file is touched.
package survey

import (
	"context"
	"fmt"
	"io/fs"
	"time"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/plain"
)

// A Role is what a file is for.
type Role string

// The roles.
const (
	Artifact  Role = "artifact"
	Manifest  Role = "manifest"
	Signature Role = "signature"
	Key       Role = "key"
	// Receipt is a receipt or a checkpoint of a ledger: it is about what lies here, and says
	// nothing by the digests in it.
	Receipt Role = "receipt"
)

// Roles lists every role of a file.
func Roles() []Role { return []Role{Artifact, Manifest, Signature, Key, Receipt} }

// An Entry is a manifest's entry that speaks of an item.
type Entry struct {
	// Manifest is the path of the manifest.
	Manifest string `json:"manifest"`
	// Line is where the entry stands in it.
	Line int `json:"line"`
	// Name is the file name as the manifest has it.
	Name string `json:"name"`
	// Algorithms are the candidates, of which one has to match.
	Algorithms []digest.Algorithm `json:"algorithms"`
	Digest     digest.Value       `json:"digest"`
	Size       *int64             `json:"size,omitempty"`
	Pieces     *manifest.Pieces   `json:"pieces,omitempty"`
	// GuessedSize is a number that may be the size, where nothing says so, and Guessed is
	// set where nothing says that the digest is one. Guesses are tried and told, and
	// neither clear nor refuse.
	GuessedSize *int64 `json:"guessed_size,omitempty"`
	Guessed     bool   `json:"guessed,omitempty"`
	// Given is set for what was handed over on purpose for this file alone.
	Given GivenAs `json:"given,omitempty"`
	// Question says why the value may be of something else, though somebody gave it for
	// this file, or is empty. Then it is doubtful.
	Question string `json:"question,omitempty"`
	// Doubtful is set when the name fits several files: then the digest
	// decides which of them is meant.
	Doubtful bool `json:"doubtful,omitempty"`
	// Renamed is set when the file has another name than the entry, which differs
	// harmlessly: it is meant only if its bytes are.
	Renamed bool `json:"renamed,omitempty"`
	// Origin says where the manifest comes from, or is nil.
	Origin *Provenance `json:"origin,omitempty"`
}

// GivenAs says how something was handed over.
type GivenAs string

const (
	// AsValue is a digest that was given by itself, AsText a text with digests in it.
	AsValue GivenAs = "value"
	AsText  GivenAs = "text"
)

// A SignatureOver is a signature that may be over an item.
type SignatureOver struct {
	// File is the path of the signature file, and Index the position of the
	// signature in it, from 0.
	File  string `json:"file"`
	Index int    `json:"index"`
	// Why says how it came to be paired with the item.
	Why string `json:"why"`
	// Raw is the body of the signature packet, for [openpgp.ParseSignature].
	// It is empty when the file could not be read, which Problem explains.
	Raw     []byte           `json:"raw,omitempty"`
	Problem *measure.Problem `json:"problem,omitempty"`
	// Uncompressed is set when the signature is over the uncompressed form
	// of the item: how the item is compressed.
	Uncompressed container.Compression `json:"uncompressed,omitempty"`
	// Around is set for a signature that is in the item itself, around its
	// content, which alone it covers.
	Around Enclosure `json:"around,omitempty"`
	// Doubtful is set when the name fits several files: then the
	// cryptography decides which of them is meant.
	Doubtful bool `json:"doubtful,omitempty"`
}

// An Enclosure is a way of putting signatures around content.
type Enclosure string

// The enclosures.
const (
	// Cleartext is the cleartext signature framework (RFC 9580, section 7).
	Cleartext Enclosure = "cleartext"
	// Message is a signed message (RFC 9580, section 10.3).
	Message Enclosure = "message"
)

// An Item is one file of the folder, or one inside such a file.
type Item struct {
	// Path is relative to the folder, with slashes. For a file inside
	// another, it is the other's path, two slashes, and its name in there.
	Path string `json:"path"`
	Role Role   `json:"role"`
	// Why says how the role was found.
	Why     string           `json:"why"`
	Size    int64            `json:"size"`
	ModTime time.Time        `json:"mod_time"`
	Changed time.Time        `json:"changed,omitzero"`
	Problem *measure.Problem `json:"problem,omitempty"`
	// Digests is what has to be computed. SHA-256 is among them, whatever lists
	// state: by it alone the item is known again.
	Digests    []digest.Algorithm `json:"digests,omitempty"`
	Listed     []Entry            `json:"listed,omitempty"`
	Signatures []SignatureOver    `json:"signatures,omitempty"`
	// Sighted is what copies of manifests from elsewhere state about it.
	Sighted []CopyEntry `json:"sighted,omitempty"`
	// Understood tells what a manifest holds.
	Understood *Understood `json:"understood,omitempty"`
	// Inside is set for a file inside another.
	Inside *measure.Inside `json:"inside,omitempty"`
	// Holds is set for an archive, a compressed file or a disc image that
	// was looked into.
	Holds *Holds `json:"holds,omitempty"`
	// Unasked are names in texts that were handed over for this file, and are not its own:
	// up to three of those that speak of nothing else.
	Unasked []string `json:"unasked,omitempty"`
	// Receipt is that of a ledger, of an item that is one.
	Receipt *ledger.Receipt `json:"receipt,omitempty"`
	// Against is set for a medium that is read back.
	Against *Against `json:"against,omitempty"`
}

// MaxFile bounds a file, in bytes, and MaxBatch all files of a batch together, so that no sum of
// what people send overflows.
const (
	MaxFile  = 1 << 48
	MaxBatch = 1 << 60
)

// Understood sums up a manifest that was read.
type Understood struct {
	Format       manifest.Format    `json:"format"`
	Entries      int                `json:"entries"`
	Problems     []manifest.Problem `json:"problems,omitempty"`
	MoreProblems int                `json:"more_problems,omitempty"`
	// HandedOn is set for a list that was written when files were handed on: by its first
	// line, as [HandedOnLine] gives it. No publisher has made or signed it.
	HandedOn bool `json:"handed_on,omitempty"`
}

// handedOnFormat begins the first line of a list of files that were handed on.
const handedOnFormat = "# endeixis-digests-1: "

// HandedOnLine returns the first line of a list of files that were handed on; of says what they
// were verified in.
func HandedOnLine(of string) string {
	return fmt.Sprintf("%sfiles of %s that were handed on\n", handedOnFormat, of)
}

// An Absent is a manifest entry whose file is not in the folder.
type Absent struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
	// Digest is what the entry states.
	Digest digest.Value `json:"digest"`
}

// A Survey is the plan of a batch.
type Survey struct {
	// Items are sorted by path.
	Items  []Item   `json:"items"`
	Absent []Absent `json:"absent"`
	// Copies tells how copies of manifests from elsewhere compare.
	Copies []CopyRead `json:"copies"`
	// Contents holds the bytes of the files that were read, by path.
	Contents map[string][]byte `json:"-"`
}

// A Correction says by hand which file a signature is over.
type Correction struct {
	Signature string `json:"signature"`
	File      string `json:"file"`
}

// Options are the bounds of a survey and what is known about it by hand. The
// zero value means the defaults.
type Options struct {
	Limits      Limits
	Corrections []Correction
	// Provenance says where manifests of the folder come from, by path, and
	// Copies are others of them.
	Provenance map[string]Provenance
	Copies     []Copy
}

// A CorrectionError reports a correction that names something else than a
// signature and another file of the folder.
type CorrectionError struct {
	Correction Correction
	Reason     string
}

// Error names the correction.
func (e *CorrectionError) Error() string {
	return fmt.Sprintf(
		"%s cannot be set for %s: %s", plain.Quoted(e.Correction.Signature), plain.Quoted(e.Correction.File), e.Reason,
	)
}

// Run gathers and plans. It fails as [Gather] and [Plan] do.
func Run(ctx context.Context, folder fs.FS, opts Options) (*Survey, error) {
	found, err := Gather(ctx, folder, opts.Limits)
	if err != nil {
		return nil, err
	}
	return Plan(found, opts)
}
