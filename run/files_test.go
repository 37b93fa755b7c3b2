package run

import (
	"context"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/core/engine"
	"undertide/job"
	"undertide/pace"
)

var rounds = flag.Int("rounds", pace.Of(6, 2), "random jobs over long files that are compared with the reference model")

// write writes the job's partitions as files. Half of them end without a newline, and some have blank lines.
func (j *refJob) write(t *testing.T, r *rand.Rand) string {
	t.Helper()
	dir := t.TempDir()
	for _, p := range j.parts {
		var text strings.Builder
		for i, e := range p.events {
			text.WriteString(e.text)
			if i+1 < len(p.events) || r.IntN(2) == 0 {
				text.WriteString([]string{"\n", "\n\n", "\r\n"}[max(0, r.IntN(60)-57)])
			}
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("s%d-%s.ndjson", p.source, p.name)), []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, ref := range refTables {
		if err := os.WriteFile(filepath.Join(dir, ref.name+".ndjson"), []byte(strings.Join(ref.events(), "\n")), 0o644); err != nil {
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

// delivered reads what a run left in its files.
func (j *refJob) delivered(t *testing.T, dir string) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	for i, s := range j.sinks {
		out[s] = readLines(t, j.outFile(dir, i))
	}
	return out
}

// TestFiles compares random jobs over files of several turns with the reference model, under other lanes, workers and
// block sizes.
func TestFiles(t *testing.T) {
	for seed := uint64(11); seed < 11+uint64(*rounds); seed++ {
		j := longJob(seed)
		want, counts := j.model()
		in := j.write(t, rand.New(rand.NewPCG(seed, 9)))
		for _, opt := range []Options{{Lanes: 1, Workers: 1}, {Lanes: 2, Workers: 2, Block: 100}, {Lanes: 3, Workers: 1, Block: 1 << 14}} {
			how := fmt.Sprintf("seed %d, lanes %d, workers %d, block %d", seed, opt.Lanes, opt.Workers, opt.Block)
			doc, err := job.Parse("random.yaml", j.document(in), job.Options{})
			if err != nil {
				t.Fatalf("%s: %v", how, err)
			}
			res, err := Run(context.Background(), doc, opt)
			if err != nil || !res.Finished {
				t.Fatalf("%s: finished %v, %v", how, res.Finished, err)
			}
			if len(res.Unbalanced) > 0 {
				t.Errorf("%s: counts of %v do not add up", how, res.Unbalanced)
			}
			if fault := j.differs(doc, j.delivered(t, in), res.Figures, want, counts); fault != "" {
				t.Fatalf("%s; repeat with: go test ./run -run TestFiles -args -rounds %d\n%s\n%.4000s", how, seed-10, j.document(in), fault)
			}
		}
	}
}

// TestStopsAndResumes stops runs over files in the middle, again and again, goes on with other lanes, and compares what
// comes out in the end with the reference model.
func TestStopsAndResumes(t *testing.T) {
	for seed := uint64(100); seed < 100+uint64(*rounds)/2; seed++ {
		j := longJob(seed)
		r := rand.New(rand.NewPCG(seed, 5))
		in, state := j.write(t, r), t.TempDir()
		doc, err := job.Parse("random.yaml", j.document(in), job.Options{})
		if err != nil {
			t.Fatal(err)
		}
		var res Result
		starts := 0
		for !res.Finished {
			var stopAfter int64
			if starts < 8 {
				stopAfter = 1 + r.Int64N(6000)
			}
			res = runSome(t, doc, Options{Lanes: 1 + r.IntN(3), Checkpoints: state, EveryTurns: 1}, stopAfter)
			starts++
		}
		how := fmt.Sprintf("seed %d, %d starts", seed, starts)
		if len(res.Unbalanced) > 0 {
			t.Errorf("%s: counts of %v do not add up", how, res.Unbalanced)
		}
		want, counts := j.model()
		if fault := j.differs(doc, j.delivered(t, in), res.Figures, want, counts); fault != "" {
			t.Fatalf("%s\n%s\n%.4000s", how, j.document(in), fault)
		}
		again, err := Run(context.Background(), doc, Options{Checkpoints: state})
		if err != nil || !again.AlreadyFinished {
			t.Errorf("%s: starting the finished run gives %v, %v; want that it says so", how, again.AlreadyFinished, err)
		}
	}
}

// runSome runs a job until so many more events have been read, 0 for all.
func runSome(t *testing.T, doc *job.Job, opt Options, stopAfter int64) Result {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	opt.Watch = engine.NewWatch()
	if stopAfter > 0 {
		go func() {
			base := int64(-1)
			for ; ctx.Err() == nil; time.Sleep(50 * time.Microsecond) {
				read := int64(0)
				for _, s := range opt.Watch.Figures().Sources {
					read += s.Read
				}
				if base < 0 && read > 0 {
					base = read
				}
				if base >= 0 && read-base >= stopAfter {
					cancel()
				}
			}
		}()
	}
	res, err := Run(ctx, doc, opt)
	if err != nil {
		t.Fatal(err)
	}
	return res
}
