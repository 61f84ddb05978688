package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"endeixis/core/openpgp"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/fault"
	"endeixis/internal/wire"
)

// maxKeyFile bounds what is read of a key file, and maxKeyFiles how many files
// of a directory are.
const (
	maxKeyFile  = 128 << 20
	maxKeyFiles = 1000
)

func (a *app) keyringImport() *cobra.Command {
	var publisher string
	var preview bool
	cmd := &cobra.Command{
		Use:     "import FILE|DIRECTORY…",
		Short:   "Import publishers' keys as candidates",
		Args:    cobra.MinimumNArgs(1),
		Long:    "import reads key files, armored or binary, one key or many, standard input for “-”, or the\nfiles of a directory. What is new becomes a candidate: nothing counts by arriving. What is\nknown already is completed. --preview shows what would happen, and does nothing.",
		Example: "  endeixis keyring import brackwater-2027.asc --publisher brackwater\n  endeixis keyring import --preview keys/",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			files, inDirectory, err := keyFiles(args)
			if err != nil {
				return err
			}
			var all wire.Import
			for _, file := range files {
				result, err := a.importFile(cmd.Context(), c, file, publisher, preview)
				var problem *client.Error
				if inDirectory[file] && errors.As(err, &problem) && problem.Code == fault.NotAKey {
					a.note("%s was passed over: %s", plain.Text(file), problem.Detail)
					continue
				}
				if err != nil {
					return fmt.Errorf("%s: %w", plain.Text(file), err)
				}
				all.Keys, all.Notes, all.Packets = append(
					all.Keys,
					result.Keys...), append(
					all.Notes,
					result.Notes...), append(
					all.Packets,
					result.Packets...)
			}
			shown, err := withReaches(cmd.Context(), c, all)
			if err != nil {
				return err
			}
			if err := a.printImport(shown, preview); err != nil {
				return err
			}
			var runs []*int64
			for _, k := range all.Keys {
				runs = append(runs, k.Reassessment)
			}
			return a.tellRejudged(cmd.Context(), c, runs...)
		},
	}
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher they are said to belong to")
	cmd.Flags().BoolVar(&preview, "preview", false, "show what would happen, and import nothing")
	return cmd
}

// keyFiles lists the files that are meant, in the place of a directory those
// that lie in it.
func keyFiles(args []string) (files []string, inDirectory map[string]bool, err error) {
	inDirectory = map[string]bool{}
	for _, arg := range args {
		info, err := os.Stat(arg)
		if err != nil || !info.IsDir() {
			files = append(files, arg) // what is wrong is told when it is read
			continue
		}
		entries, err := os.ReadDir(arg)
		if err != nil {
			return nil, nil, err
		}
		for _, e := range entries {
			if e.Type().IsRegular() && !strings.HasPrefix(e.Name(), ".") {
				file := filepath.Join(arg, e.Name())
				files, inDirectory[file] = append(files, file), true
			}
		}
	}
	if len(files) > maxKeyFiles {
		return nil, nil, usage("there are %d files; at most %d are imported at once", len(files), maxKeyFiles)
	}
	return files, inDirectory, nil
}

func (a *app) importFile(
	ctx context.Context, c *client.Client, file, publisher string, preview bool,
) (wire.Import, error) {
	data, err := a.readFile(file, maxKeyFile, "key file")
	if err != nil {
		return wire.Import{}, err
	}
	source := file
	if file == "-" {
		source = "standard input"
	}
	progress := a.keysBar(source)
	defer progress.Finish() //nolint:errcheck // it is only shown
	told := func(p wire.ImportProgress) {
		progress.ChangeMax(p.Total)
		_ = progress.Set(p.Done)
	}
	if preview {
		return c.ReadKeyFile(ctx, data, told)
	}
	return c.LoadKeyFile(ctx, data, source, publisher, told)
}

// keysBar shows how many keys of a file have been gone through, on a terminal only.
func (a *app) keysBar(source string) *progressbar.ProgressBar {
	return a.barWith(
		true, 1, source, progressbar.OptionShowCount(), progressbar.OptionSetItsString("keys"),
		progressbar.OptionThrottle(100*time.Millisecond),
	)
}

// shownImport is an import with what the questions in it were answered.
type shownImport struct {
	Keys    []shownImported        `json:"keys"`
	Notes   []string               `json:"notes"`
	Packets []wire.ImportedPackets `json:"packets"`
}

type shownImported struct {
	wire.Imported
	Reach *wire.Reach `json:"reach,omitempty"`
}

// withReaches waits for what a preview asked about.
func withReaches(ctx context.Context, c *client.Client, all wire.Import) (shownImport, error) {
	out := shownImport{Keys: []shownImported{}, Notes: append([]string{}, all.Notes...), Packets: all.Packets}
	for _, k := range all.Keys {
		shown := shownImported{Imported: k}
		if k.Reach != nil {
			r, err := c.ReachAsked(ctx, *k.Reach)
			if err != nil {
				return out, err
			}
			shown.Reach = &r
		}
		out.Keys = append(out.Keys, shown)
	}
	return out, nil
}

// showPackets says what became of each packet that keys were read from, where not all of
// them count.
func (a *app) showPackets(packets []wire.ImportedPackets, keys int) {
	if !slices.ContainsFunc(packets, func(p wire.ImportedPackets) bool { return p.Became != openpgp.Counts }) {
		return
	}
	fmt.Fprintln(a.stdout, a.bold("What became of what was read"))
	for _, p := range foldedPackets(packets) {
		of := ""
		switch {
		case keys == 1:
		case p.Keys == 1:
			of = "; of " + plain.Grouped(p.Fingerprints[0])
		default:
			of = "; of " + plain.Count(p.Keys, "key")
		}
		words := standings[p.Became]
		a.hanging(
			"    • ", "      ",
			fmt.Sprintf("%s %s: %s%s", plain.Count(p.Packets, "packet"), words[min(p.Packets, 2)-1], p.Why, of),
		)
	}
}

// standings say what became of one packet, and of several.
var standings = map[openpgp.Standing][2]string{
	openpgp.Counts:  {"counts", "count"},
	openpgp.Idle:    {"is kept and counts for nothing", "are kept and count for nothing"},
	openpgp.Dropped: {"is dropped", "are dropped"},
}

// foldedPackets puts together what several files say alike.
func foldedPackets(packets []wire.ImportedPackets) []wire.ImportedPackets {
	var out []wire.ImportedPackets
	for _, p := range packets {
		i := slices.IndexFunc(out, func(o wire.ImportedPackets) bool { return o.Became == p.Became && o.Why == p.Why })
		if i < 0 {
			out = append(out, p)
			continue
		}
		out[i].Packets, out[i].Keys = out[i].Packets+p.Packets, out[i].Keys+p.Keys
	}
	return out
}

func (a *app) printImport(all shownImport, preview bool) error {
	g := &grid{header: []string{"result", "fingerprint", "user ID", "what is new"}, empty: "There was no key in it."}
	for _, k := range all.Keys {
		g.add(string(k.Result), plain.Grouped(k.Fingerprint), first(k.UserIDs), strings.Join(k.Changes, " "))
	}
	for _, n := range all.Notes {
		a.note("%s", n)
	}
	return a.print(all, g, func() {
		for _, k := range all.Keys {
			about := []string{k.Algorithm, "made " + k.Created.Format("2006-01-02")}
			if k.Subkeys > 0 {
				about = append(about, plain.Count(k.Subkeys, "subkey"))
			}
			if k.Expires != nil {
				about = append(about, "until "+k.Expires.Format("2006-01-02"))
			}
			if k.Revoked != nil {
				about = append(
					about, fmt.Sprintf("revoked %s (%s)", k.Revoked.At.Format("2006-01-02"), k.Revoked.Reason),
				)
			}
			if k.Result != "new" {
				about = append(about, string(k.State))
			}
			fmt.Fprintf(
				a.stdout, "%s  %s  %s\n    %s\n", a.bold(fmt.Sprintf("%-9s", k.Result)),
				plain.Text(calledBy(k.UserIDs)), a.faint(strings.Join(about, ", ")), plain.Grouped(k.Fingerprint),
			)
			for _, change := range k.Changes {
				a.hanging("    • ", "      ", change)
			}
			if k.Reach != nil && k.Reach.Rests > 0 {
				a.showReach(*k.Reach, "were imported")
			}
		}
		a.showPackets(all.Packets, len(all.Keys))
		if preview {
			a.note("Nothing was imported. Without --preview it will be.")
			return
		}
		for _, k := range all.Keys {
			if k.Result == "new" {
				a.note(
					"What is new is a candidate and does not count yet. Read its fingerprint on independent channels, note each with\n“endeixis keyring sight %s …”, and have a curator admit it.",
					k.Fingerprint,
				)
				return
			}
		}
	})
}
