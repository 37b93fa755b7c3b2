package main

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/cespare/xxhash/v2"
	"golang.org/x/sync/errgroup"

	"undertide/checkpoint"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/run"
)

// stateCase is a job whose state is large: events that are made where they are needed, so that nothing is measured but
// the engine and its state.
type stateCase struct {
	name string
	text string // the step that keeps something
	// first events are there before the measurement begins, then come events.
	first, events int64
	key           func(n int64) int64
	every         time.Duration
	// memory bounds the run, with the state behind it on a disk; then there are no checkpoints.
	memory int64
}

const stateHead = `
undertide: 1
job: bench
sources:
  readings:
    via: file
    with: {path: none.ndjson}
    fields:
      gauge: string
      level_m: double
      read_at: {type: timestamp, parse: epoch_ms}
    event_time: read_at
    watermark: {margin: 10s, ahead: none}
steps:
  kept: {from: readings, %s}
sinks:
  out: {from: kept, via: file, with: {path: none.out}}
`

const million = 1_000_000

// scattered gives numbers from 0 to n-1 in no order that anything could profit from.
func scattered(x, n int64) int64 {
	z := uint64(x) * 0x9e3779b97f4a7c15
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	return int64((z ^ z>>27) >> 1 % uint64(n))
}

var stateCases = []stateCase{
	{name: "a million keys, one in a hundred touched", text: "key: [gauge], window: {tumbling: 1000d}, measures: {n: count(), mean_m: mean(level_m)}", first: million, events: 30 * million, every: 2 * time.Second,
		key: func(n int64) int64 {
			if n < million {
				return n
			}
			return scattered(n, million/100) * 100
		}},
	{name: "a million keys, all touched", text: "key: [gauge], window: {tumbling: 1000d}, measures: {n: count(), mean_m: mean(level_m)}", first: million, events: 20 * million, every: 2 * time.Second,
		key: func(n int64) int64 {
			if n < million {
				return n
			}
			return scattered(n, million)
		}},
	{name: "no keys to speak of", text: "key: [gauge], window: {tumbling: 1h}, measures: {n: count(), mean_m: mean(level_m)}", first: million, events: 30 * million, every: 2 * time.Second,
		key: func(n int64) int64 { return n % 300 }},
	{name: "50 million keys in 512 MiB", text: "key: [gauge], window: {tumbling: 1000d}, measures: {n: count(), mean_m: mean(level_m)}", first: 1, events: 53 * million, memory: 512 << 20,
		key: func(n int64) int64 {
			if n < 50*million {
				return n
			}
			return scattered(n, 50*million)
		}},
	{name: "20 million ids in 256 MiB, one in eleven seen before, most of those lately", text: "deduplicate: {key: [gauge], within: 1000d}", first: 1, events: 22 * million, memory: 256 << 20,
		key: func(n int64) int64 {
			switch n % 110 {
			case 10:
				return scattered(n, n) // whenever
			case 21, 32, 43, 54, 65, 76, 87, 98, 109:
				return n - 1 - scattered(n, min(n, 100_000))
			}
			return n
		}},
	{name: "20 million ids in 256 MiB, one in eleven seen before, whenever", text: "deduplicate: {key: [gauge], within: 1000d}", first: 1, events: 22 * million, memory: 256 << 20,
		key: func(n int64) int64 {
			if n%11 == 10 {
				return scattered(n, n)
			}
			return n
		}},
}

// stateMeasure is what a run of a case says.
type stateMeasure struct {
	Rate        float64 // events/s after the first
	Stall       time.Duration
	First       engine.Saved   // of the first checkpoint that has the keys
	Later       []engine.Saved // of those after
	Checkpoints int
	Restore     time.Duration // until the state stands again
	Keys        int           // restored
	Peak        int64
	Rows        int64  // published
	Sum         uint64 // of the hashes of all rows
	Took        time.Duration
}

// drill makes events by their number.
type drill struct {
	c     *stateCase
	at    int64
	begun atomic.Int64 // when the first event after the first ones was decoded, nanoseconds
	ended atomic.Int64
}

func (d *drill) Name() string { return "drill" }
func (d *drill) Open(_ context.Context, position json.RawMessage) error {
	if position == nil {
		return nil
	}
	return json.Unmarshal(position, &d.at)
}
func (d *drill) Empty(context.Context) (bool, error) { return false, nil }
func (d *drill) Close() error                        { return nil }
func (d *drill) Size() int64                         { return 0 }
func (d *drill) Read(_ context.Context, c *engine.Chunk) error {
	c.First = d.at
	for len(c.Starts) < row.MaxRows && d.at < d.c.first+d.c.events {
		c.Starts, c.Ends = append(c.Starts, 0), append(c.Ends, 0)
		d.at++
	}
	c.Position = fmt.Appendf(nil, "%d", d.at)
	c.Last = d.at == d.c.first+d.c.events
	return nil
}

type drillDecoder struct {
	d    *drill
	name []byte
}

// Decode implements [engine.Decoder].
func (x *drillDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		n := c.First + int64(i)
		x.name = fmt.Appendf(x.name[:0], "gauge-%09d", x.d.c.key(n))
		b.Cols[0].AppendBytes(x.name)
		b.Cols[1].AppendDouble(float64(n%1000) / 8)
		b.Cols[2].AppendInt(n)
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	now := time.Now().UnixNano()
	if last := c.First + int64(len(c.Starts)); last > x.d.c.first {
		x.d.begun.CompareAndSwap(0, now)
		x.d.ended.Store(now)
	}
	return rejects
}

// nowhere takes rows and forgets them, but for the sum of their hashes, which no order of rows changes.
type nowhere struct{ sum *atomic.Uint64 }

func (s nowhere) NewEncoder(row.Schema) engine.Encoder { return s }
func (s nowhere) Append(dst []byte, v step.View) []byte {
	var sum uint64
	var text []byte
	for _, i := range v.Sel {
		text = text[:0]
		for _, c := range v.Cols {
			switch {
			case c.IsNull(int(i)):
				text = append(text, 0)
			case len(c.F) > 0:
				text = binary.LittleEndian.AppendUint64(text, math.Float64bits(c.F[i]))
			case len(c.I) > 0:
				text = binary.LittleEndian.AppendUint64(text, uint64(c.I[i]))
			default:
				text = append(text, c.Bytes(int(i))...)
			}
		}
		sum += xxhash.Sum64(text)
	}
	s.sum.Add(sum)
	return append(dst, '\n')
}
func (nowhere) Delivered(context.Context) (int64, error)       { return 0, nil }
func (nowhere) Open([]engine.Shipment, int64) error            { return nil }
func (nowhere) Write([]byte, int) error                        { return nil }
func (nowhere) Prepare(int64) (engine.Shipment, error)         { return engine.Shipment{}, nil }
func (nowhere) Deliver(context.Context, engine.Shipment) error { return nil }
func (nowhere) Finish() error                                  { return nil }
func (nowhere) Abort() error                                   { return nil }

// run runs a case: kept: with checkpoints.
func (c *stateCase) measure(dir string, lanes int, kept bool) (m stateMeasure, err error) {
	j, err := job.Parse("bench.yaml", fmt.Sprintf(stateHead, c.text), job.Options{})
	if err != nil {
		return m, err
	}
	folder := filepath.Join(dir, fmt.Sprintf("state-%d", os.Getpid()))
	defer os.RemoveAll(folder)
	var sum atomic.Uint64
	begin := func() (*drill, *engine.Graph) {
		d := &drill{c: c}
		src := j.Sources[0].On([]engine.Partition{d}, true)
		src.NewDecoder = func() engine.Decoder { return &drillDecoder{d: d} }
		g := &engine.Graph{Steps: j.Flow(nil), Sources: []engine.Source{src}}
		g.Sinks = []engine.SinkNode{{Name: "out", From: j.Sinks[0].From, Schema: j.Sinks[0].Schema, Sink: nowhere{&sum}}}
		return d, g
	}
	opt := engine.Options{Lanes: lanes}
	if c.memory > 0 && kept {
		debug.SetMemoryLimit(c.memory)
		aside := checkpoint.Aside(checkpoint.Disk, dir, c.memory/8)
		defer aside.Close()
		opt.Behind, opt.Apply, opt.Memory = aside, aside.Apply, func() int64 { return run.StateMemory(c.memory) }
		kept = false
	}
	var mu sync.Mutex
	var store *checkpoint.Store
	if kept {
		if store, err = checkpoint.Open(checkpoint.Disk, folder, checkpoint.Options{Job: "bench", Digest: "d", Keep: 2}); err != nil {
			return m, err
		}
		opt.Save, opt.Every = store.Save, c.every
	}
	d, g := begin()
	measured := 0
	opt.Completed = func(done engine.Completed) {
		mu.Lock()
		defer mu.Unlock()
		m.Checkpoints++
		if d.begun.Load() == 0 || done.Finished {
			return
		}
		if measured++; measured == 1 {
			m.First = done.Saved
			return
		}
		m.Stall = max(m.Stall, done.Stall)
		m.Later = append(m.Later, done.Saved)
	}
	began := time.Now()
	res, err := engine.Run(context.Background(), g, opt)
	if err != nil {
		return m, err
	}
	m.Rows, m.Sum, m.Took = res.Figures.Steps[0].Out, sum.Load(), time.Since(began)
	m.Rate = float64(c.events) / (time.Duration(d.ended.Load() - d.begun.Load())).Seconds()
	m.Peak = run.PeakMemory()
	if kept {
		err = store.Close()
	}
	return m, err
}

// restore measures how long a million keys take until their state stands again: the files are verified and linked, and
// some lanes load them.
func (c *stateCase) restore(dir string, lanes int) (m stateMeasure, err error) {
	j, err := job.Parse("bench.yaml", fmt.Sprintf(stateHead, c.text), job.Options{})
	if err != nil {
		return m, err
	}
	folder := filepath.Join(dir, fmt.Sprintf("state-%d", os.Getpid()))
	defer os.RemoveAll(folder)
	open := func() (*checkpoint.Store, error) {
		return checkpoint.Open(checkpoint.Disk, folder, checkpoint.Options{Job: "bench", Digest: "d", Keep: 2})
	}
	store, err := open()
	if err != nil {
		return m, err
	}
	d := &drill{c: c}
	src := j.Sources[0].On([]engine.Partition{d}, true)
	src.NewDecoder = func() engine.Decoder { return &drillDecoder{d: d} }
	g := &engine.Graph{Steps: j.Flow(nil), Sources: []engine.Source{src}, Sinks: []engine.SinkNode{{Name: "out", From: j.Sinks[0].From, Schema: j.Sinks[0].Schema, Sink: nowhere{&atomic.Uint64{}}}}}
	ctx, stop := context.WithCancel(context.Background())
	opt := engine.Options{Lanes: lanes, Save: store.Save, Every: 500 * time.Millisecond, Completed: func(engine.Completed) {
		if d.begun.Load() > 0 {
			stop()
		}
	}}
	_, err = engine.Run(ctx, g, opt)
	if err := errors.Join(err, store.Close()); err != nil {
		return m, err
	}
	runtime.GC()
	began := time.Now()
	if store, err = open(); err != nil {
		return m, err
	}
	snap, _, _, err := store.Newest()
	if err != nil {
		return m, err
	}
	var all errgroup.Group
	kept := make([]step.Lane, lanes)
	for n := range lanes {
		all.Go(func() error {
			kept[n] = j.Steps[0].Keyed.NewLane(step.LaneOptions{Keeps: true})
			return step.Restore("kept", j.Steps[0].Keyed, kept[n], snap.State, n, lanes, nil)
		})
	}
	err = all.Wait()
	m.Restore, m.Peak = time.Since(began), run.PeakMemory()
	for _, l := range kept {
		m.Keys += l.Held().Keys
	}
	return m, errors.Join(err, store.Close())
}

// stateTable measures the cases named by only, without checkpoints and with, in turn.
func stateTable(dir, only string, rounds int) error {
	fmt.Println("| case | events/s without | with checkpoints, of that | longest stall | first checkpoint | each later one: rows, bytes, of the first |")
	fmt.Println("|---|---|---|---|---|---|")
	for i := range stateCases {
		c := &stateCases[i]
		if c.memory > 0 || !strings.Contains(c.name, only) {
			continue
		}
		var bare, ratios []float64
		var stall time.Duration
		var last stateMeasure
		for range rounds {
			var all [2]stateMeasure
			for k := range all {
				var err error
				if all[k], err = stateChild(dir, c.name, []string{"bare", "kept"}[k]); err != nil {
					return err
				}
			}
			bare, ratios = append(bare, all[0].Rate), append(ratios, all[1].Rate/all[0].Rate)
			last, stall = all[1], max(stall, all[1].Stall)
		}
		var rows, written int64
		for _, s := range last.Later {
			rows, written = rows+s.Rows, written+s.Written
		}
		n := max(1, int64(len(last.Later)))
		fmt.Printf("| %s | %.0f | %s | %s | %d rows, %d B | %d of them: %d, %d B, %.3f |\n", c.name, median(bare), spread(ratios), stall.Round(100*time.Microsecond),
			last.First.Rows, last.First.Written, len(last.Later), rows/n, written/n, float64(written/n)/float64(max(1, last.First.Written)))
	}
	if err := memoryTable(dir, only); err != nil {
		return err
	}
	c := &stateCases[0]
	if !strings.Contains("restore", only) {
		return nil
	}
	var took []float64
	keys := 0
	for range rounds {
		m, err := stateChild(dir, c.name, "restore")
		if err != nil {
			return err
		}
		took, keys = append(took, m.Restore.Seconds()), m.Keys
	}
	fmt.Printf("\nRestoring %d keys on two lanes takes %s s.\n", keys, spread(took))
	return nil
}

// stateChild runs a case in a process of its own, on all CPUs.
func stateChild(dir, name, kind string) (m stateMeasure, err error) {
	self, err := os.Executable()
	if err != nil {
		return m, err
	}
	c := exec.Command(self, "-data", dir, "-state-child", name+"/"+kind, "-lanes", "2")
	c.Stderr = os.Stderr
	out, err := c.Output()
	if err != nil {
		return m, fmt.Errorf("%s, %s: %w", name, kind, err)
	}
	return m, json.Unmarshal(out, &m)
}

// memoryTable measures the cases that are larger than their memory, against the same with all of it in memory. Once each:
// they are long.
func memoryTable(dir, only string) error {
	fmt.Println("\n| case | rows | events/s in memory, peak MiB | events/s bounded, of that | peak MiB, of the bound |")
	fmt.Println("|---|---|---|---|---|")
	for i := range stateCases {
		c := &stateCases[i]
		if c.memory == 0 || !strings.Contains(c.name, only) {
			continue
		}
		var all [2]stateMeasure
		for k := range all {
			var err error
			if all[k], err = stateChild(dir, c.name, []string{"bare", "kept"}[k]); err != nil {
				return err
			}
		}
		same := fmt.Sprintf("%d, the same", all[1].Rows)
		if all[0].Rows != all[1].Rows || all[0].Sum != all[1].Sum {
			same = fmt.Sprintf("%d in memory, %d bounded: THEY DIFFER", all[0].Rows, all[1].Rows)
		}
		rate := func(m stateMeasure) float64 { return float64(c.first+c.events) / m.Took.Seconds() }
		fmt.Printf("| %s | %s | %.0f, %d | %.0f, %.2f | %d, %.2f |\n", c.name, same, rate(all[0]), all[0].Peak>>20, rate(all[1]), rate(all[1])/rate(all[0]),
			all[1].Peak>>20, float64(all[1].Peak)/float64(c.memory))
	}
	return nil
}
