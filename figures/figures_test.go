package figures

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/api"
	"undertide/core/engine"
	"undertide/job"
	"undertide/run"
)

func at(s int) time.Time { return time.Date(2026, 3, 1, 12, 0, s, 0, time.UTC) }

func text(t time.Time) *string { s := t.Format(time.RFC3339); return &s }

// figuresOf makes figures with what the tests look at.
func figuresOf(read, lag int64, busy, wall float64) run.Figures {
	behind, next := 1.5, "2026-03-01T12:01:00Z"
	return run.Figures{WallSeconds: wall, WorkSeconds: busy * wall, Sources: map[string]run.SourceFigures{"levels": {Read: read, LagEvents: &lag, LagSeconds: &behind, Rejected: map[string]int64{"malformed": 2}, Late: 3}},
		Steps: map[string]run.StepFigures{"minute": {RowsIn: read, RowsOut: read / 10, BusyRatio: busy, BlockedRatio: 1 - busy, OpenWindows: 2, NextClose: &next, Late: run.LateFigures{Lost: 3}},
			"hour": {Late: run.LateFigures{Lost: 3}}}, Sinks: map[string]run.SinkFigures{"means": {Rows: read / 10}},
		Pools: []run.PoolFigures{{Name: "workers", Size: 2, BusyRatio: busy / 2}, {Name: "lane 0 of minute", Size: 1, BusyRatio: busy}}}
}

// TestLive: rates, trend and sentence follow from the figures of the last seconds.
func TestLive(t *testing.T) {
	a := Asked{Job: &job.Job{Steps: []job.Step{{Name: "minute"}}, Sinks: []job.Sink{{Name: "means", FromText: "minute"}}}, Status: "running", Since: at(0), Checkpoint: at(35), Restarts: 1}
	var s Series
	for n := range 41 { // 1000 a second come in, 1200 are read; busy 20 % at first, in the last seconds 10 %
		busy := 0.2
		if n > 30 {
			busy = (0.2*30 + 0.1*float64(n-30)) / float64(n)
		}
		s.Add(at(n), figuresOf(int64(1200*n), int64(20_000-200*n), busy, float64(n)))
	}
	r := s.Rates()
	if r.Sources["levels"].Read != 1200 || *r.Sources["levels"].Arriving != 1000 || r.Steps["minute"].Out != 120 || r.Sinks["means"].Rows != 120 {
		t.Errorf("rates: %+v", r)
	}
	if b := r.Steps["minute"].Busy; b < 0.099 || b > 0.101 || r.Work < 0.099 || r.Work > 0.101 {
		t.Errorf("busy over the last seconds: %g, %g a second; want 0.1", b, r.Work)
	}
	l := s.Live(a, r)
	if l.LagTrend != "shrinking" || l.CatchUp == nil || *l.CatchUp != 60 || *l.LagEvents != 12_000 || *l.CheckpointAge != 5 || l.Late != 3 || l.Rejected != 2 || *l.ArrivingPerSecond != 1000 {
		t.Errorf("live: %+v", l)
	}
	if l.Busiest.Name != "lane 0 of minute" || *l.CouldPerSecond < 11_900 || *l.CouldPerSecond > 12_100 {
		t.Errorf("it could do %v, by %+v; want 12,000 by the lane", *l.CouldPerSecond, l.Busiest)
	}
	if want := "Running 40 s. 12,000 events behind, caught up in 1 min 0 s. 2 windows open; the next closes when the watermark passes 2026-03-01 12:01:00 UTC (now nowhere yet). 3 late events lost. 2 rejected."; l.Sentence != want {
		t.Errorf("the sentence:\n%s\nwant\n%s", l.Sentence, want)
	}
	for n := range s.list {
		f := &s.list[n].fig
		x, grown := f.Sources["levels"], int64(500*n)
		x.LagEvents = &grown
		f.Sources["levels"] = x
	}
	a.Checkpoint = time.Time{}
	if l := s.Live(a, r); l.LagTrend != "growing" || l.CatchUp != nil || l.CheckpointAge != nil {
		t.Errorf("a lag that grows: %+v", l)
	}
	s.list = s.list[:40]
	s.Add(at(40), figuresOf(5, 0, 0.5, 1)) // it has recovered: counts went back
	if r := s.Rates(); r.Sources["levels"].Read != 0 || r.Steps["minute"].Busy != 0.5 {
		t.Errorf("rates where counts went back: %+v", r)
	}
	for n := range 200 {
		s.Add(at(41+n), figuresOf(5, 0, 0.5, 1))
	}
	if len(s.list) > 70 {
		t.Errorf("%d moments are kept", len(s.list))
	}
}

// TestStuck: a run that reads nothing more is not about to catch up, whatever its lag does.
func TestStuck(t *testing.T) {
	var s Series
	for n := range 40 {
		read, lag := int64(100_000), int64(9_000)
		if n < 30 {
			read, lag = int64(3000*n), int64(99_000-3000*n)
		}
		s.Add(at(n), figuresOf(read, lag, 0.1, float64(n)))
	}
	l := s.Live(Asked{Job: &job.Job{}, Status: "running", Since: at(0)}, s.Rates())
	if l.CatchUp != nil || strings.Contains(l.Sentence, "caught up") {
		t.Errorf("it says %q", l.Sentence)
	}
}

// document is a job with what causes are found in: two sources that a step with keys reads together, and four sinks.
func document() *job.Job {
	in := func(step bool, at int) engine.Input { return engine.Input{Ref: engine.Ref{OfStep: step, At: at}} }
	j := &job.Job{Name: "lifting",
		Sources: []job.Source{{Name: "lifts", Arrival: true, Idle: time.Minute}, {Name: "orders", Arrival: true, Idle: time.Minute}},
		Steps:   []job.Step{{Name: "heavy", Kind: "filter", From: []engine.Input{in(false, 0)}, Does: []string{"where mass > 90"}}}}
	for _, n := range []string{"a", "b", "c", "slow"} {
		j.Sinks = append(j.Sinks, job.Sink{Name: n})
	}
	return j
}

// TestCauses: each trouble, with figures that show it, is named in words, with its place; what follows from another is not.
func TestCauses(t *testing.T) {
	now := at(59)
	for _, c := range []struct {
		name  string
		then  run.Figures
		now   run.Figures
		kinds string
		text  string
	}{
		{"nothing", run.Figures{}, run.Figures{}, "", ""},
		{"a sink that is slow, not its neighbours", run.Figures{WallSeconds: 20}, run.Figures{WallSeconds: 60, Sinks: map[string]run.SinkFigures{"a": {HeldUpRatio: 0.2}, "b": {}, "c": {}, "slow": {HeldUpRatio: 0.6, Rows: 400}}},
			"sink", "sink slow holds up the run, with sinks a, b, c: rows waited for it 90 % of the last seconds, and it takes 10 a second"},
		{"a sink that takes nothing", run.Figures{WallSeconds: 0}, run.Figures{WallSeconds: 60, Sinks: map[string]run.SinkFigures{"slow": {HeldUpRatio: 1}}}, "sink", "and it takes none"},
		{"a sink that may have no more undelivered", run.Figures{}, run.Figures{WallSeconds: 60, Sinks: map[string]run.SinkFigures{"slow": {HeldUpRatio: 1, WaitingBytes: 1 << 30}}}, "undelivered", "sink slow has 1.0 GiB undelivered, which is as much as it may, and takes no rows"},
		{"a sink that delivers slowly", run.Figures{Sinks: map[string]run.SinkFigures{"slow": {WaitingBytes: 1 << 20}}}, run.Figures{WallSeconds: 60, Sinks: map[string]run.SinkFigures{"slow": {DeliveringRatio: 1, WaitingEpochs: 9, WaitingBytes: 4 << 20}}},
			"delivery", "sink slow delivers more slowly than rows come: 9 checkpoints hold 4 MiB for it"},
		{"one that cannot be reached is the root", run.Figures{}, run.Figures{WallSeconds: 60, Sinks: map[string]run.SinkFigures{"slow": {HeldUpRatio: 1, Trouble: "broker harbour does not answer."}, "a": {Trouble: "broker harbour does not answer."}},
			Pools: []run.PoolFigures{{Name: "workers", BusyRatio: 1}}}, "unreachable", "broker harbour does not answer"},
		{"workers without time", run.Figures{}, run.Figures{WallSeconds: 60, Sources: map[string]run.SourceFigures{"lifts": {Read: 9, BusyRatio: 0.8}}, Steps: map[string]run.StepFigures{"heavy": {BusyRatio: 0.15}},
			Pools: []run.PoolFigures{{Name: "workers", BusyRatio: 0.97}}}, "busy", "the workers are busy 97 % of the time, most with source lifts (80 %)"},
		{"rejects", run.Figures{}, run.Figures{Sources: map[string]run.SourceFigures{"lifts": {Read: 1000, Rejected: map[string]int64{"malformed": 300, "no event time": 2}}}}, "rejects", "30 % of the events of source lifts are rejected (malformed): 300 of 1,000"},
		{"few rejects", run.Figures{}, run.Figures{Sources: map[string]run.SourceFigures{"lifts": {Read: 1000, Rejected: map[string]int64{"malformed": 40}}}}, "", ""},
		{"a filter that drops all", run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 500, Dropped: 500}}}, run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 1500, Dropped: 1500}}},
			"drops_all", `step heavy drops all of its 1,500 rows (where mass > 90), such as {"mass":4}`},
		{"a filter that drops all for a while", run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 500, Dropped: 400, RowsOut: 100}}}, run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 1500, Dropped: 1400, RowsOut: 100}}},
			"drops_all", "step heavy drops all of the last 1,000 rows, where 7 % came through before"},
		{"a filter that lets few through", run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 500, Dropped: 498, RowsOut: 2}}}, run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 1500, Dropped: 1498, RowsOut: 2}}}, "", ""},
		{"a filter that has had few rows", run.Figures{}, run.Figures{Steps: map[string]run.StepFigures{"heavy": {RowsIn: 50, Dropped: 50}}}, "", ""},
		{"a filter that lets some through", run.Figures{Steps: map[string]run.StepFigures{"heavy": {Dropped: 400, RowsOut: 100}}}, run.Figures{Steps: map[string]run.StepFigures{"heavy": {Dropped: 1400, RowsOut: 101}}}, "", ""},
		{"passed over", run.Figures{}, run.Figures{Sources: map[string]run.SourceFigures{"lifts": {Read: 20, PassedOver: 26_000}}}, "passed_over", "26,000 earlier events of lifts were passed over"},
		{"nothing has come", run.Figures{}, run.Figures{Sources: map[string]run.SourceFigures{"lifts": {}}}, "nothing", "no event has come from lifts yet"},
	} {
		t.Run(c.name, func(t *testing.T) {
			var s Series
			s.Add(at(19), c.then)
			s.Add(now, c.now)
			l := s.Live(Asked{Job: document(), Status: "running", Since: at(0), Example: func(part string) string {
				if part == "lifts" {
					return `{"mass":4}`
				}
				return ""
			}}, s.Rates())
			told(t, l, c.kinds, c.text)
		})
	}
}

// TestHeld: the partition or source that the watermark waits for is named, with until when; nothing is where none is behind,
// where it goes on, or where it waits for what has its own cause.
func TestHeld(t *testing.T) {
	path := filepath.Join(t.TempDir(), "moves.yaml")
	if err := os.WriteFile(path, []byte(`undertide: 1
job: moves
sources:
  lifts: {via: file, with: {path: lifts.ndjson, follow: true}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 0s}}
  orders: {via: file, with: {path: orders.ndjson, follow: true}, fields: {crane: string, at: timestamp}, event_time: at, watermark: {margin: 0s, silence: advance}}
steps:
  both: {from: [lifts, orders], key: [crane], window: {tumbling: 1m}, measures: {n: count()}, having: "n > 100"}
sinks:
  out: {from: both, via: file, with: {path: out.ndjson}}
`), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Load(path, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	until := at(90)
	part := func(name string, w *string, last, events int) run.PartitionFigures {
		return run.PartitionFigures{Name: name, Watermark: w, LastEvent: at(last), Events: int64(events)}
	}
	waited := part("1", text(at(2)), 30, 7)
	waited.WaitedUntil = &until
	idle := part("0", text(at(20)), 20, 7)
	idle.Idle = true
	unread := part("1", text(at(2)), 30, 7)
	unread.Position, unread.End = 100, 12_100
	for _, c := range []struct {
		name          string
		lifts, orders []run.PartitionFigures
		byClock       bool
		step          run.StepFigures
		kinds, text   string
	}{
		{"all go on", []run.PartitionFigures{part("0", text(at(20)), 59, 7), part("1", text(at(2)), 58, 7)}, []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, false, run.StepFigures{}, "", ""},
		{"one is waited for", []run.PartitionFigures{part("0", text(at(20)), 59, 7), waited}, []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, false, run.StepFigures{},
			"partition", "partition 1 of lifts has had no event since 2026-03-01 12:00:30 UTC and is waited for until 2026-03-01 12:01:30 UTC"},
		{"one has never had any", []run.PartitionFigures{part("0", text(at(20)), 59, 7), part("1", nil, 0, 0)}, []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, false, run.StepFigures{},
			"partition", "partition 1 of lifts has had no event yet and is waited for, at most 1 min 0 s"},
		{"one of the other source", []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, []run.PartitionFigures{part("0", text(at(1)), 31, 7)}, false, run.StepFigures{}, "partition", "partition 0 of orders"},
		{"one that is not read", []run.PartitionFigures{part("0", text(at(20)), 59, 7), unread}, nil, false, run.StepFigures{}, "partition", "partition 1 of lifts is behind the others with 12,000 that wait there"},
		{"it is idle", []run.PartitionFigures{part("1", text(at(20)), 59, 7), idle}, nil, false, run.StepFigures{}, "", ""},
		{"all are idle", []run.PartitionFigures{idle}, []run.PartitionFigures{idle}, false, run.StepFigures{OpenWindows: 4}, "silent", "nothing has come from lifts, orders since 2026-03-01 12:00:20 UTC, and the watermark stands (silence: hold)"},
		{"all are idle, and nothing is open", []run.PartitionFigures{idle}, []run.PartitionFigures{idle}, false, run.StepFigures{}, "", ""},
		{"by the clock", []run.PartitionFigures{idle}, []run.PartitionFigures{idle}, true, run.StepFigures{OpenWindows: 4}, "clock", "the watermark goes on by the clock"},
		{"having", []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, nil, false, run.StepFigures{Made: 240, Dropped: 240, RowsIn: 900}, "drops_all", "step both drops all of its 240 results (having n > 100)"},
		{"skew", []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, nil, false, run.StepFigures{RowsIn: 87_010, Lanes: []run.LaneFigures{{RowsIn: 10}, {RowsIn: 87_000}}},
			"skew", "lane 1 of step both has had 87,000 of its 87,010 rows, most for C1 (87,000 rows)"},
		{"lanes that are even enough", []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, nil, false, run.StepFigures{RowsIn: 8700, Lanes: []run.LaneFigures{{RowsIn: 2000}, {RowsIn: 6700}}}, "", ""},
		{"null keys", []run.PartitionFigures{part("0", text(at(20)), 59, 7)}, nil, false, run.StepFigures{RowsIn: 4000, Rejected: map[string]int64{"null key": 1200}}, "null_keys", "30 % of the rows of step both have no crane and are rejected (null key): 1,200 of 4,000"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := run.Figures{WallSeconds: 59, Sources: map[string]run.SourceFigures{"lifts": {Read: 9, Partitions: c.lifts, ByClock: c.byClock}, "orders": {Read: 9, Partitions: c.orders, ByClock: c.byClock}}, Steps: map[string]run.StepFigures{"both": c.step}}
			var s Series
			s.Add(at(19), run.Figures{})
			s.Add(at(59), f)
			l := s.Live(Asked{Job: j, Status: "running", Since: at(0), Heaviest: func(string) string { return "C1 (87,000 rows)" }}, s.Rates())
			told(t, l, c.kinds, c.text)
			if c.kinds == "" {
				return
			}
			s.Add(at(80), f)
			for _, cause := range s.Live(Asked{Job: j, Status: "running", Since: at(0)}, s.Rates()).Causes {
				if cause.Kind == c.kinds && cause.Since != at(59) {
					t.Errorf("it holds since %v, want 12:00:59", cause.Since)
				}
			}
		})
	}
}

// told checks which kinds of causes there are, and that the first says what it should.
func told(t *testing.T, l api.Live, kinds, text string) {
	t.Helper()
	var got []string
	for _, c := range l.Causes {
		got = append(got, c.Kind)
	}
	if strings.Join(got, " ") != kinds {
		t.Fatalf("it tells of %v, want %s: %+v", got, kinds, l.Causes)
	}
	if kinds != "" && (!strings.Contains(l.Causes[0].Text, text) || !strings.Contains(strings.ToLower(l.Sentence), strings.ToLower(text))) {
		t.Errorf("it says %q, and in its sentence %q; want %q", l.Causes[0].Text, l.Sentence, text)
	}
}
