package digest_test

import (
	"context"
	"fmt"
	"strings"

	"endeixis/core/digest"
)

// Algorithms are known by the labels that manifests use.
func ExampleParse() {
	for _, label := range []string{"sha256", "SHA-512/256", "b2", "md4"} {
		a, err := digest.Parse(label)
		fmt.Println(a, err == nil)
	}
	// Output:
	// SHA-256 true
	// SHA-512/256 true
	// BLAKE2b true
	// unknown false
}

// “endeixis digest” reads each file once, however many algorithms are asked for.
func ExamplePump() {
	set := digest.NewSet([]digest.Algorithm{digest.CRC32, digest.SHA256})
	n, err := digest.Pump(context.Background(), strings.NewReader("gauge"), set.Writers(), func(int64) {})
	fmt.Println(n, err, set.Sums()[digest.CRC32])
	// Output: 5 <nil> 2bf40e2a
}
