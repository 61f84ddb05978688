package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/directories"
	"endeixis/internal/wire"
)

func (a *app) keyringLookup() *cobra.Command {
	var take, publisher string
	var all, known bool
	cmd := &cobra.Command{
		Use:     "lookup FINGERPRINT|KEY-ID|ADDRESS",
		Short:   "Ask the configured key directories",
		Args:    cobra.ArbitraryArgs,
		Long:    "lookup asks every configured key directory, tells what each said, and compares: anybody can\nput a key with any name into a directory. It keeps nothing. --take imports one of the keys\nthat were found, as a candidate.\n\n--all asks about all keys of the keyring, and --known about those that are named by their\nfingerprints, and adds what is new: a later expiry, subkeys, a revocation. Nothing known is\ndropped.",
		Example: "  endeixis keyring lookup sign@brackwater.example\n  endeixis keyring lookup sign@brackwater.example --take 4A0600D4… --publisher brackwater\n  endeixis keyring lookup --all",
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case all && (len(args) > 0 || known):
				return usage("--all is about every key of the keyring; name none with it")
			case !all && len(args) == 0:
				return usage("say which key: a fingerprint, a key ID, an address, or --all")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if all || known {
				return a.lookUpKnown(cmd.Context(), c, args)
			}
			query := strings.Join(args, " ")
			if take != "" {
				imported, err := c.ImportFoundKey(cmd.Context(), query, take, publisher)
				if err != nil {
					return err
				}
				return a.printImport(
					shownImport{
						Keys: []shownImported{{Imported: imported}}, Notes: []string{},
						Packets: []wire.ImportedPackets{},
					},
					false,
				)
			}
			l, err := c.LookUpKeys(cmd.Context(), query)
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"fingerprint", "user ID", "result", "directories"},
				empty:  "No directory has such a key.",
			}
			for _, k := range l.Keys {
				g.add(
					plain.Grouped(k.Fingerprint), first(k.UserIDs), string(k.Result), strings.Join(k.Directories, " "),
				)
			}
			return a.print(l, g, func() { a.showLookUp(l) })
		},
	}
	cmd.Flags().StringVar(&take, "take", "", "import the key with this full fingerprint")
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher it is said to belong to")
	cmd.Flags().BoolVar(&all, "all", false, "look all keys of the keyring up again, and add what is new")
	cmd.Flags().BoolVar(&known, "known", false, "look the named keys of the keyring up again, and add what is new")
	cmd.MarkFlagsMutuallyExclusive("take", "all")
	cmd.MarkFlagsMutuallyExclusive("take", "known")
	return cmd
}

func (a *app) showLookUp(l wire.LookUp) {
	a.showAnswers(l.Answers)
	for _, n := range l.Notes {
		fmt.Fprintln(a.stdout)
		a.wrapped("", n)
	}
	if len(l.Keys) == 0 {
		fmt.Fprintln(a.stdout, "\nNo directory has such a key.")
	}
	for _, k := range l.Keys {
		standing := "not in the keyring"
		if k.Result != "new" {
			standing = string(k.State + " here")
		}
		fmt.Fprintf(
			a.stdout, "\n%s  %s\n    %s\n    at %s\n", a.bold(plain.Text(calledBy(k.UserIDs))),
			a.faint(fmt.Sprintf("%s, made %s; %s", k.Algorithm, k.Created.Format("2006-01-02"), standing)),
			plain.Grouped(k.Fingerprint), strings.Join(k.Directories, ", "),
		)
		for _, change := range k.Changes {
			a.hanging("    • ", "      ", change)
		}
	}
}

func (a *app) showAnswers(answers []wire.DirectoryAnswer) {
	for _, d := range answers {
		said := strings.ReplaceAll(string(d.Outcome), "-", " ")
		if d.Outcome == "found" {
			said = fmt.Sprintf("found %d", len(d.Fingerprints))
		}
		if d.Detail != "" {
			said += ": " + d.Detail
		}
		fmt.Fprintf(a.stdout, "%s %s\n", a.faint(fmt.Sprintf("%-16s", d.Directory)), plain.Text(said))
	}
}

// lookUpKnown looks keys of the keyring up again, all of them when none is named.
func (a *app) lookUpKnown(ctx context.Context, c *client.Client, fingerprints []string) error {
	done, err := c.LookUpKnown(ctx, fingerprints)
	if err != nil {
		return err
	}
	g := &grid{
		header: []string{"result", "fingerprint", "user ID", "what is new", "trouble"}, empty: "The keyring is empty.",
	}
	for _, r := range done {
		var trouble []string
		for _, d := range r.Answers {
			if d.Outcome == directories.Failed || d.Outcome == directories.Other {
				trouble = append(trouble, d.Directory)
			}
		}
		g.add(
			string(r.Result), plain.Grouped(r.Fingerprint), first(r.UserIDs), strings.Join(r.Changes, " "),
			strings.Join(trouble, " "),
		)
	}
	return a.print(done, g, func() { a.showLookedUp(done) })
}

func (a *app) showLookedUp(done []wire.LookedUp) {
	news, failed := 0, map[string]string{}
	var order []string
	for _, r := range done {
		for _, d := range r.Answers {
			if (d.Outcome == directories.Failed || d.Outcome == directories.Other) && failed[d.Directory] == "" {
				failed[d.Directory] = d.Detail
				order = append(order, d.Directory)
			}
		}
		if r.Result != "updated" {
			continue
		}
		news++
		fmt.Fprintf(
			a.stdout, "%s  %s\n    %s\n", a.bold(plain.Text(first(r.UserIDs))), a.faint(string(r.State)),
			plain.Grouped(r.Fingerprint),
		)
		for _, change := range r.Changes {
			a.hanging("    • ", "      ", change)
		}
	}
	found := "there was nothing new"
	if news > 0 {
		found = fmt.Sprintf("about %d there was something new", news)
	}
	fmt.Fprintf(a.stdout, "%s looked up; %s.\n", capital(plain.Count(len(done), "key")), found)
	for _, name := range order {
		a.note("The directory %s was of no use: %s.", name, failed[name])
	}
}
