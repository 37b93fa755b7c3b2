//go:build !race

package run_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"undertide/job"
	"undertide/run"
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
		m := &modelJob{where: true, set: true, key: []string{"s"}, size: 100_000_000, margin: 1000}
		j, err := job.Parse("model.yaml", m.document(path, dir), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		if _, err := run.Run(context.Background(), j, run.Options{Lanes: 2}); err != nil {
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
