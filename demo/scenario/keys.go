package scenario

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"endeixis/core/keyring"
	"endeixis/core/openpgp/pgptest"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

const year = 365 * 24 * time.Hour

// Tidewright's anchor certifies the release keys. Of the earlier ones, one was
// retired when the present one came, and one was revoked: its laptop was stolen.
var (
	anchorBorn      = time.Date(2021, 4, 6, 10, 0, 0, 0, time.UTC)
	compromisedBorn = time.Date(2022, 1, 10, 9, 0, 0, 0, time.UTC)
	compromisedOn   = time.Date(2023, 6, 21, 7, 30, 0, 0, time.UTC)
	retiredBorn     = time.Date(2023, 6, 26, 9, 0, 0, 0, time.UTC)
	retiredOn       = time.Date(2025, 2, 3, 9, 0, 0, 0, time.UTC)
	formerBorn      = time.Date(2019, 5, 2, 8, 0, 0, 0, time.UTC)
	formerUntil     = time.Date(2024, 5, 6, 12, 0, 0, 0, time.UTC)
	fieldBorn       = time.Date(2022, 9, 12, 8, 0, 0, 0, time.UTC)
)

func tidewrightAnchor() *pgptest.Certificate {
	return pgptest.NewCertificate(pgptest.NewKey("tidewright anchor", pgptest.P384, anchorBorn)).
		UserID(
			"Tidewright Instruments (anchor; certifies release keys) <security@tidewright.example>",
			pgptest.Sig{Created: anchorBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify)}},
		)
}

const releaseID = "Tidewright Instruments (releases) <release@tidewright.example>"

// certified lets the anchor certify the user ID that was added last.
func certified(c *pgptest.Certificate, id string, at time.Time) *pgptest.Certificate {
	return c.Certify(
		tidewrightAnchor().Primary, id, pgptest.Sig{Type: pgptest.Certification, Created: at, Hash: pgptest.SHA384},
	)
}

// tidewright's primary key only certifies; a subkey signs the releases.
func tidewright() (cert *pgptest.Certificate, signer *pgptest.Key) {
	primary := pgptest.NewKey("tidewright release", pgptest.Ed25519Legacy, tidewrightBorn)
	signer = pgptest.NewKey("tidewright release, signing", pgptest.Ed25519Legacy, tidewrightBorn)
	life := pgptest.KeyExpires(6 * year)
	cert = pgptest.NewCertificate(primary).
		UserID(
			releaseID,
			pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), life}},
		)
	certified(cert, releaseID, tidewrightBorn.AddDate(0, 0, 2)).
		Subkey(
			signer, pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign), life}},
			&pgptest.Sig{Created: tidewrightBorn},
		)
	return cert, signer
}

// tidewrightNext is the release key for the year to come, certified by the
// anchor and not yet in the keyring.
func tidewrightNext() *pgptest.Certificate {
	const id = "Tidewright Instruments (releases 2027) <release@tidewright.example>"
	born := release.AddDate(0, 7, 0)
	return certified(pgptest.Simple("tidewright release, 2027", pgptest.Ed25519, born, id), id, born.AddDate(0, 0, 1))
}

// earlier returns a former release key, as it was and with its revocation.
func earlier(
	seed string, algorithm pgptest.Algorithm, born, revoked time.Time, reason pgptest.Sub,
) (before, after *pgptest.Certificate) {
	make := func(revoke bool) *pgptest.Certificate {
		key := pgptest.NewKey(seed, algorithm, born)
		c := pgptest.NewCertificate(key)
		if revoke {
			c.Key(key, pgptest.Sig{Type: pgptest.KeyRevocation, Created: revoked, Hashed: []pgptest.Sub{reason}})
		}
		c.UserID(
			releaseID,
			pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)}},
		)
		return certified(c, releaseID, born.AddDate(0, 0, 3))
	}
	return make(false), make(true)
}

func tidewrightRetired() (before, after *pgptest.Certificate) {
	return earlier(
		"tidewright release, 2023", pgptest.RSA2048, retiredBorn, retiredOn,
		pgptest.Reason(3, "followed by the key of 2025"),
	)
}

func tidewrightCompromised() (before, after *pgptest.Certificate) {
	return earlier(
		"tidewright release, 2022", pgptest.Ed25519Legacy, compromisedBorn, compromisedOn,
		pgptest.Reason(2, "laptop stolen at Dun Quay"),
	)
}

func brackwater() *pgptest.Certificate {
	return pgptest.Simple(
		"brackwater release", pgptest.RSA2048, brackwaterBorn, "Brackwater Radio <sign@brackwater.example>",
	)
}

func brackwaterNext() *pgptest.Certificate {
	return pgptest.Simple(
		"brackwater release, next", pgptest.Ed25519, nextBorn, "Brackwater Radio <sign@brackwater.example>",
	)
}

// brackwaterField is the key of Brackwater's field office, which they let run
// out early: the newer copy has a nearer expiry.
func brackwaterField() (before, after *pgptest.Certificate) {
	const id = "Brackwater Radio, field office <field@brackwater.example>"
	self := func(at time.Time, life time.Duration) pgptest.Sig {
		return pgptest.Sig{
			Type: pgptest.Certification, Created: at,
			Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign), pgptest.KeyExpires(life)},
		}
	}
	key := pgptest.NewKey("brackwater field office", pgptest.Ed25519, fieldBorn)
	before = pgptest.NewCertificate(key).UserID(id, self(fieldBorn, 12*year))
	after = pgptest.NewCertificate(key).
		UserID(id, self(fieldBorn, 12*year)).
		Certify(key, id, self(fieldBorn.AddDate(3, 0, 0), 4*year-90*24*time.Hour))
	return before, after
}

// brackwaterBench has a subkey that never signed back: anybody could have
// attached it.
func brackwaterBench() (cert *pgptest.Certificate, signer *pgptest.Key) {
	signer = pgptest.NewKey("brackwater bench, signing", pgptest.Ed25519, brackwaterBorn)
	cert = pgptest.Simple(
		"brackwater bench", pgptest.Ed25519, brackwaterBorn, "Brackwater Radio, test bench <bench@brackwater.example>",
	).
		Subkey(signer, pgptest.Sig{Created: brackwaterBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}, nil)
	return cert, signer
}

func corran() *pgptest.Certificate {
	return pgptest.Simple(
		"corran editions", pgptest.Ed25519Legacy, brackwaterBorn,
		"Corran Charts, editions desk <editions@corran.example>",
	)
}

// corranProofs signed proof copies of charts, once.
func corranProofs() *pgptest.Certificate {
	return pgptest.Simple(
		"corran proofs", pgptest.Ed25519, brackwaterBorn, "Corran Charts, proofs <proofs@corran.example>",
	)
}

// oarlock returns the keys of the three maintainers of the data logger: of
// three kinds, as people choose them. Any of them signs a release.
func oarlock() [3]*pgptest.Certificate {
	self := pgptest.Sig{
		Type: pgptest.DirectKey, Created: nextBorn, Hash: pgptest.SHA512,
		Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)},
	}
	third := pgptest.NewKey6("oarlock, third maintainer", pgptest.Ed25519, nextBorn)
	return [3]*pgptest.Certificate{
		pgptest.Simple(
			"oarlock, first maintainer", pgptest.P256, brackwaterBorn, "Wen Ashby (Oarlock) <wen@oarlock.example>",
		),
		pgptest.Simple(
			"oarlock, second maintainer", pgptest.Brainpool384, tidewrightBorn,
			"Pilar Greave (Oarlock) <pilar@oarlock.example>",
		),
		pgptest.NewCertificate(third).
			Key(third, self).
			UserID("Ode Marsh (Oarlock) <ode@oarlock.example>", pgptest.Sig{Created: nextBorn}),
	}
}

// brackwaterFormer was superseded; releases of its time are still in use.
func brackwaterFormer() *pgptest.Certificate {
	key := pgptest.NewKey("brackwater release, former", pgptest.RSA2048, formerBorn)
	return pgptest.NewCertificate(key).
		Key(
			key,
			pgptest.Sig{
				Type: pgptest.KeyRevocation, Created: formerUntil,
				Hashed: []pgptest.Sub{pgptest.Reason(1, "followed by the key of 2024")},
			},
		).
		UserID(
			"Brackwater Radio, until 2024 <former@brackwater.example>",
			pgptest.Sig{
				Created: formerBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify | pgptest.MaySign)},
			},
		)
}

// oarlockAnybody claims to be a fourth maintainer. Its point has a small order: anybody
// can make signatures that hold by it.
func oarlockAnybody() *pgptest.Certificate {
	return pgptest.NewCertificate(pgptest.SmallOrder(nextBorn)).
		UserID(
			"Ivo Carrow (Oarlock) <ivo@oarlock.example>",
			pgptest.Sig{Created: nextBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}},
		)
}

// adopter is a stranger's key that claims Tidewright's signing subkey as its own.
func adopter() *pgptest.Certificate {
	_, signer := tidewright()
	return pgptest.Simple(
		"a stranger", pgptest.Ed25519, nextBorn, "Tidewright releases, new address <tidewright@parcel.example>",
	).
		Subkey(signer, pgptest.Sig{Created: nextBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}, nil)
}

// tidewrightStripped is a copy of the release key of which the subkey's signature back
// was cut out.
func tidewrightStripped() *pgptest.Certificate {
	_, signer := tidewright()
	life := pgptest.KeyExpires(6 * year)
	return pgptest.NewCertificate(pgptest.NewKey("tidewright release", pgptest.Ed25519Legacy, tidewrightBorn)).
		UserID(
			releaseID,
			pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MayCertify), life}},
		).
		Subkey(
			signer, pgptest.Sig{Created: tidewrightBorn, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign), life}},
			nil,
		)
}

// A KeyFile is a publisher's key as it would be downloaded.
type KeyFile struct {
	Name, Publisher, Fingerprint string
	Armored                      []byte
}

func keyFile(name, publisher string, c *pgptest.Certificate) KeyFile {
	return KeyFile{name, publisher, c.Primary.Fingerprint(), c.Armored()}
}

// Keys returns the publishers' present keys. Which of them the demo's keyring
// holds from the start, Keep tells; the others are still to be imported.
func Keys() []KeyFile { return slices.Clone(publishersKeys()) }

var publishersKeys = sync.OnceValue(presentKeys)

func presentKeys() []KeyFile {
	t, _ := tidewright()
	bench, _ := brackwaterBench()
	maintainers := oarlock()
	_, retired := tidewrightRetired()
	_, compromised := tidewrightCompromised()
	_, field := brackwaterField()
	return []KeyFile{
		keyFile("tidewright-release.asc", "tidewright", t),
		keyFile("brackwater-release.asc", "brackwater", brackwater()),
		keyFile("brackwater-release-2026.asc", "brackwater", brackwaterNext()),
		keyFile("corran-editions.asc", "corran", corran()),
		keyFile("oarlock-wen-ashby.asc", "oarlock", maintainers[0]),
		keyFile("oarlock-pilar-greave.asc", "oarlock", maintainers[1]),
		keyFile("oarlock-ode-marsh.asc", "oarlock", maintainers[2]),
		keyFile("tidewright-anchor.asc", "tidewright", tidewrightAnchor()),
		keyFile("tidewright-release-2027.asc", "tidewright", tidewrightNext()),
		keyFile("tidewright-release-2023.asc", "tidewright", retired),
		keyFile("tidewright-release-2022.asc", "tidewright", compromised),
		keyFile("brackwater-field.asc", "brackwater", field),
		keyFile("brackwater-bench.asc", "brackwater", bench),
		keyFile(
			"corran-editions-2027.asc", "corran",
			pgptest.Simple(
				"corran editions, 2027", pgptest.Ed25519, release.AddDate(0, 8, 0),
				"Corran Charts, editions desk 2027 <editions@corran.example>",
			),
		),
		keyFile(
			"lanternfell-first.asc", "lanternfell",
			pgptest.Simple(
				"lanternfell, first", pgptest.P256, release.AddDate(0, 5, 0),
				"Lanternfell Controls <lamps@lanternfell.example>",
			),
		),
		keyFile("corran-proofs.asc", "corran", corranProofs()),
		keyFile("brackwater-release-2019.asc", "brackwater", brackwaterFormer()),
		keyFile("oarlock-ivo-carrow.asc", "oarlock", oarlockAnybody()),
		keyFile("tidewright-new-address.asc", "", adopter()),
	}
}

// A sighting of the right fingerprint.
type sighting struct{ channel, place, note string }

// misread is a fingerprint with a digit that is not the key's.
func misread(fingerprint string) string {
	const at = 17
	other := "3"
	if fingerprint[at] == other[0] {
		other = "8"
	}
	return fingerprint[:at] + other + fingerprint[at+1:]
}

// A keeping tells how a key of the demo's keyring came to stand as it does.
type keeping struct {
	key       KeyFile
	sightings []sighting
	// reason is why it was admitted, in the role; without one it is a
	// candidate. until is set for an admission for the past.
	reason, role string
	until        *time.Time
	// conflict is where another fingerprint was read, or nil.
	conflict *sighting
	// withdrawn is why it was withdrawn after that, or empty.
	withdrawn string
	// later is a newer copy that was imported after that.
	later *pgptest.Certificate
}

// keepings lists the keyring that the demo starts with.
var keepings = sync.OnceValue(func() []keeping {
	keys := Keys()
	retired, retiredSince := tidewrightRetired()
	compromised, compromisedSince := tidewrightCompromised()
	field, fieldSince := brackwaterField()
	note := sighting{"letter", "Delivery note, printed at the foot", "Compared digit by digit with Ines."}
	return []keeping{
		{key: keys[18]},
		{
			key: keys[7], role: "anchor", reason: "Three channels agree; this key certifies all of their release keys.",
			sightings: []sighting{
				{"in-person", "Visit to their works, framed in the entrance", "Copied by hand and compared twice."},
				{"letter", "Framework contract of 2021, annex C", ""},
				{"vendor-site", "tidewright.example/keys", ""},
			},
		},
		{
			key: keys[0], later: tidewrightStripped(),
			reason: "Letter and phone call agree; the key signs every release since January 2025.",
			sightings: []sighting{
				{"letter", "Delivery note 2025-0117, printed at the foot", "Compared digit by digit with Ines."},
				{"phone", "Release desk, number from the 2023 contract", "Read aloud by M. Aldous."},
			},
		},
		{key: keys[3], reason: "The disc's sleeve and the publisher's site agree.", sightings: []sighting{
			{"letter", "Printed on the sleeve of the May disc", ""},
			{"vendor-site", "corran.example/editions", "Read over the harbour master's line."},
		}},
		{key: keys[4], reason: "Her card and the project's site agree; she signs most releases.", sightings: []sighting{
			{"in-person", "Coast electronics fair, March", "From her card."},
			{"vendor-site", "oarlock.example/people", ""},
		}},
		{key: keys[6], reason: "The slide and the project's site agree.", sightings: []sighting{
			{"conference-slide", "Coast electronics fair, closing talk", ""},
			{"vendor-site", "oarlock.example/people", ""},
		}},
		{
			key: keyFile("tidewright-release-2023.asc", "tidewright", retired), later: retiredSince,
			reason: "Delivery note and site agree.",
			sightings: []sighting{
				note, {"vendor-site", "tidewright.example/keys", ""},
			},
		},
		{
			key: keyFile("tidewright-release-2022.asc", "tidewright", compromised), later: compromisedSince,
			reason: "Delivery note and phone call agree.",
			sightings: []sighting{
				note, {"phone", "Release desk", ""},
			},
		},
		{
			key: keyFile("brackwater-field.asc", "brackwater", field), later: fieldSince,
			reason: "Their card and their site agree.",
			sightings: []sighting{
				{"in-person", "Visit of the field engineer, card left behind", ""},
				{"vendor-site", "brackwater.example/security", ""},
			},
		},
		{key: keys[1], sightings: []sighting{{"vendor-site", "brackwater.example/security", ""}}},
		{key: keys[12]},
		{key: keys[17]},
		{
			key: keys[16], until: &formerUntil,
			reason: "Receivers on the outer buoys still run what it signed; letter and site agree.",
			sightings: []sighting{
				{"letter", "Delivery note of 2021, printed at the foot", ""},
				{"vendor-site", "brackwater.example/security", "Listed there as superseded."},
			},
		},
		{
			key: keys[15], reason: "Their two proof readers read it out.",
			withdrawn: "Corran no longer sends proofs; nobody answers for this key.",
			sightings: []sighting{
				{"phone", "Proof desk, first reader", ""}, {"in-person", "Proof desk, second reader", ""},
			},
		},
		{key: keys[13], sightings: []sighting{
			{"letter", "Printed on the sleeve of the October disc", ""},
			{"colleague-elsewhere", "Read out by the harbour of Dun Quay, who have it from the publisher", ""},
		}},
		{
			key: keys[14], sightings: []sighting{{"vendor-site", "lanternfell.example/keys", ""}},
			conflict: &sighting{"phone", "Their front desk", "Read aloud against the wind."},
		},
	}
})

// Keep sets up the keyring that the demo starts with, in a curator's name.
func Keep(ctx context.Context, curator *client.Client) error {
	for _, p := range Publishers() {
		if _, err := curator.AddPublisher(
			ctx, wire.NewPublisher{Slug: p.Slug, Name: p.Name, Contact: p.Contact, Scope: p.Scope},
		); err != nil {
			return err
		}
	}
	for _, k := range keepings() {
		if _, err := curator.ImportKeys(ctx, k.key.Armored, k.key.Name, k.key.Publisher); err != nil {
			return err
		}
		for _, s := range k.sightings {
			if _, err := curator.SightKey(
				ctx, k.key.Fingerprint,
				wire.NewSighting{
					Read: k.key.Fingerprint, Channel: keyring.Channel(s.channel), Place: s.place, Note: s.note,
				},
			); err != nil {
				return err
			}
		}
		if c := k.conflict; c != nil {
			if _, err := curator.SightKey(
				ctx, k.key.Fingerprint,
				wire.NewSighting{
					Read: misread(k.key.Fingerprint), Channel: keyring.Channel(c.channel), Place: c.place, Note: c.note,
				},
			); err != nil {
				return err
			}
		}
		if k.reason != "" {
			if _, err := curator.AdmitKey(
				ctx, k.key.Fingerprint,
				wire.Admission{
					Typed: k.key.Fingerprint, Publisher: k.key.Publisher, Role: keyring.Role(k.role), Reason: k.reason,
					Until: k.until,
				},
			); err != nil {
				return err
			}
		}
		if k.withdrawn != "" {
			if _, err := curator.WithdrawKey(ctx, k.key.Fingerprint, k.withdrawn); err != nil {
				return err
			}
		}
		if k.later != nil {
			if _, err := curator.ImportKeys(ctx, k.later.Armored(), k.key.Name, k.key.Publisher); err != nil {
				return err
			}
		}
	}
	// Lanternfell cannot do better before the spring.
	for _, ground := range []string{"weak-digest-only", "manifest-unsigned"} {
		if _, err := curator.GrantWaiver(ctx, wire.NewWaiver{
			Ground:    wire.WaivableGround(ground),
			Publisher: "lanternfell",
			Pattern:   "lamp-ctl-3.6-*",
			Until:     time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 4, 0),
			Reason:    "They publish MD5 lists, unsigned, until their new build room is ready; each list was compared with them on the phone.",
		}); err != nil {
			return err
		}
	}
	return nil
}

var lookalikes = sync.OnceValue(func() map[string][]byte {
	out := map[string][]byte{}
	for name, id := range map[string]string{"brackwater.pgp": "Brackwater Radio <sign@brackwater.example>", "tidewright.pgp": releaseID} {
		out[name] = pgptest.Simple("somebody else, "+name, pgptest.RSA2048, nextBorn, id).Bytes()
	}
	return out
})

// WriteDirectories writes below dir what key directories serve: “harbour” has the
// publishers' keys, “lookalike” keys that somebody else made in their names.
func WriteDirectories(dir string) error {
	if err := WriteKeys(filepath.Join(dir, "harbour")); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "lookalike"), 0o755); err != nil {
		return err
	}
	for name, data := range lookalikes() {
		if err := os.WriteFile(filepath.Join(dir, "lookalike", name), data, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// WriteKeys writes the publishers' key files below dir.
func WriteKeys(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for _, k := range Keys() {
		if err := os.WriteFile(filepath.Join(dir, k.Name), k.Armored, 0o644); err != nil {
			return err
		}
	}
	return nil
}
