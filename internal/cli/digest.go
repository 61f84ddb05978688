package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/plain"
)

// parseAlgorithms reads a list of algorithm labels.
func parseAlgorithms(labels []string) ([]digest.Algorithm, error) {
	var out []digest.Algorithm
	for _, label := range labels {
		a, err := digest.Parse(strings.TrimSpace(label))
		if err != nil {
			return nil, usage("%w", err)
		}
		out = append(out, a)
	}
	return out, nil
}

// computed is what digest shows of one file.
type computed struct {
	Name    string                            `json:"name"`
	Size    int64                             `json:"size"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
}

func (a *app) digestCommand() *cobra.Command {
	var labels []string
	cmd := &cobra.Command{
		Use:     "digest FILE…",
		Short:   "Compute digests of files; works without a service",
		Args:    cobra.MinimumNArgs(1),
		Long:    "digest reads each file once and computes all the algorithms asked for together. “-” is\nstandard input.",
		Example: "  endeixis digest gauge-fw-4.2-main.img --algorithm sha-256,sha3-512,crc-32",
		RunE: func(cmd *cobra.Command, args []string) error {
			algorithms, err := parseAlgorithms(labels)
			if err != nil {
				return err
			}
			all := []computed{}
			g := &grid{header: []string{"algorithm", "digest", "file"}}
			failed := error(nil)
			for _, name := range args {
				c, err := a.compute(cmd.Context(), name, algorithms)
				if cmd.Context().Err() != nil {
					return err
				}
				if err != nil { // the others are answered all the same
					failed = errors.Join(failed, err)
					continue
				}
				all = append(all, c)
				for _, algorithm := range algorithms {
					g.add(algorithm.String(), c.Digests[algorithm].String(), c.Name)
				}
			}
			if len(all) > 0 || failed == nil {
				failed = errors.Join(a.print(all, g, nil), failed)
			}
			return failed
		},
	}
	cmd.Flags().StringSliceVar(&labels, "algorithm", []string{"sha-256"}, "algorithms, separated by commas")
	return cmd
}

// compute reads one file, or standard input for “-”.
func (a *app) compute(ctx context.Context, name string, algorithms []digest.Algorithm) (computed, error) {
	in, total := a.stdin, int64(-1)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return computed{}, err
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil {
			return computed{}, err
		}
		if info.IsDir() {
			return computed{}, fmt.Errorf(
				"%s is a folder; give files, or make a manifest of it with “endeixis manifest make”", name,
			)
		}
		in, total = f, info.Size()
	}
	bar := a.bar(total, name)
	set := digest.NewSet(algorithms)
	size, err := digest.Pump(
		//nolint:errcheck // only for the eye
		ctx, in, set.Writers(), func(n int64) { bar.Set64(n) },
	)
	bar.Clear() //nolint:errcheck // the bar is for the eye only
	return computed{Name: name, Size: size, Digests: set.Sums()}, err
}

// bar returns a progress bar for long reading, which shows on a terminal only.
func (a *app) bar(total int64, what string) *progressbar.ProgressBar {
	return a.barWith(
		total < 0 || total > 64<<20, total, what, progressbar.OptionShowBytes(true),
		progressbar.OptionUseIECUnits(true),
	)
}

// barWith returns a progress bar with more options, if it is worth to be shown.
func (a *app) barWith(worth bool, total int64, what string, more ...progressbar.Option) *progressbar.ProgressBar {
	w := io.Discard
	if a.progress && worth {
		w = a.stderr
	}
	return progressbar.NewOptions64(
		total,
		append(
			more, progressbar.OptionSetWriter(w), progressbar.OptionSetDescription(plain.Text(filepath.Base(what))),
			progressbar.OptionSetPredictTime(true),
			progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(30),
		)...)
}
