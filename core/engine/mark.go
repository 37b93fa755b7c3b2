package engine

import (
	"encoding/json"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Snapshot is a run as it stood at a mark between two turns: what a checkpoint stores, and what a
// run starts from (docs/time.md, "Checkpoints and delivery").
type Snapshot struct {
	Epoch int64
	// Turn is the number of the next turn.
	Turn int64
	// Started is when the run first started; the bound of `ahead` counts from it in bounded runs.
	Started    time.Time
	Finished   bool
	Partitions []PartitionState
	// Watermarks are the greatest W that each source has given out, by name, and StepWatermarks those that each
	// step with state was given; they never go back, also where something that was idle counts again after
	// a restart. Those before a first row are left out.
	Watermarks, StepWatermarks map[string]row.Time
	// Changes are what became of the state of steps since the mark before, by step, lane and table. Each step's tables are
	// named in their order by every lane, also where nothing changed.
	Changes []LaneChanges
	// State is what is kept, of a snapshot that a run starts from.
	State state.Reader
	// Shipments are what the sinks prepared and had not delivered for certain, by name, in the order of their epochs; the
	// last is of this one.
	Shipments map[string][]Shipment
	Counts    Counts
	// References is what Options.References told at the mark.
	References json.RawMessage
	// Began is when the mark was taken, and Stall the longest that a lane spent copying what changed.
	Began time.Time
	Stall time.Duration
	// Adapted says that it was made by another version of the graph: what does not fit was left out, and
	// counts begin anew.
	Adapted bool
	// Begun gives, by step and measure, the time from which on windows have all of their rows in the measure: it came with
	// another version of the document. Without an entry all windows have.
	Begun map[string]map[string]row.Time
	// Again says that somebody went back to it: rows that were delivered after it are made again.
	Again bool
}

// Inherits says whether rows that wait in the state are not among those that the counts have, see [Counts.Inherits].
func (s *Snapshot) Inherits() bool { return s != nil && (s.Adapted || s.Counts.Inherits) }

// LaneChanges are what became of what one lane of a step keeps: the lane owns the shares that [state.LaneShares] gives.
type LaneChanges struct {
	Step        string
	Lane, Lanes int
	Tables      []*state.Changes
}

// PartitionState is where the reading of a partition stood.
type PartitionState struct {
	Source, Name string
	Position     json.RawMessage
	// Greatest is the greatest event time read; row.MinTime before the first row.
	Greatest row.Time
	Ended    bool
	Events   int64
}

// mark is a snapshot under way: every lane and sink adds its part.
type mark struct {
	snap     *Snapshot
	skipped  int64 // marks that were due since the one before
	stored   bool
	rest     bool           // the last one of a run that comes to rest
	pending  atomic.Int32   // lanes and sinks that have not given their part
	complete chan struct{}  // closed by the last of them
	parts    []*partition   // those of snap.Partitions
	left     []atomic.Int32 // by stage: lanes that have not passed it
	written  chan struct{}  // closed once the store has what the lanes gave

	mu sync.Mutex // guards snap
}

func (m *mark) done() {
	if m.pending.Add(-1) == 0 {
		close(m.complete)
	}
}

func (m *mark) addState(stepName string, lane, lanes int, c []*state.Changes) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.snap.Changes = append(m.snap.Changes, LaneChanges{stepName, lane, lanes, c})
}

// addLane adds a lane's counts, of windows and of the steps behind them.
func (m *mark) addLane(l *lane, took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i, c := range l.counts {
		m.snap.Counts.Steps[i].add(c)
	}
	m.snap.Stall = max(m.snap.Stall, took)
}

// addLate takes how many events were late. The last lane of the last stage that comes to the mark knows it: all turns before
// are released then, and none behind. Those that come earlier know of fewer.
func (m *mark) addLate(e *run) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range e.late {
		c := &m.snap.Counts.Sources[i]
		c.Late = max(c.Late, e.base.Sources[i].Late+e.late[i].Load())
	}
}

func (m *mark) addShipments(sink string, at int, all []Shipment, c SinkCounts) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.snap.Shipments[sink] = all
	m.snap.Counts.Sinks[at] = c
}

// beginMark takes a mark here, between two turns, unless one is still under way: then it is skipped, and counted.
func (e *run) beginMark(finished bool) {
	if e.failed() {
		return
	}
	if e.marking != nil {
		e.skipped++
		return
	}
	snap := &Snapshot{Epoch: e.epoch, Turn: e.turns, Started: e.started, Began: time.Now(), Finished: finished, Begun: e.begun, Shipments: map[string][]Shipment{}}
	e.epoch++
	if e.opt.References != nil {
		snap.References = e.opt.References()
	}
	e.marks.save(snap)
	for _, p := range e.partitions {
		snap.Partitions = append(snap.Partitions, PartitionState{Source: e.p.Sources[p.source].Name, Name: p.Name(), Position: p.position, Greatest: p.greatest, Ended: p.ended, Events: p.events})
	}
	snap.Counts = e.watch.sequenced(e)
	m := &mark{snap: snap, rest: e.rested, skipped: e.skipped, complete: make(chan struct{}), parts: e.partitions[:len(e.partitions):len(e.partitions)], left: e.stagesLeft(nil), written: make(chan struct{})}
	if e.skipped = 0; e.opt.Save != nil {
		e.watch.checkpointBegun(snap.Began)
	}
	m.pending.Store(int32(len(e.lanes) + len(e.sinks) + 1))
	e.marking = m
	if len(e.lanes) > 0 {
		e.toStage(nil, workers, 0, laneMessage{mark: m})
	}
	for i, s := range e.sinks {
		if e.p.sinkFrom[i]&early != 0 {
			hand(e, nil, workers, i, s.in, sinkMessage{producer: workers, mark: m})
		}
	}
	m.done()
	e.spawn(&e.saving, func() { e.save(m) })
}

// save waits for the parts of a mark, stores it, and gives its shipments to be delivered: in this order, so that nothing is
// delivered that a restart would make again.
func (e *run) save(m *mark) {
	defer func() { e.markDone <- struct{}{} }()
	if e.opt.Save != nil && e.opt.Unfinished != nil {
		defer func() {
			if !m.stored {
				<-e.hard.Done() // the fault is set
				e.opt.Unfinished(Unfinished{m.snap.Epoch, m.snap.Began, e.fault.Error()})
			}
		}()
	}
	select {
	case <-m.complete:
	case <-e.hard.Done():
		return
	}
	if e.failed() {
		return
	}
	began := time.Now()
	var saved Saved
	if e.opt.Save == nil && len(m.snap.Changes) > 0 {
		if err := e.opt.Apply(m.snap.Changes); err != nil {
			e.fail(err)
			return
		}
		close(m.written)
	}
	if e.opt.Save != nil {
		var err error
		if saved, err = e.opt.Save(m.snap); err != nil {
			e.watch.checkpointFailed()
			e.fail(fmt.Errorf("checkpoint %d: %w", m.snap.Epoch, err))
			return
		}
		m.stored = true
		close(m.written)
		e.watch.checkpointDone(m, time.Since(began), saved)
	}
	for _, s := range e.sinks {
		all := m.snap.Shipments[s.node.Name]
		s.delivery.add(all[len(all)-1])
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
		e.opt.Completed(Completed{Epoch: m.snap.Epoch, Finished: m.snap.Finished, Took: time.Since(m.snap.Began), Stall: m.snap.Stall, Saved: saved, Partitions: m.snap.Partitions, Skipped: m.skipped})
	}
}

func (e *run) awaitMark() {
	if e.marking == nil {
		return
	}
	<-e.markDone
	e.marking = nil
}
