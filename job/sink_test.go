package job

import (
	"strings"
	"testing"

	"undertide/connect"
	"undertide/connect/kafka"
)

// sinkDocument has rows with and without an identity; SINK is the sink.
const sinkDocument = `undertide: 1
job: loads
values: {site: {type: string, default: north}}
sources:
  lifts: {via: file, with: {path: lifts.ndjson}, fields: {crane: string, tonnes: double, lifted_at: {type: timestamp, parse: epoch_ms}}, event_time: lifted_at, watermark: {margin: 1s}}
steps:
  rate: {from: lifts, key: [crane], window: {tumbling: 10m}, late: {accept: 1m}, publish: revised, measures: {lifts: count()}}
  slim: {from: rate, without: [window_end]}
  whole: {from: lifts, measures: {lifts: count()}}
sinks:
  out: {SINK}
`

// TestReplace: rows are replaced by what tells them apart, whose names are those that are written; where nothing does, the
// document says by which fields.
func TestReplace(t *testing.T) {
	given := map[string]*connect.Connection{"harbour": {Name: "harbour", Kind: kafka.Kind, Link: kafka.LinkTo("given:1")}}
	topic := "via: kafka, with: {connection: harbour, topic: b, replace: true}"
	for _, c := range []struct{ sink, writes, fault string }{
		{"from: rate, " + topic, "crane string, window_start timestamp, window_end timestamp, lifts int, revision int, closed bool | keyed by crane, window_start, window_end;", ""},
		{"from: rate, key: [window_end, crane, window_start], " + topic, "closed bool | keyed by window_end, crane, window_start;", ""},
		{"from: rate, columns: {of: crane, start: window_start, end: window_end, site: values.site, n: lifts}, " + topic, "of string, start timestamp, end timestamp, site string, n int | keyed by of, start, end;", ""},
		{"from: whole, columns: {n: lifts}, via: file, with: {path: out.csv}", "n int |", ""},
		{"from: lifts, key: [crane], " + topic, "tonnes double, lifted_at timestamp | keyed by crane;", ""},
		{"from: lifts, columns: {constant: \"'a,b'\", t: tonnes, half: 1.0 / 2.0}, via: file, with: {path: out.csv}", "constant string, t double, half double |", ""},

		{"from: rate, key: [crane], " + topic, "", "a row of rate is told apart by crane, window_start, window_end, and not by crane; leave key out"},
		{"from: rate, columns: {crane: crane, n: lifts}, " + topic, "", "window_start is not written, and is part of the identity of the rows of rate"},
		{"from: slim, " + topic, "", "nothing tells the rows of slim apart; add key:"},
		{"from: lifts, " + topic, "", "nothing tells the rows of lifts apart"},
		{"from: rate, append_revisions: true, " + topic, "", "the sink replaces rows, and appends none"},
		{"from: lifts, columns: {n: tonne}, via: file, with: {path: out.csv}", "", "there is no field tonne; did you mean tonnes?"},
		{"from: lifts, columns: {n: tonnes * 2.0}, via: file, with: {path: out.csv}", "", "name a field, or write an expression that reads none"},
		{"from: lifts, columns: {n: 1 / 0}, via: file, with: {path: out.csv}", "", "sinks.out.columns.n: "},
		{"from: lifts, columns: [tonnes], via: file, with: {path: out.csv}", "", "a list stands where columns belong"},
		{"from: lifts, columns: {\"a b\": tonnes}, via: file, with: {path: out.csv}", "", `"a b" is not a name of a column`},
	} {
		j, err := Parse("a.yaml", strings.Replace(sinkDocument, "SINK", c.sink, 1), Options{Connections: given})
		if c.fault != "" {
			if err == nil || !strings.Contains(err.Error(), c.fault) {
				t.Errorf("%s:\n%v\nwant %s", c.sink, err, c.fault)
			}
			continue
		}
		if err != nil {
			t.Errorf("%s:\n%v", c.sink, err)
			continue
		}
		p := PlanOf(j).Sinks[0]
		if got := strings.Join(p.Fields, ", ") + " | " + p.Writes; !strings.Contains(got, c.writes[:strings.Index(c.writes, "|")+1]) || !strings.Contains(got, strings.TrimSpace(c.writes[strings.Index(c.writes, "|")+1:])) {
			t.Errorf("%s: the plan says %s, want %s", c.sink, got, c.writes)
		}
	}
}
