// Command weltaxis audits the settings of a content-managed site against a baseline.
package main

import (
	"os"

	"weltaxis/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
