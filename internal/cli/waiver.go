package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) waiverCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "waiver", Short: "Exceptions to the policy, each with a reason and an end"}
	cmd.AddCommand(a.waiverAdd(), a.waiverList(), a.waiverEnd())
	return cmd
}

func (a *app) waiverAdd() *cobra.Command {
	var n wire.NewWaiver
	var until string
	cmd := &cobra.Command{
		Use:   "add GROUND --until DAY --reason TEXT",
		Short: "Grant a waiver",
		Args:  cobra.ExactArgs(1),
		Long: "add lifts one ground for a publisher, for names of files, or for a publisher's files of\nsome names, until the end of a day. Every verdict that rests on it says so.\n\nGrounds: " + orList(
			wire.WaivableGrounds(),
		) + ".",
		Example: "  endeixis waiver add weak-digest-only --publisher lanternfell --until 2027-03-31 \\\n    --reason 'they publish MD5 only; asked for SHA-256 on 4 November'",
		RunE: func(cmd *cobra.Command, args []string) error {
			day, err := time.Parse(time.DateOnly, until)
			if err != nil {
				return usage("%q is not a day such as 2027-03-31", until)
			}
			if !slices.Contains(wire.WaivableGrounds(), wire.WaivableGround(args[0])) {
				return usage("the ground %q cannot be waived; these can: %s", args[0], orList(wire.WaivableGrounds()))
			}
			n.Ground, n.Until = wire.WaivableGround(args[0]), day.AddDate(0, 0, 1)
			return a.withWaiver(
				cmd.Context(),
				func(ctx context.Context, c *client.Client) (wire.Waiver, error) { return c.GrantWaiver(ctx, n) },
			)
		},
	}
	cmd.ValidArgs = texts(wire.WaivableGrounds())
	cmd.Flags().StringVar(&n.Publisher, "publisher", "", "for this publisher")
	cmd.Flags().StringVar(&n.Pattern, "pattern", "", "for files of these names, such as lamp-ctl-*")
	cmd.Flags().StringVar(&until, "until", "", "the last day on which it counts, as 2027-03-31")
	cmd.Flags().StringVar(&n.Reason, "reason", "", "why, for whoever asks next year")
	_ = cmd.MarkFlagRequired("until")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) withWaiver(
	ctx context.Context, do func(ctx context.Context, c *client.Client) (wire.Waiver, error),
) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	w, err := do(ctx, c)
	if err != nil {
		return err
	}
	if err := a.print(w, waiverGrid([]wire.Waiver{w}), nil); err != nil {
		return err
	}
	return a.tellRejudged(ctx, c, w.Reassessment)
}

func (a *app) waiverList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the waivers, the newest first", Args: cobra.NoArgs, Example: "  endeixis waiver list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Waivers(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, waiverGrid(all), nil)
		},
	}
}

func (a *app) waiverEnd() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "end NUMBER --reason TEXT", Short: "End a waiver before its day", Args: cobra.ExactArgs(1),
		Example: "  endeixis waiver end 2 --reason 'they sign since release 3.6'",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of a waiver; “endeixis waiver list” shows them", args[0])
			}
			return a.withWaiver(
				cmd.Context(),
				func(ctx context.Context, c *client.Client) (wire.Waiver, error) {
					return c.EndWaiver(ctx, id,
						reason)
				},
			)
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for whoever asks next year")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func waiverGrid(waivers []wire.Waiver) *grid {
	g := &grid{
		header: []string{"number", "ground", "for", "last day", "standing", "by", "record", "reason"},
		empty:  "No waiver was granted. The policy holds for everybody.",
	}
	for _, w := range waivers {
		who := strings.TrimSpace(w.Publisher + " " + w.Pattern)
		standing := string(w.State)
		if w.EndedBy != "" {
			standing += fmt.Sprintf(" by %s: %s", w.EndedBy, w.EndReason)
		}
		g.add(
			strconv.FormatInt(w.ID, 10), string(w.Ground), who, judge.LastDay(w.Until), standing, w.By,
			strconv.FormatInt(w.Record, 10), w.Reason,
		)
	}
	return g
}
