package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) keyringCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "keyring", Short: "Keep the publishers' keys"}
	cmd.AddCommand(a.keyringInspect(), a.keyringImport(), a.keyringList(), a.keyringShow(), a.keyringSight(), a.keyringResolve(), a.keyringAdmit(), a.keyringDecline(), a.keyringWithdraw(), a.keyringReconsider(), a.keyringLookup(), a.keyringRefresh(), a.keyringReach())
	return cmd
}

func (a *app) keyringList() *cobra.Command {
	var f client.KeyFilter
	cmd := &cobra.Command{
		Use: "list [TEXT]", Short: "List the keyring", Args: cobra.MaximumNArgs(1), Example: "  endeixis keyring list --waiting\n  endeixis keyring list tidewright",
		Long: "list shows the keys, or those with TEXT in a user ID or in the fingerprint. With --waiting it\nlists what a curator has to decide: candidates, and keys that a sighting contradicts.",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			f.Text = strings.Join(args, "")
			keys, err := c.Keys(cmd.Context(), f)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"state", "publisher", "fingerprint", "facts", "user ID"}, empty: "The keyring is empty. Import a publisher's key with “endeixis keyring import FILE”."}
			for _, k := range keys {
				g.add(string(k.State), k.Publisher, k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
			}
			if f != (client.KeyFilter{}) {
				g.empty = "No key is like that."
			}
			return a.print(keys, g, func() { a.showKeys(keys, g) })
		},
	}
	cmd.Flags().StringVar((*string)(&f.State), "state", "", "candidate, admitted or withdrawn")
	cmd.Flags().StringVar(&f.Publisher, "publisher", "", "keys of this publisher")
	cmd.Flags().BoolVar(&f.Waiting, "waiting", false, "what waits for a curator")
	_ = cmd.RegisterFlagCompletionFunc("state", cobra.FixedCompletions([]string{"candidate", "admitted", "withdrawn"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
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
		fmt.Fprintf(a.stdout, "%s  %s  %s\n", a.paint(string(k.State)), a.bold(plain.Text(strings.Join(first(k.UserIDs, 1), ""))), a.faint(strings.TrimPrefix(about, ", ")))
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
	if k.Role == keyring.Anchor {
		out = append(out, "anchor")
	}
	if k.Proposal != nil {
		out = append(out, "proposed by "+k.Proposal.By)
	}
	if k.Revoked != nil {
		out = append(out, fmt.Sprintf("revoked %s (%s)", k.Revoked.At.Format("2006-01-02"), k.Revoked.Reason))
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
			use, err := c.KeyUse(cmd.Context(), k.Fingerprint)
			if err != nil {
				return err
			}
			if err := a.printKey(k); err != nil || a.output != "table" {
				return err
			}
			a.showUse(use)
			return nil
		},
	}
}

func (a *app) printKey(k wire.Key) error {
	g := &grid{header: []string{"state", "publisher", "fingerprint", "facts", "user ID"}}
	g.add(string(k.State), k.Publisher, k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
	return a.print(k, g, func() { a.showKey(k) })
}

func (a *app) showKey(k wire.Key) {
	fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(k.Grouped), a.paint(string(k.State)))
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
	for i, e := range k.Timeline {
		label := ""
		if i == 0 {
			label = "life"
		}
		line(label, fmt.Sprintf("%s  %s", e.At.Format("2006-01-02"), e.Detail))
	}
	line("facts", facts(k))
	for _, other := range k.Namesakes {
		line("warning", "another key here has the same key ID: "+plain.Grouped(other))
	}
	if k.Revoked != nil {
		line("", fmt.Sprintf("revoked by its owner: %s. %s", k.Revoked.Reason, k.Revoked.Text))
	}
	for _, r := range k.Revokers {
		line("revoker", r+" (named by its owner; not followed)")
	}
	if k.Attributes > 0 {
		line("attributes", fmt.Sprintf("%d, such as pictures; they prove nothing", k.Attributes))
	}
	line("imported", fmt.Sprintf("%s by %s, from %s", moment(k.Imported), k.ImportedBy, k.Source))
	if len(k.Sightings) > 0 {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold(fmt.Sprintf("Sightings (%d of %d channels agree)", k.ChannelsSeen, k.ChannelsAsked)))
		for _, s := range k.Sightings {
			word := "agrees"
			switch {
			case s.Agrees:
			case s.Resolved != "":
				word = "resolved"
			default:
				word = "conflict"
			}
			fmt.Fprintf(a.stdout, "  %s  %s: %s, %s by %s\n", a.paint(word), s.Channel, plain.Text(s.Place), moment(s.At), s.By)
			if !s.Agrees {
				a.aligned("    ", "the key's", k.Fingerprint, "as read", strings.ReplaceAll(s.Read, " ", ""))
			}
			switch {
			case s.Resolved != "":
				a.wrapped("    ", fmt.Sprintf("Resolved by %s: %s", s.ResolvedBy, s.Resolved))
			case !s.Agrees:
				a.wrapped("    ", fmt.Sprintf("A curator who knows why resolves it: endeixis keyring resolve %d --reason TEXT", s.Record))
			}
			if s.Note != "" {
				a.wrapped("    ", s.Note)
			}
		}
	}
	a.showPaths(k)
	a.showCertified(k)
	if len(k.History) > 0 {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Decisions"))
		for _, h := range k.History {
			fmt.Fprintf(a.stdout, "  %s  %s by %s (record %d)\n", moment(h.At), a.paint(string(h.To)), h.By, h.Record)
			a.wrapped("    ", h.Reason)
		}
	}
	if k.State == keyring.Candidate {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold("To be admitted"))
		for _, o := range k.Obstacles {
			a.wrapped("  ", o.Sentence)
		}
		switch p := k.Proposal; {
		case p != nil:
			a.wrapped("  ", fmt.Sprintf("%s proposed it on %s for %s, role %s: %s", p.By, moment(p.At), p.Publisher, p.Role, p.Reason))
			a.wrapped("  ", "Another curator admits it with “endeixis keyring admit”, or declines it with “endeixis keyring decline”.")
		case len(k.Obstacles) == 0 && k.TwoCurators:
			a.wrapped("  ", "Nothing stands in the way: a curator can propose it, and another admit it.")
		case len(k.Obstacles) == 0:
			a.wrapped("  ", "Nothing stands in the way: a curator can admit it.")
		}
	}
}

// showUse tells what a key has signed here.
func (a *app) showUse(u wire.KeyUse) {
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Signed here"))
	if u.Artifacts == 0 {
		a.wrapped("  ", "Nothing that was verified has a signature by this key.")
		return
	}
	a.wrapped("  ", fmt.Sprintf("%s in %s, last on %s. “endeixis keyring reach” tells what rests on it.", counted(u.Artifacts, "artifact"), counted(u.Batches, "batch"), moment(*u.Last)))
}

// showPaths draws the way to each anchor as a tree.
func (a *app) showPaths(k wire.Key) {
	if len(k.Paths) == 0 {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Certification"))
	for _, p := range k.Paths {
		fmt.Fprintf(a.stdout, "  %s  %s  %s\n", a.paint(string(p.AnchorState)), plain.Text(p.AnchorID), a.faint("anchor"))
		fmt.Fprintf(a.stdout, "  │   %s\n", plain.Grouped(p.Anchor))
		switch {
		case p.Made == nil:
			fmt.Fprintf(a.stdout, "  ╎ %s\n", a.paint("missing"))
		default:
			fmt.Fprintf(a.stdout, "  │ %s  certified on %s\n", a.paint(string(p.Certified)), p.Made.Format("2006-01-02"))
		}
		who := p.UserID
		if who == "" {
			who = strings.Join(first(k.UserIDs, 1), "")
		}
		fmt.Fprintf(a.stdout, "  └─ %s\n", plain.Text(who))
		if p.Reason != "" {
			a.wrapped("     ", p.Reason)
		}
	}
}

// showCertified lists what other keys say about the user IDs.
func (a *app) showCertified(k wire.Key) {
	if len(k.Certified) == 0 && k.UnknownCertifiers == 0 {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Certified by"))
	for _, c := range k.Certified {
		fmt.Fprintf(a.stdout, "  %s  on %s by %s\n", a.paint(string(c.Status)), c.Made.Format("2006-01-02"), plain.Text(c.ByID))
		if len(k.UserIDs) > 1 {
			a.wrapped("      ", "as "+c.UserID)
		}
		if c.Reason != "" {
			a.wrapped("      ", c.Reason+".")
		}
	}
	if k.UnknownCertifiers > 0 {
		a.wrapped("  ", fmt.Sprintf("%s not in the keyring; what they say is not checked.", counted(k.UnknownCertifiers, "more key")))
	}
}

// keyStep makes a command that takes one key one step further.
func (a *app) keyStep(cmd *cobra.Command, do func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error)) *cobra.Command {
	var reason string
	cmd.Args = cobra.ExactArgs(1)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		k, err := do(cmd.Context(), c, args[0], reason)
		if err != nil {
			return err
		}
		return a.printKey(k)
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for whoever asks next year")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) keyringReconsider() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use: "reconsider FINGERPRINT --reason TEXT", Short: "Make a withdrawn key a candidate again",
		Long:    "reconsider makes a withdrawn key a candidate. It counts only when it is admitted again, on\nevidence.",
		Example: "  endeixis keyring reconsider 'C959 BDBA …' --reason 'withdrawn by mistake, see record 88'",
	}, func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error) {
		return c.ReconsiderKey(ctx, fingerprint, reason)
	})
}

func (a *app) keyringDecline() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use: "decline FINGERPRINT --reason TEXT", Short: "Turn down an admission that a curator proposed",
		Long:    "decline ends a proposal that waits, one's own or another's. The key stays a candidate.",
		Example: "  endeixis keyring decline 'C959 BDBA …' --reason 'the letter was a copy of the web page'",
	}, func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error) {
		return c.DeclineProposal(ctx, fingerprint, reason)
	})
}

func (a *app) keyringResolve() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use: "resolve RECORD --reason TEXT", Short: "Explain a sighting that contradicts its key",
		Long:    "resolve keeps why a sighting shows another fingerprint than the key has, such as a typing\nmistake, so that it blocks nothing any more. RECORD is the sighting's, as “keyring show”\nnames it. The sighting stays.",
		Example: "  endeixis keyring resolve 41 --reason 'read off the wrong line; the letter was checked again'",
	}, func(ctx context.Context, c *client.Client, record, reason string) (wire.Key, error) {
		n, err := strconv.ParseInt(record, 10, 64)
		if err != nil || n < 0 {
			return wire.Key{}, usage("%q is not the number of a record; “endeixis keyring show” names it beside the sighting", record)
		}
		return c.ResolveConflict(ctx, n, reason)
	})
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
			s, err := c.SightKey(cmd.Context(), args[0], wire.NewSighting{Read: read, Channel: keyring.Channel(channel), Place: place, Note: note})
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
	var publisher, reason, typed, role string
	cmd := &cobra.Command{
		Use: "admit FINGERPRINT --publisher SLUG --reason TEXT", Short: "Make a candidate count for a publisher", Args: cobra.ExactArgs(1),
		Long:    "admit lets a key count, if the evidence suffices by the policy. Give the full fingerprint\nas you read it from your own source: the service compares it with the key's. Where the\npolicy asks for two curators, the first proposes and another admits.",
		Example: "  endeixis keyring admit 'C959 BDBA …' --publisher brackwater --reason 'letter and phone call agree'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if typed == "" {
				typed = args[0]
			}
			k, err := c.AdmitKey(cmd.Context(), args[0], wire.Admission{Typed: typed, Publisher: publisher, Role: keyring.Role(role), Reason: reason})
			if err != nil {
				return err
			}
			if err := a.printKey(k); err != nil {
				return err
			}
			if k.Proposal != nil && k.State == keyring.Candidate {
				a.note("It is proposed. The policy asks for two curators: it counts when another admits it.")
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&role, "role", "release", "what it is for: release, or anchor for a key that certifies others")
	_ = cmd.RegisterFlagCompletionFunc("role", cobra.FixedCompletions([]string{"release", "anchor"}, cobra.ShellCompDirectiveNoFileComp))
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
			p, err := c.AddPublisher(cmd.Context(), wire.NewPublisher{Slug: args[0], Name: name, Contact: contact, Scope: scope})
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
			keys, err := c.Keys(cmd.Context(), client.KeyFilter{Publisher: p.Slug})
			if err != nil {
				return err
			}
			own := []wire.Key{}
			g := &grid{header: []string{"state", "fingerprint", "facts", "user ID"}, empty: "No key of this publisher is in the keyring."}
			for _, k := range keys {
				own = append(own, k)
				g.add(string(k.State), k.Grouped, facts(k), strings.Join(first(k.UserIDs, 1), ""))
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
	cmd.AddCommand(add, list, show, a.publisherSet())
	return cmd
}

func (a *app) publisherSet() *cobra.Command {
	var name, contact string
	var scope []string
	cmd := &cobra.Command{
		Use: "set SLUG", Short: "Change a publisher's name, contact or scope", Args: cobra.ExactArgs(1),
		Long:    "set changes what is given and leaves the rest. --scope takes the place of all patterns there\nare. A new scope counts for batches that are asked for from then on.",
		Example: "  endeixis publisher set brackwater --scope 'buoy-rx-*' --scope 'mast-*'",
		RunE: func(cmd *cobra.Command, args []string) error {
			var change wire.PublisherChange
			if cmd.Flags().Changed("name") {
				change.Name = &name
			}
			if cmd.Flags().Changed("contact") {
				change.Contact = &contact
			}
			change.Scope = scope
			if change.Name == nil && change.Contact == nil && scope == nil {
				return usage("say what to change: --name, --contact or --scope")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := c.SetPublisher(cmd.Context(), args[0], change)
			if err != nil {
				return err
			}
			return a.printPublishers(p, []wire.Publisher{p})
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "the publisher's name")
	cmd.Flags().StringVar(&contact, "contact", "", "how to reach it")
	cmd.Flags().StringArrayVar(&scope, "scope", nil, "pattern of file names that it may sign; repeat for more")
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
