package harbour

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/kafka"
	"undertide/connect/simulate"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
)

//go:embed jobs/*.yaml berths.csv
var jobs embed.FS

// berthsFile is the list of berths, as the jobs name it: files stand in the folder above theirs.
const berthsFile = above + "berths.csv"

const above = "../"

// Jobs are the documents of the demo's jobs, by name; without devices those that take no messages of them. Their files are in a folder; the list of
// berths is put there, unless it is.
func Jobs(folder string, devices bool) (map[string][]byte, error) {
	berths := filepath.Join(folder, filepath.Base(berthsFile))
	if _, err := os.Stat(berths); errors.Is(err, fs.ErrNotExist) {
		list, err := jobs.ReadFile(filepath.Base(berthsFile))
		if err == nil {
			err = os.WriteFile(berths, list, 0o644)
		}
		if err != nil {
			return nil, fmt.Errorf("the list of berths: %w", err)
		}
	}
	entries, err := jobs.ReadDir("jobs")
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for _, e := range entries {
		if e.Name() == "gauge-messages.yaml" && !devices {
			continue
		}
		text, err := jobs.ReadFile("jobs/" + e.Name())
		if err != nil {
			return nil, err
		}
		out[strings.TrimSuffix(e.Name(), ".yaml")] = bytes.ReplaceAll(text, []byte(above), []byte(folder+"/"))
	}
	return out, nil
}

// Topics are all that the demo's streams and jobs use.
var Topics = []string{"gauge.levels", "gauge.means", "gauge.late", "crane.lifts", "crane.loads", "crane.alarms",
	"vessel.pings", "vessel.calls", "vessel.silent", "gate.log",
	"lift.orders", "orders.lifted", "orders.open", "lifts.unordered", "lifts.heavy", "vessel.draughts", "vessel.deep",
	weightsTopic, "gate.weights", "gauge.posted", "gauge.sent", "berth.moves"}

// partitions of the demo's topics.
const partitions = 2

// past is how much of the past a stream has when it begins.
const past = 2 * time.Hour

// keys are the fields that the streams' messages are keyed by; lines of text have no key.
var keys = map[string]string{"gauge.levels": "gauge", "crane.lifts": "crane", "vessel.pings": "vessel", "lift.orders": "vessel", "vessel.draughts": "vessel"}

// Feed sends the streams to a broker as they happen, until ctx is done, and readings to devices, too. How far it has come is kept in
// folder dir: a feed that starts again sends what happened meanwhile, unless that is longer ago than
// two hours. The connection harbour is that of the broker c, with its registry.
func Feed(ctx context.Context, c kafka.Connection, harbour *connect.Connection, dir string, devices *Devices, log *slog.Logger) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("make the feed's folder: %w", err)
	}
	w, err := kafka.NewWriter(ctx, c, partitions, Topics...)
	if err != nil {
		return err
	}
	defer w.Close()
	all := maps.Clone(Streams)
	maps.Copy(all, logs)
	ended := make(chan error, len(all))
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	now := time.Now() // one beginning for all: orders go before lifts
	as := map[string]func(event []byte) ([]byte, error){
		"gauge.levels": func(event []byte) ([]byte, error) { devices.Take(event); return event, nil },
		weightsTopic:   weights(inner, harbour),
	}
	for topic, document := range all {
		go func() {
			ended <- feed(inner, w, topic, document, filepath.Join(dir, topic+".json"), now, as[topic], log)
		}()
	}
	var faults []error
	for range all {
		err := <-ended
		cancel() // one that ends before ctx does has failed
		if err != nil && ctx.Err() == nil {
			faults = append(faults, err)
		}
	}
	return errors.Join(faults...)
}

// weights writes weights as the scales do, which register their schemas with the first.
func weights(ctx context.Context, c *connect.Connection) func(event []byte) ([]byte, error) {
	var s *scales
	return func(event []byte) (_ []byte, err error) {
		if s == nil {
			if s, err = newScales(ctx, c, time.Now().Add(-past)); err != nil {
				return nil, err
			}
		}
		return s.message(event)
	}
}

// place is how far the feed of a stream has come.
type place struct {
	Start    row.Time        `json:"start"`
	Position json.RawMessage `json:"position"`
	Sent     time.Time       `json:"sent"`
}

func feed(ctx context.Context, w *kafka.Writer, topic, document, path string, now time.Time, as func(event []byte) ([]byte, error), log *slog.Logger) error {
	text, err := streams.ReadFile(document)
	if err != nil {
		return err
	}
	j, err := job.Parse(document, string(text), job.Options{})
	if err != nil {
		return err
	}
	at := place{Start: row.TimeOf(now.Add(-past).Truncate(time.Minute))}
	var old place
	if text, err := os.ReadFile(path); err == nil && json.Unmarshal(text, &old) == nil && now.Sub(old.Sent) < past {
		at = old
	}
	s := &j.Sources[0]
	events, err := simulate.Made(s.With, connect.Opening{Name: s.Name, Fields: s.Fields, ByClock: true}, func(c *simulate.Config) {
		c.Count, c.Start, c.Seed = 0, at.Start, c.Seed+uint64(at.Start) // another past, another chance
	})
	if err != nil {
		return err
	}
	if err := events.Open(ctx, at.Position); err != nil {
		return err
	}
	log.Info("feeding", "topic", topic, "from", at.Start.String())
	saved := now
	var c engine.Chunk
	for ctx.Err() == nil {
		c.Reset()
		if err := events.Read(ctx, &c); err != nil {
			break
		}
		for i := range c.Starts {
			value := append([]byte(nil), c.Event(i)...)
			var fields map[string]any
			if err := json.Unmarshal(value, &fields); err != nil {
				return fmt.Errorf("an event of %s: %w", topic, err)
			}
			var key []byte
			if name, keyed := keys[topic]; keyed {
				k, _ := fields[name].(string)
				key = []byte(k)
			} else {
				if line, ok := fields["line"].(string); ok {
					value = []byte(line)
				}
			}
			if as != nil {
				if value, err = as(value); err != nil {
					return fmt.Errorf("an event of %s: %w", topic, err)
				}
			}
			w.Send(ctx, topic, key, value, time.Now(), nil)
		}
		at.Position = c.Position
		if time.Since(saved) > 2*time.Second {
			saved = time.Now()
			if err := note(ctx, w, path, at); err != nil {
				log.Warn("the feed waits for the broker", "topic", topic, "error", err)
			}
		}
	}
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	return note(last, w, path, at)
}

// note keeps how far a feed has come, once the broker has it.
func note(ctx context.Context, w *kafka.Writer, path string, at place) error {
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	if err := w.Flush(limited); err != nil {
		return err
	}
	at.Sent = time.Now()
	text, err := json.Marshal(at)
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".part", text, 0o600); err != nil {
		return fmt.Errorf("note the feed's place: %w", err)
	}
	return os.Rename(path+".part", path)
}
