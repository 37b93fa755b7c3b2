package engine

import (
	"slices"
	"time"

	"undertide/core/row"
)

// checkIdle lets partitions that have been read to their end and had nothing new leave the least, and lets
// the clock move the watermarks of what is silent. What this closes is closed by a turn without events.
//
// Partitions that are found idle at once leave in the order of their last events, so that what the last one
// of them had read still counts once the others have left (docs/time.md, "Watermark").
func (e *run) checkIdle() {
	now := e.opt.Now()
	var leave []*partition
	for _, p := range e.partitions {
		if !p.idle && !p.ended && e.quietLongEnough(p, now) {
			leave = append(leave, p)
		}
	}
	slices.SortStableFunc(leave, func(p, q *partition) int { return p.since.Compare(q.since) })
	for _, p := range leave {
		p.idle = true
		e.marks.changed(p)
		e.marks.settle()
	}
	moved := len(leave) > 0
	for i := range e.marks.sources {
		if s := &e.marks.sources[i]; s.parts == 0 && !s.empty && e.p.Sources[i].Idle > 0 && now.Sub(e.began) >= e.p.Sources[i].Idle {
			s.empty, moved = true, true
			e.marks.settle()
		}
	}
	if e.marks.advance(now) || moved {
		e.watch.moved(e)
		e.quietTurn()
	}
}

// quietLongEnough says whether p has been read to its end and had nothing new for its idle time.
func (e *run) quietLongEnough(p *partition, now time.Time) bool {
	idle := e.p.Sources[p.source].Idle
	if idle <= 0 || !p.caughtUp || len(p.ready) > 0 || now.Sub(p.since) < idle {
		return false
	}
	q, ok := p.Partition.(Quieter)
	if !ok {
		return true
	}
	from, to := q.Quiet()
	if from.Before(p.since) {
		from = p.since
	}
	return to.Sub(from) >= idle
}

// advance moves by the clock the watermarks of silent sources that say so, and of sets of sources that are
// all silent and all say so: by as much as has passed since the last of them fell silent.
func (m *watermarks) advance(now time.Time) (moved bool) {
	for i := range m.sources {
		s := &m.sources[i]
		silent := m.e.p.Sources[i].Advance && !s.isAwake()
		moved = s.silent.move(&s.stood, silent, now) || moved
	}
	for d := range m.sets {
		silent := true
		for _, of := range m.e.p.domains[d] {
			silent = silent && m.e.p.Sources[of.source].Advance && !m.sources[of.source].isAwake()
		}
		moved = m.sets[d].silent.move(&m.sets[d].stood, silent, now) || moved
	}
	return moved
}

// move lets a watermark go on by the clock while it is silent; a run that has read nothing has nothing to go
// on from. True where it moved, or went back to its events.
func (s *silence) move(w *row.Time, silent bool, now time.Time) bool {
	switch {
	case !silent || *w == row.MinTime:
		was := !s.since.IsZero()
		s.since = time.Time{}
		return was
	case s.since.IsZero():
		s.since, s.from = now, *w
		return false
	}
	if to := s.from.Plus(now.Sub(s.since)); to > *w {
		*w = to
		return true
	}
	return false
}
