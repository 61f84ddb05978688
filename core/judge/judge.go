// Package judge comes from evidence to verdicts. It is pure: the same survey,
// measurements, keyring, policy and time give the same outcome, and nothing is
// read from disk, network or clock. That is what makes it possible to judge
// again later, without the bytes.
//
// An artifact is cleared when at least one proof path is complete and no
// ground refuses it. Manifests are judged first, with [Basis.Manifest]; the
// [Voucher] of each then goes into the judgement of the artifacts it lists.
package judge

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"endeixis/core/digest"
	"endeixis/core/keyring"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// A Basis is what every judgement of a batch rests on.
type Basis struct {
	Keyring *keyring.Keyring
	Policy  Policy
	// Own holds, by slug, the policies of publishers that have one of their
	// own.
	Own map[string]Policy
	// Waivers are those that had been granted, and not ended.
	Waivers []Waiver
	Now     time.Time
	// Expected says whose signatures count.
	Expected Expectation
	// Companions are the patterns that were given for this batch.
	Companions []string
}

// policyOf returns the policy for what a publisher's keys sign.
func (b Basis) policyOf(publisher string) Policy {
	if own, ok := b.Own[publisher]; ok {
		return own
	}
	return b.Policy
}

// policyFor returns the policy for what a manifest lists: that of its signer
// it or, when nobody did in a way that counts, of the publisher that is expected.
// Else a signature that does not hold could choose the policy.
func (b Basis) policyFor(v *Voucher) Policy {
	if v != nil && v.best != nil && v.best.carries {
		return b.policyOf(v.best.key.Publisher)
	}
	if len(b.Expected.Publishers) == 1 {
		return b.policyOf(b.Expected.Publishers[0])
	}
	return b.Policy
}

// verify asks whether a signature over an item holds, each candidate by the policy of
// the publisher it belongs to. All are tried, and the best outcome counts; of several
// that are as good, that of a key that counts for the item: a publisher that claims another's
// key as his own changes nothing.
func (b Basis) verify(sig *openpgp.Signature, doc openpgp.Document, item string) openpgp.Result {
	candidates := b.Keyring.Issuers(sig)
	if len(candidates) == 0 {
		return openpgp.Verify(sig, doc, nil, b.Policy.Rules(b.Now))
	}
	var best openpgp.Result
	for i := range candidates {
		key := b.Keyring.Lookup(candidates[i].Certificate.Primary.Fingerprint)
		publisher := ""
		if key != nil {
			publisher = key.Publisher
		}
		result := openpgp.Verify(sig, doc, candidates[i:i+1], b.policyOf(publisher).Rules(b.Now))
		if i == 0 || result.Status.Better(best.Status) ||
			result.Status == best.Status && b.counts(result.Signer, item) && !b.counts(best.Signer, item) {
			best = result
		}
	}
	best.Tried = len(candidates)
	return best
}

// counts reports whether a signer's key is admitted, for a publisher that an item is
// expected from.
func (b Basis) counts(signer *openpgp.Candidate, item string) bool {
	if signer == nil {
		return false
	}
	key := b.Keyring.Lookup(signer.Certificate.Primary.Fingerprint)
	return key != nil && key.StateAt(b.Now) == keyring.Admitted && b.expectedOf(item).allows(key.Publisher)
}

// An Expectation says which publishers' signatures are expected.
type Expectation struct {
	// Publishers are slugs; when empty, any publisher's admitted key counts.
	Publishers []string `json:"publishers"`
	// How says where the expectation comes from: "given", "scope" or "none".
	How string `json:"how"`
}

// Expect returns the expectation for a batch: the publisher that was given, or
// else those whose scope covers one of the artifacts.
func Expect(given string, ring *keyring.Keyring, items []survey.Item) Expectation {
	if given != "" {
		return Expectation{Publishers: []string{given}, How: "given"}
	}
	var slugs []string
	for _, item := range items {
		if item.Role != survey.Artifact {
			continue
		}
		for _, p := range ring.Covering(item.Path) {
			if !slices.Contains(slugs, p.Slug) {
				slugs = append(slugs, p.Slug)
			}
		}
	}
	if len(slugs) == 0 {
		return Expectation{Publishers: []string{}, How: "none"}
	}
	slices.Sort(slugs)
	return Expectation{Publishers: slugs, How: "scope"}
}

// expectedOf returns from whom one file is expected. What the names of a folder tell
// is told of each file by itself: another publisher's file beside it allows nothing.
// A file whose name no scope has, such as a manifest, is expected from any of them.
func (b Basis) expectedOf(file string) Expectation {
	if b.Expected.How != "scope" {
		return b.Expected
	}
	own := Expectation{How: "scope"}
	for _, p := range b.Keyring.Covering(file) {
		if b.Expected.allows(p.Slug) {
			own.Publishers = append(own.Publishers, p.Slug)
		}
	}
	if len(own.Publishers) == 0 {
		return b.Expected
	}
	return own
}

func (e Expectation) allows(publisher string) bool {
	return len(e.Publishers) == 0 || slices.Contains(e.Publishers, publisher)
}

// An Outcome is the judgement of one item. Only artifacts have a verdict and
// proof paths.
type Outcome struct {
	Path    string      `json:"path"`
	Role    survey.Role `json:"role"`
	Verdict Verdict     `json:"verdict,omitempty"`
	Grounds []Ground    `json:"grounds"`
	Paths   []ProofPath `json:"paths"`
}

// A Voucher is a judged manifest: what the artifacts it lists can rest on.
type Voucher struct {
	Outcome Outcome
	// Size and Digest identify the manifest's bytes.
	Size   int64
	Digest digest.Value
	// signatures are those over the manifest; best is the one that carries
	// it furthest, or nil.
	signatures []checkedSignature
	best       *checkedSignature
	// handedOn is set for a list that was written when files were handed on.
	handedOn bool
	// refusal is the first ground that refuses the manifest.
	refusal *Ground
}

// Signed reports whether the manifest is signed by an admitted key of an
// expected publisher, and nothing refuses it.
func (v *Voucher) Signed() bool {
	return v.refusal == nil && v.best != nil && v.best.carries && v.best.waiver == nil
}

// A checkedSignature is one signature, judged.
type checkedSignature struct {
	ground  Ground
	carries bool // a proof path can pass through it
	key     *keyring.Key
	waiver  *Waiver // lifts the ground, and lets a path pass
	made    time.Time
}

// says returns the signature with what its ground says.
func (f checkedSignature) says(code Code, effect Effect, sentence, advice string) checkedSignature {
	f.ground.Code, f.ground.Effect, f.ground.Sentence, f.ground.Advice = code, effect, sentence, advice
	return f
}

// signature judges one signature over an item with the given measurement. A
// signature whose name fits several files is over the one on which it holds.
func (b Basis) signature(item string, over survey.SignatureOver, m *measure.Measurement) checkedSignature {
	f := b.weigh(item, over, m)
	if f.carries && over.Uncompressed != "" && m.Surplus != "" {
		f.carries, f.waiver = false, nil
		f = f.says(
			SurplusBytes, Withholds,
			fmt.Sprintf(
				"The signature %s holds over the uncompressed form of this file, and the file has more: %s. It is not what the publisher made.",
				plain.Text(over.File),
				m.Surplus,
			),
			"Download the file again. If it stays so, expand it, and verify and use what comes out.",
		)
	}
	if !over.Doubtful {
		return f
	}
	name := plain.Text(over.File)
	switch f.ground.Signature.Status {
	case openpgp.Invalid:
		return f.says(
			SignatureInvalid, Notes,
			fmt.Sprintf(
				"The name of the signature %s leaves open which file it is over, and it does not hold over this one.",
				name,
			),
			"",
		)
	case openpgp.Valid:
		f.ground.Sentence += " Its name fits several files; the signature itself decides that it is over this one."
	default:
	}
	return f
}

// documentOf returns what was measured for a signature, or an empty document.
func documentOf(m *measure.Measurement, over survey.SignatureOver) openpgp.Document {
	for _, h := range m.SignatureHashes {
		if h.File == over.File && h.Index == over.Index {
			return openpgp.Document{Digest: h.Digest, NotText: h.NotText}
		}
	}
	return openpgp.Document{}
}

// ruledOut reports whether a signature turned out to be over another file.
func (f *checkedSignature) ruledOut() bool { return f.ground.ruledOut() }

// ruledOut is that of the signature which a ground speaks of.
func (g *Ground) ruledOut() bool { return g.Code == SignatureInvalid && g.Effect == Notes }

// weigh judges a signature over an item by itself.
func (b Basis) weigh(item string, over survey.SignatureOver, m *measure.Measurement) checkedSignature {
	facts := &SignatureFacts{File: over.File, Index: over.Index}
	f := checkedSignature{ground: Ground{Source: over.File, Signature: facts}}
	name := plain.Text(over.File)
	sig, what := signatureIn(over)
	if sig == nil {
		return f.says(SignatureMalformed, Withholds,
			fmt.Sprintf("The signature file %s cannot be read as one: %s.", name, what),
			"Download the signature again from the publisher.")
	}
	if sig.Unsupported() == nil {
		f.made = sig.Created
	}
	facts.tell(sig)
	if over.Around == survey.Cleartext && sig.Type != openpgp.Text && sig.Unsupported() == nil {
		return f.says(
			SignatureUnacceptable, Withholds,
			fmt.Sprintf(
				"The signature around the text of %s is a %s signature, which says nothing certain about a text.", name,
				sig.Type,
			),
			"Ask the publisher for a usual signature.",
		)
	}
	if over.Uncompressed != "" && m.Unexpanded != "" {
		return f.says(
			Unreadable, Withholds,
			fmt.Sprintf(
				"The signature %s is over the uncompressed form of this file, which cannot be read: %s.", name,
				m.Unexpanded,
			),
			"The file is damaged or cut short. Download it again.",
		)
	}
	result := b.verify(sig, documentOf(m, over), item)
	who := b.signerOf(&f, result)
	return b.statusOf(f, result, item, who, name)
}

// signatureIn reads the signature of a file, or says why there is none.
func signatureIn(over survey.SignatureOver) (sig *openpgp.Signature, why string) {
	if over.Problem != nil {
		return nil, over.Problem.Message
	}
	sig, err := openpgp.ParseSignature(over.Raw)
	if err != nil {
		return nil, err.Error()
	}
	return sig, ""
}

// tell notes what a signature says of itself.
func (f *SignatureFacts) tell(sig *openpgp.Signature) {
	f.Issuer = string(sig.IssuerFingerprint)
	if f.Issuer == "" && sig.IssuerKeyID != 0 {
		f.Issuer = sig.IssuerKeyID.String()
	}
	if sig.Unsupported() != nil {
		return
	}
	f.Algorithm, f.Hash = sig.KeyAlgorithm.String(), sig.Hash.String()
	if !sig.Created.IsZero() {
		f.Created = &sig.Created
	}
}

// signerOf notes what is known of the key that made a signature, and returns what it is called
// in a sentence.
func (b Basis) signerOf(f *checkedSignature, result openpgp.Result) (who string) {
	facts := f.ground.Signature
	facts.Status, facts.Steps = result.Status, result.Steps
	if result.Revocation != nil {
		facts.RevokedSince = &result.Revocation.Time
	}
	if result.Signer == nil {
		if facts.Issuer != "" {
			return "the key " + plain.Grouped(facts.Issuer)
		}
		return "a key that it does not name"
	}
	cert := result.Signer.Certificate
	f.key = b.Keyring.Lookup(cert.Primary.Fingerprint)
	facts.Key, facts.MadeBy = cert.Primary.Fingerprint, result.Signer.Key.Fingerprint
	if f.key != nil {
		facts.Publisher = f.key.Publisher
	}
	names := cert.Names()
	if len(names) == 0 {
		return "the key " + plain.Grouped(string(facts.Key))
	}
	facts.UserID = plain.Text(names[0])
	return fmt.Sprintf("%s (%s)", facts.UserID, plain.Grouped(string(facts.Key)))
}

// statusOf says what the status of a signature means for an item. who made it, and name is its
// file.
func (b Basis) statusOf(f checkedSignature, result openpgp.Result, item, who, name string) checkedSignature {
	switch result.Status {
	case openpgp.Valid:
		return b.standing(f, result, item, who, name)
	case openpgp.Invalid:
		return f.says(
			SignatureInvalid, Refuses,
			fmt.Sprintf(
				"The signature %s by %s does not hold over these bytes: the file or the signature was changed after signing, or they do not belong together.",
				name,
				who,
			),
			"Do not use these files. Download both again from the publisher; if it stays so, tell the publisher.",
		)
	case openpgp.SignerUnknown:
		return f.says(
			SignerUnknown,
			Withholds,
			fmt.Sprintf("The signature %s is by %s, which is not in the keyring.", name, who),
			"Get the publisher's key, import it, confirm its fingerprint on independent channels, and admit it; what waits for it is judged again by itself.",
		)
	case openpgp.SignerRevoked:
		return f.says(SignerRevoked, Refuses,
			fmt.Sprintf("The signature %s is by %s, and %s.", name, who, result.Reason),
			"Do not rely on this signature. Look for a release signed with the publisher's present key.")
	case openpgp.SignerExpired:
		return f.says(SignerExpired, Withholds,
			fmt.Sprintf("The signature %s is by %s, and %s.", name, who, result.Reason),
			"If the publisher has extended the key since, import its newer copy and judge again.")
	case openpgp.SignerUnfit:
		return f.says(
			SignerUnfit, Withholds,
			fmt.Sprintf("The signature %s is by %s, which may not sign this: %s.", name, who, result.Reason),
			"Import a fresh copy of the key; if it stays so, ask the publisher.",
		)
	case openpgp.Weak:
		return b.weak(f, result, item, who, name)
	default:
		return f.unsound(result, who, name)
	}
}

// unsound says what keeps a signature from counting, no matter who made it.
func (f checkedSignature) unsound(result openpgp.Result, who, name string) checkedSignature {
	switch result.Status {
	case openpgp.SignatureExpired:
		return f.says(
			SignatureExpired, Withholds, fmt.Sprintf("The signature %s no longer counts: %s.", name, result.Reason),
			"Look for a newer signature or release.",
		)
	case openpgp.SignatureInFuture:
		return f.says(
			SignatureInFuture, Withholds, fmt.Sprintf("The signature %s cannot count yet: %s.", name, result.Reason),
			"Check the clock of this system first, then ask the publisher.",
		)
	case openpgp.HashShort:
		return f.says(
			SignatureHashShort, Withholds,
			fmt.Sprintf("The signature %s by %s does not count: %s.", name, who, result.Reason),
			"Ask the publisher for a signature with a hash that goes with the key, such as SHA-512.",
		)
	case openpgp.Unsupported:
		return f.says(
			SignatureUnsupported, Withholds,
			fmt.Sprintf("The signature %s cannot be checked here: %s.", name, result.Reason),
			"Ask the publisher for a signature of a common kind.",
		)
	default:
		return f.says(
			SignatureUnacceptable, Withholds,
			fmt.Sprintf("The signature %s does not speak for this file: %s.", name, result.Reason),
			"Ask the publisher for a plain detached signature.",
		)
	}
}

// weak judges a signature that holds and is too weak. A waiver lifts the weakness and nothing
// else: the key has to count.
func (b Basis) weak(f checkedSignature, result openpgp.Result, item, who, name string) checkedSignature {
	if w := b.waiver(SignatureWeak, f.ground.Signature.Publisher, item); w != nil {
		standing := b.standing(f, result, item, who, name)
		if !standing.carries {
			return standing
		}
		// One that rests on a waiver itself is not lifted twice.
		if standing.waiver == nil {
			f.carries, f.waiver = true, w
		}
	}
	return f.says(
		SignatureWeak, Withholds, fmt.Sprintf("The signature %s by %s is too weak: %s.", name, who, result.Reason),
		"Ask the publisher for a signature with a stronger hash or key.",
	)
}

// standing decides what a valid signature is worth: whether its key counts,
// and for whom.
func (b Basis) standing(f checkedSignature, result openpgp.Result, item, who, name string) checkedSignature {
	switch state := f.key.StateAt(b.Now); state {
	case keyring.Candidate:
		return f.says(SignerCandidate, Withholds,
			fmt.Sprintf("The signature %s holds, by %s; that key is a candidate and does not count yet.", name, who),
			"Confirm its fingerprint on independent channels and have a curator admit it; what waits for it is judged again by itself.")
	case keyring.Withdrawn:
		return f.says(SignerWithdrawn, Withholds,
			fmt.Sprintf("The signature %s holds, by %s; that key was withdrawn from the keyring.", name, who),
			"Ask a curator why; look for a release signed with the publisher's present key.")
	case keyring.Admitted:
	}
	policy := b.policyOf(f.key.Publisher)
	if ok, why := b.Keyring.Vouched(f.key, policy.Rules(b.Now)); !ok {
		return f.says(
			SignerUncertified, Withholds,
			fmt.Sprintf(
				"The signature %s holds, by %s; that key was admitted because an anchor of %s certified it, and that counts no longer: %s",
				name,
				who,
				plain.Text(f.key.Publisher),
				why,
			),
			"Have a curator look at the key: confirmed on independent channels, it counts by itself.",
		)
	}
	if expected := b.expectedOf(item); !expected.allows(f.key.Publisher) {
		return f.says(
			WrongPublisher, Refuses,
			fmt.Sprintf(
				"The signature %s holds, by %s; that key counts for %s, and these files are expected from %s.", name,
				who, plain.Text(f.key.Publisher), plain.Text(strings.Join(expected.Publishers, " or ")),
			),
			"Find out who really made these files before using them.",
		)
	}
	if f.key.Conflict && policy.ContradictedSigner != Notes {
		return f.says(
			SignerContradicted, Withholds,
			fmt.Sprintf(
				"The signature %s holds, by %s; somebody has seen another fingerprint where that key's should be, and nobody has explained it yet.",
				name,
				who,
			),
			"Have a curator find out which of the two is the publisher's, and say so at the key.",
		)
	}
	if over, ended := b.ended(f, result, item, who, name); ended {
		return over
	}
	f.carries = true
	if f.key.Conflict {
		return f.says(
			SignerContradicted, Notes,
			fmt.Sprintf(
				"The signature %s holds, by %s, admitted for %s; somebody has seen another fingerprint where that key's should be, and by the policy that is only noted.",
				name,
				who,
				plain.Text(f.key.Publisher),
			),
			"Have a curator find out which of the two is the publisher's, and say so at the key.",
		)
	}
	return f.says(
		SignatureValid, Supports,
		fmt.Sprintf("The signature %s holds, by %s, admitted for %s.", name, who, plain.Text(f.key.Publisher)), "",
	)
}

// ended reports whether a signer's key was admitted for earlier signatures only or has expired
// since, and what that means.
func (b Basis) ended(
	f checkedSignature, result openpgp.Result, item, who, name string,
) (over checkedSignature, ended bool) {
	if until := f.key.LastAt(b.Now).Until; until != nil && !f.made.Before(*until) {
		return f.says(
			SignerExpired, Withholds,
			fmt.Sprintf(
				"The signature %s holds, by %s; that key was admitted for what it signed before %s, and this is later.",
				name, who, until.Format(time.DateOnly),
			),
			"Look for a release signed with the publisher's present key.",
		), true
	}
	if e := result.SignerExpires; e != nil && !b.Now.Before(*e) {
		effect := b.policyOf(f.key.Publisher).ExpiredSigner
		f.carries = effect == Notes
		if w := b.waiver(SignerExpired, f.key.Publisher, item); w != nil && !f.carries {
			f.carries, f.waiver = true, w
		}
		return f.says(
			SignerExpired, effect,
			fmt.Sprintf(
				"The signature %s holds, by %s; that key has expired since, on %s.", name, who, e.Format(time.DateOnly),
			),
			"If the publisher has extended the key, import its newer copy and judge again.",
		), true
	}
	return f, false
}

// Manifest judges a manifest.
func (b Basis) Manifest(item *survey.Item, m *measure.Measurement) *Voucher {
	v := &Voucher{
		handedOn: item.Understood != nil && item.Understood.HandedOn,
		Outcome:  Outcome{Path: item.Path, Role: item.Role, Grounds: []Ground{}, Paths: []ProofPath{}}, Size: m.Size,
		Digest: m.Digests[digest.SHA256],
	}
	v.Outcome.Grounds = append(v.Outcome.Grounds, readingGrounds(item, m)...)
	if m.Problem == nil {
		for _, over := range item.Signatures {
			v.signatures = append(v.signatures, b.signature(item.Path, over, m))
		}
	}
	for i := range v.signatures {
		f := &v.signatures[i]
		v.Outcome.Grounds = append(v.Outcome.Grounds, f.ground)
		if f.ground.Effect == Refuses && v.refusal == nil {
			v.refusal = &f.ground
		}
		if f.ruledOut() {
			continue
		}
		if v.best == nil || f.carries && !v.best.carries {
			v.best = f
		}
	}
	if v.refusal != nil {
		for i := range v.signatures {
			if &v.signatures[i].ground == v.refusal {
				v.best = &v.signatures[i]
			}
		}
	}
	switch {
	case v.best != nil:
	case item.Inside != nil:
		v.Outcome.Grounds = append(v.Outcome.Grounds, Ground{
			Code:   ManifestUnsigned,
			Effect: Notes,
			Source: item.Path,
			Sentence: fmt.Sprintf(
				"No signature vouches for %s by itself; it is worth what vouches for %s around it.",
				plain.Text(item.Path), plain.Text(item.Inside.Of),
			),
		})
	case v.handedOn:
		v.Outcome.Grounds = append(v.Outcome.Grounds, Ground{
			Code:   ManifestUnsigned,
			Effect: Notes,
			Source: item.Path,
			Sentence: fmt.Sprintf(
				"%s was written when the files were handed on, and nobody has signed it: it shows damage on the way. The receipts say who vouches.",
				plain.Text(item.Path),
			),
		})
	default:
		v.Outcome.Grounds = append(v.Outcome.Grounds, Ground{
			Code: ManifestUnsigned, Effect: Withholds, Source: item.Path,
			Sentence: fmt.Sprintf("No signature vouches for %s: anybody could have written it.", plain.Text(item.Path)),
			Advice:   "Look for the publisher's signature of this list and put it beside it.",
		})
	}
	return v
}

// readingGrounds tells what went wrong with the item's bytes or text.
func readingGrounds(item *survey.Item, m *measure.Measurement) []Ground {
	if out := unanswered(m); out != nil {
		return out
	}
	var out []Ground
	path := plain.Text(item.Path)
	if p := m.Problem; p != nil {
		g := Ground{
			Code: Unreadable, Effect: Withholds, Sentence: fmt.Sprintf("%s could not be read: %s.", path, p.Message),
			Advice: "Mend that and run the batch again.",
		}
		if p.Code == measure.NotMeasured {
			g.Code = NotMeasured
			g.Sentence = fmt.Sprintf("%s was not measured: %s.", path, p.Message)
			g.Advice = "Run the batch again."
		}
		if p.Code == measure.ChangedWhileReading {
			g.Code = ChangedWhileReading
			g.Sentence = fmt.Sprintf("%s changed while it was read: %s.", path, p.Message)
			g.Advice = "Wait until nothing writes to it any more, then run the batch again."
		}
		out = append(out, g)
	} else if p := item.Problem; p != nil && item.Role == survey.Manifest {
		out = append(
			out,
			Ground{
				Code: ManifestUnreadable, Effect: Withholds, Source: item.Path,
				Sentence: fmt.Sprintf("%s could not be read as a manifest: %s.", path, p.Message),
				Advice:   "Get the list again from the publisher.",
			},
		)
	} else if p != nil {
		code := Unreadable
		if item.Role == survey.Signature {
			code = SignatureMalformed
		}
		out = append(
			out,
			Ground{
				Code: code, Effect: Withholds, Sentence: fmt.Sprintf("%s: %s.", path, p.Message),
				Advice: "Download it again from the publisher.",
			},
		)
	}
	if u := item.Understood; u != nil {
		for _, p := range u.Problems {
			g := Ground{
				Code: ManifestUnreadable, Effect: Withholds, Source: item.Path, Line: p.Line,
				Sentence: fmt.Sprintf("%s, %s.", path, p.String()),
			}
			if p.Code == manifest.OutsideText {
				g.Effect, g.Advice = Notes, "Look at what stands there before you believe it."
			}
			out = append(out, g)
		}
		if u.MoreProblems > 0 {
			out = append(
				out,
				Ground{
					Code: ManifestUnreadable, Effect: Withholds, Source: item.Path,
					Sentence: fmt.Sprintf("%s has %d more lines that could not be used.", path, u.MoreProblems),
				},
			)
		}
		if u.Entries == 0 && len(u.Problems) == 0 && item.Problem == nil {
			out = append(
				out,
				Ground{
					Code: ManifestUnreadable, Effect: Withholds, Source: item.Path,
					Sentence: fmt.Sprintf("%s is named like a manifest and holds no entry.", path),
				},
			)
		}
	}
	return out
}

// Other judges an item that is neither artifact nor manifest: it gets grounds
// where something is wrong with it.
func (b Basis) Other(item *survey.Item, m *measure.Measurement) Outcome {
	return Outcome{
		Path: item.Path, Role: item.Role, Grounds: append([]Ground{}, readingGrounds(item, m)...), Paths: []ProofPath{},
	}
}

// Batch sums up the verdicts of a batch's artifacts. absent counts entries
// without a file, which refuse the batch when requireAll is set.
func Batch(cleared, unproven, refused, absent int, requireAll bool) Verdict {
	switch {
	case refused > 0, requireAll && absent > 0:
		return Refused
	case unproven > 0, cleared == 0:
		return Unproven
	}
	return Cleared
}
