package cli

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/client"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *app) batchCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "batch", Short: "Verify folders, and look at what was verified"}
	cmd.AddCommand(
		a.batchRun(), a.batchSurvey(), a.batchList(), a.batchShow(), a.batchFollow(), a.batchCancel(), a.batchSettle(),
		a.batchResume(),
		a.batchCompare(), a.batchHandOn(), a.batchDrill(), a.batchAttestation(),
	)
	return cmd
}

func (a *app) batchRun() *cobra.Command {
	var r wire.NewBatch
	var wait, unrecorded bool
	var site siteFlags
	var set, from, copies, files []string
	cmd := &cobra.Command{
		Use: "run WHERE", Short: "Verify every file of a folder", Args: cobra.ExactArgs(1),
		Long: `WHERE is a folder of a depot, written depot:folder, which the service reads, or a folder
of this machine, which is read here: no file leaves it, except manifests, signatures and
keys. Interrupted, it goes on with “endeixis batch resume”.

run surveys the folder, measures every file once, judges each by the evidence
beside it, and records the outcome. With --wait, which is the default on a terminal, it
shows the progress and then the verdicts, and exits with 0 when everything is cleared,
10 when something is refused, 11 when nothing is refused and something is unproven.

A manifest that nobody signed can be held against copies of it from other channels:
--companion names files that come along, such as notes and pictures: they are measured and
recorded, and need no clearing. What is refused is refused all the same. A policy can name
them for all that a publisher publishes.

--origin says where the one in the folder comes from, --copy has the service fetch
another from a configured origin, --copy-file sends one that you have. The channels are
vendor-site, mirror, other-network and paper.`,
		Example: `  endeixis batch run quayside:tidewright/gauge-fw-4.2 --wait
  endeixis batch run ./downloads
  endeixis batch run quayside:oarlock/logger-2.4 --origin digests.txt=vendor-site:oarlock.example --copy digests.txt=oarlock-north:2.4/digests.txt`,
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if r.Corrections, err = parseCorrections(set); err != nil {
				return err
			}
			if r.Origins, r.Copies, err = a.parseOrigins(from, copies, files); err != nil {
				return err
			}
			if !cmd.Flags().Changed("wait") {
				wait = a.terminal
			}
			switch {
			case site.given():
				if isDepot(args[0]) || len(r.Origins)+len(r.Copies) > 0 {
					return usage("with --satchel, a folder of this machine is verified by what lies in it")
				}
				return a.runOnSite(cmd.Context(), site, r, args[0])
			case unrecorded && isDepot(args[0]):
				return usage("--unrecorded compares a folder of this machine; a depot is the service's")
			case unrecorded:
				return a.compareFolder(cmd.Context(), args[0])
			case isDepot(args[0]):
				return a.runDepot(cmd.Context(), r, args[0], wait)
			}
			return a.runHere(cmd.Context(), r, args[0])
		},
	}
	cmd.Flags().StringVar(&r.Publisher, "publisher", "", "the publisher that these files are expected from")
	cmd.Flags().BoolVar(&r.RequireAll, "require-all", false, "refuse the batch when listed files are not here")
	cmd.Flags().StringArrayVar(
		&r.Companions, "companion", nil,
		"a pattern for names of files that come along and need no clearing, such as *.txt; repeat for more",
	)
	cmd.Flags().StringVar(&r.Label, "label", "", "a note to find the batch by")
	cmd.Flags().BoolVar(
		&unrecorded, "unrecorded", false,
		"ask nobody and record nothing: compare digests of a folder of this machine alone",
	)
	cmd.Flags().BoolVar(&wait, "wait", false, "wait for the verdicts (default on a terminal)")
	site.add(cmd)
	cmd.Flags().StringArrayVar(
		&set, "set", nil, "signature=file: say by hand which file a signature is over; repeat for more",
	)
	cmd.Flags().StringArrayVar(
		&from, "origin", nil, "manifest=channel:place: say where a manifest of the folder comes from",
	)
	cmd.Flags().StringArrayVar(
		&copies, "copy", nil, "manifest=origin:path: hold it against the copy at a configured origin",
	)
	cmd.Flags().StringArrayVar(
		&files, "copy-file", nil,
		"manifest=channel:file: hold it against a copy that you have here; - reads it from the input",
	)
	return cmd
}

// runHere verifies a folder of this machine, and shows the verdicts.
func (a *app) runHere(ctx context.Context, r wire.NewBatch, folder string) error {
	b, err := a.runFolder(ctx, r, folder)
	if err != nil {
		return a.adviseSatchel(err)
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	return a.shown(ctx, a.patient(c), b)
}

// runDepot has the service verify a folder of a depot, and waits for the verdicts where that is
// wanted.
func (a *app) runDepot(ctx context.Context, r wire.NewBatch, arg string, wait bool) error {
	var err error
	if r.Depot, r.Path, err = where(arg); err != nil {
		return err
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	b, err := c.RunBatch(ctx, r, rand.Text())
	if err != nil {
		return err
	}
	if !wait {
		a.note("Batch %d has started; follow it with “endeixis batch follow %d”.", b.ID, b.ID)
		return a.printBatch(ctx, c, b, "", "")
	}
	return a.followBatch(ctx, c, b.ID)
}

// where splits “depot:folder”.
func where(arg string) (depot, path string, err error) {
	depot, path, ok := strings.Cut(arg, ":")
	if !ok {
		return "", "", usage(
			"%q does not name a depot; write it as depot:folder, such as quayside:tidewright/gauge-fw-4.2", arg,
		)
	}
	return depot, path, nil
}

// parseCorrections reads “signature=file”. The first equals sign divides them.
func parseCorrections(set []string) ([]wire.Correction, error) {
	var out []wire.Correction
	for _, s := range set {
		signature, file, ok := strings.Cut(s, "=")
		if !ok || signature == "" || file == "" {
			return nil, usage("--set %q: write it as signature=file", s)
		}
		out = append(out, wire.Correction{Signature: signature, File: file})
	}
	return out, nil
}

// named splits “manifest=first:second” of a flag.
func named(flag, form, text string) (manifest, first, second string, err error) {
	manifest, rest, ok := strings.Cut(text, "=")
	first, second, more := strings.Cut(rest, ":")
	if !ok || !more || manifest == "" || first == "" || second == "" {
		return "", "", "", usage("--%s %q: write it as %s", flag, text, form)
	}
	return manifest, first, second, nil
}

// parseOrigins reads the flags about copies of manifests.
func (a *app) parseOrigins(from, copies, files []string) (origins []wire.ComesFrom, given []wire.GivenCopy, err error) {
	for _, text := range from {
		manifest, channel, place, err := named("origin", "manifest=channel:place", text)
		if err != nil {
			return nil, nil, err
		}
		origins = append(origins, wire.ComesFrom{Manifest: manifest, Channel: survey.Channel(channel), Place: place})
	}
	for _, text := range copies {
		manifest, origin, path, err := named("copy", "manifest=origin:path", text)
		if err != nil {
			return nil, nil, err
		}
		given = append(given, wire.GivenCopy{Of: manifest, Origin: origin, Path: path})
	}
	for _, text := range files {
		manifest, channel, file, err := named("copy-file", "manifest=channel:file", text)
		if err != nil {
			return nil, nil, err
		}
		content, err := a.readFile(file, 4<<20, "copy that can be sent")
		if err != nil {
			return nil, nil, err
		}
		if !utf8.Valid(content) {
			return nil, nil, usage("%s is not text in UTF-8, so that it cannot be sent", plain.Quoted(file))
		}
		given = append(
			given,
			wire.GivenCopy{
				Of: manifest, Channel: survey.Channel(channel), Place: filepath.Base(file), Text: string(content),
			},
		)
	}
	return origins, given, nil
}

func (a *app) batchList() *cobra.Command {
	var verdict judge.Verdict
	var limit int
	cmd := &cobra.Command{
		Use:     "list",
		Short:   "List batches, the newest first",
		Args:    cobra.NoArgs,
		Example: "  endeixis batch list --verdict refused",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			batches, err := c.Batches(cmd.Context(), verdict, oneMore(limit))
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{
					"batch", "verdict", "folder", "cleared", "unproven", "refused", "absent", "by", "started",
				},
				empty: "No batch yet. Start one with “endeixis batch run DEPOT:FOLDER”.",
			}
			return upTo(a, batches, limit, func(batches []wire.Batch) error {
				for _, b := range batches {
					counts := b.PresentCounts()
					g.add(
						strconv.FormatInt(b.ID, 10), resultOf(b), placeOf(b), strconv.Itoa(counts.Cleared),
						strconv.Itoa(counts.Unproven), strconv.Itoa(counts.Refused), strconv.Itoa(counts.Absent),
						b.AskedBy, moment(b.Created),
					)
				}
				return a.print(batches, g, nil)
			})
		},
	}
	wordFlag(cmd, &verdict, "verdict", judge.Verdicts(), "only those that have this verdict now")
	cmd.Flags().IntVar(&limit, "limit", 20, "at most this many; 0 for all")
	return cmd
}

// batchAt returns the batch that an argument names, and the client of its service.
func (a *app) batchAt(ctx context.Context, arg string) (*client.Client, wire.Batch, error) {
	if depot, folder, ok := strings.Cut(arg, ":"); ok {
		c, err := a.client()
		if err != nil {
			return nil, wire.Batch{}, err
		}
		b, err := c.BatchOf(ctx, depot, folder)
		if err == nil && b == nil {
			err = &exit{
				exitFailed,
				fmt.Errorf(
					"%s was not verified yet; “endeixis batch run %s” does that", plain.Quoted(arg), plain.Text(arg),
				),
			}
		}
		if err != nil {
			return nil, wire.Batch{}, err
		}
		a.note("Batch %d is the newest of %s, from %s.", b.ID, plain.Text(arg), moment(b.Created))
		return c, *b, nil
	}
	id, err := number(arg, "a batch's number")
	if err != nil {
		return nil, wire.Batch{}, err
	}
	c, err := a.client()
	if err != nil {
		return nil, wire.Batch{}, err
	}
	b, err := c.Batch(ctx, id)
	return c, b, err
}

// itemsNamed returns the items of a batch that a path names.
func itemsNamed(items []wire.Item, path string, batch int64) ([]wire.Item, error) {
	var found []wire.Item
	for _, item := range items {
		if item.Path == path || item.Shown == path {
			found = append(found, item)
		}
	}
	if found == nil {
		return nil, &exit{
			exitFailed,
			fmt.Errorf(
				"batch %d has no file %s; “endeixis batch show %d” lists them", batch, plain.Quoted(path), batch,
			),
		}
	}
	return found, nil
}

func (a *app) batchShow() *cobra.Command {
	var item, match string
	cmd := &cobra.Command{
		Use: "show BATCH", Short: "Show a batch and the evidence for each file", Args: cobra.ExactArgs(1),
		Example: "  endeixis batch show 12 --item gauge-fw-4.2-main.img",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, b, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.printBatch(cmd.Context(), c, b, item, match); err != nil {
				return err
			}
			return verdictExit(b)
		},
	}
	cmd.Flags().BoolVar(
		&a.allAbsent, "absent", false, "list all entries that have no file here, not only the first ten",
	)
	cmd.Flags().StringVar(
		&match, "match", "", "only files whose path, or its last part, matches this pattern with * and ?",
	)
	cmd.Flags().StringVar(&item, "item", "", "only this file, with its chain of evidence link by link")
	return cmd
}

// fullBatch is a batch with its items, as shown in JSON.
type fullBatch struct {
	wire.Batch
	Items  []wire.Item   `json:"items"`
	Absent []wire.Absent `json:"absent"`
	Copies []wire.Copy   `json:"copies"`
}

// printBatch shows a batch: all of its files, those that match a pattern, or
// only one with its chain of evidence.
func (a *app) printBatch(ctx context.Context, c *client.Client, b wire.Batch, only, match string) error {
	items, err := c.ItemsMatching(ctx, b.ID, match)
	if err != nil {
		return err
	}
	absent, err := c.Absent(ctx, b.ID)
	if err != nil {
		return err
	}
	copies, err := c.Copies(ctx, b.ID)
	if err != nil {
		return err
	}
	if only != "" {
		if items, err = itemsNamed(items, only, b.ID); err != nil {
			return err
		}
		for i := range items {
			// One that is shown alone has more to it.
			if items[i], err = c.Item(ctx, b.ID, items[i].N); err != nil {
				return err
			}
		}
	}
	g := &grid{header: []string{"verdict", "file", "role", "size", "why"}}
	for _, item := range items {
		now := item.Present()
		g.add(deref(now.Verdict), item.Path, string(item.Role), strconv.FormatInt(item.Size, 10), now.Deciding)
	}
	for _, e := range absent {
		g.add("absent", e.Name, "", "", fmt.Sprintf("listed in %s, line %d", e.Manifest, e.Line))
	}
	return a.print(fullBatch{b, items, absent, copies}, g, func() {
		a.showBatch(b, items, absent, detailOf(only))
		if only == "" {
			a.showCopies(copies)
		}
	})
}

// detail is how much is shown of an item.
type detail int

const (
	inShort detail = iota
	linkByLink
)

// detailOf returns how much is shown of items: everything of one that was asked for by its name.
func detailOf(only string) detail {
	if only != "" {
		return linkByLink
	}
	return inShort
}

// resultOf is the verdict that a batch has now, or how far it is.
func resultOf(b wire.Batch) string {
	if verdict := deref(b.Present()); verdict != "" {
		return verdict
	}
	return string(b.State)
}

// becameOf says how a batch that was judged again ended, and what has become of it.
func becameOf(b wire.Batch) string {
	was := b.Counts
	if deref(b.Verdict) == string(b.Now.Verdict) {
		return fmt.Sprintf(
			"When it ended it had %d cleared, %d unproven and %d refused. It was judged again on %s (reassessment %d, record %d).",
			was.Cleared, was.Unproven, was.Refused, moment(b.Now.At), b.Now.Reassessment, b.Now.Record,
		)
	}
	return fmt.Sprintf(
		"It ended %s, with %d cleared, %d unproven and %d refused. It was judged again on %s and is %s since (reassessment %d, record %d).",
		deref(b.Verdict), was.Cleared, was.Unproven, was.Refused, moment(b.Now.At), b.Now.Verdict, b.Now.Reassessment,
		b.Now.Record,
	)
}

// countsOf says how many artifacts have which verdict, and what else there is.
func countsOf(c wire.Counts) string {
	out := fmt.Sprintf("%d cleared, %d unproven, %d refused, %d absent", c.Cleared, c.Unproven, c.Refused, c.Absent)
	if c.Companions > 0 {
		out += ", and " + plain.Count(c.Companions, "companion")
	}
	return out
}

func (a *app) showBatch(b wire.Batch, items []wire.Item, absent []wire.Absent, in detail) {
	fmt.Fprintf(
		a.stdout, "%s  %s  %s\n", a.bold(fmt.Sprintf("Batch %d", b.ID)), a.paint(resultOf(b)),
		plain.Text(placeOf(b)),
	)
	fmt.Fprintln(
		a.stdout,
		a.faint(fmt.Sprintf(
			"%s; asked by %s on %s, %s read%s", countsOf(b.PresentCounts()), b.AskedBy, moment(b.Created),
			size(b.Progress.BytesDone), readBy(items),
		)),
	)
	if b.Now != nil {
		a.wrapped("", becameOf(b))
	}
	if b.Expected != nil && len(b.Expected.Publishers) > 0 {
		how := map[string]string{"given": "as given", "scope": "by the names of the files"}[b.Expected.How]
		fmt.Fprintln(
			a.stdout,
			a.faint(fmt.Sprintf("expected from %s (%s)", plain.Text(strings.Join(b.Expected.Publishers, " or ")), how)),
		)
	}
	if b.Note != "" {
		a.wrapped("", b.Note)
	}
	var shown []wire.Item
	for _, verdict := range shownOrder {
		for _, item := range items {
			if deref(item.Present().Verdict) == verdict {
				shown = append(shown, item)
			}
		}
	}
	for _, item := range items {
		if item.Role != "artifact" && (in == linkByLink || len(problems(item)) > 0) {
			shown = append(shown, item)
		}
	}
	a.showItems(shown, in)
	if in == inShort {
		a.showAbsent(absent, b)
	}
}

// readBy says who has read the files, where it was not the service.
func readBy(items []wire.Item) string {
	for _, item := range items {
		if item.Where != "" && !strings.HasPrefix(item.Where, "service ") {
			return " by the " + plain.Text(item.Where)
		}
	}
	return ""
}

// showItems shows items one below the other; what is said of several that follow each
// other is said once.
func (a *app) showItems(items []wire.Item, in detail) {
	out := a.stdout
	defer func() { a.stdout = out }()
	said := ""
	for i, item := range items {
		var body bytes.Buffer
		a.stdout = &body
		a.showItem(item, in)
		a.stdout = out
		head := a.headOf(item)
		if i > 0 && said != body.String() {
			fmt.Fprint(out, said)
		}
		if i == 0 || said != body.String() {
			fmt.Fprintln(out)
		}
		said = body.String()
		fmt.Fprintln(out, head)
	}
	fmt.Fprint(out, said)
}

// fewAbsent is how many entries without a file are listed unless all are asked for.
const fewAbsent = 10

func (a *app) showAbsent(absent []wire.Absent, b wire.Batch) {
	if len(absent) == 0 {
		return
	}
	fmt.Fprintln(a.stdout)
	limit := len(absent)
	if !a.allAbsent {
		limit = min(limit, fewAbsent)
	}
	for _, e := range absent[:limit] {
		fmt.Fprintf(
			a.stdout, "%s  %s  %s\n", a.paint("absent"), plain.Text(e.Name),
			a.faint(fmt.Sprintf("%s, line %d", plain.Text(e.Manifest), e.Line)),
		)
	}
	if limit < len(absent) {
		fmt.Fprintf(
			a.stdout, "        and %d more; “endeixis batch show %d --absent” lists them all\n", len(absent)-limit,
			b.ID,
		)
	}
	what := "They are listed, and not in the folder, which is no failure by itself."
	if len(absent) == 1 {
		what = "It is listed, and not in the folder, which is no failure by itself."
	}
	a.wrapped("    ", what)
}

// showCopies tells how copies of manifests compare.
func (a *app) showCopies(copies []wire.Copy) {
	if len(copies) > 0 {
		fmt.Fprintln(a.stdout)
	}
	for _, c := range copies {
		fmt.Fprintf(
			a.stdout, "copy of %s  %s\n", a.bold(c.Of),
			a.faint(strings.ReplaceAll(string(c.Channel), "-", " ")+", "+c.Place),
		)
		a.wrapped("    ", c.Sentence)
		for i, d := range c.Differ {
			if i == 5 {
				a.wrapped("    ", fmt.Sprintf("and %d more", len(c.Differ)-i+c.More))
				break
			}
			name := d.Name
			if d.Was != "" {
				name = d.Was + " → " + d.Name
			}
			a.hanging("    • ", "      ", string(d.Kind)+": "+name)
			if d.Kind == "changed" {
				a.aligned("      ", "here", d.Before, "copy", d.After)
			}
		}
	}
}

// problems are the grounds that stand against an item, those that refuse it
// first.
func problems(item wire.Item) []judge.Ground {
	var out []judge.Ground
	for _, g := range item.Grounds {
		if g.Effect == judge.Refuses {
			out = append(out, g)
		}
	}
	for _, g := range item.Grounds {
		// That a list calls it otherwise is worth knowing whatever stands against it.
		// So is that it is not as it was before.
		if g.Effect == judge.Withholds || g.Code == judge.ListedAs || slices.Contains(judge.UnlikeBefore(), g.Code) {
			out = append(out, g)
		}
	}
	return out
}

// shownOrder is that in which artifacts are shown, by verdict.
var shownOrder = []string{"refused", "unproven", "cleared", "companion"}

// tellDeciding says what decides about a file that needs nothing more, and returns the grounds that are shown with it.
func (a *app) tellDeciding(item wire.Item) []judge.Ground {
	switch deref(item.Verdict) {
	case string(judge.Cleared):
		// What is said in the place of what clears it comes with the notes, and its advice.
		said, shown := item.Deciding, notes(item)
		if slices.ContainsFunc(shown, func(g judge.Ground) bool {
			return g.Sentence == said && slices.Contains(judge.UnlikeBefore(), g.Code)
		}) {
			said = judge.Clearing(item.Grounds)
		}
		a.wrapped("    ", said)
		return shown
	case string(judge.Companion):
		a.wrapped("    ", item.Deciding)
	}
	return problems(item)
}

// notes are the grounds that are worth knowing about a cleared item, every
// waiver that it rests on among them.
func notes(item wire.Item) []judge.Ground {
	var out []judge.Ground
	for _, g := range item.Grounds {
		// Who has read the files is said once, at the head.
		if g.Effect == judge.Notes && g.Code != judge.ByMeasurer ||
			g.Code == judge.WaivedGround && g.Sentence != item.Deciding {
			out = append(out, g)
		}
	}
	return out
}

// headOf is the line with the verdict on an item, its name and its size.
func (a *app) headOf(item wire.Item) string {
	head := string(item.Role)
	if verdict := deref(item.Present().Verdict); verdict != "" {
		head = a.paint(verdict)
	}
	return head + "  " + a.bold(item.Shown) + "  " + a.faint(size(item.Size))
}

// showItem shows what there is to say of an item below its head.
func (a *app) showItem(item wire.Item, in detail) {
	if now := item.Now; now != nil {
		was := deref(item.Verdict)
		said := fmt.Sprintf("%s when the batch ended, %s since it was judged again", was, now.Verdict)
		if was == string(now.Verdict) {
			said = fmt.Sprintf("%s again, as when the batch ended, since it was judged again", was)
		}
		fmt.Fprintf(a.stdout, "    %s on %s (record %d)\n", said, moment(now.At), now.Record)
		if in == linkByLink {
			a.wrapped("    ", now.Deciding)
			fmt.Fprintf(a.stdout, "    %s\n", a.faint("What it was judged by when the batch ended:"))
		}
	}
	if in == linkByLink {
		a.showLinks(item)
		return
	}
	item = item.Present()
	shown := a.tellDeciding(item)
	a.showGrounds(shown)
}

// showLinks shows everything that a verdict rests on, link by link.
func (a *app) showLinks(item wire.Item) {
	for _, g := range item.Grounds {
		a.showGround(g)
	}
	for _, p := range item.Paths {
		a.showProof(p)
	}
	if item.Readback != nil {
		fmt.Fprintln(a.stdout)
		a.showMedium(item.Readback)
	}
	if item.Device != nil {
		fmt.Fprintln(a.stdout)
		a.showSaid(item.Device)
	}
	if len(item.ReadBacks) > 0 {
		fmt.Fprintf(a.stdout, "\n    %s\n", a.bold("Read back from media"))
	}
	for _, r := range item.ReadBacks {
		verdict := deref(r.Verdict)
		if r.Now != nil {
			verdict = deref(r.Now)
		}
		if verdict == "" {
			verdict = string(state.BatchWaiting)
		}
		fmt.Fprintf(
			a.stdout, "    %s  %s  %s\n", a.paint(verdict), r.Source,
			a.faint(fmt.Sprintf("%s, batch %d", moment(r.At), r.Batch)),
		)
	}
	if item.Record != nil {
		fmt.Fprintf(
			a.stdout, "\n    %s\n",
			a.faint(
				fmt.Sprintf("record %d; “endeixis record receipt %d” hands out the proof", *item.Record, *item.Record),
			),
		)
	}
}

// showProof shows a proof path.
func (a *app) showProof(p judge.ProofPath) {
	state := "does not hold"
	if p.Complete {
		state = "complete"
	}
	fmt.Fprintf(
		a.stdout, "\n    %s\n",
		a.bold(fmt.Sprintf("Proof by %s: %s", strings.ReplaceAll(string(p.Kind), "-", " "), state)),
	)
	for i, l := range p.Links {
		joint := "├─"
		if i == len(p.Links)-1 {
			joint = "└─"
		}
		fmt.Fprintf(
			a.stdout, "    %s %s  %s\n", joint, a.paint(string(l.State)), a.bold(l.Kind)+" "+plain.Text(l.Label),
		)
		if l.Detail != "" {
			bar := "│ "
			if i == len(p.Links)-1 {
				bar = "  "
			}
			a.wrapped("    "+bar+"     ", l.Detail)
		}
	}
	if p.Missing != "" {
		a.wrapped("    ", "Missing: "+p.Missing)
	}
}

// showGrounds shows reasons; of several of one kind, such as signatures by keys that are
// not known, it says the first in full, and of the others where they are.
func (a *app) showGrounds(grounds []judge.Ground) {
	more := map[judge.Code][]string{}
	var order []judge.Code
	for _, g := range grounds {
		if !slices.Contains(order, g.Code) {
			order = append(order, g.Code)
			a.showGround(g)
			continue
		}
		if len(g.Causes) > 0 || g.Effect == judge.Refuses {
			a.showGround(g)
			continue
		}
		where := g.Source
		if g.Signature != nil {
			where = g.Signature.File
		}
		if g.Line > 0 {
			where += fmt.Sprintf(", line %d", g.Line)
		}
		if !slices.Contains(more[g.Code], where) {
			more[g.Code] = append(more[g.Code], where)
		}
	}
	for _, code := range order {
		places := more[code]
		if len(places) == 0 {
			continue
		}
		names := strings.Join(places[:min(len(places), 4)], "; ")
		if len(places) > 4 {
			names += fmt.Sprintf("; and %d more", len(places)-4)
		}
		a.wrapped(
			"    ",
			fmt.Sprintf(
				"The same kind of thing (%s) is found %s: %s.", strings.ReplaceAll(string(code), "-", " "),
				times(len(places)), names,
			),
		)
	}
}

func times(n int) string {
	switch n {
	case 1:
		return "once more"
	case 2:
		return "twice more"
	}
	return fmt.Sprintf("%d times more", n)
}

// showGround shows one reason, with the values that it is about, what was found out about
// them, and what to do.
func (a *app) showGround(g judge.Ground) {
	a.wrapped("    ", g.Sentence)
	switch {
	case g.Code == judge.DigestMismatch:
		a.compared("      ", g.Expected.String(), g.Computed.String())
	case g.Code == judge.ManifestsDisagree && !slices.Equal(g.Expected, g.Computed):
		a.aligned("      ", "stated", g.Expected.String(), "computed", g.Computed.String())
	}
	for _, f := range g.Causes {
		a.hanging("    • ", "      ", f.Sentence)
		a.damageMap("      ", f)
		a.hanging("    → ", "      ", f.Advice)
	}
	if len(g.Causes) == 0 && g.Advice != "" { // theirs is more to the point
		a.hanging("    → ", "      ", g.Advice)
	}
}

func (a *app) batchCancel() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use:     "cancel ID",
		Short:   "End a batch before it is done",
		Args:    cobra.ExactArgs(1),
		Long:    "What is measured stays; every other item ends unproven, as not measured. Your own\nbatches, or anybody's for a curator.",
		Example: "  endeixis batch cancel 12 --reason 'the wrong folder'",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0], "a batch's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			b, err := c.CancelBatch(cmd.Context(), id, reason)
			if err != nil {
				return err
			}
			return a.print(b, nil, func() { a.note("Batch %d is being ended.", id) })
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	return cmd
}
