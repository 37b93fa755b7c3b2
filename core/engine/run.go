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
)

// Options are how a graph is run. The zero value runs it to its end, on all CPUs, without
// checkpoints.
type Options struct {
	// Lanes is the number of parallel workers of keyed steps; 0 means one for each CPU.
	Lanes int
	// Workers decode; 0 means one for each CPU.
	Workers int
	// Now is the wall clock; nil means time.Now.
	Now func() time.Time
	// Every is the time between checkpoints, 0 for none but the first and the last; EveryTurns asks
	// for them by turns instead (tests).
	Every      time.Duration
	EveryTurns int
	// Save stores a snapshot durably before its shipments are delivered. It is called by one goroutine
	// at a time and owns the snapshot. With nil none is kept, snapshots have no state, and shipments
	// are delivered every so often all the same.
	Save func(*Snapshot, SaveFigures) error
	// From is what the run starts from; nil begins anew at FirstEpoch (1 if zero).
	From       *Snapshot
	FirstEpoch int64
	// Watch lets others look at the run while it goes on; nil for nobody.
	Watch *Watch
	// Grace bounds how long a stopped run waits for its last checkpoint, where a sink cannot be reached;
	// 0 for no bound.
	Grace time.Duration
	// Script says in which order the sources give their events, one a turn, and when the clock goes on
	// (examples): each source has one partition, which is not bounded but ends after its last event.
	Script []Scripted
	// Stepped is told of each turn of a script once all of its rows have gone through; the next turn
	// waits for it. May be nil.
	Stepped func(Stepped)
	// Completed is told of each complete and delivered checkpoint; may be nil.
	Completed func(Completed)
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

// Completed is a checkpoint that was stored and whose shipments were delivered.
type Completed struct {
	Epoch      int64
	Finished   bool
	Took       time.Duration // from the mark to the last delivery
	Stall      time.Duration // the longest that a lane spent copying
	Partitions []PartitionState
}

// ErrNoLastCheckpoint is wrapped where a stopped run could not make its last checkpoint in time.
var ErrNoLastCheckpoint = errors.New("the last checkpoint could not be made in time")

// SaveFigures are what is known of a checkpoint as it is stored.
type SaveFigures struct{ LongestStall time.Duration }

// ErrReaderGone is wrapped by a sink's error when whoever reads its output went away, as in a pipe:
// the run ends quietly.
var ErrReaderGone = errors.New("the reader of the output has gone")

// Result is how a run ended.
type Result struct {
	// Finished: all inputs came to their end. Otherwise the run was stopped.
	Finished bool
	// ReaderGone: a sink's reader went away and the run ended for it.
	ReaderGone bool
	Figures    Figures
}

type run struct {
	p       *plan
	opt     Options
	bounded bool
	started time.Time

	hard     context.Context // ends when something fails
	cancel   context.CancelCauseFunc
	hasFault atomic.Bool
	fault    error // set once, before hard ends

	partitions  []*partition
	found       chan *partition // by sources that look for more
	readers     sync.WaitGroup
	decoded     chan *turn // workers to sequencer
	raw         chan *turn // readers to workers
	lanes       []*lane
	sinks       []*sinkRunner
	pool        sync.Pool
	turns       int64
	outstanding int
	budget      int
	live        int         // partitions that have not ended
	stood       []row.Time  // by source: the greatest W given out
	given       []row.Time  // by source: that of the last turn
	latest      row.Time    // the clock as it was last given out
	silent      []time.Time // by source: since when its watermark goes by the clock
	silentFrom  []row.Time
	scriptAt    int
	scriptClock time.Duration

	epoch    int64 // of the interval that runs
	marking  *mark
	markDone chan struct{}
	saving   sync.WaitGroup

	base  Counts // of the snapshot that the run started from
	watch *Watch
}

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
// whose partition does not return from Read on Close.
func Run(ctx context.Context, g *Graph, opt Options) (Result, error) {
	p, err := newPlan(g)
	if err != nil {
		return Result{}, err
	}
	e := &run{p: p, opt: opt, bounded: true, markDone: make(chan struct{}, 1), watch: opt.Watch}
	if e.watch == nil {
		e.watch = NewWatch()
	}
	if e.opt.Now == nil {
		e.opt.Now = time.Now
	}
	if now := e.opt.Now; e.opt.Script != nil {
		e.opt.Now = func() time.Time { return now().Add(e.scriptClock) }
	}
	if e.opt.Workers <= 0 {
		e.opt.Workers = runtime.GOMAXPROCS(0)
	}
	if e.opt.Lanes <= 0 {
		e.opt.Lanes = runtime.GOMAXPROCS(0)
	}
	for i := range g.Sources {
		e.bounded = e.bounded && g.Sources[i].Bounded && opt.Script == nil
	}
	e.hard, e.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	defer e.cancel(nil)
	if err := e.open(); err != nil {
		return Result{}, err
	}
	return e.runAll(ctx)
}

// open restores what the run starts from and opens partitions and sinks.
func (e *run) open() error {
	e.budget = 2*e.opt.Workers + 2
	e.started = e.opt.Now()
	e.epoch = max(1, e.opt.FirstEpoch)
	e.base = newCounts(e.p.Graph)
	e.stood = make([]row.Time, len(e.p.Sources))
	for i := range e.stood {
		e.stood[i] = row.MinTime
	}
	states := map[string]PartitionState{}
	from := e.opt.From
	if from != nil {
		e.started, e.turns = from.Started, from.Turn
		e.epoch = max(from.Epoch+1, e.opt.FirstEpoch)
		if !from.Adapted {
			e.base = from.Counts.clone()
		}
		for i := range e.stood {
			if w, ok := from.Watermarks[e.p.Sources[i].Name]; ok {
				e.stood[i] = w
			}
		}

		for _, p := range from.Partitions {
			states[p.Source+"\x00"+p.Name] = p
		}
	}
	for i := range e.p.Sources {
		for _, part := range e.p.Sources[i].Partitions {
			q := e.newPartition(i, part)
			if st, ok := states[e.p.Sources[i].Name+"\x00"+part.Name()]; ok {
				q.position, q.greatest, q.ended, q.events = st.Position, st.Greatest, st.Ended, st.Events
				q.w = q.greatest.Minus(e.p.Sources[i].Margin)
				if q.ended {
					q.w = row.MaxTime
				}
			} else {
				q.start()
			}
			if !q.ended {
				e.live++
			}
			e.partitions = append(e.partitions, q)
		}
	}
	e.given = append([]row.Time(nil), e.stood...)
	e.silent, e.silentFrom = make([]time.Time, len(e.stood)), make([]row.Time, len(e.stood))
	for stage := range e.p.stages {
		for n := range e.opt.Lanes {
			l := newLane(e, stage, n)
			for at := range l.steps {
				if from == nil {
					break
				}
				if err := l.load(&l.steps[at], from); err != nil {
					return err
				}
			}
			e.lanes = append(e.lanes, l)
		}
	}
	for i := range e.p.Sinks {
		producers := 0
		if e.p.sinkFrom[i]&early != 0 {
			producers++
		}
		for stage := range e.p.stages {
			if e.p.sinkFrom[i]&inStage(stage) != 0 {
				producers += e.opt.Lanes
			}
		}
		n := &e.p.Sinks[i]
		s := &sinkRunner{e: e, at: i, node: n, in: make(chan sinkMessage, 64), producers: producers, marked: map[int]bool{}}
		s.counts = e.base.Sinks[i]
		e.sinks = append(e.sinks, s)
		var err error
		if from != nil {
			err = n.Sink.Open(from.Shipments[n.Name], e.epoch)
		} else {
			err = n.Sink.Open(nil, e.epoch)
		}
		if err != nil {
			for _, o := range e.sinks[:i] {
				err = errors.Join(err, o.node.Sink.Abort())
			}
			return fmt.Errorf("sink %s: %w", n.Name, err)
		}
	}
	e.found = make(chan *partition)
	e.raw = make(chan *turn, e.budget)
	e.decoded = make(chan *turn, e.budget)
	e.watch.begin(e)
	return nil
}

// load takes the lane's shares of a step's state.
func (l *lane) load(s *keyedLane, from *Snapshot) error {
	name := l.e.p.Steps[s.step].Name
	for table, suffix := range l.e.p.Steps[s.step].Keyed.Tables() {
		for _, b := range from.States[stateName(name, suffix)] {
			if err := s.state.Load(table, b, l.number, l.e.opt.Lanes); err != nil {
				return fmt.Errorf("step %s: load state: %w", name, err)
			}
		}
	}
	return nil
}

func (e *run) newPartition(source int, part Partition) *partition {
	return &partition{Partition: part, source: source, credits: make(chan *turn, e.budget+2), ready: map[int64]*turn{}, greatest: row.MinTime, w: row.MinTime, since: e.opt.Now()}
}

// start takes the position at which a partition is first read.
func (p *partition) start() {
	if s, ok := p.Partition.(Starter); ok {
		p.position = s.Start()
	}
}

// addPartition takes in a partition that was found while the run goes on.
func (e *run) addPartition(q *partition) {
	for _, p := range e.partitions {
		if p.source == q.source && p.Name() == q.Name() {
			return
		}
	}
	q.start()
	e.live++
	e.partitions = append(e.partitions, q)
	e.watch.add(e, q)
	e.readers.Go(func() { e.read(q) })
}

// find lets the sources look for more partitions.
func (e *run) find() {
	for i := range e.p.Sources {
		look := e.p.Sources[i].Find
		if look == nil {
			continue
		}
		e.readers.Go(func() {
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

func (e *run) runAll(ctx context.Context) (Result, error) {
	var workers, sinks sync.WaitGroup
	lanes := make([]sync.WaitGroup, len(e.p.stages))
	for _, p := range e.partitions {
		if !p.ended {
			e.readers.Go(func() { e.read(p) })
		}
	}
	e.find()
	if e.opt.Grace > 0 {
		defer context.AfterFunc(ctx, func() {
			select {
			case <-time.After(e.opt.Grace):
				e.fail(fmt.Errorf("%w (%s); the next start goes on from the one before", ErrNoLastCheckpoint, e.opt.Grace))
			case <-e.hard.Done():
			}
		})()
	}
	for range e.opt.Workers {
		workers.Go(func() {
			w := newWorker(e)
			for t := range e.raw {
				if t.err == nil {
					w.run(t)
				}
				select {
				case e.decoded <- t:
				case <-e.hard.Done():
				}
			}
		})
	}
	for _, l := range e.lanes {
		lanes[l.stage].Go(l.run)
	}
	for _, s := range e.sinks {
		sinks.Go(s.run)
	}

	if e.opt.Save != nil && e.opt.From == nil {
		e.beginMark(false) // before the first event is read
	}
	e.sequence(ctx)
	finished := e.allEnded() && !e.failed()
	e.awaitMark()
	if !e.failed() {
		e.beginMark(finished)
		e.awaitMark()
	}
	e.saving.Wait()

	for stage := range e.p.stages { // a stage hands on what it has before the next one ends
		for _, l := range e.lanes[stage*e.opt.Lanes : (stage+1)*e.opt.Lanes] {
			close(l.in)
		}
		lanes[stage].Wait()
	}
	for _, s := range e.sinks {
		close(s.in)
	}
	sinks.Wait()
	e.cancelReaders(&workers)
	e.watch.end()

	cause := e.fault
	res := Result{Finished: finished, Figures: e.watch.Figures()}
	if cause != nil && errors.Is(cause, ErrReaderGone) {
		res.ReaderGone, cause = true, nil
		res.Finished = false
	}
	return res, errors.Join(cause, e.closeSinks(finished && cause == nil && !res.ReaderGone))
}

// closeSinks lets finished output appear whole; otherwise it stays recognisably unfinished.
func (e *run) closeSinks(finished bool) error {
	var faults []error
	for _, s := range e.sinks {
		err := error(nil)
		if finished {
			err = s.node.Sink.Finish()
		} else {
			err = s.node.Sink.Abort()
		}
		if err != nil && !errors.Is(err, ErrReaderGone) {
			faults = append(faults, fmt.Errorf("sink %s: %w", s.node.Name, err))
		}
	}
	return errors.Join(faults...)
}

// cancelReaders ends readers and workers, which may still be reading ahead.
func (e *run) cancelReaders(workers *sync.WaitGroup) {
	e.cancel(nil) // frees whoever waits to send
	for _, p := range e.partitions {
		close(p.credits)
		_ = p.Close() // nothing more is wanted of it
	}
	done := make(chan struct{})
	go func() {
		e.readers.Wait()
		close(e.raw)
		workers.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(time.Second): // a terminal or pipe that does not return from a read
	}
}

// read fills the turns that the sequencer asks for, one after another.
func (e *run) read(p *partition) {
	name, position, first := e.p.Sources[p.source].Name, p.position, p.events
	var seq int64
	for t := range p.credits {
		if seq == 0 { // only when the first turn is asked for: there may be many partitions
			if err := p.Open(e.hard, position); err != nil {
				e.fail(fmt.Errorf("source %s: %w", name, err))
				return
			}
		}
		t.chunk.Reset()
		t.seq, seq = seq, seq+1
		if err := p.Read(e.hard, &t.chunk); err != nil {
			if e.hard.Err() == nil {
				e.fail(fmt.Errorf("source %s: %w", name, err))
			}
			return
		}
		t.chunk.First = first
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
		poison(t)
		e.pool.Put(t)
	}
}

// beginMark takes a mark here, between two turns, unless one is still under way.
func (e *run) beginMark(finished bool) {
	if e.marking != nil || e.failed() {
		return
	}
	snap := &Snapshot{Epoch: e.epoch, Turn: e.turns, Started: e.started, Finished: finished, States: map[string][]*row.Batch{}, Shipments: map[string]json.RawMessage{}, Watermarks: map[string]row.Time{}}
	e.epoch++
	for i, w := range e.stood {
		if w != row.MinTime {
			snap.Watermarks[e.p.Sources[i].Name] = w
		}
	}
	for _, p := range e.partitions {
		snap.Partitions = append(snap.Partitions, PartitionState{Source: e.p.Sources[p.source].Name, Name: p.Name(), Position: p.position, Greatest: p.greatest, Ended: p.ended, Events: p.events})
	}
	snap.Counts = e.watch.sequenced(e)
	m := &mark{snap: snap, complete: make(chan struct{}), parts: e.partitions[:len(e.partitions):len(e.partitions)], began: time.Now(), left: e.stagesLeft(nil)}
	m.pending.Store(int32(len(e.lanes) + len(e.sinks) + 1))
	e.marking = m
	if len(e.lanes) > 0 {
		e.toStage(0, laneMessage{mark: m})
	}
	for i, s := range e.sinks {
		if e.p.sinkFrom[i]&early != 0 {
			select {
			case s.in <- sinkMessage{producer: 0, mark: m}:
			case <-e.hard.Done():
			}
		}
	}
	m.done()
	e.saving.Go(func() { e.save(m) })
}

// save waits for the parts of a mark, stores it, and delivers its shipments: in this order, so that
// nothing is delivered that a restart would make again.
func (e *run) save(m *mark) {
	defer func() { e.markDone <- struct{}{} }()
	select {
	case <-m.complete:
	case <-e.hard.Done():
		return
	}
	if e.failed() {
		return
	}
	began := time.Now()
	if e.opt.Save != nil {
		if err := e.opt.Save(m.snap, SaveFigures{LongestStall: m.stall}); err != nil {
			e.watch.checkpointFailed()
			e.fail(fmt.Errorf("checkpoint %d: %w", m.snap.Epoch, err))
			return
		}
		e.watch.checkpointDone(m.snap.Epoch, time.Since(began), m.stall)
	}
	for i, s := range e.sinks {
		if err := s.node.Sink.Commit(m.snap.Epoch); err != nil {
			e.fail(fmt.Errorf("sink %s: deliver epoch %d: %w", s.node.Name, m.snap.Epoch, err))
			return
		}
		e.watch.delivered(i, m.snap.Counts.Sinks[i].Rows)
	}
	if e.opt.Save == nil {
		return
	}
	for i, p := range m.parts {
		if a, ok := p.Partition.(Acknowledger); ok && m.snap.Partitions[i].Position != nil {
			a.Acknowledge(m.snap.Partitions[i].Position)
		}
	}
	if e.opt.Completed != nil {
		e.opt.Completed(Completed{Epoch: m.snap.Epoch, Finished: m.snap.Finished, Took: time.Since(m.began), Stall: m.stall, Partitions: m.snap.Partitions})
	}
}

func (e *run) awaitMark() {
	if e.marking == nil {
		return
	}
	<-e.markDone
	e.marking = nil
}
