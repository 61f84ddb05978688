// Package wire holds the shapes that travel between the service and its
// clients, as JSON. The API fills them, the client reads them, and the OpenAPI
// document and the console's types are made from them.
package wire

import (
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
)

// Me is who is signed in.
type Me struct {
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	Role     string `json:"role"`
}

// Status is the state of the service.
type Status struct {
	Version   string   `json:"version"`
	Records   int64    `json:"records"`
	PublicKey string   `json:"public_key" doc:"The key by which receipts and checkpoints are verified."`
	Depots    []string `json:"depots"`
	Policy    int64    `json:"policy" doc:"The version of the policy in force."`
}

// User is a person.
type User struct {
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	Role     string `json:"role"`
}

// Token is a token without its text.
type Token struct {
	ID      int64      `json:"id"`
	Owner   string     `json:"owner"`
	Label   string     `json:"label"`
	Role    string     `json:"role"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Revoked *time.Time `json:"revoked,omitempty"`
}

// IssuedToken is a token with its text.
type IssuedToken struct {
	Token
	Text string `json:"text" doc:"Shown this once; only a hash of it is stored."`
}

// Depot is a depot.
type Depot struct {
	Name string `json:"name"`
}

// Closed reports whether nothing more will happen to the batch.
func (b *Batch) Closed() bool { return b.State == "done" || b.State == "failed" }

// Counts are how many artifacts came to each verdict, and how many entries
// have no file.
type Counts struct {
	Cleared  int `json:"cleared"`
	Unproven int `json:"unproven"`
	Refused  int `json:"refused"`
	Absent   int `json:"absent"`
}

// Progress is how far a batch has come.
type Progress struct {
	Items     int   `json:"items"`
	ItemsDone int   `json:"items_done"`
	Bytes     int64 `json:"bytes"`
	BytesDone int64 `json:"bytes_done"`
}

// Source is where a batch's bytes are.
type Source struct {
	Kind      string `json:"kind" enum:"depot"`
	Reference string `json:"reference" doc:"For a depot's folder: the depot, a colon, and the path."`
}

// Batch is a batch.
type Batch struct {
	ID         int64              `json:"id"`
	Label      string             `json:"label"`
	Source     Source             `json:"source" doc:"Where its bytes are."`
	Depot      string             `json:"depot" doc:"Of a depot's folder: the depot."`
	Path       string             `json:"path" doc:"Of a depot's folder: the folder."`
	Publisher  string             `json:"publisher"`
	Expected   *judge.Expectation `json:"expected,omitempty"`
	RequireAll bool               `json:"require_all"`
	Policy     int64              `json:"policy"`
	AskedBy    string             `json:"asked_by"`
	Created    time.Time          `json:"created"`
	Finished   *time.Time         `json:"finished,omitempty"`
	State      string             `json:"state" enum:"waiting,measuring,done,failed"`
	Verdict    *string            `json:"verdict" enum:"cleared,unproven,refused"`
	Note       string             `json:"note"`
	Counts     Counts             `json:"counts"`
	Progress   Progress           `json:"progress"`
	Record     *int64             `json:"record,omitempty"`
}

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

// Absent is a manifest entry without a file.
type Absent struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
}

// Publisher is a publisher.
type Publisher struct {
	Slug    string    `json:"slug"`
	Name    string    `json:"name"`
	Contact string    `json:"contact"`
	Scope   []string  `json:"scope"`
	Created time.Time `json:"created"`
	By      string    `json:"by"`
}

// Import is the result of an import.
type Import struct {
	Keys  []Imported `json:"keys"`
	Notes []string   `json:"notes"`
}

// Key is a key of the keyring.
type Key struct {
	Fingerprint string   `json:"fingerprint"`
	Grouped     string   `json:"grouped" doc:"The fingerprint in groups of four."`
	State       string   `json:"state" enum:"candidate,admitted,withdrawn"`
	Publisher   string   `json:"publisher"`
	Role        string   `json:"role" enum:"release,anchor"`
	UserIDs     []string `json:"user_ids" doc:"Made safe to show; the primary one first."`
	Algorithm   string   `json:"algorithm"`
	// Created, Expires and Revoked are facts about the key.
	Created           time.Time          `json:"created"`
	Expires           *time.Time         `json:"expires,omitempty"`
	ExpiresInDays     *int               `json:"expires_in_days,omitempty" doc:"Whole days from now; only while it has not expired."`
	Expired           bool               `json:"expired"`
	Revoked           *Revocation        `json:"revoked,omitempty"`
	Conflict          bool               `json:"conflict" doc:"A sighting shows another fingerprint."`
	Subkeys           []Subkey           `json:"subkeys"`
	Uses              []string           `json:"uses"`
	Revokers          []string           `json:"revokers" doc:"Keys that its owner named as those that may revoke it; they are not followed."`
	Attributes        int                `json:"attributes" doc:"User attributes, such as pictures."`
	Sightings         []Sighting         `json:"sightings"`
	Timeline          []KeyEvent         `json:"timeline" doc:"What its own signatures say of its life, in the order of time."`
	Paths             []Path             `json:"paths" doc:"Certifications by the anchors of its publisher."`
	Certified         []Statement        `json:"certified" doc:"What other keys of the keyring say about its user IDs; only where one key is shown."`
	UnknownCertifiers int                `json:"unknown_certifiers" doc:"Keys that are not in the keyring and claim to have certified it."`
	Namesakes         []string           `json:"namesakes" doc:"Fingerprints of other keys with the same key ID."`
	AnchorAdmits      bool               `json:"anchor_admits" doc:"Whether a path that holds may admit it."`
	TwoCurators       bool               `json:"two_curators" doc:"Whether another curator has to admit what one proposes."`
	Proposal          *Proposal          `json:"proposal,omitempty" doc:"What waits for another curator."`
	Reassessment      *int64             `json:"reassessment,omitempty" doc:"The run that judges again what rested on it; set in the answer to a withdrawal."`
	ChannelsSeen      int                `json:"channels_seen" doc:"Distinct channels with agreeing sightings."`
	ChannelsAsked     int                `json:"channels_asked" doc:"How many the policy asks for."`
	History           []KeyStep          `json:"history"`
	Obstacles         []keyring.Obstacle `json:"obstacles" doc:"What stands in the way of an admission."`
	Imported          time.Time          `json:"imported"`
	ImportedBy        string             `json:"imported_by"`
	Source            string             `json:"source"`
}

// KeyEvent is something that happened to a key, or will.
type KeyEvent struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind" enum:"created,expiry-set,subkey-bound,subkey-revoked,revoked,expires"`
	Detail string    `json:"detail"`
}

// Path leads from a key to an anchor of its publisher.
type Path struct {
	Anchor      string     `json:"anchor" doc:"The anchor's fingerprint."`
	AnchorState string     `json:"anchor_state" enum:"candidate,admitted,withdrawn"`
	AnchorID    string     `json:"anchor_id" doc:"The anchor's first user ID, made safe to show."`
	UserID      string     `json:"user_id,omitempty" doc:"Which user ID it certified."`
	Made        *time.Time `json:"made,omitempty" doc:"When it certified."`
	Certified   string     `json:"certified" enum:"holds,invalid,revoked,expired,certifier-unfit,weak,not-vouching,missing"`
	Holds       bool       `json:"holds"`
	Reason      string     `json:"reason,omitempty" doc:"Why the path does not hold."`
}

// Statement is a certification of a user ID by another key of the keyring.
type Statement struct {
	By     string    `json:"by" doc:"The certifier's fingerprint."`
	ByID   string    `json:"by_id" doc:"Its first user ID, made safe to show."`
	UserID string    `json:"user_id"`
	Made   time.Time `json:"made"`
	Status string    `json:"status" enum:"holds,invalid,revoked,expired,certifier-unfit,weak,not-vouching"`
	Reason string    `json:"reason,omitempty"`
}

// KeyUse tells what a key has signed that was verified here.
type KeyUse struct {
	Artifacts int        `json:"artifacts"`
	Batches   int        `json:"batches"`
	Last      *time.Time `json:"last,omitempty" doc:"When the newest of those batches was asked for."`
	Newest    []int64    `json:"newest" doc:"Numbers of the newest batches, at most ten."`
}

// Proposal is what one curator proposed and another has to decide.
type Proposal struct {
	Publisher string    `json:"publisher"`
	Role      string    `json:"role" enum:"release,anchor"`
	Reason    string    `json:"reason"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
	Record    int64     `json:"record"`
}

// Revocation tells how a key was revoked.
type Revocation struct {
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
	Text   string    `json:"text,omitempty"`
}

// Subkey is a subkey.
type Subkey struct {
	Fingerprint string    `json:"fingerprint"`
	Algorithm   string    `json:"algorithm"`
	Created     time.Time `json:"created"`
	Uses        []string  `json:"uses"`
}

// Sighting is a sighting.
type Sighting struct {
	Channel string `json:"channel"`
	Place   string `json:"place"`
	Note    string `json:"note,omitempty"`
	Read    string `json:"read" doc:"The fingerprint as read, in groups of four."`
	Agrees  bool   `json:"agrees"`
	Differs []int  `json:"differs" doc:"Positions, from 0, of the digits that differ."`
	// Resolved is how a curator explained that it differs.
	Resolved   string    `json:"resolved,omitempty"`
	ResolvedBy string    `json:"resolved_by,omitempty"`
	At         time.Time `json:"at"`
	By         string    `json:"by"`
	Record     int64     `json:"record"`
}

// KeyStep is one step in the life of a key.
type KeyStep struct {
	At     time.Time `json:"at"`
	To     string    `json:"to"`
	By     string    `json:"by"`
	Reason string    `json:"reason"`
	Record int64     `json:"record"`
}

// Sight is the result of noting a sighting.
type Sight struct {
	Agrees bool `json:"agrees"`
	Key    Key  `json:"key"`
}

// Record is a record.
type Record struct {
	Position int64     `json:"position"`
	Kind     string    `json:"kind"`
	At       time.Time `json:"at"`
	By       string    `json:"by"`
	Subject  string    `json:"subject"`
	Verdict  *string   `json:"verdict,omitempty"`
	Batch    *int64    `json:"batch,omitempty"`
	Leaf     string    `json:"leaf" doc:"The leaf hash, in hexadecimal."`
	Body     any       `json:"body,omitempty" doc:"The record's own JSON."`
}

// Checkpoint is a signed checkpoint.
type Checkpoint struct {
	Size      int64  `json:"size"`
	Root      string `json:"root"`
	Signed    string `json:"signed"`
	PublicKey string `json:"public_key"`
}

// Overview is what needs attention.
type Overview struct {
	Refused    []Batch    `json:"refused"`
	Unproven   []Batch    `json:"unproven"`
	Running    []Batch    `json:"running"`
	Recent     []Batch    `json:"recent"`
	Candidates []Key      `json:"candidates"`
	Conflicts  []Key      `json:"conflicts"`
	Expiring   []Key      `json:"expiring" doc:"Admitted keys that have expired or expire within 60 days."`
	Days       []DayCount `json:"days" doc:"Verdicts on artifacts by day, the last 30 days."`
	Records    int64      `json:"records"`
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

// Reach tells what rests on a key, and what would become of it.
type Reach struct {
	Rests   int       `json:"rests" doc:"Artifacts with a signature by the key."`
	Batches int       `json:"batches" doc:"How many batches they are in."`
	Turns   []Turn    `json:"turns" doc:"How many verdicts would change, by what they are and would be."`
	Items   []Rejudge `json:"items" doc:"Which, up to 500."`
}

// Turn counts changes of verdict.
type Turn struct {
	From  string `json:"from" enum:"cleared,unproven,refused"`
	To    string `json:"to" enum:"cleared,unproven,refused"`
	Count int    `json:"count"`
}

// Rejudge is an artifact that is judged again.
type Rejudge struct {
	Batch  int64  `json:"batch"`
	N      int    `json:"n"`
	Shown  string `json:"shown" doc:"The path, made safe to show."`
	From   string `json:"from" enum:"cleared,unproven,refused"`
	To     string `json:"to" enum:"cleared,unproven,refused"`
	Why    string `json:"why" doc:"The ground that decides."`
	Record *int64 `json:"record,omitempty"`
}

// Reassessment is one run of judging again.
type Reassessment struct {
	ID        int64      `json:"id"`
	Selection Selection  `json:"selection"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created" doc:"Keyring, policy and waivers were asked as of then."`
	Finished  *time.Time `json:"finished,omitempty"`
	State     string     `json:"state" enum:"waiting,done,failed"`
	Note      string     `json:"note,omitempty" doc:"Why it failed."`
	Policy    int64      `json:"policy"`
	Judged    int        `json:"judged" doc:"Items that were judged again."`
	Changed   int        `json:"changed" doc:"Artifacts whose verdict changed."`
	Record    *int64     `json:"record,omitempty"`
	Items     []Rejudge  `json:"items,omitempty" doc:"Those, up to 500; only where one run is shown."`
}

// Selection says what is judged again.
type Selection struct {
	Batch     int64      `json:"batch,omitempty"`
	Publisher string     `json:"publisher,omitempty"`
	Key       string     `json:"key,omitempty"`
	From      *time.Time `json:"from,omitempty"`
	To        *time.Time `json:"to,omitempty"`
	All       bool       `json:"all,omitempty"`
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

// DayCount is how many artifacts of a day got a verdict.
type DayCount struct {
	Day     string `json:"day"`
	Verdict string `json:"verdict"`
	Count   int    `json:"count"`
}

// Entry is one name in a folder of a depot.
type Entry struct {
	Name   string `json:"name"`
	Folder bool   `json:"folder"`
	Size   int64  `json:"size"`
}

// Audit is the result of an audit of the ledger.
type Audit struct {
	Clean       bool   `json:"clean"`
	Records     int64  `json:"records"`
	Checkpoints int    `json:"checkpoints"`
	Root        string `json:"root"`
	Sentence    string `json:"sentence" doc:"What was found."`
	Position    int64  `json:"position" doc:"The first record that differs, or -1."`
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Give this as cursor to get the next page."`
}

// Problem is an error for people and programs (RFC 9457), with our own members
// code, advice, field and facts.
type Problem struct {
	Type   string   `json:"type"`
	Title  string   `json:"title"`
	Status int      `json:"status"`
	Detail string   `json:"detail"`
	Code   string   `json:"code"`
	Advice string   `json:"advice,omitempty"`
	Field  string   `json:"field,omitempty"`
	Facts  []string `json:"facts,omitempty"`
}

// Correction says by hand which file a signature is over.
type Correction struct {
	Signature string `json:"signature" doc:"The signature file, as the survey names it."`
	File      string `json:"file" doc:"The file it is over."`
}

// Survey is the plan of a batch: what each file is, and what vouches for what.
type Survey struct {
	Items  []Planned `json:"items"`
	Absent []Absent  `json:"absent"`
}

// Planned is one file of a survey.
type Planned struct {
	Path       string    `json:"path"`
	Shown      string    `json:"shown" doc:"The path, made safe to show."`
	Role       string    `json:"role" enum:"artifact,manifest,signature,key"`
	Why        string    `json:"why" doc:"How the role was found."`
	Size       int64     `json:"size"`
	Problem    string    `json:"problem,omitempty"`
	Inside     string    `json:"inside,omitempty" doc:"The path of the container that holds it."`
	Holds      string    `json:"holds,omitempty" doc:"What a container is and how much is in it."`
	Algorithms []string  `json:"algorithms" doc:"What will be computed from its bytes."`
	Listed     []Vouched `json:"listed" doc:"Manifest entries that speak of it."`
	Signatures []Vouched `json:"signatures" doc:"Signatures that may be over it."`
}

// Vouched is something that speaks of a file.
type Vouched struct {
	By   string `json:"by" doc:"The manifest or signature file."`
	Line int    `json:"line,omitempty"`
	Why  string `json:"why"`
}

// Origin is a place from which copies of manifests can be fetched.
type Origin struct {
	Name    string `json:"name"`
	URL     string `json:"url"`
	Channel string `json:"channel" enum:"vendor-site,mirror,other-network,paper"`
}

// ComesFrom says where a manifest of the folder comes from.
type ComesFrom struct {
	Manifest string `json:"manifest" doc:"The manifest, as the survey names it."`
	Channel  string `json:"channel" enum:"vendor-site,mirror,other-network,paper"`
	Place    string `json:"place,omitempty" doc:"Where exactly, such as an address."`
}

// GivenCopy is a copy of a manifest, to hold the one in the folder against:
// either origin and path, to be fetched, or text with channel and place.
type GivenCopy struct {
	Of      string `json:"of" doc:"The manifest in the folder, as the survey names it."`
	Origin  string `json:"origin,omitempty" doc:"The name of a configured origin."`
	Path    string `json:"path,omitempty" doc:"The path of the copy there."`
	Channel string `json:"channel,omitempty" enum:"vendor-site,mirror,other-network,paper" doc:"Where a text comes from."`
	Place   string `json:"place,omitempty"`
	Text    string `json:"text,omitempty" doc:"The copy itself."`
}

// Copy tells how a copy of a manifest compares.
type Copy struct {
	Of        string   `json:"of"`
	Channel   string   `json:"channel"`
	Place     string   `json:"place"`
	Size      int64    `json:"size"`
	SHA256    string   `json:"sha256,omitempty"`
	Identical bool     `json:"identical" doc:"Every byte is the same."`
	Same      int      `json:"same" doc:"Entries that agree."`
	Differ    []Change `json:"differ" doc:"Entries that do not, at most a hundred."`
	More      int      `json:"more" doc:"How many more do not agree."`
	Trouble   string   `json:"trouble,omitempty" doc:"Why it could not be had or read."`
	Sentence  string   `json:"sentence" doc:"All of this in words."`
}

// Change is how one name fares between two manifests.
type Change struct {
	Kind   string `json:"kind" enum:"added,removed,changed,renamed,incomparable"`
	Name   string `json:"name"`
	Was    string `json:"was,omitempty"`
	Before string `json:"before,omitempty" doc:"The digest in the folder's manifest."`
	After  string `json:"after,omitempty" doc:"The digest in the copy."`
}

// Waiver is an exception that was granted.
type Waiver struct {
	ID        int64      `json:"id"`
	Ground    string     `json:"ground"`
	Publisher string     `json:"publisher"`
	Pattern   string     `json:"pattern"`
	Reason    string     `json:"reason"`
	By        string     `json:"by"`
	Created   time.Time  `json:"created"`
	Until     time.Time  `json:"until" doc:"The moment from which it counts no longer."`
	State     string     `json:"state" enum:"in force,ended,run out"`
	Ended     *time.Time `json:"ended,omitempty"`
	EndedBy   string     `json:"ended_by,omitempty"`
	EndReason string     `json:"end_reason,omitempty"`
	Record    int64      `json:"record"`
}

// PolicyVersion is one change of the policy, or of what a publisher has
// otherwise.
type PolicyVersion struct {
	Version   int64        `json:"version" doc:"Counts through all changes: a number says what was in force for everybody."`
	Publisher string       `json:"publisher" doc:"The publisher whose own fields changed; empty for the policy itself."`
	Reason    string       `json:"reason,omitempty"`
	Created   time.Time    `json:"created"`
	By        string       `json:"by"`
	Document  judge.Policy `json:"document" doc:"The whole policy, for this publisher."`
	Own       []string     `json:"own" doc:"The fields that the publisher has otherwise."`
}

// Reading is what was understood of a manifest.
type Reading struct {
	Format       string        `json:"format"`
	Entries      []ReadEntry   `json:"entries"`
	Problems     []ReadProblem `json:"problems"`
	MoreProblems int           `json:"more_problems"`
	Cut          bool          `json:"cut" doc:"There are more entries than are shown."`
}

// ReadEntry is one entry of a manifest that was read.
type ReadEntry struct {
	Name       string   `json:"name" doc:"Made safe to show; empty for a bare digest."`
	Algorithm  *string  `json:"algorithm" doc:"Null where only candidates are known."`
	Candidates []string `json:"candidates"`
	Digest     string   `json:"digest"`
	Size       *int64   `json:"size"`
	Line       int      `json:"line"`
}

// ReadProblem is a line that could not be used.
type ReadProblem struct {
	Line    int    `json:"line"`
	Code    string `json:"code"`
	Message string `json:"message"`
}
