package cli

import (
	"github.com/spf13/cobra"

	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

func (a *app) userCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "user", Short: "Keep the list of people"}
	var full string
	role := roles.Operator
	add := &cobra.Command{
		Use: "add NAME", Short: "Add a person; the password is read from standard input", Args: cobra.ExactArgs(1),
		Example: "  endeixis user add merit --full-name 'Merit Osei' --role auditor",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			password, err := a.askSecret("Password for " + args[0] + ": ")
			if err != nil {
				return err
			}
			if err := c.AddUser(
				cmd.Context(), wire.NewUser{Name: args[0], FullName: full, Role: role, Password: password},
			); err != nil {
				return err
			}
			a.note("%s can sign in now, as %s.", args[0], role)
			return nil
		},
	}
	add.Flags().StringVar(&full, "full-name", "", "the person's name")
	wordFlag(add, &role, "role", roles.All(), "what they may do")
	list := &cobra.Command{
		Use: "list", Short: "List people", Args: cobra.NoArgs, Example: "  endeixis user list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			users, err := c.Users(cmd.Context())
			if err != nil {
				return err
			}
			g := &grid{header: []string{"name", "full name", "role", "added", "changed", ""}}
			for _, u := range users {
				changed, disabled := "", ""
				if u.Changed != nil {
					changed = moment(*u.Changed)
				}
				if u.Disabled {
					disabled = "disabled"
				}
				g.add(u.Name, u.FullName, string(u.Role), moment(u.Added), changed, disabled)
			}
			return a.print(users, g, nil)
		},
	}
	cmd.AddCommand(
		add, list, a.userChange(), a.userReset(),
		a.userShut(
			"disable", "Shut a person out: sessions, tokens and streams end at once", true,
			"%s cannot sign in any more. Sessions and tokens have ended.",
		),
		a.userShut(
			"enable", "Let a person in again, with the password they had", false,
			"%s can sign in again. Tokens have to be made anew.",
		),
	)
	return cmd
}

// changeUser changes a person and says so.
func (a *app) changeUser(cmd *cobra.Command, name string, change wire.UserChange, said string, args ...any) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if _, err := c.ChangeUser(cmd.Context(), name, change); err != nil {
		return err
	}
	a.note(said, args...)
	return nil
}

func (a *app) userChange() *cobra.Command {
	var full, reason string
	var role roles.Role
	cmd := &cobra.Command{
		Use: "change NAME", Short: "Change a person's role or full name", Args: cobra.ExactArgs(1),
		Example: "  endeixis user change merit --role operator --reason 'joins the harbour desk'",
		RunE: func(cmd *cobra.Command, args []string) error {
			change := wire.UserChange{Reason: reason}
			if cmd.Flags().Changed("full-name") {
				change.FullName = &full
			}
			if cmd.Flags().Changed("role") {
				change.Role = &role
			}
			return a.changeUser(cmd, args[0], change, "%s was changed, and has to sign in again.", args[0])
		},
	}
	cmd.Flags().StringVar(&full, "full-name", "", "the person's name")
	wordFlag(cmd, &role, "role", roles.All(), "what they may do")
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	return cmd
}

func (a *app) userShut(verb, short string, disabled bool, said string) *cobra.Command {
	var reason string
	cmd := &cobra.Command{
		Use:     verb + " NAME",
		Short:   short,
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis user " + verb + " merit --reason 'on leave until spring'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.changeUser(cmd, args[0], wire.UserChange{Disabled: &disabled, Reason: reason}, said, args[0])
		},
	}
	cmd.Flags().StringVar(&reason, "reason", "", "why, for the record")
	return cmd
}

func (a *app) userReset() *cobra.Command {
	return &cobra.Command{
		Use:     "reset NAME",
		Short:   "Give a person a new password, read from standard input; sessions and tokens end",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis user reset merit",
		RunE: func(cmd *cobra.Command, args []string) error {
			password, err := a.askSecret("New password for " + args[0] + ": ")
			if err != nil {
				return err
			}
			return a.changeUser(
				cmd, args[0], wire.UserChange{Password: &password},
				"%s has a new password. Have them change it with “endeixis password”.", args[0],
			)
		},
	}
}

func (a *app) passwordCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "password",
		Short:   "Change your own password; both are read from standard input",
		Args:    cobra.NoArgs,
		Example: "  endeixis password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			old, err := a.askSecret("Password of now: ")
			if err != nil {
				return err
			}
			password, err := a.askSecret("New password: ")
			if err != nil {
				return err
			}
			if err := c.ChangePassword(cmd.Context(), old, password); err != nil {
				return err
			}
			a.note(
				"Your password is changed. Sessions in a browser have ended; tokens go on: “endeixis token list” shows them.",
			)
			return nil
		},
	}
}
