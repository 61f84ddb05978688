package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

func (a *app) tokenCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Keep tokens for programs"}
	var n wire.NewToken
	issue := &cobra.Command{
		Use: "issue", Short: "Make a token; it is shown this once", Args: cobra.NoArgs,
		Example: "  endeixis token issue --label 'nightly build' --role operator --days 90 --only-depot quayside",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.IssueToken(cmd.Context(), n)
			if err != nil {
				return err
			}
			return a.print(t, &grid{header: []string{"token"}, rows: [][]string{{t.Text}}}, func() {
				fmt.Fprintln(a.stdout, t.Text)
				a.note("Token %d, role %s, good until %s. It is shown only now.", t.ID, t.Role, moment(t.Expires))
			})
		},
	}
	issue.Flags().StringVar(&n.Label, "label", "", "what it is for")
	wordFlag(issue, &n.Role, "role", roles.All(), "at most your own role, which is the default")
	issue.Flags().IntVar(&n.Days, "days", 30, "how long it is good for")
	issue.Flags().StringArrayVar(
		&n.Depots, "only-depot", nil, "a depot that it is good for, and no others; may be repeated",
	)
	issue.Flags().StringArrayVar(
		&n.Publishers, "only-publisher", nil, "a publisher that it is good for, and no others; may be repeated",
	)
	list := &cobra.Command{
		Use: "list", Short: "List tokens", Args: cobra.NoArgs, Example: "  endeixis token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			tokens, err := c.Tokens(cmd.Context())
			if err != nil {
				return err
			}
			g := &grid{header: []string{"id", "owner", "role", "label", "only for", "last used", "expires", "ended"}}
			for _, t := range tokens {
				ended, used := "", "never"
				if t.Revoked != nil {
					ended = moment(*t.Revoked)
				}
				if t.Used != nil {
					used = moment(*t.Used)
				}
				only := strings.Join(append(slices.Clone(t.Depots), t.Publishers...), ", ")
				g.add(
					strconv.FormatInt(t.ID, 10), t.Owner, string(t.Role), t.Label, only, used, moment(t.Expires), ended,
				)
			}
			return a.print(tokens, g, nil)
		},
	}
	end := &cobra.Command{
		Use: "end ID", Short: "End a token", Args: cobra.ExactArgs(1), Example: "  endeixis token end 7",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := number(args[0], "a token's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.RevokeToken(cmd.Context(), id); err != nil {
				return err
			}
			a.note("Token %d is no longer good.", id)
			return nil
		},
	}
	cmd.AddCommand(issue, list, end)
	return cmd
}
