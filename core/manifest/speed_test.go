package manifest

import (
	"bufio"
	"fmt"
	"strings"
	"testing"
)

// BenchmarkRead reads lists and texts of about the same length, each beside the scanning of
// its lines, which is the floor.
func BenchmarkRead(b *testing.B) {
	var plain, prose, page strings.Builder
	for i := range 200_000 {
		fmt.Fprintf(&plain, "%064x  firmware/unit-%06d/main.img\n", i+1, i)
	}
	for i := range 6_000 {
		fmt.Fprintf(
			&prose,
			"The image gauge-%d.img of the release (see notes.txt) is for harbour masters.\nIts SHA-256 is\n%064x\n\n",
			i, i+1,
		)
		fmt.Fprintf(
			&page,
			"<tr><td><a href=\"x/gauge-%d.img\">gauge-%d.img</a></td><td>12,345</td><td><code>%064x</code></td></tr>\n",
			i, i, i+1,
		)
	}
	for name, text := range map[string]string{"plain": plain.String(), "prose": prose.String(), "page": "<html><table>" + page.String()} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				Parse(text, Options{FileName: "SHA256SUMS"})
			}
		})
		b.Run(name+", floor", func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				lines := bufio.NewScanner(strings.NewReader(text))
				for lines.Scan() {
					_ = lines.Bytes()
				}
			}
		})
	}
}
