package harbour

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/job"
	"undertide/pace"
	"undertide/run"
	"undertide/try"
)

// TestExamples: the examples of all documents hold.
func TestExamples(t *testing.T) {
	known, err := job.LoadConnections("../" + job.ConnectionsFile)
	if err != nil {
		t.Fatal(err)
	}
	paths, err := filepath.Glob("*/*.yaml")
	if err != nil {
		t.Fatal(err)
	}
	examples := 0
	for _, p := range paths {
		j, err := job.Load(p, job.Options{Connections: known})
		if err != nil {
			t.Error(err)
			continue
		}
		results, err := try.Examples(context.Background(), j)
		if err != nil {
			t.Errorf("%s: %v", p, err)
		}
		for _, r := range results {
			examples++
			if len(r.Differences) > 0 {
				t.Errorf("%s:%d: %s: %s", p, r.Line, r.About, strings.Join(r.Differences, "\n"))
			}
		}
	}
	if examples < 15 {
		t.Errorf("only %d examples were found", examples)
	}
}

// TestFaults: each fault's document has the alarm that is expected of it, and its job and topic have its name.
func TestFaults(t *testing.T) {
	known, err := job.LoadConnections("../" + job.ConnectionsFile)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range Faults {
		j, err := job.Parse(f.Name+".yaml", string(f.Job()), job.Options{Connections: known})
		if err != nil {
			t.Error(err)
			continue
		}
		has := slices.ContainsFunc(j.Alarms, func(a job.Alarm) bool { return a.Name == f.Alarm }) ||
			slices.ContainsFunc(job.UsualAlarms, func(u job.Usual) bool { return u.Name == f.Alarm })
		_, topic, _ := connect.Through(j.Sources[0].With)
		if !has || j.Name != "practice-"+f.Name || topic != f.Topic() {
			t.Errorf("%s: job %s reads %s, and is to have alarm %s", f.Name, j.Name, topic, f.Alarm)
		}
	}
}

// TestResume runs every job over files once at a stretch, and once stopped at every few turns and resumed from its
// checkpoint folder with another number of lanes: the files that come out hold the same lines.
func TestResume(t *testing.T) {
	data := t.TempDir()
	if err := Make(context.Background(), data); err != nil {
		t.Fatal(err)
	}
	berths, err := filepath.Abs("berths.csv")
	if err != nil {
		t.Fatal(err)
	}
	paths, err := filepath.Glob("files/*.yaml")
	if err != nil || len(paths) < 10 {
		t.Fatalf("%d jobs: %v", len(paths), err)
	}
	stopped, tried := 0, 0
	for i, p := range paths {
		if i%pace.Of(1, 2) > 0 {
			continue
		}
		tried++
		t.Run(filepath.Base(p), func(t *testing.T) {
			text, err := os.ReadFile(p)
			if err != nil {
				t.Fatal(err)
			}
			outputs := func(stops bool) map[string][]string {
				dir := t.TempDir()
				document := strings.NewReplacer("../data/out/", dir+"/out/", "../data/", data+"/", berthsFile, berths).Replace(string(text))
				j, err := job.Parse(filepath.Join(dir, "job.yaml"), document, job.Options{})
				if err != nil {
					t.Fatal(err)
				}
				for n := 1; ; n++ {
					ctx, cancel := context.WithCancel(context.Background())
					o := run.Options{Lanes: 1 + n%3, Block: 8 << 10}
					if stops {
						o.Checkpoints, o.EveryTurns = filepath.Join(dir, "checkpoints"), 1
						seen := &stopper{stop: cancel}
						seen.left.Store(100 << n) // each start gets further, so that the run comes to its end
						o.Tap = func(string, row.Schema) engine.Tap { return seen }
					}
					res, err := run.Run(ctx, j, o)
					cancel()
					if err != nil || len(res.Unbalanced) > 0 {
						t.Fatal(err, res.Unbalanced)
					}
					if res.Finished {
						if stops {
							stopped += n - 1
						}
						return lines(t, filepath.Join(dir, "out"))
					}
					if n > 200 {
						t.Fatal("the run does not come to its end")
					}
				}
			}
			want, got := outputs(false), outputs(true)
			for name, w := range want {
				if !slices.Equal(got[name], w) {
					t.Errorf("%s: %d lines after stops, want %d, or they differ", name, len(got[name]), len(w))
				}
			}
		})
	}
	t.Logf("%d stops", stopped)
	if stopped < tried {
		t.Errorf("the runs were stopped %d times in all, want once each or more", stopped)
	}
}

// stopper stops a run once it has seen some rows of it.
type stopper struct {
	stop func()
	left atomic.Int64
}

func (s *stopper) NewEncoder(row.Schema) engine.Encoder { return nil }
func (s *stopper) Take([]byte, int)                     {}
func (s *stopper) Room(rows int) int {
	if s.left.Add(-int64(rows)) <= 0 {
		s.stop()
	}
	return 0
}

// lines gives the sorted lines of each file of a folder.
func lines(t *testing.T, dir string) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	paths, err := filepath.Glob(filepath.Join(dir, "*"))
	if err != nil || len(paths) == 0 {
		t.Fatalf("nothing came out: %v", err)
	}
	for _, p := range paths {
		text, err := os.ReadFile(p)
		if err != nil {
			t.Fatal(err)
		}
		out[filepath.Base(p)] = slices.Sorted(strings.SplitSeq(string(text), "\n"))
	}
	return out
}
