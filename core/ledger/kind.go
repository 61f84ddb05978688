package ledger

import "slices"

// A Kind says what a record is about.
type Kind string

// The kinds of record.
const (
	ItemOutcome   Kind = "item-outcome"
	BatchResult   Kind = "batch-result"
	KeyImported   Kind = "key-imported"
	KeyStep       Kind = "key-step"
	SightingNoted Kind = "sighting"
	// ConflictResolved: a curator explained a sighting that contradicts.
	ConflictResolved Kind = "conflict-resolved"
	// AdmissionProposed and ProposalDeclined: where two curators decide.
	AdmissionProposed Kind = "admission-proposed"
	ProposalDeclined  Kind = "proposal-declined"
	PublisherChanged  Kind = "publisher-changed"
	WaiverGranted     Kind = "waiver-granted"
	WaiverEnded       Kind = "waiver-ended"
	// Reassessed: stored measurements were judged again; ItemRejudged is an
	// item whose verdict that changed.
	Reassessed   Kind = "reassessed"
	ItemRejudged Kind = "item-rejudged"
	// BatchRejudged: what a batch comes to after its items were judged again.
	BatchRejudged  Kind = "batch-rejudged"
	PublisherAdded Kind = "publisher-added"
	// SatchelPacked: what it takes to judge was packed for a place without a network;
	// VisitReturned is an outcome that was sealed there and came back.
	SatchelPacked Kind = "satchel-packed"
	VisitReturned Kind = "visit-returned"
	// DeviceSet: a device was added, or what is known of it changed.
	DeviceSet Kind = "device-set"
	// DeviceKindSet: a curator has described a kind of device, or has it used no more.
	DeviceKindSet Kind = "device-kind-set"
	// RowsAdopted: rows of earlier versions that no record says all of were taken as they
	// were, by their digests. There is one such record.
	RowsAdopted Kind = "rows-adopted"
	// LedgerRestored: the database was restored from a backup, and has gone on from there.
	LedgerRestored Kind = "ledger-restored"
	// LedgerAudited: the ledger was audited on its schedule, with what was found.
	LedgerAudited Kind = "ledger-audited"
	// KeyRotated and KeyLost: the ledger goes on with another key, which the old one has signed,
	// or which nothing has.
	KeyRotated     Kind = "ledger-key-rotated"
	KeyLost        Kind = "ledger-key-lost"
	PolicySet      Kind = "policy-set"
	BatchCancelled Kind = "batch-cancelled"
	// Settlement: somebody knows of a batch or key that needed attention.
	Settlement Kind = "settlement"
	// ReferenceNoted: the digest of a file was read somewhere.
	ReferenceNoted Kind = "reference-noted"
	// Drilled: it was proved that the check can fail.
	Drilled      Kind = "drill"
	UserAdded    Kind = "user-added"
	UserChanged  Kind = "user-changed"
	TokenIssued  Kind = "token-issued"
	TokenRevoked Kind = "token-revoked"
)

// Decides reports whether records of a kind say what is judged by: what the policy asks, what is
// waived, who publishes, which keys there are and where they stand. From these alone, in their
// order, follows the basis of every verdict.
func (k Kind) Decides() bool { return slices.Contains(deciding, k) }

var deciding = []Kind{
	PolicySet, WaiverGranted, WaiverEnded, PublisherAdded, PublisherChanged, KeyImported, KeyStep,
	SightingNoted, ConflictResolved, AdmissionProposed, ProposalDeclined, RowsAdopted,
}

// Deciding lists the kinds that decide.
func Deciding() []Kind { return slices.Clone(deciding) }

// Kinds lists every kind of record.
func Kinds() []Kind {
	return []Kind{
		ItemOutcome,
		BatchResult,
		KeyImported,
		KeyStep,
		SightingNoted,
		ConflictResolved,
		AdmissionProposed,
		ProposalDeclined,
		PublisherChanged,
		WaiverGranted,
		WaiverEnded,
		Reassessed,
		ItemRejudged,
		BatchRejudged,
		PublisherAdded,
		DeviceSet,
		DeviceKindSet,
		RowsAdopted,
		LedgerRestored,
		LedgerAudited,
		KeyRotated,
		KeyLost,
		SatchelPacked,
		VisitReturned,
		PolicySet,
		BatchCancelled,
		Settlement,
		ReferenceNoted,
		Drilled,
		UserAdded,
		UserChanged,
		TokenIssued,
		TokenRevoked,
	}
}
