package recorded

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/satchel"
	"endeixis/internal/store"
)

// SatchelPacked is a satchel that was packed.
type SatchelPacked struct {
	statement
	Satchel string    `json:"satchel"`
	Digest  string    `json:"digest"`
	Until   time.Time `json:"until"`
	// Packed is what is told about it.
	Packed json.RawMessage `json:"packed"`
}

// Kind is [ledger.SatchelPacked].
func (SatchelPacked) Kind() ledger.Kind { return ledger.SatchelPacked }

// Follow stores the satchel.
func (b SatchelPacked) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddSatchel(
		ctx,
		store.Satchel{
			ID: b.Satchel, Digest: b.Digest, Document: b.Packed, By: h.By, At: h.At, Until: b.Until,
			Position: h.Position,
		},
	)
}

func (b SatchelPacked) alone(h Head) row {
	return row{
		table: "satchels", key: "satchel " + b.Satchel, position: h.Position,
		fields: []field{text(b.Satchel), text(b.Digest), form(b.Packed), text(h.By), nearly(h.At), nearly(b.Until)},
	}
}

// VisitReturned is an outcome that was sealed on site and has come back.
type VisitReturned struct {
	statement
	Batch    int64  `json:"batch"`
	Satchel  string `json:"satchel"`
	SealedBy string `json:"sealed_by"`
	Number   int    `json:"number"`
	// Content is the SHA-256 of the entry as it was sealed, in hexadecimal.
	Content  string        `json:"content"`
	Of       satchel.Kind  `json:"of"`
	JudgedAt time.Time     `json:"judged_at"`
	JudgedBy string        `json:"judged_by"`
	Clock    string        `json:"clock,omitempty"`
	Policy   int64         `json:"policy"`
	OnSite   judge.Verdict `json:"on_site"`
	Files    int           `json:"files"`
	// Outcomes are the first of them; the content has all.
	Outcomes []satchel.Judged `json:"outcomes"`
	// Otherwise says why it is not what came back before, or stands behind such a one.
	Otherwise string `json:"otherwise,omitempty"`

	// Sealed is the entry.
	Sealed []byte `json:"-"`
}

// Kind is [ledger.VisitReturned].
func (VisitReturned) Kind() ledger.Kind { return ledger.VisitReturned }

// Follow stores the outcome.
func (b VisitReturned) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddVisit(
		ctx,
		store.Visit{
			Batch: b.Batch, Satchel: b.Satchel, SealedBy: b.SealedBy, N: b.Number, Content: b.Sealed,
			Position: h.Position,
		},
	)
}

func (b VisitReturned) alone(h Head) row {
	return row{
		table:    "visits",
		key:      fmt.Sprintf("an outcome of satchel %s, batch %d", b.Satchel, b.Batch),
		position: h.Position,
		fields:   []field{number(b.Batch), text(b.Satchel), text(b.SealedBy), number(b.Number), text(b.Content)},
	}
}
