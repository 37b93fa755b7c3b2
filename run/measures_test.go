package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/inside"
	"undertide/job"
)

// TestMeasuresKept: a version with other measures goes on with the windows that are open. What it then publishes is compared
// with what it publishes of all events from the start: measures that stayed are the same; those that are new, or changed, are
// null in windows that had begun, and the same in all others. With other lanes, and with little memory.
func TestMeasuresKept(t *testing.T) {
	const document = `undertide: 1
job: lifts
settings: {memory: 64MiB}
sources:
  lifts:
    via: file
    with: {path: in.ndjson, follow: true}
    fields: {crane: string, tonnes: double, at: {type: timestamp, parse: epoch_s}}
    event_time: at
    watermark: {margin: 30s, idle: 1h}
steps:
  sums: {from: lifts, key: [crane], WINDOW, measures: {MEASURES}}
sinks:
  out: {from: sums, via: file, with: {path: OUT/}REVISIONS}
`
	const before = "lifts: count(), most: max(tonnes), gone: min(tonnes), other: sum(tonnes), mean: mean(tonnes), spread: double(count()) / max(tonnes)"
	const after = "spread: double(count()) / max(tonnes), mean: mean(tonnes), lifts: count(), fresh: sum(tonnes), all: count(), other: sum(tonnes * 2.0), some: count_if(tonnes > 100.0), most: max(tonnes), ends: last(tonnes), names: count_distinct(crane)"
	stays := []string{"spread", "mean", "lifts", "most", "all"}
	fresh := []string{"fresh", "other", "some", "ends", "names"}
	for name, window := range map[string]string{
		"tumbling": "window: {tumbling: 10m}", "sliding": "window: {sliding: 10m, by: 2m}", "session": "window: {session: 90s}",
		"accepted": "window: {tumbling: 10m}, late: {accept: 5m}", "sessions accepted": "window: {session: 90s}, late: {accept: 5m}", "whole": "forget: 2400h, publish: revised, every: 50ms",
	} {
		for seed := range uint64(3) {
			t.Run(fmt.Sprint(name, " ", seed), func(t *testing.T) {
				t.Parallel()
				r := rand.New(rand.NewPCG(seed, 11))
				n := 3000
				var lines []string
				for i := range n {
					tonnes := fmt.Sprint(r.IntN(400))
					if r.IntN(10) == 0 {
						tonnes = "null"
					}
					lines = append(lines, fmt.Sprintf(`{"crane":"C%d","tonnes":%s,"at":%d}`, r.IntN(20), tonnes, 1_794_999_600+i+r.IntN(25)))
				}
				end := `{"crane":"end","tonnes":1,"at":1795100000}`
				cut := 500 + r.IntN(2000)
				dir, whole := t.TempDir(), t.TempDir()
				text := func(measures, out string) string {
					revisions := ""
					if strings.Contains(window, "late:") || strings.Contains(window, "revised") {
						revisions = ", append_revisions: true"
					}
					return strings.NewReplacer("REVISIONS", revisions, "WINDOW", window, "MEASURES", measures, "OUT", out).Replace(document)
				}
				put := func(dir string, lines []string) {
					f, err := os.OpenFile(filepath.Join(dir, "in.ndjson"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
					if err != nil {
						t.Fatal(err)
					}
					fmt.Fprintln(f, strings.Join(lines, "\n"))
					if err := f.Close(); err != nil {
						t.Fatal(err)
					}
				}
				put(dir, lines[:cut])
				if err := runUntil(t, dir, text(before, "before"), int64(cut)); err != nil {
					t.Fatal(err)
				}
				j, err := job.Parse("job.yaml", text(after, "after"), job.Options{})
				if err != nil {
					t.Fatal(err)
				}
				parts, _, _, err := Kept(j, filepath.Join(dir, "checkpoints"), 0)
				if err != nil {
					t.Fatal(err)
				}
				said := map[string]string{}
				for _, p := range parts {
					said[p.Kind+" "+p.Name] = p.What
				}
				if said["step sums"] != "kept" || said["measure sums.fresh"] != "new" || said["measure sums.other"] != "changed" || said["measure sums.gone"] != "gone" || said["measure sums.most"] != "" {
					t.Errorf("what is kept: %v", said)
				}
				put(dir, append(lines[cut:], end))
				mid := (n - cut) / 2 // the run is stopped once more: what is marked stays so
				if err := runUntil(t, dir, text(after, "after"), int64(mid)); err != nil {
					t.Fatal(err)
				}
				if err := runUntil(t, dir, strings.Replace(text(after, "after"), "settings: {", "settings: {lanes: 3, ", 1), int64(n-cut+1)); err != nil {
					t.Fatal(err)
				}
				put(whole, append(lines, end))
				if err := runUntil(t, whole, text(after, "after"), int64(n+1)); err != nil {
					t.Fatal(err)
				}
				var greatest int64
				for _, l := range lines[:cut] {
					var e struct{ At int64 }
					if err := json.Unmarshal([]byte(l), &e); err != nil {
						t.Fatal(err)
					}
					greatest = max(greatest, e.At)
				}
				got, want := published(t, filepath.Join(dir, "after")), published(t, filepath.Join(whole, "after"))
				if name == "whole" { // its rows come by the clock: what is kept is compared
					got, want = keptRows(t, dir, j), keptRows(t, whole, j)
				}
				nulls, full := 0, 0
				for id, g := range got {
					w := want[id]
					if w == nil {
						t.Fatalf("%s is published, and not of all events: %v", id, g)
					}
					for _, m := range stays {
						if g[m] != w[m] {
							t.Errorf("%s: %s is %v, want %v", id, m, g[m], w[m])
						}
					}
					started, bounded := g["window_start"].(string)
					partial := bounded && started <= time.Unix(greatest, 0).UTC().Format(time.RFC3339)
					for _, m := range fresh {
						switch {
						case partial && g[m] != nil, bounded && !partial && g[m] != w[m]:
							t.Errorf("%s: %s is %v; it had begun: %v, and of all events it is %v", id, m, g[m], partial, w[m])
						case g[m] == nil:
							nulls++
						default:
							full++
						}
					}
				}
				if len(got) < 15 || nulls == 0 && name != "whole" || full == 0 {
					t.Errorf("%d rows with %d nulls and %d values are compared", len(got), nulls, full)
				}
			})
		}
	}
}

// keptRows gives what the newest checkpoint has of the step, by key.
func keptRows(t *testing.T, dir string, j *job.Job) map[string]map[string]any {
	t.Helper()
	s, err := inside.Open(filepath.Join(dir, "checkpoints"), 0, j, "sums")
	if err != nil {
		t.Fatal(err)
	}
	all, err := s.Show(inside.Asked{})
	if err := errors.Join(err, s.Close()); err != nil {
		t.Fatal(err)
	}
	out := map[string]map[string]any{}
	for _, l := range all.Rows {
		var v map[string]any
		if err := json.Unmarshal(l, &v); err != nil {
			t.Fatal(err)
		}
		out[fmt.Sprint(v["crane"])] = v
	}
	return out
}

// published gives the rows of a folder by what identifies them.
func published(t *testing.T, dir string) map[string]map[string]any {
	t.Helper()
	paths, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]map[string]any{}
	for _, p := range paths {
		b, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range strings.Split(strings.TrimSpace(string(b)), "\n") {
			var v map[string]any
			if err := json.Unmarshal([]byte(l), &v); err != nil {
				t.Fatal(err)
			}
			out[fmt.Sprint(v["crane"], v["window_start"], v["window_end"], v["revision"])] = v
		}
	}
	return out
}
