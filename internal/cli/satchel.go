package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/core/satchel"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) satchelCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "satchel", Short: "Judge where there is no network, and bring the outcomes back",
		Long: `A satchel is one signed file with the keys, the policy, the waivers and the cleared
releases of some publishers, as they are when it is packed, until a day. On site,
“batch run”, “spot” and “readback” judge by it with --satchel, and write outcomes into a
sealed file. At home they are returned: each goes on record, and is judged again with what
is known by then.`,
	}
	cmd.AddCommand(a.satchelPack(), a.satchelList(), a.satchelShow(), a.satchelReturn())
	return cmd
}

func (a *app) satchelPack() *cobra.Command {
	var s wire.NewSatchel
	var file string
	cmd := &cobra.Command{
		Use:     "pack --publisher SLUG --file FILE",
		Short:   "Pack a satchel",
		Args:    cobra.NoArgs,
		Long:    "pack writes a satchel for some publishers. It holds nothing more secret than public\nkeys, and is good for some days.",
		Example: "  endeixis satchel pack --publisher tidewright --days 14 --file skerrow.satchel",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			// A file that is there is not written over: outcomes may belong to it.
			out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if err != nil {
				return usage("%s cannot be written: %s", plain.Quoted(file), reasonOf(err))
			}
			defer out.Close()
			packed, err := c.PackSatchel(cmd.Context(), s)
			if err != nil {
				os.Remove(file)
				return err
			}
			if _, err := out.Write(packed.File); err != nil {
				return err
			}
			if err := out.Close(); err != nil {
				return err
			}
			return a.print(packed.Satchel, satchelGrid([]wire.Satchel{packed.Satchel}), func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(file), size(int64(len(packed.File))))
				a.tellSatchel(packed.Satchel)
				a.wrapped(
					"",
					fmt.Sprintf(
						"On site it needs the service's public key, which a sign-in there remembers: %s",
						a.profile.PublicKey,
					),
				)
			})
		},
	}
	cmd.Flags().StringSliceVar(
		&s.Publishers, "publisher", nil, "whose releases are to be judged with it; repeat for more",
	)
	cmd.Flags().IntVar(&s.Days, "days", 14, "how long it is good for")
	cmd.Flags().StringVar(&s.Label, "label", "", "a note to find it by")
	cmd.Flags().StringVar(&file, "file", "", "where to write it")
	_ = cmd.MarkFlagRequired("publisher")
	_ = cmd.MarkFlagRequired("file")
	return cmd
}

func satchelGrid(all []wire.Satchel) *grid {
	g := &grid{
		header: []string{"satchel", "for", "packed", "good until", "keys", "came back", "label"},
		empty:  "No satchel was packed yet.",
	}
	for _, s := range all {
		until := moment(s.Until)
		if s.Ended {
			until += " (ended)"
		}
		g.add(
			s.ID, strings.Join(s.Publishers, " "), moment(s.Packed)+" by "+s.By, until, fmt.Sprint(len(s.Keys)),
			plain.Count(s.Returned, "outcome"), s.Label,
		)
	}
	return g
}

func (a *app) tellSatchel(s wire.Satchel) {
	fmt.Fprintf(
		a.stdout, "satchel %s, packed on %s by %s, good until %s\n", s.ID, moment(s.Packed), s.By, moment(s.Until),
	)
	fmt.Fprintf(
		a.stdout, "for %s; it can clear with %s:\n", strings.Join(s.Publishers, ", "), plain.Count(len(s.Keys), "key"),
	)
	for _, k := range s.Keys {
		fmt.Fprintf(a.stdout, "  %s\n", plain.Grouped(k))
	}
	fmt.Fprintf(
		a.stdout, "%s beside them, %s that were cleared, policy version %d\n", plain.Count(s.OtherKeys, "key"),
		plain.Count(s.References, "file"), s.PolicyVersion,
	)
}

func (a *app) satchelList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List the satchels that were packed",
		Args:    cobra.NoArgs,
		Example: "  endeixis satchel list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Satchels(cmd.Context())
			if err != nil {
				return err
			}
			g := satchelGrid(all)
			return a.print(all, g, func() { a.draw(g) })
		},
	}
}

func (a *app) satchelShow() *cobra.Command {
	var key string
	cmd := &cobra.Command{
		Use:   "show FILE",
		Short: "Show what is in a satchel, or in a file of outcomes, without a service",
		Args:  cobra.ExactArgs(1),
		Long: `show opens a satchel and says which keys it can clear with, until when; or a file of
outcomes, and says what is in it and by which key it is sealed. It asks no service. With the
number of a satchel it shows what the service knows of it, and what came back.`,
		Example: "  endeixis satchel show skerrow.satchel\n  endeixis satchel show skerrow.outcomes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := os.Stat(args[0]); err != nil {
				c, err := a.client()
				if err != nil {
					return err
				}
				s, err := c.Satchel(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.showVisits(s)
			}
			text, err := a.readFile(args[0], satchel.MaxSize, "a satchel or a file of outcomes")
			if err != nil {
				return err
			}
			if bytes.HasPrefix(text, []byte("{")) {
				return a.showJournal(args[0], text)
			}
			s, err := a.openSatchel(args[0], key)
			if err != nil {
				return err
			}
			return a.showSatchel(s)
		},
	}
	cmd.Flags().StringVar(
		&key, "service-key", "",
		"the public key of the service that packed it, or a file with it (the one remembered from login, if left out)",
	)
	return cmd
}

func (a *app) showSatchel(s *satchel.Satchel) error {
	type keyIn struct {
		Fingerprint string        `json:"fingerprint"`
		Publisher   string        `json:"publisher"`
		State       keyring.State `json:"state"`
		Role        keyring.Role  `json:"role"`
		Clears      bool          `json:"clears"`
	}
	now := time.Now()
	clears := map[*keyring.Key]bool{}
	for _, k := range s.ClearsWith(now) {
		clears[k] = true
	}
	var keys []keyIn
	g := &grid{
		header: []string{"can clear", "publisher", "state", "fingerprint"},
		empty:  "There is no key in it, so that it clears nothing by a signature.",
	}
	for _, k := range s.Keyring().Keys() {
		key := keyIn{string(k.Certificate.Primary.Fingerprint), k.Publisher, k.StateAt(now), k.Role, clears[k]}
		keys = append(keys, key)
		word := "no"
		if key.Clears {
			word = "yes"
		}
		g.add(word, key.Publisher, string(key.State), plain.Grouped(key.Fingerprint))
	}
	valid := s.Valid(now)
	if err := a.print(struct {
		ID         string    `json:"id"`
		Service    string    `json:"service"`
		Packed     time.Time `json:"packed"`
		Until      time.Time `json:"until"`
		By         string    `json:"by"`
		Policy     int64     `json:"policy_version"`
		References int       `json:"references"`
		Keys       []keyIn   `json:"keys"`
		Usable     bool      `json:"usable"`
	}{s.ID, s.Service, s.Packed, s.Until, s.By, s.PolicyVersion, len(s.References), keys, valid == nil}, g, func() {
		a.wrapped("", s.Says()+".")
		fmt.Fprintf(
			a.stdout, "packed by %s under policy version %d; it knows %s that were cleared, and has %s\n\n",
			plain.Text(s.By), s.PolicyVersion, plain.Count(len(s.References), "file"), plain.Count(len(s.Waivers), "waiver"),
		)
		a.draw(g)
	}); err != nil {
		return err
	}
	return cannot(valid)
}

func (a *app) showJournal(name string, text []byte) error {
	j, err := satchel.ReadJournal(text)
	if err != nil {
		return cannot(err)
	}
	type outcome struct {
		Number  int       `json:"number"`
		Of      string    `json:"of"`
		At      time.Time `json:"at"`
		Path    string    `json:"path"`
		Verdict string    `json:"verdict"`
		Files   int       `json:"files"`
	}
	var all []outcome
	g := &grid{
		header: []string{"number", "of", "when", "verdict", "files", "where"}, empty: "Nothing was verified yet.",
	}
	for _, e := range j.Entries {
		all = append(all, outcome{e.N, string(e.Kind), e.At, e.Path, string(e.Verdict), len(e.Outcomes)})
		g.add(
			fmt.Sprint(e.N), string(e.Kind), moment(e.At), string(e.Verdict), fmt.Sprint(len(e.Outcomes)),
			plain.Text(e.Host+":"+e.Path),
		)
	}
	return a.print(struct {
		Satchel  string    `json:"satchel"`
		Service  string    `json:"service"`
		SealedBy string    `json:"sealed_by"`
		Outcomes []outcome `json:"outcomes"`
	}{j.Satchel, j.Service, j.Fingerprint(), all}, g, func() {
		fmt.Fprintf(
			a.stdout, "%s: %s, judged by satchel %s of %s on %s\n", plain.Text(name), plain.Count(len(all), "outcome"),
			plain.Text(j.Satchel), plain.Text(j.Service), plain.Text(j.Host),
		)
		fmt.Fprintf(a.stdout, "sealed by the key %s\n\n", j.Fingerprint())
		a.draw(g)
	})
}

func (a *app) satchelReturn() *cobra.Command {
	var r wire.ReturnedOutcomes
	cmd := &cobra.Command{
		Use:   "return FILE",
		Short: "Bring outcomes back: they go on record, and are judged again",
		Args:  cobra.ExactArgs(1),
		Long: `return sends a file of outcomes to the service that packed the satchel. Each outcome
becomes a record of its own kind and a batch, which is judged again with the keys and the
policy of now; what counts otherwise than on site is named. A file that was altered is not
taken, and what came back before is not taken twice. With --key, only a file that is sealed
by the key is taken that was shown on site; with --outcomes, only one that has as many
outcomes as were noted there. A file that was cut at its end comes back up to the cut. Where
its end was lost on site and written anew, so that an outcome is another than the one of its
number that came back before, --otherwise says why, and both are kept.`,
		Example: "  endeixis satchel return skerrow.outcomes --key 'A1B2 C3D4 E5F6 0718'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			text, err := a.readFile(args[0], satchel.MaxJournal, "a file of outcomes")
			if err != nil {
				return err
			}
			// What is wrong with it is told without sending it.
			j, err := satchel.ReadJournal(text)
			if err != nil {
				return cannot(err)
			}
			if j.Cut {
				a.note(
					"The end of the file was cut, as by a loss of power: what stands behind outcome %d is no outcome, and nothing of it comes back.",
					len(j.Entries),
				)
			}
			a.note(
				"It has %s and ends with the sum %s. Compare both with what was noted on site.",
				plain.Count(len(j.Entries), "outcome"), j.Sum(),
			)
			r.File = text
			s, err := c.ReturnOutcomes(cmd.Context(), r)
			if err != nil {
				return err
			}
			if s, err = judgedVisits(cmd.Context(), c, s); err != nil {
				return err
			}
			return a.showVisits(s)
		},
	}
	cmd.Flags().StringVar(&r.Key, "key", "", "the fingerprint of the key that was made on site")
	cmd.Flags().IntVar(
		&r.Outcomes, "outcomes", 0, "how many outcomes were noted on site; a file with fewer is not taken",
	)
	cmd.Flags().StringVar(
		&r.Otherwise, "otherwise", "",
		"why it goes on otherwise than a file that came back before; both are kept then, with the reason",
	)
	return cmd
}

// judgedVisits waits until what came back is judged.
func judgedVisits(ctx context.Context, c *client.Client, s wire.SatchelShown) (wire.SatchelShown, error) {
	waited := false
	for _, v := range s.Visits {
		if v.Refused != "" || v.Now != nil {
			continue
		}
		if _, err := c.Follow(ctx, v.Batch, func(wire.Batch) {}); err != nil {
			return s, err
		}
		waited = true
	}
	if !waited {
		return s, nil
	}
	return c.Satchel(ctx, s.ID)
}

// showVisits shows what came back of a satchel.
func (a *app) showVisits(s wire.SatchelShown) error {
	g := &grid{header: []string{"number", "file", "on site", "now", "why", "batch"}}
	for _, v := range s.Visits {
		for _, d := range v.Differs {
			g.add(fmt.Sprint(v.Number), d.Shown, string(d.OnSite), string(d.Now), d.Why, fmt.Sprint(v.Batch))
		}
	}
	return a.print(s, g, func() {
		a.tellSatchel(s.Satchel)
		if len(s.Visits) == 0 {
			fmt.Fprintln(a.stdout, "\nNothing came back of it yet.")
		}
		for _, v := range s.Visits {
			if v.Refused != "" {
				fmt.Fprintf(
					a.stdout, "\n%d  %s on site, not taken  %s\n", v.Number, a.paint(string(v.OnSite)),
					a.bold(v.Host+":"+v.Path),
				)
				a.wrapped("   ", v.Refused)
				continue
			}
			now := "not judged yet"
			if v.Now != nil {
				now = string(*v.Now)
			}
			fmt.Fprintf(
				a.stdout, "\n%d  %s on site, %s now  %s\n", v.Number, a.paint(string(v.OnSite)), a.paint(now),
				a.bold(v.Host+":"+v.Path),
			)
			known := ""
			if v.Known {
				known = "; it had come back before"
			}
			fmt.Fprintf(
				a.stdout, "   %s\n",
				a.faint(
					fmt.Sprintf(
						"%s by %s, %s, sealed by %s; batch %d, record %d%s", moment(v.At), v.By,
						plain.Count(v.Files, "file"), v.SealedBy, v.Batch, v.Record, known,
					),
				),
			)
			if v.Clock != "" {
				a.wrapped("   ", v.Clock+" What was judged on site does not count; what is judged now does.")
			}
			for _, same := range folded(v.Differs) {
				onSite := string(same[0].OnSite)
				if onSite == "" {
					onSite = "not judged"
				}
				var names []string
				for _, d := range same {
					names = append(names, d.Shown)
				}
				fmt.Fprintf(a.stdout, "   %s on site, %s now:\n", onSite, a.paint(string(same[0].Now)))
				a.wrapped("     ", strings.Join(names, ", "))
				a.wrapped("     ", same[0].Why)
			}
			if v.More > 0 {
				fmt.Fprintf(a.stdout, "   and %s\n", plain.Count(v.More, "more file"))
			}
			if len(v.Differs) == 0 && v.Now != nil {
				fmt.Fprintln(a.stdout, "   Every verdict is the same now.")
			}
		}
	})
}

// folded puts files together that count otherwise for the same reason.
func folded(all []wire.VisitDiffers) [][]wire.VisitDiffers {
	var out [][]wire.VisitDiffers
	for _, d := range all {
		at := slices.IndexFunc(out, func(same []wire.VisitDiffers) bool {
			return same[0].Why == d.Why && same[0].Now == d.Now && same[0].OnSite == d.OnSite
		})
		if at < 0 {
			out = append(out, []wire.VisitDiffers{d})
		} else {
			out[at] = append(out[at], d)
		}
	}
	return out
}
