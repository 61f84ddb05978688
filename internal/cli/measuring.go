package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/internal/client"
	"endeixis/internal/depots"
	"endeixis/internal/fault"
	"endeixis/internal/measurer"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// isDepot reports whether an argument means a folder of a depot, and not one of this
// machine: “quayside:incoming”, if nothing here is called that.
func isDepot(arg string) bool {
	depot, _, ok := strings.Cut(arg, ":")
	if !ok || depot == "" || strings.ContainsAny(depot, `/\`) {
		return false
	}
	_, err := os.Lstat(arg)
	return err != nil
}

// An ownFolder is a folder of this machine that was looked at.
type ownFolder struct {
	path   string
	folder *depots.Folder
	found  *survey.Findings
}

// openFolder opens a folder of this machine.
func openFolder(arg string) (string, *depots.Folder, error) {
	path, err := filepath.Abs(arg)
	if err != nil {
		return "", nil, err
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return "", nil, usage(
			"there is no folder %s here; a folder of a depot is written as depot:folder, such as quayside:tidewright/gauge-fw-4.2",
			plain.Quoted(arg),
		)
	case err != nil:
		return "", nil, err
	case !info.IsDir():
		return "", nil, usage(
			"%s is a file; “endeixis spot %s” verifies one file with what lies beside it", plain.Quoted(arg),
			plain.Quoted(arg),
		)
	}
	folder, err := depots.OpenHere(path)
	return path, folder, err
}

// lookAt looks at everything in a folder of this machine.
func (a *app) lookAt(ctx context.Context, arg string) (*ownFolder, error) {
	path, folder, err := openFolder(arg)
	if err != nil {
		return nil, err
	}
	found, err := survey.Gather(ctx, folder.FS(), survey.Limits{Bound: sources.LookFor})
	if err == nil && len(found.Files) == 0 {
		err = fmt.Errorf("the folder %s is empty: there is nothing to verify", plain.Quoted(path))
	}
	if err != nil {
		folder.Close()
		return nil, err
	}
	return &ownFolder{path, folder, found}, nil
}

// surveyFolder plans what would be checked in a folder of this machine. No service is
// asked.
func (a *app) surveyFolder(ctx context.Context, arg string, corrections []wire.Correction) (wire.Survey, error) {
	h, err := a.lookAt(ctx, arg)
	if err != nil {
		return wire.Survey{}, err
	}
	defer h.folder.Close()
	plan, err := survey.Plan(h.found, survey.Options{Corrections: correctionsOf(corrections)})
	if err != nil {
		return wire.Survey{}, mistake(err)
	}
	return wire.SurveyOf(plan), nil
}

func correctionsOf(in []wire.Correction) []survey.Correction {
	out := make([]survey.Correction, len(in))
	for i, c := range in {
		out[i] = survey.Correction(c)
	}
	return out
}

// mistake tells wrong usage from other trouble.
func mistake(err error) error {
	var correction *survey.CorrectionError
	var origin *survey.ProvenanceError
	if errors.As(err, &correction) || errors.As(err, &origin) {
		return usage("%w", err)
	}
	return err
}

// runFolder verifies a folder of this machine: it is read here, and judged and recorded by
// the service.
func (a *app) runFolder(ctx context.Context, r wire.NewBatch, arg string) (wire.Batch, error) {
	if _, err := os.Stat(arg); err != nil {
		_, _, err = openFolder(arg)
		return wire.Batch{}, err
	}
	c, err := a.reached(ctx)
	if err != nil {
		return wire.Batch{}, err
	}
	h, err := a.lookAt(ctx, arg)
	if err != nil {
		return wire.Batch{}, err
	}
	defer h.folder.Close()
	if len(r.Corrections)+len(r.Origins) > 0 {
		// Found out here, a mistake costs nothing but another try.
		from := map[string]survey.Provenance{}
		for _, o := range r.Origins {
			from[o.Manifest] = survey.Provenance{Channel: o.Channel, Place: o.Place}
		}
		if _, err := survey.Plan(
			h.found, survey.Options{Corrections: correctionsOf(r.Corrections), Provenance: from},
		); err != nil {
			return wire.Batch{}, mistake(err)
		}
	}
	r.Depot, r.Path, r.Measurer = "", "", &wire.Measurer{
		Kind: measure.Client, Host: hostname(), Path: h.path, Software: "endeixis " + version.Full(),
	}
	b, err := c.RunBatch(ctx, r, rand.Text())
	if err != nil {
		return b, err
	}
	return a.measureFolder(ctx, c, b, h)
}

// reached returns the client of a service that answers: looking at a folder can take long,
// and is not begun for one that does not.
func (a *app) reached(ctx context.Context) (*client.Client, error) {
	c, err := a.client()
	if err == nil {
		_, err = c.Me(ctx)
	}
	if err != nil {
		return c, err
	}
	return a.patient(c), nil
}

// patience is how long a service is asked again after a connection was lost.
const patience = time.Minute

// patient is a client that does not give up at once, for what was begun already.
func (a *app) patient(c *client.Client) *client.Client {
	return c.Patiently(patience, func(err error) {
		a.note(
			"The connection to the service was lost; trying again for up to %s. (%s)", "a minute",
			plain.Text(err.Error()),
		)
	})
}

// unreachable reports whether an error says that no service is there.
func (a *app) unreachable(err error) bool {
	return client.Lost(err) || err != nil && a.address() == ""
}

// compareFolder compares digests in a folder of this machine, without a service.
func (a *app) compareFolder(ctx context.Context, arg string) error {
	h, err := a.lookAt(ctx, arg)
	if err != nil {
		return err
	}
	defer h.folder.Close()
	return a.unrecorded(ctx, h.folder.FS(), h.found, func(string) bool { return true }, false)
}

// adviseSatchel adds to the error of a service that cannot be reached what can be had without.
func (a *app) adviseSatchel(err error) error {
	if !a.unreachable(err) {
		return err
	}
	return &exit{
		exitNoAccess,
		fmt.Errorf(
			"%w\nNothing was verified, and nothing is on record. Where there is no network, --satchel judges by what was packed before. Without either, “endeixis batch survey” shows what vouches for what, "+
				"“endeixis digest” and “endeixis manifest show” compute and read, and --unrecorded compares digests; none of them can clear a file.",
			err,
		),
	}
}

func hostname() string {
	name, err := os.Hostname()
	if err != nil || name == "" {
		return "unknown"
	}
	return strings.ReplaceAll(name, ":", "-")
}

// measureFolder takes a batch from its list of files to its end. One that is interrupted
// can be resumed.
func (a *app) measureFolder(ctx context.Context, c *client.Client, b wire.Batch, h *ownFolder) (wire.Batch, error) {
	show, done := a.measuring(b.ID)
	defer done()
	b, err := a.measured(ctx, c, b, h.folder.FS(), h.found, show)
	return b, goesOn(ctx, b.ID, err)
}

// goesOn words the error of a batch that waits to be gone on with: it was begun, and is kept.
func goesOn(ctx context.Context, batch int64, err error) error {
	rest := fmt.Sprintf(
		"batch %d waits; what was measured is kept, and “endeixis batch resume %d” goes on with the rest", batch, batch,
	)
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return &exit{exitFailed, errors.New("interrupted: " + rest)}
	case client.Lost(err):
		return &exit{
			exitFailed,
			fmt.Errorf(
				"the connection to the service was lost, and it does not answer again: %s. (%s)", rest,
				plain.Text(err.Error()),
			),
		}
	}
	return fmt.Errorf("%w\nIt is not lost: %s", err, rest)
}

// measured sends what was found in a folder, measures it, and waits for the end of the
// batch. show is told how far it has come, and may be nil.
func (a *app) measured(
	ctx context.Context, c *client.Client, b wire.Batch, folder fs.FS, found *survey.Findings,
	show func(measurer.Progress),
) (wire.Batch, error) {
	id := b.ID
	var err error
	if b.State == state.BatchWaiting {
		// A list that is whole already stays as it is.
		err := measurer.List(ctx, c, id, found)
		var problem *client.Error
		if err != nil && (!errors.As(err, &problem) || problem.Code != fault.ListingClosed) {
			return b, err
		}
	}
	if b, err = measurer.Surveyed(ctx, c, id); err != nil || b.Closed() {
		return b, err
	}
	if err = measurer.Measure(ctx, c, id, folder, judge.DefaultPolicy().DiagnosisBytes, show); err != nil {
		return b, err
	}
	return c.Follow(ctx, id, func(wire.Batch) {})
}

// quietAtFirst is how long nothing is said of progress where there is no terminal: what is
// done sooner needs none.
const quietAtFirst = 2 * time.Second

// measuring shows how far the measuring of a batch has come: a bar on a terminal, a line
// now and then elsewhere.
func (a *app) measuring(id int64) (show func(measurer.Progress), done func()) {
	if !a.progress {
		next := time.Now().Add(quietAtFirst)
		return func(p measurer.Progress) {
			if time.Now().After(next) {
				a.note("batch %d: measured %d of %d files, %s of %s", id, p.Done, p.Items, size(p.Read), size(p.Bytes))
				next = time.Now().Add(10 * time.Second)
			}
		}, func() {}
	}
	var bar *progressbar.ProgressBar
	return func(p measurer.Progress) {
			if p.Bytes == 0 {
				return
			}
			if bar == nil {
				bar = a.bar(p.Bytes, "")
			}
			name := filepath.Base(p.File)
			if len(name) > 28 {
				name = name[:27] + "…"
			}
			bar.Describe(fmt.Sprintf("%-28s", plain.Text(name)))
			bar.Set64(min(p.Read, p.Bytes)) //nolint:errcheck // only for the eye
		}, func() {
			if bar != nil {
				bar.Clear() //nolint:errcheck // the bar is for the eye only
			}
		}
}

func (a *app) batchResume() *cobra.Command {
	var at string
	cmd := &cobra.Command{
		Use:     "resume BATCH",
		Short:   "Go on measuring a batch of files of this machine",
		Args:    cobra.ExactArgs(1),
		Long:    "resume measures what is missing of a batch whose files are read here. It has to run on\nthe machine that has them, by the person who started it.",
		Example: "  endeixis batch resume 12\n  endeixis batch resume 12 --at /mnt/stick   (they are found there now)",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, b, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			host, path, _ := strings.Cut(b.Source.Reference, ":")
			switch {
			case b.Closed():
				a.note("Batch %d has ended; there is nothing to go on with.", b.ID)
				return a.shown(cmd.Context(), c, b)
			case b.Against != nil:
				return &exit{
					exitFailed,
					fmt.Errorf(
						"batch %d reads a medium back, which is done in one go; read it back again with “endeixis readback”, and cancel this one",
						b.ID,
					),
				}
			case b.Source.Kind != sources.Client:
				return &exit{
					exitFailed,
					fmt.Errorf(
						"the files of batch %d are not read by this program; “endeixis batch follow %d” waits for it",
						b.ID, b.ID,
					),
				}
			case at == "" && host != hostname():
				return &exit{
					exitFailed,
					fmt.Errorf(
						"the files of batch %d are on %s, and this is %s; run it there, or say with --at where they are here",
						b.ID,
						plain.Text(host),
						hostname(),
					),
				}
			case at == "":
				at = path
			}
			h, err := a.reopen(cmd.Context(), b, at)
			if err != nil {
				return err
			}
			defer h.folder.Close()
			if b, err = a.measureFolder(cmd.Context(), a.patient(c), b, h); err != nil {
				return err
			}
			return a.shown(cmd.Context(), c, b)
		},
	}
	cmd.Flags().StringVar(&at, "at", "", "the folder, if it is somewhere else by now")
	return cmd
}

// reopen opens the folder of a batch again. It is looked at only if its list of files was
// not sent.
func (a *app) reopen(ctx context.Context, b wire.Batch, at string) (*ownFolder, error) {
	if b.State == state.BatchWaiting {
		return a.lookAt(ctx, at)
	}
	path, folder, err := openFolder(at)
	return &ownFolder{path: path, folder: folder}, err
}

// shown prints a batch, and ends with the code of its verdict.
func (a *app) shown(ctx context.Context, c *client.Client, b wire.Batch) error {
	if err := a.printBatch(ctx, c, b, "", ""); err != nil {
		return err
	}
	return verdictExit(b)
}

// placeOf says where the files of a batch are, for people.
func placeOf(b wire.Batch) string {
	if b.Depot != "" {
		return b.Depot + ":" + b.Path
	}
	return b.Source.Reference
}
