package cli

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/internal/client"
	"endeixis/internal/state"
	"endeixis/internal/wire"
)

func (a *app) batchFollow() *cobra.Command {
	return &cobra.Command{
		Use:     "follow BATCH",
		Short:   "Wait for a batch and show its verdicts",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis batch follow 12",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0], "a batch's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return a.followBatch(cmd.Context(), c, id)
		},
	}
}

// followBatch waits for a batch, shows it, and ends with the code of its
// verdict.
func (a *app) followBatch(ctx context.Context, c *client.Client, id int64) error {
	show, done := a.progressOf(id)
	b, err := c.Follow(ctx, id, show)
	done()
	if errors.Is(err, context.Canceled) {
		return fmt.Errorf("stopped waiting; batch %d goes on in the service, see “endeixis batch follow %d”", id, id)
	}
	if err != nil {
		return err
	}
	if err := a.printBatch(ctx, c, b, "", ""); err != nil {
		return err
	}
	return verdictExit(b)
}

// verdictExit ends with the code of the verdict that a batch has now.
func verdictExit(b wire.Batch) error {
	switch {
	case b.State == state.BatchFailed:
		return &exit{exitFailed, fmt.Errorf("batch %d could not be carried out: %s", b.ID, b.Note)}
	case b.State == state.BatchCancelled:
		return &exit{exitFailed, fmt.Errorf("batch %d ended before it was done. %s", b.ID, b.Note)}
	case deref(b.Present()) == string(judge.Refused):
		return &exit{code: exitRefused}
	case deref(b.Present()) == string(judge.Unproven):
		return &exit{code: exitUnproven}
	}
	return nil
}

// progressOf shows how far a batch has come: a bar on a terminal, otherwise a
// line for each step.
func (a *app) progressOf(id int64) (show func(wire.Batch), done func()) {
	if !a.progress {
		last := state.Batch("")
		loud := time.Now().Add(quietAtFirst)
		return func(b wire.Batch) {
			if b.State != last && time.Now().After(loud) {
				last = b.State
				a.note(
					"batch %d: %s, %d of %d files, %s of %s", b.ID, b.State, b.Progress.ItemsDone, b.Progress.Items,
					size(b.Progress.BytesDone), size(b.Progress.Bytes),
				)
			}
		}, func() {}
	}
	var bar *progressbar.ProgressBar
	return func(b wire.Batch) {
			if b.Progress.Bytes == 0 {
				return
			}
			if bar == nil {
				bar = progressbar.NewOptions64(
					b.Progress.Bytes, progressbar.OptionSetWriter(a.stderr), progressbar.OptionShowBytes(true),
					progressbar.OptionSetDescription(fmt.Sprintf("batch %d", id)),
					progressbar.OptionSetPredictTime(true),
					progressbar.OptionUseIECUnits(true),
					progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(30),
				)
			}
			bar.Set64(b.Progress.BytesDone) //nolint:errcheck // only for the eye
		}, func() {
			if bar != nil {
				bar.Clear() //nolint:errcheck // the bar is for the eye only
			}
		}
}
