package run

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/job"
	"undertide/pace"
)

// TestSquares: a join whose rows all have one key makes the square of them within a turn, before a step that counts them.
// What stands between the two is bounded, however many pairs there are: they would take some 100 bytes each.
func TestSquares(t *testing.T) {
	events := pace.Of(3000, 1200) // of a side, in one turn each
	j, err := job.Parse("squares.yaml", `undertide: 1
job: squares
sources:
  a: {via: file, with: {path: a.ndjson}, fields: {k: string, v: int, t: {type: timestamp, parse: epoch_ms}}, event_time: t, watermark: {margin: 0s, ahead: none}}
  b: {via: file, with: {path: b.ndjson}, fields: {k: string, v: int, t: {type: timestamp, parse: epoch_ms}}, event_time: t, watermark: {margin: 0s, ahead: none}}
steps:
  pairs: {join: {left: a, right: b, match: [k], within: 1h}}
  counts: {from: pairs, key: [k], window: {tumbling: 1h}, measures: {n: count(), sum: sum(a_v)}}
sinks:
  out: {from: counts, via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	g := &engine.Graph{Steps: j.Flow(nil)}
	for s := range j.Sources {
		m := &memory.Partition{Called: "p", Turn: events, Ends: true}
		for i := range events {
			m.Events = append(m.Events, fmt.Sprintf(`{"k":"one","v":%d,"t":%d}`, i, i))
		}
		g.Sources = append(g.Sources, j.Sources[s].On([]engine.Partition{m}, true))
	}
	out := &memory.Sink{}
	g.Sinks = append(g.Sinks, engine.SinkNode{Name: "out", From: j.Sinks[0].From, Schema: j.Sinks[0].Schema, Sink: out})
	before := heap()
	ctx, stop := context.WithCancel(context.Background())
	most := make(chan uint64)
	go func() {
		var m uint64
		for ctx.Err() == nil {
			m = max(m, heap())
			time.Sleep(2 * time.Millisecond)
		}
		most <- m
	}()
	_, err = engine.Run(context.Background(), g, engine.Options{Lanes: 2})
	stop()
	if err != nil {
		t.Fatal(err)
	}
	n := events * events
	if want := fmt.Sprintf(`"n":%d,"sum":%d`, n, n/2*(events-1)); !strings.Contains(string(out.Rows()), want) {
		t.Fatalf("%s\nwant %s", out.Rows(), want)
	}
	if grown := int64(<-most) - int64(before); grown > 80<<20 {
		t.Errorf("%d pairs took %d MiB", n, grown>>20)
	}
}

// heap is what is in use, garbage that was not taken back yet with it.
func heap() uint64 {
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return m.HeapAlloc
}
