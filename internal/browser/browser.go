// Package browser drives headless Chromium, from Debian's packages, for the
// tests and the pictures.
package browser

import (
	"context"
	"os"

	"github.com/chromedp/chromedp"
)

// New starts a browser with a window of the given size. cancel ends it.
func New(ctx context.Context, width, height int) (tab context.Context, cancel func(), err error) {
	profile, err := os.MkdirTemp("", "endeixis-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.WindowSize(width, height), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.UserDataDir(profile),
		// The browser is to talk to our service and nobody else.
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true),
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
		chromedp.Click("button[type=submit]", chromedp.ByQuery),
		chromedp.WaitVisible("nav", chromedp.ByQuery),
	}
}
