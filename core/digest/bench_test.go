package digest

import (
	"context"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"testing"
)

// BenchmarkFile compares Pump over a cached file with the bare loop that reads
// and hashes, in the same run.
func BenchmarkFile(b *testing.B) {
	const size = 256 << 20
	path := filepath.Join(b.TempDir(), "image.bin")
	f, err := os.Create(path)
	if err != nil {
		b.Fatal(err)
	}
	chunk := make([]byte, 1<<20)
	for range size / len(chunk) {
		f.Write(chunk)
	}
	f.Close()

	b.Run("bare", func(b *testing.B) {
		b.SetBytes(size)
		for b.Loop() {
			f, _ := os.Open(path)
			h := sha256.New()
			io.CopyBuffer(struct{ io.Writer }{h}, struct{ io.Reader }{f}, make([]byte, 256<<10))
			h.Sum(nil)
			f.Close()
		}
	})
	b.Run("pump", func(b *testing.B) {
		b.SetBytes(size)
		for b.Loop() {
			f, _ := os.Open(path)
			set := NewSet([]Algorithm{SHA256})
			if _, err := Pump(context.Background(), f, set.Writers(), nil); err != nil {
				b.Fatal(err)
			}
			set.Sums()
			f.Close()
		}
	})
}
