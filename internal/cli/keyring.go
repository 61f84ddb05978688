package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

func (a *app) keyringCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "keyring", Short: "Keep the publishers' keys"}
	cmd.AddCommand(a.keyringInspect(), a.keyringImport(), a.keyringList(), a.keyringShow(), a.keyringSight(), a.keyringAdmit())
	return cmd
}

// maxKeyFile bounds what is read of a key file.
const maxKeyFile = 16 << 20

func (a *app) keyringImport() *cobra.Command {
	var publisher string
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Import a publisher's key as a candidate", Args: cobra.ExactArgs(1),
		Long:    "import reads a key file, armored or binary, or standard input for “-”. What is new\nbecomes a candidate: nothing counts by arriving. What is known already is completed.",
		Example: "  endeixis keyring import brackwater-2027.asc --publisher brackwater",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			source := args[0]
			if source == "-" {
				source = "standard input"
			}
			data, err := a.readFile(args[0], maxKeyFile, "key file")
			if err != nil {
				return err
			}
			result, err := c.ImportKeys(cmd.Context(), data, source, publisher)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"result", "fingerprint"}}
			for _, k := range result.Keys {
				g.add(k.Result, plain.Grouped(k.Fingerprint))
			}
			for _, n := range result.Notes {
				a.note("%s", n)
			}
			return a.print(result, g, func() {
				a.draw(g)
				for _, k := range result.Keys {
					if k.Result == "new" {
						a.note("It is a candidate and does not count yet. Read its fingerprint on independent channels, note each with\n“endeixis keyring sight %s …”, and have a curator admit it.", k.Fingerprint)
						return
					}
				}
			})
		},
	}
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher it is said to belong to")
	return cmd
}

func (a *app) keyringList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the keyring", Args: cobra.NoArgs, Example: "  endeixis keyring list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			keys, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			g := &grid{header: []string{"state", "publisher", "fingerprint", "facts", "user ID"}, empty: "The keyring is empty. Import a publisher's key with “endeixis keyring import FILE”."}
			for _, k := range keys {
				g.add(k.State, k.Publisher, k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
			}
			return a.print(keys, g, func() { a.showKeys(keys, g) })
		},
	}
}

// showKeys lists keys in two lines each: the fingerprint of a version 6 key
// leaves no room for anything beside it.
func (a *app) showKeys(keys []wire.Key, g *grid) {
	if len(keys) == 0 {
		fmt.Fprintln(a.stdout, g.empty)
	}
	for _, k := range keys {
		about := k.Publisher
		if f := facts(k); f != "" {
			about += ", " + f
		}
		fmt.Fprintf(a.stdout, "%s  %s  %s\n", a.paint(k.State), a.bold(plain.Text(strings.Join(first(k.UserIDs, 1), ""))), a.faint(strings.TrimPrefix(about, ", ")))
		fmt.Fprintf(a.stdout, "    %s\n", k.Grouped)
	}
}

func first(list []string, n int) []string { return list[:min(n, len(list))] }

// facts are what a key's owner or the calendar says about it.
func facts(k wire.Key) string {
	var out []string
	if k.Conflict {
		out = append(out, "conflict")
	}
	if k.Revoked != nil {
		out = append(out, "revoked "+k.Revoked.At.Format("2006-01-02"))
	}
	switch {
	case k.Expired:
		out = append(out, "expired "+k.Expires.Format("2006-01-02"))
	case k.Expires != nil:
		out = append(out, "expires "+k.Expires.Format("2006-01-02"))
	}
	return strings.Join(out, ", ")
}

func (a *app) keyringShow() *cobra.Command {
	return &cobra.Command{
		Use: "show FINGERPRINT", Short: "Show a key and the decisions about it", Args: cobra.MinimumNArgs(1),
		Example: "  endeixis keyring show 'C959 BDBA FA32 A2F8 9A15 3B67 8CFD E121 9796 5A9A'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			k, err := c.Key(cmd.Context(), strings.Join(args, " "))
			if err != nil {
				return err
			}
			return a.printKey(k)
		},
	}
}

func (a *app) printKey(k wire.Key) error {
	g := &grid{header: []string{"state", "publisher", "fingerprint", "facts", "user ID"}}
	g.add(k.State, k.Publisher, k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
	return a.print(k, g, func() { a.showKey(k) })
}

func (a *app) showKey(k wire.Key) {
	fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(k.Grouped), a.paint(k.State))
	line := func(label, value string) {
		if value != "" {
			fmt.Fprintf(a.stdout, "%s  %s\n", a.faint(fmt.Sprintf("%-10s", label)), plain.Text(value))
		}
	}
	for _, id := range k.UserIDs {
		line("user ID", id)
	}
	line("publisher", k.Publisher)
	line("key", fmt.Sprintf("%s, made %s, may %s", k.Algorithm, k.Created.Format("2006-01-02"), strings.Join(k.Uses, " and ")))
	for _, s := range k.Subkeys {
		line("subkey", fmt.Sprintf("%s, made %s, may %s", s.Algorithm, s.Created.Format("2006-01-02"), strings.Join(s.Uses, " and ")))
	}
	line("facts", facts(k))
	if k.Revoked != nil {
		line("", fmt.Sprintf("revoked by its owner: %s. %s", k.Revoked.Reason, k.Revoked.Text))
	}
	line("imported", fmt.Sprintf("%s by %s, from %s", moment(k.Imported), k.ImportedBy, k.Source))
	if len(k.Sightings) > 0 {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold(fmt.Sprintf("Sightings (%d of %d channels agree)", k.ChannelsSeen, k.ChannelsAsked)))
		for _, s := range k.Sightings {
			word := "agrees"
			if !s.Agrees {
				word = "conflict"
			}
			fmt.Fprintf(a.stdout, "  %s  %s: %s, %s by %s\n", a.paint(word), s.Channel, plain.Text(s.Place), moment(s.At), s.By)
			if !s.Agrees {
				a.compared("    ", k.Fingerprint, strings.ReplaceAll(s.Read, " ", ""))
			}
			if s.Note != "" {
				a.wrapped("    ", s.Note)
			}
		}
	}
	if len(k.History) > 0 {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Decisions"))
		for _, h := range k.History {
			fmt.Fprintf(a.stdout, "  %s  %s by %s (record %d)\n", moment(h.At), a.paint(h.To), h.By, h.Record)
			a.wrapped("    ", h.Reason)
		}
	}
	if k.State == string(keyring.Candidate) {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold("To be admitted"))
		for _, o := range k.Obstacles {
			a.wrapped("  ", o.Sentence)
		}
		if len(k.Obstacles) == 0 {
			a.wrapped("  ", "Nothing stands in the way: a curator can admit it.")
		}
	}
}

func (a *app) keyringSight() *cobra.Command {
	var read, channel, place, note string
	var names []string
	for _, c := range keyring.Channels() {
		names = append(names, string(c))
	}
	cmd := &cobra.Command{
		Use: "sight FINGERPRINT --read VALUE --channel CHANNEL --at PLACE", Short: "Note that a fingerprint was read somewhere", Args: cobra.ExactArgs(1),
		Long:    "sight keeps what you read, where, and whether it agrees with the key, which the system\ncompares. Give all of what you read, in any case and spacing.\n\nChannels: " + strings.Join(names, ", ") + ".",
		Example: "  endeixis keyring sight c959bdba… --read 'C959 BDBA …' --channel letter --at 'letter of 12 March, file 7'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := c.SightKey(cmd.Context(), args[0], read, channel, place, note)
			if err != nil {
				return err
			}
			if err := a.printKey(s.Key); err != nil {
				return err
			}
			if !s.Agrees {
				return &exit{exitRefused, fmt.Errorf("what you read differs from the key's fingerprint; this conflict was recorded, and the key cannot be admitted until a curator resolves it")}
			}
			a.note("It agrees, and was recorded.")
			return nil
		},
	}
	cmd.Flags().StringVar(&read, "read", "", "the fingerprint as you read it")
	cmd.Flags().StringVar(&channel, "channel", "", "the kind of place")
	cmd.Flags().StringVar(&place, "at", "", "where exactly")
	cmd.Flags().StringVar(&note, "note", "", "anything to add")
	for _, flag := range []string{"read", "channel", "at"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	_ = cmd.RegisterFlagCompletionFunc("channel", cobra.FixedCompletions(names, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) keyringAdmit() *cobra.Command {
	var publisher, reason, typed string
	cmd := &cobra.Command{
		Use: "admit FINGERPRINT --publisher SLUG --reason TEXT", Short: "Make a candidate count for a publisher", Args: cobra.ExactArgs(1),
		Long:    "admit lets a key count, if the evidence suffices by the policy. Give the full fingerprint\nas you read it from your own source: the service compares it with the key's.",
		Example: "  endeixis keyring admit 'C959 BDBA …' --publisher brackwater --reason 'letter and phone call agree'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if typed == "" {
				typed = args[0]
			}
			k, err := c.AdmitKey(cmd.Context(), args[0], typed, publisher, reason)
			if err != nil {
				return err
			}
			return a.printKey(k)
		},
	}
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher it counts for")
	cmd.Flags().StringVar(&reason, "reason", "", "why it counts, for whoever asks next year")
	cmd.Flags().StringVar(&typed, "typed", "", "the fingerprint as you typed it, where the first argument was copied")
	for _, flag := range []string{"publisher", "reason"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}

func (a *app) publisherCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "publisher", Short: "Keep the publishers"}
	var name, contact string
	var scope []string
	add := &cobra.Command{
		Use: "add SLUG", Short: "Add a publisher", Args: cobra.ExactArgs(1),
		Example: "  endeixis publisher add brackwater --name 'Brackwater Radio' --scope 'buoy-rx-*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.AddPublisher(cmd.Context(), args[0], name, contact, scope)
			if err != nil {
				return err
			}
			return a.printPublishers(p, []wire.Publisher{p})
		},
	}
	add.Flags().StringVar(&name, "name", "", "the publisher's name")
	add.Flags().StringVar(&contact, "contact", "", "how to reach it")
	add.Flags().StringArrayVar(&scope, "scope", nil, "pattern of file names that it may sign; repeat for more")
	_ = add.MarkFlagRequired("name")
	list := &cobra.Command{
		Use: "list", Short: "List publishers", Args: cobra.NoArgs, Example: "  endeixis publisher list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Publishers(cmd.Context())
			if err != nil {
				return err
			}
			return a.printPublishers(all, all)
		},
	}
	show := &cobra.Command{
		Use: "show SLUG", Short: "Show a publisher and its keys", Args: cobra.ExactArgs(1), Example: "  endeixis publisher show tidewright",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.Publisher(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			keys, err := c.Keys(cmd.Context())
			if err != nil {
				return err
			}
			own := []wire.Key{}
			g := &grid{header: []string{"state", "fingerprint", "facts", "user ID"}, empty: "No key of this publisher is in the keyring."}
			for _, k := range keys {
				if k.Publisher == p.Slug {
					own = append(own, k)
					g.add(k.State, k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
				}
			}
			return a.print(struct {
				wire.Publisher
				Keys []wire.Key `json:"keys"`
			}{p, own}, g, func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(p.Slug), plain.Text(p.Name))
				if p.Contact != "" {
					a.wrapped("", p.Contact)
				}
				fmt.Fprintf(a.stdout, "may sign %s; added by %s on %s\n\n", scopeText(p.Scope), p.By, moment(p.Created))
				a.draw(g)
			})
		},
	}
	cmd.AddCommand(add, list, show)
	return cmd
}

func scopeText(scope []string) string {
	if len(scope) == 0 {
		return "any name"
	}
	return plain.Text(strings.Join(scope, ", "))
}

func (a *app) printPublishers(value any, list []wire.Publisher) error {
	g := &grid{header: []string{"publisher", "name", "may sign"}, empty: "No publisher yet. Add one with “endeixis publisher add SLUG --name NAME”."}
	for _, p := range list {
		g.add(p.Slug, p.Name, scopeText(p.Scope))
	}
	return a.print(value, g, nil)
}
