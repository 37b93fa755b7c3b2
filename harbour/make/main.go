// Command make writes the harbour's streams into a folder.
package main

import (
	"context"
	"fmt"
	"os"

	"undertide/harbour"
)

func main() {
	dir := "harbour/data"
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	if err := harbour.Make(context.Background(), dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
