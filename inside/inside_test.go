package inside

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"

	"undertide/checkpoint"
	_ "undertide/connect/all"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

const document = `
undertide: 1
job: levels
sources:
  levels:
    via: file
    with: {path: levels.ndjson}
    fields: {gauge: string, level_m: double, n: int, at: {type: timestamp, parse: epoch_us}}
    event_time: at
    watermark: {margin: 0s, ahead: none}
steps:
  minute: {from: levels, key: [gauge], window: {tumbling: 1m}, measures: {readings: count(), mean_m: mean(level_m), share: "double(count_if(level_m > 4.0)) / double(count())"}}
  slide: {from: levels, key: [gauge], window: {sliding: 1m, by: 30s}, measures: {readings: count()}, late: {accept: 1m}}
  visits: {from: levels, key: [gauge], window: {session: 40s}, measures: {readings: count(), best: "largest(n, 2)"}}
  once: {from: levels, deduplicate: {key: [gauge, n], within: 2m}}
  quiet: {from: levels, key: [gauge], absent: 1m}
  all: {from: levels, key: [gauge], measures: {readings: count()}, forget: 1h}
  back: {from: levels, key: [gauge], window: {look_back: 1m}, measures: {readings: count()}}
  short: {from: levels, only: [gauge, at]}
sinks:
  out: {from: minute, via: file, with: {path: out.ndjson}}
`

// world keeps every step of the document, in one lane each, in a folder of checkpoints.
type world struct {
	t     *testing.T
	job   *job.Job
	dir   string
	store *checkpoint.Store
	lanes map[string]step.Lane
	mark  row.Time
	epoch int64
}

func newWorld(t *testing.T) *world {
	j, err := job.Parse("levels.yaml", document, job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	w := &world{t: t, job: j, dir: t.TempDir(), lanes: map[string]step.Lane{}, mark: row.MinTime}
	if w.store, err = checkpoint.Open(checkpoint.Disk, w.dir, checkpoint.Options{Job: "levels", Digest: "d", Keep: 3}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := w.store.Close(); err != nil {
			t.Error(err)
		}
	})
	for i := range j.Steps {
		if s := &j.Steps[i]; s.Keyed != nil {
			w.lanes[s.Name] = s.Keyed.NewLane(step.LaneOptions{Keeps: true})
		}
	}
	return w
}

type nowhere struct{}

func (nowhere) Main(step.View)                { _ = 0 }
func (nowhere) Late(step.View)                {}
func (nowhere) Reject(step.View, step.Reject) {}

// reading is an event: gauge, level, number, second.
type reading struct {
	gauge  string
	level  float64
	n, sec int64
}

// give gives all steps some events, and a checkpoint after them.
func (w *world) give(events ...reading) {
	w.t.Helper()
	b := row.NewBatch(w.job.Sources[0].Schema)
	turn := step.Turn{}
	for i, e := range events {
		b.Cols[0].AppendString(e.gauge)
		b.Cols[1].AppendDouble(e.level)
		b.Cols[2].AppendInt(e.n)
		b.Cols[3].AppendInt(e.sec * 1e6)
		b.Times, b.Index = append(b.Times, row.Time(e.sec*1e6)), append(b.Index, uint16(i))
		b.N++
		turn.Marks = append(turn.Marks, w.mark)
		w.mark = max(w.mark, row.Time(e.sec*1e6))
	}
	turn.After = w.mark
	w.epoch++
	snap := &engine.Snapshot{Epoch: w.epoch, StepWatermarks: map[string]row.Time{}}
	for i := range w.job.Steps {
		s := &w.job.Steps[i]
		if s.Keyed == nil {
			continue
		}
		x := s.Keyed.Spec().NewExchange(1)
		x.Fill(step.ViewOf(b), nil)
		w.lanes[s.Name].Take(x, 0, &turn, nowhere{})
		w.lanes[s.Name].Move(&turn, nowhere{})
		snap.StepWatermarks[s.Name] = w.mark
		snap.Changes = append(snap.Changes, engine.LaneChanges{Step: s.Name, Lanes: 1, Tables: w.lanes[s.Name].Freeze()})
	}
	if _, err := w.store.Save(snap); err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) open(name string, epoch int64) *Step {
	w.t.Helper()
	s, err := Open(w.dir, epoch, w.job, name)
	if err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() {
		if err := s.Close(); err != nil {
			w.t.Error(err)
		}
	})
	return s
}

// lines gives rows as CSV, sorted, without the head.
func (w *world) lines(s *Step, a Asked) []string {
	w.t.Helper()
	var b bytes.Buffer
	if _, err := s.Write(&b, "csv", a); err != nil {
		w.t.Fatal(err)
	}
	all := strings.Split(strings.TrimSpace(strings.ReplaceAll(b.String(), "\r", "")), "\n")
	return slices.Sorted(slices.Values(all[1:]))
}

func at(sec int64) string { return row.Time(sec * 1e6).String() }

// TestShown: each kind of step shows what it keeps as results, with the W at which it ends; what has passed is not shown.
func TestShown(t *testing.T) {
	w := newWorld(t)
	w.give(reading{"G1", 3.5, 1, 5}, reading{"G2", 4.5, 2, 20}, reading{"G1", 5.5, 3, 50}, reading{"G2", 1, 4, 62}, reading{"G1", 2, 5, 70})
	for _, c := range []struct {
		step string
		a    Asked
		want []string
	}{
		{"minute", Asked{}, []string{"G1," + at(60) + "," + at(120) + ",1,1,2,0," + at(120), "G2," + at(60) + "," + at(120) + ",1,1,1,0," + at(120)}},
		{"minute", Asked{Key: []string{"G1"}}, []string{"G1," + at(60) + "," + at(120) + ",1,1,2,0," + at(120)}},
		{"minute", Asked{Key: []string{"gauge=G3"}}, nil},
		{"slide", Asked{}, []string{"G1," + at(0) + "," + at(30) + ",1,1," + at(120), "G1," + at(30) + "," + at(60) + ",1,1," + at(150), "G1," + at(60) + "," + at(90) + ",1,1," + at(180),
			"G2," + at(0) + "," + at(30) + ",1,1," + at(120), "G2," + at(60) + "," + at(90) + ",1,1," + at(180)}},
		{"slide", Asked{Table: "shown"}, []string{"G1," + at(-30) + ",1,true", "G1," + at(0) + ",1,true", "G2," + at(-30) + ",1,true", "G2," + at(0) + ",1,true"}},
		{"visits", Asked{}, []string{`G1,` + at(50) + `,` + at(110) + `,2,2,"[5,3]",` + at(110), `G2,` + at(62) + `,` + at(102) + `,1,1,[4],` + at(102)}},
		{"once", Asked{}, []string{"G1,1," + at(5) + "," + at(125), "G1,3," + at(50) + "," + at(170), "G1,5," + at(70) + "," + at(190), "G2,2," + at(20) + "," + at(140), "G2,4," + at(62) + "," + at(182)}},
		{"once", Asked{Key: []string{"n=4"}}, []string{"G2,4," + at(62) + "," + at(182)}},
		{"quiet", Asked{}, []string{"G1," + at(70) + "," + at(130), "G2," + at(62) + "," + at(122)}},
		{"all", Asked{}, []string{"G1," + at(70) + ",3,3," + at(3670), "G2," + at(62) + ",2,2," + at(3662)}},
		{"back", Asked{}, []string{"G1," + at(50) + ",1,1," + at(110), "G2," + at(20) + ",1,1," + at(80), "G2," + at(62) + ",1,1," + at(122)}},
		{"back", Asked{Table: "waiting"}, []string{"G1," + at(70) + ",G1,2,5," + at(70) + "," + at(70)}},
	} {
		got := w.lines(w.open(c.step, 0), c.a)
		if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s %+v shows\n%s\nwant\n%s", c.step, c.a, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
	w.give(reading{"G3", 1, 9, 200}) // all ids but this one have passed; their span has not
	if got := w.lines(w.open("once", 0), Asked{}); len(got) != 1 || !strings.HasPrefix(got[0], "G3,9") {
		t.Errorf("ids that passed are shown: %v", got)
	}
	if raw := w.lines(w.open("minute", 1), Asked{Raw: true}); len(raw) != 2 || raw[0] != "G1,"+at(60)+",1,0,2,1,1,0" {
		t.Errorf("raw: %q", raw)
	}
}

// TestSpansAndSkew counts windows, and keys by share and lane.
func TestSpansAndSkew(t *testing.T) {
	w := newWorld(t)
	var events []reading
	for i := range int64(100) {
		events = append(events, reading{fmt.Sprintf("G%d", i%10), 1, i, 60 + i%50})
	}
	events = append(events, slices.Repeat([]reading{{"G7", 1, 1, 119}}, 90)...)
	w.give(events...)
	spans, err := w.open("minute", 0).ShowSpans()
	if err != nil || len(spans.Spans) != 1 || spans.Spans[0].Keys != 10 || spans.Spans[0].Rows != 190 || *spans.Spans[0].In != 1 || !spans.Spans[0].Until.Equal(row.Time(120e6).Std()) {
		t.Errorf("spans: %+v, %v", spans, err)
	}
	k, err := w.open("minute", 0).ShowSkew(3, 2)
	if err != nil || k.Keys != 10 || k.Rows != 190 || len(k.Lanes) != 3 || len(k.Heaviest) != 2 || k.Heaviest[0].Key != "G7" || k.Heaviest[0].Rows != 100 {
		t.Fatalf("skew: %+v, %v", k, err)
	}
	var keys, rows int64
	for _, l := range k.Lanes {
		keys, rows = keys+l.Keys, rows+l.Rows
	}
	if keys != 10 || rows != 190 {
		t.Errorf("the lanes have %d keys and %d rows", keys, rows)
	}
}

// TestCompare: what came, changed and went between two checkpoints, each with the rows of both.
func TestCompare(t *testing.T) {
	w := newWorld(t)
	w.give(reading{"G1", 1, 1, 10}, reading{"G2", 1, 2, 20})
	w.give(reading{"G2", 3, 3, 30}, reading{"G3", 1, 4, 40})
	c, err := ShowCompared(w.open("minute", 1), w.open("minute", 2), Asked{})
	if err != nil || c.Same != 1 || c.Came != 1 || c.Changed != 1 || c.Went != 0 || len(c.Differences) != 2 {
		t.Fatalf("%+v, %v", c, err)
	}
	if one, err := ShowCompared(w.open("minute", 1), w.open("minute", 2), Asked{Key: []string{"gauge=G2"}}); err != nil || one.Same != 0 || one.Came != 0 || one.Changed != 1 || len(one.Differences) != 1 {
		t.Errorf("of one key: %+v, %v", one, err)
	}
	for _, d := range c.Differences {
		if was := string(d.Was); strings.Contains(string(d.Is), "G3") != (was == "null") || was != "null" && !strings.Contains(was, `"mean_m":1,`) {
			t.Errorf("was %s, is %s", d.Was, d.Is)
		}
	}
	w.give(reading{"G4", 1, 5, 70}) // the window is closed
	if c, err = ShowCompared(w.open("minute", 2), w.open("minute", 3), Asked{Limit: 1}); err != nil || c.Went != 3 || c.Came != 1 || len(c.Differences) != 1 {
		t.Errorf("%+v, %v", c, err)
	}
}

// TestParquet: any reader of Parquet opens what is written.
func TestParquet(t *testing.T) {
	w := newWorld(t)
	w.give(reading{"G1", 3.5, 1, 10}, reading{"G1", 4.5, 2, 20})
	var b bytes.Buffer
	if _, err := w.open("visits", 0).Write(&b, "parquet", Asked{}); err != nil {
		t.Fatal(err)
	}
	type visit struct {
		Gauge    string  `parquet:"gauge"`
		Start    int64   `parquet:"window_start"`
		Readings int64   `parquet:"readings"`
		Best     []int64 `parquet:"best,list"`
	}
	rows, err := parquet.Read[visit](bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil || len(rows) != 1 || !reflect.DeepEqual(rows[0], visit{"G1", 10e6, 2, []int64{2, 1}}) {
		t.Errorf("%+v, %v", rows, err)
	}
}

// TestWrong: what cannot be shown is said with what can.
func TestWrong(t *testing.T) {
	w := newWorld(t)
	w.give(reading{"G1", 1, 1, 10})
	open := func(name string, epoch int64) error {
		s, err := Open(w.dir, epoch, w.job, name)
		if err == nil {
			err = s.Close()
		}
		return err
	}
	for want, err := range map[string]error{"did you mean minute": open("minutes", 0), "those that do are minute, slide": open("xyz", 0), "no step short": open("short", 0), "9 is not in": open("minute", 9)} {
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	if err := open("minute", 9); !errors.Is(err, checkpoint.ErrNoCheckpoint) {
		t.Error(err)
	}
	s := w.open("minute", 0)
	for want, a := range map[string]Asked{"crane is not a field": {Key: []string{"crane=1"}}, "the key has 1 fields": {Key: []string{"G1", "2"}}, "no table nope": {Table: "nope"}} {
		if _, err := s.Show(a); !errors.Is(err, ErrUsage) || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", a, err)
		}
	}
	other, err := job.Parse("levels.yaml", strings.Replace(document, "mean(level_m)", "max(level_m)", 1), job.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(w.dir, 0, other, "minute"); !errors.Is(err, ErrUsage) || !strings.Contains(err.Error(), "another text of the job") {
		t.Errorf("another version of the step: %v", err)
	}
}
