package ledger

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"slices"

	"golang.org/x/mod/sumdb/tlog"
)

// sealHead keeps a seal apart from every other use of the key.
const sealHead = "endeixis seal 1\n"

// A Seal is over records that were appended together. Its MAC can be made by nobody who does
// not have the writers' key: a record that somebody puts where records are stored has none, and
// neither has one that is moved.
type Seal struct {
	// First is the position of the first of them, and Records how many they are.
	First, Records int64
	// Decisions counts all records that decide, see [Kind.Decides], from the ledger's first to
	// the last of these: none of them can be passed over.
	Decisions int64
	// Over is the digest over their leaves, see [OverLeaves].
	Over [sha256.Size]byte
}

// OverLeaves returns the SHA-256 over the hashes of leaves, one behind the other.
func OverLeaves(leaves []tlog.Hash) [sha256.Size]byte {
	h := sha256.New()
	for _, leaf := range leaves {
		h.Write(leaf[:])
	}
	return [sha256.Size]byte(h.Sum(nil))
}

// MAC returns the HMAC-SHA-256 over the seal.
func (s Seal) MAC(key []byte) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(sealHead))
	for _, n := range []int64{s.First, s.Records, s.Decisions} {
		h.Write(binary.BigEndian.AppendUint64(nil, uint64(n)))
	}
	h.Write(s.Over[:])
	return h.Sum(nil)
}

// Genuine reports whether a MAC is that of the seal.
func (s Seal) Genuine(key, mac []byte) bool { return hmac.Equal(mac, s.MAC(key)) }

// Extend returns the root of the tree that leaves make of one whose checkpoint is known, and
// the hashes that are stored for them, as [Grow] does. Of what is stored it believes only what
// leads to the older root; it returns a [*CheckpointError] where that does not.
func Extend(
	older Checkpoint, leaves []tlog.Hash, stored tlog.HashReader,
) (root tlog.Hash, added []tlog.Hash, err error) {
	// The hashes that lead to the root are also those that new leaves are joined to. Each is
	// read once, so that nobody can show another the second time.
	kept := &keeping{stored: stored, hashes: map[int64]tlog.Hash{}}
	if older.Size > 0 {
		known, err := Root(older.Size, kept)
		if err != nil {
			return root, nil, err
		}
		if known != older.Root {
			return root, nil, &CheckpointError{Reason: "the stored hashes do not lead to the root that was signed"}
		}
	}
	if added, err = Grow(older.Size, leaves, kept); err != nil {
		return root, nil, err
	}
	root, err = Root(older.Size+int64(len(leaves)), &overlay{base: kept, first: FirstStored(older.Size), added: added})
	return root, added, err
}

// keeping reads each hash once.
type keeping struct {
	stored tlog.HashReader
	hashes map[int64]tlog.Hash
}

func (k *keeping) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	var missing []int64
	for _, index := range indexes {
		if _, ok := k.hashes[index]; !ok && !slices.Contains(missing, index) {
			missing = append(missing, index)
		}
	}
	if missing != nil {
		read, err := k.stored.ReadHashes(missing)
		if err != nil {
			return nil, err
		}
		for i, index := range missing {
			k.hashes[index] = read[i]
		}
	}
	out := make([]tlog.Hash, len(indexes))
	for i, index := range indexes {
		out[i] = k.hashes[index]
	}
	return out, nil
}
