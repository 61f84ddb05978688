package openpgp_test

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
)

// A generated certificate: the bodies of its parts, and signatures that belong to some of
// them and can stand behind any.
type generated struct {
	key    *pgptest.Key
	subs   []*pgptest.Key
	parts  [][]byte
	sigs   [][]byte
	anchor *openpgp.Certificate
}

// names are those of the user IDs that generated certificates have.
var generatedNames = []string{"Tidewright", "Tidewright, second", "Tidewright, third"}

// generate draws what the owner and an anchor have said about a key.
func generate(t *rapid.T) generated {
	g := generated{key: pgptest.NewKey("ordered", pgptest.Ed25519, born)}
	anchorKey := pgptest.NewKey("ordered anchor", pgptest.Ed25519, born)
	g.anchor = readCert(
		t, pgptest.NewCertificate(anchorKey).UserID("Anchor", pgptest.Sig{Created: born, Hashed: maySign}).Bytes(),
	)
	at := func(label string) time.Time {
		return born.AddDate(0, rapid.IntRange(0, 10).Draw(t, label), 0)
	}
	yes := func(label string) bool { return rapid.Bool().Draw(t, label) }
	reason := func(label string) []pgptest.Sub {
		return []pgptest.Sub{pgptest.Reason(rapid.SampledFrom([]byte{0, 1, 2, 3}).Draw(t, label), "")}
	}
	for i, name := range generatedNames {
		g.parts = append(g.parts, pgptest.Packet(13, []byte(name)))
		hashed := []pgptest.Sub{
			pgptest.Flags(
				rapid.SampledFrom([]byte{pgptest.MayCertify, pgptest.MaySign, pgptest.MaySign | pgptest.MayCertify}).
					Draw(t, "flags"),
			),
		}
		if yes("expires") {
			hashed = append(
				hashed, pgptest.KeyExpires(time.Duration(rapid.IntRange(1, 900).Draw(t, "days"))*24*time.Hour),
			)
		}
		if i == 0 || yes("certified") {
			g.sigs = append(
				g.sigs,
				pgptest.OverUserID(
					g.key, g.key, name,
					pgptest.Sig{Type: pgptest.Certification, Created: at("certified at"), Hashed: hashed},
				),
			)
		}
		if yes("revoked") && yes("really") {
			g.sigs = append(
				g.sigs,
				pgptest.OverUserID(
					g.key, g.key, name, pgptest.Sig{Type: pgptest.CertRevocation, Created: at("revoked at")},
				),
			)
		}
		if yes("taken back") {
			g.sigs = append(
				g.sigs,
				pgptest.OverUserID(
					g.key, anchorKey, name, pgptest.Sig{Type: pgptest.CertRevocation, Created: at("taken back at")},
				),
			)
		}
	}
	for i := range 2 {
		sub := pgptest.NewKey(fmt.Sprintf("ordered sub %d", i), pgptest.Ed25519, born)
		g.subs = append(g.subs, sub)
		g.parts = append(g.parts, pgptest.NewCertificate(sub).Bytes())
		g.parts[len(g.parts)-1][0] = 0xc0 | 14
		spec := pgptest.Sig{
			Type: pgptest.SubkeyBinding, Created: at("bound at"), Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)},
		}
		if yes("backed") {
			spec.Unhashed = []pgptest.Sub{
				{Type: 32, Body: pgptest.BackSignature(g.key, sub, pgptest.Sig{Created: spec.Created})},
			}
		}
		g.sigs = append(g.sigs, pgptest.OverSubkey(g.key, sub, spec))
		if yes("subkey revoked") && yes("really") {
			g.sigs = append(
				g.sigs,
				pgptest.OverSubkey(
					g.key, sub,
					pgptest.Sig{
						Type: pgptest.SubkeyRevocation, Created: at("subkey revoked at"), Hashed: reason("why"),
					},
				),
			)
		}
	}
	if yes("key revoked") && yes("really") {
		g.sigs = append(
			g.sigs,
			pgptest.OverKey(
				g.key, g.key,
				pgptest.Sig{Type: pgptest.KeyRevocation, Created: at("key revoked at"), Hashed: reason("why")},
			),
		)
	}
	return g
}

// file writes the parts in some order, the signatures behind some of them, some twice, with
// junk between.
func (g generated) file(t *rapid.T) []byte {
	order := rapid.Permutation(g.parts).Draw(t, "order")
	behind := make([][][]byte, len(order)+1)
	for _, sig := range rapid.Permutation(g.sigs).Draw(t, "signatures") {
		for range rapid.IntRange(1, 2).Draw(t, "times") {
			i := rapid.IntRange(0, len(order)).Draw(t, "behind")
			behind[i] = append(behind[i], sig)
		}
	}
	rubbish := pgptest.NewKey("ordered rubbish", pgptest.Ed25519, born)
	for range rapid.IntRange(0, 3).Draw(t, "junk") {
		i := rapid.IntRange(0, len(order)).Draw(t, "junk behind")
		kind := rapid.SampledFrom(
			[]byte{
				pgptest.KeyRevocation, pgptest.Certification, pgptest.CertRevocation, pgptest.SubkeyRevocation,
				pgptest.SubkeyBinding, 0x55,
			},
		).Draw(t, "kind")
		junk := rubbish.Sign([]byte("junk"), forged(g.key, kind, now.Add(-time.Hour)))
		behind[i] = append(
			[][]byte{junk, pgptest.Packet(2, []byte{4, 0x10}), pgptest.Packet(12, []byte{1})},
			behind[i]...)
	}
	out := pgptest.NewCertificate(g.key).Bytes()
	out = append(out, bytes.Join(behind[0], nil)...)
	for i, part := range order {
		out = append(append(out, part...), bytes.Join(behind[i+1], nil)...)
	}
	return out
}

// meaning is all that a certificate says, of which nothing may depend on order or place.
func (g generated) meaning(t *rapid.T, c *openpgp.Certificate) string {
	out := fmt.Sprint(c.Names(), c.Uses(c.Primary, rules()))
	for _, by := range append([]*pgptest.Key{g.key}, g.subs...) {
		for month := range 12 {
			made := born.AddDate(0, month, 1)
			r := verify(t, by.Sign(document, pgptest.Sig{Created: made}), document, rules(), c)
			out += fmt.Sprintf(" %s", r.Status)
		}
		out += "\n"
	}
	return out
}

// TestOrderAndPlaceMeanNothing: whatever order the parts of a certificate come in, wherever
// its signatures stand, doubled or with junk between, in one file or in several that are
// merged, vetted or not: it says the same.
func TestOrderAndPlaceMeanNothing(t *testing.T) {
	t.Parallel()
	rapid.Check(t, saysTheSame)
}

// FuzzOrderAndPlace lets the inputs be searched for.
func FuzzOrderAndPlace(f *testing.F) { f.Fuzz(rapid.MakeFuzz(saysTheSame)) }

// saysTheSame writes one certificate in several ways and compares what they mean.
func saysTheSame(t *rapid.T) {
	g := generate(t)
	plain := pgptest.NewCertificate(g.key).Bytes()
	for _, part := range g.parts {
		plain = append(plain, part...)
	}
	plain = append(plain, bytes.Join(g.sigs, nil)...)
	want := g.meaning(t, readCert(t, plain))
	file := g.file(t)
	cert := readCert(t, file)
	assert.Equal(t, want, g.meaning(t, cert))
	vetted, vetting := cert.Vet(nil, nil)
	assert.Zero(t, vetting.Unchecked)
	accountedFor(t, file, vetted, vetting)
	assert.Equal(t, want, g.meaning(t, readCert(t, vetted.Bytes())), "vetted and stored")
	// In several files, each with some of the signatures.
	half := g
	half.sigs = g.sigs[:len(g.sigs)/2]
	rest := g
	rest.sigs = g.sigs[len(g.sigs)/2:]
	a, _ := readCert(t, half.file(t)).Vet(nil, nil)
	b, _ := readCert(t, rest.file(t)).Vet(nil, nil)
	for _, pair := range [][2]*openpgp.Certificate{{a, b}, {b, a}} {
		merged, left := openpgp.Merge(pair[0], pair[1], nil)
		assert.Zero(t, left)
		assert.Equal(t, want, g.meaning(t, readCert(t, merged.Bytes())), "in two imports")
	}
}

// accountedFor: each packet of a file is in one line of what became of them, and those that
// are kept are those that came out.
func accountedFor(t *rapid.T, file []byte, vetted *openpgp.Certificate, vetting openpgp.Vetting) {
	whole, err := openpgp.Inspect(file, rules())
	require.NoError(t, err)
	outer := 0 // those that lie in no other
	for _, p := range whole.Packets {
		if p.Depth == 0 {
			outer++
		}
	}
	assert.Equal(t, outer, vetting.Packets)
	sums := map[openpgp.Standing]int{}
	for _, f := range vetting.Fates() {
		assert.Positive(t, f.Packets, f.Why)
		sums[f.Became] += f.Packets
	}
	assert.Equal(t, vetted.Packets(), sums[openpgp.Counts]+sums[openpgp.Idle])
	assert.Equal(t, vetting.Packets, vetted.Packets()+sums[openpgp.Dropped], "%+v", vetting)
}
