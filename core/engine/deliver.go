package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"
)

// Shipment is what a sink prepared of an epoch: it is durable, and waits for its delivery.
type Shipment struct {
	Epoch int64 `json:"epoch"`
	// Place is the number of the turn behind the mark that ends the epoch.
	Place int64 `json:"place,omitempty"`
	// Rows are those of the epoch.
	Rows int64 `json:"rows"`
	// Bytes are what is kept until it is delivered.
	Bytes int64 `json:"bytes"`
	// Files are those of the run's folder of shipments that hold it, by name: they are part of the checkpoint. None where the rows lie with the sink.
	Files []string `json:"files,omitempty"`
	// Data is the sink's own: all that Open and Deliver need.
	Data json.RawMessage `json:"data"`
}

// DefaultUndelivered bounds the bytes that wait for a sink, unless told otherwise.
const DefaultUndelivered = 1 << 30

// delivery hands over the shipments of one sink, in the order of their epochs and behind the checkpoints that hold them: a
// slow sink holds up no checkpoint. What waits stands in the manifest of each checkpoint, so that a start delivers what the
// run before did not; a shipment comes here only once its checkpoint is complete.
//
// Where more than the bound waits, the sink takes no rows: lanes wait for it, then readers. With a bound of 1 GiB and
// epochs of 300 MiB four wait, 1.2 GiB, and the rows of the fifth stand still until the first is delivered.
type delivery struct {
	e    *run
	at   int
	node *SinkNode

	mu      sync.Mutex // guards all below
	changed sync.Cond  // waiting, ended, or something that ends waits
	waiting []Shipment // also the one that is under way, the first
	bytes   int64
	ended   bool // nothing more comes
	// ages are of rows that appear with their epoch's delivery.
	ages map[int64]ages
}

func newDelivery(e *run, at int, waiting []Shipment) *delivery {
	d := &delivery{e: e, at: at, node: &e.p.Sinks[at], waiting: slices.Clone(waiting), ages: map[int64]ages{}}
	d.changed.L = &d.mu
	for _, s := range waiting {
		d.bytes += s.Bytes
	}
	return d
}

// add takes a shipment whose checkpoint is complete.
func (d *delivery) add(s Shipment) {
	d.mu.Lock()
	d.waiting = append(d.waiting, s)
	d.bytes += s.Bytes
	d.mu.Unlock()
	d.changed.Broadcast()
}

// end says that nothing more comes.
func (d *delivery) end() {
	d.mu.Lock()
	d.ended = true
	d.mu.Unlock()
	d.changed.Broadcast()
}

// wake lets those who wait look again. It takes the lock, so that nobody begins to wait on what they saw before.
func (d *delivery) wake() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.changed.Broadcast()
}

// left gives the shipments that wait, and their bytes.
func (d *delivery) left() (waiting []Shipment, bytes int64) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.waiting), d.bytes
}

// awaitRoom waits while too much is undelivered. A run that stops goes on: its last checkpoint holds what waits.
func (d *delivery) awaitRoom() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for d.bytes >= d.e.opt.Undelivered && !d.e.failed() && !d.e.stopping.Load() {
		d.changed.Wait()
	}
}

// next waits for a shipment; it gives false where no more comes or delivery has ended.
func (d *delivery) next() (Shipment, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for len(d.waiting) == 0 && !d.ended && d.e.delivering.Err() == nil {
		d.changed.Wait()
	}
	if len(d.waiting) == 0 || d.e.delivering.Err() != nil {
		return Shipment{}, false
	}
	return d.waiting[0], true
}

// expect notes which rows appear when an epoch is delivered.
func (d *delivery) expect(epoch int64, a ages) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ages[epoch] = a
}

// done takes the first shipment off, and gives the rows that have appeared with it.
func (d *delivery) done() ages {
	d.mu.Lock()
	s := d.waiting[0]
	d.bytes -= s.Bytes
	d.waiting = d.waiting[1:]
	a := d.ages[s.Epoch]
	delete(d.ages, s.Epoch)
	d.mu.Unlock()
	d.changed.Broadcast()
	return a
}

func (d *delivery) run() {
	for {
		s, ok := d.next()
		if !ok {
			return
		}
		err := Guard(func() error {
			return d.e.waits.during(&d.e.waits.delivering[d.at], func() error { return d.node.Sink.Deliver(d.e.delivering, s) })
		})
		if err != nil {
			if d.e.delivering.Err() == nil {
				d.e.fail(fmt.Errorf("sink %s: deliver epoch %d: %w", d.node.Name, s.Epoch, err))
			}
			return
		}
		if a := d.done(); d.e.opt.Script == nil {
			d.e.sinks[d.at].delays.appear(a, d.e.opt.Now())
		}
		d.e.watch.delivered(d.at, s)
	}
}

// Undelivered is what of a sink waited when the run ended.
type Undelivered struct {
	Sink   string
	Epochs int
	Bytes  int64
}

// ErrUndelivered is wrapped where a stopped run without checkpoints could not deliver what it had made.
var ErrUndelivered = errors.New("rows were not delivered in time")

// ErrFenced is wrapped where another run has taken a sink over: nothing that this one makes is delivered any more. Trying
// again would take it back, so whoever gets this error does not.
var ErrFenced = errors.New("another run of the job has taken over")

// ErrCutOff is wrapped by the cause with which the context of a run ends that is not to be stopped with a checkpoint, but broken off: it may not go on, not even for that.
var ErrCutOff = errors.New("the run was broken off")

// undelivered gives the sinks for which something waits.
func (e *run) undelivered() (out []Undelivered) {
	for _, s := range e.sinks {
		if waiting, bytes := s.delivery.left(); len(waiting) > 0 {
			out = append(out, Undelivered{s.node.Name, len(waiting), bytes})
		}
	}
	return out
}

// wake lets all look again who wait for deliveries.
func (e *run) wake() {
	for _, s := range e.sinks {
		s.delivery.wake()
	}
}

// boundStop bounds how long a stopped run takes: for its last checkpoint, which it fails without, and for delivering,
// which the next start does where the checkpoint holds it. It gives what undoes it.
func (e *run) boundStop(ctx context.Context) func() {
	undo := context.AfterFunc(ctx, func() {
		if errors.Is(context.Cause(ctx), ErrCutOff) { // another may be at work already
			e.fail(context.Cause(ctx))
			return
		}
		e.stopping.Store(true)
		e.wake()
		if e.opt.StopWithin <= 0 {
			return
		}
		select {
		case <-time.After(e.opt.StopWithin):
		case <-e.hard.Done():
			return
		}
		switch {
		case !e.settled.Load():
			e.fail(fmt.Errorf("%w (%s); the next start goes on from the one before", ErrNoLastCheckpoint, e.opt.StopWithin))
		case e.opt.Save == nil:
			e.fail(fmt.Errorf("%w (%s)", ErrUndelivered, e.opt.StopWithin))
		default:
			e.giveUp()
		}
	})
	return func() { undo() }
}
