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

// Seal returns a MAC (HMAC-SHA-256) over the place of records that were appended together and
// the hashes of their leaves. Only who has the writers' key can make one: a record that somebody
// puts where records are stored has none, and neither has one that is moved.
func Seal(key []byte, first int64, leaves []tlog.Hash) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte(sealHead))
	h.Write(binary.BigEndian.AppendUint64(nil, uint64(first)))
	h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(leaves))))
	for _, leaf := range leaves {
		h.Write(leaf[:])
	}
	return h.Sum(nil)
}

// Sealed reports whether a seal is that of the records.
func Sealed(key, seal []byte, first int64, leaves []tlog.Hash) bool {
	return hmac.Equal(seal, Seal(key, first, leaves))
}

// Extend returns the root of the tree that leaves make of one whose checkpoint is known, and
// the hashes that are stored for them, as [Grow] does. Of what is stored it believes only what
// leads to the older root; it returns a [*CheckpointError] where that does not.
func Extend(older Checkpoint, leaves []tlog.Hash, stored tlog.HashReader) (root tlog.Hash, added []tlog.Hash, err error) {
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
