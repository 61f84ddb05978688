package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/survey"
)

func (a *app) manifestCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "manifest", Short: "Read, make and compare manifests; works without a service"}
	cmd.AddCommand(a.manifestShow(), a.manifestMake(), a.manifestCompare())
	return cmd
}

// readManifest reads a manifest from a file or standard input. A bound that
// was reached is told and not an error: what was read before it counts.
func (a *app) readManifest(name string, names *manifest.Names) (*manifest.Manifest, error) {
	m, err := a.readList(name, names)
	var limit *manifest.LimitError
	if errors.As(err, &limit) {
		a.note("%s: %v", name, err)
		err = nil
	}
	return m, err
}

// readList reads a manifest from a file or standard input, to its end.
func (a *app) readList(name string, names *manifest.Names) (*manifest.Manifest, error) {
	in, base := a.stdin, ""
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in, base = f, filepath.Base(name)
	}
	return survey.ReadList(in, manifest.Options{FileName: base, Beside: names})
}

func (a *app) manifestShow() *cobra.Command {
	var folder string
	cmd := &cobra.Command{
		Use:     "show FILE",
		Short:   "Show what is understood of a manifest, and what is not",
		Args:    cobra.ExactArgs(1),
		Long:    "show reads a manifest of any format from a file, or from standard input for “-”, where it\ncan also be pasted. Where the algorithm is not stated, all that it can be are shown. What looks\nlike a digest and was used for nothing is told, and why.",
		Example: "  endeixis manifest show SHA256SUMS\n  endeixis manifest show - < letter.txt\n  endeixis manifest show letter.txt --beside downloads/",
		RunE: func(_ *cobra.Command, args []string) error {
			names, err := namesBeside(folder)
			if err != nil {
				return err
			}
			m, err := a.readManifest(args[0], names)
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"line", "algorithm", "digest", "size", "file"},
				empty:  "Nothing in it is understood as a digest of a file.",
			}
			for _, e := range m.Entries.All() {
				var names []string
				for _, c := range e.Candidates() {
					names = append(names, c.String())
				}
				bytes, name := "", e.Name
				if e.Size != nil {
					bytes = strconv.FormatInt(*e.Size, 10)
				}
				if e.Guessed.Has(manifest.SizePart) {
					bytes += " by a guess"
				}
				if name == "" {
					name = "(not stated)"
				}
				g.add(strconv.Itoa(e.Line), strings.Join(names, " or "), e.Digest.String(), bytes, name)
			}
			return a.print(m, g, func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.bold("Format"), m.Format)
				if m.Format == manifest.FreeText {
					a.wrapped(
						"",
						"These digests were found in prose: each is tied to the file name and the algorithm that stand nearest. Check that they belong together.",
					)
				}
				fmt.Fprintln(a.stdout)
				a.showEntries(m, g)
				for _, c := range m.Disagreements {
					a.hanging("! ", "  ", fmt.Sprintf("line %d: %s", c.Line, c.Message))
				}
				for _, p := range m.Problems {
					a.hanging("! ", "  ", p.String())
				}
				if m.MoreProblems > 0 {
					fmt.Fprintf(a.stdout, "! and %d more\n", m.MoreProblems)
				}
				a.showLeftAside(m)
			})
		},
	}
	cmd.Flags().StringVar(&folder, "beside", "", "a folder whose files' names are looked for in the text")
	return cmd
}

// namesBeside returns the names of the files of a folder, or nil for none.
func namesBeside(dir string) (*manifest.Names, error) {
	if dir == "" {
		return nil, nil //nolint:nilnil // no folder was named
	}
	var names []string
	err := filepath.WalkDir(dir, func(p string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		name, err := filepath.Rel(dir, p)
		names = append(names, filepath.ToSlash(name))
		return err
	})
	return manifest.NewNames(names), err
}

// showLeftAside tells what has the form of a digest and was used for nothing. Equal
// reasons are told once.
func (a *app) showLeftAside(m *manifest.Manifest) {
	if len(m.LeftAside) == 0 {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Left aside"))
	var reasons []string
	lines := map[string][]string{}
	for _, s := range m.LeftAside {
		if lines[s.Why] == nil {
			reasons = append(reasons, s.Why)
		}
		lines[s.Why] = append(lines[s.Why], fmt.Sprintf("line %d: %s", s.Line, plain.Text(s.Text)))
	}
	for _, why := range reasons {
		a.hanging("– ", "  ", plain.Text(why)+":")
		for _, line := range lines[why][:min(len(lines[why]), maxAlike)] {
			fmt.Fprintln(a.stdout, "    "+a.faint(line))
		}
		if more := len(lines[why]) - maxAlike; more > 0 {
			fmt.Fprintf(a.stdout, "    and %d more\n", more)
		}
	}
	if m.MoreLeftAside > 0 {
		fmt.Fprintf(a.stdout, "– and %d more\n", m.MoreLeftAside)
	}
}

// maxAlike bounds the parts that are shown for one reason.
const maxAlike = 5

// showEntries lists entries one under the other: digests are too long for
// columns.
func (a *app) showEntries(m *manifest.Manifest, g *grid) {
	if m.Entries.Len() == 0 {
		fmt.Fprintln(a.stdout, g.empty)
		return
	}
	for i, e := range m.Entries.All() {
		row := g.rows[i]
		length := ""
		if row[3] != "" {
			length = ", " + row[3] + " bytes"
		}
		fmt.Fprintf(
			a.stdout, "%s  %s\n", a.bold(plain.Text(row[4])),
			a.faint(fmt.Sprintf("line %d, %s%s", e.Line, row[1], length)),
		)
		a.wrapped("    ", plain.Grouped(row[2]))
		if e.Pieces != nil {
			fmt.Fprintln(
				a.stdout,
				a.faint(
					fmt.Sprintf(
						"    and %d pieces of %s by %s", len(e.Pieces.Digests), size(e.Pieces.Length),
						e.Pieces.Algorithm,
					),
				),
			)
		}
	}
}

func (a *app) manifestMake() *cobra.Command {
	var format, file string
	var labels []string
	var pieces int64
	cmd := &cobra.Command{
		Use:   "make FOLDER",
		Short: "Make a manifest of a folder for the next person",
		Args:  cobra.ExactArgs(1),
		Long:  "make reads every file below the folder once and lists its digests, sorted by name. Links\nand special files are left out and told. An existing file is never overwritten.",
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
				return usage(
					"lines that start with a digest can hold one algorithm only; use --format tagged or metalink-4",
				)
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
func (a *app) listFolder(
	ctx context.Context, dir, leaveOut string, algorithms []digest.Algorithm, pieceLength int64,
) ([]manifest.File, error) {
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
		n, err := digest.Pump(
			//nolint:errcheck // the bar is for the eye only
			ctx, f, writers, func(n int64) { bar.Set64(done + n) },
		)
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

// maxVersionList bounds a plain list of versions.
const maxVersionList = 64 << 20
