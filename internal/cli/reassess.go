package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *app) keyringReach() *cobra.Command {
	return &cobra.Command{
		Use:     "reach FINGERPRINT",
		Short:   "Show what rests on a key, before it is withdrawn",
		Args:    cobra.ExactArgs(1),
		Long:    "reach judges everything that has a signature by the key again, as if the key were withdrawn\nnow, and tells which verdicts would change. Nothing is read but records, and nothing is\nkept.",
		Example: "  endeixis keyring reach 'C959 BDBA …'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			show, done := a.inquiryProgress("judging again")
			r, err := c.Reach(cmd.Context(), args[0], show)
			done()
			if err != nil {
				return err
			}
			return a.print(r, rejudgeGrid(r.Items), func() { a.showReach(r, "were withdrawn") })
		},
	}
}

// inquiryProgress shows how far an answer has come: a bar on a terminal, nothing
// elsewhere.
func (a *app) inquiryProgress(what string) (show func(wire.Inquiry), done func()) {
	if !a.progress {
		return nil, func() {}
	}
	var bar *progressbar.ProgressBar
	return func(q wire.Inquiry) {
			if q.Total == 0 {
				return
			}
			if bar == nil {
				bar = progressbar.NewOptions64(
					q.Total, progressbar.OptionSetWriter(a.stderr), progressbar.OptionSetDescription(what),
					progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(),
				)
			}
			_ = bar.Set64(q.Done) // the bar is for the eye only
		}, func() {
			if bar != nil {
				_ = bar.Finish()
			}
		}
}

func rejudgeGrid(items []wire.Rejudge) *grid {
	g := &grid{header: []string{"batch", "file", "is", "would be", "why"}, empty: "No verdict would change."}
	for _, i := range items {
		g.add(strconv.FormatInt(i.Batch, 10), i.Shown, string(i.From), string(i.To), i.Why)
	}
	return g
}

func (a *app) showReach(r wire.Reach, what string) {
	fmt.Fprintln(
		a.stdout,
		a.bold(
			fmt.Sprintf(
				"A signature by this key bears on %s in %s.", plain.Count(r.Rests, "artifact"), plain.Count(r.Batches, "batch"),
			),
		),
	)
	if len(r.VerdictChanges) == 0 {
		fmt.Fprintf(a.stdout, "If it %s, no verdict would change.\n", what)
		return
	}
	fmt.Fprintf(a.stdout, "If it %s:\n", what)
	for _, t := range r.VerdictChanges {
		fmt.Fprintf(a.stdout, "  %d from %s to %s\n", t.Count, a.paint(string(t.From)), a.paint(string(t.To)))
	}
	a.showRejudged(r.Items)
}

// showRejudged lists changed items under their batches.
func (a *app) showRejudged(items []wire.Rejudge) {
	var batch int64
	last := ""
	for _, i := range items {
		if i.Batch != batch {
			batch, last = i.Batch, ""
			fmt.Fprintf(a.stdout, "\n%s\n", a.bold(fmt.Sprintf("Batch %d", batch)))
		}
		fmt.Fprintf(a.stdout, "  %s → %s  %s\n", a.paint(string(i.From)), a.paint(string(i.To)), plain.Text(i.Shown))
		if i.Why != last {
			a.wrapped("      ", i.Why)
			last = i.Why
		}
	}
}

func (a *app) keyringWithdraw() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use:     "withdraw FINGERPRINT --reason TEXT",
		Short:   "End that a key counts",
		Long:    "withdraw ends that an admitted key counts, from now on, and judges again what rests on it.\nRecords stand as they were; changed verdicts get records of their own. See first what would\nchange with “endeixis keyring reach”.",
		Example: "  endeixis keyring withdraw 'C959 BDBA …' --reason 'their site says it was stolen'",
	}, func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error) {
		return c.WithdrawKey(ctx, fingerprint, reason)
	})
}

// rejudgingTold is how long a command waits for what a decision has entailed.
const rejudgingTold = 30 * time.Second

// namedBatches is how many batches a sentence names.
const namedBatches = 20

// tellRejudged waits for the reassessments that a decision has entailed, and says what became of what the
// decision concerns. nil stands for one that was not needed.
func (a *app) tellRejudged(ctx context.Context, c *client.Client, runs ...*int64) error {
	ctx, stop := context.WithTimeout(ctx, rejudgingTold)
	defer stop()
	for _, id := range runs {
		if id == nil {
			continue
		}
		r, err := a.awaitReassessment(ctx, c, *id)
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			a.note(
				"What it concerns is still being judged again; “endeixis reassess show %d” tells what becomes of it.", *id,
			)
			return nil
		}
		if err != nil {
			return err
		}
		changed, err := c.Rejudged(ctx, r.ID)
		if err != nil {
			return err
		}
		a.note("%s", becameOfWhatWaited(r, changed))
	}
	return nil
}

// becameOfWhatWaited says what a reassessment has changed.
func becameOfWhatWaited(r wire.Reassessment, changed []wire.Rejudge) string {
	if r.State == state.RunFailed {
		return fmt.Sprintf(
			"What it concerns could not be judged again (reassessment %d): %s Ask for it again with “endeixis reassess” once the cause is found.",
			r.ID, plain.Text(r.Note),
		)
	}
	if len(changed) == 0 {
		return fmt.Sprintf(
			"%s judged again, and no verdict changed (reassessment %d).", capital(plain.Count(r.Judged, "item")), r.ID,
		)
	}
	counts := map[string]int{}
	batches := map[int64]bool{}
	for _, item := range changed {
		counts[fmt.Sprintf("%s instead of %s", item.To, item.From)]++
		batches[item.Batch] = true
	}
	var became, in []string
	for _, how := range slices.Sorted(maps.Keys(counts)) {
		became = append(became, fmt.Sprintf("%s %s", plain.Count(counts[how], "artifact"), how))
	}
	for _, batch := range slices.Sorted(maps.Keys(batches)) {
		in = append(in, strconv.FormatInt(batch, 10))
	}
	of := "batch "
	if len(in) > 1 {
		of = "batches "
	}
	if len(in) > namedBatches {
		in = append(in[:namedBatches], fmt.Sprintf("and %d more", len(batches)-namedBatches))
	}
	return fmt.Sprintf(
		"Judged again from what was measured: %s, in %s%s (reassessment %d).", strings.Join(became, ", "), of,
		strings.Join(in, ", "), r.ID,
	)
}

// awaitReassessment waits until a run is done.
func (a *app) awaitReassessment(ctx context.Context, c *client.Client, id int64) (wire.Reassessment, error) {
	for {
		r, err := c.Reassessment(ctx, id)
		if err != nil || r.State != state.RunWaiting {
			return r, err
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

func (a *app) reassessCommand() *cobra.Command {
	var sel wire.Selection
	var reason, from, to string
	cmd := &cobra.Command{
		Use:     "reassess --reason TEXT",
		Short:   "Judge stored measurements again",
		Args:    cobra.NoArgs,
		Long:    "reassess judges what is selected again, with the keyring, policy and waivers of now. No file\nis read. What was judged before stands as it was; a changed verdict gets a record of its own.\nSelect a batch, a publisher, a key, a period, or --all.",
		Example: "  endeixis reassess --publisher tidewright --reason 'their 2027 key was admitted'\n  endeixis reassess list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var err error
			if sel.From, err = dayFlag("from", from, 0); err != nil {
				return err
			}
			if sel.To, err = dayFlag("to", to, 1); err != nil {
				return err
			}
			if reason == "" {
				return usage("say with --reason why it is judged again; it goes on record")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			asked, err := c.Reassess(cmd.Context(), sel, reason)
			if err != nil {
				return err
			}
			r, err := a.awaitReassessment(cmd.Context(), c, asked.ID)
			if err != nil {
				return err
			}
			return a.printReassessment(cmd.Context(), c, r)
		},
	}
	cmd.Flags().Int64Var(&sel.Batch, "batch", 0, "this batch")
	cmd.Flags().StringVar(&sel.Publisher, "publisher", "", "batches that were expected from this publisher")
	cmd.Flags().StringVar(&sel.Key, "key", "", "what has a signature by the key with this fingerprint")
	cmd.Flags().StringVar(&from, "from", "", "batches since this day, as 2026-03-01")
	cmd.Flags().StringVar(&to, "to", "", "batches up to this day")
	cmd.Flags().BoolVar(&sel.All, "all", false, "everything")
	cmd.Flags().StringVar(&reason, "reason", "", "why; it goes on record")
	cmd.AddCommand(a.reassessShow(), a.reassessList())
	return cmd
}

func (a *app) reassessShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show NUMBER",
		Short:   "Show a reassessment with what it changed",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis reassess show 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of a reassessment; “endeixis reassess list” shows them", args[0])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Reassessment(cmd.Context(), id)
			if err != nil {
				return err
			}
			return a.printReassessment(cmd.Context(), c, r)
		},
	}
}

func (a *app) reassessList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the reassessments, the newest first",
		Args:    cobra.NoArgs,
		Example: "  endeixis reassess list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Reassessments(cmd.Context())
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"number", "asked", "by", "of", "state", "judged", "changed", "reason"},
				empty:  "Nothing was judged again yet.",
			}
			for _, r := range all {
				g.add(
					strconv.FormatInt(r.ID, 10), moment(r.Created), r.By, selected(r.Selection), string(r.State),
					strconv.Itoa(r.Judged), strconv.Itoa(r.Changed), r.Reason,
				)
			}
			return a.print(all, g, nil)
		},
	}
}

func dayFlag(name, value string, add int) (*time.Time, error) {
	if value == "" {
		return nil, nil
	}
	day, err := time.Parse(time.DateOnly, value)
	if err != nil {
		return nil, usage("--%s: %q is not a day such as 2026-03-01", name, value)
	}
	day = day.AddDate(0, 0, add)
	return &day, nil
}

func selected(s wire.Selection) string {
	var out []string
	if s.Batch != 0 {
		out = append(out, fmt.Sprintf("batch %d", s.Batch))
	}
	if s.Publisher != "" {
		out = append(out, s.Publisher)
	}
	if s.Key != "" {
		out = append(out, "key "+plain.Grouped(s.Key))
	}
	if s.From != nil {
		out = append(out, "since "+s.From.Format(time.DateOnly))
	}
	if s.To != nil {
		out = append(out, "before "+s.To.Format(time.DateOnly))
	}
	if s.Waiting {
		out = append(out, "what is not cleared")
	}
	if s.All {
		out = append(out, "everything")
	}
	return strings.Join(out, ", ")
}

// printReassessment shows a run with all that it changed.
func (a *app) printReassessment(ctx context.Context, c *client.Client, r wire.Reassessment) error {
	items, err := c.Rejudged(ctx, r.ID)
	if err != nil {
		return err
	}
	shown := struct {
		wire.Reassessment
		Items []wire.Rejudge `json:"items,omitempty"`
	}{r, items}
	return a.print(shown, rejudgeGrid(items), func() {
		fmt.Fprintf(
			a.stdout, "%s  %s\n", a.bold(fmt.Sprintf("Reassessment %d of %s", r.ID, selected(r.Selection))),
			a.faint(fmt.Sprintf("asked by %s on %s, policy version %d", r.By, moment(r.Created), r.Policy)),
		)
		a.wrapped("", r.Reason)
		switch r.State {
		case state.RunWaiting:
			fmt.Fprintln(a.stdout, "It is not done yet.")
			return
		case state.RunFailed:
			a.wrapped("", r.Note)
			fmt.Fprintf(
				a.stdout, "Until then, %s changed; that stands. Ask for it again once the cause is found.\n",
				plain.Count(r.Changed, "verdict"),
			)
			a.showRejudged(items)
			return
		case state.RunDone:
		}
		fmt.Fprintf(
			a.stdout, "%s judged again, and %s changed.\n", capital(plain.Count(r.Judged, "item")), plain.Count(r.Changed, "verdict"),
		)
		a.showRejudged(items)
	})
}
