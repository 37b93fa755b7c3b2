package engine

import (
	"encoding/json"
	"maps"
	"slices"
	"sync"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// Watch lets others look at a run while it goes on; safe for concurrent use.
type Watch struct {
	mu  sync.Mutex // guards all below; never held while waiting
	run *run
	seq Counts // what the sequencer has tallied, with the base
	// saved are the counts of the newest checkpoint, which those of a run that has failed are: what came later is made again. Nil where none are
	// kept.
	saved    *Counts
	lanes    [][]StepCounts    // by lane of all stages
	open     [][]laneHeld      // by keyed step, by lane
	out      []row.Time        // by step: when it gave out rows last, by the clock; row.MinTime for not yet
	spent    [][]time.Duration // by producer, by owner (meter.go); those of all workers together
	meters   []*meter
	seen     [][]time.Duration // spent as it was looked at last, with what was under way
	sinks    []SinkCounts
	epochs   []int64 // by sink: the epoch that was delivered last
	samples  []Sample
	marks    []row.Time // by source
	byClock  []bool     // by source: its watermark goes on by the wall clock
	parts    []PartitionFigures
	read     []Partition // those of parts
	check    CheckpointFigures
	began    time.Time
	took     time.Duration
	finished bool
}

// CheckpointFigures tell of the run's checkpoints.
type CheckpointFigures struct {
	Completed, Failed int64
	Skipped           int64     // marks that were due while a checkpoint was under way
	Begun             time.Time // when the one that is under way began; zero for none
	// Of the newest: its epoch, what it took to store, its bytes, and the longest that a lane stood still for it.
	Epoch        int64
	Seconds      float64
	Bytes        int64
	LongestStall time.Duration
	LongestOfAll time.Duration
}

// PartitionFigures tell where a partition stands.
type PartitionFigures struct {
	Source, Name string
	Position     json.RawMessage
	Bytes, Size  int64
	Events       int64
	Watermark    row.Time
	Greatest     row.Time // event time read; row.MinTime before the first row
	Idle, Ended  bool
	// Last is when the last event was read, by the wall clock; when the run began to read, where there was none. CaughtUp: there was
	// nothing behind it.
	Last     time.Time
	CaughtUp bool
	// Lag is how many events wait behind Position; -1 when that is not known.
	Lag int64
	// Stored is when the last event was stored, by the connector's account; 0 where it has none.
	Stored     row.Time
	Retention  time.Duration // how long events stay where they are stored; 0 for not known, or for ever
	PassedOver int64         // events before the first one that a run which starts anew reads
	// Trouble says what keeps the partition from being read; empty for nothing.
	Trouble string
}

// SinkFigures are a sink's counts with how it fares.
type SinkFigures struct {
	SinkCounts
	// WaitingEpochs and WaitingBytes are shipments whose checkpoint is complete and that are not delivered yet.
	WaitingEpochs int
	WaitingBytes  int64
	// DeliveredEpoch is the one that was delivered last by this run; 0 for none.
	DeliveredEpoch int64
	Retries        int64
	Refused        int64  // rows, of all runs, that the place did not take
	Refusal        string // why, of the newest
	Trouble        string
	// HeldUp is how long somebody waited for the sink to take rows; Writing how long it wrote and prepared them, and Delivering
	// how long it delivered. Encoding is the time of all goroutines that wrote its rows as text.
	HeldUp, Writing, Delivering, Encoding time.Duration
	// FromEvent is how long after their event times rows appeared, FromRead how long after the events that made them were read.
	FromEvent, FromRead Delay
}

// StepFigures are a step's counts with what it holds now.
type StepFigures struct {
	StepCounts
	OpenWindows, KeptWindows, Keys, StateRows, StateBytes int
	NextClose                                             row.Time        // the end of the window that closes next; row.MaxTime for none
	Watermark                                             row.Time        // of a step with keys: the one that all of its lanes were given; row.MinTime for none
	LastOut                                               row.Time        // when it gave out rows last, by the clock; row.MinTime for not yet
	Kept                                                  []step.SideHeld // of a join, left and right; nil until it was weighed
	Lanes                                                 []LaneFigures
	Effort
}

// Effort is what a source or step has cost, and what it has waited for. With two lanes, of which one was at work for the step for 4
// seconds and the other for 2, Work is 6 and Busy 3 seconds.
type Effort struct {
	// Work is the time of all goroutines together.
	Work time.Duration
	// Busy is the part of each of those that carry it out, on average: its lanes, or the workers. Blocked is how long each of
	// them could not go on, on average, because what it had made was not taken.
	Busy, Blocked time.Duration
}

// LaneFigures are a keyed step's part in one lane.
type LaneFigures struct {
	RowsIn, RowsOut, Keys int64
	Busy                  time.Duration
}

// Pool are goroutines that do the same work.
type Pool struct {
	// Stage and Lane name a lane; Stage is -1 for the workers, which decode and carry out what comes before the lanes, and -2 for a
	// sink, which Lane then is.
	Stage, Lane int
	Steps       []int // with keys, of a lane
	Size        int
	Busy        time.Duration // of each, on average
}

// Stages of pools that are none.
const (
	WorkerPool = -1
	SinkPool   = -2
)

// Figures are a run as it stands.
type Figures struct {
	Sources    []SourceCounts
	Efforts    []Effort // by source: decoding
	Pools      []Pool   // whoever carries the run out
	Steps      []StepFigures
	Sinks      []SinkFigures
	Watermarks []row.Time // by source
	// ByClock says, by source, that its watermark was moved by the clock, in silence.
	ByClock     []bool
	Partitions  []PartitionFigures
	Samples     []Sample
	Checkpoints CheckpointFigures
	InFlight    int64 // bytes of events that were read and have not gone through
	Failed      bool  // the run has failed: counts are those of its newest checkpoint, where any are kept
	Elapsed     time.Duration
}

// laneHeld is what a lane keeps of a step, and the watermark that it was given last.
type laneHeld struct {
	step.Held
	mark row.Time
}

// NewWatch makes a watch for one run.
func NewWatch() *Watch { return &Watch{} }

func (w *Watch) begin(e *run) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.run, w.seq, w.began = e, e.base.clone(), time.Now()
	if e.opt.Save != nil {
		saved := e.base.clone()
		w.saved = &saved
	}
	w.sinks, w.epochs = append([]SinkCounts(nil), e.base.Sinks...), make([]int64, len(e.base.Sinks))
	w.marks, w.byClock = e.marks.ofSources(nil), make([]bool, len(e.p.Sources))
	for range 1 + len(e.lanes) {
		w.spent = append(w.spent, make([]time.Duration, e.p.owners()))
	}
	for range e.lanes {
		w.lanes = append(w.lanes, make([]StepCounts, len(e.p.Steps)))
	}
	for range e.p.keyed {
		w.open = append(w.open, slices.Repeat([]laneHeld{{mark: row.MinTime}}, e.opt.Lanes))
	}
	w.out = slices.Repeat([]row.Time{row.MinTime}, len(e.p.Steps))
	for _, p := range e.partitions {
		w.addLocked(e, p)
	}
}

// add takes in a partition that was found.
func (w *Watch) add(e *run, p *partition) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.addLocked(e, p)
}

func (w *Watch) addLocked(e *run, p *partition) {
	w.parts = append(w.parts, PartitionFigures{Source: e.p.Sources[p.source].Name, Name: p.Name(), Size: p.Size(), Position: p.position, Watermark: p.w, Greatest: p.greatest, Ended: p.ended, Events: p.events, Last: p.since})
	w.read = append(w.read, p.Partition)
}

func (w *Watch) end() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.took, w.finished = time.Since(w.began), true
}

// tally adds what a turn's worker counted; called in the order of turns.
func (e *run) tally(t *turn) {
	w := e.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	c := &w.seq.Sources[t.part.source]
	c.Read += int64(len(t.chunk.Starts))
	c.Bytes += t.chunk.Bytes
	for k, v := range t.rejected {
		c.Rejected[k] += v
	}
	for i := range t.exec.steps {
		w.seq.Steps[i].add(t.exec.steps[i])
		if t.exec.steps[i].Out > 0 {
			w.out[i] = t.now
		}
	}
	for _, s := range t.exec.samples {
		w.addSample(s)
	}
	copy(w.marks, t.sources)
	p := t.part
	f := &w.parts[p.number]
	f.Position, f.Events, f.Watermark, f.Greatest, f.Idle, f.Ended = p.position, p.events, p.w, p.greatest, p.idle, p.ended
	f.Bytes += t.chunk.Bytes
	f.Stored, f.Last, f.CaughtUp = p.stored, p.since, p.caughtUp
}

// moved notes watermarks that moved without a turn, as partitions became idle.
func (w *Watch) moved(e *run) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.marks = e.marks.ofSources(w.marks[:0])
	for i := range w.byClock {
		w.byClock[i] = !e.marks.sources[i].silent.since.IsZero()
	}
	for i, p := range e.partitions {
		w.parts[i].Idle = p.idle
	}
}

// addSample keeps the first few rejects of each place and reason.
func (w *Watch) addSample(s Sample) {
	n := 0
	for _, o := range w.samples {
		if o.At == s.At && o.Reason == s.Reason {
			n++
		}
	}
	if n < 3 {
		w.samples = append(w.samples, s)
	}
}

// sequenced gives the counts as the sequencer stands, with those of lanes and sinks as they were in
// the snapshot that the run started from.
func (w *Watch) sequenced(e *run) Counts {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.seq.clone()
	c.Sinks = make([]SinkCounts, len(e.p.Sinks))
	return c
}

func (e *run) laneCounts(l *lane, now row.Time) {
	held := make([]laneHeld, len(l.steps)) // worked out before others are held up
	for i, s := range l.steps {
		held[i] = laneHeld{s.state.Held(), s.mark}
	}
	w := e.watch
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range l.counts {
		c := l.counts[i]
		if c.Rejected = nil; len(l.counts[i].Rejected) > 0 { // the lane goes on writing its own
			c.Rejected = maps.Clone(l.counts[i].Rejected)
		}
		c.Parts, c.Sides = slices.Clone(c.Parts), slices.Clone(c.Sides)
		if c.Out > w.lanes[l.producer()-1][i].Out {
			w.out[i] = max(w.out[i], now)
		}
		w.lanes[l.producer()-1][i] = c
	}
	for _, s := range l.exec.samples {
		w.addSample(s)
	}
	for i, s := range l.steps {
		w.open[s.at][l.number] = held[i]
	}
}

// workers is their place among producers: the sequencer hands on what they made.
const workers = 0

// spend takes what came together in a meter.
func (w *Watch) spend(producer int, m *meter) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i, d := range m.spent {
		w.spent[producer][i] += d
	}
	clear(m.spent)
}

// look takes what was spent up to now, with what is under way. Called with mu held.
func (w *Watch) look() {
	now := time.Now()
	w.seen = w.seen[:0]
	for _, spent := range w.spent {
		w.seen = append(w.seen, slices.Clone(spent))
	}
	if w.finished {
		return
	}
	for _, m := range w.meters {
		owner, took := m.underWay(now)
		w.seen[m.producer][owner] += took
	}
}

func (e *run) sinkCounts(at int, c SinkCounts) {
	e.watch.mu.Lock()
	defer e.watch.mu.Unlock()
	e.watch.sinks[at].Rows = c.Rows
}

func (w *Watch) delivered(at int, s Shipment) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.sinks[at].Delivered += s.Rows
	w.epochs[at] = s.Epoch
}

func (w *Watch) checkpointBegun(at time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.check.Begun = at
}

func (w *Watch) checkpointDone(m *mark, took time.Duration, saved Saved) {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := &w.check
	c.Skipped += m.skipped
	c.Completed++
	c.Epoch, c.Seconds, c.Bytes, c.LongestStall, c.Begun = m.snap.Epoch, took.Seconds(), saved.Size, m.snap.Stall, time.Time{}
	c.LongestOfAll = max(c.LongestOfAll, m.snap.Stall)
	counts := m.snap.Counts.clone()
	w.saved = &counts
}

func (w *Watch) checkpointFailed() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.check.Failed++
}

// Figures gives the run as it stands now; empty before it began.
func (w *Watch) Figures() Figures {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.run == nil {
		return Figures{}
	}
	w.look()
	c, fell := w.seq.clone(), w.saved != nil && w.run.failed()
	if fell {
		c = w.saved.clone()
	}
	for i := range c.Sources {
		if !fell {
			c.Sources[i].Late += w.run.late[i].Load()
		}
	}
	f := Figures{Sources: c.Sources, Watermarks: append([]row.Time(nil), w.marks...), ByClock: append([]bool(nil), w.byClock...),
		Partitions: append([]PartitionFigures(nil), w.parts...), Samples: append([]Sample(nil), w.samples...), Checkpoints: w.check, Elapsed: w.took, InFlight: w.run.inFlight.Load(), Failed: w.run.failed()}
	if !w.finished {
		f.Elapsed = time.Since(w.began)
	}
	for i := range f.Partitions {
		p := &f.Partitions[i]
		p.Lag = -1
		if l, ok := w.read[i].(Lagger); ok {
			if n, known := l.Lag(p.Position); known {
				p.Lag = n
			}
		}
		if l, ok := w.read[i].(Retainer); ok {
			p.Retention = l.Retention()
		}
		if l, ok := w.read[i].(Passer); ok {
			p.PassedOver = l.PassedOver()
		}
		p.Trouble = trouble(w.read[i], w.finished)
	}
	waited := w.run.waits.waited()
	w.effort(&f, waited)
	for i, s := range w.sinks {
		if fell {
			s.Rows = c.Sinks[i].Rows
		}
		waiting, bytes := w.run.sinks[i].delivery.left()
		sf := SinkFigures{SinkCounts: s, WaitingEpochs: len(waiting), WaitingBytes: bytes, DeliveredEpoch: w.epochs[i], Trouble: trouble(w.run.p.Sinks[i].Sink, w.finished),
			HeldUp: waited.held[i], Writing: waited.writing[i], Delivering: waited.delivering[i], Encoding: w.work(w.run.p.sinkOwner(i))}
		sf.FromEvent, sf.FromRead = nodelay, nodelay
		if w.run.opt.Script == nil {
			sf.FromEvent, sf.FromRead = w.run.sinks[i].delays.within(w.run.opt.Now())
		}
		if r, ok := w.run.p.Sinks[i].Sink.(Retrier); ok {
			sf.Retries = r.Retries()
		}
		if r, ok := w.run.p.Sinks[i].Sink.(Refuser); ok {
			sf.Refused, sf.Refusal = r.Refused()
		}
		f.Sinks = append(f.Sinks, sf)
	}
	for i := range c.Steps {
		p := w.run.p
		s := StepFigures{StepCounts: c.Steps[i], NextClose: row.MaxTime, Watermark: row.MinTime, LastOut: w.out[i], Effort: w.effortOf(p.stepOwner(i), p.carried[i], p.behindStep[i], waited)}
		for n := range w.lanes {
			if !fell {
				s.add(w.lanes[n][i])
			}
		}
		if at := w.run.p.keyedAt[i]; at >= 0 {
			first := w.run.p.stage[at] * w.run.opt.Lanes
			s.Watermark = row.MaxTime
			for n, o := range w.open[at] {
				s.Watermark = min(s.Watermark, o.mark)
				if o.Windows > 0 {
					s.NextClose = min(s.NextClose, o.Next)
				}
				s.OpenWindows, s.KeptWindows = max(s.OpenWindows, o.Windows), max(s.KeptWindows, o.Held.Kept)
				s.Keys += o.Keys
				s.StateRows += o.Rows
				s.StateBytes += o.Bytes
				for len(s.Kept) < len(o.Sides) {
					s.Kept = append(s.Kept, step.SideHeld{})
				}
				for n, d := range o.Sides {
					s.Kept[n].Add(d)
				}
				l := w.lanes[first+n][i]
				s.Lanes = append(s.Lanes, LaneFigures{RowsIn: l.Used + l.Lost + l.Repeats, RowsOut: l.Out, Keys: int64(o.Keys), Busy: w.seen[1+first+n][p.stepOwner(i)]})
			}
		}
		f.Steps = append(f.Steps, s)
	}
	return f
}

// work is the time of all goroutines for one owner.
func (w *Watch) work(owner int) (all time.Duration) {
	for _, spent := range w.seen {
		all += spent[owner]
	}
	return all
}

// effortOf gives the effort of an owner that is carried out in some places, and waits for some targets.
func (w *Watch) effortOf(owner int, carried origins, behind []int, waited waited) Effort {
	f := Effort{Work: w.work(owner)}
	if carried&early != 0 {
		f.take(w.seen[workers:workers+1], waited.of[workers:workers+1], owner, behind, w.run.opt.Workers)
	}
	for s := range w.run.p.stages {
		if carried&inStage(s) != 0 {
			from, to := 1+s*w.run.opt.Lanes, 1+(s+1)*w.run.opt.Lanes
			f.take(w.seen[from:to], waited.of[from:to], owner, behind, w.run.opt.Lanes)
		}
	}
	return f
}

// take takes the effort of the goroutines of one place. Who is carried out in several is as busy as in the busiest.
func (f *Effort) take(spent, waited [][]time.Duration, owner int, behind []int, size int) {
	var busy, blocked time.Duration
	for n := range spent {
		busy += spent[n][owner]
		for _, target := range behind {
			blocked += waited[n][target]
		}
	}
	f.Busy, f.Blocked = max(f.Busy, busy/time.Duration(size)), max(f.Blocked, blocked/time.Duration(len(waited)))
}

// effort fills what sources cost, and how busy all goroutines are.
func (w *Watch) effort(f *Figures, waited waited) {
	p := w.run.p
	for i := range p.Sources {
		f.Efforts = append(f.Efforts, w.effortOf(p.sourceOwner(i), early, p.behindSource[i], waited))
	}
	add := func(pool Pool, spent []time.Duration) {
		for _, d := range spent[nobody+1:] {
			pool.Busy += d / time.Duration(pool.Size)
		}
		f.Pools = append(f.Pools, pool)
	}
	add(Pool{Stage: WorkerPool, Size: w.run.opt.Workers}, w.seen[workers])
	for _, l := range w.run.lanes {
		pool := Pool{Stage: l.stage, Lane: l.number, Size: 1}
		for _, s := range l.steps {
			pool.Steps = append(pool.Steps, s.step)
		}
		add(pool, w.seen[l.producer()])
	}
	for i := range p.Sinks {
		f.Pools = append(f.Pools, Pool{Stage: SinkPool, Lane: i, Size: 1, Busy: waited.writing[i]})
	}
}

func trouble(x any, finished bool) string {
	if t, ok := x.(Troubled); ok && !finished {
		return t.Trouble()
	}
	return ""
}

// Unbalanced names the sources and steps whose counts do not add up (docs/time.md, "Counts add up");
// none, unless Under Tide has a bug. It holds for figures of a run that has ended.
func Unbalanced(g *Graph, f Figures) []string {
	var out []string
	for i, s := range g.Steps {
		c := f.Steps[i]
		dropped := c.Dropped
		if s.joins() { // where drops results, and set rejects them
			if c.Made != c.Out+c.Dropped+Sum(c.Rejected) {
				out = append(out, "the result of step "+s.Name)
			}
			if c.In != c.Used+c.Lost {
				out = append(out, "step "+s.Name)
			}
			continue
		}
		if _, ok := s.Keyed.(*step.Window); ok { // having drops result rows, not those that came in
			if dropped = 0; c.Made != c.Out+c.Dropped {
				out = append(out, "the result of step "+s.Name)
			}
		}
		if c.In != c.Used+dropped+c.Repeats+c.Lost+Sum(c.Rejected) {
			out = append(out, "step "+s.Name)
		}
	}
	for i, s := range g.Sinks {
		var made int64
		for _, in := range s.From {
			made += Made(in.Ref, f)
		}
		if f.Sinks[i].Rows != made {
			out = append(out, "sink "+s.Name)
		}
	}
	for i, s := range g.Steps {
		var made int64
		for _, in := range s.From {
			made += Made(in.Ref, f)
		}
		if f.Steps[i].In != made {
			out = append(out, "the input of step "+s.Name)
		}
	}
	return out
}

// Made gives how many rows a part had.
func Made(r Ref, f Figures) int64 {
	switch {
	case !r.OfStep && r.Part == RejectPart:
		return Sum(f.Sources[r.At].Rejected)
	case !r.OfStep:
		return f.Sources[r.At].Read - Sum(f.Sources[r.At].Rejected)
	}
	s := f.Steps[r.At]
	switch r.Part {
	case Main:
		return s.Out
	case LatePart:
		return s.Lost
	case RejectPart:
		return Sum(s.Rejected)
	}
	if n := int(r.Part - RestPart); n < len(s.Parts) {
		return s.Parts[n]
	}
	return 0
}
