package engine

import (
	"time"

	"undertide/core/step"
)

// lane is one of the parallel workers of the keyed steps: it owns some shares of every windowed step,
// and takes turns and marks in the one order of the run. Its goroutine alone touches its state.
type lane struct {
	e       *run
	number  int
	in      chan laneMessage // closed by the sequencer
	windows []*step.WindowLane
	exec    *executor
	counts  []StepCounts  // by step: what this lane did since the run's start
	blocked time.Duration // within the turn at hand: waiting for sinks to take rows
}

func newLane(e *run, number int) *lane {
	l := &lane{e: e, number: number, in: make(chan laneMessage, 8), exec: newExecutor(e.p, 1), counts: make([]StepCounts, len(e.p.Steps))}
	for i := range l.counts {
		l.counts[i].Rejected = map[string]int64{}
	}
	for _, s := range e.p.windows {
		l.windows = append(l.windows, e.p.Steps[s].Window.NewLane())
	}
	return l
}

func (l *lane) run() {
	for {
		began := time.Now()
		m, ok := <-l.in
		l.e.laneWaited(l.number, time.Since(began))
		if !ok {
			return
		}
		if m.mark != nil {
			l.mark(m.mark)
			continue
		}
		began = time.Now()
		l.blocked = 0
		l.turn(m.turn)
		l.e.release(m.turn)
		l.e.laneBusy(l.number, time.Since(began)-l.blocked, l.blocked)
		if l.e.failed() {
			return
		}
	}
}

// turn adds the lane's rows, then closes what the turn's watermark has passed. A lane without a row
// in the turn still moves its watermark.
func (l *lane) turn(t *turn) {
	x := l.exec
	x.reset()
	for at, i := range l.e.p.windows {
		w := l.windows[at]
		src := l.e.p.stepSource[i]
		s := Ref{OfStep: true, At: i}
		if t.exec != nil && t.exec.filled[at] {
			w.Add(t.exec.exchanges[at], l.number, t.marks)
			if late := w.Late(); late.N > 0 {
				s.Part = LatePart
				x.push(s, step.ViewOf(late, nil))
				s.Part = Main
				w.ClearLate()
			}
		}
		w.Close(t.after[src], func(v step.View) {
			x.push(s, v)
			l.flush(false)
		})
		c := &l.counts[i]
		c.Used, c.Lost, c.Out, c.MeasureErrors, c.MostLate = w.Used, w.Lost, w.Out, w.MeasureErrors, w.MostLate
	}
	for i := range x.steps {
		if l.e.p.laneOf[i] < 0 {
			l.counts[i].add(x.steps[i])
		}
	}
	l.flush(true)
	l.exec.show()
	l.e.laneCounts(l)
}

// flush sends encoded rows to the sinks: all at the end of a turn, else what has grown large.
func (l *lane) flush(all bool) {
	for i := range l.exec.blocks {
		b := &l.exec.blocks[i]
		if b.rows > 0 && (all || len(b.data) >= 64<<10) {
			l.blocked += l.e.send(i, l.number, b)
		}
	}
}

// mark copies the lane's state and goes on; it is written behind it.
func (l *lane) mark(m *mark) {
	began := time.Now()
	for at, i := range l.e.p.windows {
		if l.e.opt.Save != nil { // else the mark only delivers what the sinks have
			m.addState(l.e.p.Steps[i].Name, l.windows[at].Snapshot())
		}
	}
	m.addLane(l, time.Since(began))
	for i, lanes := range l.e.p.sinkLanes {
		if lanes {
			l.e.sinks[i].in <- sinkMessage{producer: l.number, mark: m}
		}
	}
	m.done()
}
