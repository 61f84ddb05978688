package survey

import (
	"bytes"

	"endeixis/core/manifest"
	"endeixis/core/openpgp"
)

// A TextKind says what a text is that somebody pasted.
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
)

// Recognised is what a pasted text was taken for.
type Recognised struct {
	Kind TextKind `json:"kind"`
	// Says is, of a value, what it is taken for, and of a key its fingerprint.
	Says string `json:"says"`
	// Entries counts the digests in it.
	Entries int `json:"entries"`
}

// Recognise tells what a text is. It returns what [manifest.Parse] does for one that is
// too long.
func Recognise(text []byte) (Recognised, error) {
	if len(bytes.TrimSpace(text)) == 0 {
		return Recognised{Kind: NothingText}, nil
	}
	if signed, err := openpgp.ReadCleartext(text); err == nil {
		m, _ := manifest.Parse(string(signed.Text), manifest.Options{})
		return Recognised{Kind: SignedText, Entries: m.Entries.Len()}, nil
	}
	if certificates, _, err := openpgp.ReadCertificates(text); err == nil && len(certificates) > 0 {
		return Recognised{Kind: KeyText, Says: string(certificates[0].Primary.Fingerprint)}, nil
	}
	if sigs, err := openpgp.ReadSignatures(text); err == nil && len(sigs) > 0 {
		return Recognised{Kind: SignatureText}, nil
	}
	m, err := manifest.Parse(string(text), manifest.Options{})
	if err != nil {
		return Recognised{}, err
	}
	switch n := m.Entries.Len(); {
	case n == 0:
		return Recognised{Kind: NothingText}, nil
	case n == 1 && m.Entries.At(0).Name == "":
		return Recognised{Kind: ValueText, Says: m.Entries.At(0).Recognised(), Entries: 1}, nil
	default:
		return Recognised{Kind: ListText, Entries: n}, nil
	}
}
