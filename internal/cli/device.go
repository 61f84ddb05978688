package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/device"
	"endeixis/core/judge"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) deviceCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "device", Short: "Ask equipment what its firmware slots hold",
		Long: `A device computes a digest over one of its slots itself. That is held against our own
digest of a release that is cleared here, before the slot is activated.`,
	}
	cmd.AddCommand(
		a.deviceAdd(), a.deviceList(), a.deviceShow(), a.deviceCheck(), a.deviceKinds(), a.deviceKind(),
		a.deviceRetire(),
	)
	return cmd
}

func (a *app) deviceAdd() *cobra.Command {
	var d wire.DeviceDetails
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Add a device, or change what is known of it",
		Args:  cobra.ExactArgs(1),
		Long: `add keeps a device with its kind and its address. The credential is a name from the
service's configuration; what is secret, and the host key that somebody has confirmed,
stay in files there. A device that is there already is changed.`,
		Example: "  endeixis device add KG-12 --kind harbour-gauge --address 192.0.2.12:22 --credential gauges --publisher tidewright --place 'ferry pier'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			set, err := c.SetDevice(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			return a.printDevices(set, []wire.Device{set})
		},
	}
	cmd.Flags().StringVar(&d.Kind, "kind", "", "its kind; “endeixis device kinds” shows which there are")
	cmd.Flags().StringVar(&d.Address, "address", "", "where it is reached: host and port")
	cmd.Flags().StringVar(
		&d.Credential, "credential", "", "the name of the credential with which it lets the service in",
	)
	cmd.Flags().StringVar(&d.Publisher, "publisher", "", "whose releases it runs")
	cmd.Flags().StringVar(&d.Place, "place", "", "where it stands")
	_ = cmd.MarkFlagRequired("kind")
	return cmd
}

func (a *app) deviceRetire() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use: "retire NAME --reason TEXT", Short: "Have a device asked no more", Args: cobra.ExactArgs(1),
		Example: "  endeixis device retire KG-11 --reason 'taken down for the winter'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.RetireDevice(cmd.Context(), args[0], reason)
			if err != nil {
				return err
			}
			return a.printDevices(d, []wire.Device{d})
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) deviceList() *cobra.Command {
	return &cobra.Command{
		Use:     "list",
		Short:   "List devices, with what was last found in their slots",
		Args:    cobra.NoArgs,
		Example: "  endeixis device list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			all, err := c.Devices(cmd.Context())
			if err != nil {
				return err
			}
			return a.printDevices(all, all)
		},
	}
}

// printDevices shows a row for each slot.
func (a *app) printDevices(value any, all []wire.Device) error {
	g := &grid{
		header: []string{"device", "slot", "verdict", "holds", "since", "place"},
		empty:  "No device is known. “endeixis device add” adds one.",
	}
	for _, d := range all {
		place := plain.Text(d.Place)
		if d.Retired != "" {
			place = "retired: " + d.Retired
		}
		if len(d.Slots) == 0 {
			g.add(d.Name, "", "", "", "", place)
		}
		for _, slot := range d.Slots {
			verdict, holds, since := slotSaid(slot)
			g.add(d.Name, slot.Slot, verdict, holds, since, place)
		}
	}
	return a.print(value, g, func() { a.draw(g) })
}

// slotSaid puts what a slot was last found to hold into cells.
func slotSaid(slot wire.DeviceSlot) (verdict, holds, since string) {
	c := slot.Checked
	if c == nil {
		return "", "never asked", ""
	}
	verdict = string(c.Verdict)
	if c.Now != nil {
		verdict = string(*c.Now)
	}
	switch {
	case c.Cause != nil:
		holds = "no answer: " + strings.ReplaceAll(strings.TrimPrefix(string(c.Cause.Code), "device-"), "-", " ")
	case c.Holds == nil:
		holds = "no release that is known"
	case verdict == string(judge.Refused):
		holds = "not " + heldName(c.Holds)
	default:
		holds = heldName(c.Holds)
	}
	if slot.Since != nil && c.Cause == nil {
		since = moment(*slot.Since)
	}
	return verdict, holds, since
}

func heldName(h *wire.Against) string {
	if h.Batch == 0 {
		return "the digest that was given"
	}
	return h.Shown
}

func (a *app) deviceShow() *cobra.Command {
	var recorded bool
	cmd := &cobra.Command{
		Use: "show NAME", Short: "Ask a device about every slot, and name the release in it", Args: cobra.ExactArgs(1),
		Long: `show asks the device about each of its slots, and looks for the release whose bytes it
says it holds among all that were cleared here. --recorded asks nobody, and shows what
was found before.`,
		Example: "  endeixis device show KG-08\n  endeixis device show KG-08 --recorded",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			d, err := c.Device(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if recorded || d.Connection == device.Typed {
				return a.showDevice(d)
			}
			return a.checkDevices(cmd.Context(), c, wire.NewDeviceCheck{Device: args[0], Label: "what is in it"})
		},
	}
	cmd.Flags().BoolVar(&recorded, "recorded", false, "ask nobody; show what was found before")
	return cmd
}

// showDevice shows a device with what was found before.
func (a *app) showDevice(d wire.DeviceShown) error {
	g := &grid{header: []string{"when", "slot", "verdict", "holds", "batch"}, empty: "It was never asked."}
	for _, c := range d.History {
		verdict, holds, _ := slotSaid(wire.DeviceSlot{Checked: &c})
		g.add(moment(c.At), c.Slot, verdict, holds, fmt.Sprint(c.Batch))
	}
	return a.print(d, g, func() {
		fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(d.Name), plain.Text(d.KindTitle))
		where := "only a person can reach it"
		if d.Address != "" {
			where = d.Address
		}
		fmt.Fprintf(
			a.stdout, "%s\n",
			a.faint(
				strings.Join(
					slices.DeleteFunc([]string{d.Place, where, d.Publisher}, func(s string) bool { return s == "" }),
					", ",
				),
			),
		)
		if d.Retired != "" {
			a.wrapped("", "Retired: "+d.Retired)
		}
		fmt.Fprintln(a.stdout)
		for _, slot := range d.Slots {
			verdict, holds, since := slotSaid(slot)
			if since != "" {
				since = a.faint("  since " + since)
			}
			fmt.Fprintf(a.stdout, "%-10s %s  %s%s\n", slot.Title, a.paint(verdict), holds, since)
		}
		fmt.Fprintln(a.stdout)
		a.draw(g)
	})
}

func (a *app) deviceCheck() *cobra.Command {
	var check wire.NewDeviceCheck
	var against, printed string
	var length int64
	cmd := &cobra.Command{
		Use:   "check NAME [--slot SLOT] [--against WHAT]",
		Short: "Check what a device holds, before it is activated",
		Args:  cobra.MaximumNArgs(1),
		Long: `check has a device hash a slot, and holds its value against our own digest of the
release that should be in it. WHAT is a file of a depot that was verified, as depot:path;
the record of a file, as record:812; a file here; or a digest. Without it, the release is
looked for among all that were cleared.

--all asks every device that can be reached, several at a time. --printed FILE, or - for
what is pasted, takes what a person has copied from the device's console.`,
		Example: "  endeixis device check KG-07 --slot b --against quayside:tidewright/gauge-fw-4.3/gauge-fw-4.3-main.img\n  endeixis device check --all\n  endeixis device check LP-1 --printed panel.txt --against record:812",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				check.Device = args[0]
			}
			if check.All == (check.Device != "") {
				return usage("name a device, or give --all")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if printed != "" {
				if check.Printed, err = a.printedText(printed); err != nil {
					return err
				}
			}
			if against != "" {
				what, err := a.backAgainst(cmd.Context(), against, length)
				if err != nil {
					return err
				}
				what.close()
				check.Against = &what.given
			}
			return a.checkDevices(cmd.Context(), c, check)
		},
	}
	cmd.Flags().StringSliceVar(&check.Slots, "slot", nil, "the slot; repeat for more, leave out for all")
	cmd.Flags().StringVar(&against, "against", "", "the release: depot:path, record:NUMBER, a file, or a digest")
	cmd.Flags().Int64Var(&length, "length", 0, "with a digest: how many bytes the image has")
	cmd.Flags().BoolVar(&check.All, "all", false, "check every device that can be reached")
	cmd.Flags().StringVar(
		&printed, "printed", "", "what was copied from the device's console: a file, or - for what is pasted",
	)
	cmd.Flags().StringVar(&check.Label, "label", "device check", "a label for the batch")
	return cmd
}

func (a *app) printedText(name string) (string, error) {
	var text []byte
	var err error
	if name == "-" {
		text, err = io.ReadAll(io.LimitReader(a.stdin, device.MaxAnswer+1))
	} else {
		text, err = a.readFile(name, device.MaxAnswer, "what was copied from a console")
	}
	if err != nil {
		return "", err
	}
	if len(text) > device.MaxAnswer {
		return "", usage("more than %d KiB were copied", device.MaxAnswer>>10)
	}
	if strings.TrimSpace(string(text)) == "" {
		return "", usage("nothing was copied")
	}
	return strings.ToValidUTF8(strings.ReplaceAll(string(text), "\x00", ""), "\ufffd"), nil
}

// checkDevices has devices checked, and shows what came of it.
func (a *app) checkDevices(ctx context.Context, c *client.Client, check wire.NewDeviceCheck) error {
	batches, err := c.CheckDevices(ctx, check, rand.Text())
	if err != nil {
		return err
	}
	type checked struct {
		wire.Batch
		Slots []wire.Item `json:"slots"`
	}
	var all []checked
	g := &grid{header: []string{"device", "slot", "verdict", "why", "record"}}
	worst := wire.Batch{}
	var failed error
	for _, b := range batches {
		if len(batches) > 1 {
			a.note("waiting for %s, %d of %d", b.Source.Reference, len(all)+1, len(batches))
		}
		b, err = c.Follow(ctx, b.ID, func(wire.Batch) {})
		if err != nil {
			return err
		}
		items, err := c.Items(ctx, b.ID)
		if err != nil {
			return err
		}
		all = append(all, checked{b, items})
		for _, item := range items {
			record := ""
			if item.Record != nil {
				record = fmt.Sprint(*item.Record)
			}
			g.add(b.Source.Reference, item.Shown, deref(item.Verdict), item.Deciding, record)
		}
		if b.Verdict == nil && failed == nil {
			failed = verdictExit(b)
		}
		if worst.Verdict == nil || worseThan(b, worst) {
			worst = b
		}
	}
	var value any = all
	if len(all) == 1 {
		value = all[0]
	}
	err = a.print(value, g, func() {
		if len(all) > 1 {
			a.draw(g)
			a.deviceTotals(g)
			return
		}
		for _, item := range all[0].Slots {
			a.showSlot(item)
		}
		fmt.Fprintf(
			a.stdout, "    %s\n",
			a.faint(fmt.Sprintf("batch %d; “endeixis batch show %d” shows every link", all[0].ID, all[0].ID)),
		)
	})
	if err == nil {
		err = failed
	}
	if err == nil {
		err = verdictExit(worst)
	}
	return err
}

func (a *app) deviceTotals(g *grid) {
	counts := map[string]int{}
	for _, row := range g.rows {
		counts[row[2]]++
	}
	var said []string
	for _, v := range []judge.Verdict{judge.Cleared, judge.Unproven, judge.Refused} {
		if n := counts[string(v)]; n > 0 {
			said = append(said, fmt.Sprintf("%d %s", n, v))
		}
	}
	fmt.Fprintf(a.stdout, "\nSlots: %s.\n", strings.Join(said, ", "))
}

// showSlot shows the answer for a slot.
func (a *app) showSlot(item wire.Item) {
	d := item.Device
	if d == nil {
		fmt.Fprintln(a.stdout, a.headOf(item))
		return
	}
	fmt.Fprintf(a.stdout, "%s  %s of %s\n", a.paint(deref(item.Verdict)), a.bold(d.SlotTitle), plain.Text(d.Device))
	if deref(item.Verdict) == string(judge.Cleared) {
		a.wrapped("    ", item.Deciding)
	}
	a.showGrounds(strongest(problems(item)))
	a.showMatch(item)
	a.showSaid(d)
}

// showSaid shows what a device was asked and said.
func (a *app) showSaid(d *device.SlotReport) {
	how := []string{string(d.Connection)}
	if d.Address != "" {
		how = append(how, d.Address)
	}
	if d.HostKey != "" {
		how = append(how, d.HostKey)
	}
	if d.Milliseconds > 0 {
		how = append(how, fmt.Sprintf("%.1f s", float64(d.Milliseconds)/1000))
	}
	fmt.Fprintf(a.stdout, "    %s\n", a.faint(strings.Join(how, ", ")))
	if d.Question != "" {
		fmt.Fprintf(a.stdout, "    %s %s\n", a.faint("asked"), d.Question)
	}
	lines := strings.Split(d.Said, "\n")
	for i, line := range lines[:min(len(lines), 6)] {
		word := "     "
		if i == 0 {
			word = "said "
		}
		if line != "" {
			fmt.Fprintf(a.stdout, "    %s %s\n", a.faint(word), plain.Text(line))
		}
	}
}
