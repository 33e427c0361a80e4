// Insegna is the service and its command line.
package main

import (
	"os"

	"insegna.example/internal/cli"
)

func main() { os.Exit(cli.Main()) }
