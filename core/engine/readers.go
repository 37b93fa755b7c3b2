package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"undertide/core/row"
)

// partition is what the run knows of one partition, and the queue of its decoded turns.
type partition struct {
	Partition
	source int
	number int // among the run's partitions

	// the reader's
	credits chan *turn // turns to fill; closed by the sequencer at the end

	// the sequencer's
	asked    int             // turns given to the reader and not yet back
	ready    map[int64]*turn // decoded, by seq
	nextSeq  int64
	greatest row.Time // event time read so far; row.MinTime before the first row
	w        row.Time // its own watermark: greatest - margin, row.MaxTime once it has ended
	ended    bool
	idle     bool
	position json.RawMessage
	events   int64
	caughtUp bool
	since    time.Time // of the last event
	stored   row.Time  // of the last event, by the connector's account; 0 for none

	inOrder, inAwake int // its place in the heaps; -1 for none
}

func (e *run) newPartition(source int, part Partition) *partition {
	return &partition{Partition: part, source: source, credits: make(chan *turn, e.budget+2), ready: map[int64]*turn{},
		greatest: row.MinTime, w: row.MinTime, since: e.opt.Now(), inOrder: -1, inAwake: -1}
}

// start takes the position at which a partition is first read.
func (p *partition) start() {
	if s, ok := p.Partition.(Starter); ok {
		p.position = s.Start()
	}
}

// addPartition takes a partition into the run, as it begins or as it was found.
func (e *run) addPartition(p *partition) {
	p.number = len(e.partitions)
	e.partitions = append(e.partitions, p)
	e.marks.add(p)
	e.order.add(p)
	if !p.ended {
		e.live++
	}
}

// foundPartition takes in a partition that was found while the run goes on, unless it is known.
func (e *run) foundPartition(q *partition) {
	for _, p := range e.partitions {
		if p.source == q.source && p.Name() == q.Name() {
			return
		}
	}
	q.start()
	e.addPartition(q)
	e.watch.add(e, q)
	e.spawn(&e.readers, func() { e.read(q) })
}

// endPartition notes that nothing follows.
func (e *run) endPartition(p *partition) {
	p.ended, p.w = true, row.MaxTime
	e.live--
	e.order.remove(p)
	e.marks.changed(p)
}

// find lets the sources look for more partitions.
func (e *run) find() {
	for i := range e.p.Sources {
		look := e.p.Sources[i].Find
		if look == nil {
			continue
		}
		e.spawn(&e.readers, func() {
			err := look(e.hard, func(part Partition) {
				select {
				case e.found <- e.newPartition(i, part):
				case <-e.hard.Done():
				}
			})
			if err != nil && e.hard.Err() == nil {
				e.fail(fmt.Errorf("source %s: %w", e.p.Sources[i].Name, err))
			}
		})
	}
}

// read fills the turns that the sequencer asks for, one after another. An event's arrival is stamped here,
// where it is read, so that turns which are decoded side by side do not change its order; within a
// partition it does not go back (docs/time.md, "Event times and durations").
func (e *run) read(p *partition) {
	name, position, first := e.p.Sources[p.source].Name, p.position, p.events
	arrived := p.greatest
	var seq int64
	for t := range p.credits {
		if seq == 0 { // only when the first turn is asked for: there may be many partitions
			if err := p.Open(e.hard, position); err != nil {
				if e.hard.Err() == nil { // else the run has ended meanwhile
					e.fail(fmt.Errorf("source %s: %w", name, err))
				}
				return
			}
			e.tellOpened()
		}
		t.chunk.Reset()
		t.seq, seq = seq, seq+1
		if !e.awaitRoom() {
			return
		}
		if err := p.Read(e.hard, &t.chunk); err != nil {
			if e.hard.Err() == nil {
				e.fail(fmt.Errorf("source %s: %w", name, err))
			}
			return
		}
		t.chunk.First = first
		if err := e.enter(t); err != nil {
			e.fail(err)
			return
		}
		t.read = row.TimeOf(e.opt.Now())
		arrived = max(arrived, t.read)
		t.arrived = arrived
		first += int64(len(t.chunk.Starts))
		last := t.chunk.Last // once sent, the turn is no longer the reader's
		select {
		case e.raw <- t:
		case <-e.hard.Done():
			return
		}
		if last {
			return
		}
	}
}

// The buffer
//
// The bytes of events that were read and have not gone through all lanes are counted, and reading ahead ends where
// they fill the buffer. In a bounded run that is the sequencer's to see: the partition whose turn is next always
// reads, or nothing would go on. In an unbounded run any turn that is decoded may be taken, so readers wait
// themselves. A turn has at most some 16 MiB, so the count goes beyond by at most that for each partition.

// awaitRoom waits until there is room in the buffer; false when the run ends.
func (e *run) awaitRoom() bool {
	for !e.bounded && e.opt.Script == nil && e.full() {
		select {
		case <-time.After(time.Millisecond):
		case <-e.hard.Done():
			return false
		}
	}
	return true
}

// enter counts a turn's events as under way; an event that is larger than the whole buffer is refused.
func (e *run) enter(t *turn) error {
	t.bytes = int64(len(t.chunk.Raw))
	if t.bytes > e.opt.Buffer {
		for i := range t.chunk.Starts {
			if n := int64(t.chunk.Ends[i] - t.chunk.Starts[i]); n > e.opt.Buffer && !slices.Contains(e.p.Sources[t.part.source].Skip[t.part.Name()], t.chunk.Offset(i)) {
				return e.atEvent(t.part, &t.chunk, i, fmt.Errorf("an event has %d bytes, and the buffer %d; give settings: {buffer: …} more, or keep such events out", n, e.opt.Buffer))
			}
		}
	}
	e.inFlight.Add(t.bytes)
	return nil
}

// leave takes a turn that has gone through out of the count.
func (e *run) leave(t *turn) {
	e.inFlight.Add(-t.bytes)
	t.bytes = 0
}

// full says whether so much is under way that nobody reads ahead.
func (e *run) full() bool { return e.inFlight.Load() >= e.opt.Buffer }

// give lets the reader of p fill one more turn.
func (e *run) give(p *partition) {
	p.asked++
	e.outstanding++
	p.credits <- e.newTurn(p)
}

// ask lets the readers of a bounded run read ahead: the chosen partition always has a turn under way, others
// as far as the budget of turns goes, about those first that will be chosen soonest. In an unbounded run each
// partition has two turns under way: it is asked again as one of them is taken.
func (e *run) ask(chosen *partition) {
	if chosen != nil && chosen.asked == 0 {
		e.give(chosen)
	}
	if !e.bounded || chosen == nil || e.full() {
		return
	}
	each := max(1, e.budget/max(1, e.live))
	for e.outstanding < e.budget && chosen.asked < max(each, 2) {
		e.give(chosen)
	}
	soonest := e.order.soonest()
	for _, p := range soonest[:min(len(soonest), 2*e.budget)] {
		for p.asked < each {
			if e.outstanding >= e.budget {
				return
			}
			e.give(p)
		}
	}
}

// probe finds the empty partitions of a bounded run, whose W is plus infinity from the start; false
// when the run was stopped meanwhile.
func (e *run) probe(stop context.Context) bool {
	if !e.bounded || e.opt.Script != nil || e.opt.Rest != nil {
		return true
	}
	type answer struct {
		p     *partition
		empty bool
		err   error
	}
	answers := make(chan answer, len(e.partitions))
	asked := 0
	limit := make(chan struct{}, 16)
	for _, p := range e.partitions {
		if p.ended || p.position != nil && e.opt.From != nil {
			continue // it was asked as the run first started
		}
		asked++
		e.spawn(nil, func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			empty, err := p.Empty(e.hard)
			answers <- answer{p, empty, err}
		})
	}
	for range asked {
		select {
		case a := <-answers:
			if a.err != nil {
				e.fail(fmt.Errorf("source %s: %w", e.p.Sources[a.p.source].Name, a.err))
				return false
			}
			if a.empty {
				e.endPartition(a.p)
			}
		case <-stop.Done():
			return false
		case <-e.hard.Done():
			return false
		}
	}
	return true
}

// cancelReaders ends readers and workers, which may still be reading ahead.
func (e *run) cancelReaders() {
	e.cancel(nil) // frees whoever waits to send
	for _, p := range e.partitions {
		close(p.credits)
		_ = p.Close() // nothing more is wanted of it
	}
	done := make(chan struct{})
	go func() {
		e.readers.Wait()
		close(e.raw)
		e.workers.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(time.Second): // a terminal or pipe that does not return from a read
	}
}
