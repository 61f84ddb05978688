package wire

import (
	"time"

	"endeixis/core/device"
	"endeixis/core/judge"
	"endeixis/core/readback"
	"endeixis/core/survey"
)

// Item is an item with its evidence.
type Item struct {
	N       int            `json:"n"`
	Path    string         `json:"path"`
	Shown   string         `json:"shown" doc:"The path, made safe to show."`
	Role    survey.Role    `json:"role"`
	Why     string         `json:"why" doc:"How the role was found."`
	Size    int64          `json:"size"`
	Verdict *judge.Verdict `json:"verdict" nullable:"true"`
	Settled bool           `json:"settled"`
	// Deciding is the sentence for a line in a list.
	Deciding string            `json:"deciding" doc:"The sentence of the ground that decides, or what the file is."`
	Compared judge.Comparison  `json:"compared,omitempty" enum:"matches,differs,nothing-compared" doc:"Of an artifact that was judged: whether its bytes are those that something states, whoever vouches for that."`
	Grounds  []judge.Ground    `json:"grounds"`
	Paths    []judge.ProofPath `json:"paths"`
	Digests  map[string]string `json:"digests" doc:"Computed digests by algorithm."`
	Linked   map[string]int    `json:"linked,omitempty" doc:"Numbers of the items that the links of the paths lead to, by path; only where one item is shown."`
	Inside   string            `json:"inside,omitempty" doc:"The path of the container that holds it."`
	Holds    string            `json:"holds,omitempty" doc:"What a container is and how much is in it."`
	Where    string            `json:"where,omitempty" doc:"Which program on which host read the bytes."`
	Record   *int64            `json:"record,omitempty"`
	// Readback is of a medium; ReadBacks are of a file that media were written from.
	Readback *readback.Report `json:"readback,omitempty" doc:"How a medium was read, and what was found on it."`
	Against  *Against         `json:"against,omitempty" doc:"What a medium is read back against, or a slot held."`
	// Device is of a slot that a device has hashed.
	Device    *device.SlotReport `json:"device,omitempty" doc:"What a device was asked about a slot, and what it said."`
	ReadBacks []ReadBack         `json:"read_backs,omitempty" doc:"Media that were read back against this file; only where one item is shown."`
	Now       *Now               `json:"now,omitempty" doc:"Set where a reassessment changed the verdict; what was judged before stands as it was."`
}

// Present is the item as it is judged now: with the verdict, the sentence and the grounds of the newest
// reassessment that changed the verdict, or else those of the batch.
func (i Item) Present() Item {
	if now := i.Now; now != nil {
		verdict := now.Verdict
		i.Verdict, i.Deciding, i.Grounds = &verdict, now.Deciding, now.Grounds
	}
	return i
}

// Now is what an item's verdict became by a reassessment.
type Now struct {
	Verdict      judge.Verdict  `json:"verdict"`
	At           time.Time      `json:"at"`
	Reassessment int64          `json:"reassessment"`
	Record       int64          `json:"record"`
	Deciding     string         `json:"deciding" doc:"The sentence of the ground that decides."`
	Grounds      []judge.Ground `json:"grounds"`
}

// ItemRow is what a row of a list shows of an item.
type ItemRow struct {
	N        int            `json:"n"`
	Shown    string         `json:"shown" doc:"The path, made safe to show."`
	Role     survey.Role    `json:"role"`
	Size     int64          `json:"size"`
	Verdict  *judge.Verdict `json:"verdict" nullable:"true"`
	Now      *judge.Verdict `json:"now,omitempty" doc:"What a reassessment made of the verdict."`
	Settled  bool           `json:"settled"`
	Deciding string         `json:"deciding" doc:"The sentence of the ground that decides now, or what the file is."`
}

// ListItemsRequest narrows the list of a batch's items.
type ListItemsRequest struct {
	ID      int64         `path:"id"`
	Verdict judge.Verdict `query:"verdict"`
	Role    RoleFilter    `query:"role" doc:"Evidence is all that is no artifact."`
	Match   string        `query:"match" maxLength:"500" doc:"A pattern with * and ? for the path or its last part."`
	Cursor  string        `query:"cursor"`
	Limit   int           `query:"limit" minimum:"1" maximum:"500" default:"100"`
}

// A RoleFilter is a role of a file, or all that is no artifact.
type RoleFilter string

// Evidence is every role that is no artifact.
const Evidence RoleFilter = "evidence"

// RoleFilters lists every filter.
func RoleFilters() []RoleFilter {
	var out []RoleFilter
	for _, r := range survey.Roles() {
		out = append(out, RoleFilter(r))
	}
	return append(out, Evidence)
}

// Envelope is a signed DSSE envelope with an in-toto Statement.
type Envelope struct {
	PayloadType string              `json:"payloadType"`
	Payload     string              `json:"payload" doc:"The statement, in base64."`
	Signatures  []EnvelopeSignature `json:"signatures"`
}

// EnvelopeSignature is one of an [Envelope].
type EnvelopeSignature struct {
	KeyID string `json:"keyid" doc:"Name and hash of the ledger's public key."`
	Sig   string `json:"sig" doc:"The Ed25519 signature, in base64."`
}

// ItemAt names an item.
type ItemAt struct {
	ID int64 `path:"id"`
	N  int   `path:"n" minimum:"0" maximum:"2147483647" doc:"The item's number within the batch."`
}
