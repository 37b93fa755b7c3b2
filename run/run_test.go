package run_test

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/job"
	"undertide/run"
)

var rounds = flag.Int("rounds", 12, "random jobs compared with the model")

// randomCase makes a job and its partitions' events.
func randomCase(seed uint64) (*modelJob, map[string][]string) {
	r := rand.New(rand.NewPCG(seed, 99))
	j := &modelJob{where: r.IntN(2) == 0, set: r.IntN(2) == 0, margin: []int64{0, 1, 50_000, 2_000_000, 60_000_000}[r.IntN(5)]}
	j.key = [][]string{nil, {"s"}, {"b"}, {"s", "b"}}[r.IntN(4)]
	j.size = []int64{1000, 7_000, 1_000_000, 3_600_000_000, 12_345_678}[r.IntN(5)]
	if r.IntN(2) == 0 {
		j.shift = r.Int64N(j.size)
	}
	if seed%3 == 0 { // whole milliseconds throughout, so that watermarks meet window ends exactly
		j.margin = []int64{0, 3000, 20_000}[r.IntN(3)]
		j.size, j.shift = []int64{1000, 5000, 50_000}[r.IntN(3)], 0
	}
	base := int64(1_767_225_600_000) // ms
	if r.IntN(4) == 0 {
		base = -5000 // around 1970
	}
	now := time.Now().UnixMilli()
	if r.IntN(4) == 0 {
		j.ahead = (now + 3_600_000) * 1000
	}
	parts := map[string][]string{}
	disorder := []int64{1, 10, 2000, 100_000}[r.IntN(4)]
	count, sizes := 1+r.IntN(4), []int{0, 1, 100, 4096, 9000}
	if seed%3 == 0 {
		disorder, count, sizes = 10+r.Int64N(60), 1+r.IntN(2), sizes[2:]
	}
	for p := range count {
		n := sizes[r.IntN(len(sizes))]
		name := fmt.Sprintf("part-%d.ndjson", p)
		parts[name] = []string{}
		pace := 1 + r.Int64N(20)
		for i := range n {
			at := base + int64(i)*pace - r.Int64N(disorder)
			f := []string{fmt.Sprintf(`"t":%d`, at)}
			switch r.IntN(60) {
			case 0:
				f[0] = `"t":null`
			case 1:
				f[0] = `"t":"soon"`
			case 2:
				f[0] = fmt.Sprintf(`"t":%d`, now+10*3_600_000) // far ahead of the clock
				if j.ahead == 0 {
					f[0] = `"u":1`
				}
			case 3:
				f = append(f, `"x":tru`)
			}
			if r.IntN(20) > 0 {
				f = append(f, fmt.Sprintf(`"s":"key %d"`, r.IntN(8)))
			}
			if r.IntN(20) > 0 {
				v := int64(r.IntN(7))
				if r.IntN(30) == 0 {
					v = (1 << 62) + r.Int64N(1<<61) // sums that leave 64 bits
				}
				f = append(f, fmt.Sprintf(`"b":%d`, v))
			}
			if r.IntN(20) > 0 {
				f = append(f, `"x":`+jsonText(r.NormFloat64()*3))
			}
			r.Shuffle(len(f), func(a, b int) { f[a], f[b] = f[b], f[a] })
			parts[name] = append(parts[name], "{"+strings.Join(f, ",")+"}")
		}
	}
	return j, parts
}

func writeParts(t *testing.T, parts map[string][]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, lines := range parts {
		text := strings.Join(lines, "\n")
		if len(lines) > 0 && len(lines)%2 == 0 { // a last line without a newline is read
			text += "\n"
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

func readLines(t *testing.T, path string) []string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	if len(text) == 0 {
		return []string{}
	}
	slices.Sort(lines)
	return lines
}

func rejectCounts(t *testing.T, dir string) map[string]int {
	t.Helper()
	out := map[string]int{}
	for _, name := range []string{"bad.ndjson", "bad-useful.ndjson", "bad-windows.ndjson"} {
		for _, l := range readLines(t, filepath.Join(dir, name)) {
			var r struct{ At, Reason, Message, Event, Partition string }
			if err := json.Unmarshal([]byte(l), &r); err != nil {
				t.Fatalf("reject %s: %v", l, err)
			}
			if r.Message == "" || r.Event == "" || r.Partition == "" {
				t.Errorf("the reject %s lacks message, event or partition", l)
			}
			out[r.At+" "+r.Reason]++
		}
	}
	return out
}

// checkAgainst compares what a run left in dir with the model.
func checkAgainst(t *testing.T, want modelResult, dir, how string) {
	t.Helper()
	compare(t, how+": rows", readLines(t, filepath.Join(dir, "rows.ndjson")), want.rows)
	compare(t, how+": late rows", readLines(t, filepath.Join(dir, "late.ndjson")), want.late)
	if got := rejectCounts(t, dir); !maps.Equal(got, want.rejects) {
		t.Errorf("%s: rejects are %v, the model has %v", how, got, want.rejects)
	}
}

func compare(t *testing.T, what string, got, want []string) {
	t.Helper()
	if slices.Equal(got, want) {
		return
	}
	t.Errorf("%s: %d lines, the model has %d", what, len(got), len(want))
	shown := 0
	in := map[string]int{}
	for _, l := range want {
		in[l]++
	}
	for _, l := range got {
		if in[l]--; in[l] < 0 && shown < 3 {
			t.Errorf("  only the engine: %s", l)
			shown++
		}
	}
	for l, n := range in {
		if n > 0 && shown < 6 {
			t.Errorf("  only the model:  %s", l)
			shown++
		}
	}
}

// TestAgainstModel compares random jobs and streams with the reference model, under other lanes,
// workers and block sizes.
func TestAgainstModel(t *testing.T) {
	first := uint64(1)
	for seed := first; seed < first+uint64(*rounds); seed++ {
		j, parts := randomCase(seed)
		in := writeParts(t, parts)
		want := j.run(parts)
		for _, opt := range []run.Options{{Lanes: 1, Workers: 1}, {Lanes: 2, Workers: 2, Block: 100}, {Lanes: 3, Workers: 1, Block: 1 << 14}} {
			dir := t.TempDir()
			how := fmt.Sprintf("seed %d, lanes %d, workers %d, block %d", seed, opt.Lanes, opt.Workers, opt.Block)
			doc, err := job.Parse("model.yaml", j.document(in+"/part-*.ndjson", dir), job.Options{})
			if err != nil {
				t.Fatalf("%s: %v", how, err)
			}
			res, err := run.Run(context.Background(), doc, opt)
			if err != nil || !res.Finished {
				t.Fatalf("%s: finished %v, %v", how, res.Finished, err)
			}
			if len(res.Unbalanced) > 0 {
				t.Errorf("%s: counts of %v do not add up", how, res.Unbalanced)
			}
			checkAgainst(t, want, dir, how)
			if got := res.Figures.Steps[0].Dropped; got != int64(want.dropped) {
				t.Errorf("%s: dropped %d, the model %d", how, got, want.dropped)
			}
		}
		if t.Failed() {
			t.Fatalf("seed %d fails; repeat with: go test ./run -run TestAgainstModel -rounds %d; job %+v", seed, seed, *j)
		}
	}
}

// TestStopsAndResumes stops runs in the middle, again and again, goes on with other lanes, and
// compares what comes out in the end with the model.
func TestStopsAndResumes(t *testing.T) {
	for seed := uint64(100); seed < 100+uint64(*rounds)/2; seed++ {
		j, parts := randomCase(seed)
		in := writeParts(t, parts)
		want := j.run(parts)
		dir, state := t.TempDir(), t.TempDir()
		doc, err := job.Parse("model.yaml", j.document(in+"/part-*.ndjson", dir), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		r := rand.New(rand.NewPCG(seed, 5))
		starts := 0
		for {
			ctx, cancel := context.WithCancel(context.Background())
			watch := engine.NewWatch()
			stopAfter := r.Int64N(6000)
			go func() { // stops when so many more events have been read
				var base int64 = -1
				for ctx.Err() == nil {
					f := watch.Figures()
					if len(f.Sources) > 0 {
						if base < 0 {
							base = f.Sources[0].Read
						}
						if f.Sources[0].Read-base >= stopAfter && starts < 8 {
							cancel()
						}
					}
					time.Sleep(50 * time.Microsecond)
				}
			}()
			res, err := run.Run(ctx, doc, run.Options{Lanes: 1 + r.IntN(3), Checkpoints: state, EveryTurns: 1, Watch: watch})
			cancel()
			if err != nil {
				t.Fatalf("seed %d, start %d: %v", seed, starts, err)
			}
			starts++
			if res.Finished {
				if len(res.Unbalanced) > 0 {
					t.Errorf("seed %d: counts of %v do not add up after %d starts", seed, res.Unbalanced, starts)
				}
				break
			}
		}
		checkAgainst(t, want, dir, fmt.Sprintf("seed %d, %d starts", seed, starts))
		again, err := run.Run(context.Background(), doc, run.Options{Checkpoints: state})
		if err != nil || !again.AlreadyFinished {
			t.Errorf("seed %d: starting the finished run gives %v, %v; want that it says so", seed, again.AlreadyFinished, err)
		}
		if t.Failed() {
			t.FailNow()
		}
	}
}
