package batches

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/readback"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/query"
	"endeixis/internal/sources"
	"endeixis/internal/store"
)

// GivenAgainst says what a medium is read back against: one of a record, a file of a
// depot, and a digest.
type GivenAgainst struct {
	Record      int64
	Depot, Path string
	Digest      string
	// Algorithm is that of the digest, or empty where it is not known.
	Algorithm string
	// Length is that of an image of which only the digest is known, in bytes.
	Length int64
	// Forms are what is in the image, as its measurer says; what the service can read it
	// says itself.
	Forms []survey.Form
}

// readBack checks a request to read a medium back, and returns what it is read back
// against, as it is stored.
func (s *Service) readBack(ctx context.Context, r Request) ([]byte, error) {
	if r.Source.Kind != sources.Client {
		return nil, fault.New(fault.Invalid, fault.MediumHere, "A medium is read back by a client, where the medium is.").
			At("measurer.kind")
	}
	if len(r.Corrections)+len(r.ComesFrom)+len(r.Copies) > 0 {
		return nil, fault.New(
			fault.Invalid, fault.MediumAlone,
			"A medium is held against one file; there is nothing to pair or compare beside it.",
		).
			At("against")
	}
	against, err := s.against(ctx, *r.Against)
	if err != nil {
		return nil, err
	}
	if err := s.form(ctx, against, r.Against.Forms); err != nil {
		return nil, err
	}
	return json.Marshal(against)
}

// form notes what is in a file that is a wrapping, such as the uncompressed form of a
// compressed one: a medium that was written from it has that.
func (s *Service) form(ctx context.Context, against *survey.Against, given []survey.Form) error {
	if len(given) > survey.MaxForms {
		return fault.New(
			fault.Invalid, fault.TooManyForms, "What an image carries has at most %d parts here.", survey.MaxForms,
		).
			At("against.forms")
	}
	for _, f := range given {
		if f.Size < 1 || len(f.Digest) != digest.SHA256.Size() {
			return fault.New(fault.Invalid, fault.BadForm, "A form has at least one byte, and a SHA-256 digest.").
				At("against.forms")
		}
	}
	own, err := s.formsOf(ctx, against)
	if err != nil {
		return err
	}
	if against.Forms = own; own == nil {
		against.Forms = given
	}
	return nil
}

// formsOf reads a file that was verified once more, if it may be a wrapping, and returns what
// is in it. It is nil where it cannot be read any more, or is damaged: then it is compared as
// it stands.
func (s *Service) formsOf(ctx context.Context, against *survey.Against) ([]survey.Form, error) {
	if !against.Known() || against.Inner != "" {
		return nil, nil
	}
	key := fmt.Sprintf("%d %d", against.Batch, against.N)
	s.ours.mu.Lock()
	known, ok := s.ours.forms[key]
	s.ours.mu.Unlock()
	if ok {
		return known, nil
	}
	b, err := s.batch(ctx, against.Batch)
	if err != nil {
		return nil, err
	}
	found, err := s.stored(ctx, against.Batch, against.N)
	if err != nil || sourceOf(b).Kind != sources.Depot {
		return nil, err
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, nil //nolint:nilerr // it cannot be read any more
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), against.Batch, found.Planned)
	if err != nil {
		return nil, nil //nolint:nilerr // as above
	}
	defer content.Close()
	strongest := digest.Strongest(slices.Sorted(maps.Keys(found.Measurement.Digests)))
	proof := strongest.New()
	read := io.TeeReader(content, proof)
	forms, err := survey.FormsOf(ctx, found.Planned.Path, read)
	if err == nil && forms != nil {
		_, err = digest.Pump(ctx, read, []io.Writer{io.Discard}, nil)
	}
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil || forms == nil || !slices.Equal(proof.Sum(nil), found.Measurement.Digests[strongest]) {
		return nil, nil //nolint:nilerr // it is damaged, or not what was verified any more
	}
	s.ours.mu.Lock()
	defer s.ours.mu.Unlock()
	if s.ours.forms == nil || len(s.ours.forms) >= maxOurs {
		s.ours.forms = map[string][]survey.Form{}
	}
	s.ours.forms[key] = forms
	return forms, nil
}

// against finds what a medium is to be read back against.
func (s *Service) against(ctx context.Context, given GivenAgainst) (*survey.Against, error) {
	ways := 0
	for _, set := range []bool{given.Record != 0, given.Depot != "" || given.Path != "", given.Digest != ""} {
		if set {
			ways++
		}
	}
	if ways != 1 {
		return nil, fault.New(
			fault.Invalid, fault.BadAgainst,
			"A medium is read back against one thing: a record, a file of a depot, or a digest.",
		).
			At("against")
	}
	if given.Length < 0 || given.Length > survey.MaxFile {
		return nil, fault.New(fault.Invalid, fault.BadLength, "An image has at most %d bytes.", int64(survey.MaxFile)).
			At("against.length")
	}
	switch {
	case given.Record != 0:
		v, err := s.store.VerifiedAs(ctx, given.Record)
		if errors.Is(err, store.ErrNotFound) {
			return nil, fault.New(
				fault.NotFound, fault.NoOutcome, "Record %d is not the outcome of a file.", given.Record,
			).
				Advise("“endeixis record list” and the page of a batch name the records of files.").
				At("against.record")
		}
		return s.verified(ctx, v, err)
	case given.Digest != "":
		return s.byDigest(ctx, given)
	default:
		return s.inDepot(ctx, given)
	}
}

func (s *Service) inDepot(ctx context.Context, given GivenAgainst) (*survey.Against, error) {
	file, inner, nested := strings.Cut(given.Path, container.Separator)
	outer, err := depots.Clean(file)
	if err != nil {
		return nil, err
	}
	// Whichever folder it was verified in, the file is the same.
	var folders, paths []string
	for folder := path.Dir(outer); ; folder = path.Dir(folder) {
		rest := strings.TrimPrefix(outer, folder+"/")
		if folder == "." {
			rest = outer
		}
		if nested {
			rest += container.Separator + inner
		}
		folders, paths = append(folders, given.Depot+":"+folder), append(paths, rest)
		if folder == "." || folder == "/" {
			break
		}
	}
	v, err := s.store.VerifiedIn(ctx, string(sources.Depot), folders, paths)
	if errors.Is(err, store.ErrNotFound) && nested {
		outers := make([]string, len(paths))
		for i, p := range paths {
			outers[i], _, _ = strings.Cut(p, container.Separator)
		}
		if v, err = s.store.VerifiedIn(ctx, string(sources.Depot), folders, outers); err == nil {
			return s.insideOf(ctx, v, inner)
		}
	}
	if errors.Is(err, store.ErrNotFound) {
		return nil, fault.New(
			fault.NotFound, fault.NotVerified, "%s in the depot %s was not verified yet.", plain.Quoted(given.Path),
			plain.Quoted(given.Depot),
		).
			Advise("Verify its folder first, with “endeixis batch run”; then read the medium back against it.").
			At("against.path")
	}
	return s.verified(ctx, v, err)
}

// insideOf returns a file inside of one that was verified, which nothing spoke of by itself:
// it counts as that counts.
func (s *Service) insideOf(ctx context.Context, v store.Verified, inner string) (*survey.Against, error) {
	outer, err := s.verified(ctx, v, nil)
	if err != nil {
		return nil, err
	}
	missing := func(why string) error {
		return fault.New(
			fault.NotFound, fault.NotInside, "There is no %s inside of %s that can be read: %s.", plain.Quoted(inner),
			plain.Text(outer.Path), why,
		).
			At("against.path")
	}
	b, err := s.batch(ctx, v.Batch)
	if err != nil {
		return nil, err
	}
	found, err := s.stored(ctx, v.Batch, v.N)
	if err != nil {
		return nil, err
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, missing("the folder is not there")
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), v.Batch, found.Planned)
	if err != nil {
		return nil, missing("the file cannot be read any more")
	}
	defer content.Close()
	r, ok := content.(io.ReaderAt)
	if !ok {
		return nil, missing("it is inside of another file itself")
	}
	layout, err := container.List(ctx, r, found.Measurement.Size, path.Base(outer.Path), container.Options{})
	if err != nil {
		return nil, missing("it holds no files")
	}
	at := slices.IndexFunc(layout.Members, func(m container.Member) bool { return m.Name == inner })
	if at < 0 {
		return nil, missing("it holds none of that name")
	}
	item := survey.InsideOf(found.Planned.Path, layout, at)
	item.Digests = digest.Only(digest.SHA256)
	// Both in one read: what is hashed of it is in the file that was verified.
	files := verify.Files([]*survey.Item{found.Planned, &item})
	measured, err := verify.Open(ctx, folder.FS(), files, s.witness(b.AskedBy), s.gain, nil)
	if err != nil {
		return nil, err
	}
	strongest := digest.Strongest(slices.Sorted(maps.Keys(found.Measurement.Digests)))
	if !slices.Equal(measured[found.Planned.Path].Digests[strongest], found.Measurement.Digests[strongest]) {
		return nil, fault.New(
			fault.Conflict, fault.ChangedSince, "%s is not what was verified in batch %d any more.",
			plain.Text(outer.Path), v.Batch,
		).
			Advise("Verify its folder again.").
			At("against.path")
	}
	m := measured[item.Path]
	if m.Problem != nil || len(m.Digests[digest.SHA256]) == 0 || m.Size == 0 {
		return nil, missing("it cannot be read to its end")
	}
	return &survey.Against{
		Batch: v.Batch, N: v.N, Path: outer.Path + container.Separator + inner, Inner: inner, Size: m.Size,
		Digests: map[digest.Algorithm]digest.Value{digest.SHA256: m.Digests[digest.SHA256]},
	}, nil
}

func (s *Service) byDigest(ctx context.Context, given GivenAgainst) (*survey.Against, error) {
	var value digest.Value
	if err := value.UnmarshalText([]byte(given.Digest)); err != nil || digest.OfSize(len(value)) == nil {
		return nil, fault.New(
			fault.Invalid, fault.BadDigest, "%s is no digest in hexadecimal.", plain.Quoted(given.Digest),
		).
			At("against.digest")
	}
	algorithms := digest.OfSize(len(value))
	if given.Algorithm != "" {
		a, err := digest.Parse(given.Algorithm)
		if err != nil || a.Size() != len(value) {
			return nil, fault.New(
				fault.Invalid, fault.BadDigest, "A value of %d bytes is no digest by %s.", len(value),
				plain.Quoted(given.Algorithm),
			).
				At("against.algorithm")
		}
		algorithms = digest.Only(a)
	}
	if len(value) >= digest.MD5.Size() {
		found, err := s.store.References(ctx, [][]byte{value}, 20)
		if err != nil {
			return nil, err
		}
		for _, r := range found {
			if r.Now == nil || *r.Now == string(judge.Cleared) {
				return s.verified(ctx, store.Verified{Batch: r.Batch, N: r.N}, nil)
			}
		}
	}
	if given.Length == 0 {
		return nil, fault.New(
			fault.Invalid, fault.LengthMissing,
			"No file that was verified here has this digest, so nothing tells how long the image is.",
		).
			Advise("Say how long it is, in bytes.").
			At("against.length")
	}
	if given.Length < 0 {
		return nil, fault.New(fault.Invalid, fault.BadLength, "An image cannot be %d bytes long.", given.Length).
			At("against.length")
	}
	out := &survey.Against{Size: given.Length, Digests: map[digest.Algorithm]digest.Value{}}
	for _, a := range algorithms {
		out.Digests[a] = value
	}
	return out, nil
}

// verified returns an item as what a medium is read back against.
func (s *Service) verified(ctx context.Context, v store.Verified, err error) (*survey.Against, error) {
	if err != nil {
		return nil, err
	}
	found, err := s.stored(ctx, v.Batch, v.N)
	if err != nil {
		return nil, err
	}
	item, m := found.Planned, &found.Measurement
	if item.Against != nil {
		if item.Against.Known() { // what that medium was read back against is the file
			return s.verified(ctx, store.Verified{Batch: item.Against.Batch, N: item.Against.N}, nil)
		}
		return nil, fault.New(fault.Conflict, fault.MediumOnly, "That is the outcome of a medium, and of no file.").
			Advise("Give the image that was written to it.").
			At("against")
	}
	if m.Problem != nil || len(m.Digests) == 0 || m.Size == 0 {
		return nil, fault.New(
			fault.Conflict, fault.NothingToCompare, "%s of batch %d has no bytes that were measured.",
			plain.Text(item.Path), v.Batch,
		).
			At("against")
	}
	return &survey.Against{Batch: v.Batch, N: v.N, Path: item.Path, Size: m.Size, Digests: m.Digests}, nil
}

// sameAgainst reports a request that repeats the key of one which read back against
// something else.
func sameAgainst(ctx context.Context, tx *store.Tx, batch int64, against []byte) error {
	m, err := tx.Measurer(ctx, batch)
	if errors.Is(err, store.ErrNotFound) {
		return nil // in a depot nothing is read back
	}
	if err != nil {
		return err
	}
	var was, is *survey.Against
	if m.Against != nil {
		err = json.Unmarshal(m.Against, &was)
	}
	if against != nil {
		err = errors.Join(err, json.Unmarshal(against, &is))
	}
	if err == nil && !reflect.DeepEqual(was, is) {
		err = store.KeyReused(batch)
	}
	return err
}

// Against returns what a batch is read back against, or nil for any other batch.
func (s *Service) Against(ctx context.Context, b query.Batch) (*survey.Against, error) {
	return s.readAgainst(ctx, b.ID, b.Source)
}

func (s *Service) readAgainst(ctx context.Context, id int64, source sources.Source) (*survey.Against, error) {
	if !source.HasMeasurer() {
		return nil, nil
	}
	m, err := s.store.Measurer(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil || m.Against == nil {
		return nil, err
	}
	var out survey.Against
	return &out, json.Unmarshal(m.Against, &out)
}

// rest has a session judge what the items of a batch are held against, by what the batch
// is judged by: so each counts now as that file counts now.
func (s *Service) rest(ctx context.Context, session *verify.Session, b store.Batch, ring *keyring.Keyring) error {
	// What stands in the items is on record.
	last := 0
	if sourceOf(b).Kind == sources.Device {
		last = maxSlots
	} else if against, err := s.readAgainst(ctx, b.ID, sourceOf(b)); against == nil || err != nil {
		return err
	}
	var numbers []int
	for n := range last + 1 {
		numbers = append(numbers, n)
	}
	rows, err := s.store.ItemsOf(ctx, b.ID, numbers)
	if err != nil {
		return err
	}
	for _, row := range rows {
		var item survey.Item
		if err := json.Unmarshal(row.Survey, &item); err != nil {
			return err
		}
		if err := s.original(ctx, session, b, ring, &item); err != nil {
			return err
		}
	}
	return nil
}

// maxSlots is more than a device has.
const maxSlots = 16

// original has a session judge the file that an item is held against, if it is one.
func (s *Service) original(
	ctx context.Context, session *verify.Session, b store.Batch, ring *keyring.Keyring, here *survey.Item,
) error {
	if here.Against == nil || !here.Against.Known() {
		return nil
	}
	original, err := s.batch(ctx, here.Against.Batch)
	if err != nil {
		return err
	}
	original.JudgedAsOf, original.PolicyVersion = b.JudgedAsOf, b.PolicyVersion
	around, err := s.Session(ctx, original, ring)
	if err != nil {
		return err
	}
	judged, err := s.judgedIn(ctx, around, original.ID, here.Against.N)
	if err != nil {
		return err
	}
	image, ok := judged[here.Against.N]
	if !ok {
		return store.ErrNotFound
	}
	session.Original(here.Path, &image.Outcome)
	return nil
}

// judgedIn returns items of another batch as a session of that judges them, by their numbers. What has no outcome is
// left out.
func (s *Service) judgedIn(
	ctx context.Context, around *verify.Session, batch int64, ns ...int,
) (map[int]verify.Item, error) {
	rows, err := s.store.ItemsAt(ctx, batch, ns)
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(row store.JudgedItem) bool { return row.Position == nil })
	items, err := s.held(ctx, rows...)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		holders, err := s.holders(ctx, batch, row.Path)
		if err != nil {
			return nil, err
		}
		for i := range holders {
			around.Judge(holders[i].Planned, &holders[i].Measurement)
		}
	}
	if err := around.Recall(ctx, len(items), func(i int) (*survey.Item, *measure.Measurement) {
		return items[i].Planned, &items[i].Measurement
	}); err != nil {
		return nil, err
	}
	out := make(map[int]verify.Item, len(items))
	for i := range items {
		items[i].Outcome = around.Judge(items[i].Planned, &items[i].Measurement)
		out[items[i].N] = items[i]
	}
	return out, nil
}

// maxPiecesTold bounds how many digests of pieces are told at once.
const maxPiecesTold = 65536

// Pieces returns the SHA-256 digests of the pieces of a part of an item that the service
// can read, so that a medium can be compared with it where that is. Those of the whole are
// computed once, and kept.
func (s *Service) Pieces(
	ctx context.Context, id int64, n int, part readback.Range, size int64,
) ([]digest.Value, error) {
	b, found, err := s.measuredItem(ctx, id, n)
	if err != nil {
		return nil, err
	}
	item, m := found.Planned, &found.Measurement
	if part.Offset < 0 || part.Length < 1 || size < 1 || part.Offset > m.Size-part.Length ||
		part.Length/size >= maxPiecesTold {
		return nil, fault.New(
			fault.Invalid, fault.BadPart,
			"The part from %d on, %d bytes in pieces of %d, is not one of %s, which has %d bytes.", part.Offset,
			part.Length, size, plain.Text(item.Path), m.Size,
		).
			Advise("At most %d pieces are told at once.", maxPiecesTold).
			At("length")
	}
	whole := part.Offset == 0 && part.Length == m.Size
	if whole {
		kept, err := s.store.Pieces(ctx, id, n, size)
		if err != nil || kept != nil {
			return cutDigests(kept), err
		}
	}
	folder, err := s.sources.Open(sourceOf(b))
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	content, err := s.content(ctx, folder.FS(), id, item)
	if err != nil {
		return nil, fault.New(
			fault.Conflict, fault.NoLongerThere, "%s of batch %d cannot be read any more.", plain.Text(item.Path), id,
		).
			Advise("Give the image itself, if you have it.")
	}
	defer content.Close()
	sums, digests, err := pieces(ctx, content, part, size)
	if err != nil {
		return nil, err
	}
	if whole {
		if want, ok := m.Digests[digest.SHA256]; ok && !slices.Equal(want, sums) {
			return nil, fault.New(
				fault.Conflict, fault.ChangedSince, "%s is not what was verified in batch %d any more.",
				plain.Text(item.Path), id,
			).
				Advise("Verify its folder again.")
		}
		err = s.store.Do(ctx, func(ctx context.Context, tx *store.Tx) error {
			return tx.KeepPieces(ctx, id, n, size, slices.Concat(digests...))
		})
	}
	return cutDigests(slices.Concat(digests...)), err
}

// pieces hashes the pieces of a part of a stream, and the part as a whole.
func pieces(
	ctx context.Context, content io.Reader, part readback.Range, size int64,
) (whole []byte, each [][]byte, err error) {
	if file, ok := content.(io.Seeker); ok {
		_, err = file.Seek(part.Offset, io.SeekStart)
	} else {
		_, err = io.CopyN(io.Discard, content, part.Offset)
	}
	if err != nil {
		return nil, nil, err
	}
	all := sha256.New()
	for left := part.Length; left > 0; left -= size {
		if ctx.Err() != nil {
			return nil, nil, context.Cause(ctx)
		}
		piece := sha256.New()
		if _, err := io.CopyN(io.MultiWriter(piece, all), content, min(size, left)); err != nil {
			return nil, nil, fault.New(
				fault.Conflict, fault.ChangedSince, "The file is shorter than it was when it was verified.",
			).
				Advise("Verify its folder again.")
		}
		each = append(each, piece.Sum(nil))
	}
	return all.Sum(nil), each, nil
}

func cutDigests(all []byte) []digest.Value {
	var out []digest.Value
	for sum := range slices.Chunk(all, sha256.Size) {
		out = append(out, sum)
	}
	return out
}

// stored returns an item as it was surveyed and measured. It fails with
// [store.ErrNotFound].
func (s *Service) stored(ctx context.Context, batch int64, n int) (verify.Item, error) {
	row, err := s.store.ItemAt(ctx, batch, n)
	if err == nil && row.Position == nil {
		err = store.ErrNotFound
	}
	if err != nil {
		return verify.Item{}, err
	}
	out, err := s.held(ctx, row)
	if err != nil {
		return verify.Item{}, err
	}
	return out[0], nil
}

// holders returns the items that hold another, the outermost first.
func (s *Service) holders(ctx context.Context, batch int64, inner string) ([]verify.Item, error) {
	var out []verify.Item
	for outer, _ := container.Within(inner); outer != ""; outer, _ = container.Within(outer) {
		at, err := s.store.ItemNumbers(ctx, batch, []string{outer})
		if err != nil {
			return nil, err
		}
		n, ok := at[outer]
		if !ok {
			continue
		}
		holder, err := s.stored(ctx, batch, n)
		if err != nil {
			return nil, err
		}
		out = append([]verify.Item{holder}, out...)
	}
	return out, nil
}

// content opens an item of a folder that may be inside others.
func (s *Service) content(ctx context.Context, folder fs.FS, batch int64, item *survey.Item) (io.ReadCloser, error) {
	holders, err := s.holders(ctx, batch, item.Path)
	if err != nil {
		return nil, err
	}
	around := make([]*survey.Item, len(holders))
	for i := range holders {
		around[i] = holders[i].Planned
	}
	return verify.Content(ctx, folder, item, around)
}
