package cli

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/plain"
)

func (a *app) manifestCompare() *cobra.Command {
	var batches, versions bool
	cmd := &cobra.Command{
		Use:     "compare BEFORE AFTER",
		Short:   "Compare two manifests, two batches, or two lists of versions",
		Args:    cobra.ExactArgs(2),
		Long:    "compare tells what came, went, changed, was renamed and stayed. With --batches the\narguments are numbers of batches, and their artifacts' digests are compared; with\n--versions they are plain lists of names and versions, such as a release's packages.",
		Example: "  endeixis manifest compare chart-2026-10/SHA256SUMS chart-2026-11/SHA256SUMS\n  endeixis manifest compare --batches 12 19",
		RunE: func(cmd *cobra.Command, args []string) error {
			if batches && versions {
				return usage("--batches and --versions exclude each other")
			}
			compare := a.compareManifests
			switch {
			case versions:
				compare = a.compareVersions
			case batches:
				compare = a.compareBatches
			}
			changes, err := compare(cmd.Context(), args)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"change", "name", "before", "after"}, empty: "Both are empty."}
			counts := map[manifest.ChangeKind]int{}
			for _, c := range changes {
				counts[c.Kind]++
				before := c.Before
				if c.Was != "" {
					before = c.Was
				}
				g.add(string(c.Kind), c.Name, before, c.After)
			}
			return a.print(changes, g, func() {
				for _, c := range changes {
					switch c.Kind {
					case manifest.Unchanged:
					case manifest.Renamed:
						fmt.Fprintf(a.stdout, "%-12s  %s, was %s\n", c.Kind, plain.Text(c.Name), plain.Text(c.Was))
					case manifest.Changed:
						fmt.Fprintf(a.stdout, "%-12s  %s\n", c.Kind, plain.Text(c.Name))
						fmt.Fprintf(
							a.stdout, "    before  %s\n    after   %s\n", plain.Text(c.Before), plain.Text(c.After),
						)
					default:
						fmt.Fprintf(
							a.stdout, "%-12s  %s %s\n", c.Kind, plain.Text(c.Name), plain.Text(c.Before+c.After),
						)
					}
				}
				fmt.Fprintln(
					a.stdout,
					a.faint(fmt.Sprintf(
						"%d added, %d removed, %d changed, %d renamed, %d unchanged, %d without a digest of one algorithm on both sides",
						counts[manifest.Added],
						counts[manifest.Removed],
						counts[manifest.Changed],
						counts[manifest.Renamed],
						counts[manifest.Unchanged],
						counts[manifest.Incomparable],
					)),
				)
			})
		},
	}
	cmd.Flags().BoolVar(&batches, "batches", false, "compare the artifacts of two batches")
	cmd.Flags().BoolVar(&versions, "versions", false, "compare two plain lists of names and versions")
	return cmd
}

// compareVersions compares two lists of names and versions.
func (a *app) compareVersions(_ context.Context, args []string) ([]manifest.Change, error) {
	var texts [2]string
	for i, name := range args {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(io.LimitReader(f, maxVersionList))
		f.Close()
		if err != nil {
			return nil, err
		}
		texts[i] = string(text)
	}
	return manifest.CompareVersions(texts[0], texts[1]), nil
}

// compareBatches compares the artifacts of two batches.
func (a *app) compareBatches(ctx context.Context, args []string) ([]manifest.Change, error) {
	return compareSides(args, func(arg string) (manifest.Entries, error) { return a.batchEntries(ctx, arg) })
}

// compareManifests compares two manifests.
func (a *app) compareManifests(_ context.Context, args []string) ([]manifest.Change, error) {
	return compareSides(args, func(arg string) (manifest.Entries, error) {
		m, err := a.readManifest(arg, nil)
		if err != nil {
			return manifest.Entries{}, err
		}
		if m.Entries.Len() == 0 {
			return m.Entries, fmt.Errorf(
				"nothing in %s is understood as a digest of a file; “endeixis manifest show” tells more", arg,
			)
		}
		return m.Entries, nil
	})
}

func compareSides(args []string, entries func(arg string) (manifest.Entries, error)) ([]manifest.Change, error) {
	var sides [2]manifest.Entries
	for i, arg := range args {
		var err error
		if sides[i], err = entries(arg); err != nil {
			return nil, err
		}
	}
	return manifest.Compare(sides[0], sides[1]), nil
}

// batchEntries returns the digests of a batch's artifacts as entries.
func (a *app) batchEntries(ctx context.Context, arg string) (manifest.Entries, error) {
	c, b, err := a.batchAt(ctx, arg)
	if err != nil {
		return manifest.Entries{}, err
	}
	items, err := c.Items(ctx, b.ID)
	if err != nil {
		return manifest.Entries{}, err
	}
	var out []manifest.Entry
	for _, item := range items {
		for label, text := range item.Digests {
			algorithm, err := digest.Parse(label)
			var value digest.Value
			if item.Role != "artifact" || err != nil || value.UnmarshalText([]byte(text)) != nil {
				continue
			}
			out = append(out, manifest.Entry{Name: item.Path, Algorithm: algorithm, Digest: value})
		}
	}
	return manifest.EntriesOf(out), nil
}
