// Command endeixisd is the service: it verifies what lies in its depots, keeps
// the keyring and the ledger, and serves the API and the console.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"endeixis/console"
	"endeixis/internal/api"
	"endeixis/internal/config"
	"endeixis/internal/devices"
	shipped "endeixis/internal/licences"
	"endeixis/internal/serve"
	"endeixis/internal/version"
	"endeixis/internal/wire"
	"endeixis/internal/witness"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	if err := root().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "endeixisd:", err)
		stop()
		os.Exit(1)
	}
	stop()
}

func root() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:           "endeixisd",
		Short:         "The Endeixis service",
		SilenceUsage:  true,
		SilenceErrors: true,
		Long:          "endeixisd verifies release artifacts in its depots, keeps the keyring and the ledger,\nand serves the API and the console. Settings come from one YAML file; every one of\nthem can be set in the environment too, database.url as ENDEIXIS_DATABASE__URL.",
	}
	cmd.PersistentFlags().StringVar(&file, "config", "", "the configuration file (YAML)")

	open := func(ctx context.Context, wait bool) (*serve.Service, *config.Loaded, error) {
		loaded, err := config.Load(file)
		if err != nil {
			return nil, nil, err
		}
		log, err := serve.Logger(loaded.Log, os.Stderr)
		if err != nil {
			return nil, nil, err
		}
		if wait {
			for _, warning := range loaded.Warnings(file) {
				log.Warn(warning)
			}
			if err := serve.AwaitDatabase(ctx, loaded.Config, log); err != nil {
				return nil, nil, err
			}
		}
		s, err := serve.Open(ctx, loaded.Config, log)
		return s, loaded, err
	}
	// What runs for long waits for a database that is away; what somebody waits
	// for says so.
	type run = func(*cobra.Command, []string) error
	opened := func(wait bool, f func(ctx context.Context, s *serve.Service) error) run {
		return func(cmd *cobra.Command, _ []string) error {
			s, _, err := open(cmd.Context(), wait)
			if err != nil {
				return err
			}
			defer s.Close()
			return f(cmd.Context(), s)
		}
	}
	withService := func(f func(ctx context.Context, s *serve.Service) error) func(*cobra.Command, []string) error {
		return opened(false, f)
	}
	running := func(f func(ctx context.Context, s *serve.Service) error) func(*cobra.Command, []string) error {
		return opened(true, f)
	}

	cmd.AddCommand(
		serveCommand(running), writersKeyCommand(withService), ledgerKeyCommand(withService), witnessCommand(),
		&cobra.Command{
			Use: "work", Short: "Work on batches only, beside a service on another host", Args: cobra.NoArgs,
			RunE: running(func(ctx context.Context, s *serve.Service) error { return s.Work(ctx) }),
		},
		migrateCommand(withService), initCommand(withService), configCommand(&file),
		hostKeyCommand(), openAPICommand(), versionCommand(),
	)
	return cmd
}

func hostKeyCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "host-key ADDRESS",
		Short: "Show the host key that a device has now, as a line for the file of host keys",
		Args:  cobra.ExactArgs(1),
		Long: `host-key asks a device for its host key, and prints it as a line for the file that
devices.host_keys names. It does not say whether that is the device: compare the
fingerprint with what stands on it, before you add the line.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			line, fingerprint, err := devices.HostKey(cmd.Context(), args[0])
			if err != nil {
				return fmt.Errorf("%s showed no host key: %w", args[0], err)
			}
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"%s\nCompare this with what stands on the device. If it is the same, add the line below to the file of host keys.\n",
				fingerprint,
			)
			fmt.Fprintln(cmd.OutOrStdout(), line)
			return nil
		},
	}
}

func openAPICommand() *cobra.Command {
	return &cobra.Command{
		Use: "openapi", Short: "Print the description of the API (OpenAPI 3.1)", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			document, err := api.Document()
			if err != nil {
				return err
			}
			_, err = os.Stdout.Write(document)
			return err
		},
	}
}

func serveCommand(
	running func(func(context.Context, *serve.Service) error) func(*cobra.Command, []string) error,
) *cobra.Command {
	start := serve.Start{Ready: func(string) {}}
	cmd := &cobra.Command{
		Use:     "serve",
		Short:   "Serve the API and the console, and work on batches",
		Args:    cobra.NoArgs,
		Long:    "serve keeps the newest checkpoint of the ledger beside the ledger's key, and does not\nstart on a database that is older, or another: somebody has cut it, or restored it. When\nyou have restored a backup yourself, start once with --after-restore: the ledger goes on\nfrom there, with a record that says so.",
		Example: "  endeixisd serve --config /etc/endeixis/endeixis.yaml",
		RunE:    running(func(ctx context.Context, s *serve.Service) error { return s.Serve(ctx, start) }),
	}
	cmd.Flags().BoolVar(
		&start.AfterRestore, "after-restore", false,
		"go on from a database that is older than the newest checkpoint, and put that on record",
	)
	return cmd
}

func writersKeyCommand(
	withService func(func(context.Context, *serve.Service) error) func(*cobra.Command, []string) error,
) *cobra.Command {
	return &cobra.Command{
		Use:     "writers-key",
		Short:   "Print the key for hosts that work beside the service",
		Args:    cobra.NoArgs,
		Long:    "writers-key prints the key by which records are sealed. Every host that runs\n“endeixisd work” needs it, in a file that only that program can read and that\nledger.writers_key_file names. Whoever has it, and may write to the database, can\nwrite records; signing checkpoints, and letting people in, takes the ledger's own key.",
		Example: "  endeixisd writers-key --config endeixis.yaml > writers.key",
		RunE: withService(func(ctx context.Context, s *serve.Service) error {
			text, err := s.WritersKey(ctx)
			if err == nil {
				fmt.Println(text)
			}
			return err
		}),
	}
}

func ledgerKeyCommand(
	withService func(func(context.Context, *serve.Service) error) func(*cobra.Command, []string) error,
) *cobra.Command {
	cmd := &cobra.Command{
		Use:   "ledger-key",
		Short: "Have the ledger go on with another key",
		Long:  "Stop the service, and every “endeixisd work”, before you change the key. Afterwards give\nhosts that work beside the service what “endeixisd writers-key” prints then, and start\neverything again. People sign in again to the console.",
	}
	type change = func(*serve.Service, context.Context) (public string, err error)
	follow := func(next change, after string) func(*cobra.Command, []string) error {
		return withService(func(ctx context.Context, s *serve.Service) error {
			public, err := next(s, ctx)
			if err != nil {
				return err
			}
			fmt.Printf(
				"Public key of the ledger from now on, to keep where others can find it:\n  %s\n%s\n", public, after,
			)
			return nil
		})
	}
	cmd.AddCommand(&cobra.Command{
		Use:     "rotate",
		Short:   "Make a new key; the old one signs that it follows",
		Args:    cobra.NoArgs,
		Long:    "rotate makes a new key. The old one signs once more, that the new one follows it: that\nis a record, and is in every receipt from then on, so that whoever knows the old key goes\non by itself. The old key's file is kept beside the new one, with “.ended” behind its name:\ndestroy it, its copies in backups too.",
		Example: "  endeixisd ledger-key rotate --config endeixis.yaml",
		RunE: follow(
			(*serve.Service).RotateKey,
			"The old key has signed that it is followed. Its file is kept with “.ended” behind its name: destroy it.",
		),
	}, &cobra.Command{
		Use:     "declare-lost",
		Short:   "Make a new key without the old one, which is lost",
		Args:    cobra.NoArgs,
		Long:    "declare-lost makes a new key where the file of the old one is gone, and no backup has it.\nWhat stands in the database is taken as it is, and the record of it says so: that nothing\nin it was altered before, only a checkpoint or a receipt shows that somebody has kept.\nEverybody signs in again with the client, and is asked.",
		Example: "  endeixisd ledger-key declare-lost --config endeixis.yaml",
		RunE: follow(
			(*serve.Service).DeclareKeyLost,
			"Nobody has signed that it follows the old one: tell everybody who knows that. They sign in again, and are asked.",
		),
	})
	return cmd
}

func witnessCommand() *cobra.Command {
	var dir, name, listen string
	var ledgers []string
	cmd := &cobra.Command{
		Use:     "witness",
		Short:   "Countersign the checkpoints of ledgers on another host",
		Args:    cobra.NoArgs,
		Long:    "witness needs no database: a folder of its own, and the public keys of the ledgers that it\ncountersigns. It signs no checkpoint that does not go on from those that it has signed\nbefore, so that a service whose host is taken over cannot show two histories. Run it on a\nhost that others look after. It speaks the open protocol tlog-witness.",
		Example: "  endeixisd witness --name witness.corran.example --dir /var/lib/endeixis-witness \\\n    --listen 127.0.0.1:7475 --ledger 'verify.skerrow.example+1a2b3c4d+AQ…'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := witness.New(dir, name, ledgers)
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			fmt.Printf(
				"Public key of this witness, for ledger.witnesses and “verify-receipt --witness”:\n  %s\nListening at http://%s\n",
				w.Key(),
				listener.Addr(),
			)
			server := &http.Server{
				Handler: w, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, WriteTimeout: time.Minute,
			}
			go func() {
				<-cmd.Context().Done()
				server.Close()
			}()
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&dir, "dir", "witness", "the folder in which it keeps its key and what it has seen")
	cmd.Flags().StringVar(&name, "name", "", "its name in countersignatures, such as witness.corran.example")
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:7475", "where it listens")
	cmd.Flags().StringArrayVar(
		&ledgers, "ledger", nil, "the public key of a ledger that it countersigns (repeat it for more)",
	)
	for _, needed := range []string{"name", "ledger"} {
		if err := cmd.MarkFlagRequired(needed); err != nil {
			panic(err) // the flag is above
		}
	}
	return cmd
}

func migrateCommand(
	withService func(func(context.Context, *serve.Service) error) func(*cobra.Command, []string) error,
) *cobra.Command {
	var role string
	cmd := &cobra.Command{
		Use:     "migrate",
		Short:   "Bring the database to this version",
		Args:    cobra.NoArgs,
		Long:    "migrate makes or changes the tables. Run it as the role that owns them, whose address\nthe environment can give, and name the role that the service runs as: that one is\nallowed what the service does, and nothing more.",
		Example: "  ENDEIXIS_DATABASE__URL=postgres://owner@db.skerrow.example/endeixis endeixisd migrate --config endeixis.yaml --service-role endeixis",
	}
	cmd.Flags().StringVar(
		&role, "service-role", "", "the database's role that the service runs as, when it does not own the tables",
	)
	cmd.RunE = withService(func(ctx context.Context, s *serve.Service) error {
		if err := s.Migrate(ctx); err != nil {
			return err
		}
		fmt.Println("The database is at the version of this program.")
		if role == "" {
			return nil
		}
		if err := s.Grant(ctx, role); err != nil {
			return err
		}
		fmt.Printf("The role %s can run the service, and cannot change what is never changed.\n", role)
		return nil
	})
	return cmd
}

func initCommand(
	withService func(func(context.Context, *serve.Service) error) func(*cobra.Command, []string) error,
) *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use:     "init",
		Short:   "Make the first administrator and the service's signing key",
		Args:    cobra.NoArgs,
		Long:    "init prepares an empty database: its tables, the first policy, the key that signs the\nledger's checkpoints, and one administrator, whose password is read from standard input.\nIt prints a token for that administrator once. Run again, it changes nothing.",
		Example: "  endeixisd init --config endeixis.yaml --administrator ines < password.txt",
	}
	cmd.Flags().StringVar(&name, "administrator", "admin", "sign-in name of the first administrator")
	cmd.RunE = withService(func(ctx context.Context, s *serve.Service) error {
		b, err := s.Init(ctx, name, readPassword)
		if err != nil {
			return err
		}
		if !b.Created {
			fmt.Println("Everything is there already; nothing was changed.")
			fmt.Println("Public key of the ledger:", b.PublicKey)
			return nil
		}
		fmt.Println("Public key of the ledger, to keep where others can find it:")
		fmt.Println("  " + b.PublicKey)
		if b.Token != "" {
			fmt.Printf(
				"Administrator %s was made. This token is shown only now and is good for a day:\n  %s\n",
				b.Administrator, b.Token,
			)
		}
		return nil
	})
	return cmd
}

// readPassword asks on a terminal without showing what is typed, and reads a
// line of standard input otherwise.
func readPassword() (string, error) {
	fmt.Fprint(os.Stderr, "Password for the administrator (at least 10 characters): ")
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		secret, err := term.ReadPassword(fd)
		fmt.Fprintln(os.Stderr)
		return string(secret), err
	}
	fmt.Fprintln(os.Stderr)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func configCommand(file *string) *cobra.Command {
	cmd := &cobra.Command{Use: "config", Short: "Look at the configuration"}
	cmd.AddCommand(&cobra.Command{
		Use: "check", Short: "Show every setting in force and where it comes from", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			loaded, err := config.Load(*file)
			if err != nil {
				return err
			}
			if _, err := serve.Logger(loaded.Log, os.Stderr); err != nil {
				return err
			}
			w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
			for _, s := range loaded.Settings {
				fmt.Fprintf(w, "%s\t%s\t%s\n", s.Path, s.Value, s.Source)
			}
			if err := w.Flush(); err != nil {
				return err
			}
			for _, warning := range loaded.Warnings(*file) {
				fmt.Fprintln(os.Stderr, "warning:", warning)
			}
			return nil
		},
	})
	return cmd
}

func versionCommand() *cobra.Command {
	var licences bool
	cmd := &cobra.Command{
		Use: "version", Short: "Print the version", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if !licences {
				fmt.Printf("endeixisd %s, level %d of the API\n", version.Full(), wire.Level)
				return nil
			}
			// Those of the console are with it, and have those of the programs among them.
			text, err := fs.ReadFile(console.Files(), "licences.txt")
			if err != nil {
				return shipped.ErrNotCollected
			}
			_, err = os.Stdout.Write(text)
			return err
		},
	}
	cmd.Flags().BoolVar(&licences, "licences", false, "print the licences of what the service and its console are made of")
	return cmd
}
