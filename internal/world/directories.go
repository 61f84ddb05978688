package world

import (
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"endeixis/core/openpgp"
	"endeixis/internal/directories"
)

// serveDirectories serves key directories below /directories/, from a folder of key
// files for each: by the HTTP Keyserver Protocol at NAME/pks/lookup, and as a Web
// Key Directory at NAME/wkd/hu/. The one at /tired/ is slow, and then fails.
func serveDirectories(mux *http.ServeMux, keys fs.FS) {
	mux.HandleFunc("GET /directories/{name}/pks/lookup", func(w http.ResponseWriter, r *http.Request) {
		q, err := directories.ParseQuery(r.URL.Query().Get("search"))
		if err != nil || r.URL.Query().Get("op") != "get" {
			http.Error(w, "not understood", http.StatusBadRequest)
			return
		}
		serve(w, keys, r.PathValue("name"), func(c *openpgp.Certificate) bool {
			for _, k := range c.Keys() {
				if k.Fingerprint == q.Fingerprint || q.KeyID != 0 && k.KeyID == q.KeyID {
					return true
				}
			}
			return q.Address != "" &&
				hasAddress(c, func(address string) bool { return strings.EqualFold(address, q.Address) })
		})
	})
	mux.HandleFunc("GET /directories/{name}/wkd/hu/{hash}", func(w http.ResponseWriter, r *http.Request) {
		serve(w, keys, r.PathValue("name"), func(c *openpgp.Certificate) bool {
			return hasAddress(c, func(address string) bool {
				local, _, _ := strings.Cut(address, "@")
				return directories.HashedAddress(local) == r.PathValue("hash")
			})
		})
	})
	mux.HandleFunc("GET /tired/", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(2 * time.Second):
			http.Error(w, "too much to do", http.StatusServiceUnavailable)
		}
	})
}

// serve sends the keys of a directory that are wanted.
func serve(w http.ResponseWriter, keys fs.FS, name string, wanted func(*openpgp.Certificate) bool) {
	files, err := fs.Glob(keys, path.Join(name, "*"))
	if err != nil || len(files) == 0 {
		http.Error(w, "no such directory", http.StatusNotFound)
		return
	}
	var out []byte
	for _, file := range files {
		data, err := fs.ReadFile(keys, file)
		if err != nil {
			continue
		}
		certs, _, err := openpgp.ReadCertificates(data)
		if err != nil {
			continue
		}
		for _, c := range certs {
			if wanted(c) {
				out = append(out, c.Bytes()...)
			}
		}
	}
	if out == nil {
		http.Error(w, "no such key", http.StatusNotFound)
		return
	}
	w.Header().Set("Content-Type", "application/pgp-keys")
	w.Write(out) //nolint:errcheck // nobody to tell
}

// hasAddress reports whether a user ID has an address that is wanted.
func hasAddress(c *openpgp.Certificate, wanted func(address string) bool) bool {
	for _, u := range c.UserIDs {
		_, rest, ok := strings.Cut(u.ID, "<")
		address, _, end := strings.Cut(rest, ">")
		if ok && end && wanted(address) {
			return true
		}
	}
	return false
}
