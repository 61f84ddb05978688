package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/manifest"
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
	site       siteFlags
}

func (a *app) spotCommand() *cobra.Command {
	var s spot
	cmd := &cobra.Command{
		Use: "spot FILE…", Short: "Verify a file here and now, against what lies beside it or what you give",
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
	cmd.Flags().StringArrayVar(&s.digests, "digest", nil, "a value to hold it against, of any algorithm and spaced in any way; repeat for more")
	cmd.Flags().BoolVar(&s.paste, "paste", false, "read what was copied from a page, letter or message from the input; “-” does the same")
	cmd.Flags().StringArrayVar(&s.manifests, "manifest", nil, "a list of digests that lies elsewhere; repeat for more")
	cmd.Flags().StringArrayVar(&s.signatures, "signature", nil, "a signature that lies elsewhere; repeat for more")
	cmd.Flags().StringVar(&s.publisher, "publisher", "", "the publisher that it is expected from")
	s.site.add(cmd)
	cmd.Flags().BoolVar(&s.drill, "drill", false, "then prove that the check can fail, with everything altered in memory")
	cmd.Flags().BoolVar(&s.unrecorded, "unrecorded", false, "where there is no service: compare digests alone, on no record")
	return cmd
}

// spotValues tells which file that was cleared here has a digest.
func (a *app) spotValues(ctx context.Context, s spot) error {
	if len(s.digests) == 0 {
		return usage("give a file, or with --digest a value to look for; see “endeixis spot --help”")
	}
	if s.paste || len(s.manifests)+len(s.signatures) > 0 || s.unrecorded || s.site.given() {
		return usage("without a file, --digest stands alone")
	}
	var values []digest.Value
	for _, text := range s.digests {
		e, err := parseDigest(text)
		if err != nil {
			return err
		}
		a.note("%s is taken for %s.", plain.Grouped(e.Digest.String()), e.Recognised())
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

// maxBeside bounds how many files beside the one in question are looked at.
const maxBeside = 500

// maxPasted bounds what is pasted.
const maxPasted = 8 << 20

// gathered puts files and all that is given on a shelf, and finds what vouches for them.
func (a *app) gathered(ctx context.Context, s spot, shelf *measurer.Shelf) (*survey.Findings, []wire.Correction, error) {
	var names []string
	for _, file := range s.files {
		if err := measurer.Exists(file); err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		name, err := shelf.Put(file)
		if err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		names = append(names, name)
	}
	if err := shelf.Beside(survey.CanVouch, maxBeside); err != nil {
		return nil, nil, err
	}
	wanted := slices.Clone(names)
	for _, text := range s.digests {
		e, err := parseDigest(text)
		if err != nil {
			return nil, nil, err
		}
		a.note("%s is taken for %s.", plain.Grouped(e.Digest.String()), e.Recognised())
		wanted = append(wanted, shelf.PutText("the given value", []byte(listing(e, names))))
	}
	if s.paste {
		pasted, err := io.ReadAll(io.LimitReader(a.stdin, maxPasted+1))
		if err != nil {
			return nil, nil, err
		}
		if len(pasted) > maxPasted {
			return nil, nil, usage("what was pasted is longer than %s; save it as a file, and give it with --manifest", size(maxPasted))
		}
		what, err := recognise(pasted)
		if err != nil {
			return nil, nil, err
		}
		a.note("What was pasted is taken for %s.", what)
		name := "pasted text"
		if len(pasted) > 1<<20 {
			name = "pasted.digests" // a text of such a length is read as a list only by its name
		}
		wanted = append(wanted, shelf.PutText(name, pasted))
	}
	var corrections []wire.Correction
	for _, file := range slices.Concat(s.manifests, s.signatures) {
		name, err := shelf.Put(file)
		if err != nil {
			return nil, nil, usage("%s", reasonOf(err))
		}
		wanted = append(wanted, name)
	}
	if len(s.files) == 1 && len(s.manifests) == 0 {
		// Which file it is over is plain, whatever it is called.
		for _, file := range s.signatures {
			corrections = append(corrections, wire.Correction{Signature: filepath.Base(file), File: names[0]})
		}
	}
	found, err := survey.Gather(ctx, shelf, survey.Limits{Bound: sources.LookFor})
	if err != nil {
		return nil, nil, err
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

// listing writes a digest that was given as a line about the file, or alone where there
// are several: then it decides which of them is meant.
func listing(e manifest.Entry, names []string) string {
	name := ""
	if len(names) == 1 && !strings.ContainsAny(names[0], "\\\n\r") {
		name = names[0]
	}
	switch {
	case e.Algorithm != digest.Unknown && name != "":
		return fmt.Sprintf("%s (%s) = %s\n", e.Algorithm, name, e.Digest)
	case name != "":
		return fmt.Sprintf("%s  %s\n", e.Digest, name)
	case e.Algorithm != digest.Unknown:
		return fmt.Sprintf("%s: %s\n", e.Algorithm, e.Digest)
	}
	return e.Digest.String() + "\n"
}

// recognise says what a text is that was pasted; one that vouches for nothing is wrong
// usage.
func recognise(text []byte) (string, error) {
	r, err := survey.Recognise(text)
	if err != nil {
		return "", err
	}
	switch r.Kind {
	case survey.SignedText:
		return "a signed text with " + counted(r.Entries, "digest"), nil
	case survey.KeyText:
		return "", usage("what was pasted is a key, and vouches for nothing by itself; import it with “endeixis keyring import -”")
	case survey.SignatureText:
		return "a signature", nil
	case survey.ValueText:
		return "a value alone: " + r.Says, nil
	case survey.ListText:
		return "a text with " + counted(r.Entries, "digest"), nil
	case survey.NothingText:
	}
	if strings.TrimSpace(string(text)) == "" {
		return "", usage("nothing was pasted")
	}
	return "", usage("there is no digest in what was pasted; “endeixis manifest show -” tells what is made of it")
}

// spotFiles verifies files of this machine.
func (a *app) spotFiles(ctx context.Context, s spot) error {
	shelf := measurer.NewShelf()
	defer shelf.Close()
	found, corrections, err := a.gathered(ctx, s, shelf)
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
	c, err := a.client()
	if err == nil {
		var b wire.Batch
		b, err = c.RunBatch(ctx, wire.NewBatch{
			Label: "spot", Publisher: s.publisher, Corrections: corrections,
			Measurer: &wire.Measurer{Kind: measure.Client, Host: hostname(), Path: dir, Software: "endeixis " + version.Full()},
		}, rand.Text())
		if err == nil {
			if s.unrecorded {
				a.note("There is a service: the outcome is recorded.")
			}
			return a.spotRecorded(ctx, c, b, shelf, found, s)
		}
	}
	if !a.isAway(err) {
		return err
	}
	if !s.unrecorded {
		return a.without(err)
	}
	return a.unrecorded(ctx, shelf, found, func(path string) bool {
		return slices.ContainsFunc(s.files, func(f string) bool { return filepath.Base(f) == path })
	})
}

// spotRecorded measures here what the service judges and records, and shows it.
func (a *app) spotRecorded(ctx context.Context, c *client.Client, b wire.Batch, shelf *measurer.Shelf, found *survey.Findings, s spot) error {
	id := b.ID
	b, err := a.measured(ctx, c, b, shelf, found, a.progress)
	if err != nil {
		return err
	}
	items, err := c.Items(ctx, id)
	if err != nil {
		return err
	}
	if err := a.print(fullBatch{b, items, []wire.Absent{}, []wire.Copy{}}, spotGrid(items), func() {
		first := true
		for _, verdict := range []string{"refused", "unproven", "cleared"} {
			for _, item := range items {
				if deref(item.Verdict) == verdict && slices.ContainsFunc(s.files, func(f string) bool { return filepath.Base(f) == item.Path }) {
					if !first {
						fmt.Fprintln(a.stdout)
					}
					first = false
					a.showSpot(item, id)
				}
			}
		}
	}); err != nil {
		return err
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
		if slices.ContainsFunc(s.files, func(f string) bool { return filepath.Base(f) == item.Path }) {
			chosen = append(chosen, item)
		}
	}
	return a.drillHere(ctx, c, id, shelf, chosen)
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
	shown := problems(item)
	if deref(item.Verdict) == string(judge.Cleared) {
		a.wrapped("    ", item.Deciding)
		shown = notes(item)
	}
	a.showGrounds(strongest(shown))
	a.showMatch(item)
	if item.Record != nil {
		fmt.Fprintf(a.stdout, "    %s\n", a.faint(fmt.Sprintf("record %d; “endeixis batch show %d --item %s” shows every link", *item.Record, batch, typed(item.Path))))
	}
}

// strongest leaves of values that differ the one of the strongest algorithm, which says it
// all.
func strongest(grounds []judge.Ground) []judge.Ground {
	best := -1
	for i, g := range grounds {
		if g.Code == judge.DigestMismatch && (best < 0 || g.Algorithm.CollisionBits() > grounds[best].Algorithm.CollisionBits()) {
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
		if g.Code == judge.DigestMatch && (best == nil || g.Algorithm.CollisionBits() > best.Algorithm.CollisionBits()) {
			best = &item.Grounds[i]
		}
	}
	if best == nil {
		return
	}
	said := fmt.Sprintf("%s, as %s, line %d states it:", best.Algorithm, plain.Text(best.Source), best.Line)
	switch {
	case best.Source == "": // a file or a value that somebody gave
		said = fmt.Sprintf("%s, as it was given:", best.Algorithm)
	case best.Line == 0: // it is a file, and no list
		said = fmt.Sprintf("%s, as %s has it:", best.Algorithm, plain.Text(best.Source))
	}
	fmt.Fprintf(a.stdout, "    %s\n", a.faint(said))
	a.wrapped("      ", plain.Grouped(best.Computed.String()))
}
