package run

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"testing"

	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/job"
)

// TestLargeMerge: a merge of whole turns gives more rows than a batch holds, which merge again with rows
// made of them; all keep their place.
func TestLargeMerge(t *testing.T) {
	j, err := job.Parse("merge.yaml", `undertide: 1
job: merge
sources:
  s: {via: file, with: {path: s.ndjson}, fields: {id: int}}
steps:
  parts: {from: s, split: {a: id >= 0, b: id >= 0}}
  both: {from: [a of parts, b of parts]}
  odd: {from: both, where: id % 2 == 1}
  again: {from: [both, odd]}
sinks:
  out: {from: [again, rest of parts], via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	const events = 10_000
	m := &memory.Partition{Called: "p", Turn: 4096, Ends: true}
	for i := range events {
		m.Events = append(m.Events, fmt.Sprintf(`{"id":%d}`, i))
	}
	k := &memory.Sink{}
	g := &engine.Graph{Steps: j.Flow(nil), Sources: []engine.Source{j.Sources[0].On([]engine.Partition{m}, true)},
		Sinks: []engine.SinkNode{{Name: "out", From: j.Sinks[0].From, Schema: j.Sinks[0].Schema, Sink: k}}}
	res, err := engine.Run(context.Background(), g, engine.Options{Workers: 3})
	if err != nil || len(engine.Unbalanced(g, res.Figures)) > 0 {
		t.Fatal(err, engine.Unbalanced(g, res.Figures))
	}
	seen := make([]int, events)
	last := 0
	for line := range bytes.Lines(k.Rows()) {
		var r struct{ ID int }
		if err := json.Unmarshal(line, &r); err != nil {
			t.Fatal(err)
		}
		if r.ID < last {
			t.Fatalf("row %d comes after row %d", r.ID, last)
		}
		last = r.ID
		seen[r.ID]++
	}
	for i, n := range seen {
		if n != 2+2*(i%2) {
			t.Fatalf("row %d came %d times, want %d", i, n, 2+2*(i%2))
		}
	}
}

// TestLaneRejects: rows that a step rejects in its lanes reach whoever reads its rejects, once, also over
// checkpoints and a kill.
func TestLaneRejects(t *testing.T) {
	j, err := job.Parse("rejects.yaml", `undertide: 1
job: rejects
sources:
  s: {via: file, with: {path: s.ndjson}, fields: {id: int, k: int, t: {type: timestamp, parse: epoch_us}}, event_time: t, watermark: {margin: 5us, ahead: none}}
steps:
  r: {from: s, key: [k], remember: {n: {initial: 0, next: n + 10 / (id % 7)}}, forget: 1h, set: {before: n}}
sinks:
  out: {from: rejects of r, via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	rj := &refJob{turn: 8, sinks: []string{"rejects of r"}, parts: []refPartition{{name: "p"}}}
	for i := range 700 {
		key := fmt.Sprint(i % 11)
		if i%50 == 3 {
			key = "null"
		}
		rj.parts[0].events = append(rj.parts[0].events, refEvent{text: fmt.Sprintf(`{"id":%d,"k":%s,"t":%d}`, i, key, i)})
	}
	for _, w := range []way{{lanes: 1, workers: 1}, {lanes: 3, workers: 2, every: 2, kill: 9, then: 2}} {
		got, figures, err := rj.engine(j, w)
		if err != nil {
			t.Fatal(err)
		}
		want := int64(14 + 100 - 2) // null keys, and every seventh row, some of which have a null key
		if n := int64(len(got["rejects of r"])); n != want || engine.Sum(figures.Steps[0].Rejected) != want {
			t.Errorf("%+v: %d rejects came, %v were counted, want %d", w, n, figures.Steps[0].Rejected, want)
		}
	}
}
