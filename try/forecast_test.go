package try

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"undertide/checkpoint"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/job"
	"undertide/run"
)

// TestForecast: what a rehearsal of a part of the events foretells is near what a run over all of them keeps once it is
// steady, for each kind of bound.
func TestForecast(t *testing.T) {
	dir := t.TempDir()
	r := rand.New(rand.NewPCG(1, 2))
	var text strings.Builder
	const events, perSecond = 60_000, 10
	for i := range events {
		// keys come and go: of some thousand, those near the time are likelier
		fmt.Fprintf(&text, `{"id":"I%d","vessel":"V%d","at":%d}`+"\n", i-r.IntN(3), int(math.Abs(r.NormFloat64())*300)+i/200, 1_795_000_000_000+i*1000/perSecond)
	}
	if err := os.WriteFile(filepath.Join(dir, "calls.ndjson"), []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, step := range map[string]string{
		"tumbling":    "key: [vessel], window: {tumbling: 10m}, measures: {n: count()}",
		"accepted":    "key: [vessel], window: {tumbling: 5m}, late: {accept: 10m}, measures: {n: count()}",
		"sliding":     "key: [vessel], window: {sliding: 10m, by: 2m}, measures: {n: count()}",
		"session":     "key: [vessel], window: {session: 5m}, measures: {n: count()}",
		"look back":   "key: [vessel], window: {look_back: 10m}, measures: {n: count()}",
		"deduplicate": "deduplicate: {key: [id], within: 20m}",
	} {
		t.Run(name, func(t *testing.T) {
			j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: calls
sources:
  calls: {via: file, with: {path: calls.ndjson}, fields: {id: string, vessel: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 30s, ahead: none}}
steps:
  kept: {from: calls, `+step+`}
sinks:
  out: {from: kept, via: file, with: {path: `+t.TempDir()+`/}}
`, job.Options{})
			if err != nil {
				t.Fatal(err)
			}
			out, err := Rehearse(context.Background(), j, RehearseOptions{Rows: 5000, From: 1})
			if err != nil {
				t.Fatal(err)
			}
			f := out.Steps[0].Forecast
			if f == nil {
				t.Fatalf("the forecast is %+v", f)
			}
			checkpoints := filepath.Join(t.TempDir(), "checkpoints")
			ctx, stop := context.WithCancel(context.Background())
			defer stop()
			seen := &halfway{stop: stop}
			seen.left.Store(events * 3 / 4)
			if _, err := run.Run(ctx, j, run.Options{Lanes: 1, Checkpoints: checkpoints, Block: 4 << 10, Tap: func(string, row.Schema) engine.Tap { return seen }}); err != nil {
				t.Fatal(err)
			}
			most := rowsOf(t, checkpoints)
			t.Logf("foretold %d rows of state (%d bytes), bounded by %s; a run has %d", f.Rows, f.Bytes, f.Bound, most)
			if most == 0 || f.Rows < most/2 || f.Rows > 2*most {
				t.Errorf("it foretells %d rows of state, and a run has %d", f.Rows, most)
			}
		})
	}
}

// halfway stops a run once it has seen so many rows.
type halfway struct {
	stop func()
	left atomic.Int64
}

func (h *halfway) NewEncoder(row.Schema) engine.Encoder { return nil }
func (h *halfway) Take([]byte, int)                     {}
func (h *halfway) Room(rows int) int {
	if h.left.Add(-int64(rows)) <= 0 {
		h.stop()
		time.Sleep(20 * time.Millisecond) // the run hears of it before it has come to its end
	}
	return 0
}

// rowsOf counts the rows that the newest checkpoint has of the step's own table.
func rowsOf(t *testing.T, dir string) (n int64) {
	t.Helper()
	o, err := checkpoint.OpenOne(checkpoint.Disk, dir, 0)
	if err != nil {
		t.Fatal(err)
	}
	tables, err := o.Tables("kept")
	if err == nil {
		err = o.Read("kept", tables[0], func(r *state.Rows) (bool, error) { n += int64(r.N); return true, nil })
	}
	if err := errors.Join(err, o.Close()); err != nil {
		t.Fatal(err)
	}
	return n
}
