package main

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/go-faster/jx"

	"undertide/bench/floor"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/run"
)

// workload is one line of the table: its input, its document, and its floor.
type workload struct {
	name string
	rows int
	keys int
	span time.Duration // of the input's event times
	// disorder: one row in so many is out of order, by up to 5 s; 0 for all of them.
	disorder int
	// pairs: two rows one after another have the same key and time, and keys take turns; the second of each goes to a file of
	// its own, OTHERS.
	pairs bool
	text  string // the document's steps and sinks, and its references, whose file REFERENCE names
	// textOnly: it is not measured from ready batches.
	textOnly bool
	// form is that of the input: "" for NDJSON, csv, avro or parquet.
	form string
	// silent: no row comes out.
	silent bool
	// base: it is there for others to be compared with, and has no line of its own.
	base bool
	// besideEncoder: from text it is compared with the encoder alone, which writes rows like those that come out, by rows a second.
	besideEncoder bool
	// against names a workload whose engine run stands in the floor's place.
	against string
	// reach is what the ratio is to be, from text and from ready batches; 0 for nothing.
	reach [2]float64
	// reachLanes is what two lanes are to be of one.
	reachLanes float64
	// floors: from text and from ready batches.
	floorText func(path, out string) error
	floorCore func(batches []*row.Batch) int64
}

const (
	hour   = int64(time.Hour / time.Millisecond)
	margin = int64(10 * time.Second / time.Millisecond)
)

const head = `
undertide: 1
job: bench
sources:
  readings:
    via: file
    with: {path: %q}
    fields:
      gauge: string
      level_m: double
      battery_v: double
      seq: int
      read_at: {type: timestamp, parse: epoch_ms}
    event_time: read_at
    watermark: {margin: 10s, ahead: none}
`

const tumbling = `
steps:
  hourly:
    from: readings
    key: [gauge]
    window: {tumbling: 1h}
    measures: {n: count(), mean_m: mean(level_m), greatest_m: max(level_m)}
sinks:
  out: {from: hourly, via: file, with: {path: %q}}
`

var workloads = []workload{
	{
		name: "decode", silent: true, rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, reach: [2]float64{1.4, 0},
		text: `
steps:
  none: {from: readings, where: "false"}
sinks:
  out: {from: none, via: file, with: {path: %q}}
`,
		floorText: func(path, _ string) error {
			return eachEvent(path, func([]byte, *floor.Event) {})
		},
	},
	{
		name: "tumbling", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, reach: [2]float64{1.3, 0.7}, reachLanes: 1.8,
		text:      tumbling,
		floorText: tumblingFloor(eachEvent),
		floorCore: func(batches []*row.Batch) int64 {
			t := floor.NewTumbling(hour, margin, nil)
			for _, b := range batches {
				levels, times := b.Cols[1].F, b.Times
				for i := range b.N {
					t.Add(b.Cols[0].Bytes(i), levels[i], int64(times[i])/1000)
				}
			}
			t.Finish()
			return t.Rows
		},
	},
	{name: "tumbling from CSV", form: "csv", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, text: tumbling, floorText: tumblingFloor(eachOfCSV)},
	{name: "tumbling from Avro", form: "avro", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, text: tumbling, floorText: tumblingFloor(eachOfAvro)},
	{name: "tumbling from Parquet", form: "parquet", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, text: tumbling, floorText: tumblingFloor(eachOfParquet)},
	{
		name: "sliding", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, against: "tumbling", besideEncoder: true, reach: [2]float64{0.9, 0.33},
		text: `
steps:
  hourly:
    from: readings
    key: [gauge]
    window: {sliding: 1h, by: 1m}
    measures: {n: count(), mean_m: mean(level_m), greatest_m: max(level_m)}
sinks:
  out: {from: hourly, via: file, with: {path: %q}}
`,
	},
	{
		name: "session", rows: 3_000_000, keys: 100_000, span: 20 * time.Hour, disorder: 20, reach: [2]float64{1, 0.9},
		text: `
steps:
  visits:
    from: readings
    key: [gauge]
    window: {session: 30m}
    measures: {n: count(), mean_m: mean(level_m), greatest_m: max(level_m)}
sinks:
  out: {from: visits, via: file, with: {path: %q}}
`,
		floorText: func(path, out string) error {
			return toFile(out, func(w *bufio.Writer) error {
				s := floor.NewSessions(hour/2, margin, w)
				err := eachEvent(path, func(key []byte, e *floor.Event) { s.Add(key, e.Level, e.ReadAt) })
				s.Finish()
				return err
			})
		},
		floorCore: func(batches []*row.Batch) int64 {
			s := floor.NewSessions(hour/2, margin, nil)
			for _, b := range batches {
				levels, times := b.Cols[1].F, b.Times
				for i := range b.N {
					s.Add(b.Cols[0].Bytes(i), levels[i], int64(times[i])/1000)
				}
			}
			s.Finish()
			return s.Rows
		},
	},
	{
		name: "deduplicate", rows: 3_000_000, keys: 1_000_000, span: 20 * time.Hour, reach: [2]float64{1.2, 0},
		text: `
steps:
  once: {from: readings, deduplicate: {key: [gauge], within: 24h}}
  short: {from: once, only: [gauge]}
sinks:
  out: {from: short, via: file, with: {path: %q}}
`,
		floorText: func(path, out string) error {
			return toFile(out, func(w *bufio.Writer) error {
				d := floor.NewFirsts(w)
				return eachEvent(path, func(key []byte, e *floor.Event) { d.Add(key, e.ReadAt) })
			})
		},
		floorCore: func(batches []*row.Batch) int64 {
			d := floor.NewFirsts(nil)
			for _, b := range batches {
				for i := range b.N {
					d.Add(b.Cols[0].Bytes(i), int64(b.Times[i])/1000)
				}
			}
			return d.Rows
		},
	},
	{
		name: "many keys", rows: 3_000_000, keys: 1_000_000, span: 20 * time.Hour, reach: [2]float64{1.2, 0},
		text: `
steps:
  yearly:
    from: readings
    key: [gauge]
    window: {tumbling: 365d}
    measures: {n: count()}
sinks:
  out: {from: yearly, via: file, with: {path: %q}}
`,
		floorText: func(path, out string) error {
			return toFile(out, func(w *bufio.Writer) error {
				c := floor.NewCounts(w)
				err := eachEvent(path, func(key []byte, _ *floor.Event) { c.Add(key) })
				c.Finish()
				return err
			})
		},
		floorCore: func(batches []*row.Batch) int64 {
			c := floor.NewCounts(nil)
			for _, b := range batches {
				for i := range b.N {
					c.Add(b.Cols[0].Bytes(i))
				}
			}
			c.Finish()
			return c.Rows
		},
	},
	{
		name: "join", rows: 2_000_000, keys: 100_000, span: 20 * time.Hour, pairs: true,
		text: `
  others:
    via: file
    with: {path: OTHERS}
    fields: {gauge: string, level_m: double, battery_v: double, seq: int, read_at: {type: timestamp, parse: epoch_ms}}
    event_time: read_at
    watermark: {margin: 10s, ahead: none}
steps:
  pairs:
    join: {left: readings, right: others, match: [gauge], within: 1m}
    only: [gauge, readings_level_m, others_level_m]
sinks:
  out: {from: pairs, via: file, with: {path: %q}}
`,
		floorText: func(path, out string) error {
			return toFile(out, func(w *bufio.Writer) error {
				j := floor.NewJoin(hour/60, margin, w)
				return eachOfTwo(path, others(path), func(key []byte, e *floor.Event) { j.Add(key, int(e.Seq&1), e.Level, e.ReadAt) })
			})
		},
		floorCore: func(batches []*row.Batch) int64 {
			j := floor.NewJoin(hour/60, margin, nil)
			for _, b := range batches {
				levels, seqs := b.Cols[1].F, b.Cols[3].I
				for i := range b.N {
					j.Add(b.Cols[0].Bytes(i), int(seqs[i]&1), levels[i], int64(b.Times[i])/1000)
				}
			}
			return j.Rows
		},
	},
	{
		name: "counted", rows: 3_000_000, keys: 100_000, span: 20 * time.Hour, disorder: 20, base: true,
		text: `
steps:
  yearly:
    from: readings
    key: [gauge]
    window: {tumbling: 365d}
    measures: {n: count(), greatest_m: max(level_m), greatest_v: max(battery_v)}
sinks:
  out: {from: yearly, via: file, with: {path: %q}}
`,
	},
	{
		name: "lookup in 100,000 rows", rows: 3_000_000, keys: 100_000, span: 20 * time.Hour, disorder: 20, against: "counted", textOnly: true,
		text: `
references:
  gauges: {via: file, with: {path: REFERENCE}, decode: csv, fields: {id: string, name: string, depth_m: double, since: {type: timestamp, parse: epoch_ms}}, key: [id]}
steps:
  named: {from: readings, lookup: {reference: gauges, match: {gauge: id}, add: {name: name, depth_m: depth_m}}}
  yearly:
    from: named
    key: [gauge]
    window: {tumbling: 365d}
    measures: {n: count(), greatest_m: max(level_m), deepest_m: max(depth_m)}
sinks:
  out: {from: yearly, via: file, with: {path: %q}}
`,
	},
	{
		name: "lookup as of event time", rows: 3_000_000, keys: 100_000, span: 20 * time.Hour, disorder: 20, against: "lookup in 100,000 rows", textOnly: true,
		text: `
references:
  gauges: {via: file, with: {path: REFERENCE}, decode: csv, fields: {id: string, name: string, depth_m: double, since: {type: timestamp, parse: epoch_ms}}, key: [id], event_time: since, watermark: {margin: 1s, ahead: none}}
steps:
  named: {from: readings, lookup: {reference: gauges, match: {gauge: id}, add: {name: name, depth_m: depth_m}, as_of: event_time}}
  yearly:
    from: named
    key: [gauge]
    window: {tumbling: 365d}
    measures: {n: count(), greatest_m: max(level_m), deepest_m: max(depth_m)}
sinks:
  out: {from: yearly, via: file, with: {path: %q}}
`,
	},
	{
		name: "filter and compute", rows: 3_000_000, keys: 300, span: 30 * 24 * time.Hour, reach: [2]float64{1.2, 0.8},
		text: `
steps:
  strong:
    from: readings
    where: level_m > 1.0 && battery_v > 11.5
    set:
      cm: level_m * 100.0
      drop_v: 12.6 - battery_v
      even: seq % 2 == 0
sinks:
  out: {from: strong, via: file, with: {path: %q}}
`,
		floorText: func(path, out string) error {
			return toFile(out, func(w *bufio.Writer) error {
				var buf []byte
				return eachEvent(path, func(key []byte, e *floor.Event) {
					cm, drop, even, ok := floor.Filter(e.Level, e.Battery, e.Seq)
					if ok {
						buf = floor.AppendFiltered(buf[:0], key, e.Level, e.Battery, e.Seq, e.ReadAt, cm, drop, even)
						w.Write(buf) // the error stays with the writer, whose Flush is checked
					}
				})
			})
		},
		floorCore: func(batches []*row.Batch) int64 {
			var n int64
			var sum float64
			for _, b := range batches {
				levels, batteries, seqs := b.Cols[1].F, b.Cols[2].F, b.Cols[3].I
				for i := range b.N {
					cm, drop, even, ok := floor.Filter(levels[i], batteries[i], seqs[i])
					if ok {
						n++
						sum += cm + drop
						if even {
							sum++
						}
					}
				}
			}
			sink = sum
			return n
		},
	},
}

// tumblingFloor is the loop by hand over events of some form.
func tumblingFloor(each func(path string, f func(key []byte, e *floor.Event)) error) func(path, out string) error {
	return func(path, out string) error {
		return toFile(out, func(w *bufio.Writer) error {
			t := floor.NewTumbling(hour, margin, w)
			err := each(path, func(key []byte, e *floor.Event) { t.Add(key, e.Level, e.ReadAt) })
			t.Finish()
			return err
		})
	}
}

var sink float64 // keeps the floor's results alive

func eachEvent(path string, f func(key []byte, e *floor.Event)) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	d := jx.DecodeBytes(nil)
	var e floor.Event
	var key []byte
	return floor.Lines(in, func(line []byte) error {
		if err := floor.Decode(d, line, &e, &key); err != nil {
			return err
		}
		f(key, &e)
		return nil
	})
}

// eachOfTwo reads two files as one stream, the earlier event first.
func eachOfTwo(left, right string, f func(key []byte, e *floor.Event)) error {
	type side struct {
		lines *bufio.Scanner
		e     floor.Event
		key   []byte
		more  bool
	}
	d := jx.DecodeBytes(nil)
	var sides [2]side
	next := func(s *side) error {
		if s.more = s.lines.Scan(); !s.more {
			return s.lines.Err()
		}
		return floor.Decode(d, s.lines.Bytes(), &s.e, &s.key)
	}
	for i, path := range []string{left, right} {
		in, err := os.Open(path)
		if err != nil {
			return err
		}
		defer in.Close()
		sides[i].lines = bufio.NewScanner(in)
		sides[i].lines.Buffer(make([]byte, 256<<10), 1<<20)
		if err := next(&sides[i]); err != nil {
			return err
		}
	}
	for sides[0].more || sides[1].more {
		s := &sides[0]
		if !s.more || sides[1].more && sides[1].e.ReadAt < s.e.ReadAt {
			s = &sides[1]
		}
		f(s.key, &s.e)
		if err := next(s); err != nil {
			return err
		}
	}
	return nil
}

// others is the file beside the input of pairs.
func others(path string) string { return strings.TrimSuffix(path, ".ndjson") + "-others.ndjson" }

func toFile(path string, f func(w *bufio.Writer) error) error {
	out, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 256<<10)
	if err := f(w); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return out.Close()
}

// input makes a workload's events once and keeps them.
func (w *workload) input(dir string) (string, error) {
	path := filepath.Join(dir, fmt.Sprintf("%d-%d-%d-%d.%s", w.rows, w.keys, int(w.span.Hours()), w.disorder, cmp.Or(w.form, "ndjson")))
	if w.pairs {
		path = strings.TrimSuffix(path, ".ndjson") + "-pairs.ndjson"
	}
	if err := makeReference(w.reference(dir), w.keys); err != nil {
		return "", err
	}
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	fmt.Fprintf(os.Stderr, "making %s\n", path)
	if w.pairs {
		if err := w.make(others(path), func(i int) bool { return i%2 == 1 }); err != nil {
			return "", err
		}
		return path, w.make(path, func(i int) bool { return i%2 == 0 })
	}
	return path, w.make(path, func(int) bool { return true })
}

// make writes the events that wanted takes by their numbers.
func (w *workload) make(path string, wanted func(i int) bool) error {
	err := toFile(path+".part", func(out *bufio.Writer) error {
		rnd := rand.New(rand.NewPCG(1, uint64(w.keys)))
		to, err := writerOf(w.form, out)
		if err != nil {
			return err
		}
		start := time.Date(2026, 1, 2, 0, 0, 0, 0, time.UTC).UnixMilli()
		gap := float64(w.span.Milliseconds()) / float64(w.rows)
		for i := range w.rows {
			at := start + int64(float64(i)*gap)
			key := rnd.Int64N(int64(w.keys))
			if w.pairs {
				at, key = start+int64(float64(i/2)*2*gap), int64(i/2%w.keys)
			} else if w.disorder == 0 || rnd.IntN(w.disorder) == 0 {
				at -= rnd.Int64N(5000) // a little out of order
			}
			e := floor.Event{Gauge: "G" + strconv.FormatInt(key, 10), Level: float64(rnd.IntN(5000)) / 1000, Battery: 11 + float64(rnd.IntN(160))/100, Seq: int64(i), ReadAt: at}
			if !wanted(i) {
				continue
			}
			if err := to.write(&e); err != nil {
				return err
			}
		}
		return to.close()
	})
	if err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

// reference is the file of the workload's reference; empty for none.
func (w *workload) reference(dir string) string {
	if !strings.Contains(w.text, "REFERENCE") {
		return ""
	}
	return filepath.Join(dir, fmt.Sprintf("reference-%d.csv", w.keys))
}

// makeReference makes a row for each key, once.
func makeReference(path string, keys int) error {
	if _, err := os.Stat(path); path == "" || err == nil {
		return nil
	}
	err := toFile(path+".part", func(out *bufio.Writer) error {
		start := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC).UnixMilli()
		fmt.Fprintln(out, "id,name,depth_m,since") // the error stays with the writer, whose Flush is checked
		for i := range keys {
			fmt.Fprintf(out, "G%d,gauge number %d,%d.5,%d\n", i, i, i%20, start+int64(i))
		}
		return nil
	})
	if err != nil {
		return err
	}
	return os.Rename(path+".part", path)
}

func (w *workload) load(path, out string) (*job.Job, error) {
	text := strings.Replace(strings.Replace(w.text, "%q", strconv.Quote(out), 1), "REFERENCE", w.reference(filepath.Dir(path)), 1)
	text = strings.Replace(text, "OTHERS", others(path), 1)
	from := fmt.Sprintf(head, path)
	if w.form != "" {
		from = strings.Replace(from, "    fields:", "    decode: "+w.form+"\n    fields:", 1)
	}
	return job.Parse("bench.yaml", from+text, job.Options{})
}

// engineText runs the workload from text to a file, as `undertide run` does.
func (w *workload) engineText(path, out string, lanes int) error {
	j, err := w.load(path, out)
	if err != nil {
		return err
	}
	return toEnd(j, run.Options{Lanes: lanes})
}

// toEnd runs a job until its inputs end.
func toEnd(j *job.Job, o run.Options) error {
	res, err := run.Run(context.Background(), j, o)
	if err == nil && !res.Finished {
		err = errors.New("the run did not finish")
	}
	return err
}

// ready decodes the input into batches.
func (w *workload) ready(path string) ([]*row.Batch, *job.Job, error) {
	j, err := w.load(path, os.DevNull)
	if err != nil {
		return nil, nil, err
	}
	text, err := os.ReadFile(path)
	if w.pairs && err == nil {
		var more []byte
		if more, err = os.ReadFile(others(path)); err == nil {
			text = inTurn(text, more)
		}
	}
	if err != nil {
		return nil, nil, err
	}
	batches, err := readyOf(text, j)
	return batches, j, err
}

// inTurn takes a line of each in turn: a pair stands together.
func inTurn(a, b []byte) []byte {
	out := make([]byte, 0, len(a)+len(b))
	for len(a)+len(b) > 0 {
		for _, text := range []*[]byte{&a, &b} {
			n := bytes.IndexByte(*text, '\n') + 1
			out = append(out, (*text)[:n]...)
			*text = (*text)[n:]
		}
	}
	return out
}

// readyOf decodes text into batches.
func readyOf(text []byte, j *job.Job) ([]*row.Batch, error) {
	d := j.Sources[0].Decoder()
	var batches []*row.Batch
	for len(text) > 0 {
		var c engine.Chunk
		c.Raw = text
		at := 0
		for len(c.Starts) < row.MaxRows && at < len(text) {
			n := bytes.IndexByte(text[at:], '\n')
			c.Starts, c.Ends = append(c.Starts, uint32(at)), append(c.Ends, uint32(at+n))
			at += n + 1
		}
		b := row.NewBatch(j.Sources[0].Schema)
		if rejects := d.Decode(&c, b, nil); len(rejects) > 0 {
			return nil, fmt.Errorf("the input has rejects: %v", rejects[0])
		}
		for _, t := range b.Cols[4].I {
			b.Times = append(b.Times, row.Time(t))
		}
		if b.Index == nil {
			return nil, fmt.Errorf("the rows have no places")
		}
		batches = append(batches, b)
		text = text[at:]
	}
	return batches, nil
}

// engineCore runs the workload's step over ready batches, as a worker and a lane do: keys, hashes,
// arguments, running watermark, state, published rows; without queues, text and figures.
func engineCore(batches []*row.Batch, j *job.Job) int64 {
	s := &j.Steps[0]
	if last := &j.Steps[len(j.Steps)-1]; last.Kind == "join" {
		return joinCore(batches, j, last)
	}
	var rows int64
	if s.Stateless != nil {
		r := s.Stateless.NewRun()
		for _, b := range batches {
			v := step.ViewOf(b)
			out, _, _ := r.Run(v, nil)
			rows += int64(len(out.Sel))
		}
		return rows
	}
	out := &counter{}
	runSteps(batches, j, out)
	return out.rows
}

// runSteps runs the workload's one keyed step over ready batches.
func runSteps(batches []*row.Batch, j *job.Job, out step.Out) {
	s := &j.Steps[0]
	x := s.Keyed.Spec().NewExchange(1)
	l := s.Keyed.NewLane(step.LaneOptions{})
	t := step.Turn{After: row.MinTime}
	greatest, margin := row.MinTime, j.Sources[0].Margin
	for _, b := range batches {
		v := step.ViewOf(b)
		x.Fill(v, nil)
		t.Marks, greatest = engine.RunningMarks(t.Marks[:0], b, b.N, greatest, margin, row.MinTime, row.MaxTime)
		t.After = greatest.Minus(margin)
		l.Take(x, 0, &t, out)
		l.Move(&t, out)
	}
	t.Marks, t.After = append(t.Marks[:0], t.After), row.MaxTime
	l.Move(&t, out)
}

// joinCore runs a join of the rows with an even seq and those with an odd one.
func joinCore(batches []*row.Batch, j *job.Job, s *job.Step) int64 {
	sides := [2]*step.Exchange{s.Keyed.Spec().NewExchange(1), s.Keyed.Spec().NewExchange(1)}
	l := s.Keyed.NewLane(step.LaneOptions{})
	out := &counter{}
	t := step.Turn{After: row.MinTime}
	greatest, margin := row.MinTime, j.Sources[0].Margin
	var sel [2][]uint16
	for _, b := range batches {
		t.Marks, greatest = engine.RunningMarks(t.Marks[:0], b, b.N, greatest, margin, row.MinTime, row.MaxTime)
		t.After = greatest.Minus(margin)
		for side := range sides {
			sel[side] = sel[side][:0]
			for i, seq := range b.Cols[3].I {
				if int(seq&1) == side {
					sel[side] = append(sel[side], uint16(i))
				}
			}
			if len(sel[side]) == 0 {
				continue
			}
			v := step.View{Times: b.Times, Index: b.Index, Sel: sel[side], N: b.N}
			in := &s.From[side]
			for i, c := range in.Columns {
				if c < 0 {
					v.Cols = append(v.Cols, in.Fill[i])
				} else {
					v.Cols = append(v.Cols, b.Cols[c])
				}
			}
			sides[side].Fill(v, nil)
			l.Take(sides[side], 0, &t, out)
		}
		l.Move(&t, out)
	}
	t.Marks, t.After = append(t.Marks[:0], t.After), row.MaxTime
	l.Move(&t, out)
	return out.rows
}

// counter counts what a lane publishes.
type counter struct{ rows int64 }

func (c *counter) Main(v step.View)              { c.rows += int64(len(v.Sel)) }
func (c *counter) Late(step.View)                {}
func (c *counter) Reject(step.View, step.Reject) {}

// measure is what a child process reports.
type measure struct {
	Seconds float64
	Rows    int
	Out     int64   // rows that came out
	Allocs  float64 // per row
	Peak    int64   // bytes resident
}

// child runs one kind of one workload and reports. kind: text-floor, text-engine, core-floor,
// core-engine.
func (w *workload) child(kind, dir string, lanes int) (measure, error) {
	path, err := w.input(dir)
	if err != nil {
		return measure{}, err
	}
	out := filepath.Join(dir, "out-"+strconv.Itoa(os.Getpid()))
	defer os.Remove(out)
	var made int64
	var work func() error
	long := time.Duration(0) // work is done again until this has passed
	switch kind {
	case "text-floor":
		work = func() error { return w.floorText(path, out) }
	case "encoder":
		if work, err = w.encoderAlone(path, out); err != nil {
			return measure{}, err
		}
	case "text-engine":
		work = func() error { return w.engineText(path, out, lanes) }
	default:
		batches, j, err := w.ready(path)
		if err != nil {
			return measure{}, err
		}
		runtime.GC()
		long = time.Second // filter and compute takes 40 ms, and any hiccup of the machine as long
		work = func() error {
			if kind == "core-floor" {
				made = w.floorCore(batches)
			} else {
				made = engineCore(batches, j)
			}
			return nil
		}
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var times []float64
	for began := time.Now(); err == nil && (len(times) == 0 || time.Since(began) < long); {
		each := time.Now()
		err = work()
		times = append(times, time.Since(each).Seconds())
	}
	peak := run.PeakMemory()
	runtime.ReadMemStats(&after)
	if err == nil && kind != "core-engine" && kind != "core-floor" && !w.silent {
		made, err = lines(out)
	}
	if err == nil && made == 0 && !w.silent {
		err = fmt.Errorf("no row came out")
	}
	return measure{Out: made, Seconds: median(times), Rows: w.rows, Allocs: float64(after.Mallocs-before.Mallocs) / float64(len(times)*w.rows), Peak: peak}, err
}

// encoderAlone makes rows as the workload does, and gives what writes them again and again, until there are as many as come out of it, or more.
func (w *workload) encoderAlone(path, out string) (func() error, error) {
	batches, j, err := w.ready(path)
	if err != nil {
		return nil, err
	}
	made := keeper{schema: j.Steps[0].Schema}
	runSteps(batches[:len(batches)/20], j, &made)
	enc := run.TextOf(made.schema)
	return func() error {
		return toFile(out, func(to *bufio.Writer) error {
			var text []byte
			for rows := 0; rows < 4*w.rows; {
				for _, b := range made.batches {
					text = enc.Append(text[:0], step.ViewOf(b))
					if _, err := to.Write(text); err != nil {
						return err
					}
					rows += b.N
				}
			}
			return nil
		})
	}, nil
}

// keeper keeps the rows that come out.
type keeper struct {
	counter
	schema  row.Schema
	batches []*row.Batch
}

// Main implements [step.Out].
func (k *keeper) Main(v step.View) {
	b := row.NewBatch(k.schema)
	for i, c := range v.Cols {
		for _, r := range v.Sel {
			b.Cols[i].AppendFrom(c, int(r))
		}
	}
	b.N = len(v.Sel)
	k.batches = append(k.batches, b)
}

// lines counts those of a file.
func lines(path string) (n int64, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	in := bufio.NewReaderSize(f, 256<<10)
	for {
		if _, err := in.ReadSlice('\n'); err != nil {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		n++
	}
}
