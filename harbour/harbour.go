// Package harbour holds the demo, the made-up port Saltmarsh Harbour: its simulated streams and its
// job documents. [Make] writes the streams as files, event by event as the simulators send them.
package harbour

import (
	"bufio"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"undertide/connect"
	_ "undertide/connect/all" // the kinds and formats that there are
	"undertide/connect/simulate"
	"undertide/core/engine"
	"undertide/job"
)

//go:embed streams/*.yaml
var streams embed.FS

// Streams are the names of the streams that there are, and their documents.
var Streams = map[string]string{
	"gauge.levels": "streams/gauge-levels.yaml",
	"crane.lifts":  "streams/crane-lifts.yaml",
	"vessel.pings": "streams/vessel-pings.yaml",
	"lift.orders":  "streams/lift-orders.yaml",
	weightsTopic:   "streams/weights.yaml",
	// What follows is made to be looked up in.
	"vessel.draughts": "streams/vessel-draughts.yaml",
}

// logs are streams of text lines, which are written as they are in the events' field line.
var logs = map[string]string{"gate.log": "streams/gate-log.yaml"}

// Make writes each stream into a file of folder dir. The same seed gives the same bytes.
func Make(ctx context.Context, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("make folder: %w", err)
	}
	for name, document := range Streams {
		if err := write(ctx, document, filepath.Join(dir, name+".ndjson"), func(event []byte) ([]byte, error) { return event, nil }); err != nil {
			return fmt.Errorf("make %s: %w", name, err)
		}
	}
	for name, document := range logs {
		err := write(ctx, document, filepath.Join(dir, name), func(event []byte) ([]byte, error) {
			var e struct{ Line string }
			err := json.Unmarshal(event, &e)
			return []byte(e.Line), err
		})
		if err != nil {
			return fmt.Errorf("make %s: %w", name, err)
		}
	}
	return nil
}

// write makes a stream into a file; line gives the line of an event.
func write(ctx context.Context, document, path string, line func(event []byte) ([]byte, error)) (err error) {
	text, err := streams.ReadFile(document)
	if err != nil {
		return err
	}
	j, err := job.Parse(document, string(text), job.Options{})
	if err != nil {
		return err
	}
	source := &j.Sources[0]
	events, err := simulate.Made(source.With, connect.Opening{Name: source.Name, Fields: source.Fields}, func(*simulate.Config) {})
	if err != nil {
		return err
	}
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
			text, err := line(c.Event(i))
			if err != nil {
				return err
			}
			if _, err := w.Write(append(text, '\n')); err != nil {
				return err
			}
		}
	}
	return w.Flush()
}
