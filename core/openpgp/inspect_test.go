package openpgp_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// told puts an inspection into one text.
func told(a *openpgp.Inspection) string {
	var b strings.Builder
	b.WriteString(a.Kind + "\n" + strings.Join(a.Notes, "\n") + "\n")
	for _, p := range a.Packets {
		b.WriteString(p.Kind + "\n")
		for _, f := range p.Facts {
			b.WriteString("  " + f.Name + ": " + f.Value + "\n")
		}
		for _, o := range p.Odd {
			b.WriteString("  ! " + o + "\n")
		}
	}
	return b.String()
}

func TestInspect(t *testing.T) {
	key := simple("inspect", pgptest.Ed25519)
	sub := pgptest.NewKey("inspect, sub", pgptest.Brainpool256, born)
	key.Subkey(
		sub,
		pgptest.Sig{
			Created: born,
			Hashed: []pgptest.Sub{
				pgptest.Flags(pgptest.MaySign), {Type: 20, Body: append([]byte{0x80, 0, 0, 0, 0, 3, 0, 2}, "a@bhi"...)},
			},
		},
		&pgptest.Sig{Created: born},
	)
	revoked := pgptest.NewCertificate(key.Primary).Key(
		key.Primary,
		pgptest.Sig{
			Type: pgptest.KeyRevocation, Created: signedAt, Hashed: []pgptest.Sub{pgptest.Reason(2, "lost \x1b[31m")},
		},
	).
		UserID("R", pgptest.Sig{Created: born, Hash: pgptest.SHA1})
	spec := pgptest.Sig{Created: signedAt}
	message := pgptest.Compressed(pgptest.Message([]byte("x"), spec, key.Primary))
	critical := key.Primary.Sign(
		document, pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{{Type: 100, Critical: true, Body: []byte{1}}}},
	)
	for name, test := range map[string]struct {
		data []byte
		kind string
		says []string
	}{
		"a key":            {key.Armored(), "public key", []string{"Armored block: PGP PUBLIC KEY BLOCK.", "ECDSA brainpoolP256r1", "key flags: sign", "notation: a@b = hi", "embedded signature", "its subkey is bound to it", "it may certify and sign"}},
		"a revoked key":    {revoked.Bytes(), "public key", []string{"compromised: lost \\x1b[31m", "SHA-1 is weak.", "its owner revoked it on 2025-06-01"}},
		"a secret key":     {key.Secret(), "packets", []string{"may be able to sign in its owner's name"}},
		"an old key":       {pgptest.NewCertificate(pgptest.NewKey3("old", born)).Bytes(), "public key", []string{"version: 3", "fingerprint can be forged"}},
		"a signature":      {key.Primary.Sign(document, spec), "signature", []string{"type: binary document (0x00)", "Ed25519 with SHA-256", "issuer fingerprint", "issuer key ID (not signed)"}},
		"a critical part":  {critical, "signature", []string{"subpacket type 100 (private use), critical: 01", "counts for nothing"}},
		"version 6":        {six("i", pgptest.Ed448).Primary.Sign(document, spec), "signature", []string{"salt: 32 bytes"}},
		"a message":        {message, "message", []string{"expands to", "literal data", "announces"}},
		"a signed text":    {append([]byte("before\n"), pgptest.Cleartext("hello", spec, key.Primary)...), "signed text", []string{"There is text before the frame; nobody signed it.", "text document (0x01)"}},
		"a broken frame":   {[]byte("-----BEGIN PGP SIGNED MESSAGE-----\n\nx\n"), "signed text", []string{"cut short"}},
		"cut short":        {key.Bytes()[:100], "public key", []string{"It cannot be read further"}},
		"unknown, skipped": {append([]byte{0xfe, 1, 0}, key.Primary.Sign(document, spec)...), "signature", []string{"it may be passed over"}},
	} {
		a, err := openpgp.Inspect(test.data, rules())
		require.NoError(t, err, name)
		assert.Equal(t, test.kind, a.Kind, name)
		text := told(a)
		for _, s := range test.says {
			assert.Contains(t, text, s, name)
		}
		assert.NotContains(t, text, "\x1b", "%s: what comes from outside is harmless", name)
	}
	for _, data := range [][]byte{nil, []byte("text"), []byte("%PDF-1.7")} {
		_, err := openpgp.Inspect(data, rules())
		var empty *openpgp.EmptyError
		assert.ErrorAs(t, err, &empty)
	}
	a, err := openpgp.Inspect(key.Bytes(), rules())
	require.NoError(t, err)
	framed, err := openpgp.Inspect(pgptest.Cleartext("one\x07\ntwo", spec, key.Primary), rules())
	require.NoError(t, err)
	assert.Equal(t, "one\\x07\ntwo", framed.Text)
	at := 0
	for _, p := range a.Packets {
		assert.Equal(t, at, p.Offset, "packets follow each other")
		at += p.Length
	}
	assert.Equal(t, len(key.Bytes()), at)
	assert.True(t, bytes.Contains(key.Bytes(), []byte("Tidewright")))
}

func FuzzInspect(f *testing.F) {
	key := simple("inspect", pgptest.P256)
	f.Add(key.Bytes())
	f.Add(key.Armored())
	f.Add(
		key.Primary.Sign(
			document, pgptest.Sig{Created: signedAt, Hashed: []pgptest.Sub{pgptest.Reason(1, "x"), pgptest.Flags(3)}},
		),
	)
	f.Add(pgptest.Compressed(pgptest.Message([]byte("x"), pgptest.Sig{Created: signedAt}, key.Primary)))
	f.Add(pgptest.NewCertificate(pgptest.NewKey6("six", pgptest.Ed25519, born)).Bytes())
	f.Fuzz(func(t *testing.T, data []byte) {
		if a, err := openpgp.Inspect(data, rules()); err == nil && a.Kind == "" {
			t.Fatal("an account of nothing")
		}
	})
}
