// Package packtest packs small archives for tests. Names and contents alternate
// in its arguments.
package packtest

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
)

// must stops at errors that only a mistake in a test can cause.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

// Zip returns a zip archive, each member deflated.
func Zip(namesAndContents ...string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(namesAndContents); i += 2 {
		out, err := w.Create(namesAndContents[i])
		must(err)
		_, err = io.WriteString(out, namesAndContents[i+1])
		must(err)
	}
	must(w.Close())
	return b.Bytes()
}

// Tar returns a tar archive.
func Tar(namesAndContents ...string) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := 0; i < len(namesAndContents); i += 2 {
		must(
			w.WriteHeader(
				&tar.Header{
					Name: namesAndContents[i], Mode: 0o644, Size: int64(len(namesAndContents[i+1])),
					Typeflag: tar.TypeReg,
				},
			),
		)
		_, err := io.WriteString(w, namesAndContents[i+1])
		must(err)
	}
	must(w.Close())
	return b.Bytes()
}

// Gzip compresses content.
func Gzip(content []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, err := w.Write(content)
	must(err)
	must(w.Close())
	return b.Bytes()
}
