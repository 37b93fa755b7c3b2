package job

import (
	"fmt"
	"strings"
	"testing"
)

// TestParts: a job is cut where rows change their key, and nowhere else: also where a step gives a field of the key another value. Names of topics are short enough for brokers.
func TestParts(t *testing.T) {
	long := strings.Repeat("wide_field_", 9)
	for _, one := range []struct {
		steps     string
		parts     int
		crossings string
	}{
		{"again: {from: minute, key: [crane], window: {tumbling: 10m}, measures: {n: count()}}", 2, "lifts.by.crane"},
		{"again: {from: minute, key: [crane, n], window: {tumbling: 10m}, measures: {m: count()}}", 2, "lifts.by.crane"},
		{"again: {from: minute, key: [n], window: {tumbling: 10m}, measures: {m: count()}}", 3, "lifts.by.crane minute.by.n"},
		{"last: {from: lifts, key: [crane], remember: {before: {initial: \"''\", next: berth}}, forget: 1h, set: {berth: before}}, again: {from: last, key: [crane], window: {tumbling: 10m}, measures: {n: count()}}", 2, "lifts.by.crane"},
		{"last: {from: lifts, key: [crane], remember: {before: {initial: \"''\", next: berth}}, forget: 1h, set: {crane: before}}, again: {from: last, key: [crane], window: {tumbling: 10m}, measures: {n: count()}}", 3, "lifts.by.crane last.by.crane"},
		{"moved: {from: minute, set: {crane: \"'C'\"}}, again: {from: moved, key: [crane], window: {tumbling: 10m}, measures: {n: count()}}", 3, "lifts.by.crane moved.by.crane"},
		{"again: {from: lifts, key: [" + long + "a, " + long + "b], window: {tumbling: 10m}, measures: {n: count()}}", 2, ""},
	} {
		text := fmt.Sprintf(`undertide: 1
job: %s
connections: {yard: {via: kafka, brokers: ["127.0.0.1:9092"]}}
settings: {spread: 2}
sources:
  lifts: {via: kafka, with: {connection: yard, topic: lifts}, fields: {crane: string, berth: string, %sa: int, %sb: int, at: timestamp}, event_time: at, watermark: {margin: 1s}}
steps: {minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {n: count()}}, %s}
sinks: {out: {from: again, via: file, with: {path: out/}}}
`, strings.Repeat("j", 100), long, long, one.steps)
		j, err := Parse("job.yaml", text, Options{})
		if err != nil {
			t.Errorf("%s: %v", one.steps, err)
			continue
		}
		p, err := j.Parts()
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for i := range p.Crossings {
			names = append(names, p.Crossings[i].Name)
			if n := len(p.Crossings[i].Stream(j.Name, 1_000_000)); n > 249 {
				t.Errorf("%s: a topic's name has %d bytes", one.steps, n)
			}
		}
		if got := strings.Join(names, " "); p.Number != one.parts || one.crossings != "" && got != one.crossings {
			t.Errorf("%s: %d parts, %s; want %d, %s", one.steps, p.Number, got, one.parts, one.crossings)
		}
	}
}
