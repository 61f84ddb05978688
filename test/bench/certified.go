package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"time"

	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/wire"
)

// certifiedKeys fills a keyring with 10,000 certificates of 200 certifications each,
// starts the service anew, and looks at one of them. The certifications of that one
// hold; those of the others are as long, and nobody has made them.
func certifiedKeys(dir string) ([]row, error) {
	const certificates, certifications, part = 10_000, 200, 1000
	born := time.Date(2024, 5, 6, 8, 0, 0, 0, time.UTC)
	spec := pgptest.Sig{Type: pgptest.Certification, Created: born.AddDate(0, 1, 0)}
	by := make([]*pgptest.Key, certifications)
	var first bytes.Buffer
	for i := range by {
		made := pgptest.Simple(fmt.Sprintf("certifier %d", i), pgptest.Ed25519, born, fmt.Sprintf("Certifier %d", i))
		by[i] = made.Primary
		first.Write(made.Bytes())
	}
	const id = "Certified <c@bench.example>"
	cert := pgptest.Simple("certified", pgptest.Ed25519, born, id)
	var templates [][]byte
	for _, key := range by {
		size := len(cert.Bytes())
		cert.Certify(key, id, spec)
		templates = append(templates, cert.Bytes()[size:])
	}
	first.Write(cert.Bytes())
	ctx := context.Background()
	s, err := start(ctx, dir, "certified.key")
	if err != nil {
		return nil, err
	}
	stop := func() { s.stop() }
	defer func() { stop() }()
	if _, err := s.client.LoadKeyFile(ctx, first.Bytes(), "bench", "", func(wire.ImportProgress) {}); err != nil {
		return nil, err
	}
	imported, told := time.Hour, 0
	for at := 0; at < certificates; at += part {
		var ring bytes.Buffer
		for i := at; i < at+part; i++ {
			ring.Write(
				pgptest.Simple(
					fmt.Sprintf("bench %d", i), pgptest.Ed25519, born, fmt.Sprintf("Keeper %05d", i),
				).Bytes(),
			)
			for _, t := range templates {
				forged := bytes.Clone(t)
				_, _ = rand.Read(forged[len(forged)-64:])
				ring.Write(forged)
			}
		}
		began := time.Now()
		if _, err := s.client.LoadKeyFile(
			ctx, ring.Bytes(), "bench", "", func(wire.ImportProgress) { told++ },
		); err != nil {
			return nil, err
		}
		imported = min(imported, time.Since(began))
	}
	url, token := s.url, s.token
	s.stop()
	stop = func() {}
	ready, page := time.Hour, time.Hour
	for range 3 {
		began := time.Now()
		again, err := startOn(ctx, dir, "certified.key", url, token)
		if err != nil {
			return nil, err
		}
		stop = func() { again.stop() }
		if err := get(ctx, again.address+"/api/v1/keys?limit=1&text=keeper+09999", token, "Keeper"); err != nil {
			return nil, err
		}
		ready = min(ready, time.Since(began))
		for range 5 {
			began := time.Now()
			if err := get(
				ctx, again.address+"/api/v1/keys/"+cert.Primary.Fingerprint(), token, "Certifier 199",
			); err != nil {
				return nil, err
			}
			page = min(page, time.Since(began))
		}
		again.stop()
		stop = func() {}
	}
	limit := func(work string, took, aim time.Duration, note string) row {
		return row{
			work: work, floor: "—", aim: "≤ " + aim.String(), ours: took, against: took, reached: took <= aim,
			figure: round(took), note: note,
		}
	}
	return []row{
		limit(
			"1,000 certificates with 200 certifications each, imported", imported, time.Minute,
			fmt.Sprintf("told %d times how far it had come, in ten such imports", told),
		),
		limit(
			"a keyring of 10,000 certificates with 200 certifications each, from the start of the service to the first answer",
			ready,
			3*time.Second,
			"",
		),
		limit("the page of a key with 200 certifications in it", page, 100*time.Millisecond, ""),
	}, nil
}
