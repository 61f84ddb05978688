package wire

import (
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp"
	"endeixis/internal/directories"
)

// Import is the result of an import.
type Import struct {
	Keys  []Imported `json:"keys"`
	Notes []string   `json:"notes" doc:"What could not be read as a key, and what to do about what was dropped."`
	// Packets count all that the keys were read from.
	Packets []ImportedPackets `json:"packets" doc:"What became of each packet of the keys; what counts comes first."`
}

// ImportedPackets are packets of an import of which the same became for the same reason.
type ImportedPackets struct {
	Packets      int              `json:"packets"`
	Became       openpgp.Standing `json:"became" doc:"counts; idle: it is kept and counts for nothing; or dropped."`
	Why          string           `json:"why" doc:"What they are, and why that became of them."`
	Keys         int              `json:"keys" doc:"How many keys they are of."`
	Fingerprints []string         `json:"fingerprints" doc:"Those keys; no more than 20."`
}

// Imported tells what became of one key of an import, or would.
type Imported struct {
	Fingerprint  string          `json:"fingerprint"`
	Result       keyring.Arrival `json:"result"`
	Changes      []string        `json:"changes" doc:"What is new about a key that was known."`
	UserIDs      []string        `json:"user_ids" doc:"Made safe to show; the primary one first."`
	Algorithm    string          `json:"algorithm"`
	Created      time.Time       `json:"created"`
	Expires      *time.Time      `json:"expires,omitempty"`
	Revoked      *Revocation     `json:"revoked,omitempty"`
	Subkeys      int             `json:"subkeys"`
	State        keyring.State   `json:"state"`
	Publisher    string          `json:"publisher"`
	Reach        *int64          `json:"reach,omitempty" doc:"The inquiry that tells what rests on a known key, and would change; of a preview."`
	Reassessment *int64          `json:"reassessment,omitempty" doc:"The run that judges again what has a signature by it; set in the answer to the decision, where there is anything."`
}

// LookUp is what key directories said, compared.
type LookUp struct {
	Answers []DirectoryAnswer `json:"answers" doc:"In the order of the configuration."`
	Keys    []FoundKey        `json:"keys"`
	Notes   []string          `json:"notes"`
}

// DirectoryAnswer is what one directory said.
type DirectoryAnswer struct {
	Directory    string              `json:"directory"`
	Kind         directories.Kind    `json:"kind"`
	URL          string              `json:"url"`
	Outcome      directories.Outcome `json:"outcome"`
	Detail       string              `json:"detail,omitempty"`
	Fingerprints []string            `json:"fingerprints"`
	Milliseconds int64               `json:"milliseconds"`
}

// FoundKey is a key that directories had.
type FoundKey struct {
	Imported
	Directories []string `json:"directories"`
}

// LookedUp is what looking a key up again brought.
type LookedUp struct {
	Imported
	Answers []DirectoryAnswer `json:"answers"`
}

// ImportKeysRequest carries keys.
type ImportKeysRequest struct{ Body NewKeys }

// NewKeys is a key file to be imported.
type NewKeys struct {
	Data      string `json:"data" doc:"The key file, armored or binary, in base64."`
	Source    string `json:"source" maxLength:"1000" doc:"Where it comes from, such as a file name."`
	Publisher string `json:"publisher,omitempty" doc:"The publisher it is said to belong to."`
}

// LoadKeyFileRequest carries a key file as it is. What comes of it is a stream of
// server-sent events: “progress” with an [ImportProgress], and at the end “import” with
// an [Import], or “problem”.
type LoadKeyFileRequest struct {
	Source    string `query:"source" required:"true" maxLength:"1000" doc:"Where it comes from, such as a file name."`
	Publisher string `query:"publisher" maxLength:"64" doc:"The publisher it is said to belong to."`
	RawBody   []byte `contentType:"application/octet-stream"`
}

// ReadKeyFileRequest carries a key file that is read and not kept. It is answered as
// [LoadKeyFileRequest] is.
type ReadKeyFileRequest struct {
	RawBody []byte `contentType:"application/octet-stream"`
}

// ImportProgress is how many of the keys of a file have been gone through.
type ImportProgress struct {
	Done  int `json:"done"`
	Total int `json:"total"`
}

// ReadKeysRequest carries a file that is read and not kept.
type ReadKeysRequest struct{ Body Data }

// Data is a file.
type Data struct {
	Data string `json:"data" doc:"The file, armored or binary, in base64."`
}

// LookUpRequest asks key directories.
type LookUpRequest struct{ Body KeyQuery }

// KeyQuery says which keys are looked for.
type KeyQuery struct {
	Query string `json:"query" maxLength:"300" doc:"A full fingerprint, a key ID of 16 digits, or a mail address."`
}

// ImportFoundRequest imports a key that a look-up found.
type ImportFoundRequest struct{ Body ChosenKey }

// ChosenKey is one of the keys that directories had.
type ChosenKey struct {
	KeyQuery
	Fingerprint string `json:"fingerprint" maxLength:"200" doc:"Which of the keys that were found."`
	Publisher   string `json:"publisher,omitempty" doc:"The publisher it is said to belong to."`
}

// LookUpKnownRequest asks for what is new about keys.
type LookUpKnownRequest struct{ Body WhichKeys }

// WhichKeys names keys.
type WhichKeys struct {
	Fingerprints []string `json:"fingerprints,omitempty" maxItems:"1000" doc:"Which keys; without any, all of them."`
}
