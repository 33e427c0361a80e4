// Insegna is the service and its command line.
package main

import (
	"os"

	"insegna.example/internal/cli"
)

// main hands over to the command line, whose exit codes the guide lists.
func main() { os.Exit(cli.Main()) }
