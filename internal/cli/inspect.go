package cli

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"endeixis/core/judge"
	"endeixis/core/openpgp"
)

func (a *app) keyringInspect() *cobra.Command {
	return &cobra.Command{
		Use:   "inspect FILE",
		Short: "Show what an OpenPGP file is made of; works without a service",
		Args:  cobra.ExactArgs(1),
		Long: `inspect tells of a key, a signature, a signed text or a message, armored or binary, from a
file or from standard input for “-”: each packet with where it stands and what it states, what
holds by itself, and what is odd. Nothing is imported, and nothing is said about whether a
key counts.`,
		Example: "  endeixis keyring inspect SHA256SUMS.sig\n  endeixis keyring inspect - < announcement.txt",
		RunE: func(_ *cobra.Command, args []string) error {
			data, err := a.readFile(args[0], 4<<20, "OpenPGP file to look into")
			if err != nil {
				return err
			}
			inspection, err := openpgp.Inspect(data, judge.DefaultPolicy().Rules(time.Now()))
			var empty *openpgp.EmptyError
			if errors.As(err, &empty) {
				return &exit{exitFailed, fmt.Errorf("%s is no OpenPGP file: %w", args[0], err)}
			}
			if err != nil {
				return err
			}
			g := &grid{header: []string{"offset", "length", "packet", "states", "odd"}}
			for _, p := range inspection.Packets {
				var facts []string
				for _, f := range p.Facts {
					facts = append(facts, f.Name+": "+f.Value)
				}
				g.add(
					strconv.Itoa(p.Offset), strconv.Itoa(p.Length), p.Kind, strings.Join(facts, "; "),
					strings.Join(p.Odd, " "),
				)
			}
			return a.print(inspection, g, func() { a.showInspection(inspection) })
		},
	}
}

func (a *app) showInspection(inspection *openpgp.Inspection) {
	fmt.Fprintln(a.stdout, a.bold("A "+inspection.Kind))
	for _, n := range inspection.Notes {
		a.wrapped("  ", n)
	}
	for _, p := range inspection.Packets {
		indent := strings.Repeat("    ", p.Depth)
		fmt.Fprintf(
			a.stdout, "\n%s%s  %s\n", indent, a.bold(p.Kind),
			a.faint(fmt.Sprintf("at byte %d, %d bytes", p.Offset, p.Length)),
		)
		for _, f := range p.Facts {
			a.hanging(indent+"    ", indent+"      ", f.Name+": "+f.Value)
		}
		for _, o := range p.Odd {
			a.hanging(indent+"  ! ", indent+"    ", o)
		}
	}
	if inspection.Text != "" {
		fmt.Fprintf(a.stdout, "\n%s\n", a.bold("The text that the signatures cover"))
		for line := range strings.Lines(inspection.Text) {
			fmt.Fprintf(a.stdout, "    %s\n", strings.TrimRight(line, "\n"))
		}
	}
}
