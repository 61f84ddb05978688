package test

import (
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	vsa "github.com/in-toto/attestation/go/predicates/vsa/v1"
	intoto "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protojson"

	"endeixis/core/ledger"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// ledgersKey verifies envelopes, by nothing but the ledger's public key as it is handed out.
type ledgersKey struct {
	id  string
	key ed25519.PublicKey
}

func keyOfLedger(t *testing.T, public string) ledgersKey {
	t.Helper()
	parts := strings.SplitN(public, "+", 3)
	bytes, err := base64.StdEncoding.DecodeString(parts[2])
	require.NoError(t, err)
	return ledgersKey{parts[0] + "+" + parts[1], bytes[1:]}
}

// Verify verifies.
func (k ledgersKey) Verify(_ context.Context, data, sig []byte) error {
	if !ed25519.Verify(k.key, data, sig) {
		return errors.New("the signature does not hold")
	}
	return nil
}

// KeyID is the key's.
func (k ledgersKey) KeyID() (string, error) { return k.id, nil }

// Public is the key.
func (k ledgersKey) Public() crypto.PublicKey { return k.key }

// TestAttestations are read and verified by libraries of others, which know nothing of us.
func TestAttestations(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	verifier, err := dsse.NewEnvelopeVerifier(keyOfLedger(t, s.PublicKey))
	require.NoError(t, err)
	attested := func(args ...string) (*intoto.Statement, *vsa.VerificationSummary, dsse.Envelope) {
		t.Helper()
		r := endeixis(t, s, "auditor", append([]string{"batch", "attestation"}, args...)...)
		require.Zero(t, r.code, r.out+r.err)
		var envelope dsse.Envelope
		require.NoError(t, json.Unmarshal([]byte(r.out), &envelope))
		_, err := verifier.Verify(t.Context(), &envelope)
		require.NoError(t, err)
		payload, err := envelope.DecodeB64Payload()
		require.NoError(t, err)
		var statement intoto.Statement
		require.NoError(t, protojson.Unmarshal(payload, &statement))
		require.NoError(t, statement.Validate())
		assert.Equal(t, "https://slsa.dev/verification_summary/v1", statement.GetPredicateType())
		predicate, err := protojson.Marshal(statement.GetPredicate())
		require.NoError(t, err)
		var summary vsa.VerificationSummary
		require.NoError(t, protojson.Unmarshal(predicate, &summary), "nothing in it is unknown to others")
		return &statement, &summary, envelope
	}

	b := verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	require.Equal(t, "cleared", *b.Verdict)
	statement, summary, envelope := attested(fmt.Sprint(b.ID), "--item", "gauge-fw-4.2-main.img")
	require.Len(t, statement.GetSubject(), 1)
	assert.Equal(t, "gauge-fw-4.2-main.img", statement.GetSubject()[0].GetName())
	assert.Equal(
		t, hexSum(read(t, filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2", "gauge-fw-4.2-main.img"))),
		statement.GetSubject()[0].GetDigest()["sha256"],
	)
	assert.Equal(t, "PASSED", summary.GetVerificationResult())
	assert.Equal(t, []string{"ENDEIXIS_CLEARED"}, summary.GetVerifiedLevels())
	assert.Equal(t, "https://verify.skerrow.example/", summary.GetVerifier().GetId())
	// It names the record that it comes from, by its hash.
	require.Len(t, summary.GetInputAttestations(), 1)
	named := summary.GetInputAttestations()[0]
	var position int64
	_, err = fmt.Sscanf(named.GetUri(), "https://verify.skerrow.example/records/%d", &position)
	require.NoError(t, err)
	receipt, err := s.Client(t, roles.Auditor).Receipt(t.Context(), position)
	require.NoError(t, err)
	leaf := ledger.Leaf([]byte(receipt.Record))
	assert.Equal(t, hex.EncodeToString(leaf[:]), named.GetDigest()["sha256"])

	for what, change := range map[string]func(*dsse.Envelope){
		"another payload": func(e *dsse.Envelope) {
			text, err := e.DecodeB64Payload()
			require.NoError(t, err)
			e.Payload = base64.StdEncoding.EncodeToString([]byte(strings.Replace(string(text), "main.img", "boot.img", 1)))
		},
		"another type": func(e *dsse.Envelope) { e.PayloadType = "text/plain" },
		"no signature": func(e *dsse.Envelope) { e.Signatures = nil },
	} {
		other := envelope
		other.Signatures = append([]dsse.Signature{}, envelope.Signatures...)
		change(&other)
		_, err := verifier.Verify(t.Context(), &other)
		assert.Error(t, err, what)
	}

	statement, summary, _ = attested(fmt.Sprint(b.ID))
	assert.Len(t, statement.GetSubject(), 3)
	assert.Equal(t, "PASSED", summary.GetVerificationResult())
	refused := verified(t, s, "quayside:tidewright/gauge-fw-4.2-flipped")
	_, summary, _ = attested(fmt.Sprint(refused.ID))
	assert.Equal(t, "FAILED", summary.GetVerificationResult())
	assert.Equal(t, []string{"ENDEIXIS_REFUSED"}, summary.GetVerifiedLevels())

	// A verdict in the database alone is none.
	altered(
		t, s, fmt.Sprintf(`UPDATE outcomes SET verdict = 'cleared' WHERE batch_id = %d`, refused.ID),
		`UPDATE batches SET verdict = 'cleared'`,
	)
	_, summary, _ = attested(fmt.Sprint(refused.ID))
	assert.Equal(t, "FAILED", summary.GetVerificationResult())
	// What counts no longer has not passed.
	tidewright := keyOf(t, "tidewright-release.asc").Fingerprint
	require.Zero(
		t, endeixis(t, s, "curator", "keyring", "withdraw", tidewright, "--reason", "the laptop was stolen").code,
	)
	require.Eventually(t, func() bool {
		_, summary, _ := attested(fmt.Sprint(b.ID), "--item", "gauge-fw-4.2-main.img")
		return summary.GetVerificationResult() == "FAILED" && len(summary.GetInputAttestations()) == 2
	}, 30*time.Second, 200*time.Millisecond)
	r := endeixis(t, s, "auditor", "batch", "attestation", fmt.Sprint(b.ID), "--item", "SHA256SUMS")
	assert.Equal(t, 1, r.code, "a list is no artifact: %s", r.out)
	altered(
		t, s,
		fmt.Sprintf(
			`UPDATE ledger_records SET body = convert_to(replace(convert_from(body, 'UTF8'), '"refused"', '"cleared"'), 'UTF8') WHERE batch_id = %d`,
			refused.ID,
		),
	)
	r = endeixis(t, s, "auditor", "batch", "attestation", fmt.Sprint(refused.ID))
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "not what this program has written")
}

func hexSum(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}
