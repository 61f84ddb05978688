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
			password, err := a.ask("Password for "+args[0]+": ", "", true)
			if err != nil {
				return err
			}
			if err := c.AddUser(cmd.Context(), wire.NewUser{Name: args[0], FullName: full, Role: role, Password: password}); err != nil {
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
			g := &grid{header: []string{"name", "full name", "role"}}
			for _, u := range users {
				g.add(u.Name, u.FullName, string(u.Role))
			}
			return a.print(users, g, nil)
		},
	}
	cmd.AddCommand(add, list)
	return cmd
}
