package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/container"
	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/client"
	"endeixis/internal/measurer"
	"endeixis/internal/sources"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// A spot is a spot check: files, and what else was given to hold them against.
type spot struct {
	files      []string
	digests    []string
	paste      bool
	manifests  []string
	signatures []string
	publisher  string
	unrecorded bool
	drill      bool
	// expectMatch asks for success where all that was given is the file's, whoever vouches.
	expectMatch bool
	site        siteFlags

	// asked are the names of the files on the shelf, and given those of what was handed
	// over for them.
	asked, given []string
}

// about reports whether an item is a file that was asked about, or in one of those.
func (s *spot) about(path string) bool { return slices.Contains(s.asked, container.Outermost(path)) }

func (a *app) spotCommand() *cobra.Command {
	var s spot
	cmd := &cobra.Command{
		Use:   "spot FILE…",
		Short: "Verify a file here and now, against what lies beside it or what you give",
		Long: `spot reads files of this machine. What vouches for them beside them is found; --digest,
--paste, --manifest and --signature add what you have from elsewhere. The service judges
and records the outcome, as of any batch. A value alone can show damage; it clears
nothing, for anybody could have written it.

Without a file, --digest tells which file that was cleared here has it.`,
		Example: "  endeixis spot image.iso\n  endeixis spot image.iso --digest 'E3 B0 C4 42 98 FC 1C 14 …'\n  endeixis spot image.iso --paste      (then paste, and end with Ctrl-D)\n" +
			"  endeixis spot --digest 3b323b5c4d281b8ec7164be5decf8566243b409edf054070361981324fc58abe",
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, arg := range args {
				if arg == "-" {
					s.paste = true
				} else {
					s.files = append(s.files, arg)
				}
			}
			if len(s.files) == 0 {
				return a.spotValues(cmd.Context(), s)
			}
			return a.spotFiles(cmd.Context(), s)
		},
	}
	cmd.Flags().StringArrayVar(
		&s.digests, "digest", nil,
		"a value to hold it against, of any algorithm and spaced in any way; repeat for more",
	)
	cmd.Flags().BoolVar(
		&s.paste, "paste", false,
		"read what was copied from a page, letter or message from the input; “-” does the same",
	)
	cmd.Flags().StringArrayVar(&s.manifests, "manifest", nil, "a list of digests that lies elsewhere; repeat for more")
	cmd.Flags().StringArrayVar(&s.signatures, "signature", nil, "a signature that lies elsewhere; repeat for more")
	cmd.Flags().StringVar(&s.publisher, "publisher", "", "the publisher that it is expected from")
	s.site.add(cmd)
	cmd.Flags().BoolVar(
		&s.drill, "drill", false, "then prove that the check can fail, with everything altered in memory",
	)
	cmd.Flags().BoolVar(
		&s.expectMatch, "expect-match", false,
		"end with 0 if all that was given was compared and is the file's, though nobody vouches for it",
	)
	cmd.Flags().BoolVar(&s.unrecorded, "unrecorded", false, "ask nobody and record nothing: compare digests alone")
	return cmd
}

// spotValues tells which file that was cleared here has a digest.
func (a *app) spotValues(ctx context.Context, s spot) error {
	if len(s.digests) == 0 {
		return usage("give a file, or with --digest a value to look for; see “endeixis spot --help”")
	}
	if s.paste || len(s.manifests)+len(s.signatures) > 0 || s.unrecorded || s.expectMatch || s.site.given() {
		return usage("without a file, --digest stands alone")
	}
	var values []digest.Value
	for _, text := range s.digests {
		e, err := a.valueOf(text)
		if err != nil {
			return err
		}
		if len(e.Digest) < digest.MD5.Size() {
			return usage(
				"%s is a checksum, which many files have: no file is found by it. Give the whole of an MD5, SHA-1, SHA-2, SHA-3 or BLAKE digest",
				plain.Grouped(e.Digest.String()),
			)
		}
		values = append(values, e.Digest)
	}
	found, err := a.references(ctx, values)
	if err != nil {
		return err
	}
	if err := a.showReferences(found); err != nil {
		return err
	}
	if len(found) == 0 {
		return &exit{code: exitUnproven}
	}
	return nil
}

// maxBeside bounds how many texts beside the one in question are looked at whose names do
// not say that they may vouch for it.
const maxBeside = 500

// gathered puts files and all that is given on a shelf, and finds what vouches for them.
func (a *app) gathered(
	ctx context.Context, s *spot, shelf *measurer.Shelf,
) (*survey.Findings, []wire.Correction, error) {
	given, err := a.givenTexts(*s)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range s.files {
		if err := measurer.Exists(file); err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		name, err := shelf.Put(file)
		if err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		s.asked = append(s.asked, name)
	}
	left, err := shelf.Beside(survey.NamedToVouch, survey.CanVouch, maxBeside)
	if err != nil {
		return nil, nil, err
	}
	if err := shelf.Proofs(survey.ProofsFolder, maxBeside); err != nil {
		return nil, nil, err
	}
	if left > 0 {
		a.note(
			"Of the texts beside it %d were looked at, and %d more were not; give a list among those with --manifest.",
			maxBeside, left,
		)
	}
	wanted := slices.Clone(s.asked)
	var corrections []wire.Correction
	for _, file := range s.signatures {
		name, err := shelf.Put(file)
		if err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		wanted = append(wanted, name)
		if len(s.files) == 1 && len(s.manifests) == 0 && !s.paste {
			// Which file it is over is plain, whatever it is called.
			corrections = append(corrections, wire.Correction{Signature: name, File: s.asked[0]})
		}
	}
	found, err := survey.Gather(ctx, shelf, survey.Limits{Bound: sources.LookFor})
	if err != nil {
		return nil, nil, err
	}
	for _, g := range given {
		name := shelf.PutText(g.name, g.content)
		found.Give(name, g.content, survey.Given{For: s.asked, Values: g.values})
		wanted = append(wanted, name)
		s.given = append(s.given, name)
	}
	plan, err := survey.Plan(found, survey.Options{Corrections: correctionsOf(corrections)})
	if err != nil {
		return nil, nil, mistake(err)
	}
	return found.Only(survey.Vouching(plan, wanted)), corrections, nil
}

// reasonOf words an error of a file without the system's call.
func reasonOf(err error) string {
	text := err.Error()
	for _, call := range []string{"open ", "stat ", "statat ", "lstat "} {
		text = strings.TrimPrefix(text, call)
	}
	return text
}

// spotFiles verifies files of this machine.
func (a *app) spotFiles(ctx context.Context, s spot) error {
	shelf := measurer.NewShelf()
	defer shelf.Close()
	found, corrections, err := a.gathered(ctx, &s, shelf)
	if err != nil {
		return err
	}
	dir, err := filepath.Abs(filepath.Dir(s.files[0]))
	if err != nil {
		return err
	}
	if s.site.given() {
		if s.drill {
			return usage("a drill needs the service; --drill and --satchel do not go together")
		}
		return a.spotOnSite(ctx, s, dir, shelf, found, corrections)
	}
	if s.unrecorded {
		if s.drill {
			return usage("a drill needs the service; --drill and --unrecorded do not go together")
		}
		return a.unrecorded(ctx, shelf, found, s.about, s.expectMatch)
	}
	c, err := a.client()
	if err == nil {
		var b wire.Batch
		b, err = c.RunBatch(ctx, wire.NewBatch{
			Label:       "spot",
			Publisher:   s.publisher,
			Corrections: corrections,
			Measurer: &wire.Measurer{
				Kind: measure.Client, Host: hostname(), Path: dir, Software: "endeixis " + version.Full(),
			},
		}, rand.Text())
		if err == nil {
			return a.spotRecorded(ctx, a.patient(c), b, shelf, found, s)
		}
	}
	return a.adviseSatchel(err)
}

// spotRecorded measures here what the service judges and records, and shows it.
func (a *app) spotRecorded(
	ctx context.Context, c *client.Client, b wire.Batch, shelf *measurer.Shelf, found *survey.Findings, s spot,
) error {
	id := b.ID
	var show func(measurer.Progress)
	if a.progress {
		var done func()
		show, done = a.measuring(b.ID)
		defer done()
	}
	b, err := a.measured(ctx, c, b, shelf, found, show)
	if err != nil {
		return goesOn(ctx, id, err)
	}
	items, err := c.Items(ctx, id)
	if err != nil {
		return err
	}
	absent := []wire.Absent{}
	if b.Counts.Absent > 0 && !slices.ContainsFunc(items, func(i wire.Item) bool { return i.Role == survey.Artifact }) {
		if absent, err = c.Absent(ctx, id); err != nil {
			return err
		}
	}
	if err := a.print(fullBatch{b, items, absent, []wire.Copy{}}, spotGrid(items), func() {
		first := true
		for _, verdict := range shownOrder {
			for _, item := range items {
				if deref(item.Verdict) == verdict && item.Role == survey.Artifact && s.about(item.Path) {
					if !first {
						fmt.Fprintln(a.stdout)
					}
					first = false
					a.showSpot(item, id)
				}
			}
		}
		if first {
			a.showNoArtifact(items, absent, s.about)
		}
	}); err != nil {
		return err
	}
	for _, item := range items {
		if item.Compared == judge.NothingCompared && slices.Contains(s.asked, item.Path) {
			if err := a.tellBeginning(ctx, findAt(ctx, c), s.fileOf(item.Path)); err != nil {
				return err
			}
		}
	}
	if s.expectMatch {
		return s.matchExit(items)
	}
	if err := verdictExit(b); err != nil || !s.drill {
		if s.drill {
			a.note("Only what is cleared is drilled.")
		}
		return err
	}
	fmt.Fprintln(a.stdout)
	var chosen []wire.Item
	for _, item := range items {
		if slices.Contains(s.asked, item.Path) {
			chosen = append(chosen, item)
		}
	}
	return a.drillFolder(ctx, c, id, shelf, chosen)
}

// fileOf returns where a file that was asked about is.
func (s *spot) fileOf(name string) string {
	if at := slices.Index(s.asked, name); at >= 0 && at < len(s.files) {
		return s.files[at]
	}
	return name
}

// tellBeginning says of a file that nothing speaks of whether it begins with one that was
// cleared, as a dump of a medium does that was read to its end.
func (a *app) tellBeginning(ctx context.Context, find finder, file string) error {
	m, err := measurer.OpenMedium(file)
	if err != nil {
		return nil // it was read a moment ago; that is told already
	}
	defer m.Close()
	b, err := a.begins(ctx, find, m, file)
	if err != nil || b == nil || b.size == m.Info.Size {
		return err
	}
	a.note(
		"%s begins with %s, which was cleared and has %d bytes; %d more follow. “endeixis readback %s” holds it against that.",
		plain.Text(file),
		plain.Text(b.name),
		b.size,
		m.Info.Size-b.size,
		typed(file),
	)
	return nil
}

// maxAbsentShown bounds how many files are named that a list has and that are not here.
const maxAbsentShown = 5

// showNoArtifact says that nothing that was asked about is a file to verify: what it is, and
// which files it speaks of.
func (a *app) showNoArtifact(items []wire.Item, absent []wire.Absent, about func(path string) bool) {
	for _, item := range items {
		if !about(item.Path) {
			continue
		}
		fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(plain.Text(item.Path)), a.faint(string(item.Role)))
		a.wrapped("    ", "It is no file to verify: "+item.Why+".")
		var names []string
		for _, missing := range absent {
			if missing.Manifest == item.Path {
				names = append(names, plain.Text(missing.Name))
			}
		}
		if len(names) > 0 {
			listed := strings.Join(names[:min(len(names), maxAbsentShown)], ", ")
			if more := len(names) - maxAbsentShown; more > 0 {
				listed += fmt.Sprintf(" and %s", plain.Count(more, "more file"))
			}
			a.wrapped("    ", fmt.Sprintf("It speaks of files that are not here: %s.", listed))
		}
	}
	a.note("Give the file that is to be verified; what lies beside it and vouches for it is found.")
}

// matchExit ends with success if everything that was given was compared and is what the
// files have.
func (s *spot) matchExit(items []wire.Item) error {
	worst := error(nil)
	for _, item := range items {
		switch {
		case item.Role == survey.Artifact && deref(item.Verdict) == string(judge.Refused):
			return &exit{code: exitRefused}
		case slices.Contains(s.asked, item.Path) && !judge.MatchesAll(item.Grounds),
			slices.Contains(s.given, item.Path) &&
				slices.ContainsFunc(item.Grounds, isUnreadableManifest):
			worst = &exit{code: exitUnproven}
		}
	}
	return worst
}

func spotGrid(items []wire.Item) *grid {
	g := &grid{header: []string{"verdict", "file", "role", "size", "why"}}
	for _, item := range items {
		g.add(deref(item.Verdict), item.Path, string(item.Role), fmt.Sprint(item.Size), item.Deciding)
	}
	return g
}

// showSpot shows the answer for one file: the verdict, the one reason that matters, the
// values, and what is missing for more.
func (a *app) showSpot(item wire.Item, batch int64) {
	fmt.Fprintln(a.stdout, a.headOf(item))
	if said := saidOf(item); said != "" {
		a.wrapped("    ", said)
	}
	shown := a.tellDeciding(item)
	a.showGrounds(strongest(shown))
	a.showMatch(item)
	if item.Record != nil {
		fmt.Fprintf(
			a.stdout, "    %s\n",
			a.faint(
				fmt.Sprintf(
					"record %d; “endeixis batch show %d --item %s” shows every link", *item.Record, batch,
					typed(item.Path),
				),
			),
		)
	}
}

// saidOf tells three things apart that all are unproven.
func saidOf(item wire.Item) string {
	if deref(item.Verdict) != string(judge.Unproven) {
		return ""
	}
	switch item.Compared {
	case judge.Matches:
		return "The bytes are those that are stated. What is missing is who vouches for that."
	case judge.Differs:
		return "What is stated was compared, and none of it is this file's."
	case judge.NothingCompared:
		return "There was nothing to compare it with."
	}
	return ""
}

// strongest leaves of values that differ the one of the strongest algorithm, which says it
// all.
func strongest(grounds []judge.Ground) []judge.Ground {
	best := -1
	for i, g := range grounds {
		if g.Code == judge.DigestMismatch &&
			(best < 0 || g.Algorithm.CollisionBits() > grounds[best].Algorithm.CollisionBits()) {
			best = i
		}
	}
	var out []judge.Ground
	for i, g := range grounds {
		if g.Code != judge.DigestMismatch || i == best {
			out = append(out, g)
		}
	}
	return out
}

// typed writes a name as it is typed on a command line.
func typed(name string) string {
	for _, c := range name {
		if !strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._-+/", c) {
			return "'" + strings.ReplaceAll(plain.Text(name), "'", `'\''`) + "'"
		}
	}
	return name
}

// showMatch shows the strongest value that was stated and is the file's.
func (a *app) showMatch(item wire.Item) {
	var best *judge.Ground
	for i, g := range item.Grounds {
		if g.Code == judge.DigestMatch &&
			(best == nil || g.Algorithm.CollisionBits() > best.Algorithm.CollisionBits()) {
			best = &item.Grounds[i]
		}
	}
	if best == nil {
		return
	}
	said := fmt.Sprintf("%s, as %s, line %d states it:", best.Algorithm, plain.Text(best.Source), best.Line)
	switch {
	case best.Source == "", strings.HasPrefix(best.Source, givenValueName): // a file or a value that somebody gave
		said = fmt.Sprintf("%s, as it was given:", best.Algorithm)
	case best.Line == 0: // it is a file, and no list
		said = fmt.Sprintf("%s, as %s has it:", best.Algorithm, plain.Text(best.Source))
	}
	fmt.Fprintf(a.stdout, "    %s\n", a.faint(said))
	a.wrapped("      ", plain.Grouped(best.Computed.String()))
}

func isUnreadableManifest(g judge.Ground) bool { return g.Code == judge.ManifestUnreadable }
