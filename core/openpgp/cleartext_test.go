package openpgp_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// held verifies every signature of a cleartext frame.
func held(t require.TestingT, frame []byte, cert *openpgp.Certificate) (*openpgp.Cleartext, []openpgp.Status) {
	c, err := openpgp.ReadCleartext(frame)
	require.NoError(t, err)
	var out []openpgp.Status
	for _, s := range c.Signatures {
		doc, err := c.Document(s)
		if err != nil {
			out = append(out, openpgp.Unsupported)
			continue
		}
		out = append(
			out, openpgp.Verify(s, doc, []openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, rules()).Status,
		)
	}
	return c, out
}

func TestCleartext(t *testing.T) {
	made := simple("cleartext", pgptest.Ed25519)
	cert := readCert(t, made.Bytes())
	spec := pgptest.Sig{Created: signedAt}
	text := "From the maintainers  \n\n- a list\n-----BEGIN PGP SIGNATURE-----\nlast\t"
	frame := pgptest.Cleartext(text, spec, made.Primary)
	c, status := held(t, frame, cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status)
	assert.Equal(t, "From the maintainers\n\n- a list\n-----BEGIN PGP SIGNATURE-----\nlast", string(c.Text))
	assert.Equal(t, 4, c.FirstLine)
	assert.Empty(t, c.Outside)

	// Mail changes line endings and adds white space; neither is signed.
	_, status = held(t, bytes.ReplaceAll(frame, []byte("\n"), []byte("\r\n")), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status)
	_, status = held(t, bytes.Replace(frame, []byte("maintainers  "), []byte("maintainers \t "), 1), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status)
	_, status = held(t, bytes.Replace(frame, []byte("maintainers"), []byte("pretenders"), 1), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Invalid}, status)
	_, status = held(t, bytes.Replace(frame, []byte("Hash: SHA256\n"), nil, 1), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status, "the Hash header is a hint")
	_, status = held(t, bytes.Replace(frame, []byte("Hash: SHA256"), []byte("Hash: MD5, SHA3-256"), 1), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status, "a forged one changes nothing")

	other := simple("another maintainer", pgptest.P256)
	_, status = held(t, pgptest.Cleartext(text, spec, made.Primary, other.Primary), cert)
	assert.Equal(t, []openpgp.Status{openpgp.Valid, openpgp.Invalid}, status, "each signature by itself")
	v6 := six("cleartext", pgptest.Ed25519)
	_, status = held(t, pgptest.Cleartext(text, spec, v6.Primary), readCert(t, v6.Bytes()))
	assert.Equal(t, []openpgp.Status{openpgp.Valid}, status)

	for place, around := range map[string][2]string{"before the frame": {"added\n", ""}, "behind the frame": {"", "added\n"}, "before the frame and behind it": {"x\n", "y"}} {
		c, status := held(t, []byte(around[0]+string(frame)+around[1]), cert)
		assert.Equal(t, []openpgp.Status{openpgp.Valid}, status)
		assert.Equal(t, place, c.Outside)
		assert.NotContains(t, string(c.Text), "added", "text outside is never part of it")
	}
}

// TestCleartextThatIsRefused: what was signed would not be certain.
func TestCleartextThatIsRefused(t *testing.T) {
	made := simple("cleartext", pgptest.Ed25519)
	frame := string(pgptest.Cleartext("one\ntwo", pgptest.Sig{Created: signedAt}, made.Primary))
	signature := frame[strings.Index(frame, "-----BEGIN PGP SIGNATURE"):]
	for name, test := range map[string]struct{ text, says string }{
		"two frames":              {frame + frame, "second frame"},
		"a frame within":          {strings.Replace(frame, "two", "-----BEGIN PGP SIGNED MESSAGE-----", 1), "a dash that is not escaped"},
		"a dash, not escaped":     {strings.Replace(frame, "two", "-two", 1), "a dash that is not escaped"},
		"another header":          {strings.Replace(frame, "Hash: SHA256", "Comment: all of this is signed", 1), "has no place here"},
		"a hash that is none":     {strings.Replace(frame, "Hash: SHA256", "Hash: SHA256 and all that follows", 1), "does not name hash algorithms"},
		"a hash in other letters": {strings.Replace(frame, "Hash: SHA256", "Hash: sha256", 1), "does not name hash algorithms"},
		"an empty list":           {strings.Replace(frame, "Hash: SHA256", "Hash: SHA256,,", 1), "does not name hash algorithms"},
		"a line behind it":        {strings.Replace(frame, "Hash: SHA256", "Hash: SHA256\nHash: pay to Mallory", 1), "does not name hash algorithms"},
		"no space":                {strings.Replace(frame, "Hash: SHA256", "Hash:SHA256", 1), "has no place here"},
		"no value":                {strings.Replace(frame, "Hash: SHA256", "Hash: ", 1), "has no place here"},
		"no empty line":           {strings.Replace(frame, "\n\none", "\none", 1), "has no place here"},
		"no signature":            {strings.TrimSuffix(frame, signature), "cut short"},
		"half a signature":        {frame[:len(frame)-60], "cut short"},
		"text between signatures": {frame + "added\n" + signature, "text between"},
		"no frame":                {"just text\n", "no OpenPGP signed text"},
		"nothing":                 {"", "no OpenPGP signed text"},
	} {
		_, err := openpgp.ReadCleartext([]byte(test.text))
		assert.ErrorContains(t, err, test.says, name)
	}
	// A signature over bytes does not cover a text in a frame.
	binary := strings.Replace(
		frame, signature,
		string(pgptest.Armor("PGP SIGNATURE", made.Primary.Sign([]byte("one\r\ntwo"), pgptest.Sig{Created: signedAt}))),
		1,
	)
	_, status := held(t, []byte(binary), readCert(t, made.Bytes()))
	assert.Equal(t, []openpgp.Status{openpgp.Unsupported}, status)
}

// TestAnyTextSurvivesTheFrame holds for any text that it comes out as signed.
func TestAnyTextSurvivesTheFrame(t *testing.T) {
	made := simple("cleartext", pgptest.Ed25519)
	cert := readCert(t, made.Bytes())
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOf(rapid.StringMatching(`[-a-z \t]{0,8}`)).Draw(t, "lines"), "\n")
		c, status := held(t, pgptest.Cleartext(text, pgptest.Sig{Created: signedAt}, made.Primary), cert)
		if status[0] != openpgp.Valid {
			t.Fatalf("%q: %s", text, status[0])
		}
		var want []string
		for _, line := range strings.Split(text, "\n") {
			want = append(want, strings.TrimRight(line, " \t"))
		}
		if string(c.Text) != strings.Join(want, "\n") {
			t.Fatalf("%q came out as %q", text, c.Text)
		}
	})
}

func FuzzReadCleartext(f *testing.F) {
	made := simple("cleartext", pgptest.Ed25519)
	f.Add(pgptest.Cleartext("one\n- two\n-three ", pgptest.Sig{Created: signedAt}, made.Primary))
	f.Add(
		[]byte(
			"-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n-\n-----BEGIN PGP SIGNATURE-----\n\n-----END PGP SIGNATURE-----",
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		c, err := openpgp.ReadCleartext(data)
		if err != nil {
			return
		}
		if len(c.Signatures) == 0 || len(c.Text) > len(data) {
			t.Fatalf("%d signatures, %d bytes of %d", len(c.Signatures), len(c.Text), len(data))
		}
		for _, s := range c.Signatures {
			c.Document(s)
		}
	})
}
