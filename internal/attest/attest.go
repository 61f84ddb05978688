// Package attest hands out what was verified in a form that pipelines read without knowing us: an
// in-toto Statement (in-toto.io/Statement/v1) with a verification summary
// (slsa.dev/verification_summary/v1) in a signed DSSE envelope.
package attest

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/secure-systems-lab/go-securesystemslib/dsse"

	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/recorded"
	"endeixis/internal/state"
)

// Records are read and signed with; [records.Service] does.
type Records interface {
	// OfBatch calls f for the records of a batch in order, each with its own text, which is sealed.
	OfBatch(ctx context.Context, batch int64, f func(position int64, body []byte) error) error
	// SignEnvelope signs bytes with the ledger's key, and names it.
	SignEnvelope(data []byte) (signature []byte, key string, err error)
}

// Service attests.
type Service struct {
	records Records
	name    string
	now     func() time.Time
}

// New returns a Service. name is the service's.
func New(r Records, name string, now func() time.Time) *Service { return &Service{r, name, now} }

// PayloadType is that of the envelopes.
const PayloadType = "application/vnd.in-toto+json"

// A Statement is an in-toto Statement, version 1, of a verification summary.
type Statement struct {
	Type          string     `json:"_type"`
	Subject       []Resource `json:"subject"`
	PredicateType string     `json:"predicateType"`
	Predicate     Summary    `json:"predicate"`
}

// A Resource is a file, or a record, with digests by the names that in-toto gives them.
type Resource struct {
	Name   string            `json:"name,omitempty"`
	URI    string            `json:"uri,omitempty"`
	Digest map[string]string `json:"digest"`
}

// A Summary is the predicate.
type Summary struct {
	Verifier struct {
		ID string `json:"id"`
	} `json:"verifier"`
	TimeVerified string `json:"timeVerified"`
	ResourceURI  string `json:"resourceUri"`
	Policy       struct {
		URI string `json:"uri"`
	} `json:"policy"`
	// InputAttestations are the records that it comes from, by their leaf hashes.
	InputAttestations []Resource `json:"inputAttestations"`
	// VerificationResult is PASSED for what counts as cleared now, and FAILED for anything else.
	VerificationResult string `json:"verificationResult"`
	// VerifiedLevels has one word of ours: the verdict.
	VerifiedLevels []string `json:"verifiedLevels"`
}

const (
	statementType = "https://in-toto.io/Statement/v1"
	summaryType   = "https://slsa.dev/verification_summary/v1"
	passed        = "PASSED"
	failed        = "FAILED"
)

// digestNames are those that in-toto has for strong algorithms.
var digestNames = map[string]string{
	"SHA-224":     "sha224",
	"SHA-256":     "sha256",
	"SHA-384":     "sha384",
	"SHA-512":     "sha512",
	"SHA-512/224": "sha512_224",
	"SHA-512/256": "sha512_256",
	"SHA3-224":    "sha3_224",
	"SHA3-256":    "sha3_256",
	"SHA3-384":    "sha3_384",
	"SHA3-512":    "sha3_512",
	"BLAKE2b":     "blake2b",
	"BLAKE2s":     "blake2s",
}

// known is what records say of an item.
type known struct {
	path     string
	verdict  judge.Verdict
	digests  map[string]string
	policy   int64
	records  []Resource
	verified time.Time
}

// maxSubjects bounds how many files one statement is of.
const maxSubjects = 10_000

// Item attests one artifact of a batch, by its path as the batch has it.
func (s *Service) Item(ctx context.Context, batch int64, item string) (*dsse.Envelope, error) {
	items, _, err := s.known(ctx, batch)
	if err != nil {
		return nil, err
	}
	k, ok := items[item]
	if !ok {
		return nil, fault.New(
			fault.Conflict, fault.NothingToAttest,
			"Of this file there is no verdict: it is no artifact, or it is not judged yet.",
		).
			Advise("Lists and signatures vouch for others; attest those.")
	}
	return s.sign(ctx, fmt.Sprintf("batches/%d/%s", batch, escaped(item)), []*known{k}, k.verdict)
}

// Batch attests all artifacts of a batch that is done. It has passed when all of them count as
// cleared now, and the batch was cleared.
func (s *Service) Batch(ctx context.Context, batch int64) (*dsse.Envelope, error) {
	items, result, err := s.known(ctx, batch)
	switch {
	case err != nil:
		return nil, err
	case result == nil || result.State != state.BatchDone:
		return nil, fault.New(
			fault.Conflict, fault.NothingToAttest, "Batch %d is not done: there is no verdict to attest.", batch,
		)
	case len(items) == 0:
		return nil, fault.New(fault.Conflict, fault.NothingToAttest, "Batch %d has no artifacts.", batch)
	case len(items) > maxSubjects:
		return nil, fault.New(
			fault.Conflict, fault.TooManyArtifacts, "Batch %d has %d artifacts; at most %d are attested together.", batch,
			len(items), maxSubjects,
		).
			Advise("Attest those that you need, one by one.")
	}
	all := make([]*known, 0, len(items))
	verdict := result.Verdict
	for _, p := range slices.Sorted(maps.Keys(items)) {
		all = append(all, items[p])
		if rank(items[p].verdict) > rank(verdict) {
			verdict = items[p].verdict
		}
	}
	return s.sign(ctx, fmt.Sprintf("batches/%d", batch), all, verdict)
}

func rank(v judge.Verdict) int {
	return slices.Index([]judge.Verdict{judge.Cleared, judge.Unproven, judge.Refused}, v)
}

// known reads the records of a batch: what became of each artifact, by its path, with what was
// judged again; and the batch's own, if it has ended.
func (s *Service) known(ctx context.Context, batch int64) (map[string]*known, *recorded.BatchResult, error) {
	items := map[string]*known{}
	var result *recorded.BatchResult
	err := s.records.OfBatch(ctx, batch, func(position int64, text []byte) error {
		h, body, err := recorded.Read(position, text)
		if err != nil {
			return err
		}
		leaf := ledger.Leaf(text)
		from := Resource{
			URI:    s.uri(fmt.Sprintf("records/%d", position)),
			Digest: map[string]string{"sha256": hex.EncodeToString(leaf[:])},
		}
		switch b := body.(type) {
		case recorded.BatchResult:
			result = &b
		case recorded.ItemOutcome:
			if b.Role != survey.Artifact || b.Verdict == "" {
				return nil
			}
			k := &known{path: b.Item, verdict: b.Verdict, policy: b.Policy, records: []Resource{from}, verified: h.At}
			if k.digests, err = b.Digests(); err != nil {
				return fmt.Errorf("record %d cannot be read: %w", position, err)
			}
			items[b.Item] = k
		case recorded.ItemRejudged:
			if k := items[b.Item]; k != nil {
				k.verdict, k.policy, k.verified, k.records = b.Verdict, b.Policy, h.At, append(k.records, from)
			}
		}
		return nil
	})
	return items, result, err
}

func (s *Service) uri(rest string) string { return "https://" + s.name + "/" + rest }

// escaped writes a path so that it stands in an address.
func escaped(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		parts[i] = url.PathEscape(part)
	}
	return strings.Join(parts, "/")
}

// sign makes the envelope of a statement about artifacts.
func (s *Service) sign(
	ctx context.Context, resource string, about []*known, verdict judge.Verdict,
) (*dsse.Envelope, error) {
	out := Statement{Type: statementType, PredicateType: summaryType}
	p := &out.Predicate
	p.Verifier.ID, p.ResourceURI = s.uri(""), s.uri(resource)
	policy, verified := int64(0), time.Time{}
	for _, k := range about {
		digests := map[string]string{}
		for algorithm, value := range k.digests {
			if name, ok := digestNames[algorithm]; ok {
				digests[name] = value
			}
		}
		if len(digests) == 0 {
			return nil, fault.New(
				fault.Conflict, fault.NothingToAttest,
				"Of %s no strong digest was computed, by which others could know it.", path.Base(k.path),
			)
		}
		out.Subject = append(out.Subject, Resource{Name: k.path, Digest: digests})
		p.InputAttestations = append(p.InputAttestations, k.records...)
		policy = max(policy, k.policy)
		if k.verified.After(verified) {
			verified = k.verified
		}
	}
	p.TimeVerified = verified.UTC().Format(time.RFC3339)
	p.Policy.URI = s.uri(fmt.Sprintf("policy/versions/%d", policy))
	p.VerificationResult, p.VerifiedLevels = failed, []string{"ENDEIXIS_" + strings.ToUpper(string(verdict))}
	if verdict == judge.Cleared {
		p.VerificationResult = passed
	}
	var payload bytes.Buffer
	enc := json.NewEncoder(&payload)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(out); err != nil {
		return nil, err
	}
	signer, err := dsse.NewEnvelopeSigner(signing{s.records})
	if err != nil {
		return nil, err
	}
	return signer.SignPayload(ctx, PayloadType, bytes.TrimSuffix(payload.Bytes(), []byte("\n")))
}

// signing signs with the ledger's key.
type signing struct{ records Records }

// Sign signs what the envelope has signed.
func (s signing) Sign(_ context.Context, data []byte) ([]byte, error) {
	signature, _, err := s.records.SignEnvelope(data)
	return signature, err
}

// KeyID names the key.
func (s signing) KeyID() (string, error) {
	_, key, err := s.records.SignEnvelope(nil)
	return key, err
}
