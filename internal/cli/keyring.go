package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) keyringCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "keyring", Short: "Keep the publishers' keys"}
	cmd.AddCommand(
		a.keyringInspect(), a.keyringImport(), a.keyringList(), a.keyringShow(), a.keyringSight(), a.keyringResolve(),
		a.keyringAdmit(), a.keyringDecline(), a.keyringWithdraw(), a.keyringReconsider(),
		a.keyringSettle(), a.keyringLookup(),
		a.keyringReach(),
	)
	return cmd
}

func (a *app) keyringList() *cobra.Command {
	var f client.KeyFilter
	cmd := &cobra.Command{
		Use:     "list [TEXT]",
		Short:   "List the keyring",
		Args:    cobra.MaximumNArgs(1),
		Example: "  endeixis keyring list --waiting\n  endeixis keyring list tidewright",
		Long:    "list shows the keys, or those with TEXT in a user ID or in the fingerprint. With --waiting it\nlists what a curator has to decide: candidates, and keys that a sighting contradicts.",
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
			g := &grid{
				header: []string{"state", "publisher", "fingerprint", "facts", "user ID"},
				empty:  "The keyring is empty. Import a publisher's key with “endeixis keyring import FILE”.",
			}
			for _, k := range keys {
				g.add(standing(k), k.Publisher, k.Grouped, facts(k), first(k.UserIDs))
			}
			if f != (client.KeyFilter{}) {
				g.empty = "No key is like that."
			}
			return a.print(keys, g, func() { a.showKeys(keys, g) })
		},
	}
	wordFlag(cmd, &f.State, "state", keyring.States(), "only keys that are this")
	cmd.Flags().StringVar(&f.Publisher, "publisher", "", "keys of this publisher")
	cmd.Flags().BoolVar(&f.Waiting, "waiting", false, "what waits for a curator")
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
		fmt.Fprintf(
			a.stdout, "%s  %s  %s\n", a.standing(k), a.bold(plain.Text(calledBy(k.UserIDs))),
			a.faint(strings.TrimPrefix(about, ", ")),
		)
		fmt.Fprintf(a.stdout, "    %s\n", k.Grouped)
	}
}

// standing is how a key stands, in one word: what its owner or time has decided comes
// first, for an admitted key that is revoked counts for nothing.
func standing(k wire.Key) string {
	switch {
	case k.Revoked != nil:
		return "revoked"
	case k.Expired:
		return "expired"
	}
	return string(k.State)
}

// standing is the same with its mark, and with the state beside it.
func (a *app) standing(k wire.Key) string {
	if s := standing(k); s != string(k.State) {
		return a.paint(s) + a.faint(", "+string(k.State))
	}
	return a.paint(string(k.State))
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// calledBy returns the first of a key's names for people, who are told when there is none.
func calledBy(userIDs []string) string {
	if len(userIDs) == 0 {
		return "(no user ID that holds)"
	}
	return userIDs[0]
}

// mayDo says what a key may do, for people.
func mayDo(uses []string) string {
	if len(uses) == 0 {
		return "do nothing that is stated"
	}
	return strings.Join(uses, " and ")
}

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
	if k.Until != nil {
		out = append(out, "for what it signed before "+k.Until.Format("2006-01-02"))
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
	g.add(standing(k), k.Publisher, k.Grouped, facts(k), first(k.UserIDs))
	return a.print(k, g, func() { a.showKey(k) })
}

func (a *app) showKey(k wire.Key) {
	fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(k.Grouped), a.standing(k))
	line := func(label, value string) {
		if value != "" {
			fmt.Fprintf(a.stdout, "%s  %s\n", a.faint(fmt.Sprintf("%-10s", label)), plain.Text(value))
		}
	}
	for _, id := range k.UserIDs {
		line("user ID", id)
	}
	line("publisher", k.Publisher)
	line("key", fmt.Sprintf("%s, made %s, may %s", k.Algorithm, k.Created.Format("2006-01-02"), mayDo(k.Uses)))
	for _, s := range k.Subkeys {
		line("subkey", fmt.Sprintf("%s, made %s, may %s", s.Algorithm, s.Created.Format("2006-01-02"), mayDo(s.Uses)))
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
	a.showSightings(k)
	a.showPaths(k)
	a.showCertified(k)
	a.showDecisions(k)
	a.showObstacles(k)
}

// showSightings tells where a key's fingerprint was read.
func (a *app) showSightings(k wire.Key) {
	if len(k.Sightings) == 0 {
		return
	}
	fmt.Fprintf(
		a.stdout, "\n%s\n",
		a.bold(fmt.Sprintf("Sightings (%d of %d channels agree)", k.ChannelsSeen, k.ChannelsAsked)),
	)
	for _, s := range k.Sightings {
		word := "agrees"
		switch {
		case s.Agrees:
		case s.Resolved != "":
			word = "resolved"
		default:
			word = "conflict"
		}
		fmt.Fprintf(
			a.stdout, "  %s  %s: %s, %s by %s\n", a.paint(word), s.Channel, plain.Text(s.Place), moment(s.At), s.By,
		)
		if !s.Agrees {
			a.aligned("    ", "the key's", k.Fingerprint, "as read", strings.ReplaceAll(s.Read, " ", ""))
		}
		switch {
		case s.Resolved != "":
			a.wrapped("    ", fmt.Sprintf("Resolved by %s: %s", s.ResolvedBy, s.Resolved))
		case !s.Agrees:
			a.wrapped(
				"    ",
				fmt.Sprintf(
					"A curator who knows why resolves it: endeixis keyring resolve %d --reason TEXT", s.Record,
				),
			)
		}
		if s.Note != "" {
			a.wrapped("    ", s.Note)
		}
	}
}

// showDecisions tells what was decided about a key.
func (a *app) showDecisions(k wire.Key) {
	if len(k.History) == 0 {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Decisions"))
	for _, h := range k.History {
		fmt.Fprintf(a.stdout, "  %s  %s by %s (record %d)\n", moment(h.At), a.paint(string(h.To)), h.By, h.Record)
		a.wrapped("    ", h.Reason)
		if h.Until != nil {
			a.wrapped("    ", "For the past: it counts for what it signed before "+moment(*h.Until)+".")
		}
		if len(h.RestsOn) > 0 {
			a.wrapped("    ", "It rests on the certification by "+strings.Join(h.RestsOn, " or ")+".")
		}
	}
}

// showObstacles tells what a candidate lacks.
func (a *app) showObstacles(k wire.Key) {
	if k.State != keyring.Candidate {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("To be admitted"))
	for _, o := range k.Obstacles {
		a.wrapped("  ", o.Sentence)
	}
	switch p := k.Proposal; {
	case p != nil:
		a.wrapped(
			"  ",
			fmt.Sprintf(
				"%s proposed it on %s for %s, role %s: %s", p.By, moment(p.At), p.Publisher, p.Role, p.Reason,
			),
		)
		if p.Until != nil {
			a.wrapped("  ", "For the past: for what it signed before "+moment(*p.Until)+".")
		}
		a.wrapped(
			"  ",
			"Another curator admits it with “endeixis keyring admit”, or declines it with “endeixis keyring decline”.",
		)
	case len(k.Obstacles) == 0 && k.TwoCurators:
		a.wrapped("  ", "Nothing stands in the way: a curator can propose it, and another admit it.")
	case len(k.Obstacles) == 0:
		a.wrapped("  ", "Nothing stands in the way: a curator can admit it.")
	}
}

// showUse tells what a key has signed here.
func (a *app) showUse(u wire.KeyUse) {
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Signed here"))
	if u.Artifacts == 0 {
		a.wrapped("  ", "Nothing that was verified has a signature by this key.")
		return
	}
	a.wrapped(
		"  ",
		fmt.Sprintf(
			"%s in %s, last on %s. “endeixis keyring reach” tells what rests on it.", capital(plain.Count(u.Artifacts, "artifact")),
			plain.Count(u.Batches, "batch"), moment(*u.Last),
		),
	)
}

// showPaths draws the way to each anchor as a tree.
func (a *app) showPaths(k wire.Key) {
	if len(k.Paths) == 0 {
		return
	}
	fmt.Fprintf(a.stdout, "\n%s\n", a.bold("Certification"))
	for _, p := range k.Paths {
		fmt.Fprintf(
			a.stdout, "  %s  %s  %s\n", a.paint(string(p.AnchorState)), plain.Text(p.AnchorID), a.faint("anchor"),
		)
		fmt.Fprintf(a.stdout, "  │   %s\n", plain.Grouped(p.Anchor))
		switch p.Made {
		case nil:
			fmt.Fprintf(a.stdout, "  ╎ %s\n", a.paint("missing"))
		default:
			fmt.Fprintf(
				a.stdout, "  │ %s  certified on %s\n", a.paint(string(p.Certified)), p.Made.Format("2006-01-02"),
			)
		}
		who := p.UserID
		if who == "" {
			who = calledBy(k.UserIDs)
		}
		fmt.Fprintf(a.stdout, "  └─ %s\n", plain.Text(who))
		if p.Reason != "" {
			a.wrapped("     ", p.Reason)
		}
		if p.Note != "" {
			a.wrapped("     ", p.Note)
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
		fmt.Fprintf(
			a.stdout, "  %s  on %s by %s\n", a.paint(string(c.Status)), c.Made.Format("2006-01-02"), plain.Text(c.ByID),
		)
		if len(k.UserIDs) > 1 {
			a.wrapped("      ", "as "+c.UserID)
		}
		if c.Reason != "" {
			a.wrapped("      ", c.Reason+".")
		}
	}
	if k.UnknownCertifiers > 0 {
		a.wrapped(
			"  ",
			fmt.Sprintf(
				"%s not in the keyring; what they say is not checked.", capital(plain.Count(k.UnknownCertifiers, "more key")),
			),
		)
	}
}
