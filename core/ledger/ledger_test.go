package ledger

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
	"pgregory.net/rapid"
)

// memory stores hashes the way the database does.
type memory struct {
	hashes  []tlog.Hash
	records [][]byte
}

func (m *memory) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, index := range indexes {
		out[i] = m.hashes[index]
	}
	return out, nil
}

func (m *memory) add(t require.TestingT, records ...string) {
	var leaves []tlog.Hash
	size := int64(len(m.records))
	for _, r := range records {
		m.records = append(m.records, []byte(r))
		leaves = append(leaves, Leaf([]byte(r)))
	}
	require.EqualValues(t, len(m.hashes), FirstStored(size))
	hashes, err := Grow(size, leaves, m)
	require.NoError(t, err)
	m.hashes = append(m.hashes, hashes...)
}

func keys(t *testing.T) (note.Signer, note.Verifier) {
	t.Helper()
	skey, vkey, err := note.GenerateKey(rand.Reader, "quayside.example")
	require.NoError(t, err)
	s, err := note.NewSigner(skey)
	require.NoError(t, err)
	v, err := note.NewVerifier(vkey)
	require.NoError(t, err)
	return s, v
}

func records(n int) []string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprintf(`{"n":%d}`, i)
	}
	return out
}

// rootOf computes the root as RFC 9162 defines it, section 2.1.1.
func rootOf(leaves []tlog.Hash) tlog.Hash {
	switch n := len(leaves); n {
	case 0:
		return sha256.Sum256(nil)
	case 1:
		return leaves[0]
	default:
		k := 1
		for 2*k < n {
			k *= 2
		}
		return tlog.NodeHash(rootOf(leaves[:k]), rootOf(leaves[k:]))
	}
}

// TestRootsAgree holds for any way of cutting the records into appends: the
// stored tree comes to the root of the definition.
func TestRootsAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := &memory{}
		all := records(rapid.IntRange(0, 70).Draw(t, "records"))
		for rest := all; len(rest) > 0; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "append")
			m.add(t, rest[:n]...)
			rest = rest[n:]
		}
		var leaves []tlog.Hash
		for _, r := range all {
			leaves = append(leaves, Leaf([]byte(r)))
		}
		root, err := Root(int64(len(all)), m)
		require.NoError(t, err)
		require.Equal(t, rootOf(leaves), root)
	})
}

// TestKnownRoot checks against values of the tree computed by hand from the
// definition in RFC 9162, section 2.1.1.
func TestKnownRoot(t *testing.T) {
	m := &memory{}
	m.add(t, "a", "b", "c")
	want := tlog.NodeHash(tlog.NodeHash(Leaf([]byte("a")), Leaf([]byte("b"))), Leaf([]byte("c")))
	root, err := Root(3, m)
	require.NoError(t, err)
	assert.Equal(t, want, root)
}

func checkpoint(t *testing.T, m *memory, s note.Signer) (Checkpoint, string) {
	t.Helper()
	root, err := Root(int64(len(m.records)), m)
	require.NoError(t, err)
	c := Checkpoint{Origin: "quayside.example/ledger", Size: int64(len(m.records)), Root: root}
	signed, err := c.Sign(s)
	require.NoError(t, err)
	return c, signed
}

func TestReceipt(t *testing.T) {
	signer, verifier := keys(t)
	_, stranger := keys(t)
	m := &memory{}
	m.add(t, records(13)...)
	c, signed := checkpoint(t, m, signer)

	for i, record := range m.records {
		r, err := NewReceipt(int64(i), record, c, signed, m)
		require.NoError(t, err)
		text, err := json.Marshal(r)
		require.NoError(t, err)
		back, err := ParseReceipt(text)
		require.NoError(t, err)
		got, err := back.Verify(verifier)
		require.NoError(t, err)
		assert.Equal(t, c, got)
	}

	good, err := NewReceipt(5, m.records[5], c, signed, m)
	require.NoError(t, err)
	for name, damage := range map[string]func(*Receipt){
		"the record altered":   func(r *Receipt) { r.Record = `{"n":6}` },
		"another position":     func(r *Receipt) { r.Position = 6 },
		"beyond the end":       func(r *Receipt) { r.Position = 13 },
		"before the start":     func(r *Receipt) { r.Position = -1 },
		"a hash left out":      func(r *Receipt) { r.Proof = r.Proof[1:] },
		"a hash damaged":       func(r *Receipt) { r.Proof[0] = "AAAA" },
		"the size altered":     func(r *Receipt) { r.Checkpoint = "quayside.example/ledger\n14" + r.Checkpoint[26:] },
		"no checkpoint":        func(r *Receipt) { r.Checkpoint = "" },
		"a checkpoint of text": func(r *Receipt) { r.Checkpoint = "hello\n" },
	} {
		bad := good
		bad.Proof = append([]string{}, good.Proof...)
		damage(&bad)
		_, err := bad.Verify(verifier)
		assert.Error(t, err, name)
	}
	_, err = good.Verify(stranger)
	var untrusted *CheckpointError
	require.ErrorAs(t, err, &untrusted)
	_, err = ParseReceipt([]byte("{"))
	assert.ErrorContains(t, err, "not JSON")
	_, err = ParseReceipt([]byte(`{"format":"other"}`))
	assert.ErrorContains(t, err, ReceiptFormat)
}

func TestCheckGrowth(t *testing.T) {
	signer, verifier := keys(t)
	m := &memory{}
	m.add(t, records(9)...)
	older, signed := checkpoint(t, m, signer)
	opened, err := OpenCheckpoint(signed, note.VerifierList(verifier))
	require.NoError(t, err)
	assert.Equal(t, older, opened)
	m.add(t, "x", "y")
	newer, _ := checkpoint(t, m, signer)
	proof, err := ProveGrowth(older.Size, newer.Size, m)
	require.NoError(t, err)
	require.NoError(t, CheckGrowth(older, newer, proof))
	require.NoError(t, CheckGrowth(Checkpoint{}, newer, nil))
	require.NoError(t, CheckGrowth(newer, newer, nil))
	assert.ErrorContains(t, CheckGrowth(newer, older, nil), "missing")
	for what, bad := range map[string][]string{
		"none": nil, "a hash left out": proof[1:], "one more": append(slices.Clone(proof), proof[0]), "no hash": {"AAAA"}, "two swapped": {proof[1], proof[0]},
	} {
		var untrusted *CheckpointError
		assert.ErrorAs(t, CheckGrowth(older, newer, bad), &untrusted, what)
	}
	same := newer
	same.Root[0]++
	assert.Error(t, CheckGrowth(newer, same, nil), "as many records, and others")

	rewritten := &memory{}
	rewritten.add(t, append([]string{"forged"}, records(10)...)...)
	forged, _ := checkpoint(t, rewritten, signer)
	proof, err = ProveGrowth(older.Size, forged.Size, rewritten)
	require.NoError(t, err)
	assert.Error(t, CheckGrowth(older, forged, proof))
}

// TestExtend: the root of a grown tree comes from the leaves and from what leads to the older
// root, whatever else is stored.
func TestExtend(t *testing.T) {
	signer, _ := keys(t)
	rapid.Check(t, func(rt *rapid.T) {
		before, more := rapid.IntRange(0, 40).Draw(rt, "before"), rapid.IntRange(0, 40).Draw(rt, "more")
		all := records(before + more)
		m := &memory{}
		m.add(rt, all[:before]...)
		older, _ := checkpoint(t, m, signer)
		var leaves []tlog.Hash
		for _, r := range all[before:] {
			leaves = append(leaves, Leaf([]byte(r)))
		}
		root, added, err := Extend(older, leaves, m)
		require.NoError(rt, err)
		kept := len(m.hashes)
		m.add(rt, all[before:]...)
		want, err := Root(int64(len(all)), m)
		require.NoError(rt, err)
		require.Equal(rt, want, root)
		require.True(rt, slices.Equal(m.hashes[kept:], added))
		if before > 0 {
			older.Root[3]++
			_, _, err = Extend(older, leaves, m)
			var untrusted *CheckpointError
			require.ErrorAs(rt, err, &untrusted)
		}
	})
}

// TestSeal: a seal is for its records at their place, in their order, by one key.
func TestSeal(t *testing.T) {
	key := []byte("the writers' key")
	a, b := Leaf([]byte("a")), Leaf([]byte("b"))
	seal := Seal{First: 7, Records: 2, Decisions: 1, Over: OverLeaves([]tlog.Hash{a, b})}
	mac := seal.MAC(key)
	require.True(t, seal.Genuine(key, mac))
	for what, change := range map[string]func(*Seal){
		"another place": func(s *Seal) { s.First++ }, "one less": func(s *Seal) { s.Records-- }, "a decision less": func(s *Seal) { s.Decisions-- },
		"another order": func(s *Seal) { s.Over = OverLeaves([]tlog.Hash{b, a}) }, "other records": func(s *Seal) { s.Over = OverLeaves([]tlog.Hash{a, a}) },
	} {
		other := seal
		change(&other)
		assert.False(t, other.Genuine(key, mac), what)
	}
	assert.False(t, seal.Genuine([]byte("x"), mac), "another key")
	assert.False(t, seal.Genuine(key, nil), "no MAC")
	assert.False(t, seal.Genuine(key, mac[:16]), "half of it")
}

// TestCheckpointFollows reads the fourth line, in the one way in which it is
// written, and checkpoints that have none.
func TestCheckpointFollows(t *testing.T) {
	signer, verifier := keys(t)
	for _, follows := range []int64{0, 1, 36} {
		c := Checkpoint{Origin: "a.example/ledger", Size: 37, Root: Leaf([]byte("x")), Follows: follows}
		signed, err := c.Sign(signer)
		require.NoError(t, err)
		opened, err := OpenCheckpoint(signed, note.VerifierList(verifier))
		require.NoError(t, err)
		assert.Equal(t, c, opened)
	}
	root := Leaf([]byte("x")).String()
	for _, text := range []string{
		"a\n37\n" + root + "\nfollows 37\n", "a\n37\n" + root + "\nfollows 0\n", "a\n37\n" + root + "\nfollows 036\n", "a\n37\n" + root + "\nfollows\n",
		"a\n37\n" + root + "\nafter 3\n", "a\n37\n" + root + "\nfollows 3\nmore\n", "a\n37\n" + root + "\n\n", "a\n37\n",
	} {
		signed, err := note.Sign(&note.Note{Text: text}, signer)
		require.NoError(t, err)
		_, err = OpenCheckpoint(string(signed), note.VerifierList(verifier))
		var untrusted *CheckpointError
		assert.ErrorAs(t, err, &untrusted, "%q", text)
	}
}

// TestProofIn: receipts are told by the format that they state, and checkpoints by their
// form, whoever signed them; other texts are neither.
func TestProofIn(t *testing.T) {
	root := tlog.Hash{1, 2, 3}.String()
	checkpoint := "verify.skerrow.example/ledger\n82\n" + root + "\n\n\u2014 verify.skerrow.example AAAA\n"
	for text, want := range map[string]Proof{
		`{"format":"endeixis-receipt-1","position":3}`:                   ReceiptProof,
		"\ufeff\n {\"position\":3, \"format\" : \"endeixis-receipt-1\"}": ReceiptProof,
		checkpoint: CheckpointProof,
		strings.Replace(checkpoint, "\n\n", "\nfollows 79\n\n", 1):               CheckpointProof,
		`{"format":"endeixis-receipt-2"}`:                                        NoProof,
		`{"sha256":"00","note":"not endeixis-receipt-1"}`:                        NoProof,
		`[{"format":"endeixis-receipt-1"}]`:                                      NoProof,
		`{"format":"endeixis-receipt-1"`:                                         NoProof,
		strings.Replace(checkpoint, "82", "082", 1):                              NoProof,
		strings.Replace(checkpoint, root, "no root", 1):                          NoProof,
		strings.Replace(checkpoint, "\u2014 verify.skerrow.example AAAA", "", 1): NoProof,
		"a letter\n\n\u2014 the harbour office\n":                                NoProof,
		"": NoProof,
	} {
		assert.Equal(t, want, ProofIn([]byte(text)), text)
	}
}
