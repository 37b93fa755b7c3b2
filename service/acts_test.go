package service

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undertide/core/engine"
	"undertide/core/step"
	"undertide/postgres"
)

// stuck is a step whose lanes wait, as for a disk that does not answer, until they are let go.
type stuck struct {
	step.Keyed
	free <-chan struct{}
	here chan<- bool
}

func (s stuck) NewLane(o step.LaneOptions) step.Lane {
	return stuckLane{s.Keyed.NewLane(o), s.free, s.here}
}

type stuckLane struct {
	step.Lane
	free <-chan struct{}
	here chan<- bool
}

func (l stuckLane) Take(x *step.Exchange, lane int, t *step.Turn, out step.Out) {
	select {
	case l.here <- true:
	default:
	}
	<-l.free
	l.Lane.Take(x, lane, t, out)
}

// TestStuckRun: a run that cannot be stopped has failed, says why, and its job can be changed, started and deleted; while
// it is waited for, others hear at once that the job is busy. What the run does once it is let go counts no more.
func TestStuckRun(t *testing.T) {
	free, here := make(chan struct{}), make(chan bool, 1)
	var hold sync.Once
	base, dir := servingWith(t, Options{patience: 700 * time.Millisecond, graph: func(_ string, g *engine.Graph) {
		hold.Do(func() { g.Steps[1].Keyed = stuck{g.Steps[1].Keyed, free, here} }) // the first run
	}})
	call(t, base, "POST", "/jobs", "application/yaml", fmt.Sprintf(simulated, filepath.Join(dir, "out")))
	call(t, base, "POST", "/jobs/lifts/runs", "application/json", "")
	<-here
	stopped := make(chan string, 1)
	began := time.Now()
	go func() { stopped <- call(t, base, "POST", "/jobs/lifts/stop", "", "") }()
	until(t, "the job is stopping", func() bool { return strings.Contains(call(t, base, "GET", "/jobs/lifts", "", ""), `"stopping"`) })
	for _, ask := range []struct{ method, path string }{{"POST", "/jobs/lifts/stop"}, {"POST", "/jobs/lifts/restart"}, {"POST", "/jobs/lifts/runs"}, {"DELETE", "/jobs/lifts"}} {
		at := time.Now()
		if text := call(t, base, ask.method, ask.path, "", ""); !strings.Contains(text, `"code":"job-busy"`) || time.Since(at) > 300*time.Millisecond {
			t.Errorf("%s %s of a busy job after %v: %s", ask.method, ask.path, time.Since(at), text)
		}
	}
	if text := <-stopped; !strings.Contains(text, `"status":"failed"`) || !strings.Contains(text, "the run does not stop: after 700ms it waits for") || time.Since(began) > 5*time.Second {
		t.Errorf("stop says after %v: %s", time.Since(began), text)
	}
	if text := call(t, base, "POST", "/jobs/lifts/runs", "application/json", ""); !strings.Contains(text, "DATA/checkpoints/lifts/1 is in use by another run") || strings.Contains(text, dir) {
		t.Errorf("a start over what the lost run holds: %s", text)
	}
	if text := call(t, base, "POST", "/jobs/lifts/runs", "application/json", `{"resume":"fresh"}`); !strings.Contains(text, "is being written by another run of sink loads") {
		t.Errorf("a start anew: %s", text)
	}
	close(free)
	until(t, "what the lost run held is free", func() bool {
		return strings.Contains(call(t, base, "POST", "/jobs/lifts/runs", "application/json", ""), `"status":"running"`)
	})
	if text := call(t, base, "GET", "/runs/1", "", ""); !strings.Contains(text, `"status":"failed"`) {
		t.Errorf("the lost run is now %s", text)
	}
	call(t, base, "POST", "/jobs/lifts/stop", "", "")
	if text := call(t, base, "DELETE", "/jobs/lifts", "", ""); text != "" {
		t.Errorf("the job is deleted: %s", text)
	}
}

// TestChangesAtOnce: whatever is asked of a job at the same time, each answer is one that some order of the changes
// gives, and what is left fits together.
func TestChangesAtOnce(t *testing.T) {
	base, dir := serving(t)
	document := fmt.Sprintf(simulated, filepath.Join(dir, "out"))
	asks := []struct{ method, path, body string }{
		{"POST", "/jobs", document}, {"POST", "/jobs", strings.Replace(document, "tonnes > 1.0", "tonnes > 2.0", 1)}, {"POST", "/jobs", document},
		{"DELETE", "/jobs/lifts", ""}, {"DELETE", "/jobs/lifts", ""}, {"POST", "/jobs/lifts/runs", ""}, {"POST", "/jobs/lifts/stop", ""}, {"POST", "/jobs/lifts/restart", ""},
	}
	allowed := map[string]bool{"": true, "no-such-job": true, "job-busy": true, "already-running": true, "not-running": true, "still-running": true, "start-failed": true}
	var all sync.WaitGroup
	var mu sync.Mutex
	codes := map[string]int{}
	for n := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(n), 12))
			for range 60 {
				a := asks[r.IntN(len(asks))]
				req, err := http.NewRequest(a.method, base+"/api/v1"+a.path, strings.NewReader(a.body))
				if err != nil {
					t.Error(err)
					return
				}
				req.Header.Set("Content-Type", "application/yaml")
				res, err := http.DefaultClient.Do(req)
				if err != nil {
					t.Error(err)
					return
				}
				text, err := io.ReadAll(res.Body)
				res.Body.Close()
				code := ""
				if res.StatusCode >= 400 {
					_, code, _ = strings.Cut(string(text), `"code":"`)
					code, _, _ = strings.Cut(code, `"`)
				}
				mu.Lock()
				codes[code]++
				mu.Unlock()
				// A start fails only where its document is that of other checkpoints.
				if err != nil || !allowed[code] || code == "start-failed" && !strings.Contains(string(text), "another text of job") && !strings.Contains(string(text), "does not fit this version") {
					t.Errorf("%s %s: %v %d %s", a.method, a.path, err, res.StatusCode, text)
				}
			}
		})
	}
	all.Wait()
	if codes[""] < 50 {
		t.Errorf("the answers are %v", codes)
	}
	call(t, base, "POST", "/jobs/lifts/stop", "", "")
	if text := call(t, base, "DELETE", "/jobs/lifts", "", ""); text != "" && !strings.Contains(text, "no-such-job") {
		t.Errorf("the job is deleted: %s", text)
	}
	if text := call(t, base, "GET", "/jobs", "", ""); !strings.Contains(text, `"items":[]`) {
		t.Errorf("jobs are left: %s", text)
	}
	if _, err := os.Stat(filepath.Join(dir+".data", "checkpoints", "lifts")); err == nil {
		t.Error("checkpoints of the deleted job are left")
	}
	if text := call(t, base, "POST", "/jobs", "application/yaml", document); !strings.Contains(text, `"number":1`) {
		t.Errorf("the job is saved again: %s", text)
	}
}

// TestEnding: while the service ends, changes are refused before its runs are halted, and what there is can be looked at
// until they have stopped. The memory that it may take is told to the runtime.
func TestEnding(t *testing.T) {
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	free, here := make(chan struct{}), make(chan bool, 1)
	ctx, cancel := context.WithCancel(context.Background())
	ready, ended := make(chan string, 1), make(chan error, 1)
	go func() {
		ended <- Serve(ctx, Options{Listen: "127.0.0.1:0", Data: dir + ".data", Files: []string{dir}, Ready: func(a string) { ready <- a }, patience: 2 * time.Second,
			graph: func(_ string, g *engine.Graph) { g.Steps[1].Keyed = stuck{g.Steps[1].Keyed, free, here} }})
	}()
	base := <-ready
	if most := debug.SetMemoryLimit(-1); most == math.MaxInt64 {
		t.Error("the runtime does not know how much memory there is")
	}
	document := fmt.Sprintf(simulated, filepath.Join(dir, "out"))
	call(t, base, "POST", "/jobs", "application/yaml", document)
	call(t, base, "POST", "/jobs/lifts/runs", "application/json", "")
	<-here
	cancel()
	until(t, "changes are refused", func() bool {
		return strings.Contains(call(t, base, "POST", "/jobs", "application/yaml", strings.Replace(document, "1.0", "2.0", 1)), `"code":"service-stopping"`)
	})
	for _, path := range []string{"/jobs/lifts", "/jobs/lifts/versions", "/status"} {
		if text := call(t, base, "GET", path, "", ""); strings.Contains(text, `"code"`) || text == "" {
			t.Errorf("%s while the run stops: %s", path, text)
		}
	}
	if text := call(t, base, "POST", "/jobs/lifts/runs", "application/json", ""); !strings.Contains(text, `"code":"service-stopping"`) {
		t.Errorf("a start while the service ends: %s", text)
	}
	close(free)
	if err := <-ended; err != nil {
		t.Error(err)
	}
}

// TestOwnFaults: what is wrong inside of the service is in its log, under the number that the answer has; the answer
// tells nothing of tables, statements or paths.
func TestOwnFaults(t *testing.T) {
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	pg, err := postgres.Start(context.Background(), filepath.Join(dir, "postgres"), "", slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pg.Stop)
	var log bytes.Buffer
	var mu sync.Mutex
	base, files := servingWith(t, Options{Database: pg.URL(), Log: slog.New(slog.NewTextHandler(lockedWriter{&mu, &log}, nil))})
	call(t, base, "POST", "/jobs", "application/yaml", fmt.Sprintf(simulated, filepath.Join(files, "out")))
	c, err := pgx.Connect(context.Background(), pg.URL())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if _, err := c.Exec(context.Background(), "DROP TABLE versions; DROP TABLE history; DROP TABLE secrets"); err != nil {
		t.Fatal(err)
	}
	for _, ask := range []struct{ method, path, kind, body string }{
		{"GET", "/jobs/lifts/versions", "", ""}, {"GET", "/jobs/lifts/history", "", ""}, {"GET", "/jobs/lifts/versions/1", "", ""}, {"POST", "/jobs/lifts/runs", "application/json", ""},
		{"PUT", "/secrets/pass", "application/json", `{"text":"ebb-and-flow"}`}, {"POST", "/jobs", "application/yaml", strings.Replace(fmt.Sprintf(simulated, filepath.Join(files, "out")), "1.0", "2.0", 1)},
	} {
		text := call(t, base, ask.method, ask.path, ask.kind, ask.body)
		_, id, _ := strings.Cut(text, `"request":"`)
		id, _, _ = strings.Cut(id, `"`)
		mu.Lock()
		said := log.String()
		mu.Unlock()
		if !strings.Contains(text, `"code":"internal"`) || id == "" || !strings.Contains(said, "request="+id) {
			t.Errorf("%s %s: %s", ask.method, ask.path, text)
		}
		for _, inside := range []string{"SQLSTATE", "42P01", "relation", "versions\"", dir, "ebb-and-flow"} {
			if strings.Contains(text, inside) {
				t.Errorf("%s %s tells of %s: %s", ask.method, ask.path, inside, text)
			}
		}
	}
	mu.Lock()
	defer mu.Unlock()
	if !strings.Contains(log.String(), "42P01") || strings.Contains(log.String(), "ebb-and-flow") {
		t.Errorf("the log:\n%s", log.String())
	}
}

// lockedWriter is a writer for several.
type lockedWriter struct {
	mu *sync.Mutex
	w  io.Writer
}

func (l lockedWriter) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.w.Write(b)
}

// TestDrainGoesOn: a run that was told to end its sources ends them, too, where another start of the service goes on with it.
func TestDrainGoesOn(t *testing.T) {
	dir, database := ownRecords(t)
	files := filepath.Join(dir, "files")
	if err := os.Mkdir(files, 0o755); err != nil {
		t.Fatal(err)
	}
	base, end := servingIn(t, files, Options{Database: database})
	call(t, base, "POST", "/jobs", "application/yaml", fmt.Sprintf(simulated, filepath.Join(files, "out")))
	call(t, base, "POST", "/jobs/lifts/runs", "application/json", "{}")
	end()
	c, err := pgx.Connect(context.Background(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close(context.Background())
	if done, err := c.Exec(context.Background(), "UPDATE runs SET drains = true WHERE wanted"); err != nil || done.RowsAffected() != 1 { // as it is where the service ends before the run has
		t.Fatal(done, err)
	}
	base, end = servingIn(t, files, Options{Database: database})
	defer end()
	until(t, "the run has come to its end", func() bool {
		return strings.Contains(call(t, base, "GET", "/jobs/lifts", "", ""), `"status":"finished"`)
	})
	// To ask for it notes it.
	call(t, base, "POST", "/jobs/lifts/runs", "application/json", `{"resume":"fresh"}`)
	call(t, base, "POST", "/jobs/lifts/drain", "application/json", "{}")
	until(t, "it is noted", func() bool {
		var n int
		if err := c.QueryRow(context.Background(), "SELECT count(*) FROM runs WHERE drains AND status = 'finished'").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n == 2
	})
}
