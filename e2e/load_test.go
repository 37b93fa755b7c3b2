package e2e

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// listen opens a stream of server-sent events and reads it until the test or stop ends it; lines are counted.
func (s *serving) listen(ctx context.Context, path string) (status int, lines func() int) {
	s.t.Helper()
	r, err := http.NewRequestWithContext(ctx, "GET", s.address+path, nil)
	if err != nil {
		s.t.Fatal(err)
	}
	r.Header.Set("Accept", "text/event-stream")
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		s.t.Fatal(err)
	}
	var mu sync.Mutex
	n := 0
	go func() {
		defer res.Body.Close()
		in := bufio.NewScanner(res.Body)
		in.Buffer(nil, 1<<20)
		for in.Scan() {
			mu.Lock()
			n++
			mu.Unlock()
		}
	}()
	return res.StatusCode, func() int {
		mu.Lock()
		defer mu.Unlock()
		return n
	}
}

// TestLookingCostsLittle: ten streams that filter the rows of a source and of a step slow a job by a tenth at most. What counts is
// how long the service had a CPU, since other things run on the machine too; and of some runs of each kind, in turn, the least.
func TestLookingCostsLittle(t *testing.T) {
	dir := open(t)
	const rows = 4_000_000
	first := write(t, dir, "levels-1.ndjson", readings(rows))
	for n := 2; n <= 4; n++ { // read again under other names: a run takes seconds, beside which opening ten streams is nothing
		if err := os.Link(first, filepath.Join(dir, fmt.Sprintf("levels-%d.ndjson", n))); err != nil {
			t.Fatal(err)
		}
	}
	s := serve(t, dir)
	s.must("save", write(t, dir, "job.yaml", fmt.Sprintf(`undertide: 1
job: looked
settings: {checkpoint: {every: 1s}}
sources:
  levels: {via: file, with: {path: '%[1]s/levels-*.ndjson'}, fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}, event_time: read_at, watermark: {margin: 2s, ahead: none}}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {n: count(), mean_m: mean(level_m)}}
sinks:
  means: {from: minute, via: file, with: {path: %[1]s/means.ndjson}}
`, dir)))
	took := func(streams int) time.Duration {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		began := s.process.cpu(t)
		s.must("start", "looked", "--fresh")
		id := s.job("looked").Run.ID
		for n := range streams {
			step := []string{"levels", "minute"}[n%2]
			if code, _ := s.listen(ctx, fmt.Sprintf("/api/v1/runs/%d/steps/%s/rows?key=gauge=G%02d", id, step, n)); code != 200 {
				t.Fatalf("a stream is answered with %d", code)
			}
		}
		s.waitStatus("looked", "finished")
		return s.process.cpu(t) - began
	}
	took(0) // the file comes into memory
	alone, looked := time.Hour, time.Hour
	for range 12 {
		a, l := took(0), took(10)
		alone, looked = min(alone, a), min(looked, l)
		t.Logf("alone %v of a CPU, looked at by ten streams %v", a, l)
		if float64(looked) < 1.1*float64(alone) {
			break
		}
	}
	if float64(looked) > 1.1*float64(alone) {
		t.Errorf("a run takes %v of a CPU alone, and %v with ten streams", alone, looked)
	}
}

// TestLongRows: 600 MB of rows of 20 kB, in three steps, cost a service little more memory than a run without anybody
// who may look; the last rows can be seen when the job has ended.
func TestLongRows(t *testing.T) {
	t.Parallel()
	dir := open(t)
	line := `{"text":"` + strings.Repeat("x", 20_000) + `","at":1767225600000}` + "\n"
	write(t, dir, "long.ndjson", strings.Repeat(line, 30_000)) // 600 MB
	s := serve(t, dir)
	s.must("save", write(t, dir, "job.yaml", fmt.Sprintf(`undertide: 1
job: long
settings: {buffer: 64MiB}
sources:
  long: {via: file, with: {path: %[1]s/long.ndjson}, fields: {text: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 1s}}
steps:
  same: {from: long, where: size(text) > 1}
  again: {from: same, where: size(text) > 2}
sinks:
  out: {from: again, via: file, with: {path: %[1]s/out.ndjson}}
`, dir)))
	s.must("start", "long")
	s.waitStatus("long", "finished")
	c := exec.Command(binary, "run", "job.yaml", "-q")
	c.Dir = dir
	finish(t, c).want(t, 0)
	alone := int(c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10)
	if m := s.memory(t); m > alone+500 {
		t.Errorf("the service has held %d MiB, and the same run without looking %d", m, alone)
	}
	if o := s.must("rows", "long", "again", "--limit", "5", "--format", "json"); strings.Count(o.out, "\n") != 5 {
		t.Errorf("rows of a job that has ended: %.200s", o.out)
	}
}

// TestBounds: more streams than the service takes are told to come again; who sends a request slowly, or does not read,
// is let go.
func TestBounds(t *testing.T) {
	t.Parallel()
	s := serve(t, open(t))
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	codes := map[int]int{}
	for range 203 {
		code, _ := s.listen(ctx, "/api/v1/jobs")
		codes[code]++
	}
	if codes[200] != 200 || codes[429] != 3 {
		t.Errorf("203 streams get the answers %v", codes)
	}
	if code, text, header := s.get("/api/v1/jobs", "Accept", "text/event-stream"); code != 429 || header.Get("Retry-After") == "" || !strings.Contains(text, "too many streams") {
		t.Errorf("one stream too many: %d %v %s", code, header, text)
	}
	cancel()
	eventually(t, 10*time.Second, "there is room again", func() bool {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		code, _ := s.listen(ctx, "/api/v1/jobs")
		return code == 200
	})
	c, err := net.Dial("tcp", strings.TrimPrefix(s.address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Write([]byte("GET /api/v1/jobs HTTP/1.1\r\nHost: local")); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	_ = c.SetReadDeadline(began.Add(20 * time.Second))
	if _, err := c.Read(make([]byte, 1000)); err == nil || time.Since(began) > 15*time.Second {
		t.Errorf("a request that never ends is held for %v: %v", time.Since(began), err)
	}
}

// TestCannotRun: what cannot run has failed within seconds, with the cause; start does not say that it runs.
func TestCannotRun(t *testing.T) {
	dir := open(t)
	s := serve(t, dir)
	write(t, dir, "levels.ndjson", readings(100))
	write(t, dir, "taken", "a file where a folder should be\n")
	for name, c := range map[string]struct{ source, sink, want string }{
		"no file":   {filepath.Join(dir, "none.ndjson"), filepath.Join(dir, "out/"), "no such file"},
		"a folder":  {dir, filepath.Join(dir, "out/"), "is a folder"},
		"no folder": {filepath.Join(dir, "levels.ndjson"), filepath.Join(dir, "taken/out.ndjson"), "taken"},
	} {
		s.must("save", write(t, dir, "job.yaml", fileJob(c.source, c.sink)))
		began := time.Now()
		o := s.run("start", "files", "--fresh")
		o.want(t, 1, c.want)
		if j := s.job("files"); j.Status != "failed" || !strings.Contains(j.Run.Error, c.want) || time.Since(began) > 5*time.Second {
			t.Errorf("%s: after %v the job is %s: %s", name, time.Since(began), j.Status, j.Run.Error)
		}
	}
}

// TestStartsSoon: from the start of the program to the first row of a small file it takes less than 50 ms, as the best of some tries says: other
// things run on the machine too.
func TestStartsSoon(t *testing.T) {
	dir := open(t)
	write(t, dir, "levels.ndjson", readings(1000))
	write(t, dir, "job.yaml", `undertide: 1
job: soon
sources:
  levels: {via: file, with: {path: levels.ndjson}, fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}, event_time: read_at, watermark: {margin: 2s}}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {n: count(), mean_m: mean(level_m)}}
sinks:
  means: {from: minute, via: file, with: {path: "-"}}
`)
	best := time.Hour
	for range 60 {
		c := exec.Command(binary, "run", "job.yaml", "-q")
		c.Dir = dir
		out, err := c.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		began := time.Now()
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewReader(out)
		first, err := lines.ReadString('\n')
		best = min(best, time.Since(began))
		if err != nil || !strings.Contains(first, `"mean_m":`) {
			t.Fatalf("the first row is %q: %v", first, err)
		}
		if _, err := lines.WriteTo(io.Discard); err != nil {
			t.Fatal(err)
		}
		if err := c.Wait(); err != nil {
			t.Fatal(err)
		}
		if best < 50*time.Millisecond {
			break
		}
	}
	t.Logf("the first row came after %v", best)
	if best >= 50*time.Millisecond {
		t.Errorf("the first row came after %v", best)
	}
}
