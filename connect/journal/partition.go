package journal

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// Partition is a journal as the one partition of a source. A run that starts anew begins with the oldest event that is there.
type Partition struct {
	j      *Journal
	name   string
	r      *Reader
	at     atomic.Int64 // number of the next event
	told   bool         // the last chunk said that there were no more
	over   chan struct{}
	closed sync.Once
	event  []byte // that was read and did not fit into the chunk
	taken  time.Time
}

// NewPartition makes the partition. The journal stays the caller's.
func NewPartition(j *Journal, name string) *Partition {
	return &Partition{j: j, name: name, over: make(chan struct{})}
}

// linger is how long events are gathered, and quiet how long there are none before that is said.
const (
	linger     = 5 * time.Millisecond
	quiet      = 500 * time.Millisecond
	chunkBytes = 16 << 20
)

type position struct {
	Event int64 `json:"event"` // number of the next one
}

func positionOf(event int64) json.RawMessage { return fmt.Appendf(nil, `{"event":%d}`, event) }

func (p *Partition) Name() string                        { return p.name }
func (p *Partition) Size() int64                         { return 0 }
func (p *Partition) Empty(context.Context) (bool, error) { return false, nil }

// Close lets a Read that waits return.
func (p *Partition) Close() error {
	p.closed.Do(func() { close(p.over) })
	return nil
}

// Start implements [engine.Starter].
func (p *Partition) Start() json.RawMessage {
	first, _ := p.j.Bounds()
	return positionOf(first)
}

// Open goes to a position.
func (p *Partition) Open(_ context.Context, at json.RawMessage) error {
	if at == nil {
		at = p.Start()
	}
	var pos position
	if err := json.Unmarshal(at, &pos); err != nil {
		return fmt.Errorf("read the position of %s: %w", p.name, err)
	}
	r, err := p.j.Read(pos.Event)
	if err != nil {
		return fmt.Errorf("%w; the journal was taken away or is another one: put it back, or start anew", err)
	}
	p.r = r
	p.at.Store(pos.Event)
	return nil
}

// stored are the times at which the events of a chunk were taken.
type stored []row.Time

// Append implements [engine.Meta].
func (s stored) Append(c *row.Column, field string, i int) {
	if field == "meta.stored" {
		c.AppendInt(int64(s[i]))
	} else {
		c.AppendNull()
	}
}

// Read gives what is there, and what comes within a few milliseconds; nothing, once it has caught up.
func (p *Partition) Read(ctx context.Context, c *engine.Chunk) error {
	if !p.await(ctx) {
		select {
		case <-p.over:
			return context.Canceled
		default:
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		c.Position, c.CaughtUp, p.told = positionOf(p.at.Load()), true, true
		return nil
	}
	c.First = p.at.Load()
	var times stored
	for until := time.Now().Add(linger); ; {
		full, err := p.fill(c, &times)
		if err != nil {
			return err
		}
		wait, cancel := context.WithDeadline(ctx, until)
		more := !full && p.r.Wait(wait, p.over)
		cancel()
		if !more {
			break
		}
	}
	_, next := p.j.Bounds()
	c.Meta, c.Position, c.CaughtUp = times, positionOf(p.at.Load()), p.at.Load() == next
	if n := len(times); n > 0 {
		c.Stored = times[n-1]
	}
	p.told = c.CaughtUp
	return nil
}

// await waits for an event, or until it is time to say that there are none; false for the latter.
func (p *Partition) await(ctx context.Context) bool {
	if p.event != nil {
		return true
	}
	if p.told { // it was said already
		return p.r.Wait(ctx, p.over)
	}
	ctx, cancel := context.WithTimeout(ctx, quiet)
	defer cancel()
	return p.r.Wait(ctx, p.over)
}

// fill adds the events that are there; true where the chunk has as many as a turn takes.
func (p *Partition) fill(c *engine.Chunk, times *stored) (full bool, err error) {
	for len(c.Starts) < row.MaxRows {
		if p.event == nil {
			event, at, ok, err := p.r.Next()
			if err != nil || !ok {
				return false, err
			}
			p.event, p.taken = event, at
			if event == nil {
				p.event = []byte{}
			}
		}
		if len(c.Starts) > 0 && len(c.Raw)+len(p.event) > chunkBytes {
			return true, nil
		}
		c.Starts = append(c.Starts, uint32(len(c.Raw)))
		c.Raw = append(c.Raw, p.event...)
		c.Ends = append(c.Ends, uint32(len(c.Raw)))
		c.Bytes += int64(len(p.event))
		*times = append(*times, row.TimeOf(p.taken))
		p.event = nil
		p.at.Add(1)
	}
	return true, nil
}

// Acknowledge lets go of what a complete checkpoint has passed.
func (p *Partition) Acknowledge(at json.RawMessage) { p.AcknowledgeBut(at, 0) }

// AcknowledgeBut lets go of what a complete checkpoint has passed, but for the last events of it.
func (p *Partition) AcknowledgeBut(at json.RawMessage, last int64) {
	var pos position
	if json.Unmarshal(at, &pos) == nil {
		_ = p.j.Release(pos.Event - last) // tried again with the next checkpoint; a journal that grows full says so
	}
}

// Lag implements [engine.Lagger].
func (p *Partition) Lag(at json.RawMessage) (int64, bool) {
	var pos position
	if at == nil || json.Unmarshal(at, &pos) != nil {
		pos.Event, _ = p.j.Bounds()
	}
	_, next := p.j.Bounds()
	return max(0, next-pos.Event), true
}

// Quiet implements [engine.Quieter]: nothing comes but by the journal, so there was nothing since its newest event.
func (p *Partition) Quiet() (from, to time.Time) {
	if n, known := p.Lag(positionOf(p.at.Load())); !known || n > 0 {
		return time.Time{}, time.Time{}
	}
	return p.j.Newest(), time.Now()
}
