// Package cli is the command line of the client.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"endeixis/internal/client"
	"endeixis/internal/version"
)

// Exit codes. They are documented and stable.
const (
	exitDone     = 0  // everything cleared, or the command succeeded
	exitFailed   = 1  // the command failed
	exitUsage    = 2  // wrong usage
	exitNoAccess = 3  // the service is unreachable, or access is denied
	exitRefused  = 10 // something was refused
	exitUnproven = 11 // nothing was refused, something is unproven
)

// An exit ends the program with a code. Its message, if any, is for people.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func usage(format string, args ...any) error {
	return &exit{exitUsage, fmt.Errorf(format, args...)}
}

// app is what all commands share.
type app struct {
	stdin          io.Reader
	stdout, stderr io.Writer
	terminal       bool // stdout is one
	progress       bool // stderr is a terminal
	server         string
	output         string
	profile        profile
	profilePath    string
	// allAbsent lists all entries without a file.
	allAbsent bool
	// columns are those to write in; 0 asks the terminal.
	columns int
}

// Main runs the client with the process's arguments and returns its exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{
		stdin: os.Stdin, stdout: os.Stdout, stderr: os.Stderr,
		terminal: term.IsTerminal(int(os.Stdout.Fd())), progress: term.IsTerminal(int(os.Stderr.Fd())),
	}
	return a.run(ctx, os.Args[1:])
}

func (a *app) run(ctx context.Context, args []string) int {
	root := a.root()
	root.SetArgs(args)
	root.SetOut(a.stdout)
	root.SetErr(a.stderr)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return exitDone
	}
	code := exitFailed
	var e *exit
	var problem *client.Error
	var unreachable *client.Unreachable
	switch {
	case errors.As(err, &e):
		code = e.code
	case errors.As(err, &unreachable):
		code = exitNoAccess
	case errors.As(err, &problem):
		switch problem.Status {
		case 401, 403, 429, 503:
			code = exitNoAccess
		}
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(a.stderr, "endeixis: "+text)
	}
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use: "endeixis", Short: "Verify release artifacts and keep the proof", Version: version.Full(),
		SilenceUsage: true, SilenceErrors: true,
		Long: `endeixis asks the Endeixis service whether files are as their publishers made them.

Exit codes: 0 everything cleared, or the command succeeded; 1 the command failed;
2 wrong usage; 3 the service is unreachable or access is denied; 10 something was
refused; 11 nothing was refused, something is unproven.`,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			switch a.output {
			case "table", "json", "yaml", "csv":
			default:
				return usage("--output %q: use table, json, yaml or csv", a.output)
			}
			return a.loadProfile()
		},
	}
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv")
	root.PersistentFlags().StringVar(&a.server, "server", "", "address of the service (or ENDEIXIS_SERVER)")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usage("%w; see “%s --help”", err, cmd.CommandPath())
	})
	_ = root.RegisterFlagCompletionFunc(
		"output", cobra.FixedCompletions([]string{"table", "json", "yaml", "csv"}, cobra.ShellCompDirectiveNoFileComp),
	)
	root.AddCommand(
		a.loginCommand(), a.logoutCommand(), a.statusCommand(), a.versionCommand(), a.batchCommand(),
		a.keyringCommand(), a.publisherCommand(), a.recordCommand(), a.policyCommand(), a.waiverCommand(),
		a.reassessCommand(), a.userCommand(), a.passwordCommand(), a.tokenCommand(), a.digestCommand(),
		a.manifestCommand(), a.referenceCommand(), a.spotCommand(), a.readbackCommand(), a.deviceCommand(),
		a.satchelCommand(), a.attentionCommand(),
	)
	root.Args = cobra.ArbitraryArgs
	strict(root)
	helpWithin(root, a.width)
	return root
}

// strict turns a wrong number of arguments into wrong usage, and a group of
// commands called without one, or with an unknown one, into its help.
func strict(cmd *cobra.Command) {
	if check := cmd.Args; check != nil {
		cmd.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return usage("%w; usage: %s", err, cmd.UseLine())
			}
			return nil
		}
	}
	if cmd.HasSubCommands() && cmd.RunE == nil {
		cmd.RunE = func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usage("%s has no command %q; see “%s --help”", cmd.Name(), args[0], cmd.CommandPath())
			}
			return cmd.Help()
		}
	}
	for _, sub := range cmd.Commands() {
		strict(sub)
	}
}

// client returns the API client for the server in force.
func (a *app) client() (*client.Client, error) {
	c, err := a.stranger()
	if err != nil {
		return nil, err
	}
	return c.Before(func(ctx context.Context) error { return a.meet(ctx, c) }), nil
}

// stranger returns a client of the service that does not look whether its ledger is the one
// that was seen before.
func (a *app) stranger() (*client.Client, error) {
	server, token := a.address(), os.Getenv("ENDEIXIS_TOKEN")
	if server == "" {
		return nil, &exit{
			exitNoAccess,
			errors.New("no service is known yet; sign in with “endeixis login --server http://host:7474”"),
		}
	}
	if token == "" && server == a.profile.Server {
		token = a.profile.Token
	}
	return client.New(server, token)
}

// address returns the server by flag, environment or profile.
func (a *app) address() string {
	if a.server != "" {
		return a.server
	}
	if env := os.Getenv("ENDEIXIS_SERVER"); env != "" {
		return env
	}
	return a.profile.Server
}

// note tells people something beside the output.
func (a *app) note(format string, args ...any) {
	said := fmt.Sprintf(format, args...)
	if a.progress { // on a terminal, whose columns are few or many
		said = text.WrapSoft(said, a.width())
	}
	for line := range strings.SplitSeq(said, "\n") {
		fmt.Fprintln(a.stderr, strings.TrimRight(line, " "))
	}
}
