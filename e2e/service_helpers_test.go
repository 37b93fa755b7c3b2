package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"undertide/account"
	"undertide/api"
)

// process is a long-running command under test.
type process struct {
	cmd  *exec.Cmd
	done chan error

	mu  sync.Mutex // guards out
	out bytes.Buffer
}

func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *process) text() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

// launch starts the binary in a folder and kills it when the test ends.
func launch(t *testing.T, dir string, args ...string) *process {
	t.Helper()
	c := exec.Command(binary, args...)
	c.Dir = dir
	return running(t, c)
}

// running starts a command and ends it when the test ends.
func running(t *testing.T, c *exec.Cmd) *process {
	t.Helper()
	p := &process{cmd: c, done: make(chan error, 1)}
	p.cmd.Stdout, p.cmd.Stderr = p, p
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { p.done <- p.cmd.Wait() }()
	t.Cleanup(func() {
		_ = p.cmd.Process.Signal(os.Interrupt) // it may have ended
		select {
		case <-p.done:
		case <-time.After(40 * time.Second):
			t.Errorf("%s does not end", strings.Join(c.Args[1:], " "))
			_ = p.cmd.Process.Kill()
		}
		if t.Failed() {
			t.Logf("%s said:\n%s", strings.Join(c.Args[1:], " "), p.text())
		}
	})
	return p
}

// says waits until the process has said what matches and gives its first group.
func (p *process) says(t *testing.T, pattern string) string {
	t.Helper()
	re := regexp.MustCompile(pattern)
	var got string
	eventually(t, 40*time.Second, "the process says "+pattern, func() bool {
		m := re.FindStringSubmatch(p.text())
		if m != nil {
			got = m[len(m)-1]
		}
		return m != nil
	})
	return got
}

// end signals the process and waits for it.
func (p *process) end(t *testing.T, sig syscall.Signal) {
	t.Helper()
	if err := p.cmd.Process.Signal(sig); err != nil {
		t.Fatal(err)
	}
	select {
	case err := <-p.done:
		p.done <- err
	case <-time.After(40 * time.Second):
		t.Fatalf("the process does not end:\n%s", p.text())
	}
}

// eventually waits for something to hold.
func eventually(t *testing.T, most time.Duration, what string, holds func() bool) {
	t.Helper()
	for until := time.Now().Add(most); time.Now().Before(until); time.Sleep(30 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("not within %s: %s", most, what)
}

// servant is the user that the service runs as where root runs the tests.
const servant = "postgres"

// open is a folder of the servant's, which it can reach.
func open(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	if err := os.Chmod(filepath.Dir(dir), 0o755); err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() != 0 {
		return dir
	}
	a, err := account.Find(servant)
	if err == nil {
		err = os.Chown(dir, a.UID, a.GID)
	}
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// dataOf is the data folder of a service whose files are in dir: beside it, as no job may name it.
func dataOf(dir string) string { return dir + ".data" }

// served are the arguments of a service whose jobs may use the files in dir.
func served(dir string, args ...string) []string {
	all := []string{"serve", "--data", dataOf(dir), "--files", dir}
	if os.Geteuid() == 0 {
		all = append(all, "--user", servant)
	}
	return append(all, args...)
}

// serving is a service under test.
type serving struct {
	*process
	t       *testing.T
	dir     string
	address string
}

func serve(t *testing.T, dir string, args ...string) *serving {
	t.Helper()
	s := &serving{t: t, dir: dir}
	s.process = launch(t, dir, served(dir, append([]string{"--listen", "127.0.0.1:0"}, args...)...)...)
	s.address = s.says(t, `console is at (http://\S+);`)
	return s
}

// run runs a command against the service.
func (s *serving) run(args ...string) outcome {
	s.t.Helper()
	c := exec.Command(binary, append(args, "--server", s.address)...)
	c.Dir = s.dir
	return finish(s.t, c)
}

// must runs a command that has to succeed and gives its output.
func (s *serving) must(args ...string) outcome {
	s.t.Helper()
	o := s.run(args...)
	if o.status != 0 {
		s.t.Fatalf("undertide %s: status %d: %s", strings.Join(args, " "), o.status, o.err)
	}
	return o
}

// get asks the service for an address; header pairs follow.
func (s *serving) get(path string, header ...string) (int, string, http.Header) {
	s.t.Helper()
	return s.ask("GET", path, "", header...)
}

func (s *serving) ask(method, path, body string, header ...string) (int, string, http.Header) {
	s.t.Helper()
	r, err := http.NewRequest(method, s.address+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	for i := 0; i+1 < len(header); i += 2 {
		if header[i] == "Host" {
			r.Host = header[i+1]
		}
		r.Header.Set(header[i], header[i+1])
	}
	res, err := (&http.Client{Timeout: 20 * time.Second}).Do(r)
	if err != nil {
		return 0, err.Error(), nil
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		s.t.Fatal(err)
	}
	return res.StatusCode, string(text), res.Header
}

// job gives a job as the API tells of it.
func (s *serving) job(name string) (j api.Job) {
	s.t.Helper()
	_, text, _ := s.get("/api/v1/jobs/" + name)
	if err := json.Unmarshal([]byte(text), &j); err != nil {
		s.t.Fatalf("job %s: %v: %s", name, err, text)
	}
	return j
}

func (s *serving) waitStatus(name, status string) {
	s.t.Helper()
	eventually(s.t, 40*time.Second, name+" is "+status, func() bool { return s.job(name).Status == status })
}

// startBroker starts the broker stand-in; empty listen takes a free port.
func startBroker(t *testing.T, dir, listen string) (*process, string) {
	t.Helper()
	if listen == "" {
		listen = "127.0.0.1:0"
	}
	b := launch(t, dir, "broker", "--listen", listen, "--data", filepath.Join(dir, "broker"), "--topic", "levels", "--topic", "means", "--partitions", "2")
	return b, b.says(t, `listens on (\S+);`)
}

// kcat runs Debian's kcat, a client that is not ours.
func kcat(t *testing.T, input string, args ...string) string {
	t.Helper()
	c := exec.Command("kcat", args...)
	c.Stdin = strings.NewReader(input)
	var errOut bytes.Buffer
	c.Stderr = &errOut
	out, err := c.Output()
	if err != nil {
		t.Fatalf("kcat %s: %v: %s", strings.Join(args, " "), err, errOut.String())
	}
	return string(out)
}

// keyed puts the gauge before each reading, as kcat takes keys.
func keyed(lines string) string {
	var b strings.Builder
	for line := range strings.Lines(lines) {
		fmt.Fprintf(&b, "%s|%s", line[len(`{"gauge":"`):len(`{"gauge":"G00`)], line)
	}
	return b.String()
}

// topicJob reads topic levels and writes the means of each gauge and minute to topic means, a folder
// of files and, where they are late, another.
func topicJob(broker, dir string) string {
	return fmt.Sprintf(`undertide: 1
job: means
about: Means of each gauge and minute
settings: {delivery: at_least_once, checkpoint: {every: 200ms}}
connections:
  harbour: {via: kafka, brokers: [%q]}
sources:
  levels:
    via: kafka
    with: {connection: harbour, topic: levels}
    fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}
    event_time: read_at
    watermark: {margin: 2s, ahead: none, idle: 1s}
steps:
  minute:
    from: levels
    key: [gauge]
    window: {tumbling: 1m}
    measures: {n: count(), mean_m: mean(level_m)}
sinks:
  topic: {from: minute, via: kafka, with: {connection: harbour, topic: means}, key: [gauge]}
  files: {from: minute, via: file, with: {path: %s/}}
  missed: {from: late of minute, via: file, with: {path: %s/}}
`, broker, filepath.Join(dir, "out"), filepath.Join(dir, "late"))
}

// delivered gives the lines of all finished files of a folder.
func delivered(t *testing.T, dir string) []string {
	t.Helper()
	paths, err := filepath.Glob(filepath.Join(dir, "*.ndjson"))
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, p := range paths {
		lines := bufio.NewScanner(strings.NewReader(read(t, p)))
		for lines.Scan() {
			out = append(out, lines.Text())
		}
	}
	return out
}
