package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"endeixis/core/plain"
	shipped "endeixis/internal/licences"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

// versions are those of this program and of the service.
type versions struct {
	Program program  `json:"program"`
	Service *program `json:"service,omitempty"`
	Server  string   `json:"server,omitempty"`
	// Understood is whether each reads what the other says; missing where no service was asked.
	Understood *bool `json:"understood,omitempty"`
	// Trouble says why the service could not be asked.
	Trouble string `json:"trouble,omitempty"`
}

type program struct {
	Version string `json:"version"`
	Level   int    `json:"level"`
}

func (p program) String() string {
	name := p.Version
	if name == "" {
		name = "a version that it does not tell"
	}
	return fmt.Sprintf("%s, level %d of the API", plain.Text(name), p.Level)
}

func (a *app) versionCommand() *cobra.Command {
	var licences bool
	cmd := &cobra.Command{
		Use:     "version",
		Short:   "Show the versions of this program and of the service",
		Args:    cobra.NoArgs,
		Example: "  endeixis version\n  endeixis version --licences",
		Long:    "version shows which version this program is and, where a service is known, which version\nthat is: nobody has to be signed in. Programs of one level of the API understand each\nother; of those that differ each says so, and which one is to be brought up to date.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if licences {
				text, err := shipped.Text()
				if err == nil {
					fmt.Fprint(a.stdout, text)
				}
				return err
			}
			out := versions{Program: program{version.Full(), wire.Level}}
			g := &grid{header: []string{"program", "version", "level"}}
			g.add("endeixis", out.Program.Version, strconv.Itoa(out.Program.Level))
			says := ""
			if c, err := a.stranger(); err == nil {
				out.Server = c.Server()
				met, err := c.Greet(cmd.Context())
				if err != nil {
					out.Trouble = err.Error()
					says = out.Trouble
				} else {
					understood := met.Differs == nil
					out.Service, out.Understood = &program{met.Version, met.Level}, &understood
					g.add("endeixisd", met.Version, strconv.Itoa(met.Level))
					if says = "They understand each other."; !understood {
						says = met.Differs.Error()
					}
				}
			}
			return a.print(out, g, func() {
				fmt.Fprintf(a.stdout, "%s  %s\n", a.faint("endeixis "), out.Program)
				if out.Service != nil {
					fmt.Fprintf(
						a.stdout, "%s  %s\n%s  %s\n", a.faint("endeixisd"), *out.Service, a.faint("         "),
						plain.Text(out.Server),
					)
				}
				if says != "" {
					fmt.Fprintln(a.stdout, plain.Text(says))
				}
			})
		},
	}
	cmd.Flags().BoolVar(&licences, "licences", false, "print the licences of what the program is made of")
	return cmd
}
