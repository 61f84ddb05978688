package test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/browser"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// TestPeople changes people through the client, as administrators and the people
// themselves do.
func TestPeople(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	as := func(token, stdin string, args ...string) ran {
		return endeixisWith(t, []string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + token}, stdin, args...)
	}
	administrator, operator := s.Token(t, roles.Administrator), s.Token(t, roles.Operator)
	var me wire.Me
	as(operator, "", "status", "--output", "json").decode(t, &struct {
		User *wire.Me `json:"user"`
	}{&me})
	require.Equal(t, roles.Operator, me.Role)

	r := as(operator, "not it\nsix lanterns\n", "password")
	assert.NotZero(t, r.code)
	assert.Contains(t, r.err, "This is not your password of now.")
	r = as(operator, "", "user", "list")
	assert.NotZero(t, r.code, "only administrators keep people")

	r = as(administrator, "", "user", "change", me.Name, "--role", "auditor", "--reason", "reads only from now on")
	require.Zero(t, r.code, r.err)
	r = as(operator, "", "batch", "run", "quayside:x")
	assert.Contains(t, r.err, "needs the role operator")
	r = as(administrator, "kelp and glass\n", "user", "reset", me.Name)
	require.Zero(t, r.code, r.err)
	r = as(operator, "", "status")
	assert.Contains(t, r.err, "This token was ended on")
	r = as(administrator, "", "user", "disable", me.Name, "--reason", "on leave")
	require.Zero(t, r.code, r.err)
	r = as(administrator, "", "user", "list")
	assert.Regexp(t, me.Name+`.*auditor.*disabled`, r.out)
	r = as(administrator, "", "record", "list", "--kind", "user-changed", "--output", "json")
	assert.Contains(t, r.out, me.Name)
	r = as(administrator, "", "record", "audit")
	require.Zero(t, r.code, "%s%s", r.out, r.err)

	r = as(administrator, "", "token", "issue", "--label", "gate", "--role", "operator", "--only-depot", "pier")
	require.Zero(t, r.code, r.err)
	limited := strings.TrimSpace(r.out)
	r = as(limited, "", "batch", "run", "quayside:x")
	assert.Contains(t, r.err, "This token is good for the depot pier only.")
	assert.Contains(t, as(administrator, "", "token", "list").out, "pier")
}

// TestShutOutWhileFollowing disables somebody who follows a batch: they are told so,
// and hear no more.
func TestShutOutWhileFollowing(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	c := s.Client(t, roles.Operator)
	me, err := c.Me(t.Context())
	require.NoError(t, err)
	dir := filepath.Join(s.Depot, "incoming")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	f, err := os.Create(filepath.Join(dir, "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(16<<30)) // more than is read while this test runs
	require.NoError(t, f.Close())
	b, err := c.RunBatch(t.Context(), wire.NewBatch{Depot: "quayside", Path: "incoming"}, "followed")
	require.NoError(t, err)

	request, err := http.NewRequestWithContext(
		t.Context(), http.MethodGet, fmt.Sprintf("%s/api/v1/batches/%d/events", s.URL, b.ID), nil,
	)
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+s.Token(t, roles.Operator))
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, http.StatusOK, response.StatusCode)
	_, err = s.Client(t, roles.Administrator).ChangeUser(t.Context(), me.Name, wire.UserChange{Disabled: new(true)})
	require.NoError(t, err)
	heard, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	assert.Contains(t, string(heard), "event: problem")
	assert.Contains(t, string(heard), "token-revoked")
	now, err := s.Client(t, roles.Administrator).Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.False(t, now.Closed(), "it ended because of that, and not with the batch")
}

// TestConsolePeople goes through the page of people as an administrator, and as
// somebody who changes their own password.
func TestConsolePeople(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	b := open(t, s)
	b.signIn(roles.Administrator)
	b.visit("/people", "Everybody")
	b.accessible("people")
	b.press("Add a person")
	b.fill("Sign-in name", "sunniva")
	b.fill("Full name", "Sunniva Holt")
	b.fill("First password", "qwertyuiop")
	b.press("Add them")
	b.sees("Many people have this password")
	b.fill("First password", " and more")
	b.press("Add them")
	b.sees("Sunniva Holt")
	b.do(browser.Press(`button[aria-label="Disable sunniva"]`))
	b.sees("Their sessions and tokens end at once.")
	b.accessible("disabling")
	b.fill("Why", "on leave")
	b.press("Shut them out")
	b.do(chromedp.WaitVisible(`button[aria-label="Enable sunniva"]`, chromedp.ByQuery))
	b.press("Make a token")
	b.fill("What it is for", "the gate")
	b.choose("Only for the depot", "quayside")
	b.press("Make it")
	b.sees("It is shown this once")
	b.press("I have it")
	b.sees("only for quayside")

	b.signIn(roles.Auditor)
	b.visit("/people", "Your password")
	assert.NotContains(t, b.text(), "Everybody")
	b.fill("Password of now", "not it")
	b.fill("New password", "kelp and glass")
	b.press("Change the password")
	b.sees("This is not your password of now")
	b.visit("/people", "Your password")
	b.fill("Password of now", passwordOf(roles.Auditor))
	b.fill("New password", "kelp and glass")
	b.press("Change the password")
	b.sees("Your password is changed")
	b.visit("/people", "Your tokens in force") // this session goes on
}

func passwordOf(role roles.Role) string {
	for _, p := range scenario.People() {
		if p.Role == role {
			return p.Password
		}
	}
	return ""
}
