// Package browser drives headless Chromium, from Debian's packages, for the
// tests and the pictures.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/target"
	"github.com/chromedp/chromedp"
)

// program is what Debian's package is called by.
const program = "chromium"

// A MissingError reports that no browser is installed.
type MissingError struct{ cause error }

// Error says what to do.
func (e *MissingError) Error() string {
	return "there is no Chromium here; “scripts/install-missing.sh test” installs it: " + e.cause.Error()
}

// Unwrap returns why it was not found.
func (e *MissingError) Unwrap() error { return e.cause }

// Installed returns a [*MissingError] where there is no browser.
func Installed() error {
	if _, err := exec.LookPath(program); err != nil {
		return &MissingError{err}
	}
	return nil
}

// A Browser is a running Chromium.
type Browser struct {
	ctx context.Context // of its first tab, which shows nothing
	end func()
}

// Start starts a browser, which [Browser.End] ends. It fails with a [*MissingError] where there is none.
func Start(ctx context.Context) (*Browser, error) {
	if err := Installed(); err != nil {
		return nil, err
	}
	profile, err := os.MkdirTemp("", "endeixis-browser-")
	if err != nil {
		return nil, err
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(program),
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.UserDataDir(profile),
		// The browser is to talk to our service and nobody else.
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("hide-scrollbars", true), chromedp.Flag("force-color-profile", "srgb"),
	)
	allocator, endAllocator := chromedp.NewExecAllocator(ctx, options...)
	first, endTab := chromedp.NewContext(allocator)
	b := &Browser{first, func() {
		// Waits for the browser to end, so that it writes nothing more.
		chromedp.Cancel(first) //nolint:errcheck // it may have ended
		endTab()
		endAllocator()
		os.RemoveAll(profile)
	}}
	if err := chromedp.Run(first); err != nil {
		b.End()
		return nil, err
	}
	return b, nil
}

// End ends the browser and all its tabs.
func (b *Browser) End() { b.end() }

// Tab opens a page of the given size, in pixels, that shares no session and no store with
// another tab, and that takes itself for the one somebody looks at. closeTab closes it.
func (b *Browser) Tab(width, height int) (tab context.Context, closeTab func(), err error) {
	// A session of its own has no window yet that a tab could be opened in.
	whole := cdp.WithExecutor(b.ctx, chromedp.FromContext(b.ctx).Browser)
	session, err := target.CreateBrowserContext().WithDisposeOnDetach(true).Do(whole)
	if err != nil {
		return nil, nil, err
	}
	id, err := target.CreateTarget("about:blank").WithBrowserContextID(session).WithNewWindow(true).Do(whole)
	if err != nil {
		return nil, nil, err
	}
	tab, cancel := chromedp.NewContext(b.ctx, chromedp.WithTargetID(id))
	closeTab = func() {
		cancel()
		target.DisposeBrowserContext(session).Do(whole) //nolint:errcheck // the browser may have ended
	}
	err = chromedp.Run(
		tab, chromedp.EmulateViewport(int64(width), int64(height)), emulation.SetFocusEmulationEnabled(true),
	)
	if err != nil {
		closeTab()
		return nil, nil, err
	}
	return tab, closeTab, nil
}

// New starts a browser with one tab of the given size, in pixels. cancel ends it. It fails with
// a [*MissingError] where there is none.
func New(ctx context.Context, width, height int) (tab context.Context, cancel func(), err error) {
	b, err := Start(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := chromedp.Run(b.ctx, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		b.End()
		return nil, nil, err
	}
	return b.ctx, b.End, nil
}

// SignIn signs in through the form and waits for the overview.
func SignIn(base, name, password string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Navigate(base + "/sign-in"),
		chromedp.WaitVisible("form", chromedp.ByQuery),
		chromedp.SendKeys("input[autocomplete=username]", name, chromedp.ByQuery),
		chromedp.SendKeys("input[type=password]", password, chromedp.ByQuery),
		Press("button[type=submit]"),
		chromedp.WaitVisible("nav", chromedp.ByQuery),
	}
}

// patience is how long [Until] waits: long, for a machine with other work has made browsers
// ten times as slow. interval is how often it looks.
const (
	patience = time.Minute
	interval = 40 * time.Millisecond
)

// Press clicks the first element that the selector names, an XPath if it
// begins with “/” and CSS otherwise, that is on the page, enabled and not
// covered by another. It finds and clicks in one step: a page that moves
// between the two would be clicked beside what was meant.
func Press(selector string) chromedp.Action {
	return Until(fmt.Sprintf(`(() => {
		const selector = %q, found = [];
		if (selector.startsWith("/")) {
			const all = document.evaluate(selector, document, null, XPathResult.ORDERED_NODE_SNAPSHOT_TYPE, null);
			for (let i = 0; i < all.snapshotLength; i++) found.push(all.snapshotItem(i));
		} else found.push(...document.querySelectorAll(selector));
		for (const node of found) {
			if (node.matches(":disabled") || !node.getClientRects().length) continue;
			node.scrollIntoViewIfNeeded(true);
			const r = node.getClientRects()[0];
			const at = document.elementFromPoint(r.left + r.width / 2, r.top + r.height / 2);
			if (!at || !(node.contains(at) || at.contains(node))) continue;
			node.click();
			return true;
		}
		return false;
	})()`, selector))
}

// Until waits until an expression of the page is true. It looks often enough that nobody
// waits, and not with every picture that the page draws: to look costs what to lay the page
// out costs.
func Until(expression string) chromedp.Action {
	return chromedp.Poll(expression, nil, chromedp.WithPollingInterval(interval), chromedp.WithPollingTimeout(patience))
}
