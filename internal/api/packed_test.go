package api

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
)

// TestPacked hands out the copy that a browser takes, and the file itself to one that takes
// none or is asked for something that is not kept so.
func TestPacked(t *testing.T) {
	gin.SetMode(gin.TestMode)
	a := &API{Parts: Parts{Console: fstest.MapFS{
		"index.html":    {Data: []byte("page")},
		"index.html.br": {Data: []byte("never")},
		"assets/a.js": {
			Data: []byte("plain"),
		},
		"assets/a.js.br": {Data: []byte("brotli")},
		"assets/a.js.gz": {Data: []byte("gzip")},
		"assets/b.woff2": {Data: []byte("font")},
	}}}
	engine := gin.New()
	engine.NoRoute(a.console)
	for _, c := range []struct{ path, accepts, body, encoding string }{
		{"/assets/a.js", "gzip, deflate, br, zstd", "brotli", "br"},
		{"/assets/a.js", "gzip, deflate", "gzip", "gzip"},
		{"/assets/a.js", "br;q=0, gzip;q=0.5", "gzip", "gzip"},
		{"/assets/a.js", "br; q=0.0, gzip; q=0", "plain", ""},
		{"/assets/a.js", "brotli", "plain", ""},
		{"/assets/a.js", "", "plain", ""},
		{"/assets/b.woff2", "br, gzip", "font", ""},
		{"/batches/1", "br, gzip", "page", ""},
	} {
		r := httptest.NewRequest(http.MethodGet, c.path, nil)
		if c.accepts != "" {
			r.Header.Set("Accept-Encoding", c.accepts)
		}
		w := httptest.NewRecorder()
		engine.ServeHTTP(w, r)
		assert.Equal(t, c.body, w.Body.String(), c)
		assert.Equal(t, c.encoding, w.Header().Get("Content-Encoding"), c)
		if c.encoding != "" {
			assert.Contains(t, w.Header().Get("Content-Type"), "javascript")
			assert.Equal(t, "Accept-Encoding", w.Header().Get("Vary"))
		}
	}
}
