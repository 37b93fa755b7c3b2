package service

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/store"
)

// tripped is a step whose lanes panic once it is told to.
type tripped struct {
	step.Keyed
	now *atomic.Bool
}

func (s tripped) NewLane(o step.LaneOptions) step.Lane { return trippedLane{s.Keyed.NewLane(o), s.now} }

type trippedLane struct {
	step.Lane
	now *atomic.Bool
}

func (l trippedLane) Take(x *step.Exchange, lane int, t *step.Turn, out step.Out) {
	if l.now.Load() {
		var none []row.Time
		_ = none[len(x.Lanes)]
	}
	l.Lane.Take(x, lane, t, out)
}

// TestPanicOfOneJob: a job whose step panics is failed, its log has the place, and another job and the service go
// on; it starts again once the cause is gone, and so does the service.
func TestPanicOfOneJob(t *testing.T) {
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	var trip atomic.Bool
	begin := func() (base string, end func()) {
		ctx, cancel := context.WithCancel(context.Background())
		ready, ended := make(chan string, 1), make(chan error, 1)
		go func() {
			ended <- Serve(ctx, Options{Listen: "127.0.0.1:0", Data: dir + ".data", Files: []string{dir}, Ready: func(a string) { ready <- a },
				graph: func(job string, g *engine.Graph) {
					if job == "bad" {
						g.Steps[1].Keyed = tripped{g.Steps[1].Keyed, &trip}
					}
				}})
		}()
		select {
		case base = <-ready:
		case err := <-ended:
			t.Fatal(err)
		}
		return base, func() {
			cancel()
			if err := <-ended; err != nil {
				t.Error(err)
			}
		}
	}
	base, end := begin()
	document := fmt.Sprintf(simulated, filepath.Join(dir, "good"))
	call(t, base, "POST", "/jobs", "application/yaml", strings.Replace(document, "job: lifts", "job: good", 1))
	call(t, base, "POST", "/jobs", "application/yaml", strings.Replace(fmt.Sprintf(simulated, filepath.Join(dir, "bad")), "job: lifts", "job: bad", 1))
	for _, job := range []string{"good", "bad"} {
		if text := call(t, base, "POST", "/jobs/"+job+"/runs", "application/json", ""); !strings.Contains(text, `"status"`) {
			t.Fatal(text)
		}
	}
	rows := func(job string) int64 {
		var j struct {
			Figures struct {
				Steps map[string]struct {
					RowsIn int64 `json:"rows_in"`
				} `json:"steps"`
			} `json:"figures"`
		}
		var run struct {
			Run struct{ ID int64 } `json:"run"`
		}
		_ = json.Unmarshal([]byte(call(t, base, "GET", "/jobs/"+job, "", "")), &run)
		_ = json.Unmarshal([]byte(call(t, base, "GET", fmt.Sprintf("/runs/%d/figures", run.Run.ID), "", "")), &j.Figures)
		return j.Figures.Steps["second"].RowsIn
	}
	until(t, "both work", func() bool { return rows("good") > 0 && rows("bad") > 0 })
	trip.Store(true)
	until(t, "the bad job is failed and says whose fault it is", func() bool {
		text := call(t, base, "GET", "/jobs/bad", "", "")
		return strings.Contains(text, `"status":"failed"`) && strings.Contains(text, "fault of ours: runtime error: index out of range")
	})
	log, err := os.ReadFile(filepath.Join(dir+".data", "logs", "bad.ndjson"))
	if err != nil || !strings.Contains(string(log), "panic_test.go") {
		t.Errorf("the log of the job does not have the place (%v): %s", err, log)
	}
	before := rows("good")
	until(t, "the other job goes on", func() bool { return rows("good") > before+500 })
	trip.Store(false)
	if text := call(t, base, "POST", "/jobs/bad/runs", "application/json", ""); !strings.Contains(text, `"status"`) {
		t.Errorf("its folders were not let go of: %s", text)
	}
	until(t, "it works again", func() bool { return strings.Contains(call(t, base, "GET", "/jobs/bad", "", ""), `"status":"running"`) })
	end()
	base, end = begin()
	defer end()
	for _, job := range []string{"good", "bad"} {
		until(t, job+" goes on after the service started again", func() bool {
			return strings.Contains(call(t, base, "GET", "/jobs/"+job, "", ""), `"status":"running"`)
		})
	}
}

// TestCrashes counts the boots that crashed with a run at work.
func TestCrashes(t *testing.T) {
	for status, want := range map[string]int{running: 3, starting: 3, resuming: 3, stopping: 3, stopped: 0} {
		if got := crashes(store.Run{Status: status, Crashes: 2}); got != want {
			t.Errorf("%s after two: %d, want %d", status, got, want)
		}
	}
	var log strings.Builder
	r := &runner{log: slog.New(slog.NewTextHandler(&log, nil))}
	r.guard("take figures", func() { panic("boom") })
	if !strings.Contains(log.String(), "boom") || !strings.Contains(log.String(), "panic_test.go") {
		t.Errorf("the log has %s", log.String())
	}
}
