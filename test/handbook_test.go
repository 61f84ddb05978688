package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// commandBlocks returns the commands of the blocks of a document that show some,
// one after another, with continued lines joined.
func commandBlocks(text string) []string {
	var out []string
	shown := false
	for _, line := range strings.Split(strings.ReplaceAll(text, "\\\n", " "), "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			shown = !shown
		case shown && strings.HasPrefix(line, "endeixis "):
			out = append(out, line)
		}
	}
	return out
}

// handbookPages are the handbook, in the order in which it is read.
var handbookPages = []string{
	"docs/handbook.md", "docs/handbook/operator.md", "docs/handbook/curator.md", "docs/handbook/auditor.md",
	"docs/handbook/administrator.md",
}

func handbook(t *testing.T) string {
	t.Helper()
	var all strings.Builder
	for _, page := range handbookPages {
		text, err := os.ReadFile(filepath.Join("..", page))
		require.NoError(t, err)
		all.Write(text)
	}
	return all.String()
}

// TestLinksLead follows every link between the documents, to the heading that it names.
func TestLinksLead(t *testing.T) {
	t.Parallel()
	pages, err := filepath.Glob("../docs/*.md")
	require.NoError(t, err)
	for _, more := range []string{"../*.md", "../docs/handbook/*.md", "../docs/decisions/*.md"} {
		found, err := filepath.Glob(more)
		require.NoError(t, err)
		pages = append(pages, found...)
	}
	headings := func(page string) []string {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		var out []string
		for _, m := range regexp.MustCompile(`(?m)^#+ (.*)$`).FindAllStringSubmatch(string(text), -1) {
			word := regexp.MustCompile(`[^\p{L}\p{N} _-]`).ReplaceAllString(strings.ToLower(m[1]), "")
			out = append(out, strings.ReplaceAll(word, " ", "-"))
		}
		return out
	}
	links := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`\]\(([^)\s]+)\)`).FindAllStringSubmatch(string(text), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			links++
			file, heading, _ := strings.Cut(m[1], "#")
			to := page
			if file != "" {
				to = filepath.Join(filepath.Dir(page), file)
			}
			require.FileExists(t, to, "%s links to %s", page, m[1])
			if heading != "" {
				assert.Contains(t, headings(to), heading, "%s links to %s", page, m[1])
			}
		}
	}
	assert.Greater(t, links, 50)
}

// TestHandbookCommands runs every command line that the handbook shows in a block,
// as it stands there, one after another, in a folder with the files that it
// speaks of.
func TestHandbookCommands(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	require.NoError(t, scenario.KeepGauges(t.Context(), s.Client(t, roles.Curator), addresses))
	commands := commandBlocks(handbook(t))
	require.Greater(t, len(commands), 15)

	dir := t.TempDir()
	write := func(name, content string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	firmware := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2")
	for _, name := range []string{"gauge-fw-4.2-main.img", "SHA256SUMS"} {
		content, err := os.ReadFile(filepath.Join(firmware, name))
		require.NoError(t, err)
		write(name, string(content))
		for _, folder := range []string{"release", "chart-2026-10", "chart-2026-11"} {
			if folder != "release" || name != "SHA256SUMS" {
				write(folder+"/"+name, string(content))
			}
		}
	}
	list, err := os.ReadFile(filepath.Join(s.Depot, "oarlock", "logger-2.4", "oarlock-logger-2.4-digests.txt"))
	require.NoError(t, err)
	write("typed-from-the-letter.txt", string(list))
	write("letter.txt", string(list))
	write("downloads/gauge.img", "an image")
	disc, err := os.ReadFile(filepath.Join(s.Depot, discFolder, discName))
	require.NoError(t, err)
	write("disc.img", string(disc)+strings.Repeat("\x00", 150*2048))
	require.NoError(t, os.CopyFS(filepath.Join(dir, "usb"), os.DirFS(firmware)))
	main, err := os.ReadFile(filepath.Join(firmware, "gauge-fw-4.2-main.img"))
	require.NoError(t, err)
	write("card.img", string(main)+strings.Repeat("\xff", 4096))
	write("packages-10.txt", "tide 1.0\nlamp 2\n")
	write("packages-11.txt", "tide 1.1\nlamp 2\n")
	write("corran.yaml", "rsa_bits: 4096\n")
	// What somebody does between one command and the next.
	between := map[string]func(){
		"endeixis policy show --output yaml > policy.yaml": func() {
			shown, err := os.ReadFile(filepath.Join(dir, "policy.yaml"))
			require.NoError(t, err)
			write(
				"policy.yaml",
				strings.Replace(string(shown), "corroboration_channels: 0", "corroboration_channels: 2", 1),
			)
		},
	}
	for _, command := range commands {
		line := strings.ReplaceAll(command, "verify.skerrow.example+…", s.PublicKey)
		cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
		cmd.Dir = dir
		cmd.Env = append(
			os.Environ(), "PATH="+filepath.Dir(binary(t, "endeixis"))+":"+os.Getenv("PATH"), "ENDEIXIS_SERVER="+s.URL,
			"ENDEIXIS_TOKEN="+s.Token(t, "curator"), "ENDEIXIS_PROFILE="+filepath.Join(dir, "none.yaml"),
		)
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s\n%s", command, out)
		if undo := between[command]; undo != nil {
			undo()
		}
	}
}

// TestHandbookExamples carries out three examples of the handbook, every line as it stands
// there, each beginning in an empty directory.
func TestHandbookExamples(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	require.NoError(t, scenario.KeepGauges(t.Context(), s.Client(t, roles.Curator), addresses))
	text := handbook(t)
	for begins, least := range map[string]int{"The month's disc for the chart table": 4, "The gauge at the slipway gets version 4.3": 4, "The visit to Skerrow Light": 10} {
		_, rest, found := strings.Cut(text, begins)
		require.True(t, found, begins)
		block := strings.Split(rest, "```\n")[1]
		require.GreaterOrEqual(t, strings.Count(block, "\n"), least, block)
		dir := t.TempDir()
		for line := range strings.Lines(strings.ReplaceAll(block, "verify.skerrow.example+…", s.PublicKey)) {
			cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
			cmd.Dir = dir
			cmd.Env = append(
				os.Environ(), "PATH="+filepath.Dir(binary(t, "endeixis"))+":"+os.Getenv("PATH"),
				"ENDEIXIS_SERVER="+s.URL, "ENDEIXIS_TOKEN="+s.Token(t, "operator"),
				"ENDEIXIS_PROFILE="+filepath.Join(dir, "none.yaml"),
			)
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, "%s\n%s", line, out)
		}
	}
}

// TestDevicesExample goes from nothing to the first answer of a new kind of device, as
// docs/devices.md tells it: every block is carried out as it stands there.
func TestDevicesExample(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	text, err := os.ReadFile(filepath.Join("..", "docs", "devices.md"))
	require.NoError(t, err)
	_, example, found := strings.Cut(string(text), "## From nothing to the first answer")
	require.True(t, found)
	example = strings.ReplaceAll(example, "192.0.2.31:22", addresses["KG-08"])
	dir := t.TempDir()
	var said string
	for i, block := range strings.Split(example, "```\n") {
		if i%2 == 0 {
			continue
		}
		cmd := exec.CommandContext(t.Context(), "sh", "-e", "-c", block)
		cmd.Dir = dir
		cmd.Env = append(
			os.Environ(), "PATH="+filepath.Dir(binary(t, "endeixis"))+":"+os.Getenv("PATH"), "ENDEIXIS_SERVER="+s.URL,
			"ENDEIXIS_TOKEN="+s.Token(t, "curator"), "ENDEIXIS_PROFILE="+filepath.Join(dir, "none.yaml"),
		)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s\n%s", block, out)
		said += string(out)
	}
	assert.Contains(t, said, "Slot A of TM-1 has the SHA-256 of gauge-fw-4.2-main.img")
	// What the record says of the kind is what its row says, and the audit sees both.
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
	retired := endeixis(t, s, "curator", "device", "kind", "retire", "tide-mast", "--reason", "none is left")
	assert.Equal(t, 1, retired.code)
	assert.Contains(t, retired.err, "TM-1 is of the kind")
	require.Zero(t, endeixis(t, s, "curator", "device", "retire", "TM-1", "--reason", "taken down").code)
	require.Zero(t, endeixis(t, s, "curator", "device", "kind", "retire", "tide-mast", "--reason", "none is left").code)
	assert.NotContains(t, endeixis(t, s, "operator", "device", "kinds").out, "tide-mast")
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestKindsThatAreNone: a description is kept only when an answer was read by it, by curators,
// and not in the place of an administrator's.
func TestKindsThatAreNone(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	dir := t.TempDir()
	write := func(name, content string) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, []byte(content), 0o600))
		return file
	}
	shown := endeixis(t, s, "operator", "device", "kinds", "harbour-gauge")
	require.Zero(t, shown.code, shown.err)
	mast := strings.Replace(shown.out, "kind: harbour-gauge", "kind: mast", 1)
	sum := strings.Repeat("5b", 32)
	for what, test := range map[string]struct{ kind, answer, slot, says string }{
		"no prompt behind it":    {mast, "KG> sum slot A with sha-256\nslot A, 10 bytes, sha-256: " + sum + "\n", "a", "is not the"},
		"another slot":           {mast, "KG> sum slot A with sha-256\nslot A, 10 bytes, sha-256: " + sum + "\nKG>\n", "b", "slot"},
		"two answers":            {mast, "slot A, 10 bytes, sha-256: " + sum + "\nslot A, 11 bytes, sha-256: " + sum + "\nKG>\n", "a", "2 different answers"},
		"nothing":                {mast, "KG>\n", "a", "nothing beside the question"},
		"which slot":             {mast, "KG>\n", "", "Say which slot"},
		"a slot that is none":    {mast, "KG>\n", "c", "Say which slot"},
		"no description":         {"what: ever\n", "KG>\n", "a", "line 1"},
		"a question that echoes": {strings.Replace(mast, "sum slot {slot} with sha-256", "slot {slot}, 1 bytes, sha-256: "+sum, 1), "KG>\n", "a", "line"},
		"a refusal":              {mast, "KG> sum slot A with sha-256\ncannot: busy\nKG>\n", "a", "refused"},
	} {
		for _, verb := range []string{"try", "add"} {
			args := []string{
				"device", "kind", verb, write("kind.yaml", test.kind), "--answer", write("answer.txt", test.answer),
			}
			if test.slot != "" {
				args = append(args, "--slot", test.slot)
			}
			r := endeixis(t, s, "curator", args...)
			assert.Contains(t, []int{1, 2}, r.code, what)
			assert.Contains(t, r.out+r.err, test.says, what)
		}
	}
	assert.NotContains(t, endeixis(t, s, "operator", "device", "kinds").out, "mast")
	good := []string{
		"device", "kind", "add", write("kind.yaml", mast), "--slot", "b", "--answer",
		write("answer.txt", "KG> sum slot B with md5\nslot B, 10 bytes, md5: "+sum[:32]+"\nKG> "),
	}
	assert.Contains(t, endeixis(t, s, "operator", good...).err, "needs the role curator")
	added := endeixis(t, s, "curator", good...)
	assert.Zero(t, added.code, added.err)
	assert.Contains(t, added.out, "MD5")
	assert.Contains(t, endeixis(t, s, "curator", good...).err, "described already")
	assert.Contains(t, endeixis(t, s, "operator", "device", "kinds").out, "tobiah on")
}

// TestDocumentsNameWhatThereIs looks up every command that a document names in
// its text, with its flags.
func TestDocumentsNameWhatThereIs(t *testing.T) {
	t.Parallel()
	span := regexp.MustCompile("`(endeixisd?) ([^`]+)`")
	flag := regexp.MustCompile(`--[a-z-]+`)
	checked := 0
	for _, name := range append(
		[]string{"README.md", "docs/formats.md", "docs/api.md", "docs/devices.md", "docs/threat-model.md"}, handbookPages...,
	) {
		text, err := os.ReadFile(filepath.Join("..", name))
		require.NoError(t, err)
		for _, m := range span.FindAllStringSubmatch(strings.ReplaceAll(string(text), "\n", " "), -1) {
			var path []string
			for _, word := range strings.Fields(m[2]) {
				if !regexp.MustCompile(`^[a-z-]+$`).MatchString(word) || strings.HasPrefix(word, "-") {
					break
				}
				path = append(path, word)
			}
			help := ""
			for ; len(path) > 0; path = path[:len(path)-1] { // the last words may be arguments
				out, err := exec.CommandContext(
					t.Context(),
					binary(t, m[1]),
					append(path, "--help")...).CombinedOutput()
				if help = string(out); err == nil && strings.Contains(help, m[1]+" "+strings.Join(path, " ")) {
					break
				}
			}
			assert.NotEmpty(t, path, "%s names a command that is not there: %s", name, m[0])
			for _, f := range flag.FindAllString(m[2], -1) {
				assert.Contains(t, help, f, "%s: %s", name, m[0])
			}
			checked++
		}
	}
	assert.Greater(t, checked, 15)
}
