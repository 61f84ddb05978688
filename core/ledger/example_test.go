package ledger_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"

	"endeixis/core/ledger"
)

// A receipt is checked with nothing but the ledger's public key.
func ExampleReceipt_Verify() {
	private, public, err := note.GenerateKey(rand.Reader, "verify.skerrow.example")
	if err != nil {
		panic(err)
	}
	signer, err := note.NewSigner(private)
	if err != nil {
		panic(err)
	}
	record := []byte(`{"kind":"item-outcome","item":"gauge.img","verdict":"cleared"}`)
	stored := tlog.HashReaderFunc(func([]int64) ([]tlog.Hash, error) { return []tlog.Hash{ledger.Leaf(record)}, nil })
	root, err := ledger.Root(1, stored)
	if err != nil {
		panic(err)
	}
	checkpoint := ledger.Checkpoint{Origin: "verify.skerrow.example", Size: 1, Root: root}
	signed, err := checkpoint.Sign(signer)
	if err != nil {
		panic(err)
	}
	receipt, err := ledger.NewReceipt(0, record, checkpoint, signed, stored)
	if err != nil {
		panic(err)
	}
	handedOut, err := json.Marshal(receipt)
	if err != nil {
		panic(err)
	}

	// Somewhere else, years later:
	verifier, err := note.NewVerifier(public)
	if err != nil {
		panic(err)
	}
	got, err := ledger.ParseReceipt(handedOut)
	if err != nil {
		panic(err)
	}
	_, err = got.Verify(verifier)
	fmt.Println("as it was handed out:", err == nil)
	got.Record = `{"kind":"item-outcome","item":"gauge.img","verdict":"refused"}`
	_, err = got.Verify(verifier)
	fmt.Println("altered:", err == nil)
	// Output:
	// as it was handed out: true
	// altered: false
}
