package wire

import (
	"time"
)

// Import is the result of an import.
type Import struct {
	Keys  []Imported `json:"keys"`
	Notes []string   `json:"notes"`
}

// Imported tells what became of one key of an import, or would.
type Imported struct {
	Fingerprint string      `json:"fingerprint"`
	Result      string      `json:"result" enum:"new,updated,unchanged"`
	Changes     []string    `json:"changes" doc:"What is new about a key that was known."`
	UserIDs     []string    `json:"user_ids" doc:"Made safe to show; the primary one first."`
	Algorithm   string      `json:"algorithm"`
	Created     time.Time   `json:"created"`
	Expires     *time.Time  `json:"expires,omitempty"`
	Revoked     *Revocation `json:"revoked,omitempty"`
	Subkeys     int         `json:"subkeys"`
	State       string      `json:"state" enum:"candidate,admitted,withdrawn"`
	Publisher   string      `json:"publisher"`
	Reach       *Reach      `json:"reach,omitempty" doc:"What rests on a known key, and would change."`
}

// LookUp is what key directories said, compared.
type LookUp struct {
	Answers []DirectoryAnswer `json:"answers" doc:"In the order of the configuration."`
	Keys    []FoundKey        `json:"keys"`
	Notes   []string          `json:"notes"`
}

// DirectoryAnswer is what one directory said.
type DirectoryAnswer struct {
	Directory    string   `json:"directory"`
	Kind         string   `json:"kind" enum:"hkp,wkd"`
	URL          string   `json:"url"`
	Outcome      string   `json:"outcome" enum:"found,absent,failed,other-key,not-asked"`
	Detail       string   `json:"detail,omitempty"`
	Fingerprints []string `json:"fingerprints"`
	Milliseconds int64    `json:"milliseconds"`
}

// FoundKey is a key that directories had.
type FoundKey struct {
	Imported
	Directories []string `json:"directories"`
}

// Refreshed is what looking a key up again brought.
type Refreshed struct {
	Imported
	Answers []DirectoryAnswer `json:"answers"`
}
