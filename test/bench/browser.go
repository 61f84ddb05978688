package main

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/dom"
	cdpruntime "github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"endeixis/internal/browser"
)

// fast is the package that the console hashes with, to be measured bare.
const fast = "console/node_modules/hash-wasm/dist/sha256.umd.min.js"

// inBrowser measures the console's page for spot checks in headless Chromium: how fast it
// hashes, beside the bare package in the same page, and how long somebody waits.
func inBrowser(dir string) ([]row, error) {
	for i := range 2 {
		if err := write(filepath.Join(dir, fmt.Sprintf("dropped%d.bin", i)), large, byte(i)); err != nil {
			return nil, err
		}
	}
	ctx := context.Background()
	if err := os.MkdirAll(filepath.Join(dir, "depot"), 0o755); err != nil {
		return nil, err
	}
	s, err := start(ctx, dir, "browser.key")
	if err != nil {
		return nil, err
	}
	defer s.stop()
	tab, end, err := browser.New(ctx, 1280, 800)
	if err != nil {
		return nil, err
	}
	defer end()
	tab, giveUp := context.WithTimeout(tab, 10*time.Minute)
	defer giveUp()
	if err := chromedp.Run(tab, browser.SignIn(s.address, "bench", password)); err != nil {
		return nil, err
	}
	p := page{tab, s.address}
	rates, err := p.rates(dir)
	if err != nil {
		return nil, err
	}
	wait, err := p.wait(dir)
	if err != nil {
		return nil, err
	}
	// By now there are outcomes for it to draw.
	weight, err := p.firstPage()
	return append(rates, wait, weight), err
}

// A page drives the console.
type page struct {
	tab     context.Context
	address string
}

// firstPage weighs what a browser loads for the overview, as it comes over the line.
func (p page) firstPage() (row, error) {
	var loaded float64
	err := chromedp.Run(
		p.tab, chromedp.Navigate(p.address+"/"), chromedp.WaitVisible(".recharts-wrapper", chromedp.ByQuery),
		chromedp.Sleep(time.Second),
		chromedp.Evaluate(
			`[...performance.getEntriesByType("resource"), ...performance.getEntriesByType("navigation")].filter((e) => !e.name.includes("/api/")).reduce((sum, e) => sum + e.encodedBodySize, 0)`,
			&loaded,
		),
	)
	const most = 250 << 10
	return row{
		work:    "the console's first page",
		floor:   "250 KiB, compressed",
		aim:     "≤ 250 KiB",
		reached: loaded > 0 && loaded <= most,
		figure:  fmt.Sprintf("%.0f KiB", loaded/1024),
		ours:    0,
		against: 0,
		note:    "the code of the overview with its figure, its style and its fonts as they come over the line; hashing and the core as WebAssembly are loaded when they are used.",
	}, err
}

// choose gives files to the page, as its button does, and notes when.
func (p page) choose(files ...string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Navigate(p.address + "/spot"),
		chromedp.QueryAfter(
			"input[type=file][multiple]",
			func(ctx context.Context, _ cdpruntime.ExecutionContextID, nodes ...*cdp.Node) error {
				return dom.SetFileInputFiles(files).WithNodeID(nodes[0].NodeID).Do(ctx)
			},
			chromedp.ByQuery, chromedp.NodeReady,
		),
	}
}

// awaited makes an expression's promise its value.
func awaited(p *cdpruntime.EvaluateParams) *cdpruntime.EvaluateParams {
	return p.WithAwaitPromise(true)
}

// hashed returns how long the page took from the first byte of the first file to the last
// of the last.
func (p page) hashed(files ...string) (time.Duration, error) {
	var took float64
	// The page tells when it is done: to ask it again and again would take it from its work.
	err := chromedp.Run(p.tab, p.choose(files...), chromedp.Evaluate(`(async () => {
		const done = () => document.querySelector("[data-answers]") !== null;
		await new Promise((resolve) => {
			if (done()) resolve();
			new MutationObserver(() => done() && resolve()).observe(document.body, { subtree: true, childList: true });
		});
		const all = performance.getEntriesByName("a file hashed");
		return Math.max(...all.map((e) => e.startTime + e.duration)) - Math.min(...all.map((e) => e.startTime));
	})()`, &took, awaited))
	return time.Duration(took * float64(time.Millisecond)), err
}

// bare hashes a file in the page with the package alone: piece by piece, as a page has to
// that does not hold the file in memory.
func (p page) bare(file string) (time.Duration, error) {
	script, err := os.ReadFile(fast)
	if err != nil {
		return 0, err
	}
	var took float64
	err = chromedp.Run(p.tab, p.choose(), chromedp.Evaluate(string(script), nil),
		chromedp.Evaluate(`(() => {
			const input = Object.assign(document.createElement("input"), { type: "file", id: "bare" });
			document.body.append(input);
		})()`, nil),
		chromedp.SetUploadFiles("#bare", []string{file}, chromedp.ByQuery),
		chromedp.Evaluate(`(async () => {
			const file = document.querySelector("#bare").files[0];
			const start = performance.now();
			const hasher = await hashwasm.createSHA256();
			hasher.init();
			for (let at = 0; at < file.size; at += 4 << 20)
				hasher.update(new Uint8Array(await file.slice(at, at + (4 << 20)).arrayBuffer()));
			hasher.digest("hex");
			return performance.now() - start;
		})()`, &took, awaited))
	return time.Duration(took * float64(time.Millisecond)), err
}

func (p page) rates(dir string) ([]row, error) {
	first, second := filepath.Join(dir, "dropped0.bin"), filepath.Join(dir, "dropped1.bin")
	var bares, ones, twos []time.Duration
	for range rounds {
		bare, err := p.bare(first)
		single, err2 := p.hashed(first)
		two, err3 := p.hashed(first, second)
		if err := errors.Join(err, err2, err3); err != nil {
			return nil, err
		}
		bares, ones, twos = append(bares, bare), append(ones, single), append(twos, two)
	}
	bare, single, two := slices.Min(bares), slices.Min(ones), slices.Min(twos)
	rows := speed(
		"two files of 256 MiB in the browser, on two workers", "the same page with one file, for each file", 1.6, two/2,
		single,
	)
	rows.note = "the browser reads files in a process of its own, which takes a quarter of a core for each: where there are two cores, it shares them with the workers."
	return []row{
		speed("a file of 256 MiB in the browser, SHA-256", "hash-wasm alone in the same page", 0.85, single, bare),
		rows,
	}, nil
}

// wait is how long it takes from giving a file of 10 MiB and its list to the verdict on
// the screen.
func (p page) wait(dir string) (row, error) {
	small := filepath.Join(dir, "small")
	if err := os.MkdirAll(small, 0o755); err != nil {
		return row{}, err
	}
	image, list := filepath.Join(small, "dropped.img"), filepath.Join(small, "SHA256SUMS")
	if err := write(image, 10<<20, 1); err != nil {
		return row{}, err
	}
	content, err := os.ReadFile(image)
	if err != nil {
		return row{}, err
	}
	if err := os.WriteFile(list, fmt.Appendf(nil, "%x  dropped.img\n", sha256.Sum256(content)), 0o644); err != nil {
		return row{}, err
	}
	var waits []time.Duration
	for range rounds {
		var began, ended string
		err := chromedp.Run(
			p.tab,
			chromedp.Navigate(p.address+"/spot"),
			chromedp.WaitVisible("textarea", chromedp.ByQuery),
			chromedp.Sleep(500*time.Millisecond),
			chromedp.Evaluate(`(() => {
				addEventListener("change", () => (window.began ??= performance.now()), true);
				new MutationObserver(() => {
					if (document.querySelector("[data-answers] [data-verdict]")) window.ended ??= performance.now();
				}).observe(document.body, { subtree: true, childList: true });
			})()`, nil),
			chromedp.QueryAfter(
				"input[type=file][multiple]",
				func(ctx context.Context, _ cdpruntime.ExecutionContextID, nodes ...*cdp.Node) error {
					return dom.SetFileInputFiles([]string{image, list}).WithNodeID(nodes[0].NodeID).Do(ctx)
				},
				chromedp.ByQuery,
			),
			chromedp.Poll(`window.ended`, nil, chromedp.WithPollingTimeout(time.Minute)),
			chromedp.Evaluate(`String(window.began)`, &began),
			chromedp.Evaluate(`String(window.ended)`, &ended),
		)
		if err != nil {
			return row{}, err
		}
		from, err := strconv.ParseFloat(began, 64)
		to, err2 := strconv.ParseFloat(ended, 64)
		if err := errors.Join(err, err2); err != nil {
			return row{}, err
		}
		waits = append(waits, time.Duration((to-from)*float64(time.Millisecond)))
	}
	least := slices.Min(waits)
	return row{
		work:    "from dropping 10 MiB and their list to the verdict",
		floor:   "a second",
		aim:     "< 1 s",
		ours:    least,
		against: time.Second,
		reached: least < time.Second,
		figure:  fmt.Sprintf("%.2f s", least.Seconds()),
		note:    "each time on a page that was just loaded, with the core as WebAssembly loaded and started in it.",
	}, nil
}
