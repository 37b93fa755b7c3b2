package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
)

// bomb goes off at its third use.
type bomb struct{ used atomic.Int32 }

func (b *bomb) tick(on bool) {
	if on && b.used.Add(1) == 3 {
		panic("boom")
	}
}

// bombed are a source, sink and step whose methods panic, one at a time.
type bombed struct {
	bomb
	at string
	*feed
	box
	aborted atomic.Bool
}

func (b *bombed) Open(context.Context, json.RawMessage) error { return nil }
func (b *bombed) Close() error                                { return b.feed.Close() }
func (b *bombed) Read(ctx context.Context, c *Chunk) error {
	b.tick(b.at == "read")
	return b.feed.Read(ctx, c)
}
func (b *bombed) Decode(c *Chunk, batch *row.Batch, rejects []step.Reject) []step.Reject {
	b.tick(b.at == "decode")
	return lineDecoder{}.Decode(c, batch, rejects)
}

type bombedSink struct{ *bombed }

func (b bombedSink) Delivered(context.Context) (int64, error) { return 0, nil }
func (b bombedSink) Open([]Shipment, int64) error             { return nil }
func (b bombedSink) NewEncoder(row.Schema) Encoder            { return b }
func (b bombedSink) Append(dst []byte, v step.View) []byte {
	b.tick(b.at == "encode")
	return boxEncoder{}.Append(dst, v)
}
func (b bombedSink) Write(data []byte, rows int) error {
	b.tick(b.at == "write")
	return b.box.Write(data, rows)
}
func (b bombedSink) Prepare(epoch int64) (Shipment, error) {
	b.tick(b.at == "prepare")
	return b.box.Prepare(epoch)
}
func (b bombedSink) Deliver(ctx context.Context, s Shipment) error {
	b.tick(b.at == "deliver")
	return b.box.Deliver(ctx, s)
}
func (b bombedSink) Abort() error { b.aborted.Store(true); return nil }

type bombedStep struct {
	step.Keyed
	b *bombed
}

func (s bombedStep) NewLane(o step.LaneOptions) step.Lane { return bombedLane{s.Keyed.NewLane(o), s.b} }

type bombedLane struct {
	step.Lane
	b *bombed
}

func (l bombedLane) Take(x *step.Exchange, lane int, t *step.Turn, out step.Out) {
	l.b.tick(l.b.at == "take")
	l.Lane.Take(x, lane, t, out)
}
func (l bombedLane) Freeze() []*state.Changes {
	l.b.tick(l.b.at == "freeze")
	return l.Lane.Freeze()
}

// TestPanicsAreTheRunsFault: wherever code of a run panics, that run ends with a fault that has the stack; its
// sinks are closed, its goroutines end, and the program goes on.
func TestPanicsAreTheRunsFault(t *testing.T) {
	var lines []string
	for i := range 150_000 { // marks come with turns, and are skipped while one is under way
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	for _, at := range []string{"read", "decode", "take", "freeze", "encode", "write", "prepare", "deliver", "save", "completed", "find"} {
		t.Run(at, func(t *testing.T) {
			leaks(t)
			b := &bombed{at: at, feed: newFeed("a", at != "find", lines...)}
			g := graph(t, bombedSink{b}, 0, at != "find", b)
			g.Steps[0].Keyed = bombedStep{g.Steps[0].Keyed, b}
			g.Sources[0].NewDecoder = func() Decoder { return b }
			opt := Options{Lanes: 2, EveryTurns: 1}
			opt.Save = func(*Snapshot) (Saved, error) { b.tick(at == "save"); return Saved{}, nil }
			opt.Completed = func(Completed) { b.tick(at == "completed") }
			if at == "find" {
				g.Sources[0].Find = func(context.Context, func(Partition)) error { panic("boom") }
			}
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			_, err := Run(ctx, g, opt)
			var p *Panic
			if !errors.As(err, &p) || !strings.Contains(err.Error(), "boom") || !strings.Contains(string(p.Stack), "panic_test.go") {
				t.Fatalf("the run ends with %v, want a panic with its place", err)
			}
			if !b.aborted.Load() {
				t.Error("the sink was not closed")
			}
		})
	}
}

// touchy decodes lines, and panics over one of them.
type touchy struct{ lineDecoder }

func (touchy) Decode(c *Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	for i := range c.Starts {
		if string(c.Event(i)) == "7000 1" {
			panic("boom")
		}
	}
	return lineDecoder{}.Decode(c, b, rejects)
}

// TestEventSetAside: a fault that comes with one event names it; with it set aside the run goes on, and counts it. So for an
// event that is larger than the buffer.
func TestEventSetAside(t *testing.T) {
	var lines []string
	for i := range 10_000 {
		lines = append(lines, fmt.Sprintf("%d %d", i, i%7))
	}
	lines[7000] = "7000 1"
	run := func(skip map[string][]int64, buffer int64) (Result, int, error) {
		out := &box{}
		g := graph(t, out, 0, true, newFeed("a", true, lines...))
		g.Sources[0].NewDecoder = func() Decoder { return touchy{} }
		g.Sources[0].Skip = skip
		res, err := Run(context.Background(), g, Options{Lanes: 2, Buffer: buffer})
		return res, out.len(), err
	}
	_, _, err := run(nil, 0)
	var at *AtEvent
	if !errors.As(err, &at) || at.Source != "in" || at.Partition != "a" || at.Offset != 7000 || string(at.Event) != "7000 1" || !strings.Contains(err.Error(), "boom; it came with event 7000") && !strings.Contains(err.Error(), "event 7000 of partition a") {
		t.Errorf("a fault over one event: %v", err)
	}
	res, rows, err := run(map[string][]int64{"a": {7000}}, 0)
	if err != nil || !res.Finished || res.Figures.Sources[0].Rejected[step.Skipped] != 1 || rows == 0 || len(Unbalanced(graph(t, &box{}, 0, true), res.Figures)) > 0 {
		t.Errorf("with the event set aside: %v, %+v", err, res.Figures.Sources)
	}
	lines[7000] = "7000 " + strings.Repeat("1", 4000)
	if _, _, err = run(nil, 100_000); err != nil {
		t.Errorf("an event within the buffer: %v", err)
	}
	lines[7000] = "7000 " + strings.Repeat("1", 2<<20)
	if _, _, err = run(nil, 1<<20); !errors.As(err, &at) || at.Offset != 7000 || len(at.Event) > 300 {
		t.Errorf("an event beyond the buffer: %v", err)
	}
	if res, _, err = run(map[string][]int64{"a": {7000}}, 1<<20); err != nil || res.Figures.Sources[0].Rejected[step.Skipped] != 1 {
		t.Errorf("with the event beyond the buffer set aside: %v", err)
	}
}
