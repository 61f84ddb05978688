package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/wire"
)

func (a *app) loginCommand() *cobra.Command {
	var user, token string
	var days int
	cmd := &cobra.Command{
		Use: "login", Short: "Sign in and remember it", Args: cobra.NoArgs,
		Long:    "login asks for your password, exchanges it for a token, and remembers service and\ntoken in a profile that only you can read. The password is not kept.",
		Example: "  endeixis login --server http://verify.skerrow.example:7474 --user ines",
		RunE: func(cmd *cobra.Command, _ []string) error {
			server := a.address()
			if server == "" {
				return usage("which service? Give its address with --server")
			}
			c, err := client.New(server, token)
			if err != nil {
				return usage("%w", err)
			}
			if token == "" {
				if user, err = a.ask("Name: ", user, false); err != nil {
					return err
				}
				password, err := a.ask("Password: ", "", true)
				if err != nil {
					return err
				}
				host, _ := os.Hostname()
				issued, err := c.SignIn(cmd.Context(), user, password, "client on "+host, days)
				if err != nil {
					return err
				}
				token = issued.Text
			}
			me, err := c.Me(cmd.Context())
			if err != nil {
				return err
			}
			status, err := c.Status(cmd.Context())
			if err != nil {
				return err
			}
			a.profile = profile{Server: c.Server(), User: me.Name, Role: string(me.Role), Token: token, PublicKey: status.PublicKey}
			if err := a.profile.save(a.profilePath); err != nil {
				return fmt.Errorf("signed in, and the profile could not be written: %w", err)
			}
			a.note("Signed in to %s as %s (%s).", c.Server(), me.Name, me.Role)
			return nil
		},
	}
	cmd.Flags().StringVar(&user, "user", "", "your sign-in name")
	cmd.Flags().StringVar(&token, "token", "", "use this token instead of name and password")
	cmd.Flags().IntVar(&days, "days", 30, "how long the token is good for")
	return cmd
}

// ask returns the given value, or asks for it; a secret is not shown while it
// is typed.
func (a *app) ask(prompt, given string, secret bool) (string, error) {
	if given != "" {
		return given, nil
	}
	fmt.Fprint(a.stderr, prompt)
	if f, ok := a.stdin.(*os.File); ok && secret && term.IsTerminal(int(f.Fd())) {
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.stderr)
		return string(text), err
	}
	// One byte at a time, so that the next question finds its own line.
	var line strings.Builder
	one := make([]byte, 1)
	for {
		n, err := a.stdin.Read(one)
		if n == 1 && one[0] != '\n' {
			line.WriteByte(one[0])
		}
		if n == 1 && one[0] == '\n' || errors.Is(err, io.EOF) {
			return strings.TrimRight(line.String(), "\r"), nil
		}
		if err != nil {
			return "", err
		}
	}
}

func (a *app) logoutCommand() *cobra.Command {
	return &cobra.Command{
		Use: "logout", Short: "End the token and forget it", Args: cobra.NoArgs, Example: "  endeixis logout",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if a.profile.Token == "" {
				a.note("You are not signed in.")
				return nil
			}
			c, err := client.New(a.profile.Server, a.profile.Token)
			if err != nil {
				return err
			}
			if err := c.RevokeOwnToken(cmd.Context()); err != nil {
				a.note("The service could not be asked to end the token: %v", err)
			}
			a.profile.Token = ""
			if err := a.profile.save(a.profilePath); err != nil {
				return err
			}
			a.note("Signed out of %s.", a.profile.Server)
			return nil
		},
	}
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show the service, and who is signed in", Args: cobra.NoArgs, Example: "  endeixis status",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			me, err := c.Me(cmd.Context())
			if err != nil {
				return err
			}
			s, err := c.Status(cmd.Context())
			if err != nil {
				return err
			}
			g := &grid{header: []string{"", ""}}
			g.add("service", c.Server())
			g.add("version", s.Version)
			g.add("signed in", fmt.Sprintf("%s (%s)", me.Name, me.Role))
			g.add("depots", strings.Join(s.Depots, ", "))
			g.add("records", strconv.FormatInt(s.Records, 10))
			g.add("policy", "version "+strconv.FormatInt(s.Policy, 10))
			g.add("public key", s.PublicKey)
			return a.print(struct {
				Server string `json:"server"`
				User   any    `json:"user"`
				Status any    `json:"service"`
			}{c.Server(), me, s}, g, func() {
				for _, row := range g.rows {
					fmt.Fprintf(a.stdout, "%s  %s\n", a.faint(fmt.Sprintf("%-10s", row[0])), plain.Text(row[1]))
				}
			})
		},
	}
}

func (a *app) userCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "user", Short: "Keep the list of people"}
	var full, role string
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
			if err := c.AddUser(cmd.Context(), wire.NewUser{Name: args[0], FullName: full, Role: roles.Role(role), Password: password}); err != nil {
				return err
			}
			a.note("%s can sign in now, as %s.", args[0], role)
			return nil
		},
	}
	add.Flags().StringVar(&full, "full-name", "", "the person's name")
	add.Flags().StringVar(&role, "role", "operator", "auditor, operator, curator or administrator")
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

func (a *app) tokenCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Keep tokens for programs"}
	var label, role string
	var days int
	issue := &cobra.Command{
		Use: "issue", Short: "Make a token; it is shown this once", Args: cobra.NoArgs,
		Example: "  endeixis token issue --label 'nightly build' --role operator --days 90",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := c.IssueToken(cmd.Context(), label, roles.Role(role), days)
			if err != nil {
				return err
			}
			return a.print(t, &grid{header: []string{"token"}, rows: [][]string{{t.Text}}}, func() {
				fmt.Fprintln(a.stdout, t.Text)
				a.note("Token %d, role %s, good until %s. It is shown only now.", t.ID, t.Role, moment(t.Expires))
			})
		},
	}
	issue.Flags().StringVar(&label, "label", "", "what it is for")
	issue.Flags().StringVar(&role, "role", "", "at most your own role, which is the default")
	issue.Flags().IntVar(&days, "days", 30, "how long it is good for")
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
			g := &grid{header: []string{"id", "owner", "role", "label", "expires", "ended"}}
			for _, t := range tokens {
				ended := ""
				if t.Revoked != nil {
					ended = moment(*t.Revoked)
				}
				g.add(strconv.FormatInt(t.ID, 10), t.Owner, string(t.Role), t.Label, moment(t.Expires), ended)
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

// number reads a number from the command line.
func number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, usage("%q is not %s", text, what)
	}
	return n, nil
}

// firstLine reads the first line of a text.
func firstLine(text string) string {
	line, _ := bufio.NewReader(strings.NewReader(text)).ReadString('\n')
	return strings.TrimSpace(line)
}
