package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestCheck: right documents, faults with status 3, plans in three forms, the JSON Schema.
func TestCheck(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "job.yaml", levels)
	write(t, dir, "wrong.yaml", strings.NewReplacer("gauge: string", "gauge: sting", "margin: 2s", "margin: 2", "from: levels", "from: level", "via: file, with: {path: means.ndjson}", "via: flie, with: {path: means.ndjson}", "job: levels", "jbo: levels", "every: 30ms", "every: often").Replace(levels))
	o := undertide(t, dir, "check", "job.yaml")
	if o.want(t, 0); o.out != "job.yaml: job levels is right: 1 source, 1 step, 1 sink\n" {
		t.Errorf("check says %q", o.out)
	}
	o = undertide(t, dir, "check", "job.yaml", "wrong.yaml")
	o.want(t, 3, "wrong.yaml:2:1: jbo: unknown field jbo; did you mean job?", "wrong.yaml:3:32: settings.checkpoint.every", "gauge: sting is not a type; did you mean string?", `"2" has no unit; say the unit: 2s, 2m`,
		"there is no source or step level; did you mean levels?", "flie is not one of", "; nothing was run")
	if !strings.Contains(o.out, "job.yaml: job levels is right") {
		t.Errorf("the right document beside a wrong one is not named: %q", o.out)
	}
	if o = undertide(t, dir, "run", "wrong.yaml"); o.status != 3 || strings.Count(o.err, "wrong.yaml:") < 6 {
		t.Errorf("run of a wrong document: status %d\n%s", o.status, o.err)
	}
	o = undertide(t, dir, "check", "job.yaml", "--plan")
	for _, want := range []string{"step minute: tumbling window of 1m", "key         gauge", "by hash of gauge", "at most 1m + margin 2s", "exactly once"} {
		if !strings.Contains(o.out, want) {
			t.Errorf("the plan lacks %q:\n%s", want, o.out)
		}
	}
	var plan struct {
		Steps []struct{ Key []string }
	}
	if err := json.Unmarshal([]byte(undertide(t, dir, "check", "job.yaml", "--plan", "--format", "json").out), &plan); err != nil || plan.Steps[0].Key[0] != "gauge" {
		t.Errorf("the plan as JSON: %+v, %v", plan, err)
	}
	if o = undertide(t, dir, "check", "job.yaml", "--plan", "--format", "yaml"); !strings.Contains(o.out, "exchange: by hash of gauge") {
		t.Errorf("the plan as YAML:\n%s", o.out)
	}
	if o = undertide(t, dir, "check", "--schema"); !json.Valid([]byte(o.out)) || !strings.Contains(o.out, "2020-12/schema") {
		t.Errorf("the schema is %.200s", o.out)
	}
}

// TestSmallCommands: version, completion, help.
func TestSmallCommands(t *testing.T) {
	dir := t.TempDir()
	if o := undertide(t, dir, "version"); o.status != 0 || !strings.HasPrefix(o.out, "undertide ") || !strings.Contains(o.out, "document format 1") {
		t.Errorf("version: %+v", o)
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		if o := undertide(t, dir, "completion", shell); o.status != 0 || !strings.Contains(o.out, "undertide") {
			t.Errorf("completion for %s: status %d", shell, o.status)
		}
	}
	if o := undertide(t, dir, "__complete", "ru"); !strings.Contains(o.out, "run\t") {
		t.Errorf("ru is completed to %q", o.out)
	}
	if o := undertide(t, dir); o.status != 0 || !strings.Contains(o.out, "undertide check job.yaml") || !strings.Contains(o.out, "A first job:\n  demo ") {
		t.Errorf("without a command: %+v", o)
	}
}

// TestHarbour makes the harbour's streams and runs its jobs as make demo does.
func TestHarbour(t *testing.T) {
	root, err := filepath.Abs("..")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for _, stream := range []string{"gauge-levels", "crane-lifts"} {
		o := undertide(t, dir, "run", filepath.Join(root, "harbour/streams", stream+".yaml"), "-q")
		o.want(t, 0)
		write(t, dir, stream+".ndjson", o.out)
	}
	o := undertide(t, dir, "run", filepath.Join(root, "harbour/files/mean-level.yaml"), "--in", "levels="+epochs(t, dir, "gauge-levels.ndjson"), "--out", "means=means.ndjson", "--out", "missed=missed.ndjson", "--out", "bad_levels=bad.ndjson")
	o.want(t, 0, "86,400 events", "late rows lost")
	for _, l := range strings.SplitN(read(t, filepath.Join(dir, "missed.ndjson")), "\n", 20)[:19] {
		if !strings.Contains(l, `"gauge":"G09"`) {
			t.Errorf("the first late rows are those of the slow clock, not %s", l)
		}
	}
	rows := sortedLines(read(t, filepath.Join(dir, "means.ndjson")))
	if len(rows) < 1400 || len(rows) > 1460 { // 12 gauges, 120 minutes
		t.Errorf("%d means", len(rows))
	}
}

// epochs rewrites read_at, which the stream's own document writes as text, to epoch milliseconds.
func epochs(t *testing.T, dir, name string) string {
	t.Helper()
	doc := `undertide: 1
job: epochs
sources:
  in: {via: file, with: {path: ` + name + `}, fields: {gauge: string, level_m: double, battery_v: double, at: {type: timestamp, at: read_at}}}
steps:
  out: {from: in, set: {read_at: "int(at) * 1000 + at.getMilliseconds()"}, without: [at]}
sinks:
  out: {from: out, via: file, with: {path: epochs.ndjson}}
`
	doc = strings.ReplaceAll(doc, "  in: {via", "  readings: {via")
	doc = strings.ReplaceAll(doc, "from: in,", "from: readings,")
	write(t, dir, "epochs.yaml", doc)
	undertide(t, dir, "run", "epochs.yaml", "-q").want(t, 0)
	return filepath.Join(dir, "epochs.ndjson")
}

// TestPeekFile: a file is looked at before there is any document: its first and last events, those since a time, those
// that come; and a document is begun over it.
func TestPeekFile(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "levels.ndjson", readings(200))
	write(t, dir, "levels.csv", "gauge,level_m,read_at\nG01,2.5,2026-01-01T00:00:00Z\nG02,2.75,2026-01-01T00:01:00Z\n")
	peek := func(args ...string) outcome {
		t.Helper()
		return undertide(t, dir, append([]string{"peek"}, args...)...)
	}
	newest := peek("--file", "levels.ndjson", "--limit", "2")
	newest.want(t, 0, "")
	if strings.Count(newest.out, "  raw  ") != 2 || !strings.Contains(newest.out, "offset 199") {
		t.Errorf("the newest two:\n%s", newest.out)
	}
	if o := peek("--file", "levels.ndjson", "--oldest", "--limit", "3"); strings.Count(o.out, "  raw  ") != 3 || !strings.Contains(o.out, "offset 0\n") {
		t.Errorf("the oldest three:\n%s", o.out)
	}
	if o := peek("--file", "levels.csv", "--since", "2026-01-01T00:00:30Z"); strings.Count(o.out, "decoded") != 1 || !strings.Contains(o.out, "gauge=G02") {
		t.Errorf("those since a time:\n%s%s", o.out, o.err)
	}
	peek("--file", "levels.csv", "--since", "2027-01-01T00:00:00Z").want(t, 0, "no event has a read_at since 2027-01-01T00:00:00Z")
	peek("--file", "none.ndjson").want(t, 1, "open none.ndjson: there is no such file or folder")
	peek("--file", "levels.csv", "--topic", "levels").want(t, 2, "give one of them")
	peek("--file", "levels.csv", "--partition", "1").want(t, 2, "--partition is for topics")
	begun := peek("--file", "levels.csv", "--infer", "--purpose", "clean")
	begun.want(t, 0, "margin: ")
	write(t, dir, "begun.yaml", begun.out)
	undertide(t, dir, "check", "begun.yaml").want(t, 0, "")

	follow := launch(t, dir, "peek", "--file", "levels.ndjson", "--follow", "--format", "json")
	follow.says(t, "Ctrl-C ends it()")
	time.Sleep(300 * time.Millisecond)
	f, err := os.OpenFile(filepath.Join(dir, "levels.ndjson"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	for _, part := range []string{`{"gauge":"new`, `","level_m":1,"read_at":1}` + "\n"} {
		if _, err := f.WriteString(part); err != nil {
			t.Fatal(err)
		}
		time.Sleep(1500 * time.Millisecond)
	}
	follow.says(t, `"gauge\\":\\"(new)\\"`)
	if text := follow.text(); strings.Count(text, "\n") != 2 {
		t.Errorf("what was there before is shown as new:\n%s", text)
	}
}

// TestServersConnections: run and check take connections of a service, but for those that need its secrets.
func TestServersConnections(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	s := serve(t, dir)
	s.must("connections", "add", "there", "--brokers", broker, "--no-test")
	kcat(t, keyed(readings(100)), "-b", broker, "-t", "levels", "-P", "-K", "|")
	if code, text, _ := s.ask("PUT", "/api/v1/connections/safe", fmt.Sprintf(`{"via":"kafka","settings":{"brokers":[%q],"sasl":{"mechanism":"scram-sha-256","user":"tide","password":"${secret.safe}"}},"secrets":{"safe":"ebb-and-flow"}}`, broker), "Content-Type", "application/json"); code != 200 {
		t.Fatal(text)
	}
	document := func(connection string) string {
		return write(t, dir, connection+".yaml", fmt.Sprintf(`undertide: 1
job: look
sources:
  levels: {via: kafka, with: {connection: %s, topic: levels}, fields: {gauge: string, level_m: double, read_at: {type: timestamp, parse: epoch_ms}}, event_time: read_at, watermark: {margin: 1s}}
sinks:
  out: {from: levels, via: file, with: {path: out.ndjson}}
`, connection))
	}
	undertide(t, dir, "check", document("there")).want(t, 3, "there is no connection there")
	s.run("check", document("there")).want(t, 0, "")
	s.run("run", document("there"), "--in", "levels="+write(t, dir, "levels.ndjson", readings(100)), "-q").want(t, 0, "")
	if n := len(strings.Split(strings.TrimSpace(read(t, filepath.Join(dir, "out.ndjson"))), "\n")); n != 100 {
		t.Errorf("%d rows, want 100", n)
	}
	s.run("check", document("safe")).want(t, 0, "")
	o := s.run("run", document("safe"), "-q")
	o.want(t, 3, "connection safe: secrets are kept by a service")
	if strings.Contains(o.out+o.err, "ebb") {
		t.Errorf("the secret is shown: %s", o.err)
	}
	undertide(t, dir, "send", "nowhere", "levels", "levels.ndjson", "--server", s.address).want(t, 1, "there is no connection nowhere")
	s.run("send", "there", "none", "levels.ndjson").want(t, 1, "sent 0 events to none")
	s.run("send", "there", "levels", "levels.ndjson", "--key", "guage").want(t, 1, "levels.ndjson:1: the event has no field guage, which --key names; did you mean gauge?")
}
