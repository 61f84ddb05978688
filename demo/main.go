// Command demo starts everything that is needed to try Endeixis: a private
// PostgreSQL, the service with a depot of made-up downloads, people, and a
// profile with which bin/endeixis works at once. It stays until Ctrl-C and then
// stops all that it started. Every run starts afresh.
package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"endeixis/demo/scenario"
	"endeixis/internal/cli"
	"endeixis/internal/client"
	"endeixis/internal/pgserver"
	"endeixis/internal/version"
	"endeixis/internal/wire"
)

const (
	binDir  = "bin"
	keepDir = ".demo"
	port    = 7474
)

func main() {
	if len(os.Args) > 1 && os.Args[1] == "version" {
		fmt.Println("demo", version.Full())
		return
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	if err := run(ctx); err != nil && !errors.Is(err, context.Canceled) {
		fmt.Fprintln(os.Stderr, "demo:", err)
		stop()
		os.Exit(1)
	}
	stop()
}

func run(ctx context.Context) error {
	d := &demo{}
	defer d.stop()
	for _, step := range []struct {
		says string
		does func(context.Context) error
	}{
		{"making room", d.clear},
		{"making the publishers' downloads", d.downloads},
		{"starting PostgreSQL", d.database},
		{"starting what stands in for the world outside", d.outside},
		{"setting up the service", d.setUp},
		{"starting the service", d.serve},
		{"adding people, publishers and keys", d.people},
	} {
		fmt.Println("…", step.says)
		if err := step.does(ctx); err != nil {
			return fmt.Errorf("%s: %w", step.says, err)
		}
	}
	d.tell()
	select {
	case <-ctx.Done():
		fmt.Println("\nStopping.")
		return nil
	case <-d.ended:
		return fmt.Errorf("the service ended by itself; its log is in %s", d.logPath())
	}
}

type demo struct {
	lock    *os.File
	pg      *pgserver.Server
	address string
	config  string
	token   string
	service *exec.Cmd
	ended   chan struct{} // closed when the service has ended
	// world stands in for what lies outside, at worldURL.
	world    *exec.Cmd
	worldURL string
	// gauges are the addresses of the harbour's gauges, by name.
	gauges map[string]string
}

func (d *demo) logPath() string { return filepath.Join(keepDir, "service.log") }

// clear removes what an earlier run left, and ends a service that outlived a
// killed demo. Another demo that runs is left alone.
func (d *demo) clear(context.Context) error {
	if err := os.MkdirAll(keepDir, 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(keepDir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return errors.New("a demo runs in this checkout already; stop it with Ctrl-C first")
	}
	d.lock = lock
	endLeftover(filepath.Join(keepDir, "service.pid"), "endeixisd")
	endLeftover(filepath.Join(keepDir, "world.pid"), "endeixis-world")
	entries, err := os.ReadDir(keepDir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() != "lock" {
			if err := os.RemoveAll(filepath.Join(keepDir, e.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

// endLeftover ends the process of a PID file if it is still that program.
func endLeftover(path, program string) {
	text, err := os.ReadFile(path)
	if err != nil {
		return
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || pid < 2 {
		return
	}
	runs, err := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	if err != nil || filepath.Base(strings.TrimSuffix(runs, " (deleted)")) != program {
		return
	}
	syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // it may be gone
}

func (d *demo) downloads(context.Context) error {
	if err := scenario.Write(filepath.Join(keepDir, scenario.Depot)); err != nil {
		return err
	}
	if err := scenario.WriteMirrors(filepath.Join(keepDir, "mirrors")); err != nil {
		return err
	}
	if err := scenario.WriteDirectories(filepath.Join(keepDir, "directories")); err != nil {
		return err
	}
	if err := scenario.WriteGauges(filepath.Join(keepDir, "gauges")); err != nil {
		return err
	}
	if err := scenario.WriteGaugeKinds(filepath.Join(keepDir, "device-kinds")); err != nil {
		return err
	}
	return scenario.WriteKeys(filepath.Join(keepDir, "publisher-keys"))
}

// outside starts the stand-ins for what lies outside.
func (d *demo) outside(context.Context) error {
	d.world = exec.Command(
		filepath.Join(binDir, "endeixis-world"), "--mirrors", filepath.Join(keepDir, "mirrors"), "--directories",
		filepath.Join(keepDir, "directories"), "--gauges", filepath.Join(keepDir, "gauges"),
	)
	d.world.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := d.world.StdoutPipe()
	if err != nil {
		return err
	}
	if err := d.world.Start(); err != nil {
		return err
	}
	if err := os.WriteFile(
		filepath.Join(keepDir, "world.pid"), []byte(strconv.Itoa(d.world.Process.Pid)), 0o600,
	); err != nil {
		return err
	}
	d.gauges = map[string]string{}
	for lines := bufio.NewReader(out); d.worldURL == ""; {
		line, err := lines.ReadString('\n')
		if err != nil {
			return fmt.Errorf("it did not say where it is: %w", err)
		}
		what, where, _ := strings.Cut(strings.TrimSpace(line), " is at ")
		if what == "The world" {
			d.worldURL = where
		} else {
			d.gauges[what] = where
		}
	}
	return scenario.WriteLogin(filepath.Join(keepDir, "gauges.key"), filepath.Join(keepDir, "host_keys"), d.gauges)
}

func (d *demo) database(ctx context.Context) (err error) {
	d.pg, err = pgserver.Start(ctx)
	return err
}

// setUp writes the configuration and runs “endeixisd init”, as an
// administrator would.
func (d *demo) setUp(ctx context.Context) error {
	owner, err := pgserver.CreateDatabase(ctx, d.pg.URL("postgres"))
	if err != nil {
		return err
	}
	role, url, err := pgserver.CreateRole(ctx, owner)
	if err != nil {
		return err
	}
	d.address = fmt.Sprintf("127.0.0.1:%d", port)
	if l, err := net.Listen("tcp", d.address); err != nil {
		// Something else has our port; any other will do.
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return err
		}
		d.address = l.Addr().String()
		l.Close()
	} else {
		l.Close()
	}
	d.config = filepath.Join(keepDir, "endeixis.yaml")
	text := fmt.Sprintf(`# Made by the demo; gone with its next start.
name: verify.skerrow.example
listen: %s
database:
  url: %s
ledger:
  key_file: ledger.key
depots:
  %s: %s
origins:
`, d.address, url, scenario.Depot, scenario.Depot)
	for _, name := range scenario.Mirrors() {
		text += fmt.Sprintf("  %s:\n    url: %s/mirrors/%s/\n    channel: mirror\n", name, d.worldURL, name)
	}
	text += fmt.Sprintf(`directories:
  - {name: harbour, kind: hkp, url: "%[1]s/directories/harbour/"}
  - {name: tired, kind: hkp, url: "%[1]s/tired/"}
  - {name: lookalike, kind: hkp, url: "%[1]s/directories/lookalike/"}
  - {name: tidewright-own, kind: wkd, url: "%[1]s/directories/harbour/wkd/", domain: tidewright.example}
`, d.worldURL)
	text += fmt.Sprintf(
		"devices:\n  kinds: device-kinds\n  host_keys: host_keys\n  credentials:\n    %s: {user: %s, key_file: gauges.key}\n",
		scenario.GaugeCredential,
		scenario.GaugeUser,
	)
	if err := os.WriteFile(d.config, []byte(text), 0o600); err != nil {
		return err
	}
	// The tables belong to another role than the one that the service runs as.
	migrate := exec.CommandContext(
		ctx, filepath.Join(binDir, "endeixisd"), "migrate", "--config", d.config, "--service-role", role,
	)
	migrate.Env = append(os.Environ(), "ENDEIXIS_DATABASE__URL="+owner)
	if out, err := migrate.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	admin := scenario.People()[0]
	cmd := exec.CommandContext(
		ctx, filepath.Join(binDir, "endeixisd"), "init", "--config", d.config, "--administrator", admin.Name,
	)
	cmd.Stdin = strings.NewReader(admin.Password + "\n")
	var log strings.Builder
	cmd.Stderr = &log
	out, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("%w\n%s", err, log.String())
	}
	lines := bufio.NewScanner(strings.NewReader(string(out)))
	for lines.Scan() {
		if word := strings.TrimSpace(lines.Text()); strings.HasPrefix(word, "endx_") {
			d.token = word
		}
	}
	if d.token == "" {
		return fmt.Errorf("endeixisd init gave no token:\n%s", out)
	}
	return nil
}

func (d *demo) serve(ctx context.Context) error {
	log, err := os.Create(d.logPath())
	if err != nil {
		return err
	}
	defer log.Close()
	d.service = exec.Command(filepath.Join(binDir, "endeixisd"), "serve", "--config", d.config)
	d.service.Stdout, d.service.Stderr = log, log
	// Ctrl-C is for us; the service is stopped when we say so.
	d.service.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := d.service.Start(); err != nil {
		return err
	}
	if err := os.WriteFile(
		filepath.Join(keepDir, "service.pid"), []byte(strconv.Itoa(d.service.Process.Pid)), 0o600,
	); err != nil {
		return err
	}
	d.ended = make(chan struct{})
	go func() {
		d.service.Wait() //nolint:errcheck // its log tells more
		close(d.ended)
	}()
	deadline := time.Now().Add(time.Minute)
	for time.Now().Before(deadline) {
		response, err := http.Get("http://" + d.address + "/readyz")
		if err == nil {
			io.Copy(io.Discard, response.Body) //nolint:errcheck // that it answers is enough
			response.Body.Close()
			if response.StatusCode == http.StatusOK {
				return nil
			}
		}
		select {
		case <-d.ended:
			return fmt.Errorf("it ended at once; its log is in %s", d.logPath())
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	return fmt.Errorf("it was not ready in a minute; its log is in %s", d.logPath())
}

// people adds everybody, the publishers, and two keys: one admitted on two
// sightings, one that waits for a decision.
func (d *demo) people(ctx context.Context) error {
	admin, err := client.New("http://"+d.address, d.token)
	if err != nil {
		return err
	}
	everybody := scenario.People()
	for _, p := range everybody[1:] {
		if err := admin.AddUser(
			ctx, wire.NewUser{Name: p.Name, FullName: p.FullName, Role: p.Role, Password: p.Password},
		); err != nil {
			return err
		}
	}
	curator := everybody[2]
	tobiah, err := client.New("http://"+d.address, "")
	if err != nil {
		return err
	}
	issued, err := tobiah.SignIn(ctx, curator.Name, curator.Password, "demo profile", 30)
	if err != nil {
		return err
	}
	if err := scenario.Keep(ctx, tobiah); err != nil {
		return err
	}
	if err := scenario.KeepGauges(ctx, tobiah, d.gauges); err != nil {
		return err
	}
	status, err := tobiah.Status(ctx)
	if err != nil {
		return err
	}
	return cli.SaveProfile(
		cli.ProfileBeside(binDir), "http://"+d.address, curator.Name, string(curator.Role), issued.Text,
		status.PublicKey,
	)
}

func (d *demo) tell() {
	fmt.Printf("\nEndeixis is ready at  http://%s\n\nSign in as\n", d.address)
	for _, p := range scenario.People() {
		fmt.Printf("  %-8s  %-20s  %-14s %s\n", p.Name, p.Password, p.Role, p.Does)
	}
	next := scenario.Keys()[1]
	fmt.Printf(`
In another terminal of this checkout (bin/endeixis is signed in as tobiah):
  bin/endeixis batch run %[1]s:tidewright/gauge-fw-4.2 --wait
  bin/endeixis batch run %[1]s:tidewright/gauge-fw-4.2-flipped --wait
  bin/endeixis batch run %[1]s:brackwater/buoy-rx-1.9 --wait
  bin/endeixis keyring show %[2]s
  bin/endeixis device show KG-08
  bin/endeixis record audit

The depot is %[3]s, publishers' keys to import lie in %[4]s.
Stop with Ctrl-C.
`, scenario.Depot, next.Fingerprint, filepath.Join(keepDir, scenario.Depot), filepath.Join(keepDir, "publisher-keys"))
}

// stop ends everything, the service before its database.
func (d *demo) stop() {
	if d.service != nil && d.service.Process != nil {
		d.service.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have ended
		select {
		case <-d.ended:
		case <-time.After(20 * time.Second):
			d.service.Process.Kill() //nolint:errcheck // it may have ended by itself
			<-d.ended
		}
	}
	if d.world != nil && d.world.Process != nil {
		d.world.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have ended
		d.world.Wait()                          //nolint:errcheck // it was told to end
	}
	if d.pg != nil {
		d.pg.Stop()
	}
	if d.lock != nil {
		os.Remove(cli.ProfileBeside(binDir))
		d.lock.Close()
	}
}
