package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// looking are the commands whose examples can be tried on the harbour as it runs, in this order: a pin is looked into before it goes.
var looking = []string{"topics", "schemas", "peek", "lateness", "check", "rehearse", "connections", "secrets", "sources", "jobs", "show", "versions", "rows", "figures", "alarms", "notices",
	"history", "logs", "pin", "pins", "state", "checkpoints", "unpin", "version"}

// notHere are parts of examples that name what the harbour does not have, or that do not end.
var notHere = []string{"--follow", "connections add", "test port", "remove port", "secrets set", "duty", "weights.avsc", "--seen 12", "--change", "--usual", "--make", "--checkpoint 12", "--compare 12,14", "--checkpoints state"}

// exampleJob is what the examples call job.yaml.
const exampleJob = `undertide: 1
job: lifted
sources:
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {crane: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 5s}}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {n: count()}}
sinks:
  out: {from: minute, via: file, with: {path: out.ndjson}}
`

// examplesRun runs the examples in the help of commands that look.
func examplesRun(t *testing.T, s *serving) {
	t.Helper()
	dir := t.TempDir()
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	write(t, dir, "lifts.ndjson", `{"crane":"C1","at":1772323200000}`+"\n"+`{"crane":"C2","at":1772323290000}`+"\n")
	write(t, dir, "gauges.ndjson", `{"gauge":"G01","level_m":2.5,"read_at":1772323200000}`+"\n")
	if err := os.Symlink(filepath.Join(root, "harbour"), filepath.Join(dir, "harbour")); err != nil {
		t.Fatal(err)
	}
	tried := 0
	for _, command := range looking {
		write(t, dir, "job.yaml", exampleJob) // peek makes another
		_, examples, _ := strings.Cut(undertide(t, dir, command, "--help").out, "Examples:\n")
		examples, _, _ = strings.Cut(examples, "\n\n")
		for line := range strings.Lines(examples) {
			line = strings.TrimSpace(line)
			if slices.ContainsFunc(notHere, func(part string) bool { return strings.Contains(line, part) }) {
				continue
			}
			tried++
			c := exec.CommandContext(t.Context(), "sh", "-c", line)
			c.Dir = dir
			c.Env = append(os.Environ(), "PATH="+filepath.Dir(binary)+":"+os.Getenv("PATH"), "UNDERTIDE_SERVER="+s.address)
			c.WaitDelay = time.Second
			if o := finish(t, c); o.status != 0 {
				t.Errorf("the example `%s` ends with status %d: %.500s", line, o.status, o.err)
			}
		}
	}
	if tried < 40 {
		t.Errorf("only %d examples were tried", tried)
	}
}
