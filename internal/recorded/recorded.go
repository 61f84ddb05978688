// Package recorded says what records hold, and what follows from each.
//
// A record's body is a type of this package. It says which rows of the database follow from it,
// in one place: who decides stores them by it ([Body.Follow]), the audit compares the database
// with them, and what is judged by is put together from them alone ([Basis]), whatever stands in
// the tables.
package recorded

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"time"

	"endeixis/core/ledger"
	"endeixis/internal/store"
)

// A Head is what every record says beside its body.
type Head struct {
	// Position is its place in the ledger, which its text does not say.
	Position int64       `json:"-"`
	Kind     ledger.Kind `json:"kind"`
	At       time.Time   `json:"at"`
	By       string      `json:"by"`
	Software string      `json:"software"`
	Subject  string      `json:"subject"`
}

// A Body is what a record says of its kind. Its JSON form is part of the record's.
type Body interface {
	Kind() ledger.Kind
	// Follow stores the rows that follow from a record with this body.
	Follow(ctx context.Context, tx *store.Tx, h Head) error
	// add takes the record into what is judged by.
	add(b *Basis, h Head)
}

// kinds are the bodies of records, by their kind.
var kinds = map[ledger.Kind]reflect.Type{}

func init() {
	for _, b := range []Body{
		PolicySet{},
		WaiverGranted{},
		WaiverEnded{},
		PublisherAdded{},
		PublisherChanged{},
		KeyImported{},
		KeyStep{},
		Sighting{},
		ConflictResolved{},
		AdmissionProposed{},
		ProposalDeclined{},
		RowsAdopted{},
		ItemOutcome{},
		ItemRejudged{},
		BatchRejudged{},
		Reassessed{},
		BatchResult{},
		BatchCancelled{},
		Settlement{},
		ReferenceNoted{},
		Drilled{},
		UserAdded{},
		UserChanged{},
		TokenIssued{},
		TokenRevoked{},
		DeviceSet{},
		DeviceKindSet{},
		SatchelPacked{},
		VisitReturned{},
		LedgerRestored{},
		Audited{},
		KeyRotated{},
		KeyLost{},
	} {
		kinds[b.Kind()] = reflect.TypeOf(b)
	}
}

var certificate = []byte(`"certificate":"`)

// bare returns a record without the certificate in it, which may have megabytes. A quotation
// mark in a text is escaped, so that the name of the field stands in none.
func bare(text []byte) []byte {
	before, rest, found := bytes.Cut(text, certificate)
	if !found {
		return text
	}
	end := bytes.IndexByte(rest, '"')
	if end < 0 {
		return text
	}
	return slices.Concat(before, certificate, rest[end:])
}

// Read reads a record, without the certificate in one. It returns an error for a text that is none,
// and for a kind that there is not.
func Read(position int64, text []byte) (Head, Body, error) {
	h := Head{Position: position}
	text = bare(text)
	if err := json.Unmarshal(text, &h); err != nil {
		return h, nil, fmt.Errorf("record %d cannot be read: %w", position, err)
	}
	of, ok := kinds[h.Kind]
	if !ok {
		return h, nil, fmt.Errorf("record %d is of the kind %q, which there is not", position, h.Kind)
	}
	body := reflect.New(of)
	if err := json.Unmarshal(text, body.Interface()); err != nil {
		return h, nil, fmt.Errorf("record %d cannot be read: %w", position, err)
	}
	read, ok := body.Elem().Interface().(Body)
	if !ok {
		return h, nil, errors.New("a body that is none")
	}
	return h, read, nil
}

// A statement is a record by which nothing is judged. Unless its body says otherwise, no row
// follows from it.
type statement struct{}

// Follow stores nothing.
func (statement) Follow(context.Context, *store.Tx, Head) error { return nil }

func (statement) add(*Basis, Head) {}

// A Tree is the ledger as it was at some moment.
type Tree struct {
	Size int64  `json:"size"`
	Root string `json:"root"`
}

// LedgerRestored says that a backup was restored on purpose: what the ledger was, and what it has
// gone on from.
type LedgerRestored struct {
	statement
	Before Tree `json:"before"`
	After  Tree `json:"after"`
}

// Kind is [ledger.LedgerRestored].
func (LedgerRestored) Kind() ledger.Kind { return ledger.LedgerRestored }

// Audited is what an audit of the ledger found that was due.
type Audited struct {
	statement
	Holds bool `json:"holds"`
	// From is the first record that was read, Size how many there were, and Root that of the tree.
	From  int64  `json:"from"`
	Size  int64  `json:"size"`
	Root  string `json:"root"`
	Found string `json:"found"`
}

// Kind is [ledger.LedgerAudited].
func (Audited) Kind() ledger.Kind { return ledger.LedgerAudited }

// KeyRotated says that the ledger goes on with another key, as the old one has signed.
type KeyRotated struct {
	statement
	Before string `json:"before"`
	After  string `json:"after"`
	// Size and Root are those of the tree that the old key has signed for the last time, and
	// Signed is the [ledger.Succession].
	Size   int64  `json:"size"`
	Root   string `json:"root"`
	Signed string `json:"signed"`
}

// Kind is [ledger.KeyRotated].
func (KeyRotated) Kind() ledger.Kind { return ledger.KeyRotated }

// KeyLost says that the ledger goes on with another key, for the old one is lost: what was there
// was taken as it was.
type KeyLost struct {
	statement
	Before string `json:"before"`
	After  string `json:"after"`
	Size   int64  `json:"size"`
	Root   string `json:"root"`
}

// Kind is [ledger.KeyLost].
func (KeyLost) Kind() ledger.Kind { return ledger.KeyLost }
