package figures

import (
	"strings"
	"testing"
	"time"

	"undertide/api"
	"undertide/job"
	"undertide/run"

	_ "undertide/connect/all"
)

// TestAdvice: each advice is given where its numbers say so, with these numbers, and not where they do not.
func TestAdvice(t *testing.T) {
	j, err := job.Parse("a.yaml", `undertide: 1
job: loads
settings: {checkpoint: {every: 500ms}}
sources:
  lifts: {via: file, with: {path: lifts.ndjson, follow: true}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 5s}}
steps:
  minute: {from: lifts, key: [crane], window: {tumbling: 1m}, measures: {n: count()}}
sinks:
  loads: {from: minute, via: file, with: {path: loads/}}
`, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	// Without a key all rows are together, and no finer key is missing.
	if whole, err := job.Parse("b.yaml", `undertide: 1
job: loads
sources: {lifts: {via: file, with: {path: lifts.ndjson}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 5s}}}
steps: {minute: {from: lifts, window: {tumbling: 1m}, measures: {n: count()}}}
sinks: {loads: {from: minute, via: file, with: {path: loads/}}}
`, job.Options{}); err != nil {
		t.Fatal(err)
	} else if _, _, all := fullest(&whole.Steps[0], []run.LaneFigures{{RowsIn: 100_000}, {}}); all != 0 {
		t.Errorf("without a key %d rows count as uneven", all)
	}
	lanes := func(rows ...int64) (out []run.LaneFigures) {
		for _, n := range rows {
			out = append(out, run.LaneFigures{RowsIn: n})
		}
		return out
	}
	some := func(n int64) *int64 { return &n }
	for _, c := range []struct {
		name  string
		age   time.Duration
		cpus  int
		step  run.StepFigures
		sink  run.SinkFigures
		live  api.Live
		rates api.Rates
		lag   *int64
		want  string // of the one that is given; empty for none
	}{
		{name: "all is well", age: time.Hour, cpus: 2, step: run.StepFigures{RowsIn: 10_000, Lanes: lanes(5000, 5000)}},
		{name: "a lane has no time left", age: time.Hour, cpus: 8, step: run.StepFigures{Lanes: lanes(900, 800)}, live: api.Live{Busiest: api.PoolShare{Name: "lane 0 of minute", Busy: 0.97}}, rates: api.Rates{Work: 2.1},
			want: "lanes: lane 0 of minute is busy 97 % of the time, and the run takes 2.1 of 8 CPUs: with lanes: 8 in place of 2 its steps would have up to 4 times as much time"},
		{name: "and no CPU is free", age: time.Hour, cpus: 8, step: run.StepFigures{Lanes: lanes(900, 800)}, live: api.Live{Busiest: api.PoolShare{Name: "lane 0 of minute", Busy: 0.97}}, rates: api.Rates{Work: 7.9}},
		{name: "it began just now", age: 50 * time.Second, cpus: 8, step: run.StepFigures{Lanes: lanes(900, 800)}, live: api.Live{Busiest: api.PoolShare{Name: "lane 0 of minute", Busy: 0.97}}, rates: api.Rates{Work: 2.1}},
		{name: "many lanes", age: time.Hour, cpus: 2, step: run.StepFigures{Lanes: lanes(9, 8, 9, 8, 9)}, want: "lanes: 5 lanes share 2 CPUs: no more than 2 are at work at once"},
		{name: "few partitions", age: time.Hour, cpus: 4, live: api.Live{LagTrend: "growing", Busiest: api.PoolShare{Name: "workers", Busy: 0.2}}, lag: some(12_000),
			want: "partitions: 12,000 events of lifts wait while the busiest, workers, is so 20 % of the time: it has 1 partition, each of which is read by one reader; here up to 4 can be read side by side"},
		{name: "few partitions, and something holds it", age: time.Hour, cpus: 4, live: api.Live{LagTrend: "growing", Busiest: api.PoolShare{Name: "workers", Busy: 0.2}, Causes: []api.Cause{{Kind: Sink, Grave: true}}}, lag: some(12_000)},
		{name: "one key", age: time.Hour, cpus: 8, step: run.StepFigures{Lanes: lanes(98_000, 1000, 500, 500)},
			want: "key: one lane of step minute has 98,000 of 100,000 rows, most of them of crane=C1 (97,000 rows): its 4 lanes do the work of 1.0; with a key that tells more rows apart than crane they would do that of up to 4"},
		{name: "uneven, a little", age: time.Hour, cpus: 8, step: run.StepFigures{Lanes: lanes(40_000, 30_000, 20_000, 10_000)}},
		{name: "late", age: time.Hour, cpus: 2, step: run.StepFigures{RowsIn: 100_000, Late: run.LateFigures{Lost: 900, MostSeconds: 38.2}},
			want: "margin: step minute has lost 900 of 100,000 rows as late (0.9 %), the latest by 38s: a margin of 43s in place of 5s would have kept all, and each result comes 38s later"},
		{name: "hardly late", age: time.Hour, cpus: 2, step: run.StepFigures{RowsIn: 100_000, Late: run.LateFigures{Lost: 99, MostSeconds: 38}}},
		{name: "small files", age: time.Hour, cpus: 2, sink: run.SinkFigures{Rows: 86_400},
			want: "roll: sink loads makes a file at each checkpoint, every 500ms, of about 12 rows: roll: {every: 10m} makes one of 14,400"},
		{name: "large files", age: time.Hour, cpus: 2, sink: run.SinkFigures{Rows: 86_400_000}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var s Series
			partition := []run.PartitionFigures{{Name: "0"}}
			s.Add(at(0), run.Figures{Sinks: map[string]run.SinkFigures{"loads": {}}})
			s.Add(at(0).Add(c.age), run.Figures{Sources: map[string]run.SourceFigures{"lifts": {LagEvents: c.lag, Partitions: partition}}, Steps: map[string]run.StepFigures{"minute": c.step}, Sinks: map[string]run.SinkFigures{"loads": c.sink}})
			got := s.advice(Asked{Job: j, Since: at(0), CPUs: c.cpus, Heaviest: func(string) string { return "crane=C1 (97,000 rows)" }}, &c.live, c.rates)
			var said []string
			for _, a := range got {
				said = append(said, a.Kind+": "+a.Text)
			}
			if c.want == "" && len(said) > 0 || c.want != "" && (len(said) != 1 || !strings.HasPrefix(said[0], c.want)) {
				t.Errorf("advice is\n%s\nwant\n%s", strings.Join(said, "\n"), c.want)
			}
		})
	}
}
