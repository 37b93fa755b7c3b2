package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// twoSources counts rows of two sources together, by key, in windows of ten microseconds.
func twoSources(t *testing.T, out Sink, change func(a, b *Source), a, b Partition) *Graph {
	g := graph(t, out, time.Minute, false, a)
	second := g.Sources[0]
	second.Name, second.Partitions = "in2", []Partition{b}
	if b == nil {
		second.Partitions = nil
	}
	g.Sources = append(g.Sources, second)
	if change != nil {
		change(&g.Sources[0], &g.Sources[1])
	}
	g.Steps[0].From = append(g.Steps[0].From, Input{Ref: Ref{At: 1}})
	return g
}

// TestQuietSource: a source all of whose partitions are idle leaves the least of a step with several
// inputs, also one that never had an event, and comes back with its next one. Once it held the merge for ever.
func TestQuietSource(t *testing.T) {
	for name, given := range map[string][]string{"had events": {"1 2"}, "never had any": nil} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				a, b := newFeed("a", false, "5 1"), newFeed("b", false, given...)
				out := &box{}
				stop := started(t, twoSources(t, out, nil, a, b), Options{Lanes: 2})
				send := func(f *feed, line string) { f.lines <- line; time.Sleep(time.Second) }
				for range 50 {
					send(a, "100 1")
				}
				if n := out.len(); n != 0 {
					t.Errorf("%d rows came while b held the watermark: %v", n, out.rows)
				}
				for range 15 {
					send(a, "100 1")
				}
				if n := out.len(); n != 1+len(given) {
					t.Errorf("%d rows came after a minute, want %d: %v", n, 1+len(given), out.rows)
				}
				send(b, "4 3")   // it is back: late, by the watermark that stands
				send(b, "101 3") // in the window of a's last event
				send(a, "500 1")
				if n := out.len(); n != 1+len(given) {
					t.Errorf("%d rows came although b holds the watermark again: %v", n, out.rows)
				}
				send(b, "500 3")
				if n := out.len(); n != 3+len(given) {
					t.Errorf("%d rows came once b went on, want %d: %v", n, 3+len(given), out.rows)
				}
				res, err := stop()
				if err != nil {
					t.Fatal(err)
				}
				if c := res.Figures.Steps[0]; c.Lost != 1 {
					t.Errorf("%d rows are lost, want the one behind the watermark", c.Lost)
				}
			})
		})
	}
}

// TestSilenceOfAll: when all inputs of a step are idle its watermark stands still, or goes on with the clock from
// where it stood, if all of them say so.
func TestSilenceOfAll(t *testing.T) {
	for _, c := range []struct {
		a, b bool
		rows int
	}{{false, false, 0}, {true, false, 0}, {true, true, 2}} {
		t.Run(fmt.Sprint(c.a, c.b), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				a, b := newFeed("a", false), newFeed("b", false)
				out := &box{}
				stop := started(t, twoSources(t, out, func(p, q *Source) { p.Advance, q.Advance = c.a, c.b }, a, b), Options{Lanes: 2})
				a.lines <- "60000000 1"
				time.Sleep(time.Second)
				b.lines <- "60000001 1"
				time.Sleep(time.Second)
				a.lines <- "90000000 2"
				time.Sleep(59800 * time.Millisecond) // b is idle, a soon
				if n := out.len(); n != 1 {
					t.Errorf("%d rows after b left, want 1: %v", n, out.rows)
				}
				time.Sleep(time.Minute)
				if n := out.len(); n != max(1, c.rows) {
					t.Errorf("%d rows a minute later, want %d: %v", n, max(1, c.rows), out.rows)
				}
				if _, err := stop(); err != nil {
					t.Fatal(err)
				}
			})
		})
	}
}

// TestNoPartitionYet: a source that has no partition holds a step that reads it with others for its idle time.
func TestNoPartitionYet(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a := newFeed("a", false)
		later := make(chan Partition)
		out := &box{}
		stop := started(t, twoSources(t, out, func(_, q *Source) {
			q.Find = func(ctx context.Context, found func(Partition)) error {
				select {
				case p := <-later:
					found(p)
				case <-ctx.Done():
				}
				return nil
			}
		}, a, nil), Options{Lanes: 1})
		a.lines <- "5 1"
		a.lines <- "50 1"
		time.Sleep(50 * time.Second)
		if n := out.len(); n != 0 {
			t.Errorf("%d rows before its idle time has passed", n)
		}
		a.lines <- "50 1"
		time.Sleep(11 * time.Second)
		if n := out.len(); n != 1 {
			t.Errorf("%d rows after it, want 1", n)
		}
		later <- newFeed("b", false, "51 2")
		time.Sleep(time.Second)
		a.lines <- "500 1"
		time.Sleep(time.Second)
		if n := out.len(); n != 1 {
			t.Errorf("%d rows although a partition was found and holds the watermark, want 1", n)
		}
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
	})
}

// TestSetAfterRestart: what a step was given while one of its sources was idle still counts after a restart.
func TestSetAfterRestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		a, b := newFeed("a", false, "5 1"), newFeed("b", false, "1 2")
		out := &box{}
		var kept Memory
		stop := started(t, twoSources(t, out, nil, a, b), Options{Lanes: 2, Save: kept.Save})
		for range 65 {
			a.lines <- "100 1"
			time.Sleep(time.Second)
		}
		if n := out.len(); n != 2 {
			t.Fatalf("%d rows came, want 2: %v", n, out.rows)
		}
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
		if w := kept.Last.StepWatermarks["count"]; w != 100 {
			t.Errorf("the checkpoint says that the step was given %s, want 100 us", w)
		}
		a, b = newFeed("a", false), newFeed("b", false, "7 1", "200 2") // the first is late: its window was published
		stop = started(t, twoSources(t, out, nil, a, b), Options{Lanes: 1, Save: kept.Save, From: kept.Last})
		time.Sleep(2 * time.Second)
		a.lines <- "200 1"
		time.Sleep(2 * time.Second)
		res, err := stop()
		if err != nil {
			t.Fatal(err)
		}
		if lost := res.Figures.Steps[0].Lost; lost != 1 || out.len() != 3 {
			t.Errorf("%d rows are lost and %d published in all, want 1 and 3: %v", lost, out.len(), out.rows)
		}
	})
}

// TestArrival: events are stamped where they are read, so that turns which are decoded side by side keep the
// order of their times. Once they were stamped as they were decoded, and rows were lost as late.
func TestArrival(t *testing.T) {
	var lines []string
	for i := range 200_000 {
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	g := graph(t, &box{}, 0, true, newFeed("a", true, lines[:100_000]...), newFeed("b", true, lines[100_000:]...))
	g.Sources[0].EventTime, g.Sources[0].Arrival = nil, true
	slow := rand.New(rand.NewPCG(1, 2))
	delays := make(chan time.Duration, 100)
	go func() {
		for range 100 {
			delays <- time.Duration(slow.IntN(300)) * time.Microsecond
		}
		close(delays)
	}()
	g.Sources[0].NewDecoder = func() Decoder { return slowDecoder{delays} }
	res, err := Run(context.Background(), g, Options{Lanes: 3, Workers: 8})
	if err != nil {
		t.Fatal(err)
	}
	if c := res.Figures.Steps[0]; c.Lost != 0 || c.Used != 200_000 {
		t.Errorf("%d rows are lost and %d used, want 0 and 200000", c.Lost, c.Used)
	}
}

// slowDecoder takes different times for its turns.
type slowDecoder struct{ delays chan time.Duration }

func (d slowDecoder) Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	time.Sleep(<-d.delays)
	return lineDecoder{}.Decode(c, b, rejects)
}

// TestArrivalByScript: an event of a script arrives when its turn comes.
func TestArrivalByScript(t *testing.T) {
	out := &box{}
	g := graph(t, out, 0, true, newFeed("a", true, "1 1", "2 1", "3 1"))
	g.Sources[0].Arrival = true
	g.Sources[0].EventTime = nil
	g.Sources[0].Partitions = []Partition{&oneByOne{feed: newFeed("a", true, "1 1", "2 1", "3 1")}}
	at := time.UnixMicro(1000).UTC()
	script := []Scripted{{Source: 0}, {Clock: 7 * time.Microsecond}, {Source: 0}, {Clock: 13 * time.Microsecond}, {Source: 0}}
	if _, err := Run(context.Background(), g, Options{Lanes: 1, Workers: 4, Now: func() time.Time { return at }, Script: script}); err != nil {
		t.Fatal(err)
	}
	// 1000 and 1007 share a window, 1020 has its own.
	if got := strings.Join(out.rows, " "); got != "1,1000,1010,2, 1,1020,1030,1," {
		t.Errorf("the windows are %s", got)
	}
}

// oneByOne gives an event a turn.
type oneByOne struct{ *feed }

func (o *oneByOne) Read(_ context.Context, c *Chunk) error {
	l, ok := <-o.lines
	if !ok {
		c.Last = true
		return nil
	}
	c.Starts, c.Raw = append(c.Starts, 0), append(c.Raw, l...)
	c.Ends = append(c.Ends, uint32(len(c.Raw)))
	return nil
}
