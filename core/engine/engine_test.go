package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

var schema = row.Schema{{Name: "t", Kind: row.Timestamp}, {Name: "k", Kind: row.Int}}

// feed is a partition that gives lines of "time key" as they are sent; closing the channel ends it.
type feed struct {
	name    string
	lines   chan string
	bounded bool
	done    chan struct{}
	once    sync.Once
	told    bool // it has said that nothing waits
	fault   error
}

func newFeed(name string, bounded bool, lines ...string) *feed {
	f := &feed{name: name, lines: make(chan string, max(1000, len(lines))), bounded: bounded, done: make(chan struct{})}
	for _, l := range lines {
		f.lines <- l
	}
	if bounded {
		close(f.lines)
	}
	return f
}

func (f *feed) Name() string                                { return f.name }
func (f *feed) Size() int64                                 { return 0 }
func (f *feed) Open(context.Context, json.RawMessage) error { return nil }
func (f *feed) Close() error                                { f.once.Do(func() { close(f.done) }); return nil }
func (f *feed) Empty(context.Context) (bool, error)         { return len(f.lines) == 0, nil }

func (f *feed) Read(ctx context.Context, c *Chunk) error {
	if f.fault != nil {
		return f.fault
	}
	for len(c.Starts) < row.MaxRows {
		var l string
		ok := true
		select {
		case l, ok = <-f.lines:
		default:
			if !f.bounded && (len(c.Starts) > 0 || !f.told) {
				c.CaughtUp, f.told = true, true
				return nil
			}
			select {
			case l, ok = <-f.lines:
			case <-f.done:
				return context.Canceled
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if !ok {
			c.Last = true
			return nil
		}
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, l...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
	}
	c.Last = f.bounded && len(f.lines) == 0
	return nil
}

type lineDecoder struct{}

func (lineDecoder) Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		at, key, ok := strings.Cut(string(c.Event(i)), " ")
		t, err := strconv.ParseInt(at, 10, 64)
		k, err2 := strconv.ParseInt(key, 10, 64)
		if !ok || err != nil || err2 != nil {
			rejects = append(rejects, step.Reject{Index: uint16(i), Row: -1, Reason: step.Malformed, Message: "no line"})
			continue
		}
		b.Cols[0].AppendInt(t)
		b.Cols[1].AppendInt(k)
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return rejects
}

// box is a sink that keeps rows as text.
type box struct {
	mu      sync.Mutex
	rows    []string
	fault   error
	commits []int64 // epochs that were delivered
}

func (s *box) NewEncoder(sc row.Schema) Encoder         { return boxEncoder{} }
func (s *box) Delivered(context.Context) (int64, error) { return 0, nil }
func (s *box) Open([]Shipment, int64) error             { return nil }
func (s *box) Prepare(int64) (Shipment, error)          { return Shipment{Data: json.RawMessage(`{}`)}, nil }
func (s *box) Finish() error                            { return nil }
func (s *box) Abort() error                             { return nil }
func (s *box) Deliver(_ context.Context, sh Shipment) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.commits = append(s.commits, sh.Epoch)
	return nil
}

func (s *box) Write(data []byte, _ int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.rows = append(s.rows, strings.Fields(string(data))...)
	return s.fault
}

func (s *box) len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.rows)
}

type boxEncoder struct{}

func (boxEncoder) Append(dst []byte, v step.View) []byte {
	for _, i := range v.Sel {
		for _, c := range v.Cols {
			dst = fmt.Appendf(dst, "%d,", c.I[i])
		}
		dst = append(dst, ' ')
	}
	return dst
}

// graph counts rows by key in windows of ten microseconds.
func graph(t *testing.T, out Sink, idle time.Duration, bounded bool, parts ...Partition) *Graph {
	t.Helper()
	compile := func(text string, measure bool) *expr.Program {
		p, faults := expr.Compile(text, expr.Scope{Fields: schema, Measure: measure})
		if p == nil {
			t.Fatal(faults)
		}
		return p
	}
	n := compile("count()", true)
	w := step.NewWindow(step.Spec{Key: []int{1}, Input: schema, Aggregates: []step.Aggregate{step.NewAggregate(n.Aggregates[0])}})
	tumbling := window.Tumbling(10*time.Microsecond, 0)
	w.Aligned, w.Measures = &tumbling, []*expr.Program{n}
	w.Schema = append(w.ResultSchema(), row.Field{Name: "n", Kind: row.Int})
	return &Graph{
		Sources: []Source{{Name: "in", Schema: schema, EventTime: compile("t", false), Idle: idle, Bounded: bounded, Partitions: parts, NewDecoder: func() Decoder { return lineDecoder{} }}},
		Steps:   []Step{{Name: "count", From: Read(Ref{}), Input: schema, Keyed: w}},
		Sinks:   []SinkNode{{Name: "out", From: Read(Ref{OfStep: true}), Schema: w.Schema, Sink: out}},
	}
}

// leaks fails when goroutines are left that were not there before.
func leaks(t *testing.T) {
	t.Helper()
	before := runtime.NumGoroutine()
	t.Cleanup(func() {
		for range 100 {
			if runtime.NumGoroutine() <= before {
				return
			}
			time.Sleep(10 * time.Millisecond)
		}
		buf := make([]byte, 1<<16)
		t.Errorf("%d goroutines are left, %d were there before:\n%s", runtime.NumGoroutine(), before, buf[:runtime.Stack(buf, true)])
	})
}

func until(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for range 1000 {
		if ok() {
			return
		}
		time.Sleep(5 * time.Millisecond)
	}
	t.Fatalf("waited 5 s for %s", what)
}

// TestIdle: a partition without events holds the watermark until it is idle, and again when it has a
// row; the watermark never goes back.
func TestIdle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := newFeed("a", false, "5 1"), newFeed("b", false, "1 2")
		out := &box{}
		ctx, stop := context.WithCancel(context.Background())
		ended := make(chan Result)
		go func() {
			res, err := Run(ctx, graph(t, out, time.Second, false, a, b), Options{Lanes: 2})
			if err != nil {
				t.Error(err)
			}
			ended <- res
		}()
		time.Sleep(50 * time.Millisecond)
		a.lines <- "100 1" // a alone would close the first window
		time.Sleep(100 * time.Millisecond)
		if n := out.len(); n != 0 {
			t.Errorf("%d rows came while b held the watermark", n)
		}
		keep := time.NewTicker(50 * time.Millisecond) // a stays awake
		defer keep.Stop()
		until(t, "b to be idle", func() bool { <-keep.C; a.lines <- "100 1"; return out.len() == 2 })
		b.lines <- "3 2" // behind the watermark that was given out: late
		b.lines <- "1000 2"
		until(t, "the window of 100", func() bool { <-keep.C; a.lines <- "1000 1"; return out.len() == 3 })
		stop()
		res := <-ended
		if c := res.Figures.Steps[0]; c.Lost != 1 {
			t.Errorf("%d rows are lost, want the one behind the watermark", c.Lost)
		}
		if res.Finished {
			t.Error("a run that was stopped says that it finished")
		}
	})
}

// TestWatermarkAfterRestart: a run that starts from a checkpoint does not let the watermark go back to
// that of a partition which was idle: what was published is not published again.
func TestWatermarkAfterRestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out := &box{}
		var kept Memory
		start := func(a, b *feed, until func(a *feed) bool) Result {
			ctx, stop := context.WithCancel(context.Background())
			ended := make(chan Result)
			go func() {
				res, err := Run(ctx, graph(t, out, 200*time.Millisecond, false, a, b), Options{Lanes: 2, Save: kept.Save, From: kept.Last})
				if err != nil {
					t.Error(err)
				}
				ended <- res
			}()
			for range 1000 {
				if until(a) {
					break
				}
				time.Sleep(20 * time.Millisecond)
			}
			stop()
			return <-ended
		}
		start(newFeed("a", false, "5 1"), newFeed("b", false, "1 1"), func(a *feed) bool { a.lines <- "100 1"; return out.len() == 1 })
		a := newFeed("a", false, "7 1") // late: its window was published while b was idle
		n := 0
		res := start(a, newFeed("b", false, "2 1"), func(a *feed) bool { n++; return n > 20 })
		if lost := res.Figures.Steps[0].Lost; lost != 2 || out.len() != 1 {
			t.Errorf("after the restart %d rows are lost and %d published in all, want 2 and 1: %v", lost, out.len(), out.rows)
		}
	})
}

// TestFaultsEndTheRun: whatever fails, the run ends with that fault and leaves nothing behind.
func TestFaultsEndTheRun(t *testing.T) {
	boom := errors.New("boom")
	var lines []string
	for i := range 50_000 {
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	for _, c := range []struct {
		name string
		run  func() error
		want string
	}{
		{"a sink that cannot write", func() error {
			_, err := Run(context.Background(), graph(t, &box{fault: boom}, 0, true, newFeed("a", true, lines...)), Options{Lanes: 2})
			return err
		}, "sink out: boom"},
		{"a partition that cannot be read", func() error {
			f := newFeed("a", true, lines...)
			f.fault = boom
			_, err := Run(context.Background(), graph(t, &box{}, 0, true, f, newFeed("b", true, lines...)), Options{Lanes: 2})
			return err
		}, "source in: boom"},
		{"a checkpoint that cannot be stored", func() error {
			n := 0
			_, err := Run(context.Background(), graph(t, &box{}, 0, true, newFeed("a", true, lines...)), Options{Lanes: 2, EveryTurns: 2, Save: func(*Snapshot) (Saved, error) {
				if n++; n == 2 { // there are two at least: before the first event, and after the last
					return Saved{}, boom
				}
				return Saved{}, nil
			}})
			return err
		}, "boom"},
	} {
		t.Run(c.name, func(t *testing.T) {
			leaks(t)
			if err := c.run(); !errors.Is(err, boom) || !strings.Contains(err.Error(), c.want) {
				t.Errorf("the run ends with %v, want %s", err, c.want)
			}
		})
	}
}

// TestDeliveryFollowsCheckpoints: an epoch is delivered only after its checkpoint was stored, in
// order, and the first checkpoint comes before the first event.
func TestDeliveryFollowsCheckpoints(t *testing.T) {
	leaks(t)
	var lines []string
	for i := range 60_000 {
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	out := &box{}
	var saved []int64
	_, err := Run(context.Background(), graph(t, out, 0, true, newFeed("a", true, lines...)), Options{Lanes: 3, EveryTurns: 1, Save: func(s *Snapshot) (Saved, error) {
		out.mu.Lock()
		defer out.mu.Unlock()
		if len(out.commits) > len(saved) || !slices.Equal(out.commits, saved[:len(out.commits)]) { // fewer where the sink is behind, which holds up no checkpoint
			t.Errorf("epoch %d is stored while %v of %v are delivered", s.Epoch, out.commits, saved)
		}
		if s.Epoch == 1 && s.Counts.Sources[0].Read != 0 {
			t.Errorf("the first checkpoint comes after %d events", s.Counts.Sources[0].Read)
		}
		c := s.Counts
		if st := c.Steps[0]; st.In != st.Used+st.Lost || c.Sources[0].Read != st.In || c.Sinks[0].Rows != st.Out {
			t.Errorf("the counts of checkpoint %d do not add up: %+v", s.Epoch, c)
		}
		saved = append(saved, s.Epoch)
		return Saved{}, nil
	}})
	if err != nil {
		t.Fatal(err)
	}
	if len(saved) < 2 || fmt.Sprint(saved) != fmt.Sprint(out.commits) {
		t.Errorf("stored %v, delivered %v", saved, out.commits)
	}
}

// TestPlanRefuses: a graph that the engine cannot run is refused.
func TestPlanRefuses(t *testing.T) {
	g := graph(t, &box{}, 0, true, newFeed("a", true))
	g.Steps = append(g.Steps, Step{Name: "again", From: Read(Ref{OfStep: true, At: 2}), Keyed: g.Steps[0].Keyed})
	if _, err := Run(context.Background(), g, Options{}); err == nil || !strings.Contains(err.Error(), "does not stand before it") {
		t.Errorf("a step that reads one behind it gives %v", err)
	}
}
