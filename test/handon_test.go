package test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/judge"
	"endeixis/internal/client"
	"endeixis/internal/roles"
	"endeixis/internal/testkit"
	"endeixis/internal/wire"
)

// handedOnTo hands a batch's files on to a new folder, by way of the service.
func handedOnTo(t *testing.T, s *testkit.Service, batch int64) string {
	t.Helper()
	stick := t.TempDir()
	r := endeixis(t, s, "operator", "batch", "hand-on", fmt.Sprint(batch), "--to", stick)
	require.Zero(t, r.code, r.out+r.err)
	return stick
}

// onlyReceipts leaves of a stick the artifacts and the receipts of them.
func onlyReceipts(t *testing.T, stick string) {
	t.Helper()
	for _, name := range []string{"SHA256SUMS", "SHA256SUMS.sig"} {
		require.NoError(t, os.Remove(filepath.Join(stick, name)))
	}
	lists, err := filepath.Glob(filepath.Join(stick, "endeixis-proofs", "*.digests.txt"))
	require.NoError(t, err)
	for _, list := range lists {
		require.NoError(t, os.Remove(list))
	}
}

// TestReceiptsAreEvidence: with nothing beside files but their receipts they count as the
// records count by now, at home and on site; other bytes, other names and receipts of nobody
// count for nothing, and a key that falls takes all of it along.
func TestReceiptsAreEvidence(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	image := bytes.Repeat([]byte("receipts speak "), 9000)
	made := publishes(t, s, "receipts-1", map[string][]byte{"deep/bell-1.img": image, "notes.txt": []byte("notes")})
	require.Equal(t, "cleared", *made.Verdict)
	stick := handedOnTo(t, s, made.ID)
	onlyReceipts(t, stick)
	again := verified(t, s, stick)
	require.Equal(t, "cleared", *again.Verdict, "%+v", again)
	assert.Equal(t, 2, again.Counts.Cleared)
	items, err := s.Client(t, roles.Auditor).Items(t.Context(), again.ID)
	require.NoError(t, err)
	for _, item := range items {
		if item.Path == "deep/bell-1.img" {
			require.NotEmpty(t, item.Paths)
			assert.Equal(t, judge.Receipted, item.Paths[len(item.Paths)-1].Kind)
			assert.Contains(t, strings.Join(told(item.Grounds), "\n"), "signature-valid")
		}
	}
	for _, name := range []string{"notes.txt", "deep/bell-1.img"} {
		spot := endeixis(t, s, "operator", "spot", filepath.Join(stick, name))
		assert.Zero(t, spot.code, name+spot.out+spot.err)
	}
	lone := filepath.Join(t.TempDir(), "notes.txt")
	require.NoError(t, os.WriteFile(lone, []byte("notes"), 0o644))
	assert.Equal(t, 11, endeixis(t, s, "operator", "spot", lone).code, "without its receipt")
	v := visit(t, s, "corran")
	site := v.on("batch", "run", stick)
	assert.Zero(t, site.code, site.out+site.err)
	// From there it is handed on once more, and proves itself in the third place too.
	light := filepath.Join(t.TempDir(), "light")
	carried := v.on("batch", "hand-on", stick, "--to", light)
	assert.Zero(t, carried.code, carried.out+carried.err)
	assert.Contains(t, carried.out, "2 files of outcome 2 of satchel")
	assert.Zero(t, v.on("batch", "run", light).code)
	assert.Equal(t, "cleared", *verified(t, s, light).Verdict)

	// The receipt of a list that the file stands in is known at home, and missing on site.
	loose := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(loose, "bell-1.img"), image, 0o644))
	receipts, err := filepath.Glob(filepath.Join(stick, "endeixis-proofs", "*.receipt.json"))
	require.NoError(t, err)
	for _, name := range receipts {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if strings.Contains(string(text), `\"subject\":\"deep/bell-1.img\"`) {
			require.NoError(t, os.WriteFile(filepath.Join(loose, "bell-1.receipt.json"), text, 0o644))
		}
	}
	assert.Equal(t, "cleared", *verified(t, s, loose).Verdict)
	unlisted := v.on("batch", "run", loose)
	assert.Equal(t, 11, unlisted.code, unlisted.out+unlisted.err)
	assert.Contains(t, unlisted.out, "of which there is no receipt here")

	// The same bytes by another name are not that file.
	other := t.TempDir()
	require.NoError(t, os.CopyFS(other, os.DirFS(loose)))
	require.NoError(t, os.Rename(filepath.Join(other, "bell-1.img"), filepath.Join(other, "bell-2.img")))
	assert.Equal(t, "unproven", *verified(t, s, other).Verdict)

	// Another service's receipt, and one with a changed record, say nothing.
	foreign := t.TempDir()
	require.NoError(t, os.CopyFS(foreign, os.DirFS(loose)))
	name := filepath.Join(foreign, "bell-1.receipt.json")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	for what, altered := range map[string][]byte{
		"record":     bytes.Replace(text, []byte(`\"verdict\":\"cleared\"`), []byte(`\"verdict\":\"cleared\" `), 1),
		"position":   bytes.Replace(text, []byte(`"position": `), []byte(`"position": 1`), 1),
		"checkpoint": bytes.Replace(text, []byte(`"checkpoint": "`), []byte(`"checkpoint": "x`), 1),
	} {
		require.NotEqual(t, text, altered, what)
		require.NoError(t, os.WriteFile(name, altered, 0o644))
		b := verified(t, s, foreign)
		assert.Equal(t, "unproven", *b.Verdict, what)
		items, err := s.Client(t, roles.Auditor).Items(t.Context(), b.ID)
		require.NoError(t, err)
		assert.Contains(t, fmt.Sprint(items), "receipt-fails", what)
	}

	// Other bytes in its place are refused, on both sides.
	altered := bytes.Clone(image)
	altered[4000] ^= 1
	require.NoError(t, os.WriteFile(filepath.Join(stick, "deep", "bell-1.img"), altered, 0o644))
	assert.Equal(t, "refused", *verified(t, s, stick).Verdict)
	assert.Equal(t, 10, v.on("batch", "run", stick).code)

	// The key falls: what rested on receipts of it falls too.
	key := ""
	for _, item := range items {
		for _, g := range item.Grounds {
			if g.Signature != nil {
				key = string(g.Signature.Key)
			}
		}
	}
	_, err = s.Client(t, roles.Curator).WithdrawKey(t.Context(), key, "it was lost")
	require.NoError(t, err)
	require.EventuallyWithT(t, func(c *assert.CollectT) {
		now, err := s.Client(t, roles.Auditor).Items(t.Context(), again.ID)
		assert.NoError(c, err)
		for _, item := range now {
			if item.Role == "artifact" && assert.NotNil(c, item.Now, item.Path) {
				assert.NotEqual(c, judge.Cleared, item.Now.Verdict)
			}
		}
	}, 30*time.Second, 100*time.Millisecond)
}

// TestHandOnThroughTheService fetches a depot's files without its folder: only what is
// cleared, by who may, and on from where it was cut.
func TestHandOnThroughTheService(t *testing.T) {
	t.Parallel()
	s := testkit.Start(t)
	image := bytes.Repeat([]byte("0123456789abcdef"), 1<<18) // 4 MiB
	publishes(t, s, "fetched", map[string][]byte{"bell.img": image, "empty.txt": {}})
	s.Write(t, "fetched", map[string][]byte{"stray.txt": []byte("nobody speaks of it")})
	made := verified(t, s, "quayside:fetched")
	require.Equal(t, 2, made.Counts.Cleared)
	require.Equal(t, 1, made.Counts.Unproven)
	c := s.Client(t, roles.Operator)
	numbers := map[string]wire.Item{}
	items, err := c.Items(t.Context(), made.ID)
	require.NoError(t, err)
	for _, item := range items {
		numbers[item.Path] = item
	}
	fetch := func(role roles.Role, path string, header string) *http.Response {
		request, err := http.NewRequestWithContext(
			t.Context(), http.MethodGet,
			fmt.Sprintf("%s/api/v1/batches/%d/items/%d/content", s.URL, made.ID, numbers[path].N), nil,
		)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+s.Token(t, role))
		if header != "" {
			request.Header.Set("Range", header)
		}
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		t.Cleanup(func() { response.Body.Close() })
		return response
	}
	assert.Equal(t, http.StatusForbidden, fetch(roles.Auditor, "bell.img", "").StatusCode)
	assert.Equal(
		t, http.StatusForbidden, fetch(roles.Operator, "stray.txt", "").StatusCode,
		"what is not cleared is not handed out",
	)
	elsewhere, err := c.IssueToken(
		t.Context(), wire.NewToken{Label: "pier", Days: 1, Limits: wire.Limits{Depots: []string{"pier"}}},
	)
	require.NoError(t, err)
	limited, err := client.New(s.URL, elsewhere.Text)
	require.NoError(t, err)
	_, err = limited.Content(t.Context(), made.ID, numbers["bell.img"].N, 0, 10).Read(make([]byte, 10))
	assert.ErrorContains(t, err, "good for the depot pier only")
	whole := fetch(roles.Operator, "bell.img", "")
	assert.Equal(t, http.StatusOK, whole.StatusCode)
	assert.Contains(t, whole.Header.Get("ETag"), numbers["bell.img"].Digests["SHA-256"])
	part := fetch(roles.Operator, "bell.img", "bytes=16-31")
	assert.Equal(t, http.StatusPartialContent, part.StatusCode)
	text, err := io.ReadAll(part.Body)
	require.NoError(t, err)
	assert.Equal(t, "0123456789abcdef", string(text))
	assert.Equal(
		t, http.StatusRequestedRangeNotSatisfiable, fetch(roles.Operator, "bell.img", "bytes=99999999-").StatusCode,
	)

	// The connection is cut twice in the middle; what comes is whole.
	cuts := atomic.Int64{}
	cuts.Store(2)
	proxied := cutting(t, s.URL, "/content", 1<<20, &cuts)
	stick := t.TempDir()
	env := []string{"ENDEIXIS_SERVER=" + proxied, "ENDEIXIS_TOKEN=" + s.Token(t, roles.Operator)}
	r := endeixisWith(t, env, "", "batch", "hand-on", fmt.Sprint(made.ID), "--to", stick)
	assert.Equal(t, 11, r.code, r.out+r.err)
	assert.Contains(t, r.out, "2 files of batch")
	assert.LessOrEqual(t, cuts.Load(), int64(0))
	got, err := os.ReadFile(filepath.Join(stick, "bell.img"))
	require.NoError(t, err)
	assert.Equal(t, image, got)
	left, err := filepath.Glob(filepath.Join(stick, "endeixis-proofs", "*.part"))
	require.NoError(t, err)
	assert.Empty(t, left)

	// What an earlier try left is gone on with, and left aside where it is damaged.
	sum := numbers["bell.img"].Digests["SHA-256"][:16]
	for what, before := range map[string][]byte{"half": image[:1<<20], "damaged": bytes.Repeat([]byte("x"), 1<<20), "too long": append(bytes.Clone(image), 'x')} {
		stick := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(stick, "endeixis-proofs"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(stick, "endeixis-proofs", sum+".part"), before, 0o644))
		r := endeixis(t, s, "operator", "batch", "hand-on", fmt.Sprint(made.ID), "--to", stick)
		assert.Equal(t, 11, r.code, what+r.out+r.err)
		got, err := os.ReadFile(filepath.Join(stick, "bell.img"))
		require.NoError(t, err, what)
		assert.True(t, bytes.Equal(image, got), what)
	}

	// The depot's file has changed since: it is not handed on.
	s.Write(t, "fetched", map[string][]byte{"bell.img": append(bytes.Clone(image[:len(image)-1]), 'X')})
	r = endeixis(t, s, "operator", "batch", "hand-on", fmt.Sprint(made.ID), "--to", t.TempDir())
	assert.Equal(t, 1, r.code, r.out+r.err)
	assert.Contains(t, r.out, "it is not what was verified any more")
	require.NoError(t, os.Remove(filepath.Join(s.Depot, "fetched", "bell.img")))
	r = endeixis(t, s, "operator", "batch", "hand-on", fmt.Sprint(made.ID), "--to", t.TempDir())
	assert.Equal(t, 1, r.code, r.out+r.err)
	assert.Contains(t, r.out, "cannot be read any more")
	var out struct {
		Left []struct {
			Path string `json:"path"`
		} `json:"left"`
	}
	require.NoError(
		t,
		json.Unmarshal(
			[]byte(
				endeixis(
					t, s, "operator", "batch", "hand-on", fmt.Sprint(made.ID), "--to", t.TempDir(), "-o", "json",
				).out,
			),
			&out,
		),
	)
	assert.Len(t, out.Left, 2)
}

// cutting passes requests on, and cuts some of the answers below a path after so many bytes.
func cutting(t *testing.T, to, below string, after int64, cuts *atomic.Int64) string {
	t.Helper()
	target, err := url.Parse(to)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ErrorLog = log.New(io.Discard, "", 0)
	proxy.ModifyResponse = func(r *http.Response) error {
		if strings.HasSuffix(r.Request.URL.Path, below) && r.ContentLength > after && cuts.Add(-1) >= 0 {
			r.Body = io.NopCloser(io.MultiReader(io.LimitReader(r.Body, after), iotest.ErrReader(io.ErrClosedPipe)))
		}
		return nil
	}
	line := httptest.NewServer(proxy)
	t.Cleanup(line.Close)
	return line.URL
}
