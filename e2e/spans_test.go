package e2e

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// TestSpans: what was stored is processed again beside the running job, by a job of its own that ends by itself: into
// sinks that replace it changes nothing, into others it is refused unless that is said. A drained run publishes all that
// was open and finishes.
func TestSpans(t *testing.T) {
	t.Parallel()
	dir := open(t)
	_, broker := startBroker(t, dir, "")
	event := func(gauge string, second int) string {
		return fmt.Sprintf(`{"gauge":%q,"at":%d}`+"\n", gauge, second*1000)
	}
	kcat(t, event("A", 1)+event("A", 2)+event("B", 11), "-b", broker, "-t", "levels", "-P", "-p", "0")
	time.Sleep(50 * time.Millisecond)
	middle := time.Now().UTC().Format(time.RFC3339Nano)
	time.Sleep(50 * time.Millisecond)
	kcat(t, event("A", 21)+event("B", 22), "-b", broker, "-t", "levels", "-P", "-p", "0")
	document := `undertide: 1
job: tens
settings: {checkpoint: {every: 200ms}}
connections: {harbour: {via: kafka, brokers: ["` + broker + `"]}}
sources:
  levels: {via: kafka, with: {connection: harbour, topic: levels}, BEGIN fields: {gauge: string, at: {type: timestamp, parse: epoch_ms}}, event_time: at, watermark: {margin: 0s, ahead: none, idle: 1s}}
steps:
  ten: {from: levels, key: [gauge], window: {tumbling: 10s}, measures: {n: count()}}
sinks:
  means: {from: ten, via: kafka, with: {connection: harbour, topic: means, replace: true}}
MORE`
	s := serve(t, dir)
	save := func(begin, more string) {
		write(t, dir, "tens.yaml", strings.NewReplacer("BEGIN ", begin, "MORE", more).Replace(document))
		s.must("save", "tens.yaml")
	}
	save("begin: latest, ", "")
	if o := s.must("start", "tens"); !strings.Contains(o.err, "topic levels is read anew, partition 0 from offset 5, 1 from offset 0; 5 earlier events are passed over") || !strings.Contains(o.err, "sink means: exactly once: rows appear with the checkpoint, every 200ms") {
		t.Errorf("a start at the latest event says: %s", o.err)
	}
	kcat(t, event("C", 31)+event("C", 45), "-b", broker, "-t", "levels", "-P", "-p", "0")
	messages := func() []string {
		out := strings.Split(strings.TrimSpace(kcat(t, "", "-b", broker, "-t", "means", "-C", "-e", "-q", "-f", `%s\n`)), "\n")
		slices.Sort(out)
		return slices.Compact(out)
	}
	eventually(t, 20*time.Second, "the row of C's first window", func() bool { return len(messages()) == 1 && messages()[0] != "" })

	o := s.must("start", "tens", "--begin", "earliest", "--until", middle)
	if !strings.Contains(o.err, "tens-span-1 is a job of its own") || !strings.Contains(o.err, "3 events are in the span") {
		t.Errorf("a span says: %s", o.err)
	}
	s.waitStatus("tens-span-1", "finished")
	if got := messages(); len(got) != 3 || !strings.Contains(got[0], `"A","window_start":"1970-01-01T00:00:00Z","window_end":"1970-01-01T00:00:10Z","n":2`) || !strings.Contains(got[1], `"B","window_start":"1970-01-01T00:00:10Z"`) {
		t.Errorf("after the span the topic has %v", got)
	}
	s.must("start", "tens", "--begin", "earliest", "--until", middle) // again: the same rows replace the same
	s.waitStatus("tens-span-2", "finished")
	if got := messages(); len(got) != 3 {
		t.Errorf("after the same span again the topic has %v", got)
	}
	if o := s.must("jobs"); !strings.Contains(o.out, "tens-span-2") || s.job("tens").Status != "running" {
		t.Errorf("beside the spans the job is %s: %s", s.job("tens").Status, o.out)
	}
	if o := s.must("history", "tens"); !strings.Contains(o.out, "tens-span-1 processes what was stored from earliest until "+middle) || !strings.Contains(o.out, "5 earlier events are passed over") {
		t.Errorf("the history says: %s", o.out)
	}
	s.must("delete", "tens-span-1")

	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--until", "tomorrow"}, "tomorrow is neither latest nor a time"},
		{[]string{"--until", time.Now().Add(time.Hour).UTC().Format(time.RFC3339)}, "lies ahead"},
		{[]string{"--begin", middle, "--until", middle}, "it ends where it begins, or before"},
		{[]string{"--begin", "earliest", "--fresh"}, "a span has a state of its own"},
		{[]string{"--append"}, "append is said of a span"},
	} {
		if o := s.run(append([]string{"start", "tens"}, c.args...)...); o.status == 0 || !strings.Contains(o.err, c.want) {
			t.Errorf("start %v: status %d: %s", c.args, o.status, o.err)
		}
	}

	if o := s.must("drain", "tens"); !strings.Contains(o.err, "finished") {
		t.Errorf("drain says: %s", o.err)
	}
	if got := messages(); len(got) != 4 || !strings.Contains(got[3], `"C","window_start":"1970-01-01T00:00:40Z"`) {
		t.Errorf("after the drain the topic has %v", got)
	}
	if o := s.run("drain", "tens"); o.status == 0 || !strings.Contains(o.err, "not running") {
		t.Errorf("a second drain: status %d: %s", o.status, o.err)
	}
	if o := s.must("start", "tens"); !strings.Contains(o.err, "has come to its end") {
		t.Errorf("a start of a drained job: %s", o.err)
	}

	save("", "  files: {from: ten, via: file, with: {path: "+filepath.Join(dir, "out")+"/}}\n")
	if o := s.run("start", "tens", "--until", "latest"); o.status == 0 || !strings.Contains(o.err, "would stand beside those that files hold already") || !strings.Contains(o.err, "--append") {
		t.Errorf("a span into files: status %d: %s", o.status, o.err)
	}
	s.must("start", "tens", "--until", "latest", "--append")
	s.waitStatus("tens-span-2", "finished")
	eventually(t, 10*time.Second, "the span's files", func() bool { return len(delivered(t, filepath.Join(dir, "out"))) == 6 })
}
