package openpgp

import (
	"fmt"
	"slices"
	"time"
)

// Rules are the limits that a policy sets, and the time of judgement.
type Rules struct {
	// Now is the time at which the question is asked.
	Now time.Time
	// Skew is how far a clock may be ahead.
	Skew time.Duration
	// DocumentHashBits is the least collision resistance of the hash of a
	// document signature. SHA-256 has 128.
	DocumentHashBits int
	// SelfSHA1Before is the time from which SHA-1 is no longer accepted in
	// self-signatures and bindings.
	SelfSHA1Before time.Time
	// RSABits is the least size of an RSA modulus or a DSA prime.
	RSABits int
	// Curves are the names of the curves that are accepted, of [Curves]; nil
	// accepts all of them.
	Curves []string
	// MaxAge is the greatest age of a document signature; zero means any.
	MaxAge time.Duration
	// ExpiredCounts says whether what a key has said while it was good still counts
	// when it has expired since. It is for callers: the decisions of this package
	// tell of such an expiry, and do not decide about it.
	ExpiredCounts bool
}

// A Status is the outcome of [Verify].
type Status string

// The outcomes. All but Valid mean that the signature proves nothing, for the
// reason that the name says.
const (
	// Valid: the cryptography holds and the key was fit to sign.
	Valid Status = "valid"
	// Invalid: the signer is known and the cryptography does not hold.
	Invalid Status = "invalid"
	// SignerUnknown: no candidate key has this issuer.
	SignerUnknown Status = "signer-unknown"
	// SignerUnfit: the key may not sign this.
	SignerUnfit Status = "signer-unfit"
	// SignerRevoked: the key was revoked, in a way that voids this signature.
	SignerRevoked Status = "signer-revoked"
	// SignerExpired: the key had expired when the signature was made.
	SignerExpired Status = "signer-expired"
	// SignatureExpired: by the signature's own date.
	SignatureExpired Status = "signature-expired"
	// SignatureInFuture: made later than now plus the allowed skew.
	SignatureInFuture Status = "signature-in-future"
	// Unacceptable: not a document signature, or with a critical part that
	// is not understood.
	Unacceptable Status = "signature-unacceptable"
	// Weak: hash or key below the rules.
	Weak Status = "signature-weak"
	// HashShort: the hash is shorter than the standard asks for with this kind of key.
	HashShort Status = "signature-hash-short"
	// Unsupported: a version or algorithm that is not computed.
	Unsupported Status = "signature-unsupported"
)

// A Step is one question of the decision, in the order in which it was asked.
type Step struct {
	Question string `json:"question"`
	Holds    bool   `json:"holds"`
	Detail   string `json:"detail"`
}

// A Candidate is a key that may have made a signature, with the certificate it
// belongs to.
type Candidate struct {
	Certificate *Certificate
	Key         *PublicKey
}

// A Result is the answer of [Verify] with every fact it rests on.
type Result struct {
	Status Status
	// Reason says in a clause why the status is not Valid.
	Reason string
	// Signer is the key whose cryptography holds, or the one that was tried
	// last, or nil.
	Signer *Candidate
	// Tried counts the candidates whose cryptography was computed.
	Tried int
	// Revocation is set when the signer is revoked.
	Revocation *Revocation
	// SignerExpires is when the signer expires or expired, or nil. The
	// caller's policy decides what an expiry between the signature and now
	// means.
	SignerExpires *time.Time
	Steps         []Step
}

// passed notes that a question was answered with yes.
func (r *Result) passed(question, format string, args ...any) {
	r.Steps = append(r.Steps, Step{Question: question, Holds: true, Detail: fmt.Sprintf(format, args...)})
}

func (r Result) end(status Status, question, format string, args ...any) Result {
	r.Status = status
	r.Reason = fmt.Sprintf(format, args...)
	if status != Valid {
		r.Steps = append(r.Steps, Step{Question: question, Detail: r.Reason})
	}
	return r
}

// failed ends with a question that was answered with no, and returns false.
func (r *Result) failed(status Status, question, format string, args ...any) bool {
	*r = r.end(status, question, format, args...)
	return false
}

// A Document is what a signature is held against.
type Document struct {
	// Digest is the finished hash, from [Signature.Finish].
	Digest []byte
	// NotText is set when a signature over a text document is over something
	// else, by [NotText].
	NotText bool
}

// Verify decides whether s holds over a document. The questions are asked in a
// fixed order, and the first that fails decides:
//
//  1. version, type, algorithm and hash are supported, and the type is that of
//     a document signature;
//  2. a candidate has the issuer's key;
//  3. the cryptography holds with one of the candidates; all are tried, for key
//     IDs collide;
//  4. the key may sign: a valid self-signature, flags from a valid binding, a
//     back signature of a signing subkey;
//  5. times and revocation;
//  6. strength.
func Verify(s *Signature, doc Document, candidates []Candidate, rules Rules) Result {
	var r Result
	const form = "Is it a signature over a document that we can compute?"
	if s.unsupported != nil {
		return r.end(Unsupported, form, "%s", s.unsupported.Error())
	}
	if s.Type == Text && doc.NotText {
		return r.end(
			Unacceptable, form, "it is a signature over text, which leaves line endings open, and this file is no text",
		)
	}
	if s.Type != Binary && s.Type != Text {
		return r.end(Unacceptable, form, "it is a %s signature, which says nothing about a document", s.Type)
	}
	if s.Created.IsZero() {
		return r.end(Unacceptable, form, "it does not say when it was made")
	}
	if s.criticalUnknown != "" {
		return r.end(Unacceptable, form, "it carries %s marked critical, which we do not understand", s.criticalUnknown)
	}
	r.passed(form, "%s, %s, made %s", s.KeyAlgorithm, s.Hash, s.Created.Format(time.RFC3339))

	const known = "Is the signer's key in the keyring?"
	if len(candidates) == 0 {
		return r.end(SignerUnknown, known, "no key in the keyring has the issuer %s", s.issuer())
	}
	const holds = "Does the cryptography hold?"
	var best *Result
	var unsupported error
	refuted := 0
	for i := range candidates {
		r.Tried++
		r.Signer = &candidates[i]
		switch err := candidates[i].Key.verify(s, doc.Digest); {
		case err == nil:
			result := r
			result.Steps = slices.Clone(r.Steps)
			result.passed(known, "key %s", candidates[i].Key.Fingerprint)
			result.passed(holds, "the signature is over exactly these bytes")
			if result = result.fit(s, rules); best == nil || result.Status.Better(best.Status) {
				best = &result
			}
		case IsUnsupported(err):
			unsupported = err
		default:
			refuted++
		}
	}
	switch {
	case best != nil:
		best.Tried = r.Tried
		if rev := compromised(best.Signer.Key, candidates); rev != nil && best.Status != SignerRevoked {
			best.Revocation = rev
			return best.end(
				SignerRevoked, "Does its owner say elsewhere that it is compromised?",
				"the key was revoked on %s (%s) in another certificate that it is part of",
				rev.Time.Format(time.DateOnly), rev.Reason,
			)
		}
		return *best
	case unsupported != nil && refuted == 0:
		return r.end(Unsupported, holds, "%s", unsupported.Error())
	}
	r.passed(known, "key %s", r.Signer.Key.Fingerprint)
	return r.end(Invalid, holds, "the key is known, and its signature is not over these bytes")
}

// compromised returns the revocation of a key as compromised in any of the certificates that
// it is really part of, or nil: a key that others hold is in their hands wherever it is used.
// Who only attached it to a certificate of his own cannot revoke it.
func compromised(key *PublicKey, candidates []Candidate) *Revocation {
	for _, candidate := range candidates {
		if candidate.Key.Fingerprint != key.Fingerprint {
			continue
		}
		c := candidate.Certificate
		c.check()
		sigs := c.revocations
		if candidate.Key != c.Primary {
			sub := c.subkey(candidate.Key)
			if !slices.ContainsFunc(sub.bindings, func(s *Signature) bool { return len(s.backs) > 0 }) {
				continue
			}
			sigs = sub.revocations
		}
		hard := slices.DeleteFunc(slices.Clone(sigs), func(s *Signature) bool { return s.reason != Compromised })
		if rev := revocationOf(hard); rev != nil {
			return rev
		}
	}
	return nil
}

// byFar orders the outcomes by how far the decision came, the furthest first.
var byFar = []Status{
	Valid,
	Weak,
	HashShort,
	SignatureExpired,
	SignatureInFuture,
	SignerExpired,
	SignerRevoked,
	SignerUnfit,
	Unacceptable,
	Invalid,
	Unsupported,
	SignerUnknown,
}

// Better reports whether an outcome came further in the decision than another: of
// several candidates that have one key, those count to which it really belongs.
func (s Status) Better(than Status) bool {
	return slices.Index(byFar, s) < slices.Index(byFar, than)
}

func (s *Signature) issuer() string {
	if s.IssuerFingerprint != "" {
		return string(s.IssuerFingerprint)
	}
	if s.IssuerKeyID != 0 {
		return s.IssuerKeyID.String()
	}
	return "(not stated)"
}

// fit asks questions 4 to 6 of a signature whose cryptography holds.
func (r Result) fit(s *Signature, rules Rules) Result {
	primary, own, ok := r.maySign(rules)
	if !ok || !r.wasGood(s, rules, earlier(primary.expires, own.expires)) || !r.isStrong(s, rules) {
		return r
	}
	return r.end(Valid, "", "")
}

// maySign asks whether the signer may sign documents. It returns what its owner has ruled of the
// primary key and of the key itself.
func (r *Result) maySign(rules Rules) (primary, own ruling, ok bool) {
	cert, key := r.Signer.Certificate, r.Signer.Key
	const may = "May this key sign documents?"
	primary, ok = cert.primaryRuling(rules)
	if !ok {
		return ruling{}, ruling{}, r.failed(SignerUnfit, may, "the primary key has no self-signature that holds and is strong enough")
	}
	own = primary
	if key != cert.Primary {
		sub := cert.subkey(key)
		if key.Version != cert.Primary.Version {
			return ruling{}, ruling{}, r.failed(
				SignerUnfit, may,
				"the subkey is of version %d and its primary key of version %d, and these do not go together",
				key.Version, cert.Primary.Version,
			)
		}
		if own, ok = rules.ruling(sub.bindings, sub.Key); !ok {
			return ruling{}, ruling{}, r.failed(SignerUnfit, may, "no valid signature binds the subkey to its primary key")
		}
		if own.flags&flagSign == 0 {
			return ruling{}, ruling{}, r.failed(SignerUnfit, may, "its owner did not mark the subkey for signing")
		}
		if !own.backed {
			return ruling{}, ruling{}, r.failed(
				SignerUnfit, may,
				"the subkey lacks a valid signature back to the primary key, so anyone could have attached it",
			)
		}
	} else if own.stated && own.flags&flagSign == 0 {
		return ruling{}, ruling{}, r.failed(SignerUnfit, may, "its owner did not mark the key for signing")
	}
	r.passed(may, "its owner says so in a signature of %s", own.since.Format(time.DateOnly))
	return primary, own, true
}

// wasGood asks whether the signer, which expires at some time or never, was good when the
// signature was made, and whether the signature is not too old or too new.
func (r *Result) wasGood(s *Signature, rules Rules, expires *time.Time) bool {
	cert, key := r.Signer.Certificate, r.Signer.Key
	const times = "Was the key good when the signature was made?"
	if s.Created.Before(key.Created) || s.Created.Before(cert.Primary.Created) {
		return r.failed(SignerUnfit, times, "the signature claims to be older than the key")
	}
	if s.Created.After(rules.Now.Add(rules.Skew)) {
		return r.failed(SignatureInFuture, times, "it is dated %s, which has not come yet", s.Created.Format(time.RFC3339))
	}
	r.Revocation = cert.revocationOf(key)
	if rev := r.Revocation; rev != nil && (rev.Always() || !s.Created.Before(rev.Time)) {
		return r.failed(SignerRevoked, times, "the key was revoked on %s (%s)", rev.Time.Format(time.DateOnly), rev.Reason)
	}
	r.SignerExpires = expires
	if e := r.SignerExpires; e != nil && !s.Created.Before(*e) {
		return r.failed(
			SignerExpired, times, "the key had expired on %s, before the signature was made", e.Format(time.DateOnly),
		)
	}
	if s.expired(rules.Now) {
		return r.failed(
			SignatureExpired, times, "the signature was valid until %s only",
			s.Created.Add(s.Lifetime).Format(time.DateOnly),
		)
	}
	if rules.MaxAge != 0 && s.Created.Add(rules.MaxAge).Before(rules.Now) {
		return r.failed(
			SignatureExpired, times, "the signature of %s is older than the policy allows",
			s.Created.Format(time.DateOnly),
		)
	}
	r.passed(times, "neither expired nor revoked on %s", s.Created.Format(time.DateOnly))
	return true
}

// isStrong asks whether hash and key are strong enough.
func (r *Result) isStrong(s *Signature, rules Rules) bool {
	key := r.Signer.Key
	const strong = "Are hash and key strong enough?"
	if key.tooShort(s) {
		return r.failed(
			HashShort, strong, "%s is too short for a key of the kind %s: the standard asks for %d bits", s.Hash,
			key.Describe(), 8*key.leastHash(),
		)
	}
	if s.Hash.CollisionBits() < rules.DocumentHashBits {
		return r.failed(Weak, strong, "%s is too weak for a signature over a document", s.Hash)
	}
	if why := key.Weakness(rules); why != "" {
		return r.failed(Weak, strong, "%s", why)
	}
	r.passed(strong, "%s with %s", key.Describe(), s.Hash)
	return true
}

// Weakness says in a clause why the rules do not accept a key of this kind and
// size, or returns the empty string.
func (k *PublicKey) Weakness(rules Rules) string {
	switch curve := k.Curve(); {
	case k.rsa != nil && k.Bits < rules.RSABits:
		return fmt.Sprintf("an RSA key of %d bits is below the %d that the policy asks", k.Bits, rules.RSABits)
	case k.dsa != nil && k.Bits < rules.RSABits:
		return fmt.Sprintf("a DSA key of %d bits is below the %d that the policy asks", k.Bits, rules.RSABits)
	case k.dsa != nil && k.dsa.Q.BitLen()/2 < rules.DocumentHashBits:
		// The digest is cut to the size of q: FIPS 186-4, section 4.6.
		return fmt.Sprintf(
			"the DSA key cuts every digest to %d bits, which is too weak for signatures over documents",
			k.dsa.Q.BitLen(),
		)
	case curve != "" && rules.Curves != nil && !slices.Contains(rules.Curves, curve):
		return fmt.Sprintf("the policy does not accept keys on the curve %s", curve)
	}
	return ""
}
