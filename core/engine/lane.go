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
	e      *run
	stage  int
	number int              // within the stage
	in     chan laneMessage // closed by the sequencer once nothing is under way
	steps  []*keyedLane     // of the stage's keyed steps
	exec   *executor
	counts []StepCounts // by step: what this lane did since the run's start
	meter  *meter
	spill  spill
}

// keyedLane is one keyed step in a lane.
type keyedLane struct {
	at    int // among keyed steps
	step  int
	state step.Lane
	ahead []*state.Changes // what was frozen ahead of a mark, while it is written
	// leaves is state where it can leave off within a turn; nil where it cannot, or no later stage reads what it makes.
	leaves step.LeavesOff
	// for rows that come out of lanes
	gather   *step.Gathering
	exchange *step.Exchange

	// of the part at hand
	event int      // it has gone through the events before this one
	given int      // exchange that it has come to, by number
	mark  row.Time // the watermark that it was given last
	pos   int      // row of it that it has come to, by position
}

func newLane(e *run, stage, number int) *lane {
	l := &lane{e: e, stage: stage, number: number, in: make(chan laneMessage, queued(stage)), exec: newExecutor(e.p, e.opt.Lanes, false), counts: make([]StepCounts, len(e.p.Steps))}
	l.meter = newMeter(e, l.producer())
	l.exec.meter = l.meter
	for i := range l.counts {
		l.counts[i].Rejected = map[string]int64{}
	}
	for _, k := range e.p.stages[stage] {
		i := e.p.keyed[k]
		s := &keyedLane{at: k, step: i, mark: row.MinTime, state: e.p.Steps[i].Keyed.NewLane(step.LaneOptions{Ordered: e.p.ordered[i], Keeps: e.opt.Save != nil || e.opt.Behind != nil, Behind: e.opt.Behind, Step: e.p.Steps[i].Name, Lane: number, Lanes: e.opt.Lanes, Begun: e.begun[e.p.Steps[i].Name], Ease: l.bound, Fail: e.fail})}
		if e.p.routed[k] {
			s.gather, s.exchange = step.NewGathering(e.p.Steps[i].Input), e.p.Steps[i].Keyed.Spec().NewExchange(1)
		}
		if stage+1 < len(e.p.stages) {
			s.leaves, _ = s.state.(step.LeavesOff)
		}
		l.steps = append(l.steps, s)
	}
	return l
}

// queued is how many parts may wait before a lane. Those of later stages hold rows that lanes made.
func queued(stage int) int {
	if stage > 0 {
		return 2
	}
	return 8
}

// place is the lane's number among all.
func (l *lane) place() int { return l.stage*l.e.opt.Lanes + l.number }

// producer is the lane's number among those who send to sinks; the sequencer is 0.
func (l *lane) producer() int { return 1 + l.place() }

func (l *lane) run() {
	for {
		m, ok := <-l.in
		if !ok {
			return
		}
		if m.mark != nil {
			l.mark(m.mark)
			continue
		}
		l.meter.charge(nobody) // it waited
		if err := Guard(func() error { l.take(m.part); return nil }); err != nil {
			l.e.fail(l.inTurn(m.part.turn, err))
			return
		}
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

// pass hands a mark on to the next stage; the last lane of a stage does. A lane that is ahead has passed every turn and mark
// before, so the next stage sees them in order.
func (l *lane) pass(m *mark) {
	if next := l.stage + 1; next < len(l.e.p.stages) && m.left[l.stage].Add(-1) == 0 {
		l.e.toStage(l.meter, l.producer(), next, laneMessage{mark: m})
	}
}

// out takes what a keyed step of the lane publishes.
type out struct {
	l    *lane
	i    int
	turn *turn
}

func (o out) Main(v step.View) { o.part(Main, v) }
func (o out) Late(v step.View) {
	o.turn.late.add(v)
	o.part(LatePart, v)
}
func (o out) part(p Part, v step.View) {
	o.l.exec.push(Ref{OfStep: true, At: o.i, Part: p}, v)
	o.l.flush(false)
}
func (o out) Reject(v step.View, r step.Reject) {
	x := o.l.exec
	x.rejects = append(x.rejects[:0], r)
	x.rejectRows(o.i, o.l.e.p.Steps[o.i].Input, v)
}

// take lets the lane's keyed steps take its rows of a part, in one go or with pauses, and hands it on.
func (l *lane) take(p *part) {
	final := l.stage+1 == len(l.e.p.stages)
	if !final {
		l.exec.routes = p.turn.routesOf(l)
	}
	for n := range l.steps {
		l.steps[n].event, l.steps[n].given, l.steps[n].pos = p.from, 0, 0
		l.open(p, l.steps[n])
	}
	for handed := p.from; ; {
		event := l.some(p, handed)
		if event == p.to {
			l.bound()
		}
		next, again := p.arrive(event)
		switch {
		case next == nil:
		case final:
			next.gone()
		default:
			l.e.toStage(l.meter, l.producer(), l.stage+1, laneMessage{part: next})
		}
		if again == nil {
			break
		}
		handed = l.await(p, again)
		if l.e.failed() {
			return
		}
	}
	if p.ends() {
		l.e.release(p.turn)
	}
}

// await waits until the rows that were handed on have gone through, forgets them, and gives the event before which they stood.
func (l *lane) await(p *part, again chan struct{}) (handed int) {
	over := l.e.wait(l.meter, l.producer(), l.e.p.stageTarget(l.stage+1))
	select {
	case <-again:
	case <-l.e.hard.Done():
	}
	if over(); l.e.failed() {
		return p.from
	}
	p.mu.Lock()
	handed = p.handed
	p.mu.Unlock()
	for _, r := range l.exec.routes {
		if r != nil {
			r.Forget(handed)
		}
	}
	return handed
}

// some takes events up to the part's end, or until the lane holds enough rows for later stages; it gives the event before which all
// of its steps have come. The events before handed were handed on.
func (l *lane) some(p *part, handed int) (event int) {
	l.exec.reset()
	event = p.to
	for n := range l.steps {
		s := l.steps[n]
		// A step that is ahead waits while the lane holds enough; one at the border goes on, by an event at least.
		if s.event < p.to && (s.event == handed || !l.enough(0)) {
			l.step(p, s)
		}
		event = min(event, s.event)
	}
	for i, c := range l.exec.steps {
		if l.e.p.keyedAt[i] < 0 {
			l.counts[i].add(c)
		} else {
			l.counts[i].In += c.In
			addReasons(l.counts[i].Rejected, c.Rejected)
		}
	}
	l.flush(true)
	l.exec.show()
	l.e.laneCounts(l, p.turn.now)
	l.e.watch.spend(l.producer(), l.meter)
	return event
}

// step lets a keyed step take rows from where it stands, then moves its watermark. A lane without a row still moves it.
func (l *lane) step(p *part, s *keyedLane) {
	defer l.meter.charge(l.meter.charge(l.e.p.stepOwner(s.step)))
	t, d := p.turn, l.e.p.domain[s.at]
	l.exec.read = t.read
	st := step.Turn{Marks: t.marks[d][:p.to], After: p.after(d, p.to), Asleep: t.asleep[d], Now: t.now}
	o := out{l, s.step, t}
	switch {
	case s.gather != nil:
		s.event = l.takeGathered(p, s, &st, o)
	case t.exec != nil:
		s.event = l.takeGiven(p, s, &st, o)
	default:
		s.event = p.to
	}
	st.Marks, st.After = t.marks[d][:s.event], p.after(d, s.event)
	s.mark = st.After
	s.state.Move(&st, o)
	c, k := &l.counts[s.step], s.state.Counts()
	c.Used, c.Lost, c.Out, c.MeasureErrors, c.MostLate = k.Used, k.Lost, k.Out, k.MeasureErrors, k.MostLate
	c.Partial, c.Accepted, c.Repeats, c.LeftOut, c.Dropped, c.Made = k.Partial, k.Accepted, k.Repeats, k.LeftOut, k.Dropped, k.Made
	c.Lookup, c.Forgotten = k.Lookup, k.Forgotten
	if c.Pairs = k.Pairs; l.e.p.Steps[s.step].joins() {
		c.Sides = append(c.Sides[:0], k.Sides[:]...)
	}
}

// takeGiven takes rows that a worker prepared, and gives the event before which all were taken.
func (l *lane) takeGiven(p *part, s *keyedLane, st *step.Turn, o out) int {
	given := p.turn.exec.exchanges[s.at].given()
	for ; s.given < len(given); s.given, s.pos = s.given+1, 0 {
		if x := given[s.given]; !l.takeOf(x, l.number, s, st, o) {
			return x.EventAt(l.number, s.pos)
		}
	}
	return p.to
}

// open puts the rows in order of place that lanes of the stages before made for a step, and those that came straight from a
// source.
func (l *lane) open(p *part, s *keyedLane) {
	if s.gather == nil {
		return
	}
	t := p.turn
	var routers []*step.Router
	add := func(routes []*step.Router) {
		if s.at < len(routes) && routes[s.at] != nil {
			routers = append(routers, routes[s.at])
		}
	}
	if t.exec != nil {
		add(t.exec.routes)
	}
	for _, r := range t.routes[:l.stage*l.e.opt.Lanes] {
		add(r)
	}
	s.gather.Open(routers, l.number, p.from, p.to)
}

// takeGathered takes rows that were put in order, and gives the event before which all were taken.
func (l *lane) takeGathered(p *part, s *keyedLane, st *step.Turn, o out) int {
	for {
		if s.pos == 0 { // else it left off within the rows that it was given last
			v, ok := s.gather.Next()
			if !ok {
				return p.to
			}
			x := l.exec
			x.steps[s.step].In += int64(len(v.Sel))
			x.rejects = s.exchange.Fill(v, x.rejects[:0])
			x.rejectRows(s.step, l.e.p.Steps[s.step].Input, v)
		}
		if !l.takeOf(s.exchange, 0, s, st, o) {
			return s.exchange.EventAt(0, s.pos)
		}
		s.pos = 0
	}
}

// takeOf takes the rows of x from where the step stands; false where it has left off.
func (l *lane) takeOf(x *step.Exchange, lane int, s *keyedLane, st *step.Turn, o out) bool {
	s.state.Bring(x, lane, st)
	if s.leaves == nil {
		s.state.Take(x, lane, st, o)
		return true
	}
	s.pos = s.leaves.TakeSome(x, lane, s.pos, st, o, l.enough)
	return s.pos == len(x.Lanes[lane])
}

// enough says whether the lane has made so many rows for later stages that it leaves off, with n bytes that a step holds.
func (l *lane) enough(n int) bool {
	for _, r := range l.exec.routes {
		if r != nil {
			n += r.Bytes()
		}
	}
	return n >= l.e.opt.HandOn
}

// flush sends encoded rows to the sinks: all at the end of a turn, else what has grown large.
func (l *lane) flush(all bool) {
	for i := range l.exec.blocks {
		b := &l.exec.blocks[i]
		if b.rows > 0 && (all || len(b.data) >= 64<<10) {
			l.e.send(l.meter, l.producer(), i, b)
		}
	}
}

// mark copies what changed of the lane's state and goes on; it is written behind it.
func (l *lane) mark(m *mark) {
	began := time.Now()
	freezes := l.e.opt.Save != nil || l.spill.begun
	if freezes { // else the mark only delivers what the sinks have
		for _, s := range l.steps {
			l.meter.charge(l.e.p.stepOwner(s.step))
			m.addState(l.e.p.Steps[s.step].Name, l.number, l.e.opt.Lanes, s.state.Freeze())
		}
	}
	l.meter.charge(nobody)
	m.addLane(l, time.Since(began))
	if l.stage+1 == len(l.e.p.stages) {
		m.addLate(l.e)
	}
	for i, from := range l.e.p.sinkFrom {
		if from&inStage(l.stage) != 0 && !hand(l.e, l.meter, l.producer(), i, l.e.sinks[i].in, sinkMessage{producer: l.producer(), mark: m}) {
			return
		}
	}
	l.pass(m)
	l.given(m)
	if freezes {
		l.spill.pending = append(l.spill.pending, m.written)
	}
}
