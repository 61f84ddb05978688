package origins

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/survey"
	"endeixis/internal/fault"
	"endeixis/internal/outside"
	"endeixis/internal/world"
)

// TestFetch asks well-behaved and misbehaving mirrors over real HTTP.
func TestFetch(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(world.Handler(fstest.MapFS{
		"north/2.4/digests.txt": {Data: []byte("list")}, "south/2.4/digests.txt": {Data: []byte("other")},
	}, fstest.MapFS{}))
	defer server.Close()
	places := func(at ...string) []Origin {
		var out []Origin
		for _, a := range at {
			out = append(out, Origin{Name: a, URL: server.URL + "/" + a, Channel: survey.Mirror})
		}
		return out
	}
	o, err := New(
		append(
			places("slow", "endless", "elsewhere", "page"),
			Origin{"north", server.URL + "/mirrors/north/", survey.Mirror},
			Origin{"dead", "http://127.0.0.1:1/", survey.VendorSite},
		),
		outside.Limits{Bytes: 1 << 20, Time: 500 * time.Millisecond},
	)
	require.NoError(t, err)
	content, err := o.Fetch(t.Context(), "north", "2.4/digests.txt")
	require.NoError(t, err)
	assert.Equal(t, "list", string(content))
	at, err := o.Where("north", "2.4/digests.txt")
	require.NoError(t, err)
	assert.Equal(t, survey.Provenance{Channel: survey.Mirror, Place: server.URL + "/mirrors/north/2.4/digests.txt"}, at)

	for place, says := range map[string]string{
		"slow": "not there in full within 500ms", "endless": "more than 1048576 bytes", "elsewhere": "redirects to another place",
		"page": "answered with a page", "north": "404 Not Found", "dead": "refused",
	} {
		_, err := o.Fetch(t.Context(), place, "x/list.txt")
		var trouble *FetchError
		require.ErrorAs(t, err, &trouble, place)
		assert.Contains(t, trouble.Reason, says, place)
	}
	for _, bad := range []string{"../south/2.4/digests.txt", "/etc/passwd", ""} {
		_, err := o.Fetch(t.Context(), "north", bad)
		assert.True(t, fault.Is(err, fault.OriginPath), "%q: %v", bad, err)
	}
	_, err = o.Fetch(t.Context(), "north", "http://elsewhere.example/x")
	assert.ErrorContains(t, err, "404", "it is a path like any other")
	_, err = o.Fetch(t.Context(), "east", "x")
	assert.True(t, fault.Is(err, fault.OriginUnknown))
	ctx, cancel := context.WithCancelCause(t.Context())
	ended := errors.New("the service ends")
	cancel(ended)
	_, err = o.Fetch(ctx, "north", "2.4/digests.txt")
	assert.ErrorIs(t, err, ended)
}

func TestConfiguredOrigins(t *testing.T) {
	t.Parallel()
	for _, bad := range []Origin{
		{"a", "ftp://x/", survey.Mirror},
		{"a", "http:///x", survey.Mirror},
		{"a", "http://user:pass@x/", survey.Mirror},
		{"a", "http://x/?q", survey.Mirror},
		{"a", "http://x/", "radio"},
	} {
		_, err := New([]Origin{bad}, outside.Limits{})
		assert.Error(t, err, "%+v", bad)
	}
	o, err := New(
		[]Origin{{"b", "https://b.example", survey.VendorSite}, {"a", "http://a.example/x", survey.Paper}},
		outside.Limits{},
	)
	require.NoError(t, err)
	assert.Equal(t, "a", o.All()[0].Name)
}

// TestRedirects are followed within the origin, and never to another host, even
// where the path is the same.
func TestRedirects(t *testing.T) {
	t.Parallel()
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Write([]byte("from another host"))
	}))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/lists/moved.txt":
			http.Redirect(w, r, "/lists/here.txt", http.StatusFound)
		case "/lists/away.txt":
			http.Redirect(w, r, other.URL+"/lists/here.txt", http.StatusFound)
		case "/lists/up.txt":
			http.Redirect(w, r, "/secret/here.txt", http.StatusFound)
		case "/lists/around.txt":
			http.Redirect(w, r, "/lists/around.txt", http.StatusFound)
		default:
			w.Write([]byte("here"))
		}
	}))
	defer server.Close()
	o, err := New([]Origin{{"a", server.URL + "/lists/", survey.Mirror}}, outside.Limits{})
	require.NoError(t, err)
	content, err := o.Fetch(t.Context(), "a", "moved.txt")
	require.NoError(t, err)
	assert.Equal(t, "here", string(content))
	for file, says := range map[string]string{"away.txt": "redirects to another place", "up.txt": "redirects to another place", "around.txt": "more than five times"} {
		_, err := o.Fetch(t.Context(), "a", file)
		assert.ErrorContains(t, err, says, file)
	}
}

// TestEncodedPathsStayBelow: no way of writing dots and slashes leads out.
func TestEncodedPathsStayBelow(t *testing.T) {
	t.Parallel()
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Path)
		w.Write([]byte("here"))
	}))
	defer server.Close()
	o, err := New([]Origin{{"a", server.URL + "/lists/", survey.Mirror}}, outside.Limits{})
	require.NoError(t, err)
	for _, file := range []string{"%2e%2e/secret", "..%2fsecret", "%2e%2e%2fsecret", "x/%2E%2E/%2E%2E/secret", "../secret", "a%00b", "%", "%zz", "..\\secret", "/etc/passwd", "x/../../secret"} {
		_, err := o.Fetch(t.Context(), "a", file)
		assert.Error(t, err, file)
	}
	for _, file := range []string{"a b.txt", "a?b#c.txt", "größe.txt", "x/y.txt"} {
		_, err := o.Fetch(t.Context(), "a", file)
		assert.NoError(t, err, file)
	}
	assert.Equal(t, []string{"/lists/a b.txt", "/lists/a?b#c.txt", "/lists/größe.txt", "/lists/x/y.txt"}, asked)
}
