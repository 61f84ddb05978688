package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/manifest"
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
		Use: "digest FILE…", Short: "Compute digests of files; works without a service", Args: cobra.MinimumNArgs(1),
		Long:    "digest reads each file once and computes all the algorithms asked for together. “-” is\nstandard input.",
		Example: "  endeixis digest gauge-fw-4.2-main.img --algorithm sha-256,sha3-512,crc-32",
		RunE: func(cmd *cobra.Command, args []string) error {
			algorithms, err := parseAlgorithms(labels)
			if err != nil {
				return err
			}
			all := []computed{}
			g := &grid{header: []string{"algorithm", "digest", "file"}}
			for _, name := range args {
				c, err := a.compute(cmd.Context(), name, algorithms)
				if err != nil {
					return err
				}
				all = append(all, c)
				for _, algorithm := range algorithms {
					g.add(algorithm.String(), c.Digests[algorithm].String(), c.Name)
				}
			}
			return a.print(all, g, nil)
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
			return computed{}, fmt.Errorf("%s is a folder; give files, or make a manifest of it with “endeixis manifest make”", name)
		}
		in, total = f, info.Size()
	}
	bar := a.bar(total, name)
	set := digest.NewSet(algorithms)
	size, err := digest.Pump(ctx, in, set.Writers(), func(n int64) { bar.Set64(n) }) //nolint:errcheck // only for the eye
	bar.Clear()                                                                      //nolint:errcheck
	return computed{Name: name, Size: size, Digests: set.Sums()}, err
}

// bar returns a progress bar for long reading, which shows on a terminal only.
func (a *app) bar(total int64, what string) *progressbar.ProgressBar {
	var w io.Writer = io.Discard
	if a.progress && (total < 0 || total > 64<<20) {
		w = a.stderr
	}
	return progressbar.NewOptions64(total, progressbar.OptionSetWriter(w), progressbar.OptionShowBytes(true), progressbar.OptionUseIECUnits(true),
		progressbar.OptionSetDescription(plain.Text(filepath.Base(what))), progressbar.OptionSetPredictTime(true), progressbar.OptionClearOnFinish(), progressbar.OptionSetWidth(30))
}

func (a *app) manifestCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "manifest", Short: "Read, make and compare manifests; works without a service"}
	cmd.AddCommand(a.manifestShow(), a.manifestMake(), a.manifestCompare())
	return cmd
}

// readManifest reads a manifest from a file or standard input. A bound that
// was reached is told and not an error: what was read before it counts.
func (a *app) readManifest(name string) (*manifest.Manifest, error) {
	in, base := a.stdin, ""
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in, base = f, filepath.Base(name)
	}
	m, err := manifest.Read(in, manifest.Options{FileName: base})
	var limit *manifest.LimitError
	if errors.As(err, &limit) {
		a.note("%s: %v", name, err)
		err = nil
	}
	return m, err
}

func (a *app) manifestShow() *cobra.Command {
	return &cobra.Command{
		Use: "show FILE", Short: "Show what is understood of a manifest, and what is not", Args: cobra.ExactArgs(1),
		Long:    "show reads a manifest of any format from a file, or from standard input for “-”, where it\ncan also be pasted. Where the algorithm is not stated, all that it can be are shown.",
		Example: "  endeixis manifest show SHA256SUMS\n  endeixis manifest show - < letter.txt",
		RunE: func(_ *cobra.Command, args []string) error {
			m, err := a.readManifest(args[0])
			if err != nil {
				return err
			}
			g := &grid{header: []string{"line", "algorithm", "digest", "size", "file"}, empty: "Nothing in it is understood as a digest of a file."}
			for _, e := range m.Entries {
				var names []string
				for _, c := range e.Candidates {
					names = append(names, c.String())
				}
				bytes, name := "", e.Name
				if e.Size != nil {
					bytes = strconv.FormatInt(*e.Size, 10)
				}
				if name == "" {
					name = "(not stated)"
				}
				g.add(strconv.Itoa(e.Line), strings.Join(names, " or "), e.Digest.String(), bytes, name)
			}
			return a.print(m, g, func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.bold("Format"), m.Format)
				if m.Format == manifest.FreeText {
					a.wrapped("", "These digests were found in prose: each is tied to the file name and the algorithm that stand nearest. Check that they belong together.")
				}
				fmt.Fprintln(a.stdout)
				a.showEntries(m, g)
				for _, p := range m.Problems {
					a.hanging("! ", "  ", p.String())
				}
				if m.MoreProblems > 0 {
					fmt.Fprintf(a.stdout, "! and %d more\n", m.MoreProblems)
				}
			})
		},
	}
}

// showEntries lists entries one under the other: digests are too long for
// columns.
func (a *app) showEntries(m *manifest.Manifest, g *grid) {
	if len(m.Entries) == 0 {
		fmt.Fprintln(a.stdout, g.empty)
		return
	}
	for i, e := range m.Entries {
		row := g.rows[i]
		length := ""
		if row[3] != "" {
			length = ", " + row[3] + " bytes"
		}
		fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(plain.Text(row[4])), a.faint(fmt.Sprintf("line %d, %s%s", e.Line, row[1], length)))
		a.wrapped("    ", plain.Grouped(row[2]))
		if e.Pieces != nil {
			fmt.Fprintln(a.stdout, a.faint(fmt.Sprintf("    and %d pieces of %s by %s", len(e.Pieces.Digests), size(e.Pieces.Length), e.Pieces.Algorithm)))
		}
	}
}

func (a *app) manifestMake() *cobra.Command {
	var format, file string
	var labels []string
	var pieces int64
	cmd := &cobra.Command{
		Use: "make FOLDER", Short: "Make a manifest of a folder for the next person", Args: cobra.ExactArgs(1),
		Long: "make reads every file below the folder once and lists its digests, sorted by name. Links\nand special files are left out and told. An existing file is never overwritten.",
		Example: "  endeixis manifest make release/ --file release/SHA256SUMS\n" +
			"  endeixis manifest make release/ --format metalink-4 --algorithm sha-256,sha-512 --file release.meta4",
		RunE: func(cmd *cobra.Command, args []string) error {
			algorithms, err := parseAlgorithms(labels)
			if err != nil {
				return err
			}
			f := manifest.Format(format)
			switch f {
			case manifest.DigestFirst, manifest.Tagged, manifest.Metalink:
			default:
				return usage("--format %q: use digest-first, tagged or metalink-4", format)
			}
			if f == manifest.DigestFirst && len(algorithms) > 1 {
				return usage("lines that start with a digest can hold one algorithm only; use --format tagged or metalink-4")
			}
			if f != manifest.Metalink {
				pieces = 0
			}
			if file != "" {
				if _, err := os.Lstat(file); err == nil {
					return fmt.Errorf("%s is there already and was not overwritten; choose another name", file)
				}
			}
			listed, err := a.listFolder(cmd.Context(), args[0], file, algorithms, pieces)
			if err != nil {
				return err
			}
			if len(listed) == 0 {
				return fmt.Errorf("%s holds no file", args[0])
			}
			var text bytes.Buffer
			if err := manifest.Write(&text, f, listed); err != nil {
				return err
			}
			if file == "" {
				_, err = a.stdout.Write(text.Bytes())
				return err
			}
			if err := writeNew(file, text.Bytes()); err != nil {
				return err
			}
			a.note("%d files are listed in %s.", len(listed), file)
			return nil
		},
	}
	cmd.Flags().StringVar(&format, "format", string(manifest.DigestFirst), "digest-first, tagged or metalink-4")
	cmd.Flags().StringVar(&file, "file", "", "write to this new file instead of standard output")
	cmd.Flags().StringSliceVar(&labels, "algorithm", []string{"sha-256"}, "algorithms, separated by commas")
	cmd.Flags().Int64Var(&pieces, "piece-length", 1<<20, "length of the pieces in Metalink, in bytes; 0 for none")
	return cmd
}

// writeNew writes a file that must not be there yet.
func writeNew(name string, content []byte) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already and was not overwritten; choose another name", name)
	}
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Close())
}

// listFolder measures every file below a folder, but the one that the manifest
// will be.
func (a *app) listFolder(ctx context.Context, dir, leaveOut string, algorithms []digest.Algorithm, pieceLength int64) ([]manifest.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	fsys := root.FS()
	var names []string
	total := int64(0)
	skip, err := filepath.Abs(leaveOut)
	if err != nil {
		return nil, err
	}
	if err := fs.WalkDir(fsys, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		here, err := filepath.Abs(filepath.Join(dir, filepath.FromSlash(name)))
		if err != nil || e.IsDir() || leaveOut != "" && here == skip {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			a.note("%s is left out: it is not a regular file.", plain.Text(name))
			return nil
		}
		names = append(names, name)
		total += info.Size()
		return nil
	}); err != nil {
		return nil, err
	}
	bar := a.bar(total, dir)
	defer bar.Clear() //nolint:errcheck // only for the eye
	var out []manifest.File
	done := int64(0)
	for _, name := range names {
		f, err := fsys.Open(name)
		if err != nil {
			return nil, err
		}
		set := digest.NewSet(algorithms)
		writers := set.Writers()
		var parts *manifest.PieceHasher
		if pieceLength > 0 {
			parts = manifest.NewPieceHasher(digest.SHA256, pieceLength)
			writers = append(writers, parts)
		}
		n, err := digest.Pump(ctx, f, writers, func(n int64) { bar.Set64(done + n) }) //nolint:errcheck
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		done += n
		file := manifest.File{Name: name, Size: n, Digests: set.Sums()}
		if parts != nil && n > 0 {
			pieces := parts.Pieces()
			file.Pieces = &pieces
		}
		out = append(out, file)
	}
	return out, nil
}

func (a *app) manifestCompare() *cobra.Command {
	var batches, versions bool
	cmd := &cobra.Command{
		Use: "compare BEFORE AFTER", Short: "Compare two manifests, two batches, or two lists of versions", Args: cobra.ExactArgs(2),
		Long:    "compare tells what came, went, changed, was renamed and stayed. With --batches the\narguments are numbers of batches, and their artifacts' digests are compared; with\n--versions they are plain lists of names and versions, such as a release's packages.",
		Example: "  endeixis manifest compare chart-2026-10/SHA256SUMS chart-2026-11/SHA256SUMS\n  endeixis manifest compare --batches 12 19",
		RunE: func(cmd *cobra.Command, args []string) error {
			if batches && versions {
				return usage("--batches and --versions exclude each other")
			}
			changes, err := a.compareSides(cmd.Context(), args, batches, versions)
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
					case "changed":
						fmt.Fprintf(a.stdout, "%-12s  %s\n", c.Kind, plain.Text(c.Name))
						fmt.Fprintf(a.stdout, "    before  %s\n    after   %s\n", plain.Text(c.Before), plain.Text(c.After))
					default:
						fmt.Fprintf(a.stdout, "%-12s  %s %s\n", c.Kind, plain.Text(c.Name), plain.Text(c.Before+c.After))
					}
				}
				fmt.Fprintln(a.stdout, a.faint(fmt.Sprintf("%d added, %d removed, %d changed, %d renamed, %d unchanged, %d without a digest of one algorithm on both sides",
					counts["added"], counts["removed"], counts["changed"], counts["renamed"], counts["unchanged"], counts["incomparable"])))
			})
		},
	}
	cmd.Flags().BoolVar(&batches, "batches", false, "compare the artifacts of two batches")
	cmd.Flags().BoolVar(&versions, "versions", false, "compare two plain lists of names and versions")
	return cmd
}

// maxVersionList bounds a plain list of versions.
const maxVersionList = 64 << 20

func (a *app) compareSides(ctx context.Context, args []string, batches, versions bool) ([]manifest.Change, error) {
	if versions {
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
	var sides [2][]manifest.Entry
	for i, arg := range args {
		var err error
		if batches {
			sides[i], err = a.batchEntries(ctx, arg)
		} else {
			var m *manifest.Manifest
			if m, err = a.readManifest(arg); err == nil {
				sides[i] = m.Entries
				if len(m.Entries) == 0 {
					err = fmt.Errorf("nothing in %s is understood as a digest of a file; “endeixis manifest show” tells more", arg)
				}
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return manifest.Compare(sides[0], sides[1]), nil
}

// batchEntries returns the digests of a batch's artifacts as entries.
func (a *app) batchEntries(ctx context.Context, arg string) ([]manifest.Entry, error) {
	id, err := number(arg, "a batch's number")
	if err != nil {
		return nil, err
	}
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	if _, err := c.Batch(ctx, id); err != nil {
		return nil, err
	}
	items, err := c.Items(ctx, id)
	if err != nil {
		return nil, err
	}
	var out []manifest.Entry
	for _, item := range items {
		for label, text := range item.Digests {
			algorithm, err := digest.Parse(label)
			var value digest.Value
			if item.Role != "artifact" || err != nil || value.UnmarshalText([]byte(text)) != nil {
				continue
			}
			out = append(out, manifest.Entry{Name: item.Path, Algorithm: algorithm, Candidates: digest.Only(algorithm), Digest: value})
		}
	}
	return out, nil
}
