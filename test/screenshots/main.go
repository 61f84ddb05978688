// Command screenshots makes the pictures in docs/screenshots from the demo
// data: it starts the demo, does what a newcomer would do, and takes a picture
// of each page in headless Chromium and of each main command in a terminal
// under Xvfb. Run it with “make screenshots” from the root of the checkout.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"endeixis/demo/scenario"
	"endeixis/internal/browser"
)

const (
	into   = "docs/screenshots"
	width  = 1280
	height = 800
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	if err := run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		stop()
		os.Exit(1)
	}
	stop()
}

func run(ctx context.Context) error {
	address, stop, err := startDemo()
	if err != nil {
		return err
	}
	defer stop()
	if err := os.MkdirAll(into, 0o755); err != nil {
		return err
	}
	// Work for the pictures: three batches, one of each verdict.
	const list = "oarlock-logger-2.4-digests.txt"
	for _, batch := range [][]string{
		{"tidewright/gauge-fw-4.2"},
		{"tidewright/gauge-fw-4.2-flipped"},
		{"brackwater/buoy-rx-1.9"},
		{"tidewright/gauge-fw-4.3-partial"},
		{"corran/chart-2026-10-damaged"},
		{"oarlock/logger-2.4", "--copy", list + "=oarlock-north:2.4/" + list, "--copy", list + "=oarlock-south:2.4/" + list},
	} {
		cmd := exec.CommandContext(
			ctx,
			"bin/endeixis",
			append([]string{"batch", "run", scenario.Depot + ":" + batch[0], "--wait"}, batch[1:]...)...)
		if out, err := cmd.CombinedOutput(); err != nil && cmd.ProcessState.ExitCode() < 10 {
			return fmt.Errorf("%w\n%s", err, out)
		}
	}
	// A key that the publisher's anchor certifies, and one on which much rests.
	const next = "tidewright-release-2027.asc"
	cmd := exec.CommandContext(
		ctx, "bin/endeixis", "keyring", "import", filepath.Join(".demo", "publisher-keys", next), "--publisher",
		"tidewright",
	)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, out)
	}
	var certified string
	for _, k := range scenario.Keys() {
		if k.Name == next {
			certified = k.Fingerprint
		}
	}
	release := scenario.Keys()[0].Fingerprint
	if err := pages(ctx, "http://"+address, certified, release); err != nil {
		return err
	}
	return terminals(ctx, certified, release)
}

// startDemo starts the demo and waits for its address.
func startDemo() (address string, stop func(), err error) {
	cmd := exec.Command("bin/endeixis-demo")
	cmd.Stderr = os.Stderr
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return "", nil, err
	}
	if err := cmd.Start(); err != nil {
		return "", nil, err
	}
	stop = func() {
		cmd.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have ended
		cmd.Wait()                          //nolint:errcheck // it was told to end
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if _, after, ok := strings.Cut(lines.Text(), "http://"); ok {
			address = strings.TrimSpace(after)
		}
		if strings.HasPrefix(lines.Text(), "Stop with") {
			go io.Copy(io.Discard, out) //nolint:errcheck // what it says is not wanted
			return address, stop, nil
		}
	}
	stop()
	return "", nil, errors.New("the demo did not start")
}

// pages takes the pictures of the console.
func pages(ctx context.Context, base, certified, release string) error {
	ctx, cancel, err := browser.New(ctx, width, height)
	if err != nil {
		return err
	}
	defer cancel()
	shot := func(name string, actions ...chromedp.Action) error {
		var png []byte
		actions = append(actions, chromedp.Sleep(400*time.Millisecond), chromedp.CaptureScreenshot(&png))
		if err := chromedp.Run(ctx, actions...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return os.WriteFile(filepath.Join(into, name+".png"), png, 0o644)
	}
	visit := func(path, waitFor string) chromedp.Action {
		return chromedp.Tasks{chromedp.Navigate(base + path), chromedp.WaitVisible(waitFor, chromedp.ByQuery)}
	}
	theme := func(name string) chromedp.Action {
		return chromedp.Evaluate(
			`localStorage.setItem("endeixis-theme", "`+name+`"); document.documentElement.dataset.theme = "`+name+`"`,
			nil,
		)
	}
	// give chooses the files of a folder, as through the page's button.
	give := func(folder string) chromedp.Action {
		return chromedp.QueryAfter(
			"input[type=file][multiple]",
			func(ctx context.Context, _ runtime.ExecutionContextID, nodes ...*cdp.Node) error {
				dir, err := filepath.Abs(filepath.Join(".demo", "quayside", folder))
				if err != nil {
					return err
				}
				files, err := filepath.Glob(filepath.Join(dir, "*"))
				if err != nil {
					return err
				}
				return dom.SetFileInputFiles(files).WithNodeID(nodes[0].NodeID).Do(ctx)
			},
			chromedp.ByQuery, chromedp.NodeReady,
		)
	}
	person := scenario.People()[2]
	steps := []func() error{
		func() error {
			return shot(
				"console-overview", browser.SignIn(base, person.Name, person.Password), theme("day-watch"),
				visit("/", "figure svg"),
			)
		},
		func() error {
			return shot(
				"console-new-batch", visit("/batches/new?depot=quayside&path=corran/chart-disc-2026-10", "form"),
				chromedp.Sleep(300*time.Millisecond),
				browser.Press(
					`//button[contains(., "Survey first")]`,
				),
				chromedp.WaitVisible("section section li", chromedp.ByQuery), chromedp.Evaluate("scrollTo(0, 60)", nil),
			)
		},
		func() error { return shot("console-batch", visit("/batches/6", "section ul")) },
		func() error { return shot("console-item-cleared", visit("/batches/1/items/3", "ol li")) },
		func() error { return shot("console-item-refused", visit("/batches/2/items/3", "ol li")) },
		func() error {
			return shot(
				"console-spot", visit("/spot", "[data-drop]"), give("tidewright/gauge-fw-4.2"),
				chromedp.WaitVisible("[data-answers]", chromedp.ByQuery),
			)
		},
		func() error {
			return shot(
				"console-drill", browser.Press(`//article[.//span[text()="gauge-fw-4.2-main.img"]]//button`),
				chromedp.WaitVisible("article table", chromedp.ByQuery),
				chromedp.Evaluate("document.querySelector('article table').closest('article').scrollIntoView()", nil),
			)
		},
		func() error {
			return shot(
				"console-spot-refused", visit("/spot", "[data-drop]"), give("corran/chart-2026-10-damaged"),
				chromedp.WaitVisible("figure svg", chromedp.ByQuery),
			)
		},
		func() error { return shot("console-keyring", visit("/keyring", "table")) },
		func() error { return shot("console-key", visit("/keyring/"+certified, "form")) },
		func() error {
			if err := askDevices(ctx); err != nil {
				return err
			}
			return shot("console-device", visit("/devices/KG-07", "table"))
		},
		func() error {
			return shot(
				"console-reach", visit("/keyring/"+release, "h1"),
				browser.Press(`//button[contains(., "Show its reach")]`),
				chromedp.WaitVisible("[data-reach]", chromedp.ByQuery),
				chromedp.Evaluate("document.querySelector('[data-reach]').scrollIntoView({ block: 'center' })", nil),
			)
		},
		func() error { return shot("console-policy", visit("/policy", "dl")) },
		func() error { return shot("console-records", visit("/records", "table")) },
		func() error {
			const text = "[09:12] ines: lamp controller 3.8 is out, see the page\nLamp controller 3.8, built from 878a52fc5ff6a57d50b7b870aa51637a3dfd38fc22352a39f95a3c292eb976d5\n\n" +
				"| File | Size (bytes) | MD5 |\n|------|-------------:|-----|\n| lamp-ctl-3.8-head.bin | 65,536 | 0bb4f1a5e3f9ad8a8d0a6a3f4fb3a5d1 |\n" +
				"| lamp-ctl-3.8-drive.bin | 65,536 | 5d41402abc4b2a76b9719d911017c592 |\n| lamp-ctl-3.8-sensor.bin | 65,536 | 7d793037a0760186574b0282f2f4 |\n\n" +
				"SHA-256 of the manual lamp-manual.pdf:\nE3B0C442 98FC1C14 9AFBF4C8 996FB924\n27AE41E4 649B934C A495991B 7852B855\n"
			return shot(
				"console-manifest-dark", theme("night-watch"), visit("/manifests", "form"),
				chromedp.SendKeys("textarea", text, chromedp.ByQuery),
				browser.Press("form button[type=submit]"),
				chromedp.WaitVisible("mark", chromedp.ByQuery), chromedp.Evaluate("scrollTo(0, 99999)", nil),
			)
		},
		func() error {
			at, err := damagedDisc(ctx)
			if err != nil {
				return err
			}
			return shot("console-readback", theme("day-watch"), visit(at, "[data-readback] svg"))
		},
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// askDevices has the gauges say what they hold, and KG-07 what is in the slot that is to be
// activated.
func askDevices(ctx context.Context) error {
	for _, args := range [][]string{
		{"device", "show", "KG-07"},
		{"device", "check", "KG-07", "--slot", "b", "--against", scenario.Depot + ":tidewright/gauge-fw-4.3-partial/gauge-fw-4.3-main.img"},
	} {
		cmd := exec.CommandContext(ctx, "bin/endeixis", args...)
		if out, err := cmd.CombinedOutput(); err != nil && cmd.ProcessState.ExitCode() < 10 {
			return fmt.Errorf("%v: %w\n%s", args, err, out)
		}
	}
	return nil
}

// damagedDisc reads a disc back that was written badly, with an older edition behind it, and
// returns where its page is.
func damagedDisc(ctx context.Context) (string, error) {
	const folder, name = "corran/chart-disc-2026-10", "chart-disc-2026-10.iso"
	disc, err := os.ReadFile(filepath.Join(".demo", scenario.Depot, folder, name))
	if err != nil {
		return "", err
	}
	older := append([]byte{}, disc[:200_000]...)
	clear(disc[400_000:420_000])
	disc[900_001] ^= 16
	medium := filepath.Join(os.TempDir(), "chart-disc")
	defer os.Remove(medium)
	if err := os.WriteFile(medium, append(append(disc, make([]byte, 150*2048)...), older...), 0o644); err != nil {
		return "", err
	}
	run := func(args ...string) ([]byte, error) {
		cmd := exec.CommandContext(ctx, "bin/endeixis", args...)
		out, err := cmd.Output()
		if err != nil && cmd.ProcessState.ExitCode() < 10 {
			return nil, fmt.Errorf("%v: %w", args, err)
		}
		return out, nil
	}
	if _, err := run("batch", "run", scenario.Depot+":"+folder, "--wait"); err != nil {
		return "", err
	}
	out, err := run("readback", medium, "--against", filepath.Join(".demo", scenario.Depot, folder, name), "-o", "json")
	if err != nil {
		return "", err
	}
	var batch struct{ ID int64 }
	if err := json.Unmarshal(out, &batch); err != nil {
		return "", err
	}
	return fmt.Sprintf("/batches/%d/items/0", batch.ID), nil
}

// terminals takes the pictures of the client.
func terminals(ctx context.Context, certified, release string) error {
	const display = ":97"
	server := exec.Command("Xvfb", display, "-screen", "0", fmt.Sprintf("%dx%dx24", width, height), "-nolisten", "tcp")
	if err := server.Start(); err != nil {
		return fmt.Errorf("starting the X server: %w; on Debian: apt-get install xvfb xterm imagemagick", err)
	}
	defer func() {
		server.Process.Kill() //nolint:errcheck // it may have ended
		server.Wait()         //nolint:errcheck // it was told to end
	}()
	for range 100 {
		if _, err := os.Stat("/tmp/.X11-unix/X" + display[1:]); err == nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	bin, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	env := append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "DISPLAY="+display, "LANG=C.UTF-8", "LC_ALL=C.UTF-8")
	for _, t := range []struct{ name, command string }{
		{"client-spot", "cd .demo/quayside/corran/chart-2026-10-damaged; endeixis spot chart-2026-10.img; cd ../../tidewright/gauge-fw-4.2; endeixis spot gauge-fw-4.2-boot.img --drill"},
		{"client-batch-item", "bin/endeixis batch survey quayside:tidewright/gauge-fw-4.2; echo; bin/endeixis batch show 1 --item gauge-fw-4.2-main.img"},
		{"client-keyring", "bin/endeixis keyring show " + certified + "; echo; bin/endeixis keyring reach " + release},
	} {
		script := fmt.Sprintf("printf '$ %%s\\n' %q; %s; printf '$ '; sleep 60", t.command, t.command)
		term := exec.CommandContext(
			ctx, "xterm", "-geometry", "141x42+0+0", "-b", "12", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg",
			"#17161b", "-fg", "#e6e3dc", "-e", "sh", "-c", script,
		)
		term.Env = env
		if err := term.Start(); err != nil {
			return fmt.Errorf("xterm: %w", err)
		}
		time.Sleep(2500 * time.Millisecond)
		grab := exec.CommandContext(ctx, "import", "-window", "root", filepath.Join(into, t.name+".png"))
		grab.Env = env
		out, err := grab.CombinedOutput()
		term.Process.Kill() //nolint:errcheck // it may have ended
		term.Wait()         //nolint:errcheck // it was told to end
		if err != nil {
			return fmt.Errorf("%s: %w\n%s", t.name, err, out)
		}
	}
	return nil
}
