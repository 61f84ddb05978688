// Command endeixis is the client of the Endeixis service.
package main

import (
	"os"

	"endeixis/internal/cli"
)

func main() { os.Exit(cli.Main()) }
