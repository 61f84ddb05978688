package cli

import (
	"context"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/core/verify"
	"endeixis/internal/client"
	"endeixis/internal/sources"
	"endeixis/internal/wire"
)

func (a *app) batchDrill() *cobra.Command {
	var only, at string
	cmd := &cobra.Command{
		Use: "drill BATCH", Short: "Prove that the check can fail", Args: cobra.ExactArgs(1),
		Long: `drill measures cleared files again with their bytes altered in memory: a flipped bit here
and there, a byte more, a byte less; and alters what vouches for them: a character of the
manifest, a bit of the signature, another publisher's key in place of the signer's. No file
is touched. All of that has to be refused or unproven; what is cleared is an alarm. The
drill is a record of its own, and changes no verdict.

Without --item it takes the first ten files that are cleared.`,
		Example: "  endeixis batch drill 12 --item gauge-fw-4.2-main.img",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, b, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if b.Source.Kind == sources.Depot && only == "" {
				return a.drilled(c.Drill(cmd.Context(), b.ID, nil))
			}
			items, err := c.Items(cmd.Context(), b.ID)
			if err != nil {
				return err
			}
			chosen, err := drillable(items, only, b.ID)
			if err != nil {
				return err
			}
			if b.Source.Kind == sources.Depot {
				return a.drilled(c.Drill(cmd.Context(), b.ID, []wire.DrillItem{{N: chosen[0].N}}))
			}
			if at, err = filesOf(b, at); err != nil {
				return err
			}
			_, folder, err := openFolder(at)
			if err != nil {
				return err
			}
			defer folder.Close()
			return a.drillFolder(cmd.Context(), c, b.ID, folder.FS(), chosen)
		},
	}
	cmd.Flags().StringVar(&only, "item", "", "only this file")
	cmd.Flags().StringVar(&at, "at", "", "where the batch's folder is on this machine, if it is somewhere else by now")
	return cmd
}

// maxDrill is how many files are drilled unless one is named.
const maxDrill = 10

// drillable chooses the files to drill: the one that is named, or the first that are
// cleared.
func drillable(items []wire.Item, only string, batch int64) ([]wire.Item, error) {
	if only != "" {
		found, err := itemsNamed(items, only, batch)
		if err != nil {
			return nil, err
		}
		return found[:1], nil
	}
	var out []wire.Item
	for _, item := range items {
		if deref(item.Verdict) == string(judge.Cleared) && item.Inside == "" && len(out) < maxDrill {
			out = append(out, item)
		}
	}
	if out == nil {
		return nil, &exit{
			exitFailed,
			fmt.Errorf(
				"nothing in batch %d is cleared, and that something else is not cleared either proves nothing", batch,
			),
		}
	}
	return out, nil
}

// drillFolder measures here what a drill takes.
func (a *app) drillFolder(ctx context.Context, c *client.Client, batch int64, folder fs.FS, chosen []wire.Item) error {
	var items []wire.DrillItem
	for _, item := range chosen {
		assignment, err := c.DrillAssignment(ctx, batch, item.N)
		if err != nil {
			return err
		}
		if item.Inside != "" {
			return &exit{
				exitFailed,
				fmt.Errorf("%s lies inside %s; drill that", plain.Quoted(item.Path), plain.Quoted(item.Inside)),
			}
		}
		readings, err := verify.AlterFile(ctx, folder, &assignment.Target, assignment.Alterations)
		if err != nil {
			return fmt.Errorf("%s: %w", plain.Quoted(item.Path), err)
		}
		items = append(items, wire.DrillItem{N: assignment.N, Readings: readings})
	}
	return a.drilled(c.Drill(ctx, batch, items))
}

// drilled shows what came of a drill. One that raises the alarm fails.
func (a *app) drilled(d wire.Drill, err error) error {
	if err != nil {
		return err
	}
	g := &grid{header: []string{"file", "altered", "verdict", "what was said"}}
	for _, item := range d.Items {
		for _, row := range item.Rows {
			g.add(item.Shown, row.What, string(row.Verdict), row.Said)
		}
	}
	if err := a.print(d, g, func() {
		for _, item := range d.Items {
			fmt.Fprintln(a.stdout, a.bold(item.Shown))
			widest := 0
			for _, row := range item.Rows {
				widest = max(widest, len(row.What))
			}
			for i, row := range item.Rows {
				mark := a.paint(string(row.Verdict))
				if row.Alarm {
					mark += "  ALARM"
				}
				fmt.Fprintf(a.stdout, "  %-*s  %s\n", widest, row.What, mark)
				// What is said of several that follow each other is said once.
				if i+1 == len(item.Rows) || item.Rows[i+1].Said != row.Said {
					a.wrapped("        ", row.Said)
				}
			}
			fmt.Fprintln(a.stdout)
		}
		if d.Passed {
			fmt.Fprintf(
				a.stdout, "The check can fail: nothing that was altered was cleared. %s\n",
				a.faint(fmt.Sprintf("record %d", d.Record)),
			)
		}
	}); err != nil {
		return err
	}
	if !d.Passed {
		return &exit{
			exitFailed,
			fmt.Errorf(
				"ALARM: something that was altered was cleared, or a file is not what was verified any more. Trust no verdict until it is known why; record %d has the drill",
				d.Record,
			),
		}
	}
	return nil
}
