package wire

import (
	"time"

	"endeixis/core/judge"
)

// Item is an item with its evidence.
type Item struct {
	N       int     `json:"n"`
	Path    string  `json:"path"`
	Shown   string  `json:"shown" doc:"The path, made safe to show."`
	Role    string  `json:"role" enum:"artifact,manifest,signature,key"`
	Why     string  `json:"why" doc:"How the role was found."`
	Size    int64   `json:"size"`
	Verdict *string `json:"verdict" enum:"cleared,unproven,refused"`
	Settled bool    `json:"settled"`
	// Deciding is the sentence for a line in a list.
	Deciding string            `json:"deciding" doc:"The sentence of the ground that decides, or what the file is."`
	Grounds  []judge.Ground    `json:"grounds"`
	Paths    []judge.ProofPath `json:"paths"`
	Digests  map[string]string `json:"digests" doc:"Computed digests by algorithm."`
	Linked   map[string]int    `json:"linked,omitempty" doc:"Numbers of the items that the links of the paths lead to, by path; only where one item is shown."`
	Inside   string            `json:"inside,omitempty" doc:"The path of the container that holds it."`
	Holds    string            `json:"holds,omitempty" doc:"What a container is and how much is in it."`
	Where    string            `json:"where,omitempty" doc:"Which program on which host read the bytes."`
	Record   *int64            `json:"record,omitempty"`
	Now      *Now              `json:"now,omitempty" doc:"Set where a reassessment changed the verdict; what was judged before stands as it was."`
}

// Now is what an item's verdict became by a reassessment.
type Now struct {
	Verdict      string         `json:"verdict" enum:"cleared,unproven,refused"`
	At           time.Time      `json:"at"`
	Reassessment int64          `json:"reassessment"`
	Record       int64          `json:"record"`
	Deciding     string         `json:"deciding" doc:"The sentence of the ground that decides."`
	Grounds      []judge.Ground `json:"grounds"`
}
