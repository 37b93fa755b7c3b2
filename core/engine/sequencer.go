package engine

import (
	"context"
	"slices"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// sequence puts the decoded turns in order until all partitions have ended, stop is asked for, or
// something failed.
func (e *run) sequence(stop context.Context) {
	clocks := e.clocks()
	e.marks.settle() // a source that is empty does not hold what reads it with others
	e.given = e.marks.ofSets(e.given[:0])
	if e.live == 0 { // nothing may ever be read: the lanes are told all the same how far they are
		e.quietTurn()
	}
	for stop.Err() == nil && !e.failed() {
		if e.opt.Rest != nil && e.atRest() {
			e.comeToRest()
			return
		}
		p := e.order.next()
		if p == nil && e.live == 0 && !e.finding {
			return
		}
		e.ask(p)
		e.await(stop, clocks, p)
	}
}

// clocks are the beats of the sequencer: nil for those that a run does not have.
type clocks struct{ idle, quiet, mark <-chan time.Time }

func (e *run) clocks() (c clocks) {
	tick := func(every time.Duration) <-chan time.Time {
		if every <= 0 {
			return nil
		}
		t := time.NewTicker(every)
		context.AfterFunc(e.hard, t.Stop)
		return t.C
	}
	c.mark = tick(e.opt.Every)
	if e.opt.Script != nil || e.opt.Rest != nil { // the script says what time it is, and at rest none passes
		return c
	}
	c.quiet = tick(e.p.beat)
	if !e.bounded {
		c.idle = tick(200 * time.Millisecond)
	}
	return c
}

// await does the one thing that comes next: it takes the turn that p has ready, or what came of readers, workers, savers
// and clocks. A turn that is ready goes on at once, but lets the others through: of all that are ready one is chosen by
// chance.
func (e *run) await(stop context.Context, clocks clocks, p *partition) {
	var next *turn
	if p != nil {
		next = p.ready[p.nextSeq]
	}
	ready := closedChannel
	if next == nil {
		ready = nil
	}
	select {
	case q := <-e.found:
		e.foundPartition(q)
	case <-clocks.mark:
		e.beginMark(false)
	case <-e.markDone:
		e.marking = nil
	case <-clocks.idle:
		e.checkIdle()
	case <-clocks.quiet:
		e.quietTurn()
	case t := <-e.decoded:
		if t.err != nil {
			e.fail(t.err)
			return
		}
		t.part.ready[t.seq] = t
		e.order.decoded(t.part)
	case <-e.drain:
		e.drainAll()
	case <-stop.Done():
	case <-e.hard.Done():
	case <-ready:
		e.take(next)
		if e.opt.EveryTurns > 0 && e.turns%int64(e.opt.EveryTurns) == 0 {
			e.beginMark(false)
		}
	}
}

// closedChannel is always ready to be received from.
var closedChannel = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// take gives the next turn of its partition its place in the one order: its header and watermarks, then hands
// it on.
func (e *run) take(t *turn) {
	p := t.part
	delete(p.ready, p.nextSeq)
	p.nextSeq++
	p.asked--
	e.outstanding--
	e.leadIn(t)
	t.number = e.turns
	e.turns++
	e.stamp(t)
	e.note(t)
	t.sources = e.marks.ofSources(t.sources[:0])
	t.after, t.asleep = e.marks.ofSets(t.after[:0]), e.marks.asleep(t.asleep[:0])
	e.given = append(e.given[:0], t.after...)
	t.now = e.clock()
	t.step = e.order.step()
	e.order.took(p)
	e.tally(t)
	for i := range t.exec.blocks {
		if b := &t.exec.blocks[i]; b.rows > 0 {
			e.send(nil, workers, i, b)
		}
	}
	t.exec.show()
	e.toLanes(t)
}

// leadIn brings the watermarks up to the one that stood where its writer had the first of a turn's rows: the writer's events in between went to others. What it passes is published
// before them, judged by the watermark that stood here: within a turn that of the event before would judge it, and the first has none.
//
// An example: a row of 10:00 waits in a step with `order: time`, where the watermark is 9:59, and the next row of this reader comes with 10:01. The step behind is given the row of 10:00
// under 9:59, as in one run, and not as one that is a minute late.
func (e *run) leadIn(t *turn) {
	p := t.part
	if !e.p.Sources[p.source].Carried || len(t.chunk.Marks) == 0 || t.chunk.Marks[0] <= p.w {
		return
	}
	p.w, p.idle = t.chunk.Marks[0], false
	p.greatest = p.w
	e.marks.changed(p)
	e.marks.settle()
	if e.stood = e.marks.ofSets(e.stood[:0]); !slices.Equal(e.stood, e.given) {
		e.quietTurn()
	}
}

// drainAll ends all partitions where they stand. What was read ahead of here was not taken, and is not.
func (e *run) drainAll() {
	e.drain, e.finding = nil, false
	for _, p := range e.partitions {
		if !p.ended {
			e.endPartition(p)
		}
	}
	for i := range e.marks.sources {
		e.marks.sources[i].fixed, e.marks.sources[i].empty = true, false // one without partitions has ended too
	}
	e.marks.settle()
	e.watch.moved(e)
	e.quietTurn()
}

// stamp says under which watermark each event of the turn is read: that which stood before it, of its own source and of
// each set that steps read.
func (e *run) stamp(t *turn) {
	p := t.part
	s := &e.p.Sources[p.source]
	events := len(t.chunk.Starts)
	stood := e.marks.sources[p.source].stood
	if s.Carried {
		t.own, p.w = carriedMarks(t.own[:0], &t.chunk, p.w, stood, e.marks.floor(p))
		p.greatest = p.w
	} else if s.Timed() {
		t.own, p.greatest = RunningMarks(t.own[:0], t.batch, max(1, events), p.greatest, s.Margin, stood, e.marks.floor(p))
		if p.greatest > row.MinTime {
			p.w = max(p.w, p.greatest.Minus(s.Margin))
		}
	} else {
		t.own = append(t.own[:0], stood)
		for len(t.own) < events {
			t.own = append(t.own, stood)
		}
	}
	e.marks.stamp(t, t.own)
}

// note notes where the turn leaves its partition, and what that does to the watermarks.
func (e *run) note(t *turn) {
	p := t.part
	events := len(t.chunk.Starts)
	p.events += int64(events)
	p.position = t.chunk.Position
	p.caughtUp, p.stored = t.chunk.CaughtUp, max(p.stored, t.chunk.Stored)
	if events > 0 {
		p.since, p.idle = e.opt.Now(), false
	}
	if e.p.Sources[p.source].Carried {
		p.idle = t.chunk.Asleep
	}
	if t.chunk.Last {
		e.endPartition(p)
	} else {
		e.marks.changed(p)
	}
	e.marks.settle()
}

// quietTurn is a turn without events: the watermarks go to where they stand now, and what is due by the clock
// is published.
func (e *run) quietTurn() {
	now := e.clock()
	t := &turn{number: e.turns, now: now, read: now, sources: e.marks.ofSources(nil), after: e.marks.ofSets(nil), asleep: e.marks.asleep(nil), step: e.order.step()}
	for _, w := range e.given {
		t.marks = append(t.marks, []row.Time{w})
	}
	e.given = append(e.given[:0], t.after...)
	e.toLanes(t)
}

// clock gives the wall clock, which does not go back.
func (e *run) clock() row.Time {
	e.latest = max(e.latest, row.TimeOf(e.opt.Now()))
	return e.latest
}

// toLanes hands a turn on. Where somebody is told of each turn, the next one waits for it.
func (e *run) toLanes(t *turn) {
	if e.opt.Stepped == nil {
		e.spread(t)
		return
	}
	settled, now := make(chan struct{}), Stepped{Script: t.step, Watermarks: slices.Clone(t.sources)}
	t.settled = settled
	e.spread(t)
	select {
	case <-settled:
		e.opt.Stepped(now)
	case <-e.hard.Done():
	}
}

func (e *run) spread(t *turn) {
	if len(e.lanes) == 0 {
		t.refs.Store(1)
		e.release(t)
		return
	}
	for len(t.routes) < len(e.lanes) {
		t.routes = append(t.routes, make([]*step.Router, len(e.p.keyed)))
	}
	t.refs.Store(int32(len(e.lanes)))
	e.toStage(nil, workers, 0, laneMessage{part: whole(t)})
}

// toStage hands a part of a turn, or a mark, to the lanes of a stage. Who does is named by its place and meter.
func (e *run) toStage(from *meter, producer, stage int, m laneMessage) {
	if m.part != nil {
		m.part.enter(e.opt.Lanes)
	}
	for _, l := range e.lanes[stage*e.opt.Lanes : (stage+1)*e.opt.Lanes] {
		if !hand(e, from, producer, e.p.stageTarget(stage), l.in, m) {
			return
		}
	}
}
