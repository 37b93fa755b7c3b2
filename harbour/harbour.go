// Package harbour holds the demo, the made-up port Saltmarsh Harbour: its simulated streams and its
// job documents. [Make] writes the streams as files, event by event as the simulators send them.
package harbour

import (
	"bufio"
	"context"
	"embed"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"undertide/core/engine"
	"undertide/job"
	"undertide/run"
)

//go:embed streams/*.yaml
var streams embed.FS

// Streams are the names of the streams that there are, and their documents.
var Streams = map[string]string{
	"gauge.levels": "streams/gauge-levels.yaml",
	"crane.lifts":  "streams/crane-lifts.yaml",
}

// Make writes each stream into a file of folder dir. The same seed gives the same bytes.
func Make(ctx context.Context, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make folder: %w", err)
	}
	for name, document := range Streams {
		if err := write(ctx, document, filepath.Join(dir, name+".ndjson")); err != nil {
			return fmt.Errorf("make %s: %w", name, err)
		}
	}
	return nil
}

func write(ctx context.Context, document, path string) (err error) {
	text, err := streams.ReadFile(document)
	if err != nil {
		return err
	}
	j, err := job.Parse(document, string(text), job.Options{})
	if err != nil {
		return err
	}
	events := run.Simulated(&j.Sources[0])
	if err := events.Open(ctx, nil); err != nil {
		return err
	}
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	defer func() {
		err = errors.Join(err, f.Close())
		if err == nil {
			err = os.Rename(path+".part", path)
		}
	}()
	w := bufio.NewWriter(f)
	var c engine.Chunk
	for !c.Last {
		c.Reset()
		if err := events.Read(ctx, &c); err != nil {
			return err
		}
		for i := range c.Starts {
			if _, err := w.Write(append(c.Event(i), '\n')); err != nil {
				return err
			}
		}
	}
	return w.Flush()
}
