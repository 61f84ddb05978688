package ledger

import (
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// A Succession says that a ledger goes on with another key. Its signed form is a note under the
// key that ends; docs/formats.md has its lines.
type Succession struct {
	Origin string
	// Next is the public key that goes on.
	Next string
	// Size and Root are those of the tree that the old key has signed for the last time.
	Size int64
	Root tlog.Hash
}

const successionHead = "endeixis key succession 1"

// Sign returns the signed form.
func (s Succession) Sign(signer note.Signer) (string, error) {
	text := fmt.Sprintf("%s\norigin %s\nnext %s\nsize %d\nroot %s\n", successionHead, s.Origin, s.Next, s.Size, s.Root)
	signed, err := note.Sign(&note.Note{Text: text}, signer)
	return string(signed), err
}

// A SuccessionError reports a succession that cannot be believed.
type SuccessionError struct{ Reason string }

// Error says why.
func (e *SuccessionError) Error() string {
	return "the succession of keys cannot be believed: " + e.Reason
}

// OpenSuccession verifies that the key which ends has signed a succession, and reads it.
func OpenSuccession(signed string, known note.Verifiers) (Succession, error) {
	n, err := note.Open([]byte(signed), known)
	if err != nil {
		return Succession{}, &SuccessionError{"no key that is known has signed it"}
	}
	lines := strings.Split(n.Text, "\n")
	values := make([]string, 0, 4)
	for i, name := range []string{"origin ", "next ", "size ", "root "} {
		if len(lines) != 6 || lines[0] != successionHead || lines[5] != "" || !strings.HasPrefix(lines[i+1], name) {
			return Succession{}, &SuccessionError{"it has other lines than one"}
		}
		values = append(values, strings.TrimPrefix(lines[i+1], name))
	}
	out := Succession{Origin: values[0], Next: values[1]}
	size, err := strconv.ParseInt(values[2], 10, 64)
	root, err2 := tlog.ParseHash(values[3])
	if _, err3 := note.NewVerifier(out.Next); err != nil || err2 != nil || err3 != nil || size < 0 {
		return Succession{}, &SuccessionError{"a value in it is none"}
	}
	out.Size, out.Root = size, root
	return out, nil
}

// Successors returns the keys that a ledger has gone on with, beginning with one that is known,
// as far as each has signed the next. successions are the signed forms, in any order.
func Successors(first note.Verifier, successions []string) []note.Verifier {
	out := []note.Verifier{first}
	for range successions {
		grown := false
		for _, signed := range successions {
			s, err := OpenSuccession(signed, note.VerifierList(out[len(out)-1]))
			if err != nil {
				continue
			}
			next, err := note.NewVerifier(s.Next)
			if err != nil || next.KeyHash() == out[len(out)-1].KeyHash() {
				continue
			}
			out, grown = append(out, next), true
			break
		}
		if !grown {
			break
		}
	}
	return out
}
