package e2e

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"
)

func sortedLines(text string) []string {
	return slices.Sorted(strings.Lines(text))
}

// TestKilledTenTimes kills a run with SIGKILL ten times; each start goes on from the checkpoints with
// another number of lanes, and the rows in the end are those of a run that was left alone. The job
// writes one file and a folder of rolled files.
func TestKilledTenTimes(t *testing.T) {
	dir := t.TempDir()
	doc := strings.Replace(levels, "every: 30ms", "every: 10ms", 1) + `  rolled: {from: minute, via: file, with: {path: rolled/, roll: {size: 1MiB}}}
  missed: {from: late of minute, via: file, with: {path: missed.ndjson}}
`
	write(t, dir, "job.yaml", doc)
	rows := int64(1_500_000)
	for ; ; rows *= 2 { // so many that there is time for ten kills, however fast the machine is
		write(t, dir, "levels.ndjson", readings(int(rows)))
		begun := time.Now()
		undertide(t, dir, "run", "job.yaml", "-q", "--out", "means=alone.ndjson", "--out", "rolled=alone/", "--out", "missed=alone-missed.ndjson").want(t, 0)
		if time.Since(begun) > time.Second || rows > 20_000_000 {
			break
		}
		for _, name := range []string{"alone.ndjson", "alone", "alone-missed.ndjson"} {
			if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
		}
	}

	for kills := range 10 {
		before := newestCheckpoint(t, dir)
		c := exec.Command(binary, "run", "job.yaml", "-q", "--checkpoints", "state", "--lanes", fmt.Sprint(1+kills%3))
		c.Dir = dir
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		if kills%4 != 3 { // else at any moment, also before anything was done
			waitFor(t, "another checkpoint", func() bool { return newestCheckpoint(t, dir) > before })
		}
		time.Sleep(time.Duration(rand.IntN(30)) * time.Millisecond)
		if err := c.Process.Kill(); err != nil {
			t.Fatalf("the run ended before it was killed %d times: %v", kills+1, err)
		}
		if err := c.Wait(); err == nil {
			t.Fatalf("the run finished before it was killed %d times; give it more rows", kills+1)
		}
		if _, err := os.Stat(filepath.Join(dir, "means.ndjson")); err == nil {
			t.Fatal("means.ndjson stands under its name though the run has not finished")
		}
	}
	last := undertide(t, dir, "run", "job.yaml", "--checkpoints", "state", "--figures", "figures.json")
	last.want(t, 0, "going on from checkpoint")
	for name, want := range map[string]string{"means.ndjson": "alone.ndjson", "missed.ndjson": "alone-missed.ndjson"} {
		if got, want := sortedLines(read(t, filepath.Join(dir, name))), sortedLines(read(t, filepath.Join(dir, want))); !slices.Equal(got, want) {
			t.Errorf("%s after ten kills has %d rows, the run that was left alone %d, or they differ", name, len(got), len(want))
		}
	}
	if got, want := folder(t, filepath.Join(dir, "rolled")), folder(t, filepath.Join(dir, "alone")); !slices.Equal(got, want) {
		t.Errorf("the folder after ten kills has %d rows, that of the run that was left alone %d, or they differ", len(got), len(want))
	}
	var f struct {
		Sources map[string]struct{ Read int64 }
		Steps   map[string]struct {
			RowsIn int64 `json:"rows_in"`
			Used   int64
			Late   struct{ Lost int64 }
		}
	}
	if err := json.Unmarshal([]byte(read(t, filepath.Join(dir, "figures.json"))), &f); err != nil {
		t.Fatal(err)
	}
	if s := f.Steps["minute"]; f.Sources["levels"].Read != rows || s.RowsIn != rows || s.Used+s.Late.Lost != s.RowsIn {
		t.Errorf("the figures after ten kills do not add up: %+v", f)
	}
	undertide(t, dir, "run", "job.yaml", "--checkpoints", "state").want(t, 0, "already finished")
}

// newestCheckpoint gives the name of the newest complete checkpoint in dir/state, "" for none.
func newestCheckpoint(t *testing.T, dir string) string {
	t.Helper()
	found, err := filepath.Glob(filepath.Join(dir, "state", "*", "manifest.json"))
	if err != nil {
		t.Fatal(err)
	}
	if len(found) == 0 {
		return ""
	}
	return found[len(found)-1]
}

// folder gives the rows of the finished files of a folder, sorted, and fails for unfinished ones.
func folder(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		switch {
		case strings.HasSuffix(e.Name(), ".part"):
			t.Errorf("%s was left unfinished", e.Name())
		case strings.HasSuffix(e.Name(), ".ndjson"):
			out = append(out, sortedLines(read(t, filepath.Join(dir, e.Name())))...)
		}
	}
	slices.Sort(out)
	return out
}

// TestPipe: rows appear as windows close, while the input is still open; a reader that goes away ends
// the run quietly.
func TestPipe(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", levels)
	c := exec.Command(binary, "run", "job.yaml", "--in", "levels=-", "--out", "means=-")
	c.Dir = dir
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.WriteString(in, readings(10_000)); err != nil {
		t.Fatal(err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil || !strings.Contains(line, `"window_start":"2026-01-01T00:00:00Z"`) && !strings.Contains(line, `"window_start":"2025-12-31T23:59:00Z"`) {
		t.Errorf("with the input still open the first row is %q, %v", line, err)
	}
	if err := out.Close(); err != nil { // as head -1 does
		t.Fatal(err)
	}
	for i := range 200 {
		if _, err := io.WriteString(in, strings.ReplaceAll(readings(4096), "17672", fmt.Sprint(17673+i))); err != nil {
			break // the run has ended, as it should
		}
	}
	in.Close()
	if err := c.Wait(); err != nil {
		t.Errorf("a reader that goes away ends the run with %v\n%s", err, said.String())
	}
	if strings.Contains(said.String(), "broken") || strings.Contains(said.String(), "goroutine") {
		t.Errorf("a reader that goes away is not a thing to report:\n%s", said.String())
	}
	sh := exec.Command("sh", "-c", "cat levels.ndjson | "+binary+" run job.yaml --in levels=- --out means=- -q | head -1")
	sh.Dir = dir
	write(t, dir, "levels.ndjson", readings(200_000))
	if o := finish(t, sh); o.status != 0 || strings.Count(o.out, "\n") != 1 || o.err != "" {
		t.Errorf("piped into head: %+v", o)
	}
}

// TestNamedPipe: a pipe under a name, such as a shell makes of <(…), is read once and whole.
func TestNamedPipe(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", levels)
	write(t, dir, "levels.ndjson", readings(20_000))
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	sh := exec.Command("sh", "-c", "cat levels.ndjson > pipe & "+binary+" run job.yaml --in levels=pipe")
	sh.Dir = dir
	finish(t, sh).want(t, 0, "finished: 20,000 events")
	undertide(t, dir, "run", "job.yaml", "-q", "--out", "means=again.ndjson").want(t, 0)
	if got, want := sortedLines(read(t, filepath.Join(dir, "means.ndjson"))), sortedLines(read(t, filepath.Join(dir, "again.ndjson"))); !slices.Equal(got, want) {
		t.Errorf("through a pipe come %d rows, from the file %d, or they differ", len(got), len(want))
	}
	undertide(t, dir, "run", "job.yaml", "--in", "levels=pipe", "--checkpoints", "state").want(t, 2, "pipe cannot be read again")
}

// TestInterrupt: SIGTERM stops with a checkpoint and status 0, and the run goes on from it.
func TestInterrupt(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "levels.ndjson", readings(3_000))
	write(t, dir, "job.yaml", strings.Replace(levels, "with: {path: levels.ndjson}", "with: {path: levels.ndjson, follow: true}", 1))
	c := exec.Command(binary, "run", "job.yaml", "--checkpoints", "state")
	c.Dir = dir
	var said strings.Builder
	c.Stderr = &said
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "rows in means.ndjson.part", func() bool {
		st, err := os.Stat(filepath.Join(dir, "means.ndjson.part"))
		return err == nil && st.Size() > 0
	})
	if err := c.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := c.Wait(); err != nil {
		t.Errorf("SIGTERM ends the run with %v\n%s", err, said.String())
	}
	if !strings.Contains(said.String(), "stopped") || !strings.Contains(said.String(), "goes on from checkpoint") {
		t.Errorf("the stop does not say how to go on:\n%s", said.String())
	}
	// The same file, now to its end: the run goes on from the checkpoint and finishes.
	undertide(t, dir, "run", "job.yaml", "--in", "levels=levels.ndjson", "--checkpoints", "state").want(t, 0, "going on from checkpoint", "finished: 3,000 events")
	undertide(t, dir, "run", "job.yaml", "-q", "--in", "levels=levels.ndjson", "--out", "means=alone.ndjson").want(t, 0)
	if got, want := sortedLines(read(t, filepath.Join(dir, "means.ndjson"))), sortedLines(read(t, filepath.Join(dir, "alone.ndjson"))); !slices.Equal(got, want) {
		t.Errorf("stopped and gone on: %d rows, in one go: %d, or they differ", len(got), len(want))
	}
}

func waitFor(t *testing.T, what string, ready func() bool) {
	t.Helper()
	for range 10_000 {
		if ready() {
			return
		}
		time.Sleep(2 * time.Millisecond)
	}
	t.Fatalf("waited 20 s for %s", what)
}

// TestMemoryFollowsWindows: ten times the rows with the same open windows take the same memory.
func TestMemoryFollowsWindows(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", levels)
	write(t, dir, "short.ndjson", readings(300_000))
	write(t, dir, "long.ndjson", readings(3_000_000))
	memory := func(in string) float64 {
		undertide(t, dir, "run", "job.yaml", "-q", "--in", "levels="+in, "--lanes", "2", "--figures", "figures.json").want(t, 0)
		var f struct {
			Peak float64 `json:"peak_memory_bytes"`
		}
		if err := json.Unmarshal([]byte(read(t, filepath.Join(dir, "figures.json"))), &f); err != nil {
			t.Fatal(err)
		}
		return f.Peak
	}
	least := func(in string) float64 { // of three: what garbage waits to be collected varies
		return min(memory(in), memory(in), memory(in))
	}
	short, long := least("short.ndjson"), least("long.ndjson")
	t.Logf("0.3M rows: %.1f MiB, 3M rows: %.1f MiB", short/(1<<20), long/(1<<20))
	if long > 1.1*short {
		t.Errorf("3M rows take %.1f MiB, 0.3M rows %.1f MiB: more than 10 %% apart", long/(1<<20), short/(1<<20))
	}
}

// TestReaderGoes: a pipe of the document whose reader goes away has failed its sink, and says so; on standard output it is
// the end of what was wanted.
func TestReaderGoes(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "levels.ndjson", readings(200_000))
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o644); err != nil {
		t.Fatal(err)
	}
	write(t, dir, "job.yaml", fmt.Sprintf(`undertide: 1
job: copy
sources:
  levels: {via: file, with: {path: levels.ndjson}, fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}, event_time: read_at, watermark: {margin: 2s, ahead: none}}
sinks:
  out: {from: levels, via: file, with: {path: %s}}
`, pipe))
	sh := exec.Command("sh", "-c", "head -1 pipe >first & "+binary+" run job.yaml -q")
	sh.Dir = dir
	o := finish(t, sh)
	o.want(t, 1, "sink out")
	if text := read(t, filepath.Join(dir, "first")); !strings.HasPrefix(text, `{"gauge":"G00"`) {
		t.Errorf("through the pipe came %q", text)
	}
	sh = exec.Command("sh", "-c", binary+" run job.yaml --out out=- -q | head -1")
	sh.Dir = dir
	if o := finish(t, sh); o.status != 0 || o.err != "" || strings.Count(o.out, "\n") != 1 {
		t.Errorf("a reader of standard output that goes away: %+v", o)
	}
	// Nobody ever reads: Ctrl-C ends the waiting.
	p := launch(t, dir, "run", "job.yaml")
	time.Sleep(500 * time.Millisecond)
	began := time.Now()
	p.end(t, syscall.SIGINT)
	if took := time.Since(began); took > 5*time.Second {
		t.Errorf("a run that waits for a reader ends after %v", took)
	}
}
