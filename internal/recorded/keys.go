package recorded

import (
	"context"
	"encoding/hex"
	"slices"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/openpgp"
	"endeixis/internal/store"
)

// KeyImported is a certificate that has arrived, or more of one that was known.
type KeyImported struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	Result      keyring.Arrival     `json:"result"`
	Changes     []string            `json:"changes,omitempty"`
	Publisher   string              `json:"publisher"`
	Source      string              `json:"source"`
	UserIDs     []string            `json:"user_ids"`
	// Certificate is what has arrived.
	Certificate []byte `json:"certificate"`
	// Stored is a digest of the certificate as it is kept from then on, with what was known
	// of it before. Versions before 0.3 did not say.
	Stored string `json:"stored"`
	// Kept is that certificate, for the store.
	Kept []byte `json:"-"`
}

// Kind is [ledger.KeyImported].
func (KeyImported) Kind() ledger.Kind { return ledger.KeyImported }

// row is the key as it arrives.
func (b KeyImported) row(h Head) store.Key {
	return store.Key{
		Fingerprint: b.Fingerprint.Bytes(), Certificate: b.Kept, Publisher: b.Publisher, Role: string(keyring.Release),
		ImportedAt: h.At, ImportedBy: h.By, Source: b.Source, Position: h.Position,
	}
}

// Follow stores the key, or what is new about it.
func (b KeyImported) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	if b.Result == keyring.NewlyArrived {
		return tx.AddKey(ctx, b.row(h))
	}
	return tx.CompleteKey(ctx, b.Fingerprint.Bytes(), b.Kept, b.Publisher, h.Position)
}

func (b KeyImported) add(to *Basis, h Head) {
	fp := string(b.Fingerprint)
	k, known := to.Keys[fp]
	if !known {
		k.Row = b.row(h)
	}
	if k.Row.Publisher == "" {
		k.Row.Publisher = b.Publisher
	}
	k.Digest, k.Row.Position = b.Stored, h.Position
	if b.Stored == "" {
		to.earlier(&k, h.Position)
	}
	to.setKey(fp, k)
}

// KeyStep is a change of a key's state.
type KeyStep struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	From        keyring.State       `json:"from"`
	To          keyring.State       `json:"to"`
	Publisher   string              `json:"publisher"`
	Role        keyring.Role        `json:"role,omitempty"`
	Reason      string              `json:"reason"`
	// Sightings are the records of what an admission was decided on, Anchors the keys that
	// certified it, and RestsOn those of them without which it could not have been admitted.
	Sightings  []int64               `json:"sightings,omitzero"`
	Anchors    []openpgp.Fingerprint `json:"anchors,omitzero"`
	Policy     int64                 `json:"policy,omitempty"`
	ProposedBy string                `json:"proposed_by,omitempty"`
	// Until is set for an admission for the past.
	Until   *time.Time            `json:"until,omitempty"`
	RestsOn []openpgp.Fingerprint `json:"rests_on,omitempty"`
}

// Kind is [ledger.KeyStep].
func (KeyStep) Kind() ledger.Kind { return ledger.KeyStep }

func (b KeyStep) row(h Head) store.KeyChange {
	out := store.KeyChange{
		Fingerprint: b.Fingerprint.Bytes(), At: h.At, To: string(b.To), By: h.By, Reason: b.Reason,
		Position: h.Position, Until: b.Until, RestsOn: []string{},
	}
	for _, anchor := range b.RestsOn {
		out.RestsOn = append(out.RestsOn, string(anchor))
	}
	return out
}

// Follow stores the step; an admission says to whom the key belongs, and decides a proposal.
func (b KeyStep) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	if err := tx.AddKeyChange(ctx, b.row(h)); err != nil || b.To != keyring.Admitted {
		return err
	}
	if err := tx.DecideProposal(ctx, b.Fingerprint.Bytes(), "admitted"); err != nil {
		return err
	}
	return tx.SetPublisher(ctx, b.Fingerprint.Bytes(), b.Publisher, string(b.Role), h.Position)
}

func (b KeyStep) add(to *Basis, h Head) {
	to.Steps = append(to.Steps, b.row(h))
	if b.To != keyring.Admitted {
		return
	}
	fp := string(b.Fingerprint)
	to.decideProposal(fp, "admitted")
	k := to.Keys[fp]
	k.Row.Publisher, k.Row.Role, k.Row.Position = b.Publisher, string(b.Role), h.Position
	to.setKey(fp, k)
}

// Sighting is a fingerprint that was read somewhere.
type Sighting struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	Read        openpgp.Fingerprint `json:"read"`
	Agrees      bool                `json:"agrees"`
	Channel     keyring.Channel     `json:"channel"`
	Place       string              `json:"place"`
	Note        string              `json:"note"`
}

// Kind is [ledger.SightingNoted].
func (Sighting) Kind() ledger.Kind { return ledger.SightingNoted }

func (b Sighting) row(h Head) store.Sighting {
	return store.Sighting{
		Fingerprint: b.Fingerprint.Bytes(),
		Read:        b.Read.Bytes(),
		Channel:     string(b.Channel),
		Place:       b.Place,
		Note:        b.Note,
		At:          h.At,
		By:          h.By,
		Position:    h.Position,
	}
}

// Follow stores the sighting.
func (b Sighting) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddSighting(ctx, b.row(h))
}

func (b Sighting) add(to *Basis, h Head) { to.Sightings = append(to.Sightings, b.row(h)) }

// ConflictResolved explains a sighting that contradicts its key.
type ConflictResolved struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	// Sighting is the record of it.
	Sighting int64               `json:"sighting"`
	Read     openpgp.Fingerprint `json:"read"`
	Reason   string              `json:"reason"`
}

// Kind is [ledger.ConflictResolved].
func (ConflictResolved) Kind() ledger.Kind { return ledger.ConflictResolved }

// Follow stores the explanation.
func (b ConflictResolved) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.ResolveSighting(ctx, b.Sighting, b.Reason, h.By, h.At)
}

func (b ConflictResolved) add(to *Basis, h Head) {
	if i := slices.IndexFunc(to.Sightings, func(s store.Sighting) bool { return s.Position == b.Sighting }); i >= 0 {
		at := h.At
		to.Sightings[i].Resolved, to.Sightings[i].ResolvedBy, to.Sightings[i].ResolvedAt = b.Reason, h.By, &at
	}
}

// AdmissionProposed is what the first of two curators wants.
type AdmissionProposed struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	Publisher   string              `json:"publisher"`
	Role        keyring.Role        `json:"role"`
	Reason      string              `json:"reason"`
	Until       *time.Time          `json:"until,omitempty"`
}

// Kind is [ledger.AdmissionProposed].
func (AdmissionProposed) Kind() ledger.Kind { return ledger.AdmissionProposed }

func (b AdmissionProposed) row(h Head) store.Proposal {
	return store.Proposal{
		Fingerprint: b.Fingerprint.Bytes(), Publisher: b.Publisher, Role: string(b.Role), Reason: b.Reason, By: h.By,
		At: h.At, Position: h.Position, Until: b.Until,
	}
}

// Follow stores the proposal, in the place of one that waits.
func (b AdmissionProposed) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	if err := tx.DecideProposal(ctx, b.Fingerprint.Bytes(), "replaced"); err != nil {
		return err
	}
	return tx.AddProposal(ctx, b.row(h))
}

func (b AdmissionProposed) add(to *Basis, h Head) {
	to.decideProposal(string(b.Fingerprint), "replaced")
	to.Proposals = append(to.Proposals, b.row(h))
	to.waiting[string(b.Fingerprint)] = len(to.Proposals) - 1
}

// ProposalDeclined turns a proposal down, or takes it back.
type ProposalDeclined struct {
	Fingerprint openpgp.Fingerprint `json:"fingerprint"`
	// Proposal is the record of it.
	Proposal   int64  `json:"proposal"`
	ProposedBy string `json:"proposed_by"`
	Reason     string `json:"reason"`
}

// Kind is [ledger.ProposalDeclined].
func (ProposalDeclined) Kind() ledger.Kind { return ledger.ProposalDeclined }

// Follow stores what became of the proposal.
func (b ProposalDeclined) Follow(ctx context.Context, tx *store.Tx, _ Head) error {
	return tx.DecideProposal(ctx, b.Fingerprint.Bytes(), "declined")
}

func (b ProposalDeclined) add(to *Basis, _ Head) {
	to.decideProposal(string(b.Fingerprint), "declined")
}

// RowsAdopted are rows of earlier versions that no record says all of, as they were found once.
type RowsAdopted struct {
	// What was adopted is known to a basis before any record, see [NewBasis].
	statement
	Rows []store.AdoptedRow `json:"rows"`
}

// Kind is [ledger.RowsAdopted].
func (RowsAdopted) Kind() ledger.Kind { return ledger.RowsAdopted }

// digits writes a fingerprint as records do.
func digits(fingerprint []byte) string { return hex.EncodeToString(fingerprint) }
