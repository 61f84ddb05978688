package survey

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"endeixis/core/digest"
	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// Plan works out from what was found what vouches for what, and what has to be
// computed. It is pure, and fails with a [*CorrectionError] or an
// [*ProvenanceError].
func Plan(found *Findings, opts Options) (*Survey, error) {
	s := newPlanner(found, opts.Limits.withDefaults())
	s.openContainers(found)
	for _, c := range opts.Corrections {
		if err := s.correct(c); err != nil {
			return nil, err
		}
	}
	if err := s.readCopies(opts.Provenance, opts.Copies); err != nil {
		return nil, err
	}
	s.pairManifests()
	slices.Sort(s.absent)
	s.absent = slices.Compact(s.absent)
	s.pairSignatures()
	s.pairEmbedded()
	for i := range s.out.Items {
		s.plan(&s.out.Items[i])
	}
	return s.out, nil
}

// newPlanner makes items of the files that were found, without what is inside
// them.
func newPlanner(found *Findings, limits Limits) *planner {
	s := &planner{
		limits: limits,
		set:    map[string]string{},
		out: &Survey{
			Items: make([]Item, 0, len(found.Files)), Absent: []Absent{}, Copies: []CopyRead{},
			Contents: map[string][]byte{},
		},
		index: map[string]int{},
		lists: map[string]*manifest.Manifest{},
		given: map[string]*Given{},
		sigs:  map[string][]*openpgp.Signature{},

		insides: map[string]*inside{},
		called:  map[callName][]memberRef{},
		taken:   map[string]bool{},
	}
	s.learnNames = sync.OnceFunc(func() { s.learn(found) })
	for i := range found.Files {
		s.out.Items = append(s.out.Items, s.itemOfFile(&found.Files[i]))
	}
	s.sort()
	s.settleGiven()
	return s
}

// settleGiven leaves of the files that texts were handed over for those that are
// artifacts: lists and signatures that were given with them are none that are asked about.
func (s *planner) settleGiven() {
	for p, given := range s.given {
		own := *given
		own.For = slices.DeleteFunc(slices.Clone(given.For), func(name string) bool {
			at, ok := s.index[name]
			return !ok || s.out.Items[at].Role != Artifact
		})
		s.given[p] = &own
	}
}

// maxNames bounds the names that texts are searched for.
const maxNames = 200_000

// learn collects the names of all files, of the folder and inside of containers.
func (s *planner) learn(found *Findings) {
	var names []string
	for i := range found.Files {
		names = append(names, found.Files[i].Path)
	}
	for i := range found.Containers {
		for _, m := range found.Containers[i].Layout.Members {
			names = append(names, m.Name)
		}
	}
	s.folded = make(map[string]bool, len(names))
	for _, name := range names {
		s.folded[foldName(name)] = true
	}
	if len(names) <= maxNames {
		s.names = manifest.NewNames(names)
	}
}

func (s *planner) itemOfFile(f *Found) Item {
	item := Item{
		Path: f.Path, Role: Artifact, Why: "nothing marks it as anything else", Size: f.Size, ModTime: f.ModTime,
		Changed: f.Changed, Problem: f.Problem,
	}
	if f.Promised != "" {
		item.Role, item.Why = f.Promised, "its name says so"
	}
	if f.Given != nil {
		s.given[f.Path] = f.Given
	}
	if f.Content != nil {
		s.out.Contents[f.Path] = f.Content
		s.recognise(&item, guessRole(f.Path), f.Content, f.Given)
		if item.Understood != nil && f.Given == nil {
			item.Understood.HandedOn = bytes.HasPrefix(f.Content, []byte(handedOnFormat))
		}
	}
	return item
}

// sort brings the items in order and notes where each of them is.
func (s *planner) sort() {
	slices.SortFunc(s.out.Items, func(a, b Item) int { return strings.Compare(a.Path, b.Path) })
	for i := range s.out.Items {
		s.index[s.out.Items[i].Path] = i
	}
	s.places = nil
}

type planner struct {
	limits Limits
	// absent are the algorithms of entries without a file: a file that
	// nothing lists may turn out to be one of them, renamed.
	absent []digest.Algorithm
	// set holds the file of each signature that was set by hand.
	set   map[string]string
	out   *Survey
	index map[string]int
	lists map[string]*manifest.Manifest
	// given are the texts that were handed over on purpose, by path.
	given map[string]*Given
	sigs  map[string][]*openpgp.Signature
	// insides holds what containers hold, by path, called their members by
	// what they can be called, and taken those that became items.
	insides map[string]*inside
	called  map[callName][]memberRef
	taken   map[string]bool
	// places holds the items by folder and role, once that is asked for.
	places  map[place]*neighbours
	origins map[string]Provenance
	// names are those of all files that were found, and folded them in the form of
	// foldName, once learnNames was called.
	names      *manifest.Names
	folded     map[string]bool
	learnNames func()
	// byFold holds the artifacts of the folder by that form, once it is asked for.
	byFold map[string][]int
}

// recognise decides by content first, and by name where the content leaves it
// open. What was handed over on purpose is never an artifact, whatever it looks like.
func (s *planner) recognise(item *Item, guess string, content []byte, given *Given) {
	if given != nil && len(given.Values) > 0 {
		s.takeValues(item, given)
		return
	}
	r := recogniseContent(content, func() manifest.Options { return s.listOptions(item.Path, given != nil) })
	switch r.kind {
	case SignedText:
		s.takeSigned(item, guess, &r, given != nil)
	case SignatureText:
		item.Role, item.Why = Signature, fmt.Sprintf("its content is %s", plain.Count(len(r.sigs), "OpenPGP signature"))
		s.sigs[item.Path] = r.sigs
	case KeyText:
		s.takeKey(item, r.secret)
	case ReceiptText:
		item.Role, item.Why = Receipt, fmt.Sprintf("its content is a %s of a ledger of records", r.proof)
		if receipt, err := ledger.ParseReceipt(content); err == nil && len(content) <= MaxReceipt {
			item.Receipt = &receipt
		} else if r.proof == ledger.ReceiptProof {
			item.Problem = &measure.Problem{
				Code: measure.TooLarge, Message: fmt.Sprintf("a receipt of more than %d bytes is not read", MaxReceipt),
			}
		}
	case NothingText, ValueText, ListText:
		s.takeText(item, guess, &r, given != nil)
	}
}

// MaxReceipt bounds a receipt that is evidence, in bytes.
const MaxReceipt = 1 << 20

// takeKey takes a file of keys.
func (s *planner) takeKey(item *Item, secret bool) {
	item.Role, item.Why = Key, "its content is an OpenPGP public key"
	if secret {
		item.Why = "its content is an OpenPGP secret key"
		item.Problem = &measure.Problem{
			Code:    measure.Malformed,
			Message: "it holds a secret key, which should not lie here: whoever reads it can sign in its owner's name",
		}
	}
}

// takeText takes a text that has neither signatures around it nor a key in it.
func (s *planner) takeText(item *Item, guess string, r *recognised, given bool) {
	switch {
	case given:
		item.Role, item.Why = Manifest, "it was handed over to be held against"
	case guess == string(Signature):
		item.Role, item.Why = Signature, "its name says so"
		item.Problem = &measure.Problem{Code: measure.Malformed, Message: r.sigErr.Error()}
		return
	case guess == string(Key):
		return // many things are called .key; this one is not OpenPGP
	case guess == string(Manifest):
		item.Role, item.Why = Manifest, "its name says so"
	case isList(r.list):
		item.Role, item.Why = Manifest, "its content is a list of digests"
	case s.speaksOfHere(item.Path, r.list):
		item.Role, item.Why = Manifest, "its content states digests of files here"
	default:
		return
	}
	s.takeList(item, r.list, r.listErr)
}

// takeValues takes digests that were handed over as such for a list of them.
func (s *planner) takeValues(item *Item, given *Given) {
	item.Role, item.Why = Manifest, "it was handed over to be held against"
	entries := make([]manifest.Entry, len(given.Values))
	for i, v := range given.Values {
		entries[i] = manifest.ValueEntry(v.Algorithm, v.Digest, i+1)
	}
	s.takeList(
		item,
		&manifest.Manifest{
			Format: manifest.Bare, Entries: manifest.EntriesOf(entries), Problems: []manifest.Problem{},
			LeftAside: []manifest.Aside{},
		},
		nil,
	)
}

func (s *planner) listOptions(p string, given bool) manifest.Options {
	s.learnNames()
	return manifest.Options{
		Given: given, FileName: path.Base(p), MaxEntries: s.limits.Entries, MaxBytes: s.limits.ControlFile,
		Beside: s.names,
	}
}

// isList reports whether a text is there to list digests. Digests that are found in
// prose, in a page or in some document do not make it one.
func isList(list *manifest.Manifest) bool {
	switch list.Format {
	case manifest.FreeText, manifest.Document, manifest.Records, manifest.Mixed, manifest.None:
		return false
	case manifest.Bare:
		return list.Entries.Len() >= list.Lines
	default:
		return list.Entries.Len() > 0 && 2*list.Entries.Len() >= list.Lines
	}
}

// speaksOfHere reports whether a text names a file of this folder with its digest.
func (s *planner) speaksOfHere(p string, list *manifest.Manifest) bool {
	own := foldName(p)
	for _, e := range list.Entries.All() {
		if fold := foldName(e.Name); e.Name != "" && fold != own && s.folded[fold] {
			return true
		}
	}
	return false
}

func (s *planner) takeList(item *Item, list *manifest.Manifest, err error) {
	item.Understood = &Understood{
		Format: list.Format, Entries: list.Entries.Len(), Problems: list.Problems, MoreProblems: list.MoreProblems,
	}
	if err != nil {
		item.Problem = &measure.Problem{Code: measure.TooLarge, Message: err.Error()}
	}
	s.lists[item.Path] = list
}

// takeSigned takes a text with OpenPGP signatures around it for a manifest when there are
// digests in it. Only what the signatures cover is read; they are over this manifest.
func (s *planner) takeSigned(item *Item, guess string, r *recognised, given bool) {
	if r.frameErr != nil {
		item.Role, item.Why = Manifest, "its content is a text with an OpenPGP signature around it"
		item.Problem = &measure.Problem{Code: measure.Malformed, Message: r.frameErr.Error()}
		return
	}
	if r.list.Entries.Len() == 0 && guess != string(Manifest) && guess != string(Signature) && !given {
		return // a signed letter is no manifest
	}
	item.Role, item.Why = Manifest, fmt.Sprintf(
		"its content is a list of digests with %s around it", plain.Count(len(r.sigs), "OpenPGP signature"),
	)
	s.takeList(item, r.list, r.listErr)
	for index, sig := range r.sigs {
		over := SignatureOver{File: item.Path, Index: index, Why: "it is around the list itself", Around: r.enclosure}
		over.take(sig)
		item.Signatures = append(item.Signatures, over)
	}
}

// correct takes a correction after checking that it makes sense.
func (s *planner) correct(c Correction) error {
	bad := func(reason string) error { return &CorrectionError{Correction: c, Reason: reason} }
	sig, ok := s.index[c.Signature]
	if !ok || s.out.Items[sig].Role != Signature {
		return bad("the first is not a signature in this folder")
	}
	file, ok := s.index[c.File]
	if !ok || s.out.Items[file].Role == Signature {
		return bad("the second is not another file in this folder")
	}
	s.set[c.Signature] = c.File
	return nil
}

// plan lists the digests an item needs, weaker first and without repeats.
func (s *planner) plan(item *Item) {
	need := []digest.Algorithm{digest.SHA256}
	for _, l := range item.Listed {
		need = append(need, l.Algorithms...)
	}
	for _, l := range item.Sighted {
		need = append(need, l.Algorithms...)
	}
	if len(item.Listed) == 0 && item.Role == Artifact {
		need = append(need, s.absent...)
	}
	slices.Sort(need)
	item.Digests = slices.Compact(need)
}
