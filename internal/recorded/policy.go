package recorded

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// DefaultPolicy names the policy of everybody; [OfPublisher] begins the name of what a publisher
// has otherwise.
const (
	DefaultPolicy = "default"
	OfPublisher   = "publisher/"
)

// PolicySet is a version of the policy, or of what a publisher has otherwise.
type PolicySet struct {
	// Name is [DefaultPolicy], or [OfPublisher] and a slug.
	Name    string `json:"name"`
	Version int64  `json:"version"`
	// Policy is all that is asked from then on, and Own are the names of those of its fields
	// that the publisher has otherwise.
	Policy json.RawMessage `json:"policy"`
	Own    []string        `json:"own,omitempty"`
	Reason string          `json:"reason"`
}

// Kind is [ledger.PolicySet].
func (PolicySet) Kind() ledger.Kind { return ledger.PolicySet }

// row is the version as stored. Of a publisher only its own fields are.
func (b PolicySet) row(h Head) store.Policy {
	out := store.Policy{
		Version: b.Version, Name: b.Name, Document: b.Policy, Reason: b.Reason, CreatedAt: h.At, CreatedBy: h.By,
		Position: h.Position,
	}
	if b.Name == DefaultPolicy {
		return out
	}
	own := map[string]json.RawMessage{}
	if all, err := judge.FieldsOf(b.Policy); err == nil {
		for _, name := range b.Own {
			own[name] = all[name]
		}
	}
	out.Document, _ = json.Marshal(own) // of texts that were JSON
	return out
}

// Follow stores the version.
func (b PolicySet) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddPolicy(ctx, b.row(h))
}

func (b PolicySet) add(to *Basis, h Head) { to.Policies = append(to.Policies, b.row(h)) }

// WaiverGranted is an exception.
type WaiverGranted struct {
	Ground    string    `json:"ground"`
	Publisher string    `json:"publisher,omitempty"`
	Pattern   string    `json:"pattern,omitempty"`
	Until     time.Time `json:"until"`
	Reason    string    `json:"reason"`
}

// Kind is [ledger.WaiverGranted].
func (WaiverGranted) Kind() ledger.Kind { return ledger.WaiverGranted }

func (b WaiverGranted) row(h Head) store.Waiver {
	return store.Waiver{
		Ground:    b.Ground,
		Publisher: b.Publisher,
		Pattern:   b.Pattern,
		Reason:    b.Reason,
		By:        h.By,
		CreatedAt: h.At,
		Until:     b.Until,
		Position:  h.Position,
	}
}

// Follow stores the waiver.
func (b WaiverGranted) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddWaiver(ctx, b.row(h))
}

func (b WaiverGranted) add(to *Basis, h Head) { to.Waivers = append(to.Waivers, b.row(h)) }

// WaiverEnded ends a waiver before its day.
type WaiverEnded struct {
	// Waiver is its number, and Record the record that granted it.
	Waiver int64  `json:"waiver"`
	Record int64  `json:"record"`
	Reason string `json:"reason"`
}

// Kind is [ledger.WaiverEnded].
func (WaiverEnded) Kind() ledger.Kind { return ledger.WaiverEnded }

// Follow stores how the waiver ended.
func (b WaiverEnded) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.EndWaiver(ctx, b.Record, h.At, h.By, b.Reason)
}

func (b WaiverEnded) add(to *Basis, h Head) {
	if i := slices.IndexFunc(to.Waivers, func(w store.Waiver) bool { return w.Position == b.Record }); i >= 0 {
		at := h.At
		to.Waivers[i].EndedAt, to.Waivers[i].EndedBy, to.Waivers[i].EndReason = &at, h.By, b.Reason
	}
}
