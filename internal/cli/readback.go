package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/readback"
	"endeixis/core/satchel"
	"endeixis/internal/client"
	"endeixis/internal/measurer"
	"endeixis/internal/sources"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// A backAgainst is what media are read back against.
type backAgainst struct {
	given wire.NewAgainst
	// lengthFrom says where the length is from, if it is given here.
	lengthFrom string
	// image is the image itself, if it is a file here, and carried what it carries.
	image   readback.Original
	carried []readback.Part
	// part is where on the media it begins.
	part  mediumPart
	close func()
}

func (a *app) readbackCommand() *cobra.Command {
	var against, label string
	var length int64
	var each, media bool
	var part mediumPart
	var site siteFlags
	cmd := &cobra.Command{
		Use:   "readback MEDIUM [--against WHAT]",
		Short: "Read a written medium back, and compare it with what should be on it",
		Args:  cobra.MaximumNArgs(1),
		Long: `readback reads a device node, a disc, a stick or a dump, only ever reading, past what the
system still has of it in memory where that can be. It compares exactly as many bytes as
the image has, says what follows them, which parts cannot be read, and where and how the
medium differs. A compressed image is compared as it stands and as what is in it; Intel
HEX, S-record and UF2 files as they stand and as the bytes they carry, address by address.

WHAT is the image: a file here; a file of a depot that was verified, as depot:path; the
record of a file, as record:812; or a digest, with --length where nothing that was
verified here has it. The medium is cleared if its bytes are those of a file that is.
Without --against it is found out which file that was cleared the medium holds.`,
		Example: "  endeixis readback /dev/sr0 --against quayside:corran/chart-2026-11/chart-2026-11.iso\n  endeixis readback /dev/sdb --against gauge-fw-4.2-main.img --each\n" +
			"  endeixis readback flash.hex --against record:812\n  endeixis readback dump.bin",
		RunE: func(cmd *cobra.Command, args []string) error {
			if media {
				return a.listMedia()
			}
			if len(args) == 0 {
				return usage("say which medium; “endeixis readback --media” lists those of this machine")
			}
			if part.offset != 0 && part.partition != 0 {
				return usage("--offset and --partition both say where it begins; give one of them")
			}
			if against == "" && (each || length != 0) {
				return usage("--each and --length go with --against: what should be on the medium")
			}
			if against == "" {
				found, err := a.known(cmd.Context(), site, args[0], part)
				if err != nil || found == "" {
					return err
				}
				against = found
			}
			if site.given() {
				return a.readbackOnSite(cmd.Context(), site, args[0], siteReadback{part, against, label, length, each})
			}
			c, err := a.reached(cmd.Context())
			if err != nil {
				return a.adviseSatchel(err)
			}
			what, err := a.backAgainst(cmd.Context(), against, length)
			if err != nil {
				return err
			}
			defer what.close()
			what.part = part
			if each {
				return a.readEach(func(n int) (*judge.Verdict, error) {
					b, err := a.readBack(cmd.Context(), c, args[0], what, label, n)
					return b.Verdict, err
				})
			}
			b, err := a.readBack(cmd.Context(), c, args[0], what, label, 0)
			if err != nil {
				return err
			}
			return verdictExit(b)
		},
	}
	cmd.Flags().StringVar(&against, "against", "", "the image: a file, depot:path, record:NUMBER, or a digest")
	cmd.Flags().Int64Var(&length, "length", 0, "with a digest: how many bytes the image has")
	cmd.Flags().Int64Var(&part.offset, "offset", 0, "where on the medium the image begins, in bytes")
	cmd.Flags().IntVar(&part.partition, "partition", 0, "the partition that has the image, by its number")
	site.add(cmd)
	cmd.Flags().BoolVar(&media, "media", false, "list the media of this machine, and read none")
	cmd.Flags().BoolVar(&each, "each", false, "ask for one medium after the other, until there are no more")
	cmd.Flags().StringVar(&label, "label", "readback", "a label for the batch")
	return cmd
}

// listMedia lists the media of this machine, so that nobody has to guess which is which.
func (a *app) listMedia() error {
	media, err := measurer.Media("/")
	if err != nil {
		return &exit{exitFailed, err}
	}
	g := &grid{
		header: []string{"medium", "size", "model", "serial", "label"},
		empty:  "There is no medium in this machine that can be read from any place.",
	}
	for _, m := range media {
		g.add(m.Name, size(m.Size), m.Model, m.Serial, m.Label)
	}
	return a.print(media, g, nil)
}

// A mediumPart is the part of a medium that is looked at; all of it, if nothing is set.
type mediumPart struct {
	offset    int64
	partition int
}

// open opens a medium, or a part of it.
func (p mediumPart) open(path string) (*measurer.Medium, error) {
	m, err := measurer.OpenMedium(path)
	if err != nil {
		return nil, &exit{exitFailed, err}
	}
	switch {
	case p.partition != 0:
		err = m.Partition(p.partition)
	case p.offset != 0:
		err = m.From(p.offset, 0)
	}
	if err != nil {
		m.Close()
		return nil, &exit{exitFailed, err}
	}
	return m, nil
}

// known finds out which file that was cleared a medium holds, and returns how it is named
// for --against. It is empty where it holds none: then that was said, and nothing is on record.
func (a *app) known(ctx context.Context, f siteFlags, path string, part mediumPart) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	find, err := a.finder(ctx, f)
	if err != nil {
		return "", err
	}
	m, err := part.open(path)
	if err != nil {
		return "", err
	}
	defer m.Close()
	b, err := a.begins(ctx, find, m, path)
	if err != nil {
		return "", err
	}
	if b != nil {
		a.note(
			"It begins with %s, which has %d bytes; %d more follow. Now it is held against that.", plain.Text(b.name),
			b.size, m.Info.Size-b.size,
		)
		return b.against, nil
	}
	fmt.Fprintf(a.stdout, "%s  %s\n", a.paint("unproven"), a.bold(plain.Text(path)))
	a.wrapped(
		"    ",
		"It begins with no file that was cleared here: neither as long as it says itself, nor up to where its content ends, nor as a whole.",
	)
	for _, s := range readback.Recognise(m) {
		a.wrapped("    ", fmt.Sprintf("By its %s the image has %d bytes.", s.Kind, s.Length))
	}
	a.note(
		"Nothing is on record. Say with --against what should be on it, or with --offset or --partition where the image begins.",
	)
	return "", &exit{code: exitUnproven}
}

// A beginning is a file that was cleared and that a medium begins with.
type beginning struct {
	// against is how it is named for --against.
	against, name string
	size          int64
}

// begins finds the longest file that was cleared and that a medium begins with, or returns nil.
func (a *app) begins(ctx context.Context, find finder, m *measurer.Medium, path string) (*beginning, error) {
	lengths, err := readback.Lengths(ctx, m, m.Info.Size)
	if err != nil || len(lengths) == 0 {
		return nil, err
	}
	bar := a.bar(m.Info.Size, path)
	readings, err := readback.ReadTo(
		//nolint:errcheck // only for the eye
		ctx, m, lengths, digest.Only(digest.SHA256), func(n int64) { bar.Set64(n) },
	)
	bar.Clear() //nolint:errcheck // only for the eye
	if err != nil {
		return nil, err
	}
	// The longest says the most.
	for _, r := range slices.Backward(readings) {
		value := r.Digests[digest.SHA256]
		if len(value) == 0 {
			continue
		}
		against, name, err := find(value)
		if err != nil {
			return nil, err
		}
		if against != "" {
			return &beginning{against, name, r.Size}, nil
		}
	}
	return nil, nil
}

// A finder finds a file that is cleared by its SHA-256.
type finder func(digest.Value) (against, name string, err error)

// finder returns what finds a file that is cleared by its SHA-256: at the service, or in a
// satchel.
func (a *app) finder(ctx context.Context, f siteFlags) (finder, error) {
	if f.given() {
		s, err := a.openSatchel(f.satchel, f.key)
		if err != nil {
			return nil, err
		}
		return findIn(s), nil
	}
	c, err := a.reached(ctx)
	if err != nil {
		return nil, a.adviseSatchel(err)
	}
	return findAt(ctx, c), nil
}

// findIn finds files that were cleared in a satchel.
func findIn(s *satchel.Satchel) finder {
	return func(value digest.Value) (string, string, error) {
		if r := s.Reference(0, value); r != nil {
			return value.String(), r.Name, nil
		}
		return "", "", nil
	}
}

// findAt finds files that are cleared at a service.
func findAt(ctx context.Context, c *client.Client) finder {
	return func(value digest.Value) (string, string, error) {
		found, err := c.References(ctx, value.String())
		if err != nil {
			return "", "", err
		}
		for _, r := range found {
			if r.Now == nil || *r.Now == judge.Cleared {
				return fmt.Sprintf("record:%d", r.Record), r.Name, nil
			}
		}
		return "", "", nil
	}
}

// lengthGiven says of a length that a person gave it.
const lengthGiven = "--length"

var recordGiven = regexp.MustCompile(`^record:([1-9][0-9]{0,17})$`)

// backAgainst understands what was given as the image.
func (a *app) backAgainst(ctx context.Context, arg string, length int64) (*backAgainst, error) {
	out := &backAgainst{close: func() {}}
	if length < 0 {
		return nil, usage("--length %d: an image has at least one byte", length)
	}
	info, err := os.Stat(arg)
	switch {
	case err == nil && info.IsDir():
		return nil, usage("%s is a folder; give the image that was written to the medium", plain.Quoted(arg))
	case err == nil:
		image, err := measurer.OpenMedium(arg)
		if err != nil {
			return nil, &exit{exitFailed, err}
		}
		out.close = func() { image.Close() }
		if image.Carried != "" {
			a.note("%s: %s", plain.Text(arg), image.Carried)
		}
		bar := a.bar(image.Info.Size, arg)
		read, err := readback.Read(
			//nolint:errcheck // only for the eye
			ctx, image, image.Info.Size, digest.Only(digest.SHA256), func(n int64) { bar.Set64(n) },
		)
		bar.Clear() //nolint:errcheck // only for the eye
		if err == nil && len(read.Unreadable) > 0 {
			err = fmt.Errorf("%s cannot be read to its end", plain.Quoted(arg))
		}
		if err != nil {
			image.Close()
			return nil, err
		}
		forms, why := measurer.FormsOf(ctx, filepath.Base(arg), image)
		if why != "" {
			a.note("%s cannot be expanded: %s. It is compared as it stands.", plain.Text(arg), why)
		}
		out.given = wire.NewAgainst{
			Digest: read.Digests[digest.SHA256].String(), Algorithm: digest.SHA256.String(), Length: image.Info.Size,
			Forms: forms,
		}
		out.carried = image.Parts
		out.image, out.lengthFrom = measurer.File{Image: image, Length: image.Info.Size}, "the file "+plain.Text(arg)
	case recordGiven.MatchString(arg):
		out.given.Record, _ = strconv.ParseInt(recordGiven.FindStringSubmatch(arg)[1], 10, 64)
	case isDepot(arg):
		out.given.Depot, out.given.Path, _ = strings.Cut(arg, ":")
	default:
		e, err := parseDigest(arg)
		if err != nil {
			return nil, usage(
				"there is no file %s here, and it is no record, no file of a depot and no digest", plain.Quoted(arg),
			)
		}
		a.note("%s is taken for %s.", plain.Grouped(e.Digest.String()), e.Recognised())
		out.given = wire.NewAgainst{Digest: e.Digest.String(), Length: length}
		if e.Algorithm != digest.Unknown {
			out.given.Algorithm = e.Algorithm.String()
		}
		if length > 0 {
			out.lengthFrom = lengthGiven
		}
		return out, nil
	}
	if length != 0 {
		return nil, usage("--length goes with a digest; the length of %s is known", plain.Quoted(arg))
	}
	return out, nil
}

// readBack reads one medium back, and shows what came of it.
func (a *app) readBack(
	ctx context.Context, c *client.Client, path string, what *backAgainst, label string, number int,
) (wire.Batch, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return wire.Batch{}, err
	}
	m, err := what.part.open(path)
	if err != nil {
		return wire.Batch{}, err
	}
	defer m.Close()
	m.Info.Number = number
	given, from := what.given, what.lengthFrom
	if found := readback.Recognise(m); given.Digest != "" && given.Length == 0 && len(found) > 0 &&
		found[0].Length > 0 {
		// What the image says of itself; the service knows better if it knows the image.
		given.Length, from = found[0].Length, "its "+found[0].Kind
	}
	b, err := c.RunBatch(ctx, wire.NewBatch{
		Label:   label,
		Against: &given,
		Measurer: &wire.Measurer{
			Kind: measure.Client, Host: hostname(), Path: path, Software: "endeixis " + version.Full(),
		},
	}, rand.Text())
	if err != nil {
		return b, err
	}
	against := b.Against
	if against == nil {
		return b, &exit{exitFailed, errors.New("this service does not know of readbacks; it is of an older version")}
	}
	back := measurer.Back{Medium: m, LengthFrom: from, Original: what.image, Carried: what.carried}
	if against.Batch != 0 {
		back.LengthFrom = fmt.Sprintf("%s, batch %d", against.Shown, against.Batch)
		if back.Original == nil && against.Inner == "" {
			back.Original = a.imageOf(ctx, c, against)
		}
	}
	if err := measurer.ListMedium(ctx, c, b.ID, m); err != nil {
		return b, err
	}
	surveyed, err := measurer.Surveyed(ctx, c, b.ID)
	if err != nil {
		return b, err
	}
	surveyed.Against = against
	bar := a.bar(against.Size, path)
	_, err = measurer.ReadBack(
		//nolint:errcheck // only for the eye
		ctx, c, surveyed, back, func(n int64) { bar.Set64(n) },
	)
	bar.Clear() //nolint:errcheck // only for the eye
	if err != nil {
		switch {
		case ctx.Err() != nil:
			err = fmt.Errorf("interrupted; nothing of batch %d is judged. Read the medium back again", b.ID)
		case client.Lost(err):
			err = fmt.Errorf(
				"the connection to the service was lost, and it does not answer again; nothing of batch %d is judged. Read the medium back again. (%w)",
				b.ID,
				err,
			)
		}
		return b, &exit{exitFailed, err}
	}
	if b, err = c.Follow(ctx, b.ID, func(wire.Batch) {}); err != nil {
		return b, err
	}
	items, err := c.Items(ctx, b.ID)
	if err != nil {
		return b, err
	}
	return b, a.print(fullBatch{b, items, []wire.Absent{}, []wire.Copy{}}, spotGrid(items), func() {
		for _, item := range items {
			a.showReadback(item, b.ID)
		}
	})
}

// imageOf returns how the image can be asked: by the service, or here if its folder is one
// of this machine.
func (a *app) imageOf(ctx context.Context, c *client.Client, against *wire.Against) readback.Original {
	b, err := c.Batch(ctx, against.Batch)
	if err == nil && b.Source.Kind == sources.Depot {
		return serviceImage{c, against}
	}
	return nil
}

// serviceImage asks the service for digests of pieces of an image.
type serviceImage struct {
	client  *client.Client
	against *wire.Against
}

func (serviceImage) Bytes() io.ReaderAt { return nil }

func (o serviceImage) Pieces(ctx context.Context, part readback.Range, size int64) ([]digest.Value, error) {
	return o.client.Pieces(ctx, o.against.Batch, o.against.N, part.Offset, part.Length, size)
}

// readEach has one medium after the other read, and counts what came of them.
func (a *app) readEach(readOne func(n int) (*judge.Verdict, error)) error {
	answers := bufio.NewScanner(a.stdin)
	worst, last := 0, wire.Batch{}
	counts := map[string]int{}
	for n := 1; ; n++ {
		a.note("Medium %d: put it in, and press Enter. An empty drive and “q” end it.", n)
		if !answers.Scan() || strings.TrimSpace(answers.Text()) == "q" {
			break
		}
		v, err := readOne(n)
		if err != nil {
			var medium *measurer.MediumError
			var gone *readback.GoneError
			if !errors.As(err, &medium) && !errors.As(err, &gone) {
				return err
			}
			a.note("%v", err)
			counts["not read"]++
			worst = max(worst, exitFailed)
			continue
		}
		verdict := "no verdict"
		if v != nil {
			verdict = string(*v)
		}
		counts[verdict]++
		if b := (wire.Batch{Verdict: v}); last.Verdict == nil || worseThan(b, last) {
			last = b
		}
	}
	var said []string
	for _, word := range []string{"cleared", "unproven", "refused", "no verdict", "not read"} {
		if counts[word] > 0 {
			said = append(said, fmt.Sprintf("%d %s", counts[word], word))
		}
	}
	if len(said) == 0 {
		a.note("No medium was read.")
		return nil
	}
	a.note("Media: %s.", strings.Join(said, ", "))
	if err := verdictExit(last); err != nil || worst == 0 {
		return err
	}
	return &exit{code: worst}
}

// worseThan reports whether one batch came to a worse verdict than another.
func worseThan(b, than wire.Batch) bool {
	rank := map[judge.Verdict]int{judge.Cleared: 1, judge.Unproven: 2, judge.Refused: 3}
	return b.Verdict != nil && than.Verdict != nil && rank[*b.Verdict] > rank[*than.Verdict]
}

// showReadback shows the answer for a medium.
func (a *app) showReadback(item wire.Item, batch int64) {
	fmt.Fprintln(a.stdout, a.headOf(item))
	shown := problems(item)
	if deref(item.Verdict) == string(judge.Cleared) {
		a.wrapped("    ", item.Deciding)
	}
	a.showGrounds(strongest(shown))
	a.showMatch(item)
	report := item.Readback
	if report == nil {
		return
	}
	a.showMedium(report)
	if item.Record != nil {
		fmt.Fprintf(
			a.stdout, "    %s\n",
			a.faint(fmt.Sprintf("record %d; “endeixis batch show %d” shows every link", *item.Record, batch)),
		)
	}
}

// showMedium shows how a medium was read, and what was found on it.
func (a *app) showMedium(report *readback.Report) {
	m := report.Medium
	about := []string{plain.Text(m.Name), size(m.Size)}
	if m.From > 0 {
		about = append(about, fmt.Sprintf("from offset %d on", m.From))
	}
	for _, s := range []string{m.Model, m.Serial, m.Label} {
		if s != "" {
			about = append(about, plain.Text(s))
		}
	}
	fmt.Fprintf(a.stdout, "    %s\n", a.faint(strings.Join(about, ", ")))
	from := ""
	if report.LengthFrom != "" {
		from = ": the length of " + report.LengthFrom
		if report.LengthFrom == lengthGiven {
			from = ", as " + lengthGiven + " says"
		}
	}
	a.wrapped("    ", fmt.Sprintf("%d bytes were compared%s.", report.Length, from))
	for _, s := range report.Structures {
		if s.Length != report.Length || s.Detail != "" {
			text := fmt.Sprintf("By its %s the image has %d bytes", s.Kind, s.Length)
			if s.Detail != "" {
				text += "; " + s.Detail
			}
			a.wrapped("    ", text+".")
		}
	}
	if report.Carried != "" {
		a.wrapped("    ", report.Carried)
	}
	if len(report.Gaps) > 0 {
		a.wrapped(
			"    ",
			fmt.Sprintf(
				"It leaves out %s, which are taken for FF; the first at offset %d, %d bytes.",
				plain.Count(len(report.Gaps), "part"), report.Gaps[0].Offset, report.Gaps[0].Length,
			),
		)
	}
	if report.Steadied > 0 {
		a.wrapped(
			"    ",
			fmt.Sprintf(
				"%s could be read only when tried again: the medium or the drive is weak.",
				capital(plain.Count(report.Steadied, "place")),
			),
		)
	}
	a.wrapped("    ", report.Cache.Sentence()+" "+report.Tail.Sentence)
	d := report.Damage
	if d == nil {
		a.showUnreadable(report)
		return
	}
	fmt.Fprintf(a.stdout, "    %s\n", strings.NewReplacer("=", "·", "x", "█", "!", "!").Replace(d.Map))
	a.wrapped("    ", fmt.Sprintf("%d of %d pieces of %s differ:", d.Differing, d.Of, size(d.Piece)))
	if d.Whole != "" {
		a.wrapped("      ", d.Whole)
	}
	for i, diff := range d.Differences {
		if i == fewPlaces {
			a.wrapped("      ", fmt.Sprintf("and %s more", plain.Count(len(d.Differences)-fewPlaces, "place")))
			break
		}
		fmt.Fprintf(a.stdout, "      offset %d, %s: %s\n", diff.Offset, size(diff.Length), plain.Text(diff.Looks))
	}
	if d.More > 0 {
		a.wrapped(
			"      ", fmt.Sprintf("%s more differ, which were not looked at more closely.", capital(plain.Count(d.More, "piece"))),
		)
	}
}

// fewPlaces bounds the places on a medium that are told one by one.
const fewPlaces = 8

// showUnreadable tells the places that cannot be read.
func (a *app) showUnreadable(report *readback.Report) {
	for i, r := range report.Unreadable {
		if i == fewPlaces {
			a.wrapped(
				"      ",
				fmt.Sprintf(
					"and %s more that cannot be read",
					plain.Count(len(report.Unreadable)-fewPlaces+report.MoreUnreadable, "place"),
				),
			)
			break
		}
		fmt.Fprintf(a.stdout, "      offset %d, %s: it cannot be read\n", r.Offset, size(r.Length))
	}
}
