package engine

import (
	"errors"
	"fmt"
	"time"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
)

// lane is one of the parallel workers of the keyed steps of a stage: it owns some shares of each, and
// takes turns and marks in the one order of the run. Its goroutine alone touches its state.
type lane struct {
	e       *run
	stage   int
	number  int              // within the stage
	in      chan laneMessage // closed by the sequencer once nothing is under way
	steps   []*keyedLane     // of the stage's keyed steps
	exec    *executor
	counts  []StepCounts  // by step: what this lane did since the run's start
	blocked time.Duration // within the turn at hand: waiting for sinks to take rows
	spill   spill
}

// keyedLane is one keyed step in a lane.
type keyedLane struct {
	at    int // among keyed steps
	step  int
	state step.Lane
	ahead []*state.Changes // what was frozen ahead of a mark, while it is written
	// for rows that come out of lanes
	gather   *row.Batch
	exchange *step.Exchange
	routers  []*step.Router
}

func newLane(e *run, stage, number int) *lane {
	l := &lane{e: e, stage: stage, number: number, in: make(chan laneMessage, 8), exec: newExecutor(e.p, e.opt.Lanes, false), counts: make([]StepCounts, len(e.p.Steps))}
	for i := range l.counts {
		l.counts[i].Rejected = map[string]int64{}
	}
	for _, k := range e.p.stages[stage] {
		i := e.p.keyed[k]
		s := &keyedLane{at: k, step: i, state: e.p.Steps[i].Keyed.NewLane(step.LaneOptions{Ordered: e.p.ordered[i], Keeps: e.opt.Save != nil || e.opt.Behind != nil, Behind: e.opt.Behind, Step: e.p.Steps[i].Name, Lane: number, Lanes: e.opt.Lanes, Begun: e.begun[e.p.Steps[i].Name], Ease: l.bound})}
		if e.p.routed[k] {
			s.gather, s.exchange = row.NewBatch(e.p.Steps[i].Input), e.p.Steps[i].Keyed.Spec().NewExchange(1)
		}
		l.steps = append(l.steps, s)
	}
	return l
}

// producer is the lane's number among those who send to sinks; the sequencer is 0.
func (l *lane) producer() int { return 1 + l.stage*l.e.opt.Lanes + l.number }

func (l *lane) run() {
	for {
		began := time.Now()
		m, ok := <-l.in
		l.e.laneWaited(l, time.Since(began))
		if !ok {
			return
		}
		if m.mark != nil {
			l.mark(m.mark)
			continue
		}
		began = time.Now()
		l.blocked = 0
		if err := Guard(func() error { l.turn(m.turn); return nil }); err != nil {
			l.e.fail(l.inTurn(m.turn, err))
			return
		}
		l.bound()
		l.pass(m)
		l.e.release(m.turn)
		l.e.laneBusy(l, time.Since(began)-l.blocked, l.blocked)
		if l.e.failed() {
			return
		}
	}
}

// inTurn says which events were in the turn where something panicked.
func (l *lane) inTurn(t *turn, err error) error {
	var panicked *Panic
	if t.part == nil || len(t.chunk.Starts) == 0 || !errors.As(err, &panicked) {
		return err
	}
	return fmt.Errorf("source %s, partition %s, events %d to %d: %w", l.e.p.Sources[t.part.source].Name, t.part.Name(), t.chunk.Offset(0), t.chunk.Offset(len(t.chunk.Starts)-1), err)
}

// pass hands a turn or mark on to the next stage; the last lane of a stage does. A lane that is ahead
// has passed every turn before, so the next stage sees them in order.
func (l *lane) pass(m laneMessage) {
	next := l.stage + 1
	if next >= len(l.e.p.stages) {
		return
	}
	left := &m.left()[l.stage]
	if left.Add(-1) == 0 {
		l.e.toStage(next, m)
	}
}

// out takes what a keyed step of the lane publishes.
type out struct {
	l *lane
	i int
}

func (o out) Main(v step.View) { o.part(Main, v) }
func (o out) Late(v step.View) { o.part(LatePart, v) }
func (o out) part(p Part, v step.View) {
	o.l.exec.push(Ref{OfStep: true, At: o.i, Part: p}, v)
	o.l.flush(false)
}
func (o out) Reject(v step.View, r step.Reject) {
	x := o.l.exec
	x.rejects = append(x.rejects[:0], r)
	x.rejectRows(o.i, o.l.e.p.Steps[o.i].Input, v)
}

// turn lets the lane's keyed steps take its rows, then moves their watermarks. A lane without a row in
// the turn still moves them.
func (l *lane) turn(t *turn) {
	x := l.exec
	x.reset()
	last := l.stage+1 == len(l.e.p.stages)
	if !last {
		x.routes = t.routesOf(l)
	}
	for n := range l.steps {
		s := l.steps[n]
		d := l.e.p.domain[s.at]
		st := step.Turn{Marks: t.marks[d], After: t.after[d], Now: t.now}
		o := out{l, s.step}
		if s.exchange != nil {
			l.gather(t, s, &st, o)
		} else if t.exec != nil {
			for _, ex := range t.exec.exchanges[s.at].given() {
				s.state.Bring(ex, l.number, &st)
				s.state.Take(ex, l.number, &st, o)
			}
		}
		s.state.Move(&st, o)
		c, k := &l.counts[s.step], s.state.Counts()
		c.Used, c.Lost, c.Out, c.MeasureErrors, c.MostLate = k.Used, k.Lost, k.Out, k.MeasureErrors, k.MostLate
		c.Partial, c.Accepted, c.Repeats, c.LeftOut, c.Dropped, c.Made = k.Partial, k.Accepted, k.Repeats, k.LeftOut, k.Dropped, k.Made
		c.Lookup = k.Lookup
		if c.Pairs = k.Pairs; l.e.p.Steps[s.step].joins() {
			c.Sides = append(c.Sides[:0], k.Sides[:]...)
		}
	}
	for i := range x.steps {
		if l.e.p.keyedAt[i] < 0 {
			l.counts[i].add(x.steps[i])
		} else {
			l.counts[i].In += x.steps[i].In
			addReasons(l.counts[i].Rejected, x.steps[i].Rejected)
		}
	}
	l.flush(true)
	l.exec.show()
	l.e.laneCounts(l)
}

// gather takes the rows that lanes of the stages before made for the step, in order of place, and those
// that came straight from a source.
func (l *lane) gather(t *turn, s *keyedLane, st *step.Turn, o out) {
	s.routers = s.routers[:0]
	add := func(routes []*step.Router) {
		if s.at < len(routes) && routes[s.at] != nil {
			s.routers = append(s.routers, routes[s.at])
		}
	}
	if t.exec != nil {
		add(t.exec.routes)
	}
	for _, r := range t.routes[:l.stage*l.e.opt.Lanes] {
		add(r)
	}
	step.Gather(s.routers, l.number, s.gather, func(v step.View) {
		x := l.exec
		x.steps[s.step].In += int64(len(v.Sel))
		x.rejects = s.exchange.Fill(v, x.rejects[:0])
		x.rejectRows(s.step, l.e.p.Steps[s.step].Input, v)
		s.state.Bring(s.exchange, 0, st)
		s.state.Take(s.exchange, 0, st, o)
	})
}

// flush sends encoded rows to the sinks: all at the end of a turn, else what has grown large.
func (l *lane) flush(all bool) {
	for i := range l.exec.blocks {
		b := &l.exec.blocks[i]
		if b.rows > 0 && (all || len(b.data) >= 64<<10) {
			l.blocked += l.e.send(i, l.producer(), b)
		}
	}
}

// mark copies what changed of the lane's state and goes on; it is written behind it.
func (l *lane) mark(m *mark) {
	began := time.Now()
	freezes := l.e.opt.Save != nil || l.spill.begun
	if freezes { // else the mark only delivers what the sinks have
		for _, s := range l.steps {
			m.addState(l.e.p.Steps[s.step].Name, l.number, l.e.opt.Lanes, s.state.Freeze())
		}
	}
	m.addLane(l, time.Since(began))
	for i, from := range l.e.p.sinkFrom {
		if from&inStage(l.stage) != 0 {
			select {
			case l.e.sinks[i].in <- sinkMessage{producer: l.producer(), mark: m}:
			case <-l.e.hard.Done():
				return
			}
		}
	}
	l.pass(laneMessage{mark: m})
	l.given(m)
	if freezes {
		l.spill.pending = append(l.spill.pending, m.written)
	}
}
