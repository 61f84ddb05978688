package cli

import (
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
)

func (a *app) loginCommand() *cobra.Command {
	var user, token string
	var askToken bool
	var days int
	cmd := &cobra.Command{
		Use:     "login",
		Short:   "Sign in and remember it",
		Args:    cobra.NoArgs,
		Long:    "login asks for your password, exchanges it for a token, and remembers service and\ntoken in a profile that only you can read. The password is not kept. No secret\nis given on the command line, where others on the host could read it.",
		Example: "  endeixis login --server http://verify.skerrow.example:7474 --user ines",
		RunE: func(cmd *cobra.Command, _ []string) error {
			server := a.address()
			if server == "" {
				return usage("which service? Give its address with --server")
			}
			if askToken {
				var err error
				if token, err = a.askSecret("Token: "); err != nil {
					return err
				}
			}
			c, err := client.New(server, token)
			if err != nil {
				return usage("%w", err)
			}
			if token == "" {
				if user == "" {
					if user, err = a.ask("Name: "); err != nil {
						return err
					}
				}
				password, err := a.askSecret("Password: ")
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
			if err := a.acceptKey(cmd.Context(), c, status.PublicKey); err != nil {
				return err
			}
			a.profile = profile{
				Server: c.Server(), User: me.Name, Role: string(me.Role), Token: token, PublicKey: status.PublicKey,
			}
			if err := a.profile.save(a.profilePath); err != nil {
				return fmt.Errorf("signed in, and the profile could not be written: %w", err)
			}
			a.note("Signed in to %s as %s (%s).", c.Server(), me.Name, me.Role)
			return nil
		},
	}
	cmd.Flags().StringVar(&user, "user", "", "your sign-in name")
	cmd.Flags().BoolVar(&askToken, "ask-token", false, "ask for a token instead of name and password")
	cmd.Flags().IntVar(&days, "days", 30, "how long the token is good for")
	return cmd
}

// askSecret asks for what is not shown while it is typed.
func (a *app) askSecret(prompt string) (string, error) {
	f, ok := a.stdin.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return a.ask(prompt)
	}
	fmt.Fprint(a.stderr, prompt)
	text, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(a.stderr)
	return string(text), err
}

// ask asks for a line.
func (a *app) ask(prompt string) (string, error) {
	fmt.Fprint(a.stderr, prompt)
	// One byte at a time, so that the next question finds its own line.
	var line strings.Builder
	char := make([]byte, 1)
	for {
		n, err := a.stdin.Read(char)
		if n == 1 && char[0] != '\n' {
			line.WriteByte(char[0])
		}
		if n == 1 && char[0] == '\n' || errors.Is(err, io.EOF) {
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
		Use:     "status",
		Short:   "Show the service, and who is signed in",
		Args:    cobra.NoArgs,
		Example: "  endeixis status",
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
			if s.Trouble == "" {
				g.add("policy", "version "+strconv.FormatInt(s.Policy, 10))
			} else {
				g.add("trouble", s.Trouble)
			}
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
