// Package world stands in for what lies outside: mirrors from which lists can be
// had, and key directories, well-behaved and not. It is served on loopback by
// “endeixis-world” for the demo, and by the tests.
package world

import (
	"io/fs"
	"net/http"
	"strconv"
	"time"
)

// Handler serves the files of mirrors below /mirrors/, one folder for each
// mirror. Further mirrors misbehave:
//
//	/slow/       answers its headers at once and then a byte a second
//	/endless/    never ends
//	/elsewhere/  redirects to the mirror named by the query “to”, or to another host
//	/page/       answers everything with an HTML page
//
// The key directories are below /directories/, one folder of key files for
// each; see [serveDirectories].
func Handler(mirrors, keys fs.FS) http.Handler {
	mux := http.NewServeMux()
	serveDirectories(mux, keys)
	mux.Handle("GET /mirrors/", http.StripPrefix("/mirrors/", http.FileServerFS(mirrors)))
	mux.HandleFunc("GET /slow/", func(w http.ResponseWriter, r *http.Request) {
		for {
			if _, err := w.Write([]byte(" ")); err != nil {
				return
			}
			http.NewResponseController(w).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-time.After(time.Second):
			}
		}
	})
	mux.HandleFunc("GET /endless/", func(w http.ResponseWriter, _ *http.Request) {
		block := make([]byte, 64<<10)
		for n := 0; ; n++ {
			copy(block, strconv.Itoa(n))
			if _, err := w.Write(block); err != nil {
				return
			}
		}
	})
	mux.HandleFunc("GET /elsewhere/", func(w http.ResponseWriter, r *http.Request) {
		to := r.URL.Query().Get("to")
		if to == "" {
			to = "http://elsewhere.example/"
		}
		http.Redirect(w, r, to, http.StatusFound)
	})
	mux.HandleFunc("GET /page/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		//nolint:errcheck // nobody to tell
		w.Write([]byte("<!DOCTYPE html><title>Moved</title><p>This mirror has moved.</p>\n"))
	})
	return mux
}
