// Command undertide is the one binary: see cli.
package main

import (
	"os"

	"undertide/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
