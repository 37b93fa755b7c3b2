// Package e2e drives the real binary as its users do.
package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// builtBinary is the variable that names the program that was built already.
const builtBinary = "UNDERTIDE_TEST_BINARY"

// binary is the built program; TestMain builds it once.
var binary string

func TestMain(m *testing.M) {
	if at := os.Getenv(keeper); at != "" { // begun by a test, as below
		fmt.Fprintln(os.Stderr, keepObjects(at))
		os.Exit(1)
	}
	if from, to, ok := strings.Cut(os.Getenv(forwarder), " "); ok { // begun by a test
		fmt.Fprintln(os.Stderr, handOn(from, to))
		os.Exit(1)
	}
	if binary = os.Getenv(builtBinary); binary != "" { // these tests were begun by one of them
		os.Exit(m.Run())
	}
	dir, err := os.MkdirTemp("", "undertide-e2e")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	binary = filepath.Join(dir, "undertide")
	build := exec.Command("go", "build", "-o", binary, "../cmd/undertide")
	build.Stdout, build.Stderr = os.Stdout, os.Stderr
	status := 1
	if err := build.Run(); err == nil {
		status = m.Run()
	}
	if err := os.RemoveAll(dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(status)
}

// outcome is how a command ended.
type outcome struct {
	status   int
	out, err string
}

// undertide runs the binary in a folder.
func undertide(t *testing.T, dir string, args ...string) outcome {
	t.Helper()
	c := exec.Command(binary, args...)
	c.Dir = dir
	return finish(t, c)
}

func finish(t *testing.T, c *exec.Cmd) outcome {
	t.Helper()
	var out, errOut bytes.Buffer
	c.Stdout, c.Stderr = &out, &errOut
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return outcome{c.ProcessState.ExitCode(), out.String(), errOut.String()}
}

// write puts a file into a folder.
func write(t *testing.T, dir, name, text string) string {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func read(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// want checks status and that texts stand on standard error.
func (o outcome) want(t *testing.T, status int, texts ...string) {
	t.Helper()
	if o.status != status {
		t.Errorf("status %d, want %d\nstandard error: %s", o.status, status, o.err)
	}
	for _, s := range texts {
		if !strings.Contains(o.err, s) {
			t.Errorf("standard error lacks %q:\n%s", s, o.err)
		}
	}
}

// levels is a job over gauge readings, with minute windows.
const levels = `undertide: 1
job: levels
settings: {checkpoint: {every: 30ms}}
sources:
  levels:
    via: file
    with: {path: levels.ndjson}
    fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}
    event_time: read_at
    watermark: {margin: 2s, ahead: none}
steps:
  minute:
    from: levels
    key: [gauge]
    window: {tumbling: 1m}
    measures: {n: count(), mean_m: mean(level_m)}
sinks:
  means: {from: minute, via: file, with: {path: means.ndjson}}
`

// readings makes n readings of 20 gauges, a tenth of a second apart.
func readings(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, `{"gauge":"G%02d","level_m":%d.%d,"read_at":%d}`+"\n", i*7%20, i%5, i%10, 1767225600000+int64(i)*100-int64(i%13)*100)
	}
	return b.String()
}
