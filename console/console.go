// Package console is the console as it is built into the program: the files that `npm run build` made
// of the Vue sources beside it (docs/console.md). A program that was built without them has none.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the console's files, with index.html at the top; nil when they were not built in.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil
	}
	if _, err := fs.Stat(files, "index.html"); err != nil {
		return nil
	}
	return files
}
