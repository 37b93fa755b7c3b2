package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"undertide/cli"
)

// TestPages: each command has a page, with its examples.
func TestPages(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man1")
	os.Args = []string{"man", dir}
	main()
	pages := 0
	var look func(c *cobra.Command)
	look = func(c *cobra.Command) {
		pages++
		text, err := os.ReadFile(filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"))
		if err != nil {
			t.Error(err)
		} else if !strings.Contains(string(text), ".SH EXAMPLE") {
			t.Errorf("the page of %s has no example", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			if sub.IsAvailableCommand() {
				look(sub)
			}
		}
	}
	look(cli.Commands())
	if pages < 40 {
		t.Errorf("only %d commands were found", pages)
	}
}
