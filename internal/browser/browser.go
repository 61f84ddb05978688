// Package browser drives headless Chromium, from Debian's packages, for the
// tests and the pictures.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

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

// New starts a browser with a window of the given size. cancel ends it. It fails with a
// [*MissingError] where there is none.
func New(ctx context.Context, width, height int) (tab context.Context, cancel func(), err error) {
	if err := Installed(); err != nil {
		return nil, nil, err
	}
	profile, err := os.MkdirTemp("", "endeixis-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(program),
		chromedp.WindowSize(width, height),
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
	tab, endTab := chromedp.NewContext(allocator)
	cancel = func() {
		// Waits for the browser to end, so that it writes nothing more.
		chromedp.Cancel(tab) //nolint:errcheck // it may have ended
		endTab()
		endAllocator()
		os.RemoveAll(profile)
	}
	if err := chromedp.Run(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		cancel()
		return nil, nil, err
	}
	return tab, cancel, nil
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

// patience is how long Press looks for something to press: long, for a machine
// with other work has made browsers ten times as slow.
const patience = time.Minute

// Press clicks the first element that the selector names, an XPath if it
// begins with “/” and CSS otherwise, that is on the page, enabled and not
// covered by another. It finds and clicks in one step: a page that moves
// between the two would be clicked beside what was meant.
func Press(selector string) chromedp.Action {
	return chromedp.Poll(fmt.Sprintf(`(() => {
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
	})()`, selector), nil, chromedp.WithPollingTimeout(patience))
}
