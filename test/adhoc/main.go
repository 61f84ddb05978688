package main

import (
	"context"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"endeixis/demo/scenario"
	"endeixis/internal/browser"
)

// args: base then name=path pairs
func main() {
	ctx, cancel, err := browser.New(context.Background(), 1280, 800)
	if err != nil {
		panic(err)
	}
	defer cancel()
	base := os.Args[1]
	p := scenario.People()[2]
	if err := chromedp.Run(ctx, browser.SignIn(base, p.Name, p.Password)); err != nil {
		panic(err)
	}
	for _, a := range os.Args[2:] {
		name, path, _ := strings.Cut(a, "=")
		full := strings.HasPrefix(name, "full-")
		var png []byte
		actions := []chromedp.Action{chromedp.Navigate(base + path), chromedp.Sleep(1500 * time.Millisecond)}
		if i := strings.Index(path, "!"); i > 0 {
			actions = []chromedp.Action{chromedp.Navigate(base + path[:i]), chromedp.Sleep(time.Second), browser.Press(`//*[self::button or self::a][contains(., "` + path[i+1:] + `")]`), chromedp.Sleep(1500 * time.Millisecond)}
		}
		if full {
			actions = append(actions, chromedp.FullScreenshot(&png, 90))
		} else {
			actions = append(actions, chromedp.CaptureScreenshot(&png))
		}
		if err := chromedp.Run(ctx, actions...); err != nil {
			panic(err)
		}
		os.WriteFile("/tmp/shots/"+name+".png", png, 0o644)
	}
}
