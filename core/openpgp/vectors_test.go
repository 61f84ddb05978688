package openpgp_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/openpgp"
)

// The version 6 samples of RFC 9580: the certificate of appendix A.3, the
// cleartext message of A.6 and the signed message of A.7. They were made by
// other hands than ours, and check themselves by their cryptography.
const (
	rfcCertificate6 = `-----BEGIN PGP PUBLIC KEY BLOCK-----

xioGY4d/4xsAAAAg+U2nu0jWCmHlZ3BqZYfQMxmZu52JGggkLq2EVD34laPCsQYf
GwoAAABCBYJjh3/jAwsJBwUVCg4IDAIWAAKbAwIeCSIhBssYbE8GCaaX5NUt+mxy
KwwfHifBilZwj2Ul7Ce62azJBScJAgcCAAAAAK0oIBA+LX0ifsDm185Ecds2v8lw
gyU2kCcUmKfvBXbAf6rhRYWzuQOwEn7E/aLwIwRaLsdry0+VcallHhSu4RN6HWaE
QsiPlR4zxP/TP7mhfVEe7XWPxtnMUMtf15OyA51YBM4qBmOHf+MZAAAAIIaTJINn
+eUBXbki+PSAld2nhJh/LVmFsS+60WyvXkQ1wpsGGBsKAAAALAWCY4d/4wKbDCIh
BssYbE8GCaaX5NUt+mxyKwwfHifBilZwj2Ul7Ce62azJAAAAAAQBIKbpGG2dWTX8
j+VjFM21J0hqWlEg+bdiojWnKfA5AQpWUWtnNwDEM0g12vYxoWM8Y81W+bHBw805
I8kWVkXU6vFOi+HWvv/ira7ofJu16NnoUkhclkUrk0mXubZvyl4GBg==
-----END PGP PUBLIC KEY BLOCK-----
`
	rfcCleartext6 = `-----BEGIN PGP SIGNED MESSAGE-----

What we need from the grocery store:

- - tofu
- - vegetables
- - noodles

-----BEGIN PGP SIGNATURE-----

wpgGARsKAAAAKQWCY5ijYyIhBssYbE8GCaaX5NUt+mxyKwwfHifBilZwj2Ul7Ce6
2azJAAAAAGk2IHZJX1AhiJD39eLuPBgiUU9wUA9VHYblySHkBONKU/usJ9BvuAqo
/FvLFuGWMbKAdA+epq7V4HOtAPlBWmU8QOd6aud+aSunHQaaEJ+iTFjP2OMW0KBr
NK2ay45cX1IVAQ==
-----END PGP SIGNATURE-----
`
	rfcMessage6 = `-----BEGIN PGP MESSAGE-----

xEYGAQobIHZJX1AhiJD39eLuPBgiUU9wUA9VHYblySHkBONKU/usyxhsTwYJppfk
1S36bHIrDB8eJ8GKVnCPZSXsJ7rZrMkBy0p1AAAAAABXaGF0IHdlIG5lZWQgZnJv
bSB0aGUgZ3JvY2VyeSBzdG9yZToKCi0gdG9mdQotIHZlZ2V0YWJsZXMKLSBub29k
bGVzCsKYBgEbCgAAACkFgmOYo2MiIQbLGGxPBgmml+TVLfpscisMHx4nwYpWcI9l
JewnutmsyQAAAABpNiB2SV9QIYiQ9/Xi7jwYIlFPcFAPVR2G5ckh5ATjSlP7rCfQ
b7gKqPxbyxbhljGygHQPnqau1eBzrQD5QVplPEDnemrnfmkrpx0GmhCfokxYz9jj
FtCgazStmsuOXF9SFQE=
-----END PGP MESSAGE-----
`
	rfcText = "What we need from the grocery store:\n\n- tofu\n- vegetables\n- noodles\n"
)

// rfcRules judge at a time when the samples had been made.
func rfcRules() openpgp.Rules {
	r := rules()
	r.Now = time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)
	return r
}

func TestStandardCertificate6(t *testing.T) {
	cert := readCert(t, []byte(rfcCertificate6))
	assert.EqualValues(t, "cb186c4f0609a697e4d52dfa6c722b0c1f1e27c18a56708f6525ec27bad9acc9", cert.Primary.Fingerprint)
	assert.Equal(t, "CB186C4F0609A697", cert.Primary.KeyID.String())
	assert.Equal(t, time.Date(2022, 11, 30, 16, 8, 3, 0, time.UTC), cert.Primary.Created)
	expires, ok := cert.Expires(rfcRules())
	require.True(t, ok, "the direct-key signature holds")
	assert.Nil(t, expires)
	assert.Equal(t, []string{"certify", "sign"}, cert.Uses(cert.Primary, rfcRules()))
	require.Len(t, cert.Subkeys, 1)
	assert.Equal(t, "X25519", cert.Subkeys[0].Key.Describe())
	assert.Equal(t, []string{"encrypt"}, cert.Uses(cert.Subkeys[0].Key, rfcRules()), "the binding holds")
}

func TestStandardCleartext6(t *testing.T) {
	cert := readCert(t, []byte(rfcCertificate6))
	for name, test := range map[string]struct {
		text string
		want openpgp.Status
	}{
		"as printed":          {rfcCleartext6, openpgp.Valid},
		"with CR LF":          {strings.ReplaceAll(rfcCleartext6, "\n", "\r\n"), openpgp.Valid},
		"with trailing space": {strings.Replace(rfcCleartext6, "tofu\n", "tofu  \t\n", 1), openpgp.Valid},
		"another word":        {strings.Replace(rfcCleartext6, "tofu", "tuna", 1), openpgp.Invalid},
		"a line less":         {strings.Replace(rfcCleartext6, "- - noodles\n", "", 1), openpgp.Invalid},
	} {
		c, err := openpgp.ReadCleartext([]byte(test.text))
		require.NoError(t, err, name)
		require.Len(t, c.Signatures, 1, name)
		assert.Equal(t, test.want, over(t, c.Signatures[0], c.Text, cert).Status, name)
	}
}

func TestStandardMessage6(t *testing.T) {
	cert := readCert(t, []byte(rfcCertificate6))
	m, err := openpgp.ReadMessage([]byte(rfcMessage6))
	require.NoError(t, err)
	assert.Equal(t, rfcText, string(m.Content))
	require.Len(t, m.Signatures, 1)
	assert.Equal(t, openpgp.Valid, over(t, m.Signatures[0], m.Content, cert).Status)
	assert.Equal(t, openpgp.Invalid, over(t, m.Signatures[0], m.Content[1:], cert).Status)
	_, err = openpgp.ReadSignatures([]byte(rfcMessage6))
	assert.Error(t, err, "it is never taken for a detached signature")
}

// over verifies one signature over content by the certificate's primary key.
func over(t *testing.T, s *openpgp.Signature, content []byte, cert *openpgp.Certificate) openpgp.Result {
	h, err := s.NewHash()
	require.NoError(t, err)
	h.Write(content)
	return openpgp.Verify(
		s, openpgp.Document{Digest: s.Finish(h), NotText: openpgp.NotText(h)},
		[]openpgp.Candidate{{Certificate: cert, Key: cert.Primary}}, rfcRules(),
	)
}
