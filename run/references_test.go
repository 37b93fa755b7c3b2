package run

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
)

// stops ends a run once it has seen so many rows.
type stops struct {
	left atomic.Int64
	stop func()
}

func (s *stops) NewEncoder(row.Schema) engine.Encoder { return nil }
func (s *stops) Take([]byte, int)                     {}
func (s *stops) Room(rows int) int {
	if s.left.Add(-int64(rows)) <= 0 {
		s.stop()
	}
	return 0
}

// TestReferenceChanges: a run that stops and goes on with a reference that has changed meanwhile gives each row once, up to its
// checkpoint as the reference was and behind it as it is; it says which have changed, and nothing where none has.
func TestReferenceChanges(t *testing.T) {
	dir := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	const rows = 60_000
	var events strings.Builder
	for i := range rows {
		fmt.Fprintf(&events, `{"n":%d,"berth":"B%d"}`+"\n", i, i%3)
	}
	put("lifts.ndjson", events.String())
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: named
sources:
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {n: int, berth: string}}
references:
  berths: {via: file, with: {path: berths.ndjson}, fields: {id: string, name: string}, key: [id]}
steps:
  named: {from: lifts, lookup: {reference: berths, match: {berth: id}, add: [name]}, only: [n, name]}
sinks:
  out: {from: named, via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	lives := 0
	for finished := false; !finished; lives++ {
		if lives > 20 {
			t.Fatal("the run does not come to its end")
		}
		put("berths.ndjson", fmt.Sprintf(`{"id":"B0","name":"%d"}`+"\n"+`{"id":"B1","name":"%d"}`+"\n", lives/2, lives/2))
		ctx, cancel := context.WithCancel(context.Background())
		seen := &stops{stop: cancel}
		seen.left.Store(rows / 2) // of all parts
		changed := false
		res, err := Run(ctx, j, Options{Checkpoints: filepath.Join(dir, "checkpoints"), EveryTurns: 1, Lanes: 2, Block: 4 << 10,
			Tap: func(string, row.Schema) engine.Tap { return seen },
			Say: func(line string) {
				changed = changed || strings.HasPrefix(line, "reference berths has changed since the checkpoint: 2 rows then, 2 now")
			}})
		cancel()
		if err != nil || len(res.Unbalanced) > 0 {
			t.Fatal(err, res.Unbalanced)
		}
		if want := lives > 0 && lives%2 == 0; changed != want {
			t.Errorf("life %d says that the reference has changed: %v", lives, changed)
		}
		finished = res.Finished
		if c := res.Figures.Steps[0].Lookup; finished && (c.Found != rows/3*2 || c.Missed != rows/3 || c.Null != 0) {
			t.Errorf("%+v were looked up", c)
		}
	}
	if lives < 3 {
		t.Fatalf("the run had %d lives", lives)
	}
	text, err := os.ReadFile(filepath.Join(dir, "out.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	if len(lines) != rows {
		t.Fatalf("%d rows came out, want %d", len(lines), rows)
	}
	name := 0
	for i, line := range lines {
		var n, got int
		if i%3 == 2 {
			if line != fmt.Sprintf(`{"n":%d,"name":null}`, i) {
				t.Fatalf("row %d is %s", i, line)
			}
			continue
		}
		if _, err := fmt.Sscanf(line, `{"n":%d,"name":"%d"}`, &n, &got); err != nil || n != i || got < name || got > lives/2 {
			t.Fatalf("row %d is %s, after one of version %d", i, line, name)
		}
		name = got
	}
	if name == 0 {
		t.Error("no row has a name of another version")
	}
}

// TestReferenceLimit: rows of a reference, and its versions, that take more than they may are refused with what would help; half
// as many are taken.
func TestReferenceLimit(t *testing.T) {
	for _, c := range []struct{ how, want string }{
		{"latest", "reference berths: it takes more than its limit of 512 KiB after"},
		{"event_time", "reference berths: the versions of 24h take more than its limit of 512 KiB; raise limit:, give it a shorter keep, or add fewer fields"},
	} {
		for _, rows := range []int{2000, 20_000} {
			dir := t.TempDir()
			var berths strings.Builder
			for i := range rows {
				fmt.Fprintf(&berths, `{"id":"B%d","name":"berth number %d","at":%d}`+"\n", i, i, i)
			}
			for name, text := range map[string]string{"berths.ndjson": berths.String(), "lifts.ndjson": `{"berth":"B7","at":3000000}`} {
				if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			j, err := job.Parse(filepath.Join(dir, "job.yaml"), fmt.Sprintf(`undertide: 1
job: named
sources:
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {berth: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none}}
references:
  berths: {via: file, with: {path: berths.ndjson}, fields: {id: string, name: string, at: {type: timestamp, parse: epoch_ms}}, key: [id], limit: 512KiB, event_time: at, watermark: {margin: 0s, ahead: none}, keep: 1d}
steps:
  named: {from: lifts, lookup: {reference: berths, match: {berth: id}, add: [name], as_of: %s}}
sinks:
  out: {from: named, via: file, with: {path: out.ndjson}}
`, c.how), job.Options{})
			if err != nil {
				t.Fatal(err)
			}
			_, err = Run(context.Background(), j, Options{})
			if large := rows > 2000; large != (err != nil) || large && !strings.Contains(err.Error(), c.want) {
				t.Errorf("as of %s, %d rows: %v", c.how, rows, err)
			}
		}
	}
}
