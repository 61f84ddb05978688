package recorded

import (
	"context"
	"fmt"

	"endeixis/core/ledger"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/store"
)

// Settlement says that a batch or a key needs no attention as it is: somebody knows of it. It changes no verdict.
type Settlement struct {
	statement
	// Batch or Key is what was settled.
	Batch  int64               `json:"batch,omitempty"`
	Key    openpgp.Fingerprint `json:"key,omitempty"`
	Reason string              `json:"reason"`
}

// Kind is [ledger.Settlement].
func (Settlement) Kind() ledger.Kind { return ledger.Settlement }

// Follow keeps it.
func (b Settlement) Follow(ctx context.Context, tx *store.Tx, h Head) error {
	s := store.Settlement{Position: h.Position, Reason: b.Reason, By: h.By, At: h.At}
	if b.Batch != 0 {
		s.Batch = &b.Batch
	} else {
		s.Fingerprint = b.Key.Bytes()
	}
	return tx.AddSettlement(ctx, s)
}

func (b Settlement) alone(h Head) row {
	batch, key := field{null: true}, field{null: true}
	if b.Batch != 0 {
		batch = number(b.Batch)
	} else {
		key = text(digits(b.Key.Bytes()))
	}
	return row{
		table: "settlements", key: fmt.Sprintf("record %d", h.Position), position: h.Position,
		fields: []field{batch, key, text(b.Reason), text(h.By), moment(h.At)},
	}
}

func (b Settlement) terms(Head) []store.Term {
	return []store.Term{term(store.KeyFacet, string(b.Key))}
}

func (b Settlement) sentences() []string {
	what := fmt.Sprintf("Batch %d", b.Batch)
	if b.Batch == 0 {
		what = "The key " + plain.Grouped(string(b.Key))
	}
	return []string{what + " was settled: it needs no attention as it is.", why("That was decided", b.Reason)}
}
