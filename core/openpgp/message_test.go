package openpgp_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

func TestMessages(t *testing.T) {
	made := simple("message", pgptest.Ed25519)
	cert := readCert(t, made.Bytes())
	content := bytes.Repeat([]byte("9f86d081  gauge.img\n"), 200)
	spec := pgptest.Sig{Created: signedAt}
	signed := pgptest.Message(content, spec, made.Primary)
	sig := made.Primary.Sign(content, spec)
	literal := pgptest.Literal("", content)
	onePass := signed[:bytes.Index(signed, literal)]
	for name, data := range map[string][]byte{
		"one-pass":             signed,
		"armored":              pgptest.Armor("PGP MESSAGE", signed),
		"compressed":           pgptest.Compressed(signed),
		"compressed inside":    append(append(bytes.Clone(onePass), pgptest.Compressed(literal)...), sig...),
		"signature in front":   append(bytes.Clone(sig), literal...),
		"in parts":             append(append(bytes.Clone(onePass), pgptest.Partial(11, literal[3:])...), sig...),
		"over text":            pgptest.Message(content, pgptest.Sig{Type: pgptest.Text, Created: signedAt}, made.Primary),
		"by two":               pgptest.Message(content, spec, simple("other", pgptest.P256).Primary, made.Primary),
		"compressed, compress": pgptest.Compressed(pgptest.Compressed(signed)),
	} {
		assert.True(t, openpgp.IsMessage(data), name)
		m, err := openpgp.ReadMessage(data)
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(content, m.Content), name)
		valid := 0
		for _, s := range m.Signatures {
			doc, err := m.Document(s)
			require.NoError(t, err)
			if openpgp.Verify(
				s, doc, []openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, rules(),
			).Status == openpgp.Valid {
				valid++
			}
		}
		assert.Equal(t, 1, valid, name)
		_, err = openpgp.ReadSignatures(data)
		assert.Error(t, err, "%s is never taken for a detached signature", name)
	}

	deep := signed
	for range 12 {
		deep = pgptest.Compressed(deep)
	}
	bomb := pgptest.Compressed(pgptest.Literal("", make([]byte, 65<<20)))
	for name, test := range map[string]struct {
		data []byte
		says string
	}{
		"two contents":             {append(bytes.Clone(signed), literal...), "leaves open what was signed"},
		"announced and not there":  {signed[:len(signed)-len(sig)], "1 signatures are announced and 0 follow"},
		"there and not announced":  {append(bytes.Clone(literal), sig...), "0 signatures are announced and 1 follow"},
		"a key among it":           {append(made.Bytes(), signed...), "leaves open what was signed"},
		"inside and around":        {append(append(bytes.Clone(onePass), pgptest.Compressed(signed)...), sig...), "leaves open what was signed"},
		"nested":                   {deep, "nested more than 8 deep"},
		"expands without end":      {bomb, "expands to more than 64 MiB"},
		"no content":               {onePass, "it has no content"},
		"encrypted":                {append([]byte{0xd2, 3, 1, 2, 3}, signed...), "encrypted data"},
		"cut short":                {signed[:len(signed)-5], "only"},
		"damaged compression":      {pgptest.Packet(8, []byte{2, 1, 2, 3}), "the compression is damaged"},
		"unknown compression":      {pgptest.Packet(8, []byte{9, 1, 2, 3}), "compression algorithm 9"},
		"armor of something else":  {pgptest.Armor("PGP SIGNATURE", sig), "not one block"},
		"a part of a length of 32": {append([]byte{0xcb, 224 + 5}, make([]byte, 40)...), "shorter than 512"},
	} {
		_, err := openpgp.ReadMessage(test.data)
		assert.ErrorContains(t, err, test.says, name)
	}
	for name, data := range map[string][]byte{"a key": made.Bytes(), "a signature": sig, "an armored signature": pgptest.Armor("PGP SIGNATURE", sig), "text": []byte("text"), "nothing": nil} {
		assert.False(t, openpgp.IsMessage(data), name)
	}
}

func FuzzReadMessage(f *testing.F) {
	made := simple("message", pgptest.Ed25519)
	signed := pgptest.Message([]byte("content"), pgptest.Sig{Created: signedAt}, made.Primary)
	f.Add(signed)
	f.Add(pgptest.Compressed(signed))
	f.Add(pgptest.Armor("PGP MESSAGE", signed))
	f.Add(pgptest.Partial(11, append([]byte{'b', 0, 0, 0, 0, 0}, make([]byte, 700)...)))
	f.Fuzz(func(t *testing.T, data []byte) {
		openpgp.IsMessage(data)
		m, err := openpgp.ReadMessage(data)
		if err != nil {
			return
		}
		for _, s := range m.Signatures {
			m.Document(s)
		}
	})
}
