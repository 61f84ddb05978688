package test

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/demo/scenario"
	"endeixis/internal/client"
	"endeixis/internal/config"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// A process is the service as a program of its own, which can be killed.
type process struct {
	cmd  *exec.Cmd
	url  string
	file string
	// program is that of another version, or empty.
	program string
}

// startProcess starts endeixisd with the configuration and waits until it is
// ready.
func startProcess(t testing.TB, c config.Config) *process {
	t.Helper()
	p := &process{file: filepath.Join(t.TempDir(), "endeixis.yaml")}
	text := fmt.Sprintf(
		"name: %s\nlisten: %s\ndatabase: {url: %q}\nledger: {key_file: %q}\ndepots: {%s: %q}\nwork: {workers: 2, slice_items: %d}\n",
		c.Name,
		c.Listen,
		c.Database.URL,
		c.Ledger.KeyFile,
		scenario.Depot,
		c.Depots[scenario.Depot],
		c.Work.SliceItems,
	)
	require.NoError(t, os.WriteFile(p.file, []byte(text), 0o600))
	p.start(t)
	return p
}

func (p *process) start(t testing.TB) {
	t.Helper()
	if p.program == "" {
		p.program = binary(t, "endeixisd")
	}
	p.cmd = exec.Command(p.program, "serve", "--config", p.file)
	log, err := p.cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, p.cmd.Start())
	t.Cleanup(p.kill)
	lines := bufio.NewScanner(log)
	for lines.Scan() {
		if _, after, ok := strings.Cut(lines.Text(), "address="); ok {
			p.url, _, _ = strings.Cut(after, " ")
			go io.Copy(io.Discard, log)
			return
		}
		t.Log(lines.Text())
	}
	t.Fatal("the service did not start")
}

// kill is kill -9.
func (p *process) kill() {
	p.cmd.Process.Signal(syscall.SIGKILL)
	p.cmd.Wait()
}

// TestKilledInTheMiddle kills the service with SIGKILL at several moments of
// one large batch, starts it again each time, and expects the batch to end with
// exactly one outcome and one record for each item and a clean ledger.
func TestKilledInTheMiddle(t *testing.T) {
	t.Parallel()
	// A first run sets everything up in this process and ends.
	c := testkit.Prepare(t)
	c.Work.SliceItems = 60
	const files = 1500
	dir := filepath.Join(c.Depots[scenario.Depot], "incoming", "many")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	var token string
	t.Run("set up", func(t *testing.T) {
		s := testkit.StartWith(t, c)
		token = s.Token(t, "operator")
	})
	for i := range files {
		content := strings.Repeat(fmt.Sprintf("made-up image %d\n", i), 8000)
		require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("part-%04d.img", i)), []byte(content), 0o644))
	}

	p := startProcess(t, c)
	connect := func() *client.Client {
		cl, err := client.New(p.url, token)
		require.NoError(t, err)
		return cl
	}
	b, err := connect().RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming/many"}, "kill")
	require.NoError(t, err)
	midway := 0
	for round := range 4 {
		// Let it come a bit further each time before it dies.
		for {
			now, err := connect().Batch(t.Context(), b.ID)
			require.NoError(t, err)
			if now.Closed() || now.Progress.ItemsDone > round*files/5 {
				if !now.Closed() && now.Progress.ItemsDone > 0 {
					midway++
				}
				break
			}
			time.Sleep(5 * time.Millisecond)
		}
		p.kill()
		p.start(t)
	}
	assert.Positive(t, midway, "it was never killed in the middle; the batch is too small for this machine")
	b, err = connect().Follow(t.Context(), b.ID, nothing)
	require.NoError(t, err)
	assert.EqualValues(t, "done", b.State)
	assert.Equal(t, files, b.Counts.Unproven)
	assert.Equal(t, files, b.Progress.ItemsDone)

	conn, err := pgx.Connect(t.Context(), c.Database.URL)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var outcomes, records, results int
	require.NoError(
		t,
		conn.QueryRow(
			t.Context(),
			`SELECT (SELECT count(*) FROM outcomes), (SELECT count(*) FROM ledger_records WHERE kind = 'item-outcome'),
		(SELECT count(*) FROM ledger_records WHERE kind = 'batch-result')`,
		).Scan(&outcomes, &records, &results),
	)
	assert.Equal(t, []int{files, files, 1}, []int{outcomes, records, results})
	audit, err := connect().Audit(t.Context(), wire.NewAudit{}, nil)
	require.NoError(t, err)
	assert.True(t, audit.Clean, audit.Sentence)
}

// TestMemoryDoesNotGrowWithTheFile verifies a file of 4 GiB in a process of its
// own and holds its resident memory against that at rest.
func TestMemoryDoesNotGrowWithTheFile(t *testing.T) {
	if testing.Short() {
		t.Skip("hashes 4 GiB")
	}
	t.Parallel()
	c := testkit.Prepare(t)
	dir := filepath.Join(c.Depots[scenario.Depot], "incoming", "large")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	f, err := os.Create(filepath.Join(dir, "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(4<<30))
	require.NoError(t, f.Close())
	var token string
	t.Run("set up", func(t *testing.T) {
		token = testkit.StartWith(t, c).Token(t, "operator")
	})
	p := startProcess(t, c)
	cl, err := client.New(p.url, token)
	require.NoError(t, err)
	// A small batch first: the caches that any work fills belong to rest.
	b, err := cl.RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "tidewright/gauge-fw-4.2"}, "small")
	require.NoError(t, err)
	_, err = cl.Follow(t.Context(), b.ID, nothing)
	require.NoError(t, err)
	idle := p.resident(t)

	b, err = cl.RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming/large"}, "large")
	require.NoError(t, err)
	done := make(chan struct{})
	most := idle
	go func() {
		defer close(done)
		b, err = cl.Follow(t.Context(), b.ID, nothing)
	}()
	for running := true; running; {
		select {
		case <-done:
			running = false
		case <-time.After(20 * time.Millisecond):
			most = max(most, p.resident(t))
		}
	}
	require.NoError(t, err)
	assert.EqualValues(t, 4<<30, b.Progress.BytesDone)
	t.Logf("resident: %d MiB at rest, %d MiB at most", idle>>20, most>>20)
	assert.Less(t, most-idle, int64(64<<20), "bytes above rest")
}

// resident returns the resident memory of the process in bytes.
func (p *process) resident(t testing.TB) int64 {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", p.cmd.Process.Pid))
	require.NoError(t, err)
	var total, resident int64
	_, err = fmt.Sscan(string(text), &total, &resident)
	require.NoError(t, err)
	return resident * int64(os.Getpagesize())
}

// TestInitIsSafeToRepeat runs endeixisd init twice, as people do.
func TestInitIsSafeToRepeat(t *testing.T) {
	t.Parallel()
	env := append(
		os.Environ(), "ENDEIXIS_DATABASE__URL="+testkit.Database(t),
		"ENDEIXIS_LEDGER__KEY_FILE="+filepath.Join(t.TempDir(), "ledger.key"),
	)
	daemon := func(stdin string, args ...string) (string, error) {
		cmd := exec.Command(binary(t, "endeixisd"), args...)
		cmd.Env, cmd.Stdin = env, strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := daemon("", "serve")
	require.Error(t, err)
	assert.Contains(t, out, "endeixisd init", "a service that was never set up says so")
	out, err = daemon("short\n", "init")
	require.Error(t, err)
	assert.Contains(t, out, "at least 10 characters")
	out, err = daemon("a-long-password\n", "init")
	require.NoError(t, err, out)
	assert.Contains(t, out, "endx_")
	again, err := daemon("", "init")
	require.NoError(t, err, again)
	assert.Contains(t, again, "nothing was changed")
	assert.NotContains(t, again, "endx_")
	out, err = daemon("", "migrate")
	require.NoError(t, err, out)
	out, err = daemon("", "config", "check")
	require.NoError(t, err, out)
	assert.Contains(t, out, "environment")
	assert.Regexp(t, `//endeixis:…@`, out, "the password is not shown")
}

// TestHealth asks the addresses by which the service is watched.
func TestHealth(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	// In this order: the figures are asked for before anything else, and again when
	// there are requests to count.
	ask := func(path string) (int, string) {
		response, err := http.Get(s.URL + path)
		require.NoError(t, err)
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		return response.StatusCode, string(text)
	}
	for _, of := range []struct{ path, says string }{
		{"/metrics", "endeixis_build_info{version="},
		{"/metrics", `endeixis_http_request_seconds_count{route="/metrics",status="OK"} 1`},
		{"/healthz", "ok"},
		{"/api/v1/docs", "POST /api/v1/batches"},
		{"/api/v1/openapi.yaml", "openapi: 3.1"},
	} {
		status, text := ask(of.path)
		assert.Equal(t, 200, status, of.path)
		assert.Contains(t, text, of.says, of.path)
		assert.NotContains(t, text, "https://unpkg", of.path)
	}
	// A host that is busy with other things may be late with it; whoever watches asks again.
	status, text := ask("/readyz")
	for range 20 {
		if status == 200 {
			break
		}
		time.Sleep(time.Second)
		status, text = ask("/readyz")
	}
	assert.Equal(t, 200, status, text)
	assert.True(t, strings.HasPrefix(text, "ready\n"), text)
	status, answer := call(t, s, "", "GET", "/nowhere", nil)
	assert.Equal(t, 404, status)
	assert.EqualValues(t, "no-such-address", problem(t, answer).Code)
}

// TestStoppedPolitely tells the service to end while somebody is sending a request
// and somebody else follows a batch: the request is answered, the stream ends, and
// the work is given up where it can be taken up again.
func TestStoppedPolitely(t *testing.T) {
	t.Parallel()
	c := testkit.Prepare(t)
	dir := filepath.Join(c.Depots[scenario.Depot], "incoming", "large")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	f, err := os.Create(filepath.Join(dir, "chart.iso"))
	require.NoError(t, err)
	require.NoError(t, f.Truncate(1<<40))
	require.NoError(t, f.Close())
	var token string
	t.Run("set up", func(t *testing.T) { token = testkit.StartWith(t, c).Token(t, "operator") })
	p := startProcess(t, c)
	cl, err := client.New(p.url, token)
	require.NoError(t, err)
	b, err := cl.RunBatch(t.Context(), wire.NewBatch{Depot: scenario.Depot, Path: "incoming/large"}, "large")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		b, err = cl.Batch(t.Context(), b.ID)
		return err == nil && b.Progress.BytesDone > 0
	}, time.Minute, 50*time.Millisecond)

	ask := func(method, path string, body io.Reader) *http.Response {
		request, err := http.NewRequestWithContext(t.Context(), method, p.url+"/api/v1"+path, body)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", "application/json")
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		return response
	}
	stream := ask("GET", fmt.Sprintf("/batches/%d/events", b.ID), nil)
	defer stream.Body.Close()
	read, write := io.Pipe()
	answered := make(chan *http.Response, 1)
	go func() { answered <- ask("POST", "/manifest-readings", read) }()
	_, err = io.WriteString(write, `{"name": "SHA256SUMS", "text": "`)
	require.NoError(t, err)
	time.Sleep(200 * time.Millisecond) // until it is being read over there
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	_, err = io.Copy(io.Discard, stream.Body)
	require.NoError(t, err, "the stream ends as streams do")
	_, err = io.WriteString(write, `"}`)
	require.NoError(t, err)
	require.NoError(t, write.Close())
	response := <-answered
	defer response.Body.Close()
	assert.Equal(t, http.StatusOK, response.StatusCode)
	done := make(chan error, 1)
	go func() { done <- p.cmd.Wait() }()
	select {
	case err := <-done:
		require.NoError(t, err)
	case <-time.After(30 * time.Second):
		t.Fatal("it does not end")
	}
	// Another takes the work up.
	p.start(t)
	cl, err = client.New(p.url, token)
	require.NoError(t, err)
	b, err = cl.Batch(t.Context(), b.ID)
	require.NoError(t, err)
	assert.False(t, b.Closed())
}
