package main

import (
	"bytes"
	"encoding/binary"
	"time"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// hostileKeys imports files that are made to cost: of about a MiB, for which an import may
// spend two seconds of a core.
func hostileKeys(string) ([]row, error) {
	const aim, forgeries = 2 * time.Second, 300
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	maySign := []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}
	attribute := append(
		binary.BigEndian.AppendUint32([]byte{255}, 900<<10),
		append([]byte{100}, make([]byte, 900<<10-1)...)...)
	forge := func(made *pgptest.Certificate, n int) *pgptest.Certificate {
		stranger := pgptest.NewKey("the stranger", made.Primary.Algorithm, born)
		issuer := append([]byte{4}, openpgp.Fingerprint(made.Primary.Fingerprint()).Bytes()...)
		if len(issuer) > 21 {
			issuer[0] = 6
			stranger = pgptest.NewKey6("the stranger", made.Primary.Algorithm, born)
		}
		for i := range n {
			made.Add(stranger.Sign([]byte("junk"), pgptest.Sig{
				Type:     pgptest.Certification,
				Created:  born.Add(time.Duration(i) * time.Second),
				NoIssuer: true,
				Hashed:   []pgptest.Sub{{Type: 33, Body: issuer}},
			}))
		}
		return made
	}
	simple := func(key *pgptest.Key) *pgptest.Certificate {
		return pgptest.NewCertificate(key).UserID("Crowded", pgptest.Sig{Created: born, Hashed: maySign})
	}
	var out []row
	for _, file := range []struct {
		name string
		made *pgptest.Certificate
	}{
		{"a user ID of 1 MiB and 300 forged signatures on it", forge(pgptest.NewCertificate(pgptest.NewKey("long", pgptest.Ed25519, born)).UserID(string(bytes.Repeat([]byte("x"), 1<<20)), pgptest.Sig{Created: born, Hashed: maySign}), forgeries)},
		{"an attribute of 900 KiB and 300 forged signatures on it", forge(simple(pgptest.NewKey("wide", pgptest.Ed25519, born)).Add(pgptest.Packet(17, attribute)), forgeries)},
		{"the same, each of which begins with a salt of its own", forge(simple(pgptest.NewKey6("salted", pgptest.Ed25519, born)).Add(pgptest.Packet(17, attribute)), forgeries)},
		{"2,000 forged signatures by a key of 4,096 bits", forge(simple(pgptest.NewKey("heavy", pgptest.RSA4096, born)), 2000)},
	} {
		data := file.made.Bytes()
		start := used()
		certs, _, err := openpgp.ReadCertificates(data)
		if err != nil {
			return nil, err
		}
		for _, c := range certs {
			c.Vet(openpgp.NewEffort(aim*time.Duration(1+len(data)>>20)), nil)
		}
		took := used() - start
		out = append(
			out,
			row{
				work: "a key to import: " + file.name, floor: "a core for so long for each MiB",
				aim: "≤ " + aim.String(), ours: took, against: aim, reached: took <= aim*time.Duration(1+len(data)>>20),
				figure: round(took),
			},
		)
	}
	return out, nil
}
