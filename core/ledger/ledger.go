// Package ledger keeps records in an append-only Merkle tree in the manner of
// RFC 9162 (section 2.1, SHA-256), on golang.org/x/mod/sumdb/tlog. It holds no
// storage: hashes come through [tlog.HashReader], records as bytes.
//
// The pieces are the tree itself ([Grow], [Root]), a signed [Checkpoint] of its
// size and root, a [Receipt] that proves one record's place in it to anyone
// with the public key, a [Seal] over what was appended, and [Extend], which makes the next root
// from sealed records and believes nothing else.
package ledger

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Leaf returns the leaf hash of a record: SHA-256(0x00 || record).
func Leaf(record []byte) tlog.Hash { return tlog.RecordHash(record) }

// Grow returns the hashes to be stored when leaves are appended to a tree of
// the given size. The first of them has the index FirstStored(size).
func Grow(size int64, leaves []tlog.Hash, stored tlog.HashReader) ([]tlog.Hash, error) {
	o := &overlay{base: stored, first: FirstStored(size)}
	for i, leaf := range leaves {
		hashes, err := tlog.StoredHashesForRecordHash(size+int64(i), leaf, o)
		if err != nil {
			return nil, err
		}
		o.added = append(o.added, hashes...)
	}
	return o.added, nil
}

// FirstStored returns the index of the first hash to be stored for the record
// that comes after size records.
func FirstStored(size int64) int64 { return tlog.StoredHashIndex(0, size) }

// Root returns the root of the tree of the given size.
func Root(size int64, stored tlog.HashReader) (tlog.Hash, error) {
	return tlog.TreeHash(size, stored)
}

// overlay reads hashes that were just computed before those that are stored.
type overlay struct {
	base  tlog.HashReader
	first int64
	added []tlog.Hash
}

func (o *overlay) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	var missing []int64
	for i, index := range indexes {
		if index >= o.first {
			out[i] = o.added[index-o.first]
		} else {
			missing = append(missing, index)
		}
	}
	if missing == nil {
		return out, nil
	}
	old, err := o.base.ReadHashes(missing)
	if err != nil {
		return nil, err
	}
	for i, index := range indexes {
		if index < o.first {
			out[i] = old[slices.Index(missing, index)]
		}
	}
	return out, nil
}

// A Checkpoint is the tree's size and root at some moment. Its signed form is
// a note of three lines: origin, size, root in base64; and a fourth where it
// follows another.
type Checkpoint struct {
	Origin string
	Size   int64
	Root   tlog.Hash
	// Follows is the size of the checkpoint that was signed before, so that one
	// that is taken away is missed. It is 0 for the first, and for those of
	// versions that did not say.
	Follows int64
}

// Sign returns the signed form.
func (c Checkpoint) Sign(signer note.Signer) (string, error) {
	text := fmt.Sprintf("%s\n%d\n%s\n", c.Origin, c.Size, c.Root)
	if c.Follows > 0 {
		text += fmt.Sprintf("%s%d\n", follows, c.Follows)
	}
	signed, err := note.Sign(&note.Note{Text: text}, signer)
	return string(signed), err
}

// follows begins the fourth line.
const follows = "follows "

// A CheckpointError reports a checkpoint that cannot be believed.
type CheckpointError struct{ Reason string }

// Error says why.
func (e *CheckpointError) Error() string { return "the checkpoint cannot be believed: " + e.Reason }

// OpenCheckpoint verifies that a key that is known has signed it, and reads the checkpoint. It returns a
// [*CheckpointError] when either fails.
func OpenCheckpoint(signed string, known note.Verifiers) (Checkpoint, error) {
	n, err := note.Open([]byte(signed), known)
	if err != nil {
		return Checkpoint{}, &CheckpointError{Reason: err.Error()}
	}
	lines := strings.Split(n.Text, "\n")
	if len(lines) < 4 || len(lines) > 5 || lines[len(lines)-1] != "" {
		return Checkpoint{}, &CheckpointError{Reason: "it does not have three lines, or four"}
	}
	size, ok := sizeOf(lines[1])
	if !ok {
		return Checkpoint{}, &CheckpointError{Reason: "its size is not a number"}
	}
	var before int64
	if len(lines) == 5 {
		number, found := strings.CutPrefix(lines[3], follows)
		if before, ok = sizeOf(number); !found || !ok || before == 0 || before >= size {
			return Checkpoint{}, &CheckpointError{Reason: "it does not follow a smaller one"}
		}
	}
	root, err := tlog.ParseHash(lines[2])
	if err != nil {
		return Checkpoint{}, &CheckpointError{Reason: "its root is not a hash"}
	}
	return Checkpoint{Origin: lines[0], Size: size, Root: root, Follows: before}, nil
}

// sizeOf reads the size of a tree, which is written in one way only.
func sizeOf(text string) (int64, bool) {
	size, err := strconv.ParseInt(text, 10, 64)
	return size, err == nil && size >= 0 && strconv.FormatInt(size, 10) == text
}

// ReceiptFormat names the format of a [Receipt].
const ReceiptFormat = "endeixis-receipt-1"

// A Receipt is a record with the proof that it is in the ledger. Its JSON form
// is what is handed out.
type Receipt struct {
	Format string `json:"format"`
	// Position is the record's place in the sequence, from 0.
	Position int64 `json:"position"`
	// Record is the record byte for byte; it is JSON itself.
	Record string `json:"record"`
	// Proof is the inclusion proof (RFC 9162, section 2.1.3), in base64.
	Proof []string `json:"proof"`
	// Checkpoint is the signed checkpoint that the proof leads to.
	Checkpoint string `json:"checkpoint"`
	// Succession are the signed forms of each [Succession] of the ledger: a verifier that knows one of
	// its keys can tell that it is the same ledger.
	Succession []string `json:"succession,omitempty"`
}

// NewReceipt proves that the record at the position is in the tree of the
// checkpoint's size.
func NewReceipt(position int64, record []byte, c Checkpoint, signed string, stored tlog.HashReader) (Receipt, error) {
	proof, err := tlog.ProveRecord(c.Size, position, stored)
	if err != nil {
		return Receipt{}, err
	}
	return Receipt{
		Format: ReceiptFormat, Position: position, Record: string(record), Proof: texts(proof), Checkpoint: signed,
	}, nil
}

// texts writes the hashes of a proof in base64.
func texts(proof []tlog.Hash) []string {
	out := make([]string, len(proof))
	for i, h := range proof {
		out[i] = h.String()
	}
	return out
}

// hashes reads what texts writes. Of a text that is none it returns the number, from 1.
func hashes(proof []string) (out []tlog.Hash, bad int) {
	out = make([]tlog.Hash, len(proof))
	for i, text := range proof {
		h, err := tlog.ParseHash(text)
		if err != nil {
			return nil, i + 1
		}
		out[i] = h
	}
	return out, 0
}

// A ReceiptError reports a receipt that proves nothing.
type ReceiptError struct{ Reason string }

// Error says why.
func (e *ReceiptError) Error() string { return "the receipt does not hold: " + e.Reason }

// maxReceipt bounds a receipt file in bytes.
const maxReceipt = 16 << 20

// ParseReceipt reads the JSON form. It returns a [*ReceiptError] for anything
// else.
func ParseReceipt(data []byte) (Receipt, error) {
	var r Receipt
	if len(data) > maxReceipt {
		return r, &ReceiptError{Reason: "the file is too long to be a receipt"}
	}
	if err := json.Unmarshal(data, &r); err != nil {
		return r, &ReceiptError{Reason: "the file is not JSON: " + err.Error()}
	}
	if r.Format != ReceiptFormat {
		return r, &ReceiptError{Reason: fmt.Sprintf("its format is %q; expected %q", r.Format, ReceiptFormat)}
	}
	return r, nil
}

// A Proof is a kind of text that a ledger hands out.
type Proof string

// The kinds.
const (
	NoProof         Proof = ""
	ReceiptProof    Proof = "receipt"
	CheckpointProof Proof = "checkpoint"
)

// ProofIn tells a receipt, by the format that it states, and a checkpoint, by its form, from
// other texts. Nothing is verified.
func ProofIn(text []byte) Proof {
	if trimmed := bytes.TrimLeft(text, " \t\r\n\ufeff"); bytes.HasPrefix(trimmed, []byte("{")) &&
		bytes.Contains(text, []byte(ReceiptFormat)) {
		var r struct {
			Format string `json:"format"`
		}
		if json.Unmarshal(trimmed, &r) == nil && r.Format == ReceiptFormat {
			return ReceiptProof
		}
	}
	body, signatures, ok := strings.Cut(string(text[:min(len(text), maxCheckpoint)]), "\n\n\u2014 ")
	lines := strings.Split(body, "\n")
	if !ok || len(text) > maxCheckpoint || len(lines) < 3 || len(lines) > 4 ||
		len(strings.Fields(strings.SplitN(signatures, "\n", 2)[0])) != 2 {
		return NoProof
	}
	if _, isSize := sizeOf(lines[1]); !isSize || lines[0] == "" {
		return NoProof
	}
	if _, err := tlog.ParseHash(lines[2]); err != nil {
		return NoProof
	}
	return CheckpointProof
}

// maxCheckpoint bounds a checkpoint with its signatures, in bytes.
const maxCheckpoint = 64 << 10

// Verify checks the receipt with nothing but the service's public key, or one that it has followed: the
// checkpoint's signature, and the way from the record to the checkpoint's root.
// It returns the checkpoint, or a [*CheckpointError] or [*ReceiptError].
func (r Receipt) Verify(known ...note.Verifier) (Checkpoint, error) {
	keys := slices.Clone(known)
	for _, k := range known {
		for _, next := range Successors(k, r.Succession)[1:] {
			if !slices.ContainsFunc(
				keys, func(k note.Verifier) bool { return k.Name() == next.Name() && k.KeyHash() == next.KeyHash() },
			) {
				keys = append(keys, next)
			}
		}
	}
	c, err := OpenCheckpoint(r.Checkpoint, note.VerifierList(keys...))
	if err != nil {
		return Checkpoint{}, err
	}
	proof, bad := hashes(r.Proof)
	if bad > 0 {
		return Checkpoint{}, &ReceiptError{Reason: fmt.Sprintf("hash %d of the proof is damaged", bad)}
	}
	if r.Position < 0 || r.Position >= c.Size {
		return Checkpoint{}, &ReceiptError{
			Reason: fmt.Sprintf("position %d is not within the checkpoint's %d records", r.Position, c.Size),
		}
	}
	if err := tlog.CheckRecord(proof, c.Size, c.Root, r.Position, Leaf([]byte(r.Record))); err != nil {
		return Checkpoint{}, &ReceiptError{
			Reason: "the record is not the one at this position of the ledger; its text or its place was altered",
		}
	}
	return c, nil
}

// Witnessed returns a [*ReceiptError] where a witness has not countersigned the receipt's
// checkpoint (c2sp.org/tlog-cosignature). Whether the receipt holds, [Receipt.Verify] tells.
func (r Receipt) Witnessed(witness note.Verifier) error {
	if _, err := note.Open([]byte(r.Checkpoint), note.VerifierList(witness)); err != nil {
		return &ReceiptError{Reason: fmt.Sprintf("the witness %s has not countersigned it", witness.Name())}
	}
	return nil
}

// ProveGrowth returns the consistency proof (RFC 9162, section 2.1.4) between two sizes of the
// tree, in base64; there is none from an empty one, nor between equals.
func ProveGrowth(older, newer int64, stored tlog.HashReader) ([]string, error) {
	if older == 0 || older == newer {
		return []string{}, nil
	}
	proof, err := tlog.ProveTree(newer, older, stored)
	return texts(proof), err
}

// CheckGrowth verifies that the tree of the older checkpoint is a prefix of the newer one's, by
// a consistency proof as [ProveGrowth] returns it. It needs nothing but what it is given, and
// returns a [*CheckpointError] where that proves nothing.
func CheckGrowth(older, newer Checkpoint, proof []string) error {
	if older.Size > newer.Size {
		return &CheckpointError{
			Reason: fmt.Sprintf(
				"it counts %d records and the ledger has %d: records are missing", older.Size, newer.Size,
			),
		}
	}
	if older.Size == 0 {
		return nil
	}
	grown := &CheckpointError{Reason: fmt.Sprintf("the first %d records are not those it was signed over", older.Size)}
	if older.Size == newer.Size {
		if older.Root != newer.Root {
			return grown
		}
		return nil
	}
	steps, bad := hashes(proof)
	if bad > 0 {
		return &CheckpointError{Reason: fmt.Sprintf("hash %d of the consistency proof is damaged", bad)}
	}
	if tlog.CheckTree(steps, newer.Size, newer.Root, older.Size, older.Root) != nil {
		return grown
	}
	return nil
}
