package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

// shownPackages bounds how many packages of one list people are shown.
const shownPackages = 200

func (a *app) batchCompare() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "compare BEFORE AFTER",
		Short: "Tell what changed between two batches",
		Args:  cobra.ExactArgs(2),
		Long: `compare tells which files came, went, have other bytes or another name, by the digests that were measured, and
with what verdict; which packages changed, where lists of packages or bills of materials are among the files; and
which keys and which version of the policy each rests on. A batch is a number, or the newest of a depot:folder. What
was replaced goes by names that differ in what stands for the release.`,
		Example: "  endeixis batch compare 12 19\n  endeixis batch compare quayside:chart/2026-10 quayside:chart/2026-11",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, before, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			_, after, err := a.batchAt(cmd.Context(), args[1])
			if err != nil {
				return err
			}
			found, err := c.Compare(cmd.Context(), before.ID, after.ID)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"change", "file", "before", "after", "was", "now"}, empty: "Every file stays as it was."}
			for _, f := range found.Files {
				row := make([]string, 6)
				row[0] = string(f.Kind)
				if f.Before != nil {
					row[1], row[2], row[4] = f.Before.Name, f.Before.SHA256, string(f.Before.Verdict)
				}
				if f.After != nil {
					row[1], row[3], row[5] = f.After.Name, f.After.SHA256, string(f.After.Verdict)
				}
				g.add(row...)
			}
			return a.print(found, g, func() { a.showComparison(found) })
		},
	}
	return cmd
}

func (a *app) showComparison(c wire.Comparison) {
	for _, b := range []wire.ComparedBatch{c.Before, c.After} {
		fmt.Fprintf(
			a.stdout, "Batch %d  %s  %s\n", b.ID, a.paint(deref(b.Present())), b.Source.Reference,
		)
	}
	var counts []string
	for _, kind := range manifest.ChangeKinds() {
		if n := c.Counts[kind]; n > 0 {
			counts = append(counts, fmt.Sprintf("%d %s", n, kind))
		}
	}
	if len(counts) == 0 {
		counts = []string{"Neither has a file"}
	}
	fmt.Fprintf(a.stdout, "%s\n", strings.Join(counts, ", "))
	a.showBases(c)
	if len(c.Files) > 0 {
		fmt.Fprintln(a.stdout)
	}
	for _, f := range c.Files {
		a.showFileChange(f)
	}
	for _, p := range c.Packages {
		a.showPackages(p)
	}
}

// showBases tells which keys the two rest on and what they were judged by, where that differs.
func (a *app) showBases(c wire.Comparison) {
	if c.Before.Policy != c.After.Policy {
		fmt.Fprintf(a.stdout, "judged by version %d of the policy, and then by version %d\n", c.Before.Policy, c.After.Policy)
	}
	without := func(keys, others []openpgp.Fingerprint) []openpgp.Fingerprint {
		there := func(k openpgp.Fingerprint) bool { return slices.Contains(others, k) }
		return slices.DeleteFunc(slices.Clone(keys), there)
	}
	for _, k := range without(c.Before.Keys, c.After.Keys) {
		a.wrapped("", fmt.Sprintf("Nothing rests any more on the key %s.", plain.Grouped(string(k))))
	}
	for _, k := range without(c.After.Keys, c.Before.Keys) {
		a.wrapped("", fmt.Sprintf("Something rests on the key %s that did not before.", plain.Grouped(string(k))))
	}
}

func (a *app) showFileChange(f wire.FileChange) {
	var name, note string
	switch {
	case f.Before == nil:
		name, note = f.After.Name, size(f.After.Size)
	case f.After == nil:
		name, note = f.Before.Name, size(f.Before.Size)
	default:
		name = f.After.Name
		if f.Before.Name != f.After.Name {
			note = "was " + f.Before.Name
		} else if f.Before.Size != f.After.Size {
			note = fmt.Sprintf("was %s, is %s", size(f.Before.Size), size(f.After.Size))
		}
	}
	fmt.Fprintf(a.stdout, "%-12s  %s  %s", f.Kind, a.bold(name), a.faint(note))
	switch {
	case f.Before != nil && f.After != nil && f.Before.Verdict != f.After.Verdict:
		fmt.Fprintf(a.stdout, "  %s, then %s", orNone(string(f.Before.Verdict)), orNone(string(f.After.Verdict)))
	case f.After != nil && f.After.Verdict != "":
		fmt.Fprintf(a.stdout, "  %s", f.After.Verdict)
	case f.After == nil && f.Before.Verdict != "":
		fmt.Fprintf(a.stdout, "  %s", f.Before.Verdict)
	}
	fmt.Fprintln(a.stdout)
}

func orNone(word string) string {
	if word == "" {
		return "without a verdict"
	}
	return word
}

func (a *app) showPackages(p wire.PackageLists) {
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Packages of "+p.After))
	switch {
	case p.Trouble != "":
		a.wrapped("    ", p.Trouble)
	case len(p.Changes) == 0:
		fmt.Fprintln(a.stdout, "    The same packages, in the same versions.")
	}
	for i, c := range p.Changes {
		if i == shownPackages {
			fmt.Fprintf(a.stdout, "    and %d more; “--output json” has all\n", len(p.Changes)-i)
			break
		}
		versions := strings.TrimSpace(c.Before + c.After)
		if c.Before != "" && c.After != "" {
			versions = c.Before + " → " + c.After
		}
		fmt.Fprintf(a.stdout, "    %-9s  %s  %s\n", c.Kind, c.Name, versions)
	}
}
