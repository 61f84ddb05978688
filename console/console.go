// Package console embeds the built console, so that the service is one file.
// Without a build (on a fresh checkout, say) it holds nothing but a note, and
// the service says how to build it.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console.
func Files() fs.FS {
	sub, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}
