package verify_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"testing/fstest"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/openpgp/pgptest"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// The four stages, of a folder in memory: an artifact is cleared when a strong
// digest in a manifest that an admitted key signed matches, refused when a digest
// differs, and unproven when nothing speaks of it.
func Example() {
	born := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	now := born.AddDate(0, 6, 0)
	key := pgptest.NewKey("tidewright release", pgptest.Ed25519, born)
	may := pgptest.Sig{Created: born, Hashed: []pgptest.Sub{pgptest.Flags(pgptest.MaySign)}}
	certificates, _, err := openpgp.ReadCertificates(
		pgptest.NewCertificate(key).UserID("Tidewright Instruments", may).Bytes(),
	)
	if err != nil {
		panic(err)
	}
	ring := keyring.New([]*keyring.Key{{
		Certificate: certificates[0], Publisher: "tidewright",
		History: []keyring.Change{{At: born, To: keyring.Admitted, By: "tobiah", Reason: "two channels agree"}},
	}}, []keyring.Publisher{{Slug: "tidewright", Scope: []string{"gauge-*"}}})

	list := fmt.Sprintf(
		"%x  gauge-a.img\n%x  gauge-b.img\n", sha256.Sum256([]byte("image a")), sha256.Sum256([]byte("image b")),
	)
	folder := fstest.MapFS{
		"SHA256SUMS":     {Data: []byte(list)},
		"SHA256SUMS.sig": {Data: key.Sign([]byte(list), pgptest.Sig{Created: born.AddDate(0, 1, 0)})},
		"gauge-a.img":    {Data: []byte("image a")},
		"gauge-b.img":    {Data: []byte("image b, altered")},
		"gauge-c.img":    {Data: []byte("image c")},
	}
	ctx := context.Background()
	plan, err := survey.Run(ctx, folder, survey.Options{})
	if err != nil {
		panic(err)
	}
	measured, err := verify.Measure(ctx, folder, plan, measure.Attribution{}, digest.Gain{})
	if err != nil {
		panic(err)
	}
	session := verify.New(judge.Basis{
		Keyring: ring, Policy: judge.DefaultPolicy(), Now: now, Expected: judge.Expect("", ring, plan.Items),
	})
	for _, role := range []survey.Role{survey.Manifest, survey.Artifact} { // artifacts rest on manifests
		for i := range plan.Items {
			item := &plan.Items[i]
			if item.Role != role {
				continue
			}
			m := measured[item.Path]
			if role == survey.Manifest {
				session.Manifest(item, &m)
				continue
			}
			out := session.Judge(item, &m)
			fmt.Println(item.Path, out.Verdict)
		}
	}
	// Output:
	// gauge-a.img cleared
	// gauge-b.img refused
	// gauge-c.img unproven
}
