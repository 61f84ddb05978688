package test

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/survey"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
)

// foldersBelow returns the folders of a depot in which files lie, relative to it.
func foldersBelow(t *testing.T, depot string) []string {
	t.Helper()
	var out []string
	require.NoError(t, filepath.WalkDir(depot, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		if !entry.IsDir() {
			folder, err := filepath.Rel(depot, filepath.Dir(path))
			require.NoError(t, err)
			if parts := strings.Split(folder, "/"); len(parts) >= 2 {
				folder = strings.Join(parts[:2], "/")
			}
			if !slices.Contains(out, folder) {
				out = append(out, folder)
			}
		}
		return nil
	}))
	return out
}

// TestSameElsewhere verifies each folder of the demo twice, read by the service and read
// by the client, and expects the same of every file: verdict, grounds, findings, paths
// and digests. All that differs is that it says who has read it.
func TestSameElsewhere(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	folders := foldersBelow(t, s.Depot)
	require.Greater(t, len(folders), 20)
	t.Run("all", func(t *testing.T) {
		for _, folder := range folders {
			t.Run(folder, func(t *testing.T) {
				t.Parallel()
				there := verified(t, s, "quayside:"+folder)
				here := verified(t, s, filepath.Join(s.Depot, folder))
				assert.Equal(t, there.Counts, here.Counts)
				assert.Equal(t, there.Verdict, here.Verdict)
				assert.Equal(t, there.Absent, here.Absent)
				require.Len(t, here.Items, len(there.Items))
				for i := range there.Items {
					a, b := there.Items[i], here.Items[i]
					require.Equal(t, a.Path, b.Path)
					assert.Equal(t, a.Verdict, b.Verdict, a.Path)
					assert.Equal(t, a.Digests, b.Digests, a.Path)
					assert.Equal(t, a.Size, b.Size, a.Path)
					said := ""
					grounds := slices.DeleteFunc(b.Grounds, func(g judge.Ground) bool {
						if g.Code == judge.ByMeasurer {
							said = g.Sentence
						}
						return g.Code == judge.ByMeasurer
					})
					assert.Equal(t, told(a.Grounds), told(grounds), a.Path)
					if b.Role == "artifact" &&
						!slices.ContainsFunc(
							b.Grounds, func(g judge.Ground) bool { return g.Code == judge.Unreadable },
						) {
						assert.Contains(t, said, "by the client on", a.Path)
					}
					assert.Contains(t, b.Where, "client on ")
					require.Len(t, b.Paths, len(a.Paths), a.Path)
					for k := range a.Paths {
						assert.Equal(t, a.Paths[k].Complete, b.Paths[k].Complete, a.Path)
						assert.Equal(t, a.Paths[k].Kind, b.Paths[k].Kind, a.Path)
					}
				}
			})
		}
	})
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

type fullJSON struct {
	ID      int64   `json:"id"`
	State   string  `json:"state"`
	Note    string  `json:"note"`
	Verdict *string `json:"verdict"`
	Counts  struct{ Cleared, Unproven, Refused, Absent, Companions int }
	Items   []struct {
		N       int               `json:"n"`
		Path    string            `json:"path"`
		Role    string            `json:"role"`
		Size    int64             `json:"size"`
		Verdict *string           `json:"verdict"`
		Where   string            `json:"where"`
		Digests map[string]string `json:"digests"`
		Grounds []judge.Ground    `json:"grounds"`
		Paths   []judge.ProofPath `json:"paths"`
	} `json:"items"`
	Absent []struct{ Name, Manifest string } `json:"absent"`
}

// verified runs a batch and returns it.
func verified(t *testing.T, s *testkit.Service, where string, more ...string) fullJSON {
	t.Helper()
	r := endeixis(t, s, "operator", append([]string{"batch", "run", where, "--wait", "-o", "json"}, more...)...)
	require.Contains(t, []int{0, 10, 11}, r.code, r.err)
	var out fullJSON
	require.NoError(t, json.Unmarshal([]byte(r.out), &out), r.out)
	assert.Equal(t, "done", out.State)
	return out
}

// told is what grounds say, and why.
func told(grounds []judge.Ground) []string {
	var out []string
	for _, g := range grounds {
		if slices.Contains(judge.UnlikeBefore(), g.Code) {
			continue // which batches were before is left to chance, too
		}
		says := string(g.Code) + " " + string(
			g.Effect,
		) + " " + g.Sentence + " " + g.Expected.String() + " " + g.Computed.String()
		for _, f := range g.Causes {
			// Which other batch has cleared the same bytes by then is left to chance, and
			// with that whether there is nothing else to say.
			if f.Code != diagnose.OtherRelease && f.Code != diagnose.Altered {
				says += "\n  " + string(f.Code) + " " + f.Sentence
			}
		}
		out = append(out, says)
	}
	return out
}

// TestMeasurerInPython verifies folders with a program in another language that knows
// nothing of ours but docs/formats.md, and expects what the service finds itself.
func TestMeasurerInPython(t *testing.T) {
	t.Parallel()
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("there is no python3 here")
	}
	s := testkit.Start(t)
	for _, folder := range []string{"tidewright/gauge-fw-4.2", "tidewright/gauge-fw-4.2-flipped", "tidewright/gauge-fw-4.1-unsigned", "lanternfell/lamp-ctl-3.1", "corran/chart-2026-10-padded"} {
		out, err := exec.CommandContext(
			t.Context(), python, "measurer/measurer.py", s.URL, s.Token(t, "operator"), filepath.Join(s.Depot, folder),
		).CombinedOutput()
		require.NoError(t, err, "%s: %s", folder, out)
		id, verdict, _ := strings.Cut(strings.TrimSpace(string(out)), " ")
		there := verified(t, s, "quayside:"+folder)
		assert.Equal(t, *there.Verdict, verdict, folder)
		here := verifiedShow(t, s, id)
		require.Len(t, here.Items, len(there.Items))
		for i := range there.Items {
			assert.Equal(t, there.Items[i].Path, here.Items[i].Path)
			assert.Equal(t, there.Items[i].Digests, here.Items[i].Digests, there.Items[i].Path)
			assert.Equal(t, there.Items[i].Verdict, here.Items[i].Verdict, there.Items[i].Path)
		}
	}
}

// measuring starts the client on a folder of three empty files of some length, with a
// token, and returns when the batch is being measured.
func measuring(t *testing.T, s *testkit.Service, token, dir string, length int64) (*exec.Cmd, *bytes.Buffer) {
	t.Helper()
	for _, name := range []string{"a.bin", "b.bin", "c.bin"} {
		f, err := os.Create(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, f.Truncate(length))
		require.NoError(t, f.Close())
	}
	cmd := exec.CommandContext(t.Context(), binary(t, "endeixis"), "batch", "run", dir)
	cmd.Env = append(
		os.Environ(), "ENDEIXIS_SERVER="+s.URL, "ENDEIXIS_TOKEN="+token,
		"ENDEIXIS_PROFILE="+filepath.Join(t.TempDir(), "none.yaml"),
	)
	errs := &bytes.Buffer{}
	cmd.Stderr = errs
	require.NoError(t, cmd.Start())
	cl := s.Client(t, "operator")
	require.Eventually(t, func() bool {
		b, err := cl.Batch(t.Context(), 1)
		return err == nil && b.State == "measuring"
	}, time.Minute, 10*time.Millisecond)
	return cmd, errs
}

// TestInterrupted interrupts the measuring of a folder of this machine, and goes on.
func TestInterrupted(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "small.bin"), []byte("small"), 0o644))
	cmd, errs := measuring(t, s, s.Token(t, "operator"), dir, 700<<20)
	cl := s.Client(t, "operator")
	time.Sleep(100 * time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	require.Error(t, cmd.Wait())
	assert.Equal(t, 1, cmd.ProcessState.ExitCode(), errs.String())
	assert.Contains(t, errs.String(), "endeixis batch resume 1")
	b, err := cl.Batch(t.Context(), 1)
	require.NoError(t, err)
	assert.EqualValues(t, "measuring", b.State)
	assert.Less(t, b.Progress.ItemsDone, 4)

	r := endeixis(t, s, "curator", "batch", "resume", "1")
	assert.Equal(t, 3, r.code, "whoever did not start it may not send for it")
	assert.Contains(t, r.err, "was asked for by ines")
	r = endeixis(t, s, "operator", "batch", "resume", "1")
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, r.out, "0 cleared, 4 unproven")
	r = endeixis(t, s, "operator", "batch", "resume", "1")
	assert.Contains(t, r.err, "nothing to go on with")
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// TestOddFilesHere: what cannot be read on this machine is told as in a depot.
func TestOddFilesHere(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	put := func(name, content string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
	}
	put("plain.img", "plain")
	put("deep/down/below.img", "below")
	put("empty.img", "")
	put(strings.Repeat("long", 60)+".img", "long")
	put("odd\xff.img", "odd")
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "out.img")))
	require.NoError(t, os.Symlink("plain.img", filepath.Join(dir, "in.img")))
	require.NoError(t, os.Symlink("nowhere", filepath.Join(dir, "gone.img")))
	require.NoError(t, exec.Command("mkfifo", filepath.Join(dir, "pipe.img")).Run())
	got := verified(t, s, dir)
	says := map[string]string{}
	for _, item := range got.Items {
		says[item.Path] = ""
		for _, g := range item.Grounds {
			says[item.Path] += string(g.Code) + ": " + g.Sentence + " "
		}
	}
	assert.Contains(t, says["out.img"], "leads out")
	assert.Contains(t, says["gone.img"], "not there")
	assert.Contains(t, says["pipe.img"], "named pipe")
	assert.Contains(t, says["in.img"], "not-listed")
	assert.Contains(t, says["deep/down/below.img"], "not-listed")
	assert.Contains(t, says["empty.img"], "not-listed")
	odd := false
	for path, said := range says {
		odd = odd || strings.HasPrefix(path, "odd") && strings.Contains(said, "not valid UTF-8")
	}
	assert.True(t, odd, "%v", says)
	assert.Len(t, says, 9)

	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"batch", "run", t.TempDir()}, 1, "is empty"},
		{[]string{"batch", "run", filepath.Join(dir, "plain.img")}, 2, "endeixis spot"},
		{[]string{"batch", "run", filepath.Join(dir, "nothing")}, 2, "there is no folder"},
		{[]string{"batch", "run", dir, "--set", "x.sig=plain.img"}, 2, "x.sig"},
		{[]string{"batch", "survey", dir, "--set", "x.sig=plain.img"}, 2, "x.sig"},
		{[]string{"spot", filepath.Join(dir, "nothing.img")}, 2, "nothing.img: no such file"},
		{[]string{"spot", dir}, 2, "is a folder"},
		{[]string{"spot"}, 2, "give a file"},
		{[]string{"spot", filepath.Join(dir, "plain.img"), "--digest", "12 34"}, 2, "not read as one digest"},
		{[]string{"spot", filepath.Join(dir, "plain.img"), "--manifest", filepath.Join(dir, "nothing")}, 2, "no such file"},
		{[]string{"spot", filepath.Join(dir, "plain.img"), "--manifest", dir}, 2, "is a folder; --manifest takes one list"},
		{[]string{"spot", filepath.Join(dir, "plain.img"), "--manifest", "https://tidewright.example/SHA256SUMS"}, 2, "is an address, and nothing is fetched here"},
		{[]string{"spot", "--digest", strings.Repeat("0", 8)}, 2, "no file is found by it"},
	} {
		r := endeixis(t, s, "operator", c.args...)
		assert.Equal(t, c.code, r.code, "%v: %s", c.args, r.err)
		assert.Contains(t, r.err, c.says, "%v", c.args)
	}
	r := endeixisWith(t, []string{"ENDEIXIS_SERVER=http://127.0.0.1:9"}, "", "batch", "survey", dir)
	assert.Zero(t, r.code, "a survey asks no service: %s", r.err)
}

// TestSpot asks the quick question in every way there is.
func TestSpot(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	release := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2")
	image := filepath.Join(release, "gauge-fw-4.2-main.img")
	lone := filepath.Join(t.TempDir(), "gauge-fw-4.2-main.img")
	content, err := os.ReadFile(image)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(lone, content, 0o644))
	list, err := os.ReadFile(filepath.Join(release, "SHA256SUMS"))
	require.NoError(t, err)
	sum := fmt.Sprintf("%x", sha256.Sum256(content))
	wide := sha512.Sum512(content)
	spaced := regexp.MustCompile("..").ReplaceAllString(strings.ToUpper(sum), "$0 ")
	for name, c := range map[string]struct {
		args  []string
		stdin string
		code  int
		says  []string
		notes string
	}{
		"beside":           {[]string{image}, "", 0, []string{"cleared", "SHA256SUMS.sig holds", "SHA-256, as SHA256SUMS, line 2 states it"}, ""},
		"a digest":         {[]string{lone, "--digest", spaced}, "", 11, []string{"It matches the value that was given", "a value shows damage"}, "is taken for SHA-256"},
		"SHA-512":          {[]string{lone, "--digest", fmt.Sprintf("%x", wide)}, "", 11, []string{"It matches the value that was given"}, "is taken for SHA-512"},
		"a base64 digest":  {[]string{lone, "--digest", "sha512-" + base64.StdEncoding.EncodeToString(wide[:])}, "", 11, []string{"It matches the value that was given"}, "SHA-512, as it says"},
		"another digest":   {[]string{lone, "--digest", "ff" + sum[2:]}, "", 10, []string{"refused", "  ^\n"}, ""},
		"a wrong one":      {[]string{lone, "--digest", fmt.Sprintf("%x", sha256.Sum256([]byte("x")))}, "", 10, []string{"another value altogether"}, ""},
		"pasted":           {[]string{lone, "--paste"}, string(list), 11, []string{"It matches pasted text"}, "a text with 3 digests"},
		"pasted with -":    {[]string{lone, "-"}, "SHA-256: " + sum, 11, []string{"It matches pasted text"}, "a value alone: SHA-256, as it says"},
		"list and sig":     {[]string{lone, "--manifest", filepath.Join(release, "SHA256SUMS"), "--signature", filepath.Join(release, "SHA256SUMS.sig")}, "", 0, []string{"cleared"}, ""},
		"other publisher":  {[]string{image, "--publisher", "corran"}, "", 10, []string{"refused"}, ""},
		"5 MiB pasted":     {[]string{lone, "-"}, strings.Repeat(strings.Repeat("0", 64)+"  another.img\n", 60_000) + sum + "  gauge-fw-4.2-main.img\n", 11, []string{"It matches pasted text"}, "a text with"},
		"nothing pasted":   {[]string{lone, "--paste"}, " \n", 2, nil, "what was pasted is empty"},
		"a letter pasted":  {[]string{lone, "--paste"}, "Dear Ines, all is well.", 2, nil, "there is no digest"},
		"not known digest": {[]string{"--digest", strings.Repeat("ab", 32)}, "", 11, []string{"No file that was cleared here"}, ""},
		"several":          {[]string{image, filepath.Join(release, "gauge-fw-4.2-boot.img")}, "", 0, []string{"gauge-fw-4.2-main.img", "gauge-fw-4.2-boot.img"}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := endeixisWith(
				t,
				[]string{"ENDEIXIS_SERVER=" + s.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "operator")},
				c.stdin,
				append([]string{"spot"}, c.args...)...)
			assert.Equal(t, c.code, r.code, r.out+r.err)
			for _, says := range c.says {
				assert.Contains(t, r.out, says)
			}
			assert.Contains(t, r.err, c.notes)
			assert.LessOrEqual(t, strings.Count(r.out, "\n"), 24, "it fits one screen")
		})
	}
	t.Run("without a service", func(t *testing.T) {
		t.Parallel()
		none := []string{"ENDEIXIS_SERVER=http://127.0.0.1:9"}
		r := endeixisWith(t, none, "", "spot", lone)
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.err, "nothing is on record")
		r = endeixisWith(t, none, "", "batch", "run", release)
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.err, "endeixis batch survey")
		r = endeixisWith(t, none, "", "batch", "run", release, "--unrecorded")
		assert.Equal(t, 11, r.code, r.err)
		assert.Equal(t, 3, strings.Count(r.out, "on no record"))
		assert.NotContains(t, r.out, "cleared")
		r = endeixisWith(t, none, "", "batch", "run", release+"-flipped", "--unrecorded")
		assert.Equal(t, 10, r.code, r.err)
		r = endeixisWith(t, none, "", "spot", image, "--unrecorded")
		assert.Equal(t, 11, r.code, "no key counts here: %s", r.out)
		assert.Contains(t, r.out, "on no record")
		r = endeixisWith(t, none, "", "spot", lone, "--unrecorded", "--digest", strings.Repeat("ab", 32))
		assert.Equal(t, 10, r.code)
	})
}

// TestLostConnection: between the client and the service a line is cut now and then, in the
// middle of a batch. It is judged and recorded all the same, once. --unrecorded asks nobody.
func TestLostConnection(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	to, err := url.Parse(s.URL)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	var asked atomic.Int32
	line := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// What is asked is carried out, and its answer lost; or it is lost before.
		n := asked.Add(1)
		if n > 2 && n%3 == 0 && !strings.HasSuffix(r.URL.Path, "/events") {
			if n%2 == 0 {
				proxy.ServeHTTP(httptest.NewRecorder(), r)
			}
			conn, _, err := w.(http.Hijacker).Hijack()
			if err == nil {
				conn.Close()
			}
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	defer line.Close()
	release := filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2")
	env := []string{"ENDEIXIS_SERVER=" + line.URL, "ENDEIXIS_TOKEN=" + s.Token(t, "operator")}
	r := endeixisWith(t, env, "", "batch", "run", release)
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.err, "The connection to the service was lost; trying again")
	batches, err := s.Client(t, roles.Auditor).Batches(t.Context(), "", 50)
	require.NoError(t, err)
	assert.Len(t, batches, 1)
	assert.Equal(t, 3, batches[0].Counts.Cleared)
	before := asked.Load()
	r = endeixisWith(t, env, "", "batch", "run", release, "--unrecorded")
	assert.Equal(t, 11, r.code, r.err)
	r = endeixisWith(t, env, "", "spot", filepath.Join(release, "gauge-fw-4.2-main.img"), "--unrecorded")
	assert.Equal(t, 11, r.code, r.err)
	assert.Equal(t, before, asked.Load(), "nobody was asked")
	assert.Zero(t, endeixis(t, s, "auditor", "record", "audit").code)
}

// TestOnlyTheServiceMayMeasure: where the policy names the service alone, what a client
// has read clears nothing, and the same folder in the depot does.
func TestOnlyTheServiceMayMeasure(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	policy := filepath.Join(t.TempDir(), "policy.yaml")
	r := endeixis(t, s, "curator", "policy", "show", "-o", "yaml")
	require.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "measured_by")
	document := regexp.MustCompile(
		`(?s)( *)measured_by:\n(?: *- \w+\n)+`,
	).ReplaceAllString(
		r.out, "${1}measured_by: [service]\n",
	)
	require.NoError(t, os.WriteFile(policy, []byte(document), 0o644))
	r = endeixis(t, s, "curator", "policy", "set", policy, "--reason", "only what we read ourselves")
	require.Zero(t, r.code, r.err+document)
	here := verified(t, s, filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2"))
	assert.Equal(t, "unproven", *here.Verdict)
	assert.Equal(t, 3, here.Counts.Unproven)
	for _, item := range here.Items {
		if item.Role == "artifact" {
			for _, p := range item.Paths {
				assert.False(t, p.Complete)
				assert.Contains(t, p.Missing, "Put the file where the service reads it")
			}
		}
	}
	assert.Equal(t, "cleared", *verified(t, s, "quayside:tidewright/gauge-fw-4.2").Verdict)
}

// TestHandOn copies what is cleared to where it is used, and nothing else.
func TestHandOn(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	here := filepath.Join(t.TempDir(), "downloads")
	require.NoError(t, os.CopyFS(here, os.DirFS(filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2-flipped"))))
	b := verified(t, s, here)
	require.Equal(t, 1, b.Counts.Refused)
	to := filepath.Join(t.TempDir(), "stick", "deep")
	id := fmt.Sprint(b.ID)
	// Between the check and the use one file changes, and another name is taken already.
	require.NoError(t, os.WriteFile(filepath.Join(here, "gauge-fw-4.2-notes.txt"), []byte("altered since"), 0o644))
	r := endeixis(t, s, "operator", "batch", "hand-on", id, "--to", to)
	assert.Equal(t, 1, r.code, r.out+r.err)
	assert.Contains(t, r.out, "One file of batch "+id+" handed on")
	assert.Contains(t, r.out, "it is not what was verified any more")
	assert.Contains(t, r.out, "it is refused:")
	var there []string
	require.NoError(t, filepath.WalkDir(to, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		if !entry.IsDir() {
			there = append(there, entry.Name())
		}
		return nil
	}))
	require.Subset(
		t, there, []string{"gauge-fw-4.2-boot.img", "SHA256SUMS", "SHA256SUMS.sig", "batch-" + id + ".digests.txt"},
	)
	require.Len(t, there, 6,
		"the one file, what it rests on, the receipts of both and our list; nothing half-copied: %v", there)
	receipts, err := filepath.Glob(filepath.Join(to, "endeixis-proofs", "*.receipt.json"))
	require.NoError(t, err)
	require.Len(t, receipts, 2)
	r = endeixis(t, s, "operator", "record", "verify-receipt", receipts[0], "--public-key", s.PublicKey)
	assert.Zero(t, r.code, r.out+r.err)
	r = endeixis(t, s, "operator", "manifest", "show", filepath.Join(to, "endeixis-proofs", "batch-"+id+".digests.txt"))
	assert.Contains(t, r.out, "gauge-fw-4.2-boot.img")

	before, err := os.ReadFile(filepath.Join(to, "gauge-fw-4.2-boot.img"))
	require.NoError(t, err)
	r = endeixis(t, s, "operator", "batch", "hand-on", id, "--to", to)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, "was there already", "what is there and right stays")
	require.NoError(t, os.WriteFile(filepath.Join(to, "gauge-fw-4.2-notes.txt"), []byte("somebody else's"), 0o644))
	genuine, err := os.ReadFile(filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2-flipped", "gauge-fw-4.2-notes.txt"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(here, "gauge-fw-4.2-notes.txt"), genuine, 0o644))
	r = endeixis(t, s, "operator", "batch", "hand-on", id, "--to", to)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, "nothing is written over")
	require.NoError(t, os.Remove(filepath.Join(to, "gauge-fw-4.2-notes.txt")))
	r = endeixis(t, s, "operator", "batch", "hand-on", id, "--to", to)
	assert.Contains(t, r.out, "2 files of batch", "it goes on where it was")
	after, err := os.ReadFile(filepath.Join(to, "gauge-fw-4.2-boot.img"))
	require.NoError(t, err)
	assert.Equal(t, before, after)

	// A link at the destination leads nowhere else.
	outside, linked := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(filepath.Join(outside, "x"), filepath.Join(linked, "gauge-fw-4.2-boot.img")))
	endeixis(t, s, "operator", "batch", "hand-on", id, "--to", linked)
	escaped, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, escaped)

	there2 := verified(t, s, "quayside:corran/chart-disc-2026-10")
	to2 := t.TempDir()
	r = endeixis(
		t, s, "operator", "batch", "hand-on", fmt.Sprint(there2.ID), "--to", to2, "--from",
		filepath.Join(s.Depot, "corran", "chart-disc-2026-10"),
	)
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.out, "2 files of batch")
	assert.NotContains(t, r.out, "not handed on")
}

// TestWhatWasHandedOnIsVerifiedAgain: where the files arrive, and with nothing else, they are
// cleared again; receipts and checkpoints beside them are neither artifacts nor lists.
func TestWhatWasHandedOnIsVerifiedAgain(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	stick := t.TempDir()
	id := fmt.Sprint(verified(t, s, "quayside:tidewright/gauge-fw-4.2").ID)
	r := endeixis(
		t, s, "operator", "batch", "hand-on", id, "--to", stick, "--from",
		filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2"),
	)
	require.Zero(t, r.code, r.out+r.err)
	receipts, err := filepath.Glob(filepath.Join(stick, "endeixis-proofs", "*.receipt.json"))
	require.NoError(t, err)
	require.Len(t, receipts, 4)
	// One lies beside its file, as people put it there, and a checkpoint too.
	text, err := os.ReadFile(receipts[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(stick, "gauge-fw-4.2-main.img.receipt.json"), text, 0o644))
	receipt, err := ledger.ParseReceipt(text)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(stick, "ledger.checkpoint"), []byte(receipt.Checkpoint), 0o644))
	again := verified(t, s, stick)
	assert.Equal(t, "cleared", *again.Verdict)
	assert.Equal(t, 3, again.Counts.Cleared)
	assert.Zero(t, again.Counts.Unproven)
	items, err := s.Client(t, roles.Auditor).Items(t.Context(), again.ID)
	require.NoError(t, err)
	kinds := map[survey.Role]int{}
	for _, item := range items {
		kinds[item.Role]++
	}
	assert.Equal(
		t, map[survey.Role]int{survey.Artifact: 3, survey.Manifest: 2, survey.Signature: 1, survey.Receipt: 6}, kinds,
	)
	spot := endeixis(t, s, "operator", "spot", filepath.Join(stick, "gauge-fw-4.2-main.img"))
	assert.Zero(t, spot.code, spot.out+spot.err)
	assert.NotContains(t, spot.out, "contradict")
	given := endeixis(
		t, s, "operator", "spot", filepath.Join(stick, "gauge-fw-4.2-main.img"), "--manifest", receipts[0],
	)
	assert.Equal(t, 2, given.code)
	assert.Contains(t, given.err, "is a receipt of a ledger")
	altered := filepath.Join(stick, "gauge-fw-4.2-main.img")
	content, err := os.ReadFile(altered)
	require.NoError(t, err)
	content[1000] ^= 1
	require.NoError(t, os.WriteFile(altered, content, 0o644))
	assert.Equal(t, 10, endeixis(t, s, "operator", "spot", altered).code)
}

// TestDrill proves that the check can fail, in a depot, on this machine, and of a spot
// check; and that a file which is not what was verified any more raises the alarm.
func TestDrill(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	there := fmt.Sprint(verified(t, s, "quayside:tidewright/gauge-fw-4.2").ID)
	type drill struct {
		Record int64 `json:"record"`
		Passed bool  `json:"passed"`
		Items  []struct {
			Shown string `json:"shown"`
			Rows  []struct {
				Kind, What, Verdict, Said string
				Alarm                     bool
			} `json:"rows"`
		} `json:"items"`
	}
	holds := func(t *testing.T, r ran, files int) drill {
		t.Helper()
		require.Zero(t, r.code, r.out+r.err)
		var d drill
		r.decode(t, &d)
		assert.True(t, d.Passed)
		require.Len(t, d.Items, files)
		for _, item := range d.Items {
			kinds := map[string]int{}
			for _, row := range item.Rows {
				kinds[row.Kind]++
				assert.False(t, row.Alarm)
				assert.Equal(t, row.Kind == "unaltered", row.Verdict == "cleared", "%s: %s", row.What, row.Said)
			}
			for _, kind := range []string{"unaltered", "byte-added", "byte-missing", "manifest-altered", "signature-altered", "signer-replaced"} {
				assert.Equal(t, 1, kinds[kind], kind)
			}
			assert.GreaterOrEqual(t, kinds["bit-flipped"], 3)
		}
		return d
	}
	d := holds(t, endeixis(t, s, "operator", "batch", "drill", there, "-o", "json"), 3)
	r := endeixis(t, s, "operator", "batch", "drill", there, "--item", "gauge-fw-4.2-main.img")
	assert.Zero(t, r.code, r.err)
	assert.Contains(t, r.out, "The check can fail: nothing that was altered was cleared.")
	shown := endeixis(t, s, "auditor", "record", "show", fmt.Sprint(d.Record), "-o", "json")
	assert.Contains(t, shown.out, `"drill"`)
	assert.Contains(t, shown.out, "signer-replaced")

	here := filepath.Join(t.TempDir(), "downloads")
	require.NoError(t, os.CopyFS(here, os.DirFS(filepath.Join(s.Depot, "tidewright", "gauge-fw-4.2"))))
	b := verified(t, s, here)
	id := fmt.Sprint(b.ID)
	holds(t, endeixis(t, s, "operator", "batch", "drill", id, "-o", "json"), 3)
	r = endeixis(t, s, "operator", "spot", filepath.Join(here, "gauge-fw-4.2-main.img"), "--drill")
	assert.Zero(t, r.code, r.out+r.err)
	assert.Contains(t, r.out, "another publisher's key in place of the signer's")
	again := verifiedShow(t, s, id)
	assert.Equal(t, b.Counts, again.Counts, "no verdict is touched")

	image := filepath.Join(here, "gauge-fw-4.2-main.img")
	content, err := os.ReadFile(image)
	require.NoError(t, err)
	content[100] ^= 1
	require.NoError(t, os.WriteFile(image, content, 0o644))
	r = endeixis(t, s, "operator", "batch", "drill", id, "--item", "gauge-fw-4.2-main.img")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "ALARM")
	assert.Contains(t, r.out, "has changed since")
	listed := endeixis(t, s, "auditor", "record", "list", "--kind", "drill", "--verdict", "refused", "-o", "json")
	assert.Contains(t, listed.out, `"drill"`)

	refused := fmt.Sprint(verified(t, s, "quayside:tidewright/gauge-fw-4.2-flipped").ID)
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"batch", "drill", refused, "--item", "gauge-fw-4.2-main.img"}, "is not cleared"},
		{[]string{"batch", "drill", there, "--item", "nothing.img"}, "has no file"},
		{[]string{"batch", "drill", "999"}, "There is no batch 999"},
	} {
		r := endeixis(t, s, "operator", c.args...)
		assert.Equal(t, 1, r.code, r.out)
		assert.Contains(t, r.err, c.says)
	}
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}

// verifiedShow returns a batch as it stands.
func verifiedShow(t *testing.T, s *testkit.Service, id string) fullJSON {
	t.Helper()
	var out fullJSON
	endeixis(t, s, "operator", "batch", "show", id, "-o", "json").decode(t, &out)
	return out
}

// TestTokenEndsHalfWay: the token of whoever measures is taken away in the middle; what is
// measured stays, and with another token of the same person the batch is resumed.
func TestTokenEndsHalfWay(t *testing.T) {
	t.Parallel()
	s := testkit.StartBare(t)
	dir := t.TempDir()
	issued := endeixis(t, s, "operator", "token", "issue", "--label", "half-way", "--days", "1", "-o", "json")
	require.Zero(t, issued.code, issued.err)
	var token struct {
		ID    int64  `json:"id"`
		Token string `json:"text"`
	}
	issued.decode(t, &token)
	cmd, errs := measuring(t, s, token.Token, dir, 500<<20)
	r := endeixis(t, s, "operator", "token", "end", fmt.Sprint(token.ID))
	require.Zero(t, r.code, r.err)
	require.Error(t, cmd.Wait())
	assert.Equal(t, 3, cmd.ProcessState.ExitCode(), errs.String())
	r = endeixis(t, s, "operator", "batch", "resume", "1")
	assert.Equal(t, 11, r.code, r.err)
	assert.Contains(t, r.out, "3 unproven")
	audit := endeixis(t, s, "auditor", "record", "audit")
	assert.Zero(t, audit.code, audit.out+audit.err)
}
