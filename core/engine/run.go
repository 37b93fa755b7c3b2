package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Options are how a graph is run. The zero value runs it to its end, on all CPUs, without
// checkpoints.
type Options struct {
	// Lanes is the number of parallel workers of keyed steps; 0 means one for each CPU.
	Lanes int
	// Workers decode; 0 means one for each CPU.
	Workers int
	// Buffer is how many bytes of events may be read and not yet gone through; 0 means DefaultBuffer. An event that is
	// larger ends the run.
	Buffer int64
	// Now is the wall clock; nil means time.Now.
	Now func() time.Time
	// Every is the time between checkpoints, 0 for none but the first and the last; EveryTurns asks
	// for them by turns instead (tests).
	Every      time.Duration
	EveryTurns int
	// Save stores a snapshot durably; its shipments are delivered behind that. It is called by one goroutine
	// at a time and owns the snapshot. With nil none is kept, snapshots have no state, and shipments
	// are delivered every so often all the same.
	Save func(*Snapshot) (Saved, error)
	// Behind is the store that stands behind the lanes' state, which Save saves; nil for none, then all of it is in memory.
	Behind state.Behind
	// Apply brings that store up to a mark where nothing is saved: it is called in place of Save, once lanes have let
	// something go.
	Apply func([]LaneChanges) error
	// Memory bounds the bytes of state that lanes hold in memory, where a store stands behind it; nil or 0 for no bound.
	// What is needed for a turn may go beyond. It may change from call to call, and is called by all lanes.
	Memory func() int64
	// From is what the run starts from; nil begins anew at FirstEpoch (1 if zero).
	From       *Snapshot
	FirstEpoch int64
	// Delivered is what each sink's Delivered gave, where it was asked already; the run asks where it is nil.
	Delivered []int64
	// Watch lets others look at the run while it goes on; nil for nobody.
	Watch *Watch
	// StopWithin bounds how long a stopped run waits for its last checkpoint, and then for its deliveries, where a sink
	// cannot be reached; 0 for no bound.
	StopWithin time.Duration
	// HandOn is how many bytes of rows a lane makes of one turn for steps of later stages before it hands them on; 0 means
	// DefaultHandOn. The rows of one event go beyond.
	HandOn int
	// Undelivered bounds the bytes that wait for a sink; beyond it takes no rows. 0 means DefaultUndelivered.
	Undelivered int64
	// Script says in which order the sources give their events, one a turn, and when the clock goes on
	// (examples): each source has one partition, which is not bounded but ends after its last event.
	Script []Scripted
	// Stepped is told of each turn of a script once all of its rows have gone through; the next turn
	// waits for it. May be nil.
	Stepped func(Stepped)
	// Completed is told of each complete checkpoint, of which not all may be delivered; may be nil.
	Completed func(Completed)
	// Unfinished is told of each checkpoint that was begun and did not come to be; may be nil.
	Unfinished func(Unfinished)
	// Opened is told once that all sinks are open, and with them the first partition, if there is one; may be nil.
	Opened func()
	// References tells, at each mark, what the references hold that rows are looked up in; it is kept with the checkpoint. Nil
	// for none.
	References func() json.RawMessage
	// Drain, once it is closed, ends all sources where they stand: the watermark goes to the end, everything is published,
	// and the run finishes. Nil for never.
	Drain <-chan struct{}
	// Rest lets the run come to rest; nil for a run as any other.
	Rest *Rest
}

// Scripted is one step of a script: the next event of a source, or time that passes.
type Scripted struct {
	Source int
	Clock  time.Duration
}

// Stepped is where a scripted run stands after a turn.
type Stepped struct {
	// Script is the number of the script's step that the turn belongs to; the script's length once all
	// were done.
	Script int
	// Watermarks are those of the sources after the turn, by source.
	Watermarks []row.Time
}

// Completed is a checkpoint that was stored.
type Completed struct {
	Epoch      int64
	Finished   bool
	Took       time.Duration // from the mark on
	Stall      time.Duration // the longest that a lane spent copying
	Saved      Saved
	Partitions []PartitionState
	// Skipped is how many marks were due since the one before and were not taken, because that one was under way.
	Skipped int64
}

// Unfinished is a checkpoint that did not come to be.
type Unfinished struct {
	Epoch int64
	Began time.Time // the mark; zero where it is not known
	Why   string
}

// ErrNoLastCheckpoint is wrapped where a stopped run could not make its last checkpoint in time.
var ErrNoLastCheckpoint = errors.New("the last checkpoint could not be made in time")

// Saved is what a checkpoint took.
type Saved struct {
	// Rows are the rows of state that are new or have changed since the one before, and Gone those that were named as
	// gone; those that passed with their time are not counted.
	Rows, Gone int64
	// Written is how many bytes were written for it, Size what all of its files have. Much of that is shared with other
	// checkpoints.
	Written, Size int64
}

// ErrReaderGone is wrapped by a sink's error when whoever reads its output went away, as in a pipe:
// the run ends quietly.
var ErrReaderGone = errors.New("the reader of the output has gone")

// Result is how a run ended.
type Result struct {
	// Finished: all inputs came to their end. Otherwise the run was stopped.
	Finished bool
	// ReaderGone: a sink's reader went away and the run ended for it.
	ReaderGone bool
	// Rested: the run has come to rest, see [Options.Rest].
	Rested bool
	// Undelivered names the sinks for which the last checkpoint holds shipments: the next start delivers them.
	Undelivered []Undelivered
	Figures     Figures
}

type run struct {
	p       *plan
	opt     Options
	bounded bool
	started time.Time // when the run first started, perhaps from another process
	began   time.Time // when this one did

	hard     context.Context // ends when something fails
	cancel   context.CancelCauseFunc
	hasFault atomic.Bool
	fault    error // set once, before hard ends

	delivering context.Context // ends with hard, or when deliveries are given up
	giveUp     context.CancelFunc
	stopping   atomic.Bool // the run was told to stop
	settled    atomic.Bool // the last mark was taken and stored
	rested     bool        // the sequencer's: the run has come to rest

	partitions []*partition
	found      chan *partition // by sources that look for more
	finding    bool            // some source looks for more
	drain      <-chan struct{} // Options.Drain until it was heard
	readers    sync.WaitGroup
	workers    sync.WaitGroup
	decoded    chan *turn // workers to sequencer
	raw        chan *turn // readers to workers
	lanes      []*lane
	sinks      []*sinkRunner
	pool       sync.Pool

	// the sequencer's
	order       order
	marks       *watermarks
	turns       int64
	outstanding int          // turns that readers and workers have
	inFlight    atomic.Int64 // bytes of events that were read and have not gone through
	budget      int          // of them in a bounded run
	live        int          // partitions that have not ended
	given       []row.Time   // by set of sources: the watermark that the lanes were given last
	stood       []row.Time   // of leadIn
	latest      row.Time     // the clock as it was last given out

	epoch    int64 // of the interval that runs
	marking  *mark
	skipped  int64 // marks that were due while one was under way, since it began
	markDone chan struct{}
	saving   sync.WaitGroup
	writing  sync.WaitGroup // lanes that write ahead of a mark

	opened sync.Once // all sinks and a partition

	begun map[string]map[string]row.Time // of the snapshot that the run started from; never written
	base  Counts                         // of the snapshot that the run started from
	late  []atomic.Int64                 // by source: late events since the run started
	watch *Watch
	waits *waits
}

// DefaultBuffer bounds the events that are under way, unless told otherwise.
const DefaultBuffer = 256 << 20

// DefaultHandOn bounds the rows of a turn between two stages, by lane, unless told otherwise.
const DefaultHandOn = 4 << 20

func (e *run) failed() bool { return e.hasFault.Load() }

func (e *run) fail(err error) {
	if e.hasFault.CompareAndSwap(false, true) {
		e.fault = err
		e.cancel(err)
		for _, s := range e.sinks {
			if i, ok := s.node.Sink.(Interrupter); ok {
				i.Interrupt()
			}
		}
	}
}

// aheadFrom is the moment that `ahead` counts from.
func (e *run) aheadFrom() row.Time {
	if e.bounded {
		return row.TimeOf(e.started)
	}
	return row.TimeOf(e.opt.Now())
}

// Run runs a graph until its inputs end or ctx is done, which stops it with a last checkpoint. The
// engine opens and closes partitions and sinks. On return nothing of it runs any more, but a reader
// whose partition does not return from Read on Close. A panic of the graph's code ends the run with a
// [Panic], and nothing else.
func Run(ctx context.Context, g *Graph, opt Options) (Result, error) {
	p, err := newPlan(g)
	if err != nil {
		return Result{}, err
	}
	e := &run{p: p, opt: opt, bounded: true, drain: opt.Drain, markDone: make(chan struct{}, 1), watch: opt.Watch}
	if e.watch == nil {
		e.watch = NewWatch()
	}
	if e.opt.Now == nil {
		e.opt.Now = time.Now
	}
	if e.opt.Undelivered <= 0 {
		e.opt.Undelivered = DefaultUndelivered
	}
	if e.opt.HandOn <= 0 {
		e.opt.HandOn = DefaultHandOn
	}
	if e.opt.Buffer <= 0 {
		e.opt.Buffer = DefaultBuffer
	}
	if e.opt.Workers <= 0 {
		e.opt.Workers = runtime.GOMAXPROCS(0)
	}
	if e.opt.Lanes <= 0 {
		e.opt.Lanes = runtime.GOMAXPROCS(0)
	}
	for i := range g.Sources {
		e.bounded = e.bounded && g.Sources[i].Bounded && opt.Script == nil
		e.finding = e.finding || g.Sources[i].Find != nil && opt.Rest == nil
	}
	e.order = newByWatermark(e)
	if now := e.opt.Now; e.opt.Script != nil {
		script := &scripted{e: e, steps: opt.Script}
		e.order, e.opt.Now = script, func() time.Time { return now().Add(script.clock) }
	}
	e.hard, e.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	defer e.cancel(nil)
	e.delivering, e.giveUp = context.WithCancel(e.hard)
	defer e.giveUp()
	defer context.AfterFunc(e.delivering, e.wake)()
	if err := e.restore(); err != nil {
		return Result{}, err
	}
	if err := e.openSinks(ctx); err != nil {
		return Result{}, err
	}
	return e.runAll(ctx)
}

func (e *run) tellOpened() {
	if e.opt.Opened != nil {
		e.opened.Do(e.opt.Opened)
	}
}

func (e *run) runAll(ctx context.Context) (Result, error) {
	e.waits, e.late = newWaits(e.p, len(e.lanes)), make([]atomic.Int64, len(e.p.Sources))
	var sinks, deliveries sync.WaitGroup
	lanes := make([]sync.WaitGroup, len(e.p.stages))
	e.watch.begin(e)
	toOpen := false
	for _, p := range e.partitions {
		if !p.ended && e.reads(p) {
			toOpen = true
			e.spawn(&e.readers, func() { e.read(p) })
		}
	}
	if !toOpen {
		e.tellOpened()
	}
	if e.finding {
		e.find()
	}
	defer e.boundStop(ctx)()
	for range e.opt.Workers {
		e.spawn(&e.workers, e.work)
	}
	for _, l := range e.lanes {
		e.spawn(&lanes[l.stage], l.run)
	}
	for _, s := range e.sinks {
		e.spawn(&sinks, s.run)
		e.spawn(&deliveries, s.delivery.run)
	}

	finished := false
	e.guard(func() {
		asked := e.probe(ctx)
		if e.opt.Save != nil && e.opt.From == nil {
			e.beginMark(false) // before the first event is read; it says which partitions are empty
		}
		if asked {
			e.sequence(ctx)
		}
		finished = e.live == 0 && !e.finding && !e.failed()
	})
	e.awaitMark()
	if !e.failed() {
		e.guard(func() { e.beginMark(finished) })
		e.awaitMark()
	}
	e.saving.Wait()
	e.settled.Store(true)

	for stage := range e.p.stages { // a stage hands on what it has before the next one ends
		for _, l := range e.lanes[stage*e.opt.Lanes : (stage+1)*e.opt.Lanes] {
			close(l.in)
		}
		lanes[stage].Wait()
	}
	e.writing.Wait()
	for _, s := range e.sinks {
		close(s.in)
	}
	sinks.Wait()
	for _, s := range e.sinks {
		s.delivery.end()
	}
	deliveries.Wait()
	e.cancelReaders()
	e.watch.end()

	cause := e.fault
	res := Result{Undelivered: e.undelivered(), Figures: e.watch.Figures()}
	whole := len(res.Undelivered) == 0 && cause == nil
	res.Finished, res.Rested = finished && whole, e.rested && whole
	if cause != nil && errors.Is(cause, ErrReaderGone) {
		res.ReaderGone, cause = true, nil
	}
	return res, errors.Join(cause, e.closeSinks(res.Finished))
}

// closeSinks lets finished output appear whole; otherwise it stays recognisably unfinished.
func (e *run) closeSinks(finished bool) error {
	var faults []error
	for _, s := range e.sinks {
		end := s.node.Sink.Abort
		if finished {
			end = s.node.Sink.Finish
		}
		err := Guard(end)
		if err != nil && !errors.Is(err, ErrReaderGone) {
			faults = append(faults, fmt.Errorf("sink %s: %w", s.node.Name, err))
		}
	}
	return errors.Join(faults...)
}

func (e *run) newTurn(p *partition) *turn {
	t, _ := e.pool.Get().(*turn)
	if t == nil {
		t = &turn{exec: newExecutor(e.p, e.opt.Lanes, true), rejected: map[string]int64{}}
	}
	t.part, t.err = p, nil
	return t
}

// release is called by each lane when it is done with a turn; the last puts it back.
func (e *run) release(t *turn) {
	left := t.refs.Add(-1)
	checkReleased(left)
	if left == 0 && t.settled != nil {
		close(t.settled)
	}
	if left == 0 && t.part != nil {
		e.late[t.part.source].Add(t.late.take(len(t.chunk.Starts)))
		e.leave(t)
		poison(t)
		e.pool.Put(t)
	}
}
