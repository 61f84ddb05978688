package cli

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) attentionCommand() *cobra.Command {
	var limit int
	cmd := &cobra.Command{
		Use: "attention", Short: "List what needs attention, with the reason and what helps", Args: cobra.NoArgs,
		Long: `attention lists batches that are refused or unproven and, for those who decide about them, keys.
A batch leaves the list when a later batch of the same place is cleared, when it is cleared by being judged
again, or when somebody settles it: “endeixis batch settle” and “endeixis keyring settle”, with a reason.
It comes back when something about it changes.`,
		Example: "  endeixis attention\n  endeixis batch settle 12 --reason 'replaced by 4.3; the download is thrown away'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			entries, err := c.Attention(cmd.Context(), oneMore(limit))
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"state", "what", "why", "what helps"},
				empty:  "Nothing needs attention.",
			}
			return upTo(a, entries, limit, func(entries []wire.Attention) error {
				for _, e := range entries {
					g.add(e.Word, whatOf(e), e.Why, e.Act)
				}
				return a.print(entries, g, func() { a.showAttention(entries) })
			})
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 30, "at most this many; 0 for all")
	return cmd
}

// whatOf names what needs attention.
func whatOf(e wire.Attention) string {
	switch {
	case e.Key != nil:
		name := "no user ID"
		if len(e.Key.UserIDs) > 0 {
			name = e.Key.UserIDs[0]
		}
		return fmt.Sprintf("key %s (%s)", e.Key.Grouped, name)
	case e.Path != "":
		return fmt.Sprintf("batch %d, %s: %s", e.Batch.ID, placeOf(*e.Batch), e.Path)
	}
	return fmt.Sprintf("batch %d, %s", e.Batch.ID, placeOf(*e.Batch))
}

func (a *app) showAttention(entries []wire.Attention) {
	if len(entries) == 0 {
		fmt.Fprintln(a.stdout, "Nothing needs attention.")
	}
	for i, e := range entries {
		fmt.Fprintf(a.stdout, "%s  %s\n", a.paint(e.Word), a.bold(plain.Text(whatOf(e))))
		last := i == len(entries)-1
		if !last && entries[i+1].Word == e.Word && entries[i+1].Why == e.Why && entries[i+1].Act == e.Act {
			continue // it is said once, below the last of them
		}
		a.wrapped("    ", e.Why)
		if e.Act != "" {
			a.hanging("    → ", "      ", e.Act)
		}
		if !last {
			fmt.Fprintln(a.stdout)
		}
	}
}

func (a *app) batchSettle() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "settle BATCH --reason TEXT", Short: "Record that a batch needs no attention as it is",
		Args: cobra.ExactArgs(1),
		Long: `settle takes a refused or unproven batch off the list of what needs attention, with a reason that goes
on record. Its verdict stays. The batch comes back when it is judged otherwise.`,
		Example: "  endeixis batch settle 12 --reason 'replaced by 4.3; the download is thrown away'",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0], "a batch's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			b, err := c.SettleBatch(cmd.Context(), id, reason)
			if err != nil {
				return err
			}
			return a.print(b, nil, func() { a.note("Batch %d is settled; it stays %s.", id, deref(b.Present())) })
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for whoever asks next year")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) keyringSettle() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use: "settle FINGERPRINT --reason TEXT", Short: "Record that a key needs no attention as it is",
		Long: "settle takes a candidate that nobody will admit, or a key whose expiry is known, off the list of\n" +
			"what needs attention. How the key stands does not change. It comes back when something is decided\n" +
			"or seen of it, and when it has expired since.",
		Example: "  endeixis keyring settle 'C959 BDBA …' --reason 'they sign with another key since March'",
	}, func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error) {
		return c.SettleKey(ctx, fingerprint, reason)
	})
}
