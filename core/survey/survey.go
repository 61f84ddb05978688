// Package survey turns a folder into a plan: which file is an artifact, a
// manifest, a signature or a key, what vouches for what and why, and what has
// to be computed from each file's bytes.
//
// The small files that can be manifests, signatures or keys are read, each of
// them once: their content stays in [Survey.Contents], from where it is
// measured. Of archives and disc images the directory is read. A compressed
// archive has none; it is read through only when an entry has no file, or when
// nothing speaks of the archive. No other file is touched.
package survey

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// A Role is what a file is for.
type Role string

// The roles.
const (
	Artifact  Role = "artifact"
	Manifest  Role = "manifest"
	Signature Role = "signature"
	Key       Role = "key"
)

// A ProblemCode is a stable name for why a file could not be used.
type ProblemCode string

// The problem codes.
const (
	// Unreadable is a permission or I/O error.
	Unreadable ProblemCode = "unreadable"
	// LeavesDepot is a symbolic link that leads out of the folder.
	LeavesDepot ProblemCode = "leaves-depot"
	// NotAFile is a device, pipe, socket, or a link to a directory.
	NotAFile ProblemCode = "not-a-file"
	// TooLarge is a file over the bound for its role.
	TooLarge ProblemCode = "too-large"
	// Malformed is a signature or key file that does not parse.
	Malformed ProblemCode = "malformed"
)

// A Problem says why a file could not be used.
type Problem struct {
	Code    ProblemCode `json:"code"`
	Message string      `json:"message"`
}

// A Listing is a manifest entry that speaks of an item.
type Listing struct {
	// Manifest is the path of the manifest.
	Manifest string `json:"manifest"`
	// Line is where the entry stands in it.
	Line int `json:"line"`
	// Name is the file name as the manifest has it.
	Name string `json:"name"`
	// Algorithms are the candidates, of which one has to match.
	Algorithms []digest.Algorithm `json:"algorithms"`
	Digest     digest.Value       `json:"digest"`
	Size       *int64             `json:"size,omitempty"`
	Pieces     *manifest.Pieces   `json:"pieces,omitempty"`
	// Doubtful is set when the name fits several files: then the digest
	// decides which of them is meant.
	Doubtful bool `json:"doubtful,omitempty"`
	// Origin says where the manifest comes from, or is nil.
	Origin *Origin `json:"origin,omitempty"`
}

// A SignatureOver is a signature that may be over an item.
type SignatureOver struct {
	// File is the path of the signature file, and Index the position of the
	// signature in it, from 0.
	File  string `json:"file"`
	Index int    `json:"index"`
	// Why says how it came to be paired with the item.
	Why string `json:"why"`
	// Raw is the body of the signature packet, for [openpgp.ParseSignature].
	// It is empty when the file could not be read, which Problem explains.
	Raw     []byte   `json:"raw,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
	// Uncompressed is set when the signature is over the uncompressed form
	// of the item: how the item is compressed.
	Uncompressed container.Compression `json:"uncompressed,omitempty"`
	// Around is set for a signature that is in the item itself, around its
	// content, which alone it covers.
	Around Enclosure `json:"around,omitempty"`
	// Doubtful is set when the name fits several files: then the
	// cryptography decides which of them is meant.
	Doubtful bool `json:"doubtful,omitempty"`
}

// An Enclosure is a way of putting signatures around content.
type Enclosure string

// The enclosures.
const (
	// Cleartext is the cleartext signature framework (RFC 9580, section 7).
	Cleartext Enclosure = "cleartext"
	// Message is a signed message (RFC 9580, section 10.3).
	Message Enclosure = "message"
)

// An Item is one file of the folder, or one inside such a file.
type Item struct {
	// Path is relative to the folder, with slashes. For a file inside
	// another, it is the other's path, two slashes, and its name in there.
	Path string `json:"path"`
	Role Role   `json:"role"`
	// Why says how the role was found.
	Why     string    `json:"why"`
	Size    int64     `json:"size"`
	ModTime time.Time `json:"mod_time"`
	Problem *Problem  `json:"problem,omitempty"`
	// Digests is what has to be computed. SHA-256 is among them, so that the
	// item can be found again by its content, unless all that speaks of an
	// artifact are MD5 digests.
	Digests    []digest.Algorithm `json:"digests,omitempty"`
	Listed     []Listing          `json:"listed,omitempty"`
	Signatures []SignatureOver    `json:"signatures,omitempty"`
	// Sighted is what copies of manifests from elsewhere state about it.
	Sighted []Sighting `json:"sighted,omitempty"`
	// Understood tells what a manifest holds.
	Understood *Understood `json:"understood,omitempty"`
	// Inside is set for a file inside another.
	Inside *Inside `json:"inside,omitempty"`
	// Holds is set for an archive, a compressed file or a disc image that
	// was looked into.
	Holds *Holds `json:"holds,omitempty"`
}

// Understood sums up a manifest that was read.
type Understood struct {
	Format       manifest.Format    `json:"format"`
	Entries      int                `json:"entries"`
	Problems     []manifest.Problem `json:"problems,omitempty"`
	MoreProblems int                `json:"more_problems,omitempty"`
}

// An Absent is a manifest entry whose file is not in the folder.
type Absent struct {
	Name     string `json:"name"`
	Manifest string `json:"manifest"`
	Line     int    `json:"line"`
	// Digest is what the entry states.
	Digest digest.Value `json:"digest"`
}

// A Survey is the plan of a batch.
type Survey struct {
	// Items are sorted by path.
	Items  []Item   `json:"items"`
	Absent []Absent `json:"absent"`
	// Copies tells how copies of manifests from elsewhere compare.
	Copies []CopyRead `json:"copies"`
	// Contents holds the bytes of the files that were read, by path.
	Contents map[string][]byte `json:"-"`
}

// Limits bound a survey. The zero value means the defaults.
type Limits struct {
	// Files bounds the files of a folder. Default 1 million.
	Files int
	// ControlFile bounds one manifest, signature or key file. Default 64 MiB.
	ControlFile int64
	// ControlTotal bounds all of them together. Default 512 MiB.
	ControlTotal int64
	// Entries bounds the entries of one manifest. Default 2 million.
	Entries int
	// Depth bounds how many containers are looked into that lie in each
	// other. Default 3.
	Depth int
	// Container bounds the look into each.
	Container container.Limits
}

func (l Limits) withDefaults() Limits {
	if l.Files == 0 {
		l.Files = 1_000_000
	}
	if l.ControlFile == 0 {
		l.ControlFile = 64 << 20
	}
	if l.ControlTotal == 0 {
		l.ControlTotal = 512 << 20
	}
	if l.Entries == 0 {
		l.Entries = 2_000_000
	}
	if l.Depth == 0 {
		l.Depth = 3
	}
	return l
}

// A Correction says by hand which file a signature is over.
type Correction struct {
	Signature string `json:"signature"`
	File      string `json:"file"`
}

// Options are the bounds of a survey and what is known about it by hand. The
// zero value means the defaults.
type Options struct {
	Limits      Limits
	Corrections []Correction
	// Origins say where manifests of the folder come from, by path, and
	// Copies are others of them.
	Origins map[string]Origin
	Copies  []Copy
}

// A CorrectionError reports a correction that names something else than a
// signature and another file of the folder.
type CorrectionError struct {
	Correction Correction
	Reason     string
}

// Error names the correction.
func (e *CorrectionError) Error() string {
	return fmt.Sprintf("%s cannot be set for %s: %s", plain.Quoted(e.Correction.Signature), plain.Quoted(e.Correction.File), e.Reason)
}

// A TooManyFilesError reports a folder over the limit.
type TooManyFilesError struct{ Limit int }

// Error says what to do.
func (e *TooManyFilesError) Error() string {
	return fmt.Sprintf("the folder holds more than %d files; choose a folder further down", e.Limit)
}

// Run surveys everything below the root of fsys. It fails when the folder
// itself cannot be listed, when it holds too many files, with a
// [*CorrectionError], an [*OriginError], or when ctx ends; trouble with a single file becomes the
// Problem of its item.
func Run(ctx context.Context, fsys fs.FS, opts Options) (*Survey, error) {
	s := &surveyor{
		fsys: fsys, limits: opts.Limits.withDefaults(), set: map[string]string{},
		out:   &Survey{Items: []Item{}, Absent: []Absent{}, Copies: []CopyRead{}, Contents: map[string][]byte{}},
		index: map[string]int{},
		lists: map[string]*manifest.Manifest{},
		sigs:  map[string][]*openpgp.Signature{},

		insides: map[string]*inside{}, byBase: map[string][]memberRef{}, taken: map[string]bool{},
	}
	if err := s.walk(ctx); err != nil {
		return nil, err
	}
	s.sort()
	if err := s.lookInside(ctx); err != nil {
		return nil, err
	}
	for _, c := range opts.Corrections {
		if err := s.correct(c); err != nil {
			return nil, err
		}
	}
	if err := s.readCopies(opts.Origins, opts.Copies); err != nil {
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

// sort brings the items in order and notes where each of them is.
func (s *surveyor) sort() {
	slices.SortFunc(s.out.Items, func(a, b Item) int { return strings.Compare(a.Path, b.Path) })
	for i := range s.out.Items {
		s.index[s.out.Items[i].Path] = i
	}
}

type surveyor struct {
	fsys   fs.FS
	limits Limits
	// absent are the algorithms of entries without a file: a file that
	// nothing lists may turn out to be one of them, renamed.
	absent []digest.Algorithm
	// set holds the file of each signature that was set by hand.
	set   map[string]string
	kept  int64
	out   *Survey
	index map[string]int
	lists map[string]*manifest.Manifest
	sigs  map[string][]*openpgp.Signature
	// insides holds what containers hold, by path, byBase all their members
	// by the last part of the name, and taken those that became items.
	insides map[string]*inside
	byBase  map[string][]memberRef
	taken   map[string]bool
	origins map[string]Origin
}

func (s *surveyor) walk(ctx context.Context) error {
	return fs.WalkDir(s.fsys, ".", func(name string, entry fs.DirEntry, err error) error {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err != nil {
			if name == "." {
				return err
			}
			s.out.Items = append(s.out.Items, Item{Path: plain.Text(name), Role: Artifact, Why: "it could not be looked at", Problem: &Problem{Unreadable, reason(err)}})
			if entry != nil && entry.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if entry.IsDir() {
			return nil
		}
		if len(s.out.Items) >= s.limits.Files {
			return &TooManyFilesError{Limit: s.limits.Files}
		}
		s.out.Items = append(s.out.Items, s.look(name, entry))
		return nil
	})
}

// look decides the role of one file, opening it only if it can be a control
// file.
func (s *surveyor) look(name string, entry fs.DirEntry) Item {
	item := Item{Path: name, Role: Artifact, Why: "nothing marks it as anything else"}
	if !utf8.ValidString(name) {
		item.Path = plain.Text(name)
		item.Problem = &Problem{Unreadable, "its name is not valid UTF-8, so that no manifest can name it; rename it"}
		return item
	}
	link := entry.Type()&fs.ModeSymlink != 0
	info, err := fs.Stat(s.fsys, name)
	if err != nil {
		item.Problem = &Problem{Unreadable, reason(err)}
		if link && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) {
			item.Problem = &Problem{LeavesDepot, "it is a symbolic link that leads out of the depot, and was not followed"}
		} else if link {
			item.Problem.Message = "it is a symbolic link to a file that is not there or may not be read"
		}
		return item
	}
	item.Size, item.ModTime = info.Size(), info.ModTime().UTC()
	if !info.Mode().IsRegular() {
		item.Problem = &Problem{NotAFile, "it is not a regular file (" + kind(info.Mode()) + "), and was not opened"}
		return item
	}
	guess := guessRole(name)
	if guess == "" || guess == maybeText && item.Size > maxText {
		return item
	}
	if item.Size > s.limits.ControlFile || s.kept+item.Size > s.limits.ControlTotal {
		if guess != maybeText {
			item.Role, item.Why = Role(guess), "its name says so"
			item.Problem = &Problem{TooLarge, fmt.Sprintf("it is named like a %s and is %d bytes long; more than %d bytes are not read as one", guess, item.Size, s.limits.ControlFile)}
		}
		return item
	}
	content, err := s.content(name, item.Size)
	if err != nil {
		if guess != maybeText {
			item.Role, item.Why = Role(guess), "its name says so"
		}
		item.Problem = &Problem{Unreadable, reason(err)}
		return item
	}
	s.kept += int64(len(content))
	s.out.Contents[name] = content
	item.Size = int64(len(content))
	s.recognise(&item, guess, content)
	return item
}

func (s *surveyor) content(name string, size int64) ([]byte, error) {
	f, err := s.fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	content, err := io.ReadAll(io.LimitReader(f, s.limits.ControlFile+1))
	if err == nil && int64(len(content)) > s.limits.ControlFile {
		err = fmt.Errorf("it grew from %d bytes beyond the limit while it was read", size)
	}
	return content, err
}

// maybeText is the guess for a file whose name says nothing and whose content
// may be a manifest.
const maybeText = "text"

// maxText bounds what is read of a file whose name does not announce a
// manifest.
const maxText = 1 << 20

// signatureSuffixes are the usual endings of detached signatures.
var signatureSuffixes = []string{".sig", ".asc", ".sign", ".pgp", ".gpg"}

// guessRole says what a name promises: a role, maybeText, or nothing.
func guessRole(name string) string {
	base := path.Base(name)
	ext := strings.ToLower(path.Ext(base))
	switch {
	case slices.Contains(signatureSuffixes, ext):
		return string(Signature)
	case manifest.NamedLikeOne(base):
		return string(Manifest)
	case ext == ".key" || ext == ".pub":
		return string(Key)
	case ext == ".meta4" || ext == ".metalink" || ext == ".spdx":
		return string(Manifest)
	case ext == ".txt" || ext == "" || ext == ".json" || ext == ".csv" || ext == ".tsv":
		return maybeText
	}
	return ""
}

// recognise decides by content first, and by name where the content leaves it
// open.
func (s *surveyor) recognise(item *Item, guess string, content []byte) {
	if openpgp.IsCleartext(content) {
		s.recogniseCleartext(item, guess, content)
		return
	}
	if openpgp.IsMessage(content) && s.recogniseMessage(item, content) {
		return
	}
	sigs, sigErr := openpgp.ReadSignatures(content)
	if sigErr == nil {
		item.Role, item.Why = Signature, fmt.Sprintf("its content is %s", count(len(sigs), "OpenPGP signature"))
		s.sigs[item.Path] = sigs
		return
	}
	_, _, keyErr := openpgp.ReadCertificates(content)
	var secret *openpgp.SecretKeyError
	if keyErr == nil {
		item.Role, item.Why = Key, "its content is an OpenPGP public key"
		return
	}
	if errors.As(keyErr, &secret) {
		item.Role, item.Why = Key, "its content is an OpenPGP secret key"
		item.Problem = &Problem{Malformed, "it holds a secret key, which should not lie here: whoever reads it can sign in its owner's name"}
		return
	}
	if guess == string(Signature) {
		item.Role, item.Why = Signature, "its name says so"
		item.Problem = &Problem{Malformed, sigErr.Error()}
		return
	}
	if guess == string(Key) {
		return // many things are called .key; this one is not OpenPGP
	}
	list, err := manifest.Read(bytes.NewReader(content), manifest.Options{FileName: path.Base(item.Path), MaxEntries: s.limits.Entries, MaxBytes: s.limits.ControlFile})
	// Digests found in prose do not make a page a manifest; its name may.
	holdsEntries := 2*len(list.Entries) >= list.Lines && len(list.Entries) > 0 && list.Format != manifest.FreeText
	switch {
	case guess == string(Manifest):
		item.Role, item.Why = Manifest, "its name says so"
	case holdsEntries:
		item.Role, item.Why = Manifest, "its content is a list of digests"
	default:
		return
	}
	s.takeList(item, list, err)
}

func (s *surveyor) takeList(item *Item, list *manifest.Manifest, err error) {
	item.Understood = &Understood{Format: list.Format, Entries: len(list.Entries), Problems: list.Problems, MoreProblems: list.MoreProblems}
	if err != nil {
		item.Problem = &Problem{TooLarge, err.Error()}
	}
	s.lists[item.Path] = list
}

// recogniseCleartext takes a text with OpenPGP signatures around it for a
// manifest when there are digests in it. Only what the signatures cover is
// read; the signatures are over this manifest.
func (s *surveyor) recogniseCleartext(item *Item, guess string, content []byte) {
	signed, err := openpgp.ReadCleartext(content)
	if err != nil {
		item.Role, item.Why = Manifest, "its content is a text with an OpenPGP signature around it"
		item.Problem = &Problem{Malformed, err.Error()}
		return
	}
	list, err := s.readSigned(item.Path, signed)
	if len(list.Entries) == 0 && guess != string(Manifest) && guess != string(Signature) {
		return // a signed letter is no manifest
	}
	s.takeSigned(item, list, err, Cleartext, signed.Signatures)
}

// recogniseMessage takes a signed message for a manifest when its content is
// one, and reports whether it is.
func (s *surveyor) recogniseMessage(item *Item, content []byte) bool {
	m, err := openpgp.ReadMessage(content)
	if err != nil || len(m.Signatures) == 0 {
		return false // it is told as a signature file that is none
	}
	list, err := s.readSigned(item.Path, &openpgp.Cleartext{Text: m.Content, FirstLine: 1})
	if len(list.Entries) == 0 {
		return false
	}
	s.takeSigned(item, list, err, Message, m.Signatures)
	return true
}

func (s *surveyor) takeSigned(item *Item, list *manifest.Manifest, err error, around Enclosure, sigs []*openpgp.Signature) {
	item.Role, item.Why = Manifest, fmt.Sprintf("its content is a list of digests with %s around it", count(len(sigs), "OpenPGP signature"))
	s.takeList(item, list, err)
	for index, sig := range sigs {
		item.Signatures = append(item.Signatures, SignatureOver{File: item.Path, Index: index, Why: "it is around the list itself", Raw: sig.Raw, Around: around})
	}
}

// readSigned reads a manifest out of a signed text. Lines are those of the file.
func (s *surveyor) readSigned(p string, signed *openpgp.Cleartext) (*manifest.Manifest, error) {
	name := path.Base(p)
	if slices.Contains(signatureSuffixes, strings.ToLower(path.Ext(name))) {
		name = strings.TrimSuffix(name, path.Ext(name)) // “SHA256SUMS.asc” is a SHA256SUMS
	}
	list, err := manifest.Read(bytes.NewReader(signed.Text), manifest.Options{FileName: name, MaxEntries: s.limits.Entries, MaxBytes: s.limits.ControlFile})
	for i := range list.Entries {
		list.Entries[i].Line += signed.FirstLine - 1
	}
	for i := range list.Problems {
		list.Problems[i].Line += signed.FirstLine - 1
	}
	if signed.Outside != "" {
		list.Problems = append(list.Problems, manifest.Problem{Line: 1, Code: manifest.OutsideText, Message: fmt.Sprintf("there is text %s that nobody signed; it was not used", signed.Outside)})
	}
	return list, err
}

// correct takes a correction after checking that it makes sense.
func (s *surveyor) correct(c Correction) error {
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
func (s *surveyor) plan(item *Item) {
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
	if md5Only(item) {
		item.Digests = digest.Only(digest.MD5)
	}
}

// md5Only reports whether all that speaks of an artifact are MD5 digests. Then
// those are all that is computed: nothing else could be compared, and many
// files at once are read several times faster.
func md5Only(item *Item) bool {
	return item.Role == Artifact && item.Inside == nil && item.Holds == nil && len(item.Signatures) == 0 && len(item.Listed) > 0 &&
		len(item.Digests) == 2 && item.Digests[0] == digest.MD5 && item.Digests[1] == digest.SHA256 &&
		!slices.ContainsFunc(item.Listed, func(l Listing) bool { return slices.Contains(l.Algorithms, digest.SHA256) }) &&
		!slices.ContainsFunc(item.Sighted, func(l Sighting) bool { return slices.Contains(l.Algorithms, digest.SHA256) })
}

// reason words an error without the path, which is shown beside it.
func reason(err error) string {
	var pathErr *fs.PathError
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "the permissions do not allow reading it"
	case errors.Is(err, fs.ErrNotExist):
		return "it is no longer there"
	case errors.As(err, &pathErr):
		return plain.Text(pathErr.Err.Error())
	}
	return plain.Text(err.Error())
}

func kind(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a link to a directory"
	case mode&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "a special file"
}

func count(n int, what string) string {
	if n == 1 {
		return "one " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
