package run

import (
	"strings"
	"testing"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/job"
)

// TestRankWaits: rows that the watermark has not passed are saved and loaded into other lanes, and ranked with those that
// come later; a row whose expression has an error is a reject.
func TestRankWaits(t *testing.T) {
	doc, err := job.Parse("rank.yaml", `undertide: 1
job: rank
sources:
  s: {via: file, with: {path: s.ndjson}, fields: {k: string, t: {type: timestamp, parse: epoch_us}}, event_time: t, watermark: {margin: 0s, ahead: none}}
steps:
  w: {from: s, key: [k], window: {tumbling: 10us}, measures: {n: count()}}
  top: {from: w, rank: {by: 100 / (n - 1), keep: 1}}
sinks:
  out: {from: top, via: file, with: {path: out.ndjson}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	l := &lanesOf{def: doc.Steps[1].Keyed, enc: TextOf(doc.Steps[1].Schema), kept: state.NewMemory()}
	l.renew(2)
	in := func(k string, n int64) *row.Batch {
		b := row.NewBatch(doc.Steps[0].Schema)
		b.Cols[0].AppendString(k)
		b.Cols[1].AppendInt(0)
		b.Cols[2].AppendInt(10)
		b.Cols[3].AppendInt(n)
		b.N, b.Times, b.Index = 1, []row.Time{9}, []uint16{0}
		return b
	}
	if got := append(l.turn(in("a", 5), never, 9, 0), l.turn(in("b", 1), never, 9, 0)...); len(got) > 0 {
		t.Errorf("rows came before the watermark passed them: %v", got)
	}
	if err := l.restart(3); err != nil {
		t.Fatal(err)
	}
	l.turn(in("c", 3), never, 9, 0)
	if got := strings.Join(l.turn(nil, never, 10, 0), " "); got != `{"k":"c","window_start":"1970-01-01T00:00:00Z","window_end":"1970-01-01T00:00:00.00001Z","n":3}` {
		t.Errorf("the first of the window: %s", got)
	}
	if len(l.rejects) != 1 || !strings.Contains(l.rejects[0], "division by zero") {
		t.Errorf("rejects: %v", l.rejects)
	}
}
