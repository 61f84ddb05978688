package test

import (
	"context"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/console"
	"endeixis/core/openpgp/pgptest"
	"endeixis/demo/scenario"
	"endeixis/internal/browser"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// patience is how long a page may take to show something: long, for a machine
// with other work has made browsers ten times as slow.
const patience = time.Minute

// A tab is a browser that somebody looks at.
type tab struct {
	t    *testing.T
	ctx  context.Context
	all  context.Context // as ctx, without its end
	base string
}

// shown is the browser that the tests share: each has a tab of its own in it.
var shown struct {
	once    sync.Once
	browser *browser.Browser
	err     error
}

func open(t *testing.T, s *testkit.Service) *tab {
	t.Helper()
	shown.once.Do(func() { shown.browser, shown.err = browser.Start(context.Background()) })
	require.NoError(t, shown.err)
	return lookAt(t, s, shown.browser.Tab)
}

// openAlone opens a tab in a browser of its own, for a test that looks at the browser itself.
func openAlone(t *testing.T, s *testkit.Service) *tab {
	t.Helper()
	return lookAt(t, s, func(width, height int) (context.Context, func(), error) {
		return browser.New(t.Context(), width, height)
	})
}

func lookAt(t *testing.T, s *testkit.Service, in func(width, height int) (context.Context, func(), error)) *tab {
	t.Helper()
	if _, err := fs.Stat(console.Files(), "index.html"); err != nil {
		t.Fatal("the console is not built; run “make build” first")
	}
	ctx, closeTab, err := in(1280, 800)
	require.NoError(t, err)
	t.Cleanup(closeTab)
	all := ctx
	ctx, stop := context.WithTimeout(ctx, 5*time.Minute)
	t.Cleanup(stop)
	return &tab{t, ctx, all, s.URL}
}

func (b *tab) do(actions ...chromedp.Action) {
	b.t.Helper()
	if err := chromedp.Run(b.ctx, actions...); err != nil {
		// The page is asked also where the time of the test was up.
		ctx, stop := context.WithTimeout(b.all, 10*time.Second)
		defer stop()
		var text string
		chromedp.Run(ctx, chromedp.Text("body", &text, chromedp.ByQuery))
		require.NoError(b.t, err, "the page shows:\n%s", text)
	}
}

// visit opens a page and waits for a text on it.
func (b *tab) visit(path, text string) {
	b.t.Helper()
	b.do(chromedp.Navigate(b.base + path))
	b.sees(text)
}

// sees waits until the page shows a text.
func (b *tab) sees(text string) {
	b.t.Helper()
	b.do(
		browser.Until(
			fmt.Sprintf("document.body && document.body.innerText.toLowerCase().includes(%q.toLowerCase())", text),
		),
	)
}

// gone waits until the page shows the text no more.
func (b *tab) gone(text string) {
	b.t.Helper()
	b.do(
		browser.Until(
			fmt.Sprintf("document.body && !document.body.innerText.toLowerCase().includes(%q.toLowerCase())", text),
		),
	)
}

func (b *tab) text() string {
	b.t.Helper()
	var text string
	b.do(chromedp.Text("body", &text, chromedp.ByQuery))
	return text
}

// press clicks the button or link with the text.
func (b *tab) press(label string) {
	b.t.Helper()
	b.do(browser.Press(fmt.Sprintf(`//*[self::button or self::a][contains(normalize-space(.), %q)]`, label)))
}

// fill types into the field with the label.
func (b *tab) fill(label, value string) {
	b.t.Helper()
	b.do(
		chromedp.SendKeys(
			fmt.Sprintf(`//label[normalize-space(text())=%q]/following::*[self::input or self::textarea][1]`, label),
			value, chromedp.BySearch,
		),
	)
}

// choose picks a value in the list with the label, as soon as the list has it: what there is to choose from
// is asked of the service.
func (b *tab) choose(label, value string) {
	b.t.Helper()
	b.do(browser.Until(fmt.Sprintf(`(() => {
		const label = [...document.querySelectorAll("label")].find((l) => l.textContent.trim() === %q);
		const select = label && document.getElementById(label.htmlFor);
		if (!select || select.disabled || ![...select.options].some((o) => o.value === %q)) return false;
		Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(select, %[2]q);
		select.dispatchEvent(new Event("change", { bubbles: true }));
		return true;
	})()`, label, value)))
}

func (b *tab) signIn(role roles.Role) {
	b.t.Helper()
	for _, p := range scenario.People() {
		if p.Role == role {
			b.do(browser.SignIn(b.base, p.Name, p.Password))
			return
		}
	}
	b.t.Fatalf("nobody has the role %s", role)
}

// accessible runs axe-core on the page, in both themes.
func (b *tab) accessible(page string) {
	b.t.Helper()
	for _, theme := range []string{"day-watch", "night-watch"} {
		var violations []string
		b.do(
			chromedp.Evaluate(fmt.Sprintf("document.documentElement.dataset.theme = %q", theme), nil),
			// Colours move for a moment. They are brought to their end, and not waited for: a page that others
			// cover is drawn when the browser has time for it.
			chromedp.Evaluate(`document.getAnimations()
				.filter((a) => a.effect.getComputedTiming().endTime !== Infinity)
				.forEach((a) => a.finish())`, nil),
			chromedp.Evaluate(axe(b.t), nil),
			chromedp.Evaluate(
				`axe.run(document, { runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"] }).then((r) =>
				r.violations.map((v) => v.id + ": " + v.nodes.map((n) => n.html.slice(0, 160)).join(" | ")))`,
				&violations,
				awaitPromise,
			),
		)
		assert.Empty(b.t, violations, "%s in %s", page, theme)
	}
}

func awaitPromise(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

func axe(t testing.TB) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "console", "node_modules", "axe-core", "axe.min.js"))
	require.NoError(t, err)
	return string(text)
}

// TestConsoleLineOfWork does in the browser what a newcomer does.
func TestConsoleLineOfWork(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.visit("/batches", "Sign in")
	b.accessible("sign-in")
	b.fill("Name", "tobiah")
	b.fill("Password", "not it")
	b.press("Sign in")
	b.sees("Name and password do not fit together")
	b.signIn("curator")
	b.visit("/", "Nothing has been verified yet")
	b.accessible("empty overview")

	// A good folder.
	b.press("Verify a folder")
	b.sees("Verify this folder") // the overview names tidewright too, until this page has come
	b.press("tidewright")
	b.press("gauge-fw-4.2")
	b.sees("SHA256SUMS.sig")
	b.accessible("new batch")
	b.press("Survey first")
	b.sees("What vouches for what")
	b.sees("line 2")
	b.accessible("survey")
	b.press("Verify this folder")
	b.sees("3 artifacts cleared")
	b.accessible("batch")
	b.press("gauge-fw-4.2-main.img")
	b.sees("By a signed manifest: complete")
	var kinds []string
	b.do(
		chromedp.Evaluate(
			`[...document.querySelectorAll("[data-kind]")].map((n) => n.dataset.kind + " " + n.dataset.state)`, &kinds,
		),
	)
	assert.Equal(
		t,
		[]string{
			"artifact holds", "digest holds", "entry holds", "manifest holds", "signature holds", "key holds",
			"publisher holds",
		},
		kinds,
	)
	b.accessible("cleared item")

	// A flipped byte.
	b.visit("/batches/new?depot=quayside&path=tidewright/gauge-fw-4.2-flipped", "Verify this folder")
	b.do(chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery))
	b.press("Verify this folder")
	b.sees("1 artifact refused")
	b.press("gauge-fw-4.2-main.img")
	b.sees("Another value altogether.")
	b.sees("Download it again")
	b.accessible("refused item")

	// An unknown signer: import, sight, admit, run again.
	b.visit("/batches/new?depot=quayside&path=brackwater/buoy-rx-2.0-new-signer", "Verify this folder")
	b.do(chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery))
	b.press("Verify this folder")
	b.sees("2 artifacts unproven")
	key := scenario.Keys()[2]
	b.visit("/keyring/import", "Import a key")
	b.accessible("import")
	b.do(chromedp.SendKeys("textarea", string(key.Armored), chromedp.ByQuery))
	b.choose("Said to belong to", "brackwater")
	b.press("Look at it first")
	b.sees("It will be a candidate")
	b.sees("All 3 packets count.")
	b.accessible("what would be imported")
	b.press("Import")
	b.sees("is new, and a candidate")
	b.visit("/keyring", "candidate")
	b.accessible("keyring")
	b.visit("/keyring/"+key.Fingerprint, "0 of 2 channels agree")
	b.accessible("candidate key")
	for i, channel := range []string{"letter", "phone"} {
		b.fill("Fingerprint as you read it", key.Fingerprint)
		b.choose("Channel", channel)
		b.fill("Where exactly", "a test")
		b.press("Note it")
		b.sees(fmt.Sprintf("%d of 2 channels agree", i+1))
		b.sees("was recorded") // the form is empty again then
	}
	b.sees("The evidence suffices")
	b.fill("Type the fingerprint", strings.ToUpper(key.Fingerprint))
	b.fill("Why it counts", "letter and phone agree")
	b.accessible("admission")
	b.press("Admit")
	b.sees("by tobiah, record")
	assert.Contains(t, b.text(), "admitted")
	b.visit("/batches/new?depot=quayside&path=brackwater/buoy-rx-2.0-new-signer", "Verify this folder")
	b.do(chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery))
	b.press("Verify this folder")
	b.sees("2 artifacts cleared")

	// All of it is on record.
	b.visit("/records", "item outcome")
	b.press("Audit the ledger")
	b.sees("records are as they were written")
	b.accessible("records")
	b.visit("/records?kind=key-step", "key-step")
	b.do(browser.Press("tbody a"))
	b.sees("letter and phone agree")
	b.accessible("record")
	b.visit("/", "Needs attention")
	b.do(chromedp.WaitVisible("figure svg", chromedp.ByQuery))
	b.accessible("overview")
	b.visit("/batches", "quayside:brackwater")
	b.accessible("batches")
}

// TestConsoleBadInput shows the service's own words where something is wrong.
func TestConsoleBadInput(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	require.NoError(t, os.Symlink(t.TempDir(), filepath.Join(s.Depot, "outward")))
	b := open(t, s)
	b.signIn("curator")
	for path, says := range map[string]string{
		"/batches/new?depot=quayside&path=../..":          "leads out of the depot",
		"/batches/new?depot=quayside&path=outward":        "leads out of the depot",
		"/batches/new?depot=attic":                        "There is no depot",
		"/batches/new?depot=quayside&path=incoming/empty": "This folder is empty",
		"/batches/999":           "There is no batch 999",
		"/batches/x":             "not a batch's number",
		"/batches/999/items/1":   "has no item 1",
		"/keyring/97965A9A":      "short forms can be forged",
		"/records/9999":          "There is no record 9999",
		"/there-is-no-such-page": "no page at this address",
	} {
		b.visit(path, says)
	}
	b.visit("/batches/new?depot=quayside&path=incoming/empty", "This folder is empty")
	b.do(chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery))
	b.press("Verify this folder")
	b.sees("nothing to verify")

	for says, content := range map[string][]byte{
		"it is a JPEG picture": []byte("\xff\xd8\xff\xe0\x00\x10JFIF"),
		"This is a secret key": pgptest.Simple("secret", pgptest.Ed25519, time.Unix(1_700_000_000, 0), "X").Secret(),
		"the file is empty":    nil,
	} {
		file := filepath.Join(t.TempDir(), "key.asc")
		require.NoError(t, os.WriteFile(file, content, 0o600))
		b.visit("/keyring/import", "Import a key")
		b.do(chromedp.SetUploadFiles("input[type=file]", []string{file}, chromedp.ByQuery))
		b.do(
			chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery),
			browser.Press("form button[type=submit]"),
		)
		b.sees(says)
		assert.NotContains(t, b.text(), "is new, and a candidate")
	}

	// What is wrong inside a folder is told on the pages of its files.
	require.NoError(t, os.MkdirAll(filepath.Join(s.Depot, "incoming", "huge"), 0o755))
	huge, err := os.Create(filepath.Join(s.Depot, "incoming", "huge", "SHA256SUMS"))
	require.NoError(t, err)
	require.NoError(t, huge.Truncate(2<<30))
	require.NoError(t, huge.Close())
	for _, c := range []struct{ folder, item, says string }{
		{"tidewright/gauge-fw-4.3-outward", "SHA256SUMS", "“../../etc/hostname”: the name leads out of the folder"},
		{"brackwater/buoy-rx-1.9-no-signature", "buoy-rx-1.9-south.bin", "the file is empty"},
		{"incoming/huge", "SHA256SUMS", "2147483648 bytes long"},
	} {
		r := endeixis(t, s, "operator", "batch", "run", scenario.Depot+":"+c.folder, "--wait", "--output", "json")
		var ran batchJSON
		r.decode(t, &ran)
		b.visit(fmt.Sprintf("/batches/%d", ran.ID), c.item)
		b.press(c.item)
		b.sees(c.says)
	}
}

// TestConsoleSlowAnswer holds back what the page asked for while the batch ran
// until the batch is closed: that answer is of before, and is not the last one.
func TestConsoleSlowAnswer(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("operator")
	closed := make(chan struct{})
	var held atomic.Int32
	chromedp.ListenTarget(b.ctx, func(event any) {
		paused, ok := event.(*fetch.EventRequestPaused)
		if !ok {
			return
		}
		go func() {
			select {
			case <-closed:
			default:
				held.Add(1)
				<-closed
				time.Sleep(500 * time.Millisecond) // the page hears first that the batch is closed
			}
			chromedp.Run(b.ctx, fetch.ContinueResponse(paused.RequestID))
		}()
	})
	b.do(
		fetch.Enable().WithPatterns(
			[]*fetch.RequestPattern{{URLPattern: "*/rows?*", RequestStage: fetch.RequestStageResponse}},
		),
	)
	// Long enough to be seen running.
	dir := filepath.Join(s.Depot, "incoming", "long")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	f, err := os.Create(filepath.Join(dir, "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(2<<30))
	require.NoError(t, f.Close())
	batch, err := s.Client(t, "operator").
		RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming/long"}, "long")
	require.NoError(t, err)
	b.do(chromedp.Navigate(fmt.Sprintf("%s/batches/%d", b.base, batch.ID)))
	_, err = s.Client(t, "operator").Follow(t.Context(), batch.ID, nothing)
	require.NoError(t, err)
	require.NotZero(t, held.Load(), "the batch was closed before the page asked")
	close(closed)
	b.sees("1 artifact unproven")
	b.gone("Not settled yet")
}

// TestConsoleDatabaseDown takes the database away from under an open console.
func TestConsoleDatabaseDown(t *testing.T) {
	t.Parallel()
	s, stop := onOwnDatabase(t)
	b := open(t, s)
	b.signIn("operator")
	b.visit("/batches", "No batch yet")
	stop()
	b.visit("/batches", "The database does not answer")
	b.sees("Nothing was lost")
}

// TestConsoleRoles shows nobody a button that would answer “forbidden”.
func TestConsoleRoles(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("auditor")
	b.visit("/batches", "No batch yet")
	assert.NotContains(t, b.text(), "Verify a folder")
	candidate := scenario.Keys()[1].Fingerprint
	b.visit("/keyring/"+candidate, "To be admitted")
	text := b.text()
	assert.NotContains(t, text, "Note it")
	assert.NotContains(t, text, "Admit this key")
	b.visit("/keyring", "candidate")
	assert.NotContains(t, b.text(), "Import a key")
	assert.NotContains(t, b.text(), "Add a publisher")
	b.do(browser.Press(`button[aria-label="Sign out"]`))
	b.sees("Password")
	b.visit("/records", "Password")
}

// TestConsoleMarkup shows hostile names as text.
func TestConsoleMarkup(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	folder := s.Write(
		t, "incoming/markup",
		map[string][]byte{`<img src=x onerror="document.title='owned'">.img`: nil, "esc\x1b[31m.img": nil},
	)
	require.Equal(t, 11, endeixis(t, s, "operator", "batch", "run", folder, "--wait").code)
	b := open(t, s)
	b.signIn("operator")
	b.visit("/batches/1", `onerror=`)
	assert.Contains(t, b.text(), `esc\x1b[31m.img`)
	var title string
	b.do(chromedp.Title(&title))
	assert.Equal(t, "Batch 1: quayside:incoming/markup – Endeixis", title)
}

// TestNothingUnseenIsShown puts marks that turn the direction of text, and spaces
// that nobody sees, wherever people can put text, and finds none of them in
// what the client prints or on any page.
func TestNothingUnseenIsShown(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	const turned = "evil\u202egmi.exe\u2066\u200b"
	list := []byte(strings.Repeat("ab", 32) + "  absent" + turned + "\n")
	s.Write(t, "incoming/"+turned, map[string][]byte{turned + ".img": []byte("a"), "SHA256SUMS": list})
	curator, administrator := s.Client(t, roles.Curator), s.Client(t, roles.Administrator)
	_, err := curator.AddPublisher(
		t.Context(), wire.NewPublisher{Slug: "turned", Name: turned, Contact: turned, Scope: []string{turned}},
	)
	require.NoError(t, err)
	_, err = curator.GrantWaiver(
		t.Context(),
		wire.NewWaiver{
			Ground: "manifest-unsigned", Publisher: "turned", Pattern: turned, Until: time.Now().AddDate(0, 1, 0),
			Reason: turned,
		},
	)
	require.NoError(t, err)
	candidate := scenario.Keys()[1].Fingerprint
	_, err = curator.SightKey(
		t.Context(), candidate, wire.NewSighting{Read: candidate, Channel: "letter", Place: turned, Note: turned},
	)
	require.NoError(t, err)
	admitted := scenario.Keys()[0].Fingerprint
	_, err = curator.WithdrawKey(t.Context(), admitted, turned)
	require.NoError(t, err)
	_, err = administrator.ChangeUser(t.Context(), "merit", wire.UserChange{FullName: new(turned), Reason: turned})
	require.NoError(t, err)
	_, err = administrator.IssueToken(t.Context(), wire.NewToken{Label: turned, Days: 1})
	require.NoError(t, err)
	made, err := curator.RunBatch(
		t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming/" + turned, Label: turned}, "",
	)
	require.NoError(t, err)
	_, err = curator.Follow(t.Context(), made.ID, nothing)
	require.NoError(t, err)
	again, err := curator.Reassess(t.Context(), wire.Selection{Batch: made.ID}, turned)
	require.NoError(t, err)
	listed, err := curator.Records(t.Context(), wire.ListRecordsRequest{}, 1)
	require.NoError(t, err)
	newest := listed.Items

	unseen := regexp.MustCompile(
		`[\x00-\x08\x0b-\x1f\x7f-\x9f\x{200b}-\x{200f}\x{202a}-\x{202e}\x{2060}-\x{2069}\x{feff}]`,
	)
	told := 0
	for _, args := range [][]string{
		{"batch", "list"},
		{"batch", "show", "1"},
		{"batch", "show", "1", "--item", turned + ".img"},
		{"batch", "survey", "quayside:incoming/" + turned},
		{"batch", "follow", "1"},
		{"publisher", "list"},
		{"waiver", "list"},
		{"keyring", "list"},
		{"keyring", "show", candidate},
		{"keyring", "show", admitted},
		{"user", "list"},
		{"token", "list"},
		{"record", "list"},
		{"record", "show", fmt.Sprint(newest[0].Position)},
		{"reassess", "list"},
		{"reassess", "show", fmt.Sprint(again.ID)},
		{"batch", "run", "quayside:none" + turned},
		{"keyring", "show", turned},
		{"publisher", "add", turned},
	} {
		for _, output := range []string{"", "json", "yaml", "csv"} {
			run := args
			if output != "" {
				run = append(slices.Clone(args), "--output", output)
			}
			r := endeixis(t, s, roles.Administrator, run...)
			assert.NotRegexp(t, unseen, r.out+r.err, "%q", run)
			told += strings.Count(r.out+r.err, "evil")
		}
	}
	assert.Greater(t, told, 100)

	b := open(t, s)
	b.signIn(roles.Administrator)
	folder := url.QueryEscape("incoming/" + turned)
	for path, says := range map[string]string{
		"/": "evil", "/batches": "evil", "/people": "evil", "/policy": "evil", "/keyring": "evil", "/records": "evil", "/reassessments": "evil",
		"/batches/new?depot=quayside&path=incoming": "evil", "/batches/new?depot=quayside&path=" + folder: "evil",
		fmt.Sprintf("/batches/%d", made.ID): "evil", fmt.Sprintf("/batches/%d/items/0", made.ID): "SHA256SUMS", fmt.Sprintf("/batches/%d/items/1", made.ID): "evil",
		fmt.Sprintf("/reassessments/%d", again.ID): "evil", "/keyring/" + candidate: "evil", "/keyring/" + admitted: "evil",
		fmt.Sprintf("/records/%d", newest[0].Position): "evil",
	} {
		b.visit(path, says)
		var found []string
		b.do(
			chromedp.Evaluate(
				`[...document.documentElement.outerHTML.matchAll(/.{0,30}[\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff].{0,30}/g)].map((m) => m[0])`,
				&found,
			),
		)
		assert.Empty(t, found, path)
	}
}

// TestConsoleCopiesAndArchives surveys an archive, holds a list against copies
// of it, and looks at what lies inside a disc image.
func TestConsoleCopiesAndArchives(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("operator")
	verify := func(folder string) {
		b.visit("/batches/new?depot=quayside&path="+folder, "Verify this folder")
		b.do(chromedp.WaitEnabled("form button[type=submit]", chromedp.ByQuery))
	}
	const list = "oarlock-logger-2.4-digests.txt"
	verify("oarlock/logger-2.4")
	b.press("Survey first")
	b.sees("Hold a manifest against copies")
	b.do(browser.Press(`//summary[contains(., "Hold a manifest")]`))
	b.choose("Fetch one from", "oarlock-south")
	b.fill("Path there", "2.4/"+list)
	b.press("Add this copy")
	b.sees("oarlock-south, 2.4/")
	b.accessible("copies from elsewhere")
	b.fill("Where exactly", "sheet on the notice board")
	b.fill("Its text", "oarlock-logger-2.4-arm64.img is "+strings.Repeat("ab", 32))
	b.press("Add the pasted copy")
	b.sees("paper, sheet on the notice board")
	b.press("Verify this folder")
	b.sees("2 artifacts refused")
	b.sees("It agrees in 5 entries, and differs in 1")
	b.sees("paper, sheet on the notice board")
	b.accessible("batch with copies")
	filter := func(pattern string) {
		b.do(chromedp.SendKeys(`input[placeholder="*-main.img"]`, pattern, chromedp.ByQuery))
	}
	filter("*riscv64*")
	b.sees("1 artifact unproven")
	assert.NotContains(t, b.text(), "armv6")
	filter("zzz")
	b.sees("No artifact fits this filter")

	verify("corran/chart-disc-2026-10")
	b.press("Survey first")
	b.sees("disc image with 6 members, 5 spoken of")
	b.sees("inside: charts/lights-1.chart")
	b.accessible("survey of a disc image")
	b.press("Verify this folder")
	b.sees("6 artifacts cleared")
	b.press("chart-disc-2026-10.iso//charts/lights-1.chart")
	b.sees("By the file around it: complete")
	b.sees("It lies inside")
	b.accessible("file inside a disc image")

	verify("lanternfell/lamp-ctl-3.5-archive")
	b.press("Verify this folder")
	b.sees("1 artifact refused")
	b.press("lamp-ctl-3.5.zip")
	b.sees("inside this file, not of the file itself")

	b.visit("/manifests", "Read a manifest")
	b.fill(
		"Text",
		"SHA256 (lamp.bin) = "+strings.Repeat("cd", 32)+"\nMD5 (cut.bin) = "+strings.Repeat(
			"cd", 14,
		)+"\n\nbuilt from commit "+strings.Repeat("ab", 20)+"\n",
	)
	b.press("Read it")
	b.sees("1 entry, written as tagged")
	b.sees("Line 2:")
	b.sees("Left aside")
	b.sees("Line 4: it is of something else than a file")
	b.sees("The text, part by part")
	var marked string
	b.do(
		chromedp.Evaluate(
			`[...document.querySelectorAll("mark")].map((m) => m.dataset.made + " " + m.textContent).join("\n")`,
			&marked,
		),
	)
	assert.Equal(
		t,
		"read "+strings.Repeat("cd", 32)+"\nproblem MD5 (cut.bin) = "+strings.Repeat(
			"cd", 14,
		)+"\nleft "+strings.Repeat("ab", 20),
		marked,
	)
	b.accessible("manifest reading")
}

// TestConsolePolicy reads the policy, and changes it with a reason.
func TestConsolePolicy(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	b := open(t, s)
	b.signIn("operator")
	b.visit("/policy", "Policy, version 1")
	b.sees("Channels that corroborate")
	b.accessible("policy")
	assert.NotContains(t, b.text(), "Change it", "only curators change it")
	b.signIn("curator")
	b.visit("/policy", "Policy, version 1")
	b.press("Change it")
	channels := `//label[contains(., "Channels that corroborate")]//input`
	b.do(
		chromedp.SetValue(channels, "", chromedp.BySearch), chromedp.SendKeys(channels, "1", chromedp.BySearch),
		chromedp.SendKeys(`input[maxlength="1000"]`, "Oarlock does not sign", chromedp.ByQuery),
	)
	b.accessible("changing the policy")
	b.press("Put in force")
	b.sees("one channel corroborates nothing")
	b.do(chromedp.SendKeys(channels, "2", chromedp.BySearch)) // 12 channels
	b.press("Put in force")
	b.sees("Policy, version 2")
	b.sees("Oarlock does not sign")
	shown := endeixis(t, s, "auditor", "policy", "show", "--output", "json")
	assert.Contains(t, shown.out, `"corroboration_channels": 12`)

	// A waiver is granted, and ended.
	b.press("Grant a waiver")
	b.choose("Ground that is lifted", "manifest-unsigned")
	b.choose("For the publisher", "corran")
	b.fill("Why the exception is granted", "their signing key is in the post")
	b.accessible("granting a waiver")
	b.do(
		chromedp.Evaluate(
			`(() => { const i = document.querySelector('input[type="date"]'); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(i, "`+time.Now().AddDate(
				0,
				2,
				0,
			).
				Format(
					time.DateOnly,
				)+`"); i.dispatchEvent(new Event("input", { bubbles: true })); })()`,
			nil,
		),
	)
	b.press("Grant")
	b.sees("their signing key is in the post")
	b.accessible("waivers")
	b.press("End it")
	b.fill("Why it ends", "it arrived")
	b.press("End the waiver")
	b.sees("by tobiah: it arrived")

	// One publisher has fields of its own.
	b.sees("Everybody is judged by the policy above")
	b.do(chromedp.SetValue(`//label[contains(., "Set those of")]//select`, "corran", chromedp.BySearch))
	b.sees("Tick the fields")
	b.do(
		browser.Press(`//label[contains(., "Size of RSA and DSA keys")]//input`),
		chromedp.SendKeys(`input[aria-label="Size of RSA and DSA keys"]`, "\b\b\b\b4096", chromedp.ByQuery),
	)
	b.accessible("a publisher's own fields")
	b.do(chromedp.SendKeys(`input[maxlength="1000"]`, "their new press", chromedp.ByQuery))
	b.press("Put in force")
	b.sees("instead of 2,048")
	policy := endeixis(t, s, "auditor", "policy", "show", "--publisher", "corran", "--output", "json")
	assert.JSONEq(t, `{"rsa_bits": 4096}`, policy.out)
}

// TestConsoleDesk decides from the desk: a contradiction is resolved, a key with
// enough sightings admitted, one by its anchor's certification, and withdrawn.
func TestConsoleDesk(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	next := keyOf(t, "tidewright-release-2027.asc")
	_, err := s.Client(t, "operator").ImportKeys(t.Context(), next.Armored, next.Name, "tidewright")
	require.NoError(t, err)
	b := open(t, s)
	b.signIn("auditor")
	b.visit("/keyring/desk", "Read aloud against the wind.")
	assert.NotContains(t, b.text(), "Type the fingerprint", "an auditor sees the evidence and no form")
	assert.NotContains(t, b.text(), "Resolve\n")
	b.accessible("the desk, for an auditor")

	// Directories disagree about an address.
	b.signIn("operator")
	b.visit("/keyring/look-up", "Look a key up")
	b.fill("Fingerprint, key ID or mail address", "sign@brackwater.example")
	b.press("Ask")
	b.sees("There are 3 different keys for this address")
	b.sees("503 Service Unavailable")
	b.accessible("a look-up")
	b.press("Take as a candidate")
	b.sees("Open it")

	b.signIn("curator")
	b.visit("/keyring/desk", "1 of 40 characters differ")
	b.press("Resolve")
	b.fill("Why it differs", "the line was bad; called again")
	b.accessible("resolving")
	b.press("Resolve the conflict")
	b.sees("Resolved by tobiah: the line was bad; called again")

	b.visit("/keyring/"+next.Fingerprint, "By the policy this admits a release key without sightings")
	b.do(chromedp.WaitVisible(`[data-path="holds"]`, chromedp.ByQuery))
	b.accessible("a certification path")
	b.fill("Type the fingerprint", next.Fingerprint)
	b.fill("Why it counts", "certified by the anchor")
	b.press("Admit")
	b.sees("Withdraw this key")
	b.accessible("an admitted key")
	b.press("Show its reach")
	b.sees("If it is withdrawn, no verdict changes.")
	b.fill("Why it counts no longer", "they replaced it")
	b.press("Withdraw")
	b.sees("Make it a candidate again")
	b.visit("/keyring/"+keyOf(t, "tidewright-release-2023.asc").Fingerprint, "its owner revoked it (retired)")
	b.accessible("a revoked key")
}

// TestConsoleReach shows a key's reach before its withdrawal, and the verdicts
// that were judged again.
func TestConsoleReach(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	require.Zero(t, endeixis(t, s, "operator", "batch", "run", "quayside:tidewright/gauge-fw-4.2", "--wait").code)
	b := open(t, s)
	b.signIn("curator")
	b.visit("/keyring/"+keyOf(t, "tidewright-release.asc").Fingerprint, "Withdraw this key")
	b.sees("3 artifacts in 1 batch, last on")
	b.press("Show its reach")
	b.sees("bears on 3 artifacts in 1 batch")
	b.accessible("reach before a withdrawal")
	b.fill("Why it counts no longer", "the laptop was stolen")
	b.press("Withdraw")
	b.sees("Make it a candidate again")
	require.Eventually(t, func() bool {
		return strings.Contains(endeixis(t, s, "auditor", "reassess", "list").out, "done")
	}, 20*time.Second, 200*time.Millisecond)
	b.visit("/batches/1", "now")
	b.accessible("a batch that was judged again")
	b.visit("/batches/1/items/3", "Judged again:")
	b.accessible("an item that was judged again")
	b.visit("/keyring", "Brackwater Radio")
	b.do(chromedp.SendKeys(`input[type="search"]`, "wen ashby", chromedp.ByQuery))
	b.gone("Corran Charts, editions desk 2027")
	b.sees("Wen Ashby")
	b.do(browser.Press(`//button[contains(., "Change") and contains(., "Corran Charts")]`))
	b.fill("Contact", "the new desk")
	b.accessible("changing a publisher")
	b.press("Keep")
	b.sees("the new desk")
	b.visit("/reassessments/1", "3 verdicts changed")
	b.accessible("a reassessment")
	b.visit("/reassessments", "The key was withdrawn: the laptop was stolen")
	b.accessible("reassessments")
	b.visit("/batches/1", "Judge it again")
	b.fill("Judge it again", "to be sure")
	b.press("Judge again")
	b.sees("and 0 verdicts changed")
}

// TestConsoleCancel ends a batch that runs, and sees what becomes of it.
func TestConsoleCancel(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := filepath.Join(s.Depot, "incoming")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	f, err := os.Create(filepath.Join(dir, "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1<<40)) // more than is read before it is cancelled
	require.NoError(t, f.Close())
	made, err := s.Client(t, roles.Operator).
		RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming"}, "")
	require.NoError(t, err)
	b := open(t, s)
	b.signIn(roles.Auditor)
	b.visit(fmt.Sprintf("/batches/%d", made.ID), "chart.iso")
	assert.NotContains(t, b.text(), "End it before it is done", "an auditor reads")
	b.signIn(roles.Operator)
	b.visit(fmt.Sprintf("/batches/%d", made.ID), "chart.iso")
	b.do(browser.Press("summary"))
	b.fill("Why", "the wrong folder")
	b.accessible("cancelling")
	b.press("Cancel the batch")
	b.sees("Cancelled by ines: the wrong folder")
	b.sees("1 artifact unproven")
	b.sees("was not measured: the batch was cancelled before it was read")
}
