package cli

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"endeixis/core/keyring"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

// keyStep makes a command that takes one key one step further.
func (a *app) keyStep(
	cmd *cobra.Command, do func(ctx context.Context, c *client.Client, fingerprint, reason string) (wire.Key, error),
) *cobra.Command {
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
		if err := a.printKey(k); err != nil {
			return err
		}
		return a.tellRejudged(cmd.Context(), c, k.Reassessment)
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for whoever asks next year")
	_ = cmd.MarkFlagRequired("reason")
	return cmd
}

func (a *app) keyringReconsider() *cobra.Command {
	return a.keyStep(&cobra.Command{
		Use:     "reconsider FINGERPRINT --reason TEXT",
		Short:   "Make a withdrawn key a candidate again",
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
		Use:     "resolve RECORD --reason TEXT",
		Short:   "Explain a sighting that contradicts its key",
		Long:    "resolve keeps why a sighting shows another fingerprint than the key has, such as a typing\nmistake, so that it blocks nothing any more. RECORD is the sighting's, as “keyring show”\nnames it. The sighting stays.",
		Example: "  endeixis keyring resolve 41 --reason 'read off the wrong line; the letter was checked again'",
	}, func(ctx context.Context, c *client.Client, record, reason string) (wire.Key, error) {
		n, err := strconv.ParseInt(record, 10, 64)
		if err != nil || n < 0 {
			return wire.Key{}, usage(
				"%q is not the number of a record; “endeixis keyring show” names it beside the sighting", record,
			)
		}
		return c.ResolveConflict(ctx, n, reason)
	})
}

func (a *app) keyringSight() *cobra.Command {
	var read, place, note string
	var channel keyring.Channel
	cmd := &cobra.Command{
		Use:     "sight FINGERPRINT --read VALUE --channel CHANNEL --at PLACE",
		Short:   "Note that a fingerprint was read somewhere",
		Args:    cobra.ExactArgs(1),
		Long:    "sight keeps what you read, where, and whether it agrees with the key, which the system\ncompares. Give all of what you read, in any case and spacing.",
		Example: "  endeixis keyring sight c959bdba… --read 'C959 BDBA …' --channel letter --at 'letter of 12 March, file 7'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			s, err := c.SightKey(
				cmd.Context(), args[0], wire.NewSighting{Read: read, Channel: channel, Place: place, Note: note},
			)
			if err != nil {
				return err
			}
			if err := a.printKey(s.Key); err != nil {
				return err
			}
			if !s.Agrees && s.Key.State == keyring.Admitted {
				what := "nothing rests on it yet"
				if s.Key.Reassessment != nil {
					what = fmt.Sprintf("what rests on it is judged again (reassessment %d)", *s.Key.Reassessment)
				}
				return &exit{
					exitRefused,
					fmt.Errorf(
						"what you read differs from the fingerprint of a key that is admitted; this conflict was recorded, %s, and until a curator explains it the key's signatures do not count, or are only noted where the policy says so",
						what,
					),
				}
			}
			if !s.Agrees {
				return &exit{
					exitRefused,
					fmt.Errorf(
						"what you read differs from the key's fingerprint; this conflict was recorded, and the key cannot be admitted until a curator resolves it",
					),
				}
			}
			a.note("It agrees, and was recorded.")
			return nil
		},
	}
	cmd.Flags().StringVar(&read, "read", "", "the fingerprint as you read it")
	wordFlag(cmd, &channel, "channel", keyring.Channels(), "the kind of place")
	cmd.Flags().StringVar(&place, "at", "", "where exactly")
	cmd.Flags().StringVar(&note, "note", "", "anything to add")
	for _, flag := range []string{"read", "channel", "at"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}

func (a *app) keyringAdmit() *cobra.Command {
	var publisher, reason, typed, until string
	role := keyring.Release
	cmd := &cobra.Command{
		Use:     "admit FINGERPRINT --publisher SLUG --reason TEXT",
		Short:   "Make a candidate count for a publisher",
		Args:    cobra.ExactArgs(1),
		Long:    "admit lets a key count, if the evidence suffices by the policy. Give the full fingerprint\nas you read it from your own source: the service compares it with the key's. Where the\npolicy asks for two curators, the first proposes and another admits.\nA key that has expired or was retired is admitted with --until: for what it signed before.",
		Example: "  endeixis keyring admit 'C959 BDBA …' --publisher brackwater --reason 'letter and phone call agree'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if typed == "" {
				typed = args[0]
			}
			asked := wire.Admission{Typed: typed, Publisher: publisher, Role: role, Reason: reason}
			if until != "" {
				day, err := time.Parse(time.DateOnly, until)
				if err != nil {
					return usage("%q is not a day; write it as 2024-06-30", until)
				}
				asked.Until = &day
			}
			k, err := c.AdmitKey(cmd.Context(), args[0], asked)
			if err != nil {
				return err
			}
			if err := a.printKey(k); err != nil {
				return err
			}
			if k.Proposal != nil && k.State == keyring.Candidate {
				a.note("It is proposed. The policy asks for two curators: it counts when another admits it.")
			}
			return a.tellRejudged(cmd.Context(), c, k.Reassessment)
		},
	}
	wordFlag(cmd, &role, "role", keyring.Roles(), "what it is for, an anchor being a key that certifies others")
	cmd.Flags().StringVar(&publisher, "publisher", "", "the publisher it counts for")
	cmd.Flags().StringVar(&reason, "reason", "", "why it counts, for whoever asks next year")
	cmd.Flags().StringVar(
		&until, "until", "",
		"for a key of the past: the day from which on what it signed does not count, as 2024-06-30",
	)
	cmd.Flags().StringVar(&typed, "typed", "", "the fingerprint as you typed it, where the first argument was copied")
	for _, flag := range []string{"publisher", "reason"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}
