package judge

import (
	"fmt"
	"slices"
	"strings"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

// Surroundings are what an artifact can rest on beside itself.
type Surroundings struct {
	// Vouchers are those of the manifests that list it, by path.
	Vouchers map[string]*Voucher
	// Around is the outcome of the container that holds it, or nil.
	Around *Outcome
	// Original is the outcome of the file that a medium is read back against, or nil.
	Original *Outcome
	// Recorded is what receipts beside it say of files of its name.
	Recorded []Recorded
	// Before is what was cleared before it, or nil where that is not known.
	Before *Before
	// Same are files with its bytes that were cleared before.
	Same []Reference
}

// Artifact judges an artifact.
func (b Basis) Artifact(item *survey.Item, m *measure.Measurement, on Surroundings) Outcome {
	out := Outcome{Path: item.Path, Role: item.Role, Grounds: []Ground{}, Paths: []ProofPath{}}
	if reading := readingGrounds(item, m); len(reading) > 0 {
		out.Grounds, out.Verdict = reading, Unproven
		b.asCompanion(item, &out)
		return out
	}
	if m.CollisionSuspected {
		out.Grounds = append(out.Grounds, Ground{
			Code:      CollisionSuspected,
			Effect:    Refuses,
			Algorithm: digest.SHA1,
			Computed:  m.Digests[digest.SHA1],
			Sentence:  "The file shows the marks of a collision attack on SHA-1: it was made so that another file has the same digest.",
			Advice:    "Do not use this file. Tell the publisher.",
		})
	}
	signed := b.bySignature(item, m, &out)
	listings := compare(item, m, on.Vouchers)
	b.byManifest(item, m, listings, &out)
	b.byCopies(item, m, listings, &out)
	byContainer(item, m, on.Around, &out)
	readBack := b.byOriginal(item, m, on.Original, &out)
	receipted := byReceipt(item, m, on.Recorded, &out)
	known := b.byReference(item, m, on.Same, &out)
	out.Grounds = append(append(out.Grounds, contentsGrounds(item)...), readbackGrounds(m)...)

	listed := slices.ContainsFunc(listings, func(l comparedEntry) bool { return !l.ruledOut() })
	if !listed && !signed && !readBack && !receipted && !known && !within(&out) {
		g := Ground{
			Code:     NotListed,
			Effect:   Withholds,
			Sentence: "No manifest and no signature here speaks of this file.",
			Advice:   "Look for the publisher's manifest or signature of it. If there is none, nothing shows where the file comes from.",
		}
		if n := nameless(listings); n > 0 {
			g.Sentence = fmt.Sprintf(
				"No manifest and no signature here speaks of this file by its name, and of the %d digests that stand here without a name none is its.",
				n,
			)
		}
		if len(item.Unasked) > 0 {
			g.Sentence = fmt.Sprintf(
				"What was handed over for this file speaks of %s, and not of it.", quotedAll(item.Unasked),
			)
			g.Advice = "If it is the same file under another name, rename it to that and check again. Otherwise get what its publisher says of this one."
		}
		if item.Holds != nil && item.Holds.Spoken > 0 {
			g.Sentence = fmt.Sprintf(
				"No manifest and no signature here speaks of this %s itself; what is here speaks of %s inside it, judged by themselves.",
				item.Holds.Format.Noun(),
				plain.Count(item.Holds.Spoken, "file"),
			)
			g.Advice = "If all that you need is inside and cleared, use that and nothing else of it. Otherwise look for the publisher's digest or signature of the whole."
		}
		for _, d := range m.Diagnoses {
			g.Causes = append(g.Causes, d.Causes...)
		}
		out.Grounds = append(out.Grounds, g)
	}
	b.byPredecessors(item, m, listings, on.Before, &out)
	b.byMaker(item, m, &out)
	out.Grounds = append(out.Grounds, waivedGrounds(out.Paths)...)
	out.Verdict = verdictOf(&out, listings)
	b.asCompanion(item, &out)
	return out
}

// quotedAll quotes names for a sentence.
func quotedAll(names []string) string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = plain.Quoted(name)
	}
	return strings.Join(out, ", ")
}

// byMaker says who has read the bytes, if it was not the service. Where the policy does
// not name them, no path holds: the first link of each is what they say.
func (b Basis) byMaker(item *survey.Item, m *measure.Measurement, out *Outcome) {
	maker := m.MadeBy()
	if maker == measure.Service {
		return
	}
	if m.Device != nil {
		// It counts for nothing but to be held against bytes that were read, and the
		// ground for that says who said it.
		return
	}
	g := Ground{
		Code: ByMeasurer, Effect: Notes,
		Sentence: fmt.Sprintf("The bytes were read by the %s, and not by the service.", plain.Text(m.Where)),
	}
	if !slices.Contains(b.policyOn(item.Path).MeasuredBy, maker) {
		g.Effect = Withholds
		g.Sentence += " By the policy that clears nothing."
		g.Advice = "Put the file where the service reads it, and verify it there."
		out.breakPaths(g)
	}
	out.Grounds = append(out.Grounds, g)
}

// verdictOf applies the rule: a refusing ground refuses; what refuses a
// manifest refuses the artifacts that no other complete path clears.
func verdictOf(out *Outcome, listings []comparedEntry) Verdict {
	for _, g := range out.Grounds {
		if g.Effect == Refuses {
			return Refused
		}
	}
	for _, p := range out.Paths {
		if p.Complete {
			return Cleared
		}
	}
	for _, l := range listings {
		if refuses := l.refusal(); refuses != nil {
			refusal := *refuses
			refusal.Sentence = fmt.Sprintf(
				"The manifest %s is refused, and nothing else clears this file. %s", plain.Text(l.Manifest),
				refusal.Sentence,
			)
			out.Grounds = append(out.Grounds, refusal)
			return Refused
		}
	}
	return Unproven
}

// ToExplain returns the entry whose mismatch refuses the item and is worth
// explaining, the one with the strongest algorithm, or nil. maxBytes bounds the
// file that is read again.
func ToExplain(item *survey.Item, m *measure.Measurement, outcome *Outcome, maxBytes int64) *survey.Entry {
	if m.Problem != nil || m.Size > maxBytes {
		return nil
	}
	var best *survey.Entry
	for _, g := range outcome.Grounds {
		if g.Code != DigestMismatch || g.Effect != Refuses {
			continue
		}
		for i := range item.Listed {
			l := &item.Listed[i]
			if l.Manifest == g.Source && l.Line == g.Line && slices.Equal(l.Digest, g.Expected) &&
				(best == nil || digest.Strongest(l.Algorithms).CollisionBits() >
					digest.Strongest(best.Algorithms).CollisionBits()) {
				best = l
			}
		}
	}
	return best
}

// Unlisted reports whether nothing speaks of the item, so that it is worth
// looking for its bytes under another name.
func Unlisted(outcome *Outcome) bool {
	return slices.ContainsFunc(outcome.Grounds, func(g Ground) bool { return g.Code == NotListed })
}

// within reports whether the file rests on a container that is cleared.
func within(out *Outcome) bool {
	return slices.ContainsFunc(out.Grounds, func(g Ground) bool { return g.Code == WithinCleared })
}

// byContainer follows the path through the file that holds this one: where
// every byte of that is vouched for, so is every byte in it.
func byContainer(item *survey.Item, m *measure.Measurement, around *Outcome, out *Outcome) {
	if item.Inside == nil || around == nil {
		return
	}
	name := plain.Text(item.Inside.Of)
	links := []Link{artifactLink(item, m)}
	holder := Link{
		Kind: "container", State: Holds, Label: name, Detail: "holds this file, and is cleared", Ref: item.Inside.Of,
	}
	at := slices.IndexFunc(around.Paths, func(p ProofPath) bool { return p.Complete })
	if around.Verdict != Cleared || at < 0 {
		holder.State, holder.Detail = Missing, "holds this file, and is not cleared itself"
		if around.Verdict == Refused {
			holder.State, holder.Detail = Broken, "holds this file, and is refused"
		}
		out.Paths = append(out.Paths, pathOf(ClearedContainer, append(links, holder), Ground{
			Sentence: fmt.Sprintf("%s around it is not cleared.", name),
			Advice:   "What is missing there would clear this file too.",
		}))
		return
	}
	out.Grounds = append(out.Grounds, Ground{
		Code: WithinCleared, Effect: Supports, Source: item.Inside.Of,
		Sentence: fmt.Sprintf("It is a part of %s, which is cleared: every byte of that is vouched for.", name),
	})
	out.Paths = append(
		out.Paths, pathOf(ClearedContainer, append(append(links, holder), around.Paths[at].Links[1:]...), Ground{}),
	)
}

// contentsGrounds tells what in a container was not looked at.
func contentsGrounds(item *survey.Item) []Ground {
	h := item.Holds
	if h == nil || h.Trouble == "" && len(h.Problems) == 0 {
		return nil
	}
	g := Ground{Code: ContentsUnread, Effect: Notes}
	if h.Trouble != "" {
		g.Sentence = fmt.Sprintf("What it holds was not looked at: %s.", h.Trouble)
		return []Ground{g}
	}
	first := h.Problems[0]
	g.Sentence = fmt.Sprintf("Of what it holds, %s: %s.", first.Name, first.Message)
	if first.Name == "" {
		g.Sentence = fmt.Sprintf("Of what it holds, not all can be looked at: %s.", first.Message)
	}
	if more := len(h.Problems) - 1 + h.MoreProblems; more > 0 {
		g.Sentence += fmt.Sprintf(" The same goes for %s more.", plain.Count(more, "file"))
	}
	return []Ground{g}
}

// bySignature follows the path of each signature over the artifact itself, and
// reports whether there is any.
func (b Basis) bySignature(item *survey.Item, m *measure.Measurement, out *Outcome) bool {
	signed := false
	for _, over := range item.Signatures {
		f := b.signature(item.Path, over, m)
		out.Grounds = append(out.Grounds, f.ground)
		if f.ruledOut() {
			continue
		}
		signed = true
		first := artifactLink(item, m)
		if over.Uncompressed != "" {
			first.Detail += fmt.Sprintf(", and expanded from %s", over.Uncompressed)
		}
		links := append([]Link{first}, f.links()...)
		out.Paths = append(out.Paths, pathOf(SignedArtifact, links, f.ground))
	}
	return signed
}

// links returns the links signature, key and publisher of a judged signature.
func (f *checkedSignature) links() []Link {
	facts := f.ground.Signature
	sig := Link{
		Kind: "signature", State: Holds, Label: plain.Text(facts.File), Detail: "holds over exactly these bytes",
		Ref: facts.File,
	}
	key := Link{Kind: "key", State: Unreached, Label: "the signer's key"}
	publisher := Link{Kind: "publisher", State: Unreached, Label: "the publisher"}
	if facts.Created != nil {
		sig.Detail = "made " + facts.Created.Format("2006-01-02 15:04 UTC") + ", holds over exactly these bytes"
	}
	if facts.Key != "" {
		key.Label, key.Ref = plain.Grouped(string(facts.Key)), string(facts.Key)
		key.Detail = facts.UserID
	} else if facts.Issuer != "" {
		key.Label = plain.Grouped(facts.Issuer)
	}
	if facts.Publisher != "" {
		publisher.Label, publisher.Ref = plain.Text(facts.Publisher), facts.Publisher
	}
	switch f.ground.Code {
	case SignatureValid:
		key.State, publisher.State = Holds, Holds
		publisher.Detail = "the key is admitted for this publisher"
	case SignerUnknown:
		sig.State, sig.Detail = Unreached, "cannot be checked without the signer's key"
		key.State, key.Detail = Missing, "not in the keyring"
	case SignerCandidate:
		key.State, key.Detail = Missing, "a candidate: not admitted yet"
	case SignerWithdrawn:
		key.State, key.Detail = Broken, "withdrawn from the keyring"
	case SignerRevoked:
		key.State, key.Detail = Broken, "revoked by its owner"
	case SignerUnfit:
		key.State, key.Detail = Broken, "not fit to sign this"
	case SignerUncertified:
		key.State, key.Detail = Broken, "the certification that it was admitted on counts no longer"
	case SignerContradicted:
		key.State, key.Detail = Broken, "a sighting shows another fingerprint"
		if f.carries {
			key.State, publisher.State = Holds, Holds
		}
	case SignatureHashShort:
		sig.State, sig.Detail = Broken, "its hash is too short for the key"
	case SignerExpired:
		key.State, key.Detail = Broken, "expired"
		if f.carries {
			key.State, publisher.State = Holds, Holds
		}
	case WrongPublisher:
		key.State, publisher.State = Holds, Broken
		publisher.Detail = "not the publisher expected here"
	default:
		sig.State, sig.Detail = Broken, string(f.ground.Code)
	}
	if f.waiver != nil {
		key.State, publisher.State = Holds, Holds
		publisher.Detail = "the key is admitted for this publisher"
		weak := &sig
		if f.ground.Code == SignerExpired {
			weak = &key
		}
		waive(f.waiver, weak)
	}
	return []Link{sig, key, publisher}
}

// A comparedEntry is a manifest entry, compared.
type comparedEntry struct {
	survey.Entry
	voucher *Voucher
	matches bool
	// algorithm is the candidate that matches, or the likeliest.
	algorithm digest.Algorithm
	computed  digest.Value
	wrongSize bool
	// others says that the manifest is by a publisher whose file this is not.
	others *Ground
}

// ruledOut reports whether an entry turned out to be about another file, or is a guess,
// which speaks of none.
func (l *comparedEntry) ruledOut() bool { return l.Guessed || l.Doubtful && !l.matches }

// holds reports whether an entry that is no guess is about the very bytes.
func (l *comparedEntry) holds() bool { return l.matches && !l.Guessed }

// compare holds every entry against what was computed.
func compare(item *survey.Item, m *measure.Measurement, vouchers map[string]*Voucher) []comparedEntry {
	var out []comparedEntry
	for _, entry := range item.Listed {
		l := comparedEntry{Entry: entry, voucher: vouchers[entry.Manifest]}
		l.wrongSize = entry.Size != nil && *entry.Size != m.Size
		for _, a := range entry.Algorithms {
			computed, ok := m.Digests[a]
			if !ok {
				continue
			}
			if l.computed == nil {
				l.algorithm, l.computed = a, computed
			}
			if slices.Equal(computed, entry.Digest) {
				l.matches, l.algorithm, l.computed = true, a, computed
				break
			}
		}
		out = append(out, l)
	}
	return out
}

// byManifest follows the path through each manifest entry.
func (b Basis) byManifest(item *survey.Item, m *measure.Measurement, listings []comparedEntry, out *Outcome) {
	strong := false
	signed := outranked(listings)
	type line struct {
		manifest string
		line     int
	}
	sized := map[line]bool{}
	for _, l := range listings {
		bits := b.policyFor(l.voucher).DigestBits
		for _, g := range l.grounds(item, m, listings, signed, bits) {
			if g.Code == SizeMismatch {
				// A line with several digests states the size once.
				at := line{g.Source, g.Line}
				if sized[at] {
					continue
				}
				sized[at] = true
			}
			out.Grounds = append(out.Grounds, g)
		}
		strong = strong || l.holds() && l.algorithm.CollisionBits() >= bits
	}
	if disagree := disagreement(listings, signed); disagree != nil {
		out.Grounds = append(out.Grounds, *disagree)
	}
	if i := slices.IndexFunc(listings, func(l comparedEntry) bool { return l.holds() }); i >= 0 && !strong {
		l := listings[i]
		out.Grounds = append(out.Grounds, Ground{
			Code:      WeakDigestOnly,
			Effect:    Withholds,
			Source:    l.Manifest,
			Line:      l.Line,
			Algorithm: l.algorithm,
			Sentence: fmt.Sprintf(
				"The only matching digest is %s: accidental damage would show, tampering need not.", l.algorithm,
			),
			Advice: "Ask the publisher for SHA-256 or stronger, or for a signature.",
		})
	}
	for i, l := range listings {
		if l.ruledOut() {
			continue
		}
		if l.matches && l.voucher != nil && l.voucher.best != nil {
			if best := b.bestFor(item.Path, l.voucher); best.ground.Code == WrongPublisher {
				listings[i].others = &best.ground
			}
		}
		out.Paths = append(out.Paths, b.manifestPath(item, m, l))
		if l.matches && l.voucher != nil {
			for _, f := range l.voucher.signatures {
				if f.ruledOut() {
					continue
				}
				f = b.speaksFor(item.Path, f)
				// What refuses a manifest is decided in verdictOf, after
				// all other paths.
				if f.ground.Effect != Refuses {
					out.Grounds = append(out.Grounds, f.ground)
				}
			}
			if l.voucher.best == nil {
				out.Grounds = append(out.Grounds, Ground{
					Code: ManifestUnsigned, Effect: Withholds, Source: l.Manifest,
					Sentence: l.unsignedSentence(),
					Advice:   l.unsignedAdvice(),
				})
			}
		}
	}
}

// nameless counts the digests without a name that turned out not to be the file's.
func nameless(listings []comparedEntry) int {
	n := 0
	for i := range listings {
		if l := &listings[i]; l.Name == "" && l.ruledOut() && l.Question == "" {
			n++
		}
	}
	return n
}

// sizeGround tells that a file has not the size that an entry states.
func (l *comparedEntry) sizeGround(m *measure.Measurement, where, advice string) Ground {
	return Ground{
		Code:      SizeMismatch,
		Effect:    Refuses,
		Source:    l.Manifest,
		Line:      l.Line,
		Algorithm: l.algorithm,
		Expected:  l.Digest,
		Computed:  l.computed,
		Sentence:  fmt.Sprintf("It is %d bytes long, and %s states %d.", m.Size, where, *l.Size),
		Advice:    advice,
	}
}

// where names the place of an entry for people.
func (l *comparedEntry) where() string {
	if l.Given == survey.AsValue {
		return "the value that was given"
	}
	return fmt.Sprintf("%s, line %d", plain.Text(l.Manifest), l.Line)
}

// grounds returns what one entry says about the artifact. bits is the strength
// from which a digest counts.
func (l *comparedEntry) grounds(
	item *survey.Item, m *measure.Measurement, all []comparedEntry, signed map[digest.Algorithm]bool, bits int,
) []Ground {
	switch {
	case l.Guessed:
		return []Ground{l.guessGround()}
	case l.matches:
		return l.matchGrounds(item, m, strongMatch(all, bits) != nil)
	case l.Question != "":
		return []Ground{l.questionGround()}
	case l.Given != "" && l.Name == "" && l.Doubtful:
		g := l.ground(DigestMismatch, Notes)
		g.Sentence = fmt.Sprintf(
			"The %s value in %s is not this file's. Several were given without names, and one at most can be its.",
			l.algorithm, l.where(),
		)
		return []Ground{g}
	case l.Renamed, l.Doubtful && l.Name == "":
		return nil // it is another file, and is told as that
	case l.Doubtful:
		g := l.ground(DigestMismatch, Notes)
		g.Sentence = fmt.Sprintf(
			"The name in %s fits several files, and the %s digest there is not that of this one.", l.where(),
			l.algorithm,
		)
		return []Ground{g}
	}
	return l.mismatchGrounds(item, m, all, signed, bits)
}

// unsignedSentence says that nobody vouches for what the bytes match.
func (l *comparedEntry) unsignedSentence() string {
	if l.Given == survey.AsValue {
		return "It matches the value that was given, and nobody vouches for that: a value shows damage, and not who made the file."
	}
	if l.voucher != nil && l.voucher.handedOn {
		return fmt.Sprintf(
			"It matches %s, the list that was written when it was handed on: that shows damage on the way, and nobody has signed it.",
			plain.Text(l.Manifest),
		)
	}
	return fmt.Sprintf(
		"It matches %s, which no signature vouches for: anybody could have written it.", plain.Text(l.Manifest),
	)
}

func (l *comparedEntry) unsignedAdvice() string {
	if l.voucher != nil && l.voucher.handedOn {
		return "The receipts beside that list, or the publisher's own list and signature, say who vouches. Have the file handed on again if they are missing."
	}
	switch l.Given {
	case survey.AsValue:
		return "Look for a list that the publisher signed, or for a signature of the file itself."
	case survey.AsText:
		return "Look for the publisher's signature of that text, or of the file itself."
	}
	return "Look for the publisher's signature of that list and put it beside it."
}

// ground begins what an entry says.
func (l *comparedEntry) ground(code Code, effect Effect) Ground {
	return Ground{
		Code: code, Effect: effect, Source: l.Manifest, Line: l.Line, Algorithm: l.algorithm, Expected: l.Digest,
		Computed: l.computed,
	}
}

// guessGround tells what came of a value that nothing calls a checksum.
func (l *comparedEntry) guessGround() Ground {
	g := l.ground(Guessed, Notes)
	g.Expected, g.Computed = nil, nil
	if l.matches {
		g.Sentence = fmt.Sprintf(
			"The %d digits beside its name in %s are its %s. Nothing there calls them a checksum, so that they prove nothing.",
			2*len(l.Digest),
			l.where(),
			l.algorithm,
		)
	} else {
		g.Sentence = fmt.Sprintf(
			"The %d digits beside its name in %s are none of its checksums. Nothing there calls them one, so that they were left out.",
			2*len(l.Digest),
			l.where(),
		)
	}
	return g
}

// questionGround tells that a value whose label says that it is of something else is not
// the file's.
func (l *comparedEntry) questionGround() Ground {
	g := l.ground(Questioned, Notes)
	g.Sentence = fmt.Sprintf("The value in %s is not this file's: %s.", l.where(), l.Question)
	g.Advice = "If it was meant for this file, give it by itself."
	return g
}

// matchGrounds tells that the bytes are those of an entry. strong tells whether any entry
// matches by a digest that rules out tampering.
func (l *comparedEntry) matchGrounds(item *survey.Item, m *measure.Measurement, strong bool) []Ground {
	g := l.ground(DigestMatch, Supports)
	g.Sentence = fmt.Sprintf("Its %s digest is the one that %s states.", l.algorithm, l.where())
	if l.Given == survey.AsValue {
		g.Sentence = fmt.Sprintf("Its %s digest is the value that was given.", l.algorithm)
	}
	switch {
	case l.Question != "":
		g.Sentence += " By its label it is of something else; the bytes say that it is this file's."
	case l.Doubtful && !l.Renamed && l.Name == "" && l.Given == "":
		g.Sentence += " No file is named there; the digest decides that this one is meant."
	case l.Doubtful && !l.Renamed:
		g.Sentence += " The name there fits several files; the digest decides that this one is meant."
	}
	out := []Ground{g}
	switch {
	case l.Renamed && l.Name == item.Path:
		out = append(out, Ground{
			Code:     ListedAs,
			Effect:   Notes,
			Source:   l.Manifest,
			Line:     l.Line,
			Sentence: "Its name has a backslash, which a list can mean as a folder. The bytes say that it is this file.",
		})
	case l.Renamed:
		out = append(out, Ground{
			Code:   ListedAs,
			Effect: Notes,
			Source: l.Manifest,
			Line:   l.Line,
			Sentence: fmt.Sprintf(
				"The list calls it %s; here it is called %s. The names differ in nothing that matters, and the bytes are the same.",
				plain.Quoted(l.Name),
				plain.Quoted(item.Path),
			),
		})
	}
	switch {
	case l.wrongSize && strong:
		// The bytes are the right ones: it is the list that contradicts itself.
		out = append(out, Ground{
			Code:   SizeDisagrees,
			Effect: Notes,
			Source: l.Manifest,
			Line:   l.Line,
			Sentence: fmt.Sprintf(
				"%s contradicts itself: the digest that it states is this file's, which is %d bytes long, and the size that it states is %d.",
				l.where(),
				m.Size,
				*l.Size,
			),
			Advice: "The file is the one that is meant. Tell whoever made the list.",
		})
	case l.wrongSize:
		out = append(
			out,
			l.sizeGround(
				m,
				l.where(),
				"Find out which is right: the digest says that it is this file, and the size that it is not. Get the list again from the publisher.",
			),
		)
	case l.GuessedSize != nil && *l.GuessedSize != m.Size:
		out = append(out, Ground{
			Code:   Guessed,
			Effect: Notes,
			Source: l.Manifest,
			Line:   l.Line,
			Sentence: fmt.Sprintf(
				"The number %d beside it in %s is not its size. Nothing there calls it one, so that it was left out.",
				*l.GuessedSize, l.where(),
			),
		})
	}
	return out
}

// mismatchGrounds tells that the bytes are not those of an entry.
func (l *comparedEntry) mismatchGrounds(
	item *survey.Item, m *measure.Measurement, all []comparedEntry, signed map[digest.Algorithm]bool, bits int,
) []Ground {
	var out []Ground
	if l.wrongSize {
		out = append(out, l.sizeGround(m, l.where(), "Download it again."))
	}
	g := l.ground(DigestMismatch, Refuses)
	g.Sentence = fmt.Sprintf(
		"The bytes of %s are not those that %s describes: the %s digest differs.", plain.Text(item.Path), l.where(),
		l.algorithm,
	)
	g.Advice = "Do not use this file. Download it again from the publisher, and check again."
	switch {
	case l.Given == survey.AsValue:
		g.Sentence = fmt.Sprintf(
			"The bytes of %s are not those of the value that was given: the %s digest differs.", plain.Text(item.Path),
			l.algorithm,
		)
		g.Advice = "Do not use this file. Read the value again where it comes from; if it was copied right, download the file again."
	case l.Given == survey.AsText && l.Name == "":
		g.Advice = "Do not use this file, if the value is meant for it. If it is, download the file again from the publisher."
	}
	for _, d := range m.Diagnoses {
		if d.Manifest == l.Manifest && d.Line == l.Line && slices.Equal(d.Expected, l.Digest) {
			g.Causes = d.Causes
		}
	}
	if other := strongMatch(all, bits); other != nil && !l.outrankedBy(signed) {
		where, what := fmt.Sprintf("that %s states in line %d", plain.Text(other.Manifest), other.Line), "lists"
		g.Advice = "Find out which of the lists is the publisher's present one, and get the other anew."
		if other.Manifest == l.Manifest {
			where, what = fmt.Sprintf("in line %d", other.Line), "lines"
			g.Advice = "Find out which of the two values the publisher states for this file, and where the other comes from."
		}
		g.Sentence += fmt.Sprintf(
			" The %s digest %s does match, so the two %s are not about the same file.", other.algorithm, where, what,
		)
		g.Causes = slices.DeleteFunc(
			slices.Clone(g.Causes), func(f diagnose.Cause) bool { return f.Code == diagnose.Altered },
		)
	}
	if l.outrankedBy(signed) {
		g.Effect = Notes
		g.Sentence += " A signed manifest states the digest that was computed, so the unsigned one is wrong."
		g.Advice = "Find out where the unsigned manifest comes from."
	}
	return append(out, g)
}

// strongMatch returns the first entry that matches by a digest of enough
// collision resistance, or nil.
func strongMatch(all []comparedEntry, bits int) *comparedEntry {
	for i := range all {
		if all[i].holds() && all[i].algorithm.CollisionBits() >= bits {
			return &all[i]
		}
	}
	return nil
}

// outranked returns the algorithms under which a manifest signed by an admitted key
// states the computed value: what one that is not so signed states otherwise is wrong.
func outranked(all []comparedEntry) map[digest.Algorithm]bool {
	out := map[digest.Algorithm]bool{}
	for i := range all {
		if l := &all[i]; l.holds() && l.voucher != nil && l.voucher.Signed() {
			out[l.algorithm] = true
		}
	}
	return out
}

func (l *comparedEntry) outrankedBy(signed map[digest.Algorithm]bool) bool {
	return signed[l.algorithm] && (l.voucher == nil || !l.voucher.Signed())
}

// disagreement reports two manifests that give different values under one
// algorithm, unless the matching one outranks the other.
func disagreement(all []comparedEntry, signed map[digest.Algorithm]bool) *Ground {
	tried := map[digest.Algorithm]bool{}
	for _, match := range all {
		if !match.holds() || tried[match.algorithm] {
			continue
		}
		tried[match.algorithm] = true
		for _, other := range all {
			if other.matches || other.Doubtful || other.Guessed || other.algorithm != match.algorithm ||
				other.outrankedBy(signed) {
				continue
			}
			return &Ground{
				Code:      ManifestsDisagree,
				Effect:    Refuses,
				Source:    other.Manifest,
				Line:      other.Line,
				Algorithm: match.algorithm,
				Expected:  other.Digest,
				Computed:  match.computed,
				Sentence: fmt.Sprintf(
					"%s (line %d) and %s (line %d) give different %s digests for this file.",
					plain.Text(match.Manifest), match.Line, plain.Text(other.Manifest), other.Line, match.algorithm,
				),
				Advice: "One of them is not the publisher's. Get the list again, with its signature, from the publisher.",
			}
		}
	}
	return nil
}

// manifestPath draws the path artifact → digest → entry → manifest → signature
// → key → publisher.
func (b Basis) manifestPath(item *survey.Item, m *measure.Measurement, l comparedEntry) ProofPath {
	links := []Link{artifactLink(item, m)}
	d := Link{Kind: "digest", State: Holds, Label: l.algorithm.String(), Detail: l.computed.String()}
	entry := Link{
		Kind: "entry", State: Holds, Label: fmt.Sprintf("line %d: %s", l.Line, plain.Text(l.Name)),
		Detail: "states the same digest", Ref: l.Manifest,
	}
	list := Link{Kind: "manifest", State: Holds, Label: plain.Text(l.Manifest), Ref: l.Manifest}
	sig := Link{Kind: "signature", State: Unreached, Label: "a signature over the manifest"}
	rest := []Link{
		sig,
		{Kind: "key", State: Unreached, Label: "the signer's key"},
		{Kind: "publisher", State: Unreached, Label: "the publisher"},
	}
	reason := Ground{Code: ManifestUnsigned, Advice: l.unsignedAdvice()}

	if v := l.voucher; v != nil {
		list.Detail = "SHA-256 " + v.Digest.String()
		if v.best != nil {
			best := b.bestFor(item.Path, v)
			rest, reason = best.links(), best.ground
		} else {
			rest[0].State, rest[0].Detail = Missing, "no signature over the manifest is here"
			if w := b.waiverOver(ManifestUnsigned, item.Path); w != nil {
				waive(w, &rest[0], &rest[1], &rest[2])
			}
		}
	}
	switch {
	case !l.matches:
		entry.State, entry.Detail = Broken, "states "+l.Digest.String()
		reason = Ground{Code: DigestMismatch, Advice: "Download the file again from the publisher, and check again."}
	case l.algorithm.CollisionBits() < b.policyFor(l.voucher).DigestBits:
		d.State = Broken
		d.Detail += ", which is too weak to rule out tampering"
		reason = Ground{Code: WeakDigestOnly, Advice: "Ask the publisher for SHA-256 or stronger, or for a signature."}
		if w := b.waiverOver(WeakDigestOnly, item.Path); w != nil {
			waive(w, &d)
		}
	}
	return pathOf(SignedManifest, append(append(links, d, entry, list), rest...), reason)
}

// refusal returns what refuses the manifest, or refuses it for this file, or nil.
func (l *comparedEntry) refusal() *Ground {
	if l.voucher != nil && l.voucher.refusal != nil {
		return l.voucher.refusal
	}
	return l.others
}

// bestFor returns which of the signatures over a manifest carries one of its files
// furthest: one by a publisher from whom that file is expected, if there is one.
func (b Basis) bestFor(file string, v *Voucher) checkedSignature {
	best := b.speaksFor(file, *v.best)
	for _, f := range v.signatures {
		if !best.carries && !f.ruledOut() {
			if f = b.speaksFor(file, f); f.carries {
				best = f
			}
		}
	}
	return best
}

// speaksFor returns a judged signature over a manifest as it counts for one of the
// files that the manifest lists: the manifest may be by one whose files these are not.
func (b Basis) speaksFor(file string, f checkedSignature) checkedSignature {
	expected := b.expectedOf(file)
	if !f.carries || expected.allows(f.key.Publisher) {
		return f
	}
	f.carries = false
	facts := *f.ground.Signature
	f.ground.Signature = &facts
	return f.says(
		WrongPublisher, Refuses,
		fmt.Sprintf(
			"The signature %s holds, by a key of %s; %s is expected from %s.", plain.Text(f.ground.Source),
			plain.Text(f.key.Publisher), plain.Text(file), plain.Text(strings.Join(expected.Publishers, " or ")),
		),
		"Look for a list or a signature by them.",
	)
}

func artifactLink(item *survey.Item, m *measure.Measurement) Link {
	l := Link{
		Kind: "artifact", State: Holds, Label: plain.Text(item.Path),
		Detail: fmt.Sprintf("%d bytes, every one read", m.Size), Ref: item.Path,
	}
	if m.MadeBy() != measure.Service {
		l.Detail += " by the " + plain.Text(m.Where)
	}
	return l
}

// pathOf closes a path: it is complete when every link holds, and what is
// missing otherwise is what the ground that broke it says and advises.
func pathOf(kind PathKind, links []Link, reason Ground) ProofPath {
	p := ProofPath{Kind: kind, Complete: true, Links: links}
	for _, l := range links {
		if l.State != Holds && l.State != Waived {
			p.Complete = false
		}
	}
	if !p.Complete {
		p.Missing = reason.Sentence
		if reason.Advice != "" {
			if p.Missing != "" {
				p.Missing += " "
			}
			p.Missing += reason.Advice
		}
	}
	return p
}
