package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/device"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) deviceKinds() *cobra.Command {
	return &cobra.Command{
		Use:     "kinds [NAME]",
		Short:   "List the kinds of devices, or print the description of one",
		Args:    cobra.MaximumNArgs(1),
		Long:    "kinds lists the kinds that the service knows. With a name it prints that kind's\ndescription, which is a beginning for one of your own; docs/devices.md has the form.",
		Example: "  endeixis device kinds\n  endeixis device kinds harbour-gauge",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			kinds, err := c.DeviceKinds(cmd.Context())
			if err != nil {
				return err
			}
			if len(args) == 1 {
				at := slices.IndexFunc(kinds.Items, func(k wire.DeviceKind) bool { return k.Name == args[0] })
				if at < 0 {
					return usage("no kind of device is called %s", plain.Quoted(args[0]))
				}
				k := kinds.Items[at]
				return a.print(
					k, &grid{header: []string{"text"}, rows: [][]string{{k.Text}}},
					func() { fmt.Fprint(a.stdout, k.Text) },
				)
			}
			g := &grid{
				header: []string{"kind", "reached", "digest over", "slots", "algorithms", "what it is", "described by"},
			}
			for _, k := range kinds.Items {
				var slots []string
				for _, s := range k.Slots {
					slots = append(slots, s.Slot)
				}
				g.add(
					k.Name, reachWord(k.Connection), string(k.Covers), strings.Join(slots, " "),
					strings.Join(k.Algorithms, ", "), k.Title, describedBy(k),
				)
			}
			return a.print(kinds, g, func() { a.draw(g) })
		},
	}
}

// describedBy says who has described a kind.
func describedBy(k wire.DeviceKind) string {
	switch {
	case k.By != "":
		return fmt.Sprintf("%s on %s", k.By, moment(*k.At))
	case k.Shipped:
		return "this program"
	}
	return "the configuration"
}

func (a *app) deviceKind() *cobra.Command {
	cmd := &cobra.Command{
		Use: "kind", Short: "Describe a kind of device, and try the description",
		Long: `A kind of device is described by a file in YAML; docs/devices.md has its form, and
“endeixis device kinds NAME” prints one to begin with. The description is tried with what
such a device has said. What is secret stays with the service's configuration.`,
	}
	cmd.AddCommand(a.deviceKindAdd(), a.deviceKindTry(), a.deviceKindRetire())
	return cmd
}

// trialFlags are what a description is tried with.
type trialFlags struct{ answer, slot string }

func (f *trialFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(
		&f.answer,
		"answer",
		"",
		"a file with what such a device said, or - for the input: of a console from the question to the prompt behind the answer",
	)
	cmd.Flags().StringVar(&f.slot, "slot", "", "the slot that the answer is of; it may be left out where there is one")
	_ = cmd.MarkFlagRequired("answer")
}

func (a *app) trial(file string, f trialFlags) (wire.KindTrial, error) {
	text, err := a.readFile(file, maxKind, "a description of a kind")
	if err != nil {
		return wire.KindTrial{}, err
	}
	answer, err := a.readFile(f.answer, device.MaxAnswer, "what a device says")
	return wire.KindTrial{Text: string(text), Slot: f.slot, Answer: string(answer)}, err
}

// maxKind bounds a description, in bytes.
const maxKind = 16 << 10

func (a *app) deviceKindAdd() *cobra.Command {
	var f trialFlags
	cmd := &cobra.Command{
		Use: "add FILE --answer PASTED", Short: "Describe a kind of device, or change it", Args: cobra.ExactArgs(1),
		Long: `add keeps a kind as FILE describes it, once it has read an answer by that: what such a
device says when a person asks it. It goes on record, with the answer.`,
		Example: "  endeixis device kind add tide-mast.yaml --answer asked-by-hand.txt --slot b",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.tryKind(cmd.Context(), args[0], f, (*client.Client).SetDeviceKind, func(kind string) {
				a.note("The kind is on record. “endeixis device add NAME --kind %s” adds a device of it.", kind)
			})
		},
	}
	f.add(cmd)
	return cmd
}

func (a *app) deviceKindTry() *cobra.Command {
	var f trialFlags
	cmd := &cobra.Command{
		Use:     "try FILE --answer PASTED",
		Short:   "Try a description of a kind, and keep nothing",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis device kind try tide-mast.yaml --answer asked-by-hand.txt --slot b",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.tryKind(cmd.Context(), args[0], f, (*client.Client).TryDeviceKind, func(string) {
				a.note("Nothing was kept; “endeixis device kind add” does that.")
			})
		},
	}
	f.add(cmd)
	return cmd
}

// tryKind has a description tried by an operation, and tells what came of it and then, of one that
// reads its answer, what is to be said.
func (a *app) tryKind(
	ctx context.Context, file string, f trialFlags,
	try func(*client.Client, context.Context, wire.KindTrial) (wire.KindTried, error), say func(kind string),
) error {
	t, err := a.trial(file, f)
	if err != nil {
		return err
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	tried, err := try(c, ctx, t)
	if err != nil {
		return err
	}
	g := &grid{header: []string{"kind", "slot", "asked", "algorithm", "value"}}
	g.add(tried.Kind.Name, tried.Slot, tried.Question, tried.Algorithm, tried.Value.String())
	if err := a.print(tried, g, func() { a.showTried(tried, say) }); err != nil {
		return err
	}
	if tried.Cause != nil {
		return &exit{code: exitFailed}
	}
	return nil
}

func (a *app) showTried(t wire.KindTried, say func(kind string)) {
	fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(t.Kind.Name), a.faint(t.Kind.Title+", "+reachWord(t.Kind.Connection)))
	fmt.Fprintf(a.stdout, "    asked about slot %s: %s\n", t.Slot, t.Question)
	if t.Cause != nil {
		a.wrapped("    ", "What was pasted is no answer by this description: "+t.Cause.Sentence)
		a.note(
			"Nothing was kept. Paste all that the device said, from the question to the prompt behind the answer, or change the description.",
		)
		return
	}
	fmt.Fprintf(a.stdout, "    read: %s\n      %s\n", t.Algorithm, plain.Grouped(t.Value.String()))
	say(t.Kind.Name)
}

func (a *app) deviceKindRetire() *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use:     "retire NAME --reason TEXT",
		Short:   "Have a kind that a curator has described used no more",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis device kind retire tide-mast --reason 'the last one was taken down'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.RetireDeviceKind(cmd.Context(), args[0], reason); err != nil {
				return err
			}
			a.note("The kind %s is used no more.", plain.Text(args[0]))
			return nil
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func reachWord(r device.Connection) string {
	return map[device.Connection]string{device.Console: "console, over SSH", device.Command: "command, over SSH", device.Typed: "by a person"}[r]
}
