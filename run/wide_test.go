package run

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/job"
	"undertide/pace"
)

// TestWideTurns: one turn makes more rows than 16 bits can number, of lists and of a merge of them, before every kind of
// step with state; none is lost and none comes twice.
func TestWideTurns(t *testing.T) {
	const events = 4096
	items := pace.Of(17, 3) // in full 69,632 rows of one turn, twice as many behind the merge
	list := strings.TrimSuffix(strings.Repeat("7,", items), ",")
	j, err := job.Parse("wide.yaml", `undertide: 1
job: wide
sources:
  s: {via: file, with: {path: s.ndjson}, fields: {k: int, l: list<int>, t: {type: timestamp, parse: epoch_ms}}, event_time: t, watermark: {margin: 0s, ahead: none}}
steps:
  each: {from: s, expand: {item: l}}
  all: {from: each, where: true}
  both: {from: [each, all]}
  tumbling: {from: both, key: [k], window: {tumbling: 1h}, measures: {n: count(), sum: sum(item)}}
  sliding: {from: both, key: [k], window: {sliding: 2h, by: 1h}, measures: {n: count()}}
  session: {from: both, key: [k], window: {session: 1h}, measures: {n: count()}}
  back: {from: both, key: [k], window: {look_back: 1h}, measures: {n: count()}}
  whole: {from: both, key: [k], measures: {n: count()}}
  once: {from: both, deduplicate: {key: [k], within: 1h}}
  seen: {from: both, key: [k], remember: {seen: {initial: 0, next: seen + 1}}, forget: 1h, set: {before: seen}}
sinks:
  tumbling_rows: {from: tumbling, via: file, with: {path: a.ndjson}}
  sliding_rows: {from: sliding, via: file, with: {path: b.ndjson}}
  session_rows: {from: session, via: file, with: {path: c.ndjson}}
  back_rows: {from: back, via: file, with: {path: d.ndjson}}
  whole_rows: {from: whole, via: file, with: {path: e.ndjson}}
  once_rows: {from: once, via: file, with: {path: f.ndjson}}
  seen_rows: {from: seen, via: file, with: {path: g.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	m := &memory.Partition{Called: "p", Turn: events, Ends: true}
	for i := range events {
		m.Events = append(m.Events, fmt.Sprintf(`{"k":%d,"l":[%s],"t":%d}`, i%8, list, i))
	}
	keepers := make([]*memory.Sink, len(j.Sinks))
	g := &engine.Graph{Steps: j.Flow(nil), Sources: []engine.Source{j.Sources[0].On([]engine.Partition{m}, true)}}
	for i, s := range j.Sinks {
		keepers[i] = &memory.Sink{}
		g.Sinks = append(g.Sinks, engine.SinkNode{Name: s.Name, From: s.From, Schema: s.Schema, Sink: keepers[i]})
	}
	res, err := engine.Run(context.Background(), g, engine.Options{Workers: 2, Lanes: 3})
	if err != nil || len(engine.Unbalanced(g, res.Figures)) > 0 {
		t.Fatal(err, engine.Unbalanced(g, res.Figures))
	}
	type line struct {
		K, N, Sum, Before int64
	}
	read := func(sink int, each func(line)) (n int) {
		for text := range bytes.Lines(keepers[sink].Rows()) {
			var l line
			if err := json.Unmarshal(text, &l); err != nil {
				t.Fatal(err)
			}
			each(l)
			n++
		}
		return n
	}
	of := int64(events / 8 * items * 2) // rows of a key
	for sink, rows := range map[int]int{0: 8, 1: 16, 2: 8, 4: 8} {
		if n := read(sink, func(l line) {
			if l.N != of || sink == 0 && l.Sum != 7*of {
				t.Errorf("%s: %+v, want n %d", j.Sinks[sink].Name, l, of)
			}
		}); n != rows {
			t.Errorf("%s: %d rows, want %d", j.Sinks[sink].Name, n, rows)
		}
	}
	greatest := int64(0)
	if n := read(3, func(l line) { greatest = max(greatest, l.N) }); n != int(8*of) || greatest != of {
		t.Errorf("look back: %d rows up to %d, want %d up to %d", n, greatest, 8*of, of)
	}
	if n := read(5, func(line) {}); n != 8 {
		t.Errorf("deduplicate: %d rows, want 8", n)
	}
	seen := map[int64]int{}
	if n := read(6, func(l line) { seen[l.Before]++ }); n != int(8*of) || len(seen) != int(of) || seen[0] != 8 || seen[of-1] != 8 {
		t.Errorf("remember: %d rows with %d counts, want %d and %d", n, len(seen), 8*of, of)
	}
}
