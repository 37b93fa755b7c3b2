//go:build !race

package run

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"undertide/job"
)

// TestNoAllocationForARow: more rows allocate no more than what their turns cost.
func TestNoAllocationForARow(t *testing.T) {
	allocations := func(rows int) uint64 {
		dir := t.TempDir()
		var b strings.Builder
		for i := range rows {
			fmt.Fprintf(&b, `{"s":"key %d","b":%d,"x":%d.5,"t":%d}`+"\n", i%100, i, i%17, 1_767_225_600_000+int64(i))
		}
		path := filepath.Join(dir, "events.ndjson")
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
		j, err := job.Parse(filepath.Join(dir, "job.yaml"), `undertide: 1
job: many
sources:
  events:
    via: file
    with: {path: events.ndjson}
    fields: {s: string, b: int, x: double, t: {type: timestamp, parse: epoch_ms}}
    event_time: t
    watermark: {margin: 1ms, ahead: none}
steps:
  useful: {from: events, where: x > 0.5 || b == null, set: {q: 100 / (b + 1)}}
  windows: {from: useful, key: [s], window: {tumbling: 100s}, measures: {n: count(), over: count_if(x > 2), sum_x: sum(x), mean_b: mean(b), least_s: min(s), each: count() / count_if(x > 2)}}
sinks:
  rows: {from: windows, via: file, with: {path: rows.ndjson}}
  missed: {from: late of windows, via: file, with: {path: late.ndjson}}
  bad: {from: rejects of useful, via: file, with: {path: bad.ndjson}}
`, job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		if _, err := Run(context.Background(), j, Options{Lanes: 2}); err != nil {
			t.Fatal(err)
		}
		runtime.ReadMemStats(&after)
		return after.Mallocs - before.Mallocs
	}
	few, many := allocations(100_000), allocations(400_000)
	each := (float64(many) - float64(few)) / 300_000
	t.Logf("%d allocations for 100,000 rows, %d for 400,000: %.4f a row", few, many, each)
	if each > 0.02 {
		t.Errorf("%.4f allocations a row, want next to none", each)
	}
}
