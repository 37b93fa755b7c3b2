package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"undertide/api"
	"undertide/client"
	"undertide/job"
	"undertide/run"
)

// growing is a case in which one thing doubles twice (docs/speed.md, "As work grows").
type growing struct {
	name string
	base int
	unit string
	// work says whether what is to be done grows with it; else as many rows are read whatever the size.
	work bool
	// document gives a job of this size, whose input is made in dir. Nil for the jobs of a service.
	document func(dir string, n int) (string, error)
}

var growths = []growing{
	{"rows", 500_000, "rows, 300 keys, 1 h windows", true, func(dir string, n int) (string, error) {
		return grown(dir, workload{rows: n, keys: 300, span: time.Duration(n) * time.Second}, tumbling)
	}},
	{"keys", 100_000, "keys of 1M rows in one window", false, func(dir string, n int) (string, error) {
		return grown(dir, workload{rows: 1_000_000, keys: n, span: 20 * time.Hour}, strings.Replace(tumbling, "tumbling: 1h", "tumbling: 365d", 1))
	}},
	{"open windows", 900, "windows of 1 s open for each of 50 keys, 1M rows", false, func(dir string, n int) (string, error) {
		text, err := grown(dir, workload{rows: 1_000_000, keys: 50, span: 24 * time.Hour}, strings.Replace(tumbling, "tumbling: 1h", "tumbling: 1s", 1))
		return strings.Replace(text, "margin: 10s", fmt.Sprintf("margin: %ds", n), 1), err
	}},
	{"partitions", 250, "files with 1M rows in all", false, func(dir string, n int) (string, error) {
		path, err := files(dir, n)
		return fmt.Sprintf(head, path) + strings.Replace(tumbling, "%q", strconv.Quote(os.DevNull), 1), err
	}},
	{"steps", 8, "steps one after the other, 500,000 rows", true, func(dir string, n int) (string, error) {
		var b strings.Builder
		b.WriteString("\nsteps:\n")
		from := "readings"
		for i := range n {
			without := ""
			if i > 0 {
				without = fmt.Sprintf(", without: [x%d]", i-1)
			}
			fmt.Fprintf(&b, "  s%d: {from: %s, where: level_m > %d.0 - 10.0, set: {x%d: level_m + 0.001}%s}\n", i, from, i%8, i, without)
			from = fmt.Sprint("s", i)
		}
		fmt.Fprintf(&b, "  last: {from: %s, where: 'false'}\nsinks:\n  out: {from: last, via: file, with: {path: %%q}}\n", from)
		return grown(dir, workload{rows: 500_000, keys: 300, span: 24 * time.Hour}, b.String())
	}},
	{"sinks", 4, "files, each with all 500,000 rows", true, func(dir string, n int) (string, error) {
		var b strings.Builder
		b.WriteString("\nsinks:\n")
		for i := range n {
			fmt.Fprintf(&b, "  s%d: {from: readings, via: file, with: {path: %s}}\n", i, filepath.Join(dir, fmt.Sprintf("grown-%d.out", i)))
		}
		return grown(dir, workload{rows: 500_000, keys: 300, span: 24 * time.Hour}, b.String())
	}},
	{"jobs", 25, "jobs of a service, each with 200 events a second, for 20 s", true, nil},
}

// grown is a document over the workload's input.
func grown(dir string, w workload, text string) (string, error) {
	path, err := w.input(dir)
	return fmt.Sprintf(head, path) + strings.Replace(text, "%q", strconv.Quote(os.DevNull), 1), err
}

// files cuts a million rows into n files, and gives their pattern.
func files(dir string, n int) (string, error) {
	w := workload{rows: 1_000_000, keys: 300, span: 24 * time.Hour}
	path, err := w.input(dir)
	into := filepath.Join(dir, fmt.Sprint("parts-", n))
	pattern := filepath.Join(into, "*.ndjson")
	if _, there := os.Stat(into); err != nil || there == nil {
		return pattern, err
	}
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.MkdirAll(into, 0o755)
	}
	for i := 0; err == nil && len(text) > 0; i++ {
		end := len(text)
		if i < n-1 {
			end = min(end, len(text)/(n-i))
			end += bytes.IndexByte(text[end:], '\n') + 1
		}
		err = os.WriteFile(filepath.Join(into, fmt.Sprintf("%05d.ndjson", i)), text[:end], 0o644)
		text = text[end:]
	}
	return pattern, err
}

// growthTable prints what each case costs at one, two and four times its size.
func growthTable(dir, only string, rounds int) error {
	fmt.Println("\n| what grows | size | CPU seconds | twice as much | four times as much | the work grows |")
	fmt.Println("|---|---|---|---|---|---|")
	for _, g := range growths {
		if !strings.Contains(g.name, only) {
			continue
		}
		least := [3]float64{1e9, 1e9, 1e9}
		for range rounds {
			for i := range least {
				took, err := g.measure(dir, g.base<<i)
				if err != nil {
					return fmt.Errorf("%d %s: %w", g.base<<i, g.name, err)
				}
				least[i] = min(least[i], took.Seconds())
			}
		}
		work := "not: as many rows"
		if g.work {
			work = "with it: 2.00, 4.00"
		}
		fmt.Printf("| %s | %d %s | %.2f | %.2f | %.2f | %s |\n", g.name, g.base, g.unit, least[0], least[1]/least[0], least[2]/least[0], work)
	}
	return nil
}

// measure gives the CPU time of a case, which other work on the machine changes least.
func (g *growing) measure(dir string, n int) (time.Duration, error) {
	if g.document == nil {
		return jobsAtWork(n)
	}
	text, err := g.document(dir, n)
	if err != nil {
		return 0, err
	}
	j, err := job.Parse("bench.yaml", text, job.Options{})
	if err != nil {
		return 0, err
	}
	runtime.GC()
	before := spent()
	err = toEnd(j, run.Options{Lanes: 2})
	return spent() - before, err
}

// spent is how long this process has had a CPU.
func spent() time.Duration {
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		panic(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// jobsAtWork starts a service with n jobs, and gives its CPU time of 20 seconds once all of them run.
func jobsAtWork(n int) (time.Duration, error) {
	data, err := os.MkdirTemp("", "undertide-bench-")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(data)
	if err := os.Chmod(data, 0o755); err != nil {
		return 0, err
	}
	files := filepath.Join(data, "files")                                               // not where the service keeps its own
	if err := errors.Join(os.Mkdir(files, 0o755), os.Chmod(files, 0o777)); err != nil { // the service may be another user's
		return 0, err
	}
	args := []string{"serve", "--data", filepath.Join(data, "data"), "--files", files, "--listen", "127.0.0.1:0"}
	if os.Geteuid() == 0 {
		args = append(args, "--user", "postgres")
	}
	c := exec.Command(filepath.Join(filepath.Dir(os.Args[0]), "undertide"), args...)
	said, err := c.StderrPipe()
	if err != nil {
		return 0, err
	}
	if err := c.Start(); err != nil {
		return 0, fmt.Errorf("%w; make build first", err)
	}
	defer func() {
		_ = c.Process.Signal(syscall.SIGTERM)
		_ = c.Wait()
	}()
	address := ""
	for lines := bufio.NewScanner(said); address == "" && lines.Scan(); {
		if _, rest, ok := strings.Cut(lines.Text(), "console is at "); ok {
			address, _, _ = strings.Cut(rest, ";")
		}
	}
	if address == "" {
		return 0, errors.New("the service did not start")
	}
	go io.Copy(io.Discard, said) //nolint:errcheck // until it ends
	s, err := client.New(address, client.Options{})
	if err != nil {
		return 0, err
	}
	ctx := context.Background()
	for i := range n {
		name := fmt.Sprint("job-", i)
		_, err := s.Save(ctx, fmt.Appendf(nil, `undertide: 1
job: %s
sources:
  readings: {via: simulate, with: {rate: 200/s, seed: %d, fields: {gauge: {pick: [G1, G2, G3]}, level_m: {between: [0, 9]}, read_at: {now: true}}}, fields: {gauge: string, level_m: double, read_at: timestamp}, event_time: read_at, watermark: {margin: 1s}}
steps:
  second: {from: readings, key: [gauge], window: {tumbling: 1s}, measures: {n: count(), mean_m: mean(level_m)}}
sinks:
  out: {from: second, via: file, with: {path: %s/}}
`, name, i, filepath.Join(files, name)))
		if err == nil {
			_, err = s.Start(ctx, name, api.Start{})
		}
		if err != nil {
			return 0, err
		}
	}
	time.Sleep(3 * time.Second)
	before, err := spentBy(c.Process.Pid)
	if err != nil {
		return 0, err
	}
	time.Sleep(20 * time.Second)
	after, err := spentBy(c.Process.Pid)
	return after - before, err
}

// spentBy is how long a process has had a CPU (utime and stime of proc(5), in hundredths of a second).
func spentBy(pid int) (time.Duration, error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:])) // the third of the line is the first here
	user, err1 := strconv.Atoi(fields[11])
	system, err2 := strconv.Atoi(fields[12])
	return time.Duration(user+system) * 10 * time.Millisecond, errors.Join(err1, err2)
}
