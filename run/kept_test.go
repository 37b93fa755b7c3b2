package run

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/job"
)

const versioned = `undertide: 1
job: lifts
sources:
  lifts:
    via: file
    with: {path: in.ndjson, follow: true}
    fields: {crane: string, tonnes: double, at: {type: timestamp, parse: epoch_s}}
    event_time: at
    watermark: {margin: 5s, idle: 1h}
steps:
  hour:
    from: lifts
    key: [crane]
    window: {tumbling: 1h}
    measures: {lifts: count()}
  load:
    from: lifts
    key: [crane]
    window: {tumbling: 1h}
    measures: {tonnes: sum(tonnes)}
sinks:
  hours: {from: hour, via: file, with: {path: out/hours/}}
  loads: {from: load, via: file, with: {path: out/loads/}}
`

// until runs a document until so many events were read, and stops it.
func runUntil(t *testing.T, dir, document string, read int64, drop ...string) error {
	t.Helper()
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), document, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	w := engine.NewWatch()
	go func() {
		for ctx.Err() == nil {
			if f := w.Figures(); len(f.Sources) > 0 && f.Sources[0].Read >= read {
				cancel()
			}
			time.Sleep(5 * time.Millisecond)
		}
	}()
	_, err = Run(ctx, j, Options{Checkpoints: filepath.Join(dir, "checkpoints"), Watch: w, Drop: drop})
	return err
}

// TestAnotherVersion: another version goes on with the state of unchanged steps; what changed begins
// empty, and only when that is said.
func TestAnotherVersion(t *testing.T) {
	write := func(dir string, from, to int) {
		f, err := os.OpenFile(filepath.Join(dir, "in.ndjson"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err != nil {
			t.Fatal(err)
		}
		for i := from; i < to; i++ {
			fmt.Fprintf(f, `{"crane":"C1","tonnes":2,"at":%d}`+"\n", 1795000000-1795000000%3600+i)
		}
		if err := f.Close(); err != nil {
			t.Fatal(err)
		}
	}
	rows := func(dir string) string {
		var out strings.Builder
		found, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range found {
			b, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			out.Write(b)
		}
		return out.String()
	}
	changed := strings.Replace(versioned, "sum(tonnes)", "max(tonnes)", 1)
	for _, c := range []struct {
		name, document string
		drop           []string
		refused        string
		hours, loads   string
	}{
		{"the same", versioned, nil, "", `"lifts":100`, `"tonnes":200}`},
		{"comments and settings", strings.Replace(versioned, "sources:", "settings: {lanes: 1} # fewer\nsources:", 1), nil, "", `"lifts":100`, `"tonnes":200}`},
		{"another margin", strings.Replace(versioned, "margin: 5s", "margin: 6s", 1), nil, "", `"lifts":100`, `"tonnes":200}`},
		{"a changed measure", changed, nil, "", `"lifts":100`, `"tonnes":null}`},
		{"a filter", strings.Replace(versioned, "  hour:\n    from: lifts\n", "  heavy: {from: lifts, where: tonnes > 3.0}\n  hour:\n    from: heavy\n", 1), nil, "", `"lifts":60`, `"tonnes":200}`},
		{"a changed window, not said", strings.Replace(versioned, "window: {tumbling: 1h}\n    measures: {tonnes", "window: {tumbling: 2h}\n    measures: {tonnes", 1), nil, "step load", "", ""},
		{"a changed key", strings.Replace(versioned, "    key: [crane]\n    window: {tumbling: 1h}\n    measures: {tonnes: sum(tonnes)}", "    key: []\n    window: {tumbling: 1h}\n    measures: {tonnes: sum(tonnes)}", 1), []string{"load"}, "", `"lifts":100`, `"tonnes":80}`},
		{"another field that nobody reads", strings.Replace(versioned, "fields: {", "fields: {driver: string, ", 1), nil, "", `"lifts":100`, `"tonnes":200}`},
		{"another kind of what is read", strings.Replace(versioned, "tonnes: double", "tonnes: int", 1), nil, "", `"lifts":100`, `"tonnes":null}`},
		{"a step is gone, not said", strings.Replace(strings.Replace(versioned, "  load:\n    from: lifts\n    key: [crane]\n    window: {tumbling: 1h}\n    measures: {tonnes: sum(tonnes)}\n", "", 1), "  loads: {from: load, via: file, with: {path: out/loads/}}\n", "", 1), nil, "step load", "", ""},
		{"another source, not said", strings.Replace(versioned, "path: in.ndjson", "path: ./in.ndjson", 1), nil, "source lifts", "", ""},
		{"a new step", strings.Replace(versioned, "sinks:", "  more:\n    from: lifts\n    key: [crane]\n    window: {tumbling: 2h}\n    measures: {lifts: count()}\nsinks:", 1), nil, "", `"lifts":100`, `"tonnes":200}`},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			write(dir, 0, 60)
			if err := runUntil(t, dir, versioned, 60); err != nil {
				t.Fatal(err)
			}
			j, err := job.Parse(filepath.Join(dir, "job.yaml"), c.document, job.Options{})
			if err != nil {
				t.Fatal(err)
			}
			parts, epoch, _, err := Kept(j, filepath.Join(dir, "checkpoints"), 0)
			if err != nil || epoch == 0 {
				t.Fatalf("kept: epoch %d, %v", epoch, err)
			}
			must := ""
			for _, p := range parts {
				if p.Must {
					must += p.Kind + " " + p.Name
				}
			}
			if len(c.drop) == 0 && must != c.refused || len(c.drop) > 0 && must != "step "+c.drop[0] {
				t.Errorf("what must be dropped is %q, want %q", must, c.refused)
			}
			write(dir, 60, 100)
			write(dir, 3700, 3701) // closes the hour
			read := int64(101)
			if c.document != versioned && !strings.Contains(c.name, "comments") {
				read = 41 // counts are of a version
			}
			err = runUntil(t, dir, c.document, read, c.drop...)
			if c.refused != "" {
				if err == nil || !strings.Contains(err.Error(), c.refused) || !strings.Contains(err.Error(), "--leave-behind") {
					t.Errorf("the start gives %v, want a refusal that names %s and --leave-behind", err, c.refused)
				}
				return
			}
			if err != nil {
				t.Fatal(err)
			}
			if got := rows(filepath.Join(dir, "out/hours")); !strings.Contains(got, c.hours) {
				t.Errorf("hours %s, want %s", got, c.hours)
			}
			if got := rows(filepath.Join(dir, "out/loads")); !strings.Contains(got, c.loads) {
				t.Errorf("loads %s, want %s", got, c.loads)
			}
		})
	}
}

// TestInheritedRows: a run that goes on from a checkpoint of another version, with rows that wait in a step, comes to its end: they came in before its counts began.
func TestInheritedRows(t *testing.T) {
	dir := t.TempDir()
	var text strings.Builder
	for i := range 20 {
		fmt.Fprintf(&text, `{"crane":"C1","tonnes":2,"at":%d}`+"\n", 1795000000+i)
	}
	if err := os.WriteFile(filepath.Join(dir, "in.ndjson"), []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	waits := strings.Replace(versioned, "  hour:\n", "  ordered: {from: lifts, key: [crane], order: time, remember: {seen: {initial: 0, next: seen + 1}}, forget: 1d}\n  hour:\n", 1)
	if err := runUntil(t, dir, waits, 20); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(dir, "job.yaml"), strings.Replace(waits, "sinks:", "  more: {from: lifts, key: [crane], window: {tumbling: 2h}, measures: {lifts: count()}}\nsinks:", 1), job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	drain := make(chan struct{})
	close(drain)
	res, err := Run(t.Context(), j, Options{Checkpoints: filepath.Join(dir, "checkpoints"), Drain: drain})
	if err != nil || !res.Finished || len(res.Unbalanced) > 0 {
		t.Errorf("finished %v, %v; counts of %v do not add up", res.Finished, err, res.Unbalanced)
	}
	if c := res.Figures.Steps[0]; c.In != 0 || c.Used == 0 {
		t.Errorf("no row has waited: %+v", c)
	}
}
