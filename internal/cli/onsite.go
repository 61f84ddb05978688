package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/core/verify"
	"endeixis/internal/measurer"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// siteFlags are those of commands that can judge by a satchel.
type siteFlags struct{ satchel, outcomes, key string }

func (f *siteFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(
		&f.satchel, "satchel", "",
		"where there is no network: judge by this satchel; outcomes go on record when they are returned",
	)
	cmd.Flags().StringVar(
		&f.outcomes, "outcomes", "", "with --satchel: the file for the outcomes (beside the satchel, if left out)",
	)
	cmd.Flags().StringVar(
		&f.key,
		"service-key",
		"",
		"with --satchel: the public key of the service that packed it, or a file with it (the one remembered from login, if left out)",
	)
}

func (f *siteFlags) given() bool { return f.satchel != "" }

// openSatchel reads a satchel of the service whose key is given or remembered.
func (a *app) openSatchel(file, key string) (*satchel.Satchel, error) {
	verifier, err := a.serviceKey(
		key,
		"give the public key of the service that packed it with --service-key; “endeixis status” shows it, and a sign-in remembers it",
		"service",
	)
	if err != nil {
		return nil, err
	}
	text, err := a.readFile(file, satchel.MaxSize, "a satchel")
	if err != nil {
		return nil, err
	}
	s, err := satchel.Open(text, verifier)
	return s, cannot(err)
}

// cannot words what is wrong with a satchel, which then judges nothing.
func cannot(err error) error {
	var e *satchel.Error
	if errors.As(err, &e) {
		return &exit{exitFailed, errors.New(strings.TrimSpace(e.Sentence + "\n" + e.Advice))}
	}
	return err
}

// A site is where things are judged by a satchel.
type site struct {
	satchel *satchel.Satchel
	journal *satchel.Journal
	signer  note.Signer
	// path is that of the journal, and lock keeps other commands from writing to it.
	path string
	lock *os.File
	now  time.Time
}

// openSite opens a satchel, and the file into which outcomes go. The first time, the key
// is made that seals them.
func (a *app) openSite(f siteFlags) (*site, error) {
	s, err := a.openSatchel(f.satchel, f.key)
	if err != nil {
		return nil, err
	}
	out := &site{satchel: s, path: f.outcomes, now: time.Now().UTC()}
	if err := s.Valid(out.now); err != nil {
		return nil, cannot(err)
	}
	if out.path == "" {
		out.path = strings.TrimSuffix(f.satchel, filepath.Ext(f.satchel)) + ".outcomes"
	}
	keyFile := out.path + ".key"
	lock, err := os.OpenFile(keyFile, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the key that seals outcomes cannot be kept: %w", err)
	}
	out.lock = lock
	if err := out.open(keyFile); err != nil {
		lock.Close()
		return nil, err
	}
	return out, nil
}

func (s *site) open(keyFile string) error {
	if err := syscall.Flock(int(s.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return &exit{
			exitFailed,
			fmt.Errorf("another command writes outcomes to %s; wait until it is done", plain.Quoted(s.path)),
		}
	}
	text, err := os.ReadFile(s.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if text, err = s.begin(keyFile); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	if cut := bytes.LastIndexByte(text, '\n'); cut+1 < len(text) {
		// The machine went down in the middle of a line: it was never told to anybody.
		if err := os.Truncate(s.path, int64(cut+1)); err != nil {
			return err
		}
		text = text[:cut+1]
	}
	if s.journal, err = satchel.ReadJournal(text); err != nil {
		return cannot(err)
	}
	if err := s.journal.Continue(s.satchel, s.now); err != nil {
		return cannot(err)
	}
	secret, err := os.ReadFile(keyFile)
	if err != nil {
		return err
	}
	if s.signer, err = note.NewSigner(strings.TrimSpace(string(secret))); err != nil {
		return &exit{
			exitFailed,
			fmt.Errorf(
				"the key that seals outcomes, %s, cannot be read. Give another file with --outcomes: a new key is made for it",
				plain.Quoted(keyFile),
			),
		}
	}
	if verifier, err := note.NewVerifier(s.journal.Key); err != nil || verifier.KeyHash() != s.signer.KeyHash() {
		return &exit{
			exitFailed,
			fmt.Errorf("the key in %s is not the one that seals %s", plain.Quoted(keyFile), plain.Quoted(s.path)),
		}
	}
	return nil
}

// begin makes the key, and the first line of the file.
func (s *site) begin(keyFile string) ([]byte, error) {
	first, secret, err := satchel.NewHeader(s.satchel, s.now, hostname(), rand.Reader)
	if err != nil {
		return nil, err
	}
	if err := s.lock.Truncate(0); err != nil {
		return nil, err
	}
	if _, err := s.lock.WriteAt([]byte(secret+"\n"), 0); err != nil {
		return nil, fmt.Errorf("the key that seals outcomes cannot be kept in %s: %w", plain.Quoted(keyFile), err)
	}
	if err := s.lock.Sync(); err != nil {
		return nil, err
	}
	return first, os.WriteFile(s.path, first, 0o600)
}

func (s *site) close() { s.lock.Close() }

// keep seals an outcome and writes it behind the others.
func (s *site) keep(e *satchel.Entry) error {
	e.N = len(s.journal.Entries) + 1
	next, err := satchel.Seal(*e, s.satchel.ID, s.journal.Last, s.signer)
	if err != nil {
		return cannot(err)
	}
	f, err := os.OpenFile(s.path, os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(next)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("the outcome cannot be kept in %s: %w", plain.Quoted(s.path), err)
	}
	s.journal.Entries = append(s.journal.Entries, satchel.Sealed{Entry: *e})
	s.journal.Last = bytes.TrimSuffix(next, []byte("\n"))
	return nil
}

// entry begins an outcome.
func (a *app) entry(s *site, kind satchel.Kind, path, label, publisher string) satchel.Entry {
	by := a.profile.User
	if u, err := user.Current(); by == "" && err == nil {
		by = u.Username
	}
	return satchel.Entry{
		Kind:        kind,
		At:          s.now,
		By:          by,
		Host:        hostname(),
		Path:        path,
		Software:    "endeixis " + version.Full(),
		Label:       label,
		Publisher:   publisher,
		Corrections: []survey.Correction{},
		Measured:    map[string]satchel.Measured{},
		Outcomes:    []satchel.Judged{},
	}
}

// session begins to judge what an outcome is of.
func (s *site) session(e *satchel.Entry, plan *survey.Survey) *verify.Session {
	basis := s.satchel.Basis(s.now)
	basis.Expected = judge.Expect(e.Publisher, s.satchel.Keyring(), plan.Items)
	basis.Companions = e.Companions
	out := verify.New(basis)
	out.Trust(s.satchel.Verifier())
	return out
}

// witnessOf is who measures for an outcome.
func witnessOf(e *satchel.Entry) measure.Attribution {
	return measure.Attribution{
		Maker: measure.Client, Where: "client on " + e.Host, By: e.By, At: e.At, Software: e.Software,
	}
}

// known is what a satchel knows of other files.
type known struct {
	satchel *satchel.Satchel
	plan    *survey.Survey
}

func (k known) Stated(context.Context) (map[string]diagnose.StatedAt, error) {
	return verify.Stated(k.plan), nil
}

func (k known) Cleared(_ context.Context, sums []string) (map[string]*diagnose.Earlier, error) {
	out := map[string]*diagnose.Earlier{}
	for _, sum := range sums {
		var value digest.Value
		if value.UnmarshalText([]byte(sum)) != nil {
			continue
		}
		if r := k.satchel.Reference(0, value); r != nil {
			out[sum] = &diagnose.Earlier{Name: r.Name, Label: "in the satchel", Batch: r.Batch, On: k.satchel.Packed}
		}
	}
	return out, nil
}

// judge measures and judges files here, puts that into the entry, and returns all of it.
func (a *app) judge(
	ctx context.Context, s *site, e *satchel.Entry, folder fs.FS, found *survey.Findings,
) ([]verify.Item, error) {
	plan, err := survey.Plan(found, survey.Options{Corrections: e.Corrections})
	if err != nil {
		return nil, mistake(err)
	}
	total := int64(0)
	for _, file := range found.Files {
		total += file.Size
	}
	bar := a.bar(total, e.Path)
	o := verify.OnSite{
		Folder:      folder,
		Plan:        plan,
		Session:     s.session(e, plan),
		OtherFiles:  known{s.satchel, plan},
		Cores:       runtime.GOMAXPROCS(0),
		MaxBytes:    s.satchel.Policy.DiagnosisBytes,
		Attribution: witnessOf(e),
		Progress:    func(n int64) { bar.Set64(n) }, //nolint:errcheck // only for the eye
	}
	items, done, err := o.Run(ctx)
	bar.Clear() //nolint:errcheck // only for the eye
	if err != nil {
		return nil, err
	}
	e.Findings = found
	for path, d := range done {
		e.Measured[path] = satchel.Measured{Reading: d.Reading, Diagnoses: d.Diagnoses}
	}
	e.Settle(items, len(plan.Absent))
	return items, nil
}

// runOnSite verifies a folder of this machine by a satchel.
func (a *app) runOnSite(ctx context.Context, f siteFlags, r wire.NewBatch, arg string) error {
	s, err := a.openSite(f)
	if err != nil {
		return err
	}
	defer s.close()
	h, err := a.lookAt(ctx, arg)
	if err != nil {
		return err
	}
	defer h.folder.Close()
	e := a.entry(s, satchel.Folder, h.path, r.Label, r.Publisher)
	e.RequireAll, e.Corrections = r.RequireAll, correctionsOf(r.Corrections)
	if err := judge.CheckCompanions(r.Companions); err != nil {
		return usage("--companion: %s", err)
	}
	e.Companions = r.Companions
	return a.tellSite(ctx, s, &e, h.folder.FS(), h.found, func(string) bool { return true })
}

// spotOnSite verifies files of this machine by a satchel.
func (a *app) spotOnSite(
	ctx context.Context, sp spot, dir string, shelf *measurer.Shelf, found *survey.Findings,
	corrections []wire.Correction,
) error {
	s, err := a.openSite(sp.site)
	if err != nil {
		return err
	}
	defer s.close()
	e := a.entry(s, satchel.Spot, dir, "spot", sp.publisher)
	e.Corrections = correctionsOf(corrections)
	return a.tellSite(ctx, s, &e, shelf, found, sp.about)
}

// tellSite judges files, keeps the outcome, and shows it.
func (a *app) tellSite(
	ctx context.Context, s *site, e *satchel.Entry, folder fs.FS, found *survey.Findings, shown func(path string) bool,
) error {
	items, err := a.judge(ctx, s, e, folder, found)
	if err != nil {
		return err
	}
	if err := s.keep(e); err != nil {
		return err
	}
	var out []wire.Item
	for i := range items {
		if items[i].Planned.Role == survey.Artifact && shown(items[i].Planned.Path) {
			out = append(out, shownItem(&items[i]))
		}
	}
	if e.Kind == satchel.Spot {
		for _, item := range out {
			if item.Compared == judge.NothingCompared {
				if err := a.tellBeginning(ctx, findIn(s.satchel), filepath.Join(e.Path, item.Path)); err != nil {
					return err
				}
			}
		}
	}
	return a.showSite(s, e, out)
}

// onSite is what is told of an outcome that is not on record yet.
type onSite struct {
	Number   int           `json:"number"`
	Satchel  string        `json:"satchel"`
	Outcomes string        `json:"outcomes"`
	SealedBy string        `json:"sealed_by"`
	Verdict  judge.Verdict `json:"verdict"`
	Items    []wire.Item   `json:"items"`
}

// maxShownOnSite bounds how many files are shown one by one.
const maxShownOnSite = 60

func (a *app) showSite(s *site, e *satchel.Entry, items []wire.Item) error {
	if err := a.showOnSite(s, e, items); err != nil {
		return err
	}
	return verdictExit(wire.Batch{Verdict: &e.Verdict})
}

// showOnSite shows an outcome that was judged on site.
func (a *app) showOnSite(s *site, e *satchel.Entry, items []wire.Item) error {
	value := onSite{e.N, s.satchel.ID, s.path, s.journal.Fingerprint(), e.Verdict, items}
	return a.print(value, spotGrid(items), func() {
		n, left := 0, 0
		for _, verdict := range shownOrder {
			for _, item := range items {
				if deref(item.Verdict) != verdict {
					continue
				}
				if n == maxShownOnSite {
					left++
					continue
				}
				if n > 0 && verdict != "cleared" {
					fmt.Fprintln(a.stdout)
				}
				n++
				if item.Readback != nil {
					a.showReadback(item, 0)
				} else {
					a.showSpot(item, 0)
				}
			}
		}
		if len(items) == 0 {
			a.wrapped(
				"",
				"Nothing here is a file to verify: what was given are lists, signatures or keys. Give the files that they are about.",
			)
		}
		if left > 0 {
			fmt.Fprintf(
				a.stdout, "and %s that %s like the last of these.\n", plain.Count(left, "more file"),
				map[bool]string{true: "ends", false: "end"}[left == 1],
			)
		}
		fmt.Fprintf(a.stdout, "\n%s  Outcome %d in %s.\n", a.paint(string(e.Verdict)), e.N, plain.Text(s.path))
		if e.N == 1 {
			a.wrapped(
				"    ",
				fmt.Sprintf(
					"Outcomes here are sealed by the key %s, which was made now. Note it down: whoever takes them back can ask for it.",
					s.journal.Fingerprint(),
				),
			)
		}
		a.wrapped(
			"    ",
			fmt.Sprintf(
				"Note down: %s, sum %s. Who takes the file back can see by that whether the end of it is missing.",
				plain.Count(e.N, "outcome"), s.journal.Sum(),
			),
		)
		a.wrapped(
			"    ",
			fmt.Sprintf(
				"It is on no record until it is returned with “endeixis satchel return %s”, and then judged again. The satchel is good until %s.",
				filepath.Base(s.path),
				moment(s.satchel.Until),
			),
		)
	})
}

// shownItem is an item that was judged here, in the form in which the service shows one.
func shownItem(d *verify.Item) wire.Item {
	verdict := d.Outcome.Verdict
	out := wire.Item{
		N:        d.N,
		Path:     d.Planned.Path,
		Shown:    plain.Text(d.Planned.Path),
		Role:     d.Planned.Role,
		Why:      d.Planned.Why,
		Size:     d.Measurement.Size,
		Verdict:  &verdict,
		Settled:  true,
		Deciding: judge.Line(d.Planned, &d.Outcome),
		Compared: judge.Compared(d.Outcome.Grounds), Grounds: d.Outcome.Grounds, Paths: d.Outcome.Paths,
		Digests: map[string]string{}, Readback: d.Measurement.Readback,
	}
	for algorithm, value := range d.Measurement.Digests {
		out.Digests[algorithm.String()] = value.String()
	}
	return out
}

// siteReadback is how media are read back by a satchel.
type siteReadback struct {
	part           mediumPart
	against, label string
	// length is that of an image of which only a digest is known, and each asks for one
	// medium after the other.
	length int64
	each   bool
}

// A siteImage is what media are read back against on site: a file there, which was verified,
// a reference of the satchel, or a value.
type siteImage struct {
	against  *survey.Against
	held     *satchel.Against
	original *judge.Outcome
	// file is the image itself, where it is there.
	file *measurer.Medium
}

func (i *siteImage) close() {
	if i.file != nil {
		i.file.Close()
	}
}

// readbackOnSite reads media back by a satchel. An image that is a file here is
// verified first.
func (a *app) readbackOnSite(ctx context.Context, f siteFlags, medium string, how siteReadback) error {
	s, err := a.openSite(f)
	if err != nil {
		return err
	}
	defer s.close()
	image, err := a.imageOnSite(ctx, s, how)
	if err != nil {
		return err
	}
	defer image.close()
	path, err := filepath.Abs(medium)
	if err != nil {
		return err
	}
	if !how.each {
		v, err := a.readOneOnSite(ctx, s, image, path, how, 0)
		if err != nil {
			return err
		}
		return verdictExit(wire.Batch{Verdict: v})
	}
	return a.readEach(func(n int) (*judge.Verdict, error) { return a.readOneOnSite(ctx, s, image, path, how, n) })
}

// readOneOnSite reads one medium, judges it, and keeps and shows the outcome.
func (a *app) readOneOnSite(
	ctx context.Context, s *site, image *siteImage, path string, how siteReadback, number int,
) (*judge.Verdict, error) {
	m, err := how.part.open(path)
	if err != nil {
		return nil, err
	}
	defer m.Close()
	m.Info.Number = number
	now := time.Now().UTC()
	if err := s.satchel.Valid(now); err != nil {
		return nil, cannot(err)
	}
	s.now = now
	name := filepath.Base(m.Info.Name)
	plan := survey.Medium(name, now, *image.against)
	item := &plan.Items[0]
	target, _ := item.Target()
	back := measurer.Back{Medium: m, LengthFrom: image.against.Named()}
	if image.file != nil {
		back.Original, back.Carried = measurer.File{Image: image.file, Length: image.file.Info.Size}, image.file.Parts
	}
	sought := measurer.Sought{Size: image.against.Size, Wanted: map[string]string{}, Forms: image.against.Forms}
	for algorithm, value := range image.against.Digests {
		sought.Wanted[algorithm.String()] = value.String()
	}
	bar := a.bar(image.against.Size, path)
	reading, err := measurer.ReadMedium(
		//nolint:errcheck // only for the eye
		ctx, back, sought, target.Tasks, func(n int64) { bar.Set64(n) },
	)
	bar.Clear() //nolint:errcheck // only for the eye
	if err != nil {
		return nil, &exit{exitFailed, err}
	}
	e := a.entry(s, satchel.Readback, path, how.label, "")
	e.At, e.Against = now, image.held
	e.Findings = &survey.Findings{
		Files: []survey.Found{{Path: name, Size: m.Info.Size, ModTime: now}}, Containers: []survey.Looked{},
	}
	e.Measured[name] = satchel.Measured{Reading: reading}
	session := s.session(&e, plan)
	if image.original != nil {
		session.Original(name, image.original)
	}
	settled := verify.Item{Planned: item, Measurement: verify.FromMeasurer(item, reading, witnessOf(&e))}
	settled.Outcome = session.Judge(item, &settled.Measurement)
	e.Settle([]verify.Item{settled}, 0)
	if err := s.keep(&e); err != nil {
		return nil, err
	}
	return &e.Verdict, a.showOnSite(s, &e, []wire.Item{shownItem(&settled)})
}

// imageOnSite finds what media are read back against: a file here, which is verified, a
// reference of the satchel, or a value of which the length was given.
func (a *app) imageOnSite(ctx context.Context, s *site, how siteReadback) (*siteImage, error) {
	arg := how.against
	if info, err := os.Stat(arg); err == nil && !info.IsDir() {
		return a.fileOnSite(ctx, s, arg)
	}
	var r *satchel.Reference
	held := &satchel.Against{}
	switch {
	case recordGiven.MatchString(arg):
		fmt.Sscan(recordGiven.FindStringSubmatch(arg)[1], &held.Record) //nolint:errcheck // the pattern has digits
		r = s.satchel.Reference(held.Record, nil)
	default:
		e, err := parseDigest(arg)
		if err != nil {
			return nil, usage("there is no file %s here, and it is no record and no digest", plain.Quoted(arg))
		}
		held.Digest, held.Algorithm = e.Digest, e.Algorithm
		if r = s.satchel.Reference(0, e.Digest); r == nil && how.length > 0 {
			held.Size = how.length
			out := &survey.Against{Size: how.length, Digests: map[digest.Algorithm]digest.Value{}}
			for _, a := range e.Candidates() {
				out.Digests[a] = e.Digest
			}
			return &siteImage{against: out, held: held}, nil
		}
	}
	if r == nil {
		return nil, &exit{
			exitFailed,
			fmt.Errorf(
				"the satchel knows no file that was cleared as %s. Give the image itself, with what vouches for it beside it, or a digest with --length",
				plain.Quoted(arg),
			),
		}
	}
	held.Record = r.Record
	held.Digest, held.Algorithm = nil, digest.Unknown
	out := r.Outcome()
	return &siteImage{
		against: &survey.Against{Batch: r.Batch, N: r.N, Path: r.Name, Size: r.Size, Digests: r.Digests}, held: held,
		original: &out,
	}, nil
}

// fileOnSite verifies an image that is a file here.
func (a *app) fileOnSite(ctx context.Context, s *site, arg string) (*siteImage, error) {
	shelf := measurer.NewShelf()
	defer shelf.Close()
	found, corrections, err := a.gathered(ctx, &spot{files: []string{arg}}, shelf)
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(filepath.Dir(arg))
	if err != nil {
		return nil, err
	}
	e := a.entry(s, satchel.Spot, dir, "image for a readback", "")
	e.Corrections = correctionsOf(corrections)
	items, err := a.judge(ctx, s, &e, shelf, found)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(items, func(d verify.Item) bool { return d.Planned.Path == filepath.Base(arg) })
	if at < 0 || items[at].Measurement.Problem != nil || len(items[at].Measurement.Digests) == 0 {
		return nil, &exit{exitFailed, fmt.Errorf("%s cannot be read", plain.Quoted(arg))}
	}
	if err := s.keep(&e); err != nil {
		return nil, err
	}
	image, err := measurer.OpenMedium(arg)
	if err != nil {
		return nil, err
	}
	forms, why := measurer.FormsOf(ctx, filepath.Base(arg), image)
	if why != "" {
		a.note("%s cannot be expanded: %s. It is compared as it stands.", plain.Text(arg), why)
	}
	d := &items[at]
	return &siteImage{
		against: &survey.Against{
			Batch: survey.ThisVisit, N: d.N, Path: d.Planned.Path, Size: d.Measurement.Size,
			Digests: d.Measurement.Digests, Forms: forms,
		},
		held: &satchel.Against{Entry: e.N, Path: d.Planned.Path, Forms: forms}, original: &d.Outcome, file: image,
	}, nil
}
