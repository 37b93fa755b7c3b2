package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// partition is what the sequencer knows of one partition, and the queue of its decoded turns.
type partition struct {
	Partition
	source int

	// the reader's
	credits chan *turn // turns to fill; closed by the sequencer at the end

	// the sequencer's
	asked    int             // turns given to the reader and not yet back
	ready    map[int64]*turn // decoded, by seq
	nextSeq  int64
	greatest row.Time
	w        row.Time
	ended    bool
	idle     bool
	position json.RawMessage
	events   int64
	caughtUp bool
	since    time.Time // of the last event
	stored   row.Time  // of the last event, by the connector's account; 0 for none
}

// before says whether p's next turn comes before q's: the lesser W, then source name, then partition
// name (docs/time.md, "Turns and places").
func (e *run) before(p, q *partition) bool {
	if p.w != q.w {
		return p.w < q.w
	}
	if a, b := e.p.Sources[p.source].Name, e.p.Sources[q.source].Name; a != b {
		return a < b
	}
	return p.Name() < q.Name()
}

// sequence puts the decoded turns in order until all partitions have ended, stop is asked for, or
// something failed.
func (e *run) sequence(stop context.Context) {
	var beat <-chan time.Time
	if !e.bounded && e.opt.Script == nil {
		t := time.NewTicker(200 * time.Millisecond) // for idleness
		defer t.Stop()
		beat = t.C
	}
	var steps <-chan time.Time // for what is published by the clock
	if e.p.beat > 0 && e.opt.Script == nil {
		t := time.NewTicker(e.p.beat)
		defer t.Stop()
		steps = t.C
	}
	var due <-chan time.Time
	if e.opt.Every > 0 {
		t := time.NewTicker(e.opt.Every)
		defer t.Stop()
		due = t.C
	}
	if !e.probe(stop) {
		return
	}
	e.given = e.least(e.given[:0]) // a source that is empty does not hold what reads it with others
	for stop.Err() == nil && !e.failed() {
		p := e.choose()
		if e.opt.Script != nil {
			p = e.scripted()
		}
		if p == nil && e.allEnded() {
			return
		}
		e.ask(p)
		var next *turn
		if p != nil {
			next = p.ready[p.nextSeq]
		}
		ready := closedChannel // a turn that is ready goes on at once, but lets others through
		if next == nil {
			ready = nil
		}
		select {
		case q := <-e.found:
			e.addPartition(q)
		case <-due:
			e.beginMark(false)
		case <-e.markDone:
			e.marking = nil
		case <-beat:
			e.checkIdle()
		case <-steps:
			e.quietTurn(e.stood)
		case t := <-e.decoded:
			if t.err != nil {
				e.fail(t.err)
				return
			}
			t.part.ready[t.seq] = t
		case <-stop.Done():
		case <-e.hard.Done():
		case <-ready:
			delete(p.ready, p.nextSeq)
			p.nextSeq++
			p.asked--
			e.take(next)
			if e.scriptAt < len(e.opt.Script) {
				e.scriptAt++
			}
			if e.opt.EveryTurns > 0 && e.turns%int64(e.opt.EveryTurns) == 0 {
				e.beginMark(false)
			}
		}
	}
}

// closedChannel is always ready to be received from.
var closedChannel = func() chan struct{} {
	c := make(chan struct{})
	close(c)
	return c
}()

// choose gives the partition whose turn is next: in a bounded run the least of all, in an unbounded
// one the least of those that have fetched events.
func (e *run) choose() *partition {
	var best *partition
	for _, p := range e.partitions {
		if p.ended || (!e.bounded && p.ready[p.nextSeq] == nil) {
			continue
		}
		if best == nil || e.before(p, best) {
			best = p
		}
	}
	return best
}

func (e *run) allEnded() bool {
	for _, p := range e.partitions {
		if !p.ended {
			return false
		}
	}
	return true
}

// ask lets readers read ahead: the chosen partition always has a turn under way, the others as far
// as the budget of turns goes, those that will be chosen soonest first.
func (e *run) ask(chosen *partition) {
	give := func(p *partition) {
		p.asked++
		e.outstanding++
		p.credits <- e.newTurn(p)
	}
	if chosen != nil && chosen.asked == 0 {
		give(chosen)
	}
	if !e.bounded {
		for _, p := range e.partitions {
			for !p.ended && p.asked < 2 {
				give(p)
			}
		}
		return
	}
	each := max(1, e.budget/max(1, e.live))
	for chosen != nil && e.outstanding < e.budget && chosen.asked < max(each, 2) {
		give(chosen)
	}
	for _, p := range e.partitions {
		if e.outstanding >= e.budget {
			return
		}
		for !p.ended && p.asked < each && e.outstanding < e.budget {
			give(p)
		}
	}
}

// take gives a turn its place in the one order: its header and watermarks, then hands it on.
func (e *run) take(t *turn) {
	p := t.part
	s := &e.p.Sources[p.source]
	e.outstanding--
	t.number = e.turns
	e.turns++
	events := len(t.chunk.Starts)
	before := append(t.sources[:0], e.stood...)
	if s.Timed() {
		t.own, p.greatest = RunningMarks(t.own[:0], t.batch, max(1, events), p.greatest, s.Margin, e.stood[p.source], e.floor(p))
		if p.greatest > row.MinTime {
			p.w = max(p.w, p.greatest.Minus(s.Margin))
		}
	} else {
		t.own = append(t.own[:0], e.stood[p.source])
		for len(t.own) < events {
			t.own = append(t.own, e.stood[p.source])
		}
	}
	e.stampDomains(t, before, p.source)
	p.events += int64(events)
	p.position = t.chunk.Position
	p.caughtUp, p.stored = t.chunk.CaughtUp, max(p.stored, t.chunk.Stored)
	if events > 0 {
		p.since, p.idle = e.opt.Now(), false
	}
	if t.chunk.Last {
		p.ended, p.w = true, row.MaxTime
		e.live--
	}
	t.sources = e.least(t.sources[:0])
	t.after = e.ofDomains(t.after[:0], t.sources)
	e.tally(t)
	for i := range t.exec.blocks {
		if b := &t.exec.blocks[i]; b.rows > 0 {
			e.send(i, 0, b)
		}
	}
	t.exec.show()
	t.now = e.clock()
	copy(e.given, t.sources)
	e.toLanes(t)
}

// RunningMarks gives the watermark of the source that stood before each of the turn's events: the least
// of the partition's own running one and the other partitions' (floor), never below what stood before
// the turn. Events that became no row do not move it. It also gives the greatest event time read so far.
func RunningMarks(marks []row.Time, b *row.Batch, events int, greatest row.Time, margin time.Duration, stood, floor row.Time) ([]row.Time, row.Time) {
	w := max(stood, min(floor, greatest.Minus(margin)))
	marks = slices.Grow(marks, events)[:events]
	next := 0
	for r, t := range b.Times {
		for at := int(b.Index[r]); next <= at; next++ {
			marks[next] = w
		}
		if t > greatest {
			greatest = t
			w = max(stood, min(floor, t.Minus(margin)))
		}
	}
	for ; next < events; next++ {
		marks[next] = w
	}
	return marks, greatest
}

// stampDomains works out the marks of the steps: of each set of sources the least.
func (e *run) stampDomains(t *turn, before []row.Time, source int) {
	for len(t.marks) < len(e.p.domains) {
		t.marks = append(t.marks, nil)
	}
	for d, sources := range e.p.domains {
		least, own := row.MaxTime, false
		for _, s := range sources {
			if s == source {
				own = true
			} else {
				least = min(least, before[s])
			}
		}
		m := append(t.marks[d][:0], t.own...)
		switch {
		case !own:
			for i := range m {
				m[i] = least
			}
		case len(sources) > 1:
			for i := range m {
				m[i] = min(m[i], least)
			}
		}
		t.marks[d] = m
	}
}

// ofDomains gives the watermark of each set of sources.
func (e *run) ofDomains(dst, sources []row.Time) []row.Time {
	for _, d := range e.p.domains {
		w := row.MaxTime
		for _, s := range d {
			w = min(w, sources[s])
		}
		dst = append(dst, w)
	}
	return dst
}

// quietTurn is a turn without events: the watermarks go to after, and what is due by the clock is
// published.
func (e *run) quietTurn(after []row.Time) {
	t := &turn{number: e.turns, now: e.clock(), sources: slices.Clone(after)}
	for _, w := range e.ofDomains(nil, e.given) {
		t.marks = append(t.marks, []row.Time{w})
	}
	t.after = e.ofDomains(nil, after)
	copy(e.given, after)
	e.toLanes(t)
}

// clock gives the wall clock, which does not go back.
func (e *run) clock() row.Time {
	e.latest = max(e.latest, row.TimeOf(e.opt.Now()))
	return e.latest
}

// floor gives the least W of the other partitions of p's source that are not idle.
func (e *run) floor(p *partition) row.Time {
	w := row.MaxTime
	for _, q := range e.partitions {
		if q != p && q.source == p.source && !q.idle {
			w = min(w, q.w)
		}
	}
	return w
}

// least gives each source's W as it stands now: the least of its partitions that are not idle. When
// all are idle it stands still; it never goes back.
func (e *run) least(dst []row.Time) []row.Time {
	for i := range e.p.Sources {
		w, some := row.MaxTime, false
		for _, p := range e.partitions {
			if p.source == i && !p.idle {
				w, some = min(w, p.w), true
			}
		}
		if some {
			e.stood[i] = max(e.stood[i], w)
		}
		dst = append(dst, e.stood[i])
	}
	return dst
}

// checkIdle lets partitions that have been read to their end and had nothing new leave the least.
// What this closes is closed by a turn without events.
// Those found at once leave in the order of their last events, so that what the last one of them had
// read still counts once the others have left.
func (e *run) checkIdle() {
	var leave []*partition
	now := e.opt.Now()
	for _, p := range e.partitions {
		idle := e.p.Sources[p.source].Idle
		if !p.idle && !p.ended && p.caughtUp && (len(p.ready) == 0 || e.opt.Script != nil) && idle > 0 && now.Sub(p.since) >= idle {
			if q, ok := p.Partition.(Quieter); ok {
				from, to := q.Quiet()
				if from.Before(p.since) {
					from = p.since
				}
				if to.Sub(from) < idle {
					continue
				}
			}
			leave = append(leave, p)
		}
	}
	slices.SortStableFunc(leave, func(p, q *partition) int { return p.since.Compare(q.since) })
	var after []row.Time
	for _, p := range leave {
		p.idle = true
		after = e.least(after[:0])
	}
	if e.advance(now) || len(leave) > 0 {
		after = e.least(after[:0])
		e.watch.moved(e, after)
		e.quietTurn(after)
	}
}

// advance moves the watermarks of silent sources by the clock, where they say so: by as much as has
// passed since their last partition became idle.
func (e *run) advance(now time.Time) (moved bool) {
	for i := range e.p.Sources {
		idle, some := true, false
		for _, p := range e.partitions {
			if p.source == i && !p.ended {
				idle, some = idle && p.idle, true
			}
		}
		switch {
		case !e.p.Sources[i].Advance || !idle || !some || e.stood[i] == row.MinTime:
			moved = moved || !e.silent[i].IsZero()
			e.silent[i] = time.Time{}
		case e.silent[i].IsZero():
			e.silent[i], e.silentFrom[i] = now, e.stood[i]
		default:
			if w := e.silentFrom[i].Minus(-now.Sub(e.silent[i])); w > e.stood[i] {
				e.stood[i], moved = w, true
			}
		}
	}
	return moved
}

// scripted gives the partition whose event comes next by the script, after the clock has gone on where
// the script says so; once the script is done, any that has not ended.
func (e *run) scripted() *partition {
	for e.scriptAt < len(e.opt.Script) {
		s := e.opt.Script[e.scriptAt]
		if s.Clock == 0 {
			for _, p := range e.partitions {
				if p.source == s.Source {
					return p
				}
			}
		}
		// A beat may fall within what passes: the clock goes on by the least of them.
		for left := s.Clock; left > 0; {
			by := left
			if e.p.beat > 0 {
				by = min(by, e.p.beat)
			}
			left -= by
			e.scriptClock += by
			e.checkIdle()
			e.quietTurn(e.stood)
		}
		e.scriptAt++
	}
	for _, p := range e.partitions {
		if !p.ended {
			return p
		}
	}
	return nil
}

func (e *run) toLanes(t *turn) {
	if e.opt.Stepped == nil {
		e.spread(t)
		return
	}
	settled, now := make(chan struct{}), Stepped{Script: e.scriptAt, Watermarks: slices.Clone(t.sources)}
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
	t.left = e.stagesLeft(t.left)
	t.refs.Store(int32(len(e.lanes)))
	e.toStage(0, laneMessage{turn: t})
}

// toStage hands a turn or mark to the lanes of a stage.
func (e *run) toStage(stage int, m laneMessage) {
	for _, l := range e.lanes[stage*e.opt.Lanes : (stage+1)*e.opt.Lanes] {
		select {
		case l.in <- m:
		case <-e.hard.Done():
			return
		}
	}
}

// probe finds the empty partitions of a bounded run, whose W is plus infinity from the start; false
// when the run was stopped meanwhile.
func (e *run) probe(stop context.Context) bool {
	if !e.bounded || e.opt.Script != nil {
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
		if p.ended || p.position != nil {
			continue
		}
		asked++
		go func() {
			limit <- struct{}{}
			empty, err := p.Empty(e.hard)
			<-limit
			answers <- answer{p, empty, err}
		}()
	}
	for range asked {
		select {
		case a := <-answers:
			if a.err != nil {
				e.fail(fmt.Errorf("source %s: %w", e.p.Sources[a.p.source].Name, a.err))
				return false
			}
			if a.empty {
				a.p.ended, a.p.w = true, row.MaxTime
				e.live--
			}
		case <-stop.Done():
			return false
		case <-e.hard.Done():
			return false
		}
	}
	return true
}
