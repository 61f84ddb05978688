package ledger

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"strings"

	"golang.org/x/mod/sumdb/note"
)

// An Answer is what an audit of a ledger came to, for who has asked with a nonce. Its signed
// form is a note; docs/formats.md has its lines. Only who has the ledger's key can make one,
// and one that was made for another question is none for this.
type Answer struct {
	Nonce string
	// Size and Root are those of the tree that was recomputed; of one that does not hold they
	// say how far it came.
	Size int64
	Root string
	// From is where it began: at 0, or where an earlier audit that held had ended.
	From int64
	// Holds is set where everything was as it was written.
	Holds bool
	// Said is the digest over what was said of it, see [SaidOf].
	Said string
}

const answerHead = "endeixis audit 2"

// SaidOf returns the digest over the sentence of an answer, the first record that differs, and
// the differences that were named.
func SaidOf(sentence string, position int64, differences []string) (string, error) {
	if differences == nil {
		differences = []string{}
	}
	text, err := json.Marshal([]any{sentence, position, differences})
	return fmt.Sprintf("%x", sha256.Sum256(text)), err
}

func (a Answer) text() string {
	outcome := "broken"
	if a.Holds {
		outcome = "holds"
	}
	return fmt.Sprintf(
		"%s\nnonce %s\nfrom %d\nsize %d\nroot %s\noutcome %s\nsaid %s\n", answerHead, a.Nonce, a.From, a.Size, a.Root,
		outcome, a.Said,
	)
}

// Sign returns the signed form.
func (a Answer) Sign(signer note.Signer) (string, error) {
	if strings.ContainsAny(a.Nonce+a.Root+a.Said, " \n\r") {
		return "", fmt.Errorf("a value of the answer has more than a word")
	}
	signed, err := note.Sign(&note.Note{Text: a.text()}, signer)
	return string(signed), err
}

// An AnswerError reports an answer that cannot be believed.
type AnswerError struct{ Reason string }

// Error says why.
func (e *AnswerError) Error() string { return "the answer cannot be believed: " + e.Reason }

// Check returns an [*AnswerError] where a signed answer is not exactly this one, by a key of
// the ledger.
func (a Answer) Check(signed string, known ...note.Verifier) error {
	if signed == "" {
		return &AnswerError{"it is not signed"}
	}
	n, err := note.Open([]byte(signed), note.VerifierList(known...))
	if err != nil {
		return &AnswerError{"it was not signed by the key of this ledger, or was changed"}
	}
	if n.Text == a.text() {
		return nil
	}
	if !strings.Contains(n.Text, "\nnonce "+a.Nonce+"\n") {
		return &AnswerError{"it was made for another question"}
	}
	return &AnswerError{"what was signed is not what was told"}
}
