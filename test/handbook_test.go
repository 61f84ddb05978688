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

// TestHandbookCommands runs every command line that the handbook shows in a block,
// as it stands there, one after another, in a folder with the files that it
// speaks of.
func TestHandbookCommands(t *testing.T) {
	t.Parallel()
	gauges, err := scenario.Gauges()
	require.NoError(t, err)
	s, addresses := withGauges(t, gauges)
	require.NoError(t, scenario.KeepGauges(t.Context(), s.Client(t, roles.Curator), addresses))
	text, err := os.ReadFile(filepath.Join("..", "docs", "handbook.md"))
	require.NoError(t, err)
	commands := commandBlocks(string(text))
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
			write("policy.yaml", strings.Replace(string(shown), "corroboration_channels: 0", "corroboration_channels: 2", 1))
		},
	}
	for _, command := range commands {
		line := strings.ReplaceAll(command, "verify.skerrow.example+…", s.PublicKey)
		cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary(t, "endeixis"))+":"+os.Getenv("PATH"), "ENDEIXIS_SERVER="+s.URL, "ENDEIXIS_TOKEN="+s.Token(t, "curator"),
			"ENDEIXIS_PROFILE="+filepath.Join(dir, "none.yaml"))
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s\n%s", command, out)
		if then := between[command]; then != nil {
			then()
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
	text, err := os.ReadFile(filepath.Join("..", "docs", "handbook.md"))
	require.NoError(t, err)
	for begins, least := range map[string]int{"The month's disc for the chart table": 4, "The gauge at the slipway gets version 4.3": 4, "The visit to Skerrow Light": 10} {
		_, rest, found := strings.Cut(string(text), begins)
		require.True(t, found, begins)
		block := strings.Split(rest, "```\n")[1]
		require.GreaterOrEqual(t, strings.Count(block, "\n"), least, block)
		dir := t.TempDir()
		for line := range strings.Lines(strings.ReplaceAll(block, "verify.skerrow.example+…", s.PublicKey)) {
			cmd := exec.CommandContext(t.Context(), "sh", "-c", line)
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(binary(t, "endeixis"))+":"+os.Getenv("PATH"), "ENDEIXIS_SERVER="+s.URL, "ENDEIXIS_TOKEN="+s.Token(t, "operator"),
				"ENDEIXIS_PROFILE="+filepath.Join(dir, "none.yaml"))
			out, err := cmd.CombinedOutput()
			assert.NoError(t, err, "%s\n%s", line, out)
		}
	}
}

// TestDocumentsNameWhatThereIs looks up every command that a document names in
// its text, with its flags.
func TestDocumentsNameWhatThereIs(t *testing.T) {
	t.Parallel()
	span := regexp.MustCompile("`(endeixisd?) ([^`]+)`")
	flag := regexp.MustCompile(`--[a-z-]+`)
	checked := 0
	for _, name := range []string{"README.md", "docs/handbook.md", "docs/formats.md", "docs/api.md", "docs/devices.md", "docs/threat-model.md"} {
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
				out, err := exec.CommandContext(t.Context(), binary(t, m[1]), append(path, "--help")...).CombinedOutput()
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
