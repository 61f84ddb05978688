package judge

import (
	"time"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/openpgp"
)

// An Effect is what a ground does to an item.
type Effect string

// The effects.
const (
	// Supports carries a proof path.
	Supports Effect = "supports"
	// Notes is worth knowing and decides nothing.
	Notes Effect = "notes"
	// Withholds stops the paths it concerns.
	Withholds Effect = "withholds"
	// Refuses overrides every path.
	Refuses Effect = "refuses"
)

// Effects lists every effect.
func Effects() []Effect { return []Effect{Supports, Notes, Withholds, Refuses} }

// A Code is the stable name of a ground.
type Code string

// The grounds.
const (
	DigestMatch        Code = "digest-match"
	DigestMismatch     Code = "digest-mismatch"
	SizeMismatch       Code = "size-mismatch"
	ManifestsDisagree  Code = "manifests-disagree"
	CollisionSuspected Code = "collision-suspected"
	SignatureInvalid   Code = "signature-invalid"
	WrongPublisher     Code = "wrong-publisher"
	SignerRevoked      Code = "signer-revoked"
	SignatureValid     Code = "signature-valid"
	NotListed          Code = "not-listed"
	WeakDigestOnly     Code = "weak-digest-only"
	ManifestUnsigned   Code = "manifest-unsigned"
	ManifestUnreadable Code = "manifest-unreadable"
	SignerUnknown      Code = "signer-unknown"
	SignerCandidate    Code = "signer-candidate"
	SignerWithdrawn    Code = "signer-withdrawn"
	SignerExpired      Code = "signer-expired"
	// SignerUncertified: the key was admitted on an anchor's certification, which
	// holds no longer.
	SignerUncertified Code = "signer-uncertified"
	// SignerContradicted: somebody has seen another fingerprint where this key's should be.
	SignerContradicted Code = "signer-contradicted"
	// SurplusBytes: a compressed file has bytes that are no part of what was signed
	// or listed in its expanded form.
	SurplusBytes          Code = "surplus-bytes"
	SignatureExpired      Code = "signature-expired"
	SignatureInFuture     Code = "signature-in-future"
	SignerUnfit           Code = "signer-unfit"
	SignatureUnacceptable Code = "signature-unacceptable"
	SignatureWeak         Code = "signature-weak"
	// SignatureHashShort: the hash is shorter than the standard asks for with the key.
	SignatureHashShort   Code = "signature-hash-short"
	SignatureUnsupported Code = "signature-unsupported"
	SignatureMalformed   Code = "signature-malformed"
	Unreadable           Code = "unreadable"
	ChangedWhileReading  Code = "changed-while-reading"
	WithinCleared        Code = "within-cleared"
	ContentsUnread       Code = "contents-unread"
	Corroborated         Code = "corroborated"
	NotMeasured          Code = "not-measured"
	// ByMeasurer: a measurer has read the bytes, and not the service.
	ByMeasurer Code = "measured-elsewhere"
	// ListedAs: the same bytes stand in a list under a harmlessly different name.
	ListedAs Code = "listed-as"
	// ReadBack: a medium was read; how, and what follows the image on it.
	ReadBack Code = "read-back"
	// DeviceSaid: the value was computed by the equipment that is checked, or copied from it.
	DeviceSaid Code = "device-said"
	// ReceiptHolds: a receipt beside files proves a record of a ledger whose key is known.
	ReceiptHolds Code = "receipt-holds"
	// ReceiptFails: it does not, or nobody here can tell.
	ReceiptFails Code = "receipt-fails"
	// SizeDisagrees: a list states another size than the file has whose strong digest it
	// states, so that it contradicts itself.
	SizeDisagrees Code = "size-disagrees"
	// Guessed: what nothing calls a size or a checksum was tried as one. It decides nothing.
	Guessed Code = "guessed"
	// Questioned: a value was handed over for this file of which its label says that it is
	// of something else.
	Questioned Code = "questioned"
	// WaivedGround: without a waiver no path would be complete.
	WaivedGround Code = "waived"
	// ComesAlong: the policy or the batch names it a companion, which needs no clearing.
	ComesAlong Code = "companion"
	// NameReused: a file of this name with other bytes was cleared before.
	NameReused Code = "name-reused"
	// OlderThanCleared: what was cleared before under its stem was signed later.
	OlderThanCleared Code = "older-than-cleared"
	// WeakerThanBefore: what speaks for it is less than what spoke for those before it.
	WeakerThanBefore Code = "weaker-than-before"
	// KnownReference: a file with the same bytes was cleared before, by a signature.
	KnownReference Code = "known-reference"
)

// UnlikeBefore lists the grounds that hold a file against those that were cleared before it.
func UnlikeBefore() []Code { return []Code{NameReused, OlderThanCleared, WeakerThanBefore} }

// Codes lists every ground.
func Codes() []Code {
	return []Code{
		DigestMatch,
		DigestMismatch,
		SizeMismatch,
		ManifestsDisagree,
		CollisionSuspected,
		SignatureInvalid,
		WrongPublisher,
		SignerRevoked,
		SignatureValid,
		NotListed,
		WeakDigestOnly,
		ManifestUnsigned,
		ManifestUnreadable,
		SignerUnknown,
		SignerCandidate,
		SignerWithdrawn,
		SignerExpired,
		SignerUncertified,
		SignerContradicted,
		SignatureExpired,
		SignatureInFuture,
		SignerUnfit,
		SignatureUnacceptable,
		SignatureWeak,
		SignatureHashShort,
		SignatureUnsupported,
		SignatureMalformed,
		Unreadable,
		ChangedWhileReading,
		SurplusBytes,
		WithinCleared,
		ContentsUnread,
		Corroborated,
		NotMeasured,
		ByMeasurer,
		ListedAs,
		ReadBack,
		DeviceSaid,
		ReceiptHolds,
		ReceiptFails,
		SizeDisagrees,
		Guessed,
		Questioned,
		WaivedGround,
		ComesAlong,
		NameReused,
		OlderThanCleared,
		WeakerThanBefore,
		KnownReference,
	}
}

// A Ground is one reason for or against an item.
type Ground struct {
	Code   Code   `json:"code"`
	Effect Effect `json:"effect"`
	// Sentence says what was found, and Advice what to do about it; both
	// are for people and safe to show.
	Sentence string `json:"sentence"`
	Advice   string `json:"advice,omitempty"`
	// Source is the manifest or signature file that the ground speaks of,
	// and Line the line in it.
	Source string `json:"source,omitempty"`
	Line   int    `json:"line,omitempty"`
	// Algorithm, Expected and Computed are set where digests were compared.
	Algorithm digest.Algorithm `json:"algorithm,omitempty"`
	Expected  digest.Value     `json:"expected,omitempty"`
	Computed  digest.Value     `json:"computed,omitempty"`
	// Findings explain why digests differ, where that was established.
	Causes []diagnose.Cause `json:"findings,omitempty"`
	// Waiver is set where one was used.
	Waiver *WaiverFacts `json:"waiver,omitempty"`
	// Signature is set where a signature was verified.
	Signature *SignatureFacts `json:"signature,omitempty"`
	// Earlier is set where an earlier record is held against this one.
	Earlier *EarlierFacts `json:"earlier,omitempty"`
}

// WaiverFacts identify a waiver that was used.
type WaiverFacts struct {
	Record int64     `json:"record"`
	Ground Code      `json:"ground"`
	By     string    `json:"by"`
	Until  time.Time `json:"until"`
}

// SignatureFacts is what was found about one signature.
type SignatureFacts struct {
	File         string              `json:"file"`
	Index        int                 `json:"index"`
	Status       openpgp.Status      `json:"status"`
	Algorithm    string              `json:"algorithm,omitempty"`
	Hash         string              `json:"hash,omitempty"`
	Created      *time.Time          `json:"created,omitempty"`
	Issuer       string              `json:"issuer,omitempty"`
	Key          openpgp.Fingerprint `json:"key,omitempty"`     // the primary key
	MadeBy       openpgp.Fingerprint `json:"made_by,omitempty"` // the key or subkey
	UserID       string              `json:"user_id,omitempty"` // safe to show
	Publisher    string              `json:"publisher,omitempty"`
	Steps        []openpgp.Step      `json:"steps,omitempty"`
	RevokedSince *time.Time          `json:"revoked_since,omitempty"`
}

// A PathKind is a way of proving an artifact.
type PathKind string

// The proof paths.
const (
	SignedArtifact PathKind = "signed-artifact"
	SignedManifest PathKind = "signed-manifest"
	// CorroboratedManifest is that of copies of the manifest from several
	// channels.
	CorroboratedManifest PathKind = "corroborated-manifest"
	// ClearedContainer is that of a file inside a container which is cleared.
	ClearedContainer PathKind = "cleared-container"
	// Readback is that of a medium: its first bytes are those of a file that is
	// cleared.
	Readback PathKind = "readback"
	// Receipted is that of a file with the bytes of one of which a receipt says that it was
	// verified, and which is judged again.
	Receipted PathKind = "receipt"
	// ByReference is that of a file with the bytes of one that was cleared before by a signature of the same
	// publisher, and is cleared still.
	ByReference PathKind = "known-reference"
)

// PathKinds lists every way of proving an artifact.
func PathKinds() []PathKind {
	return []PathKind{
		SignedArtifact, SignedManifest, CorroboratedManifest, ClearedContainer, Readback, Receipted, ByReference,
	}
}

// A LinkState says how one link of a path stands.
type LinkState string

// The states of a link.
const (
	Holds     LinkState = "holds"
	Broken    LinkState = "broken"  // the evidence is there and does not hold
	Missing   LinkState = "missing" // the evidence is not there
	Unreached LinkState = "unreached"
	// Waived: the evidence does not hold or is not there, and a waiver
	// lifts that.
	Waived LinkState = "waived"
)

// LinkStates lists every state of a link.
func LinkStates() []LinkState { return []LinkState{Holds, Broken, Missing, Unreached, Waived} }

// A Link is one piece of evidence in a path.
type Link struct {
	// Kind is artifact, medium, image, container, reference, channels, digest, entry, manifest, signature, key or
	// publisher.
	Kind  string    `json:"kind"`
	State LinkState `json:"state"`
	// Label names the thing and Detail says how it stands; both are safe to
	// show.
	Label  string `json:"label"`
	Detail string `json:"detail"`
	// Ref is what the link leads to: an item's path, a key's fingerprint or
	// a publisher's slug.
	Ref string `json:"ref,omitempty"`

	waiver *Waiver
}

// A ProofPath is a line of evidence from an artifact towards an admitted key.
type ProofPath struct {
	Kind     PathKind `json:"kind"`
	Complete bool     `json:"complete"`
	// Missing says what would complete the path, in words to act on.
	Missing string `json:"missing,omitempty"`
	Links   []Link `json:"links"`
}

// A Verdict is the answer for an artifact or a batch.
type Verdict string

// The verdicts.
const (
	Cleared  Verdict = "cleared"
	Unproven Verdict = "unproven"
	Refused  Verdict = "refused"
	// Companion stands for a verdict where a file comes along with others and needs none; it
	// decides nothing for its batch.
	Companion Verdict = "companion"
)

// Verdicts lists every verdict, and [Companion].
func Verdicts() []Verdict { return []Verdict{Cleared, Unproven, Refused, Companion} }
