package survey

import (
	"bytes"
	"errors"
	"slices"

	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// A TextKind says what a text is.
type TextKind string

// The kinds of text.
const (
	// NothingText has no digest, no signature and no key in it.
	NothingText   TextKind = "nothing"
	SignedText    TextKind = "signed-text"
	KeyText       TextKind = "key"
	SignatureText TextKind = "signature"
	// ValueText is one digest without a file name.
	ValueText TextKind = "value"
	ListText  TextKind = "list"
	// ReceiptText is a receipt or a checkpoint of a ledger.
	ReceiptText TextKind = "receipt"
)

// TextKinds lists them.
func TextKinds() []TextKind {
	return []TextKind{NothingText, SignedText, KeyText, SignatureText, ValueText, ListText, ReceiptText}
}

// A recognised is what the content of a file or a text was taken for: the one decision
// that surveys, [Recognise] and texts that are handed over share.
type recognised struct {
	kind TextKind
	// list is what was read of a text or of what signatures are around, and listErr what
	// stopped the reading.
	list    *manifest.Manifest
	listErr error
	// enclosure and sigs are those around a signed text, and sigs those of a signature file.
	enclosure Enclosure
	sigs      []*openpgp.Signature
	// frameErr says why the frame of a signed text cannot be read.
	frameErr error
	// sigErr says why it is no file of signatures.
	sigErr error
	// fingerprint is that of the first key, and secret is set for a secret one.
	fingerprint openpgp.Fingerprint
	secret      bool
	// proof is what it is of a ledger.
	proof ledger.Proof
}

// recogniseContent tells what content is: by its frame, by its packets, and else as a list.
func recogniseContent(content []byte, opts func() manifest.Options) recognised {
	if openpgp.IsCleartext(content) {
		return recogniseFrame(content, opts())
	}
	if openpgp.IsMessage(content) {
		if r, ok := recogniseSignedMessage(content, opts()); ok {
			return r
		}
	}
	var r recognised
	if r.proof = ledger.ProofIn(content); r.proof != ledger.NoProof {
		r.kind = ReceiptText
		return r
	}
	if r.sigs, r.sigErr = openpgp.ReadSignatures(content); r.sigErr == nil && len(r.sigs) > 0 {
		r.kind = SignatureText
		return r
	}
	certificates, _, keyErr := openpgp.ReadCertificates(content)
	var secret *openpgp.SecretKeyError
	if r.secret = errors.As(keyErr, &secret); r.secret || keyErr == nil {
		r.kind = KeyText
		if len(certificates) > 0 {
			r.fingerprint = certificates[0].Primary.Fingerprint
		}
		return r
	}
	r.list, r.listErr = manifest.Parse(string(content), opts())
	r.kind = kindOfList(r.list)
	return r
}

// kindOfList tells a list from one value and from nothing.
func kindOfList(list *manifest.Manifest) TextKind {
	switch n := list.Entries.Len(); {
	case n == 0:
		return NothingText
	case n == 1 && list.Entries.At(0).Name == "":
		return ValueText
	}
	return ListText
}

// recogniseFrame reads a text with signatures around it.
func recogniseFrame(content []byte, opts manifest.Options) recognised {
	r := recognised{kind: SignedText, enclosure: Cleartext}
	signed, err := openpgp.ReadCleartext(content)
	if err != nil {
		r.frameErr = err
		return r
	}
	r.sigs = signed.Signatures
	r.list, r.listErr = readSigned(signed, opts)
	return r
}

// recogniseSignedMessage reads a signed message whose content is a list.
func recogniseSignedMessage(content []byte, opts manifest.Options) (r recognised, ok bool) {
	m, err := openpgp.ReadMessage(content)
	if err != nil || len(m.Signatures) == 0 {
		return r, false // it is told as a signature file that is none
	}
	r = recognised{kind: SignedText, enclosure: Message, sigs: m.Signatures}
	r.list, r.listErr = readSigned(&openpgp.Cleartext{Text: m.Content, FirstLine: 1}, opts)
	return r, r.list.Entries.Len() > 0
}

// Recognised is what a text was taken for that somebody handed over.
type Recognised struct {
	Kind TextKind `json:"kind"`
	// Says is, of a value, what it is taken for, of a key its fingerprint, and of a receipt
	// whether it is one or a checkpoint.
	Says string `json:"says"`
	// Entries counts the digests in it.
	Entries int `json:"entries"`
	// Marks are the places in the text of what was read, in their order.
	Marks []Mark `json:"marks"`
	// More counts those that are not among the marks.
	More int `json:"more,omitempty"`
}

// A Mark is a place in a text, and what was made of it.
type Mark struct {
	// Start and End are counted in bytes of the text in UTF-8, from 0.
	Start int `json:"start"`
	End   int `json:"end"`
	Line  int `json:"line"`
	// Kind says what was made of it, and Says is for people.
	Kind MarkKind `json:"kind"`
	Says string   `json:"says"`
}

// A MarkKind is what was made of a place in a text.
type MarkKind string

// What places are: an entry, something that cannot be used, and something that is told and
// decides nothing.
const (
	EntryMark   MarkKind = "entry"
	ProblemMark MarkKind = "problem"
	AsideMark   MarkKind = "aside"
)

// MarkKinds lists them.
func MarkKinds() []MarkKind { return []MarkKind{EntryMark, ProblemMark, AsideMark} }

// maxMarks bounds the places that are told.
const maxMarks = 500

// Usable reports whether a text says anything about a file.
func (r *Recognised) Usable() bool {
	return r.Kind == SignedText || r.Kind == SignatureText || r.Kind == ValueText || r.Kind == ListText
}

// Recognise tells what a text is that somebody handed over on purpose, as a survey takes
// it. It returns what [manifest.Parse] does for one that is too long.
func Recognise(text []byte) (Recognised, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		return Recognised{Kind: NothingText, Marks: []Mark{}}, nil
	}
	r := recogniseContent(text, func() manifest.Options { return manifest.Options{Given: true} })
	out := Recognised{Kind: r.kind, Says: string(r.fingerprint), Marks: []Mark{}}
	if r.kind == ReceiptText {
		out.Says = string(r.proof)
	}
	if r.list != nil {
		out.Entries = r.list.Entries.Len()
		r.list.Locate(string(text))
		out.mark(r.list)
	}
	if r.kind == ValueText {
		out.Says = r.list.Entries.At(0).Recognised()
	}
	return out, r.listErr
}

// mark notes the places of what was read.
func (r *Recognised) mark(list *manifest.Manifest) {
	add := func(m Mark) {
		if len(r.Marks) == maxMarks {
			r.More++
			return
		}
		r.Marks = append(r.Marks, m)
	}
	for _, e := range list.Entries.All() {
		says := e.Recognised()
		if e.Name != "" {
			says += ", of " + plain.Text(e.Name)
		}
		kind := EntryMark
		switch {
		case e.Question != "":
			kind, says = AsideMark, e.Question+"; it is compared all the same"
		case e.Guessed.Has(manifest.DigestPart):
			kind, says = AsideMark, says+"; nothing calls it a checksum, so that it is tried and decides nothing"
		}
		add(Mark{Start: e.Span().Start, End: e.Span().End, Line: e.Line, Kind: kind, Says: says})
	}
	for _, p := range list.Problems {
		add(Mark{Start: p.Span.Start, End: p.Span.End, Line: p.Line, Kind: ProblemMark, Says: p.Message})
	}
	for _, a := range list.LeftAside {
		add(Mark{Start: a.Span.Start, End: a.Span.End, Line: a.Line, Kind: AsideMark, Says: a.Why})
	}
	slices.SortStableFunc(r.Marks, func(a, b Mark) int { return a.Start - b.Start })
}
