package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/row"
)

// living is a feed with everything that a broker's partition has.
type living struct {
	*feed
	begin string
	mu    sync.Mutex
	from  time.Time
	quiet time.Time
	acks  []string
}

func (f *living) Start() json.RawMessage { return json.RawMessage(f.begin) }
func (f *living) Quiet() (from, to time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.from, f.quiet
}
func (f *living) Acknowledge(at json.RawMessage) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.acks = append(f.acks, string(at))
}
func (f *living) Lag(at json.RawMessage) (int64, bool) { return int64(len(at)), true }
func (f *living) Trouble() string                      { return "trouble of " + f.name }
func (f *living) setQuiet(from, to time.Time) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.from, f.quiet = from, to
}

// started runs a graph until stop is called.
func started(t *testing.T, g *Graph, opt Options) (stop func() (Result, error)) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	type end struct {
		res Result
		err error
	}
	ended := make(chan end, 1)
	go func() {
		res, err := Run(ctx, g, opt)
		ended <- end{res, err}
	}()
	return func() (Result, error) {
		cancel()
		e := <-ended
		return e.res, e.err
	}
}

// TestPartitionsFound: a partition that is found while the run goes on is read from its start, counts
// for the watermark, and stands in the checkpoints, which the partitions are told of.
func TestPartitionsFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := &living{feed: newFeed("a", false, "5 1"), begin: `{"at":7}`}
		b := &living{feed: newFeed("b", false), begin: `{"at":9}`}
		out := &box{}
		g := graph(t, out, 0, false, a)
		find := make(chan Partition)
		g.Sources[0].Find = func(ctx context.Context, found func(Partition)) error {
			for {
				select {
				case p := <-find:
					found(p)
				case <-ctx.Done():
					return nil
				}
			}
		}
		var mu sync.Mutex
		var snaps []*Snapshot
		watch := NewWatch()
		stop := started(t, g, Options{Lanes: 2, Every: 10 * time.Millisecond, Watch: watch, Save: func(s *Snapshot) (Saved, error) {
			mu.Lock()
			defer mu.Unlock()
			snaps = append(snaps, s)
			return Saved{}, nil
		}})
		find <- b
		find <- b // found again: nothing new
		until(t, "b is known", func() bool { return len(watch.Figures().Partitions) == 2 })
		a.lines <- "100 1"
		time.Sleep(100 * time.Millisecond)
		if n := out.len(); n != 0 {
			t.Errorf("%d rows came while the partition that was found held the watermark", n)
		}
		b.lines <- "50 2"
		until(t, "the window of 5 closes", func() bool { return out.len() == 1 })
		f := watch.Figures()
		if p := f.Partitions[1]; p.Name != "b" || p.Trouble != "trouble of b" || p.Events != 1 {
			t.Errorf("figures of the partition that was found: %+v", p)
		}
		if p := f.Partitions[0]; p.Lag < 0 {
			t.Errorf("the lag of a is not known: %+v", p)
		}
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
		mu.Lock()
		defer mu.Unlock()
		if p := snaps[0].Partitions[0]; string(p.Position) != `{"at":7}` {
			t.Errorf("the first checkpoint has position %s of a, want its start", p.Position)
		}
		last := snaps[len(snaps)-1]
		if len(last.Partitions) != 2 || last.Partitions[1].Name != "b" || last.Partitions[1].Greatest != 50 {
			t.Errorf("the last checkpoint has partitions %+v", last.Partitions)
		}
		a.mu.Lock()
		defer a.mu.Unlock()
		if len(a.acks) == 0 || a.acks[0] != `{"at":7}` {
			t.Errorf("a was told of %v", a.acks)
		}
	})
}

// TestIdleNeedsCertainty: a partition whose broker cannot be asked is not idle, however long nothing
// comes. Its events wait to be read, and would be late if the others went on without it.
func TestIdleNeedsCertainty(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := newFeed("a", false, "5 1"), &living{feed: newFeed("b", false, "1 2")}
		out := &box{}
		stop := started(t, graph(t, out, 300*time.Millisecond, false, a, b), Options{Lanes: 1})
		for range 20 {
			a.lines <- "100 1"
			time.Sleep(50 * time.Millisecond)
		}
		if n := out.len(); n != 0 {
			t.Errorf("%d rows came although nobody knows whether events of b wait", n)
		}
		b.setQuiet(time.Now().Add(-100*time.Millisecond), time.Now()) // it could be asked again only just now
		for range 5 {
			a.lines <- "100 1"
			time.Sleep(50 * time.Millisecond)
		}
		if n := out.len(); n != 0 {
			t.Errorf("%d rows came although b was certain for a moment only", n)
		}
		b.setQuiet(time.Time{}, time.Now())
		until(t, "b is idle once it is certain", func() bool { a.lines <- "100 1"; time.Sleep(20 * time.Millisecond); return out.len() == 2 })
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
	})
}

// TestIdleInOrder: partitions that are found idle at once leave in the order of their last events. Once
// both left together, and what the later one had read never closed the earlier one's windows.
func TestIdleInOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := &living{feed: newFeed("a", false, "5 1")}, &living{feed: newFeed("b", false, "1 2")}
		out := &box{}
		watch := NewWatch()
		stop := started(t, graph(t, out, 200*time.Millisecond, false, a, b), Options{Lanes: 1, Watch: watch})
		until(t, "both have been read", func() bool {
			p := watch.Figures().Partitions
			return len(p) == 2 && p[0].Events == 1 && p[1].Events == 1
		})
		time.Sleep(10 * time.Millisecond) // after b's last one
		a.lines <- "100 1"
		time.Sleep(500 * time.Millisecond)
		if n := out.len(); n != 0 {
			t.Fatalf("%d rows before any partition was idle", n)
		}
		far := time.Now().Add(time.Hour) // both are quiet in the same moment
		a.setQuiet(time.Time{}, far)
		b.setQuiet(time.Time{}, far)
		until(t, "the windows that a's last event closes", func() bool { return out.len() == 2 })
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
	})
}

// eye is a tap that takes few rows.
type eye struct {
	mu     sync.Mutex
	room   int
	rows   int
	passed int
	texts  []string
}

func (e *eye) NewEncoder(row.Schema) Encoder { return boxEncoder{} }
func (e *eye) Room(rows int) int {
	e.mu.Lock()
	defer e.mu.Unlock()
	n := min(rows, e.room)
	e.room -= n
	return n
}
func (e *eye) Take(data []byte, rows int) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.passed += rows
	e.texts = append(e.texts, strings.Fields(string(data))...)
}

// TestTaps: a tap sees every part, counts all rows, takes only what it has room for, and changes
// neither rows nor counts of the run.
func TestTaps(t *testing.T) {
	leaks(t)
	var lines []string
	for i := range 20_000 {
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	lines = append(lines, "1 1", "no line at all")
	plain, tapped := &box{}, &box{}
	if _, err := Run(context.Background(), graph(t, plain, 0, true, newFeed("a", true, lines...)), Options{Lanes: 2}); err != nil {
		t.Fatal(err)
	}
	g := graph(t, tapped, 0, true, newFeed("a", true, lines...))
	source, windows, late := &eye{room: 10}, &eye{room: 1 << 30}, &eye{room: 10}
	for _, tap := range []struct {
		r Ref
		e *eye
	}{{Ref{}, source}, {Ref{OfStep: true}, windows}, {Ref{OfStep: true, Part: LatePart}, late}} {
		g.Taps = append(g.Taps, TapNode{From: tap.r, Schema: g.SchemaOf(tap.r), Tap: tap.e})
	}
	res, err := Run(context.Background(), g, Options{Lanes: 2})
	if err != nil {
		t.Fatal(err)
	}
	slices.Sort(plain.rows)
	slices.Sort(tapped.rows)
	if !slices.Equal(plain.rows, tapped.rows) {
		t.Error("the taps changed what the sink took")
	}
	if source.passed != 20_001 || len(source.texts) != 10 {
		t.Errorf("the source's tap counted %d rows and took %d, want 20001 and 10", source.passed, len(source.texts))
	}
	slices.Sort(windows.texts)
	if !slices.Equal(windows.texts, tapped.rows) || windows.passed != len(tapped.rows) {
		t.Errorf("the step's tap has %d rows, the sink %d", len(windows.texts), len(tapped.rows))
	}
	if late.passed != 1 || res.Figures.Steps[0].Lost != 1 {
		t.Errorf("the tap of late rows counted %d", late.passed)
	}
	if bad := Unbalanced(g, res.Figures); len(bad) > 0 {
		t.Errorf("the counts of %v do not add up", bad)
	}
}

// stuck is a sink whose Prepare waits for something outside.
type stuck struct {
	box
	free chan struct{}
	once sync.Once
}

func (s *stuck) Prepare(epoch int64) (Shipment, error) {
	if epoch == 1 {
		return Shipment{}, nil
	}
	<-s.free
	return Shipment{}, errors.New("interrupted")
}
func (s *stuck) Interrupt() { s.once.Do(func() { close(s.free) }) }

// TestStopWithin: a run that is stopped while a sink cannot be reached ends in time, and says that its last
// checkpoint is missing.
func TestStopWithin(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out := &stuck{free: make(chan struct{})}
		saved := 0
		stop := started(t, graph(t, out, 0, false, newFeed("a", false, "5 1")), Options{Lanes: 2, StopWithin: 200 * time.Millisecond, Save: func(*Snapshot) (Saved, error) { saved++; return Saved{}, nil }})
		time.Sleep(100 * time.Millisecond)
		began := time.Now()
		if _, err := stop(); !errors.Is(err, ErrNoLastCheckpoint) {
			t.Errorf("the run ends with %v", err)
		}
		if took := time.Since(began); took > 3*time.Second {
			t.Errorf("it took %s", took)
		}
		if saved != 1 {
			t.Errorf("%d checkpoints were stored, want the first", saved)
		}
	})
}

// opening is a partition that cannot be opened for as long as the run goes on.
type opening struct{ *feed }

func (opening) Open(ctx context.Context, _ json.RawMessage) error {
	<-ctx.Done()
	return ctx.Err()
}

// TestStopWhileOpening: a run that is stopped while it opens a partition is stopped, and has not failed.
func TestStopWhileOpening(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		stop := started(t, graph(t, &box{}, time.Hour, false, newFeed("a", false, "5 1"), opening{newFeed("b", false)}), Options{Lanes: 2})
		time.Sleep(100 * time.Millisecond)
		if _, err := stop(); err != nil {
			t.Errorf("the run ends with %v", err)
		}
	})
}

// TestDrain: a run that does not end is drained: all windows close, also those of a partition that has been silent and of
// one that had nothing, the last checkpoint says that it has finished, and nothing is read after it was told.
func TestDrain(t *testing.T) {
	for _, idle := range []time.Duration{0, time.Hour} {
		synctest.Test(t, func(t *testing.T) {
			a, b, c := newFeed("a", false, "5 1", "25 1"), newFeed("b", false, "7 2"), newFeed("c", false)
			out := &box{}
			drain := make(chan struct{})
			watch := NewWatch()
			var last *Snapshot
			type end struct {
				res Result
				err error
			}
			ended := make(chan end, 1)
			go func() {
				res, err := Run(context.Background(), graph(t, out, idle, false, a, b, c), Options{Lanes: 2, Watch: watch, Drain: drain, Save: func(s *Snapshot) (Saved, error) { last = s; return Saved{}, nil }})
				ended <- end{res, err}
			}()
			until(t, "all is read", func() bool {
				n := int64(0)
				for _, p := range watch.Figures().Partitions {
					n += p.Events
				}
				return n == 3
			})
			if n := out.len(); n != 0 {
				t.Errorf("%d rows came while c holds the watermark", n)
			}
			close(drain)
			e := <-ended
			if e.err != nil || !e.res.Finished || last == nil || !last.Finished || out.len() != 3 {
				t.Errorf("idle %s: %v, finished %v, %d rows, want 3", idle, e.err, e.res.Finished, out.len())
			}
			for _, p := range last.Partitions {
				if !p.Ended {
					t.Errorf("partition %s has not ended in the last checkpoint", p.Name)
				}
			}
		})
	}
}
