package diagnose_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
)

// When a digest differs, the file is read once more, and what is established is
// said with advice.
func ExampleRun() {
	published := []byte("log of the gauge\nat the north mole\n")
	here := bytes.ReplaceAll(published, []byte("\n"), []byte("\r\n"))
	want, have := sha256.Sum256(published), sha256.Sum256(here)
	causes, err := diagnose.Run(context.Background(), bytes.NewReader(here), diagnose.Case{
		Name: "gauge.log", Size: int64(len(here)), Expected: want[:], Algorithms: []digest.Algorithm{digest.SHA256},
		Computed: map[digest.Algorithm]digest.Value{digest.SHA256: have[:]},
	})
	if err != nil {
		panic(err)
	}
	for _, f := range causes {
		fmt.Println(f.Code)
	}
	// Output: line-endings
}
