// Describecore prints the description of the core in a browser, of which the console's types
// are made. It is run when the console is built.
package main

import (
	"fmt"
	"os"

	"endeixis/internal/api"
)

func main() {
	document, err := api.CoreDocument()
	if err == nil {
		_, err = os.Stdout.Write(document)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "describecore:", err)
		os.Exit(1)
	}
}
