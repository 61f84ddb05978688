package recorded

import (
	"context"
	"fmt"

	"endeixis/core/digest"
	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/store"
)

// ReferenceNoted says that somebody has read the digest of a file somewhere. Nothing is cleared by that.
type ReferenceNoted struct {
	statement
	Publisher string `json:"publisher"`
	Name      string `json:"name"`
	// Algorithm is what was stated, or empty.
	Algorithm string          `json:"algorithm,omitempty"`
	Digest    digest.Value    `json:"digest"`
	Size      *int64          `json:"size,omitempty"`
	Channel   keyring.Channel `json:"channel"`
	// Place is where exactly it was read.
	Place string `json:"place"`
	Note  string `json:"note,omitempty"`
}

// Kind is [ledger.ReferenceNoted].
func (ReferenceNoted) Kind() ledger.Kind { return ledger.ReferenceNoted }

// Follow keeps it.
func (b ReferenceNoted) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	return tx.AddNotedReference(ctx, store.NotedReference{
		Position: h.Position, Publisher: b.Publisher, Name: b.Name, Algorithm: b.Algorithm, Digest: b.Digest,
		Size: b.Size, Channel: string(b.Channel), Place: b.Place, Note: b.Note, By: h.By, At: h.At,
	})
}

func (b ReferenceNoted) alone(h Head) row {
	return row{
		table: "noted_references", key: fmt.Sprintf("record %d", h.Position), position: h.Position,
		fields: []field{
			text(b.Publisher), text(b.Name), text(b.Algorithm), text(b.Digest.String()), numberOrNone(b.Size),
			text(string(b.Channel)), text(b.Place), text(b.Note), text(h.By), moment(h.At),
		},
	}
}

func (b ReferenceNoted) terms(Head) []store.Term {
	return []store.Term{term(store.PublisherFacet, b.Publisher)}
}

func (b ReferenceNoted) sentences() []string {
	called := ""
	if b.Algorithm != "" {
		called = b.Algorithm + " "
	}
	return []string{
		fmt.Sprintf(
			"The %sdigest %s of %s, a file of %s, was read on the channel %s: %s. It is noted, and clears nothing.", called,
			b.Digest, plain.Quoted(b.Name), plain.Text(b.Publisher), b.Channel, plain.Text(b.Place),
		), plain.Text(b.Note),
	}
}
