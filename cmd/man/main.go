// Command man writes the manual pages of all commands into a folder: `make install` runs it.
package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra/doc"

	"undertide/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "man: name the folder of the pages, as in: go run ./cmd/man /usr/local/share/man/man1")
		os.Exit(2)
	}
	err := os.MkdirAll(os.Args[1], 0o755)
	if err == nil {
		root := cli.Commands()
		root.DisableAutoGenTag = true // the same commands make the same pages
		err = doc.GenManTree(root, &doc.GenManHeader{Title: "UNDERTIDE", Section: "1", Source: "Under Tide", Manual: "Under Tide"}, os.Args[1])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "man:", err)
		os.Exit(1)
	}
}
