package test

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/internal/browser"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// filesIn returns the files of a folder, without folders in it.
func filesIn(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	var out []string
	for _, e := range entries {
		if e.Type().IsRegular() {
			out = append(out, filepath.Join(dir, e.Name()))
		}
	}
	return out
}

// give chooses files on the page, as through its button.
func (b *tab) give(files ...string) {
	b.t.Helper()
	b.do(
		chromedp.QueryAfter(
			"input[type=file][multiple]",
			func(ctx context.Context, _ runtime.ExecutionContextID, nodes ...*cdp.Node) error {
				return dom.SetFileInputFiles(files).WithNodeID(nodes[0].NodeID).Do(ctx)
			},
			chromedp.ByQuery, chromedp.NodeReady,
		),
	)
}

// paste puts a text in place of what was pasted before.
func (b *tab) paste(text string) {
	b.t.Helper()
	b.do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		const area = document.querySelector("textarea");
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, %q);
		area.dispatchEvent(new Event("input", { bubbles: true }));
	})()`, text), nil))
}

// answered waits for the answer of a spot check for as long as the page goes on, and returns the
// number of its batch. How quickly a browser reads is no matter here; a page that says the same
// for some minutes has stopped.
func (b *tab) answered() string {
	b.t.Helper()
	var became, to string
	b.do(chromedp.Poll(fmt.Sprintf(`(() => {
		if (document.querySelector("[data-answers]")) return "answered";
		const now = Date.now(), text = document.body.innerText, last = window.lastSeen;
		if (!last || last.text !== text) window.lastSeen = { text, at: now };
		return now - window.lastSeen.at > %d ? "stopped" : "";
	})()`, 3*patience.Milliseconds()), &became,
		chromedp.WithPollingInterval(100*time.Millisecond), chromedp.WithPollingTimeout(0)))
	if became != "answered" {
		b.t.Fatalf("the page goes on no more, and shows:\n%s", b.text())
	}
	b.do(
		chromedp.Evaluate(
			`[...document.querySelectorAll("[data-answers] a")].map((a) => a.getAttribute("href")).find((h) => /^\/batches\/\d+$/.test(h))`,
			&to,
		),
	)
	return strings.TrimPrefix(to, "/batches/")
}

// TestSpotInTheBrowser verifies folders of the demo in a third place, in the browser, and
// expects what the service finds.
func TestSpotInTheBrowser(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("operator")
	for _, folder := range []string{
		"tidewright/gauge-fw-4.2", "tidewright/gauge-fw-4.2-flipped", "tidewright/gauge-fw-4.2-truncated", "tidewright/gauge-fw-4.5-archive", "tidewright/gauge-fw-4.6-surplus",
		"corran/chart-2026-10-damaged", "corran/chart-disc-2026-10", "lanternfell/lamp-ctl-3.2", "lanternfell/lamp-ctl-3.1", "tidewright/gauge-fw-4.6-text", "brackwater/buoy-rx-1.9", "tidewright/gauge-fw-4.6-message",
	} {
		there := verified(t, s, "quayside:"+folder)
		b.visit("/spot", "Spot check")
		b.give(filesIn(t, filepath.Join(s.Depot, folder))...)
		here := verifiedShow(t, s, b.answered())
		assert.Equal(t, there.Verdict, here.Verdict, folder)
		assert.Equal(t, there.Counts, here.Counts, folder)
		require.Len(t, here.Items, len(there.Items), folder)
		for i := range there.Items {
			item, other := there.Items[i], here.Items[i]
			require.Equal(t, item.Path, other.Path)
			assert.Equal(t, item.Verdict, other.Verdict, "%s: %s", folder, item.Path)
			assert.Equal(t, item.Digests, other.Digests, "%s: %s", folder, item.Path)
			assert.Contains(t, other.Where, "console on ")
			grounds := slices.DeleteFunc(other.Grounds, func(g judge.Ground) bool { return g.Code == judge.ByMeasurer })
			assert.Equal(t, told(item.Grounds), told(grounds), "%s: %s", folder, item.Path)
		}
	}
	b.accessible("spot check")
}

// TestSpotPage asks the quick question on the page: with a pasted digest, with one that is
// another, with a key; proves that the check can fail; and drops on the overview.
func TestSpotPage(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("operator")
	image := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2", "gauge-fw-4.2-main.img")
	there := verified(t, s, "quayside:tidewright/gauge-fw-4.2")
	sum := ""
	for _, item := range there.Items {
		if item.Path == "gauge-fw-4.2-main.img" {
			sum = item.Digests["SHA-256"]
		}
	}
	b.visit("/spot", "Spot check")
	b.do(browser.Until(`document.title === "Spot check – Endeixis"`))
	b.paste(strings.ToUpper(sum))
	b.sees("A value alone: SHA-256 or another of its length.")
	b.sees("Files that were cleared here and have this value")
	b.sees("gauge-fw-4.2-main.img")
	b.give(image)
	b.sees("It matches pasted text")
	b.sees("anybody could have written it")
	b.paste("SHA-256: ff" + sum[2:])
	b.sees("A value alone: SHA-256, as it says.")
	b.sees("This answer is an older one")
	b.press("Verify gauge-fw-4.2-main.img again with this")
	b.sees("The bytes of gauge-fw-4.2-main.img are not those")
	b.sees("of 64 characters differ")
	// Some 5 MiB.
	b.do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		const area = document.querySelector("textarea");
		const text = ("0".repeat(64) + "  another.img\n").repeat(65000) + %q;
		Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, "value").set.call(area, text);
		area.dispatchEvent(new Event("input", { bubbles: true }));
	})()`, sum+"  gauge-fw-4.2-main.img\n"), nil))
	b.sees("A text with")
	b.press("Verify gauge-fw-4.2-main.img again with this")
	b.sees("It matches pasted text")
	b.paste("Dear Ines, all is well.")
	b.sees("There is nothing in this text")
	key, err := os.ReadFile(filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2", "SHA256SUMS"))
	require.NoError(t, err)
	b.paste(string(key))
	b.sees("A text with 3 digests.")

	// Who drops first and pastes second has one check on record, of both.
	before, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	b.visit("/", "Overview")
	b.visit("/spot", "Spot check")
	b.give(image)
	b.sees("It begins in a moment")
	b.paste(sum + "  gauge-fw-4.2-main.img\n")
	b.press("Verify gauge-fw-4.2-main.img with this")
	b.sees("It matches pasted text")
	after, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 200)
	require.NoError(t, err)
	assert.Len(t, after, len(before)+1)

	// On the overview, files go to the same page, which begins in a moment.
	b.visit("/", "Overview")
	b.give(filesIn(t, filepath.Dir(image))...)
	b.sees("The answer")
	b.answered()
	b.sees("Prove that this check can fail")
	b.do(browser.Press(`//article[.//span[text()="gauge-fw-4.2-main.img"]]//button`))
	b.sees("nothing that was altered was cleared")
	b.sees("another publisher's key in place of the signer's")
	b.accessible("drill")

	// The item of a depot is drilled by the service.
	b.visit(
		fmt.Sprintf("/batches/%d/items/%d", there.ID, itemNumber(t, there, "gauge-fw-4.2-main.img")),
		"Chain of evidence",
	)
	b.press("Prove that this check can fail")
	b.sees("a character of the manifest altered")
	// So is the whole batch.
	b.visit(fmt.Sprintf("/batches/%d", there.ID), "Judge it again")
	b.press("Prove that these checks can fail")
	b.sees("nothing that was altered was cleared")
	b.sees("gauge-fw-4.2-boot.img")
}

func itemNumber(t *testing.T, b fullJSON, path string) int {
	t.Helper()
	for _, item := range b.Items {
		if item.Path == path {
			return item.N
		}
	}
	t.Fatalf("there is no %s", path)
	return 0
}

// TestSpotLarge reads a file of 8 GiB in the browser for a while, and cancels it: bounded
// memory, progress, and an outcome for each file.
func TestSpotLarge(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "large.iso.bin"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(8<<30))
	require.NoError(t, f.Close())
	require.NoError(t, os.WriteFile(filepath.Join(dir, "small.bin"), []byte("small"), 0o644))
	b := open(t, s)
	b.signIn("operator")
	b.visit("/spot", "Spot check")
	b.give(filesIn(t, dir)...)
	b.sees("of 8.0 GiB")
	b.sees("/s")
	b.do(browser.Press(`button[aria-label="Do not read large.iso.bin"]`))
	got := verifiedShow(t, s, b.answered())
	assert.Equal(t, "done", got.State)
	assert.Equal(t, 2, got.Counts.Unproven)
	for _, item := range got.Items {
		if item.Path == "large.iso.bin" {
			assert.Equal(t, judge.NotMeasured, item.Grounds[0].Code)
			assert.Contains(t, item.Grounds[0].Sentence, "cancelled in the browser")
		}
	}
	// All of it is cancelled with a reason on record.
	b.visit("/spot", "Spot check")
	b.give(filepath.Join(dir, "large.iso.bin"))
	b.sees("of 8.0 GiB")
	b.press("Cancel")
	cl := s.Client(t, "operator")
	cancelled := func(count int) {
		t.Helper()
		require.Eventually(t, func() bool {
			list, err := cl.Batches(t.Context(), "", 1)
			return err == nil && len(list) == 1 && list[0].ID == int64(count) && list[0].State == "cancelled"
		}, 30*time.Second, 100*time.Millisecond)
	}
	cancelled(2)
	// So is what was begun on a page that is closed or left: nobody could go on with it.
	for i, leave := range []chromedp.Action{
		chromedp.Navigate("about:blank"), browser.Press(`//a[text()="Records"]`),
	} {
		b.visit("/spot", "Spot check")
		b.give(filepath.Join(dir, "large.iso.bin"))
		b.sees("of 8.0 GiB")
		b.do(leave)
		cancelled(3 + i)
	}
	// What the core reads can be cancelled alone, and the others go on.
	require.NoError(
		t,
		os.WriteFile(
			filepath.Join(dir, "SHA1SUMS"),
			[]byte(strings.Repeat("0a5", 14)[:40]+"  large.iso.bin\n"+strings.Repeat("5a0", 14)[:40]+"  small.bin\n"),
			0o644,
		),
	)
	b.visit("/spot", "Spot check")
	b.give(filesIn(t, dir)...)
	b.sees("of 8.0 GiB")
	b.sees("/s")
	b.do(browser.Press(`button[aria-label="Do not read large.iso.bin"]`))
	got = verifiedShow(t, s, b.answered())
	for _, item := range got.Items {
		switch item.Path {
		case "large.iso.bin":
			assert.Equal(t, judge.NotMeasured, item.Grounds[0].Code)
		case "small.bin":
			assert.NotEmpty(t, item.Digests["SHA-1"], item.Path)
			assert.Equal(t, judge.DigestMismatch, item.Grounds[0].Code)
		}
	}
	assert.Len(t, got.Items, 3)
}

// TestSpotManyFiles gives a folder of 5,000 files to the page.
func TestSpotManyFiles(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	var files []string
	for i := range 5000 {
		name := filepath.Join(dir, "lamp-"+strconv.Itoa(i)+".bin")
		require.NoError(t, os.WriteFile(name, []byte(strconv.Itoa(i)), 0o644))
		files = append(files, name)
	}
	b := openAlone(t, s)
	b.signIn("operator")
	b.visit("/spot", "Spot check")
	processes := b.pages()
	before := resident(processes)
	var got struct {
		Counts struct{ Unproven int } `json:"counts"`
	}
	r := endeixis(t, s, "operator", "batch", "list", "-o", "json")
	require.Zero(t, r.code)
	id := ""
	most := mostDuring(processes, func() {
		b.give(files...)
		id = b.answered()
	})
	t.Logf("%d MiB before, at most %d MiB: %d more", before, most, most-before)
	assert.LessOrEqual(t, most-before, int64(maxTab))
	r = endeixis(t, s, "operator", "batch", "show", id, "-o", "json", "--match", "lamp-7.bin")
	require.NoError(t, json.Unmarshal([]byte(r.out), &got))
	assert.Equal(t, 5000, got.Counts.Unproven)
	b.sees("of its files the first 20 are shown here")
}

// TestLongBatchPage: of a batch with 12,000 files and 3,000 absent entries the page draws
// what is on the screen; scrolling brings the rest.
func TestLongBatchPage(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	var list strings.Builder
	const n = 12_000
	for i := range n {
		name := fmt.Sprintf("lamp-%05d.bin", i)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644))
	}
	for i := range 3000 {
		fmt.Fprintf(&list, "%064x  absent-%04d.img\n", i+1, i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "SHA256SUMS"), []byte(list.String()), 0o644))
	r := endeixis(t, s, "operator", "batch", "run", dir, "-o", "csv")
	require.Equal(t, 11, r.code, r.err)
	assert.Equal(t, n+3000+2, strings.Count(r.out, "\n"), "every file, every entry")
	shown := endeixis(t, s, "operator", "batch", "show", "1", "--match", "lamp-00001.bin")
	assert.Equal(t, 10, strings.Count(shown.out, "– absent"))
	assert.Contains(t, shown.out, "and 2990 more")
	b := open(t, s)
	b.signIn("auditor")
	b.visit("/batches/1", "12,000 artifacts unproven")
	b.sees("Listed, and not here: 3000")
	b.sees("Show the other 2990")
	var drawn, height int
	b.do(
		chromedp.Evaluate(`document.querySelectorAll("main li").length`, &drawn),
		chromedp.Evaluate(`document.body.scrollHeight`, &height),
	)
	assert.Less(t, drawn, 200, "rows that are drawn")
	for range 5 {
		b.do(chromedp.Evaluate(`scrollTo(0, document.body.scrollHeight)`, nil), chromedp.Sleep(400*time.Millisecond))
	}
	var after int
	b.do(
		chromedp.Evaluate(`document.querySelectorAll("main li").length`, &drawn),
		chromedp.Evaluate(`document.body.scrollHeight`, &after),
	)
	assert.Less(t, drawn, 200)
	assert.Greater(t, after, height, "scrolling brings more")
}

// TestOnlyAListIsGiven: who gives a list and no file is told which files it speaks of, on the
// page and on the command line; and a name with a backslash is one name.
func TestOnlyAListIsGiven(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	name, list := filepath.Join(dir, `bell\main.img`), filepath.Join(dir, "SHA256SUMS")
	require.NoError(t, os.WriteFile(name, []byte("image"), 0o644))
	require.NoError(
		t, os.WriteFile(list, []byte(fmt.Sprintf("\\%x  bell\\\\main.img\n", sha256.Sum256([]byte("image")))), 0o644),
	)
	b := open(t, s)
	b.signIn("operator")
	b.visit("/spot", "Spot check")
	b.give(name, list)
	got := verifiedShow(t, s, b.answered())
	require.Len(t, got.Items, 2)
	assert.Zero(t, got.Counts.Absent)
	for _, item := range got.Items {
		if item.Role == "artifact" {
			assert.Equal(t, `bell\main.img`, item.Path)
			assert.Contains(t, told(item.Grounds)[0], "digest-match")
			assert.NotContains(t, fmt.Sprint(told(item.Grounds)), "The names differ")
		}
	}
	b.visit("/spot", "Spot check")
	b.give(list)
	b.sees("Nothing here is a file to verify")
	b.sees("They speak of files that are not here")

	require.NoError(t, os.Remove(name))
	r := endeixis(t, s, "operator", "spot", list)
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, r.out, "It is no file to verify")
	assert.Contains(t, r.out, `It speaks of files that are not here: bell`)
	r = endeixis(t, s, "operator", "spot", list, "--unrecorded")
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, r.out, "Nothing here is a file to verify")
	v := visit(t, testkit.Start(t), "tidewright")
	r = v.on("spot", list)
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, r.out, "Nothing here is a file to verify")
}
