package wire

import (
	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
)

// CompareBatchesRequest asks what differs between two batches.
type CompareBatchesRequest struct {
	Before int64  `path:"id"`
	After  int64  `path:"other"`
	Cursor string `query:"cursor"`
	Limit  int    `query:"limit" minimum:"1" maximum:"5000" default:"200"`
}

// Comparison tells what differs between two batches: their files by name and digest, the packages that lists among
// them name, the keys by which they are cleared, and what they were judged by.
type Comparison struct {
	Before ComparedBatch               `json:"before"`
	After  ComparedBatch               `json:"after"`
	Counts map[manifest.ChangeKind]int `json:"counts" doc:"How many files fare how; all of them."`
	Files  []FileChange                `json:"files" nullable:"false" doc:"The files that do not stay as they were, by path."`
	Next   string                      `json:"next,omitempty" doc:"The cursor for the next page of files."`
	// Packages is on the first page.
	Packages []PackageLists `json:"packages,omitempty" doc:"Lists of packages that differ; only on the first page, and not for a token that is limited to depots or publishers."`
}

// ComparedBatch is one of two batches that are compared.
type ComparedBatch struct {
	Batch
	Keys []openpgp.Fingerprint `json:"keys" nullable:"false" doc:"The primary keys by whose signatures something of it is cleared by now."`
}

// FileChange is how one file fares.
type FileChange struct {
	Kind   manifest.ChangeKind `json:"kind" doc:"“replaced” goes by the names, which differ in what stands for the release."`
	Before *ComparedFile       `json:"before,omitempty" doc:"Of what came, there is none."`
	After  *ComparedFile       `json:"after,omitempty" doc:"Of what went, there is none."`
}

// ComparedFile is a file of one of the batches.
type ComparedFile struct {
	Item    int           `json:"item"`
	Name    string        `json:"name" doc:"The path, made safe to show."`
	Size    int64         `json:"size"`
	SHA256  string        `json:"sha256,omitempty"`
	Verdict judge.Verdict `json:"verdict,omitempty" doc:"By now."`
}

// PackageLists are two lists of packages or bills of materials, one of each batch.
type PackageLists struct {
	Before  string          `json:"before" doc:"The list's path, made safe to show."`
	After   string          `json:"after"`
	Changes []PackageChange `json:"changes" nullable:"false"`
	Trouble string          `json:"trouble,omitempty" doc:"Why they are not compared."`
}

// PackageChange is how one package fares.
type PackageChange struct {
	Kind   manifest.ChangeKind `json:"kind"`
	Name   string              `json:"name"`
	Before string              `json:"before,omitempty" doc:"Its version, or versions."`
	After  string              `json:"after,omitempty"`
}
