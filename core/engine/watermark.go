package engine

import (
	"slices"
	"time"

	"undertide/core/row"
)

// watermarks are those of the sources, and of the sets of sources that steps read (docs/time.md,
// "Watermark"). None ever goes back.
//
// A source is awake while it has a partition that is not idle. An example with margin 0: source a has partitions
// at 10:00 and 10:05, source b one at 9:50. W of a is 10:00, W of a step that reads both 9:50. After a minute
// without events b is not awake any more: the step's W is 10:00. With an event of 9:51 b is awake again;
// the step's W stands at 10:00, and that row is judged by it, until b has come up to it.
type watermarks struct {
	e       *run
	sources []sourceMark
	sets    []setMark // by domain of the plan
}

// sourceMark is the watermark of a source.
type sourceMark struct {
	// awake has the partitions that are neither ended nor idle, by their W.
	awake partHeap
	parts int // all of its partitions
	live  int // those that have not ended
	// fixed: no further partition is looked for, so that one without any has come to its end.
	fixed bool
	stood row.Time
	// empty: it has no partition, and has been without for its idle time.
	empty  bool
	silent silence
}

// setMark is that of the sources that a step's rows come from, of each as far back as its rows may be.
type setMark struct {
	stood  row.Time
	silent silence
}

// silence is a watermark that goes on by the clock.
type silence struct {
	since time.Time // zero: it does not
	from  row.Time
}

func newWatermarks(e *run) *watermarks {
	m := &watermarks{e: e, sources: make([]sourceMark, len(e.p.Sources)), sets: make([]setMark, len(e.p.domains))}
	for i := range m.sources {
		m.sources[i].stood = row.MinTime
		m.sources[i].fixed = e.p.Sources[i].Find == nil
		m.sources[i].empty = e.p.Sources[i].Share && !e.p.Sources[i].Bounded && !m.sources[i].fixed
		m.sources[i].awake = partHeap{before: func(p, q *partition) bool { return p.w < q.w }, at: func(p *partition) *int { return &p.inAwake }}
	}
	for i := range m.sets {
		m.sets[i].stood = row.MinTime
	}
	return m
}

// save puts the watermarks into a snapshot, and restore takes them from one.
func (m *watermarks) save(s *Snapshot) {
	s.Watermarks, s.StepWatermarks = map[string]row.Time{}, map[string]row.Time{}
	for i, w := range m.ofSources(nil) {
		if w != row.MinTime {
			s.Watermarks[m.e.p.Sources[i].Name] = w
		}
	}
	for k, i := range m.e.p.keyed {
		if w := m.sets[m.e.p.domain[k]].stood; w != row.MinTime {
			s.StepWatermarks[m.e.p.Steps[i].Name] = w
		}
	}
}

func (m *watermarks) restore(s *Snapshot) {
	for i := range m.sources {
		if w, ok := s.Watermarks[m.e.p.Sources[i].Name]; ok {
			m.sources[i].stood = w
		}
	}
	for k, i := range m.e.p.keyed {
		if w, ok := s.StepWatermarks[m.e.p.Steps[i].Name]; ok {
			set := &m.sets[m.e.p.domain[k]]
			set.stood = max(set.stood, w)
		}
	}
}

func (m *watermarks) add(p *partition) {
	s := &m.sources[p.source]
	s.parts++
	s.empty = false
	if !p.ended {
		s.live++
		s.awake.put(p)
	}
}

// changed puts p right after its W moved, or it ended, or became idle or awake.
func (m *watermarks) changed(p *partition) {
	s := &m.sources[p.source]
	switch {
	case p.ended:
		s.awake.remove(p)
		s.live--
	case p.idle:
		s.awake.remove(p)
	default:
		s.awake.put(p)
	}
}

// isAwake says whether the source counts: it has a partition that is not idle, or its end was reached.
func (s *sourceMark) isAwake() bool {
	return len(s.awake.items) > 0 || s.live == 0 && !s.empty
}

// now gives the least W of its partitions that are not idle.
func (s *sourceMark) now() row.Time {
	switch p := s.awake.least(); {
	case p != nil:
		return p.w
	case s.live == 0 && (s.parts > 0 || s.fixed):
		return row.MaxTime // all have ended
	}
	return row.MinTime
}

// floor gives the least W of the other partitions of p's source that are not idle.
func (m *watermarks) floor(p *partition) row.Time {
	h := &m.sources[p.source].awake
	q := h.least()
	if q == p {
		q = h.second()
	}
	if q == nil {
		return row.MaxTime
	}
	return q.w
}

// settle works out all watermarks as they stand now.
func (m *watermarks) settle() {
	for i := range m.sources {
		if s := &m.sources[i]; s.isAwake() {
			s.stood = max(s.stood, s.now())
		}
	}
	for d := range m.sets {
		if w, awake := m.least(d, -1); awake {
			m.sets[d].stood = max(m.sets[d].stood, w)
		}
	}
}

// least gives the least W of a set's sources that are awake, leaving one of them out (-1 for none); false
// where there is none.
func (m *watermarks) least(set, without int) (row.Time, bool) {
	w, some := row.MaxTime, false
	for _, d := range m.e.p.domains[set] {
		if s := &m.sources[d.source]; d.source != without && s.isAwake() {
			w, some = min(w, s.stood.Minus(d.back)), true
		}
	}
	return w, some
}

// ofSources gives the watermark of each source.
func (m *watermarks) ofSources(dst []row.Time) []row.Time {
	for i := range m.sources {
		dst = append(dst, m.sources[i].stood)
	}
	return dst
}

// asleep says of each set whether all of its sources are idle.
func (m *watermarks) asleep(dst []bool) []bool {
	for d := range m.sets {
		_, awake := m.least(d, -1)
		dst = append(dst, !awake)
	}
	return dst
}

// ofSets gives that of each set.
func (m *watermarks) ofSets(dst []row.Time) []row.Time {
	for i := range m.sets {
		dst = append(dst, m.sets[i].stood)
	}
	return dst
}

// stamp works out, for each set, the watermark that stood before each event of t, whose source's own
// running watermark is own.
func (m *watermarks) stamp(t *turn, own []row.Time) {
	for len(t.marks) < len(m.sets) {
		t.marks = append(t.marks, nil)
	}
	for d := range m.sets {
		stood := m.sets[d].stood
		marks := slices.Grow(t.marks[d][:0], len(own))[:len(own)]
		if of, reads := m.e.p.domains[d].of(t.part.source); reads {
			others, _ := m.least(d, t.part.source)
			for i, w := range own {
				marks[i] = max(stood, min(w.Minus(of.back), others))
			}
		} else {
			for i := range marks {
				marks[i] = stood
			}
		}
		t.marks[d] = marks
	}
}

// carriedMarks gives, as [RunningMarks] does, the watermark of the source that stood before each event of a chunk that brings those of its writer, at least one, and how far the
// partition is behind them. own is how far it was before.
func carriedMarks(marks []row.Time, c *Chunk, own, stood, floor row.Time) ([]row.Time, row.Time) {
	for _, m := range c.Marks {
		own = max(own, m)
		marks = append(marks, max(stood, min(floor, own)))
	}
	if len(marks) == 0 {
		marks = append(marks, max(stood, min(floor, own)))
	}
	return marks, max(own, c.After)
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
