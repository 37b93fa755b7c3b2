package step

import (
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// sessionLane is the state of sessions in one lane: for each key a short list of sessions in order of
// their start, whose accumulators have the session's number (docs/time.md, "Windows").
type sessionLane struct {
	def     *Window
	gap     row.Time
	longest row.Time // row.MaxTime for no bound
	accept  row.Time
	hold    row.Time
	several bool

	dict     *state.Dict
	first    []uint32 // by key: its first session + 1, 0 for none
	sessions []session
	free     []uint32
	live     int
	open     int // of those that live: pending; the others are kept for late rows
	accs     *accs
	queue    *dues // of sessions, by when something is due
	mark     row.Time
	beats    beats
	counts   LaneCounts
	late     lateRows
	pub      *publisher

	preview []uint32

	keeps  bool
	number int64     // of the session that was made last
	dirty  state.Set // sessions that changed since the last mark
	sent   state.Set // that were frozen and are not yet in the store
	next   *state.Changes
	cold   cold
	// leaving are keys of which a session was dropped that the store has still: since the last mark, and on its way.
	leaving, onTheWay state.Set

	keys    []uint32 // by row of Take: its key
	fetched row.Time
	taken   []dueAt
	// rows that were given a session and not yet added
	ids  []uint32
	rows []uint16

	over      []uint32 // sessions that overlap the row at hand
	gone      []uint32 // that may be forgotten at the turn's end
	closing   []closing
	ended     []ended
	inOrder   []dueAt // of ended, and scratch to sort them
	spare     []dueAt
	due       due
	decisions []decision
}

// session takes one line of the processor's cache, 64 bytes: of 100,000 of them any may be next, and what each row waits for most is
// that line.
type session struct {
	key         uint32
	next        uint32 // the key's next session + 1
	start, last row.Time
	// readUnder is the watermark under which a session was last changed when its span was already past: it is
	// published once the watermark moves beyond. row.MinTime else.
	readUnder row.Time
	queued    row.Time // when its entry in the queue is due
	pending   bool     // a closing row or correction is to be published
	closed    bool     // it was closed: its closing row was published
	used      bool

	changed   bool // rows were added since the last row
	inPreview bool
	stored    bool  // the store has it
	number    int64 // tells the sessions of a key apart in a store
	shownAt   *[]identity
}

const sessionBytes = 64

// shown are the bounds that rows were published under; none unless windows may have several rows.
func (s *session) shown() []identity {
	if s.shownAt == nil {
		return nil
	}
	return *s.shownAt
}

func (s *session) setShown(list []identity) {
	if s.shownAt == nil && len(list) == 0 {
		return
	}
	s.shownAt = &list
}

// identity is a row that was published under a start and end.
type identity struct {
	start, end row.Time
	published
}

type closing struct {
	n     uint32
	index uint16
}

// ended is a session that is gone but for its accumulators, whose row is about to be published.
type ended struct {
	start, end row.Time
	key, n     uint32
}

type decision struct {
	n     uint32
	shown int // the identity that is withdrawn, or -1 for the session's row
}

func newSessionLane(d *Window, o LaneOptions) *sessionLane {
	table := d.sessionTable()
	l := &sessionLane{def: d, keeps: o.Keeps, next: state.NewChanges(table), gap: row.Time(d.Session.Gap.Microseconds()), longest: row.MaxTime, accept: row.Time(d.Accept.Microseconds()),
		hold: row.Time(max(d.Accept, d.RepeatKeep).Microseconds()), several: d.Revisions(), dict: state.NewDict(), accs: newAccs(&d.spec), queue: newDues(), mark: row.MinTime, late: newLateRows(d.spec.Input), beats: newBeats(d)}
	if d.Session.Longest > 0 {
		l.longest = row.Time(d.Session.Longest.Microseconds())
	}
	l.pub = newPublisher(d, o, &l.counts)
	l.cold = newCold(o, table, true, keyFinder{func() *state.Dict { return l.dict }, func(key uint32) bool {
		return int(key) < len(l.first) && l.first[key] != 0 || l.leaving.Has(key) || l.onTheWay.Has(key)
	}, l.Load})
	return l
}

func (l *sessionLane) Counts() *LaneCounts { return &l.counts }

func (l *sessionLane) Held() Held {
	return Held{Windows: l.open + l.cold.rows, Kept: l.live - l.open, Rows: l.live + l.cold.rows, Keys: l.dict.Len(), Bytes: l.dict.Bytes() + 4*cap(l.first) + sessionBytes*cap(l.sessions) + l.queue.bytes() + 4*cap(l.free) + l.dirty.Bytes() + l.sent.Bytes() + l.cold.bytes() + l.accs.bytes(), Next: l.nextDue()}
}

func (l *sessionLane) end(s *session) row.Time { return s.last + l.gap }

// dueAt is when a session's row is to be published.
func (l *sessionLane) dueAt(s *session) row.Time {
	if s.readUnder != row.MinTime {
		return max(l.end(s), s.readUnder+1)
	}
	return l.end(s)
}

func (l *sessionLane) begin(t *Turn) {
	if l.beats.begin(t.Now) {
		l.mark = t.Marks[0]
	}
}

// Take adds the lane's rows. Where closed sessions are kept, what a row's watermark closes is published
// before the row is added; else a closed session takes no row, and closings can follow a turn's rows.
func (l *sessionLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.begin(t)
	l.keys = l.keys[:0]
	if !l.several { // then no key is let go in between
		l.keys = l.dict.PutAll(&x.Keys, x.Lanes[lane], l.keys)
	}
	for n, j := range x.Lanes[lane] {
		if n%fetchedAtOnce == 0 && !l.several {
			l.fetch(l.keys[n:min(n+fetchedAtOnce, len(l.keys))])
		}
		r := x.Sel[j]
		at := x.Times[r]
		mark := t.Marks[x.Index[r]]
		if l.several && mark > l.mark && mark >= l.nextDue() {
			l.flush(x)
			l.advance(mark, t, out)
			l.Bring(x, lane, t) // what was let go meanwhile
		}
		var key uint32
		if l.several {
			key = l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		} else {
			key = l.keys[n]
		}
		for int(key) >= len(l.first) {
			l.first = append(l.first, 0)
		}
		into, ok := l.join(x, key, at, mark)
		if !ok {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		l.ids = append(l.ids, into)
		l.rows = append(l.rows, r)
		l.touch(into)
		if s := &l.sessions[into]; l.several {
			s.changed = true
			if l.def.Revised && l.end(s) > mark && !s.inPreview {
				s.inPreview = true
				l.preview = append(l.preview, into)
			}
		}
	}
	l.flush(x)
	l.late.flush(out)
}

// fetchedAtOnce is how many sessions are fetched before they are looked at: as many as stay in the processor's first cache, 16 KiB.
const fetchedAtOnce = 128

// fetch reads a little of what some rows will need: their keys' first sessions, which lie anywhere in memory. None of these reads waits for another,
// so the processor has many under way at once; within join each would be waited for alone.
func (l *sessionLane) fetch(keys []uint32) {
	for len(l.first) < l.dict.Len() {
		l.first = append(l.first, 0)
	}
	var sum row.Time
	for _, key := range keys {
		if n := l.first[key]; n != 0 {
			sum += l.sessions[n-1].last
		}
	}
	l.fetched = sum // so that the reads are not left out
}

func (l *sessionLane) flush(x *Exchange) {
	l.counts.Used += int64(len(l.ids))
	if len(l.ids) > 0 {
		l.accs.grow(len(l.sessions))
		l.accs.add(x, l.ids, l.rows)
		l.ids, l.rows = l.ids[:0], l.rows[:0]
	}
}

// join finds the session for a row of time at, read under mark; false when the row is lost.
func (l *sessionLane) join(x *Exchange, key uint32, at, mark row.Time) (uint32, bool) {
	l.findOver(key, at, mark)
	if n, ok := l.joinOne(at, mark); ok {
		return n, true
	}
	n, found, wasOpen := l.mergeOver(x, key, at, mark)
	if !found && at+l.gap+l.accept <= mark {
		return 0, false
	}
	if at+l.gap <= mark && !wasOpen { // its own span is past, and so is that of what it joins
		l.counts.Accepted++
	}
	if !found {
		n = l.alloc(key, at)
	}
	l.link(key, n)
	s := &l.sessions[n]
	l.await(s, true)
	s.readUnder = row.MinTime
	if l.end(s) <= mark {
		s.readUnder = mark
	}
	if due := l.dueAt(s); due < s.queued {
		s.queued = due
		l.queue.push(due, n)
	}
	return n, true
}

// findOver finds the key's sessions that a row of time at may join: those that overlap its span of [at, at+gap), and take
// rows under mark still.
func (l *sessionLane) findOver(key uint32, at, mark row.Time) {
	l.over = l.over[:0]
	for n := l.first[key]; n != 0; n = l.sessions[n-1].next {
		s := &l.sessions[n-1]
		end := l.end(s)
		if s.start < at+l.gap && at < end && end+l.accept > mark {
			l.over = append(l.over, n-1)
		}
	}
}

// joinOne joins a row with the one session that it overlaps, where that is open, begins before it and does not become too
// long: the usual case, in which nothing but the session's end moves.
func (l *sessionLane) joinOne(at, mark row.Time) (uint32, bool) {
	if len(l.over) != 1 {
		return 0, false
	}
	n := l.over[0]
	s := &l.sessions[n]
	if l.end(s) <= mark || at < s.start || max(at, s.last)+l.gap-s.start > l.longest {
		return 0, false
	}
	s.last = max(s.last, at)
	l.await(s, true)
	s.readUnder = row.MinTime
	return n, true
}

// mergeOver lets a row join the first session, in order of start, that does not become longer than `longest`, and merges
// into it those after it while that still holds. The session that it gives is out of its key's list; wasOpen says that
// the watermark had not passed it.
//
// With a gap of 10 and no bound, sessions [0, 12) and [20, 35) and a row at 11 become one, [0, 35): the row's span [11, 21)
// overlaps both.
func (l *sessionLane) mergeOver(x *Exchange, key uint32, at, mark row.Time) (into uint32, found, wasOpen bool) {
	for _, n := range l.over {
		s := &l.sessions[n]
		if !found {
			start, last := min(s.start, at), max(s.last, at)
			if last+l.gap-start > l.longest {
				continue
			}
			into, found, wasOpen = n, true, l.end(s) > mark
			l.unlink(key, n)
			s.start, s.last = start, last
			continue
		}
		to := &l.sessions[into]
		start, last := min(to.start, s.start), max(to.last, s.last)
		if last+l.gap-start > l.longest {
			break
		}
		l.flush(x)
		l.unlink(key, n)
		to.start, to.last = start, last
		l.accs.grow(len(l.sessions))
		l.accs.merge(into, l.accs, n)
		to.setShown(append(to.shown(), s.shown()...))
		to.closed = to.closed || s.closed
		l.release(n)
	}
	return into, found, wasOpen
}

// touch notes that a session has changed.
func (l *sessionLane) touch(n uint32) {
	if l.keeps {
		l.dirty.Put(n)
	}
}

func (l *sessionLane) alloc(key uint32, at row.Time) uint32 {
	var n uint32
	if k := len(l.free); k > 0 {
		n, l.free = l.free[k-1], l.free[:k-1]
	} else {
		n = uint32(len(l.sessions))
		l.sessions = append(l.sessions, session{})
	}
	l.number++
	l.sessions[n] = session{key: key, start: at, last: at, used: true, readUnder: row.MinTime, queued: row.MaxTime, number: l.number}
	l.live++
	return n
}

// await notes whether something is to be published of a session when its time comes.
func (l *sessionLane) await(s *session, pending bool) {
	if pending != s.pending {
		if s.pending = pending; pending {
			l.open++
		} else {
			l.open--
		}
	}
}

// release empties a session that is in no list any more.
func (l *sessionLane) release(n uint32) {
	if int(n) < len(l.accs.rows) {
		l.accs.reset(n)
	}
	l.let(n)
}

// let does so but for the accumulators, which are to be emptied before the number is given again.
func (l *sessionLane) let(n uint32) {
	l.dirty.Remove(n)
	l.sent.Remove(n)
	if s := &l.sessions[n]; s.stored {
		l.leaving.Put(s.key)
		l.next.Drop(l.dict.Key(s.key), l.dict.Hash(s.key), 0, s.number)
	}
	l.await(&l.sessions[n], false)
	l.sessions[n] = session{}
	l.free = append(l.free, n)
	l.live--
}

func (l *sessionLane) unlink(key, n uint32) {
	for p := &l.first[key]; *p != 0; p = &l.sessions[*p-1].next {
		if *p == n+1 {
			*p = l.sessions[n].next
			return
		}
	}
}

// link puts a session into its key's list, by start.
func (l *sessionLane) link(key, n uint32) {
	p := &l.first[key]
	for *p != 0 && l.sessions[*p-1].start <= l.sessions[n].start {
		p = &l.sessions[*p-1].next
	}
	l.sessions[n].next = *p
	*p = n + 1
}

// Move publishes what the turn's watermark has made due.
func (l *sessionLane) Move(t *Turn, out Out) {
	l.begin(t)
	before := l.mark
	l.advance(t.After, t, out)
	if l.several {
		if l.beats.preview(t.Now) {
			l.publishPreviews(t, out)
		}
		if l.beats.repeat(t.Now, t.After == row.MaxTime && before < row.MaxTime) {
			from := l.mark
			if from == row.MaxTime {
				from = before
			}
			l.repeat(from, t, out)
		}
		l.drop()
	}
	l.forget()
}

// publishPreviews publishes the open sessions that got rows since the last beat.
func (l *sessionLane) publishPreviews(t *Turn, out Out) {
	l.closing = l.closing[:0]
	for _, n := range l.preview {
		s := &l.sessions[n]
		if s.used && s.inPreview && s.changed && l.end(s) > l.mark {
			l.closing = append(l.closing, closing{n, uint16(len(t.Marks) - 1)})
		}
		s.inPreview = false
	}
	l.preview = l.preview[:0]
	l.publish(out, false)
}

// nextDue gives the time at which something is due next.
func (l *sessionLane) nextDue() row.Time { return min(l.queue.next(), l.cold.due) }

// advance publishes the sessions whose row is due at or before mark, in order of end, start and key: those in the store
// alone in portions of time.
func (l *sessionLane) advance(mark row.Time, t *Turn, out Out) {
	if mark <= l.mark {
		return
	}
	l.cold.eachDue(mark, func(upTo row.Time) {
		if l.advanceTo(max(upTo, l.mark), t, out); upTo < mark {
			l.forget()
		}
	})
}

// takeDue takes out what is due up to mark; what the caller puts in meanwhile is due later.
func (l *sessionLane) takeDue(mark row.Time) []dueAt {
	if l.taken = l.taken[:0]; cap(l.taken) > 8*l.queue.held+1<<12 { // there have been far more
		l.taken = nil
	}
	if l.queue.next() > mark {
		return nil
	}
	l.taken = l.queue.take(mark, l.taken)
	l.queue.shrink()
	return l.taken
}

// eachDue calls do with each session of which something may be due up to mark.
func (l *sessionLane) eachDue(mark row.Time, do func(n uint32, s *session)) {
	for i, q := range l.takeDue(mark) {
		if i%fetchedAtOnce == 0 {
			l.fetchDue(l.taken[i:min(i+fetchedAtOnce, len(l.taken))])
		}
		if s := &l.sessions[q.n]; s.used && s.queued == q.at { // else it is gone, or due at another time
			do(q.n, s)
		}
	}
}

// fetchDue does as fetch for sessions that are due, and for their keys' lists.
func (l *sessionLane) fetchDue(some []dueAt) {
	var sum row.Time
	for _, q := range some {
		sum += l.sessions[q.n].queued
	}
	for _, q := range some {
		if s := &l.sessions[q.n]; s.used {
			sum += row.Time(l.first[s.key])
		}
	}
	l.fetched = sum
}

func (l *sessionLane) advanceTo(mark row.Time, t *Turn, out Out) {
	l.mark = mark
	if !l.several {
		l.endAll(mark, t, out)
		return
	}
	l.closing = l.closing[:0]
	l.eachDue(mark, func(n uint32, s *session) {
		s.queued = row.MaxTime
		due := l.dueAt(s)
		if !s.pending { // it was kept for late rows
			if due = beyond(l.end(s), l.hold); due > mark {
				s.queued = due
				l.queue.push(due, n)
			} else {
				l.gone = append(l.gone, n)
			}
			return
		}
		if due > mark {
			s.queued = due
			l.queue.push(due, n)
			return
		}
		l.await(s, false)
		l.touch(n)
		if s.closed && !s.changed { // a repeat has shown the correction meanwhile
			s.queued = beyond(l.end(s), l.hold)
			l.queue.push(s.queued, n)
			return
		}
		s.closed = true
		l.closing = append(l.closing, closing{n, t.Passed(due)})
	})
	if len(l.closing) == 0 {
		return
	}
	l.publish(out, true)
	for _, c := range l.closing {
		s := &l.sessions[c.n]
		s.queued = beyond(l.end(s), l.hold)
		l.queue.push(s.queued, c.n)
	}
}

// endAll does so where a session has one row, at its end, and is gone then: it takes no row any more that the watermark has passed. Each is looked at once:
// what is needed of it is taken along, and it is out of its key's list before its row is made.
func (l *sessionLane) endAll(mark row.Time, t *Turn, out Out) {
	l.ended = l.ended[:0]
	l.eachDue(mark, func(n uint32, s *session) {
		end := l.end(s)
		if end > mark {
			s.queued = end
			l.queue.push(end, n)
			return
		}
		l.ended = append(l.ended, ended{start: s.start, end: end, key: s.key, n: n})
		l.unlink(s.key, n)
		l.let(n)
	})
	if len(l.ended) == 0 {
		return
	}
	l.stageEnded(t)
	l.counts.LeftOut += l.accs.leftOut(l.due.acc)
	l.pub.publish(&l.due, l.accs, l.dict, out, nil)
	l.accs.resetAll(l.due.acc)
	if cap(l.ended) > 8*len(l.ended)+1<<16 { // there have been far more
		l.ended, l.inOrder, l.spare = nil, nil, nil
	}
}

// stageEnded makes the rows of ended due, in order of end, start and key. The later a session ends, the later is the event whose watermark passed
// it, so one pass finds them.
func (l *sessionLane) stageEnded(t *Turn) {
	order := l.inOrder[:0]
	for i, e := range l.ended {
		order = append(order, dueAt{e.end, uint32(i)})
	}
	order, l.spare = sortByTime(order, l.spare)
	l.inOrder = order
	for from := 0; from < len(order); {
		to := from + 1
		for to < len(order) && order[to].at == order[from].at {
			to++
		}
		if to-from > 1 {
			slices.SortFunc(order[from:to], func(a, b dueAt) int {
				p, q := &l.ended[a.n], &l.ended[b.n]
				if p.start != q.start {
					return sign(p.start - q.start)
				}
				return int(p.key) - int(q.key)
			})
		}
		from = to
	}
	index := 0
	d := &l.due
	d.reset()
	for _, o := range order {
		e := &l.ended[o.n]
		for index < len(t.Marks)-1 && t.Marks[index+1] < e.end { // as Passed finds it
			index++
		}
		d.acc, d.key, d.index = append(d.acc, e.n), append(d.key, e.key), append(d.index, uint16(index))
		d.starts, d.ends = append(d.starts, e.start), append(d.ends, e.end)
	}
}

// sign gives -1, 0 or 1.
func sign(t row.Time) int { return int(max(-1, min(1, t))) }

// publish makes the rows of the sessions in closing. What was published of one under another identity is
// withdrawn first.
func (l *sessionLane) publish(out Out, closed bool) {
	if len(l.closing) == 0 {
		return
	}
	slices.SortFunc(l.closing, func(a, b closing) int {
		p, q := &l.sessions[a.n], &l.sessions[b.n]
		switch {
		case a.index != b.index:
			return int(a.index) - int(b.index)
		case p.last != q.last:
			return sign(p.last - q.last)
		case p.start != q.start:
			return sign(p.start - q.start)
		}
		return int(p.key) - int(q.key)
	})
	d := &l.due
	d.reset()
	l.decisions = l.decisions[:0]
	for _, c := range l.closing {
		l.stage(c)
	}
	if closed {
		l.counts.LeftOut += l.accs.leftOut(d.acc)
	}
	l.pub.publish(d, l.accs, l.dict, out, func(at int, meets bool) verdict { return l.decide(l.decisions[at], meets, closed, false) })
	for _, c := range l.closing {
		l.sessions[c.n].tidy(l.gap)
	}
}

// tidy drops what was published under other bounds and is withdrawn by now. It does not come back: bounds only
// grow, and a row that would begin a session with the old ones joins this one.
func (s *session) tidy(gap row.Time) {
	s.setShown(slices.DeleteFunc(s.shown(), func(o identity) bool { return !o.standing && (o.start != s.start || o.end != s.last+gap) }))
}

// stage makes a session's row due, behind the withdrawals of what stands under another start or end.
func (l *sessionLane) stage(c closing) {
	s := &l.sessions[c.n]
	for i, o := range s.shown() {
		if o.standing && (o.start != s.start || o.end != l.end(s)) {
			l.add(s, c, o.start, o.end, i)
		}
	}
	l.add(s, c, s.start, l.end(s), -1)
}

func (l *sessionLane) add(s *session, c closing, start, end row.Time, shown int) {
	d := &l.due
	d.acc, d.key, d.index = append(d.acc, c.n), append(d.key, s.key), append(d.index, c.index)
	d.starts, d.ends = append(d.starts, start), append(d.ends, end)
	d.withdraw = append(d.withdraw, shown >= 0)
	d.slot = append(d.slot, len(l.decisions))
	l.decisions = append(l.decisions, decision{c.n, shown})
}

func (l *sessionLane) decide(d decision, meets, closed, again bool) verdict {
	s := &l.sessions[d.n]
	l.touch(d.n)
	if d.shown >= 0 {
		o := &s.shown()[d.shown]
		return o.row(false, o.end <= l.mark)
	}
	at := slices.IndexFunc(s.shown(), func(o identity) bool { return o.start == s.start && o.end == l.end(s) })
	if again && at >= 0 && !s.changed {
		return s.shown()[at].again(closed)
	}
	s.changed = false
	if at < 0 {
		if !meets {
			return verdict{}
		}
		s.setShown(append(s.shown(), identity{start: s.start, end: l.end(s)}))
		at = len(s.shown()) - 1
	}
	return s.shown()[at].row(meets, closed)
}

// repeat publishes a row for each kept session.
func (l *sessionLane) repeat(mark row.Time, t *Turn, out Out) {
	for _, closed := range []bool{true, false} {
		l.cold.inParts(func(first, last int) { l.repeatSome(mark, t, out, closed, first, last) })
	}
}

// repeatSome does so for the sessions, closed or open, of keys whose share is from first to last.
func (l *sessionLane) repeatSome(mark row.Time, t *Turn, out Out, closed bool, first, last int) {
	keep := row.Time(l.def.RepeatKeep.Microseconds())
	l.due.reset()
	l.decisions = l.decisions[:0]
	for n := range l.sessions {
		s := &l.sessions[n]
		if !s.used || beyond(l.end(s), keep) <= mark || l.end(s) <= l.mark != closed || !within(l.dict, s.key, first, last) {
			continue
		}
		l.stage(closing{uint32(n), uint16(len(t.Marks) - 1)})
	}
	l.pub.publish(&l.due, l.accs, l.dict, out, func(at int, meets bool) verdict { return l.decide(l.decisions[at], meets, closed, true) })
	for _, o := range l.decisions {
		l.sessions[o.n].tidy(l.gap)
	}
}

// drop forgets closed sessions that are kept no longer.
func (l *sessionLane) drop() {
	for _, n := range l.gone {
		s := &l.sessions[n]
		switch {
		case !s.used || s.queued != row.MaxTime: // gone, or something is due for it again
		case !s.pending && beyond(l.end(s), l.hold) <= l.mark:
			l.unlink(s.key, n)
			l.release(n)
		}
	}
	l.gone = l.gone[:0]
}

// forget gives memory back: that of keys without sessions, and that of sessions that are gone, once they are the
// greater part.
func (l *sessionLane) forget() {
	if rebuilds(l.dict.Len(), l.live) {
		l.forgetKeys()
	}
	if rebuilds(len(l.sessions), l.live) {
		l.compact()
	}
}

func (l *sessionLane) forgetKeys() {
	r := rekey(l.dict, func(mark []bool) {
		for k, n := range l.first {
			mark[k] = n != 0
		}
		keep := func(key uint32) { mark[key] = true }
		l.leaving.Each(keep)
		l.onTheWay.Each(keep)
	})
	for _, s := range []*state.Set{&l.leaving, &l.onTheWay} {
		*s = s.Moved(r.alive, r.to, r.dict.Len())
	}
	for n := range l.sessions {
		if s := &l.sessions[n]; s.used {
			s.key = r.to[s.key]
		}
	}
	l.dict, l.first = r.dict, moved(&r, l.first)
}

// compact gives the sessions new numbers without gaps, in the order of the old ones, so that those that are due
// at one time stay in theirs.
func (l *sessionLane) compact() {
	to := make([]uint32, len(l.sessions))
	sessions, accs := make([]session, 0, l.live), newAccs(&l.def.spec)
	accs.grow(l.live)
	for n := range l.sessions {
		if !l.sessions[n].used {
			continue
		}
		to[n] = uint32(len(sessions))
		sessions = append(sessions, l.sessions[n])
		accs.merge(to[n], l.accs, uint32(n))
	}
	link := func(n uint32) uint32 { // numbers in lists are one more
		if n == 0 {
			return 0
		}
		return to[n-1] + 1
	}
	for n := range sessions {
		sessions[n].next = link(sessions[n].next)
	}
	for k, n := range l.first {
		l.first[k] = link(n)
	}
	if cap(l.closing) > 8*len(l.closing)+1<<16 {
		l.closing = nil
	}
	queue := newDues()
	l.queue.each(func(q dueAt) {
		if s := &l.sessions[q.n]; s.used && s.queued == q.at {
			queue.push(q.at, to[q.n])
		}
	})
	renumber := func(list []uint32) []uint32 {
		kept := list[:0]
		for _, n := range list {
			if l.sessions[n].used {
				kept = append(kept, to[n])
			}
		}
		return kept
	}
	l.preview, l.gone = renumber(l.preview), renumber(l.gone)
	for _, s := range []*state.Set{&l.dirty, &l.sent} {
		var moved state.Set
		s.Each(func(n uint32) { moved.Put(to[n]) }) // what is released is not in it
		*s = moved
	}
	l.sessions, l.accs, l.queue, l.free = sessions, accs, queue, nil
}

// sessionTable declares the sessions, with what was published of each: lists of bounds, revisions, and whether the row
// stands. Number tells the sessions of a key apart.
func (d *Window) sessionTable() *state.Table {
	t := &state.Table{Key: d.spec.KeySchema(), Rest: row.Schema{{Name: "number", Kind: row.Int}}, Columns: row.Schema{
		{Name: "window_start", Kind: row.Timestamp}, {Name: "window_end", Kind: row.Timestamp}, {Name: "read_under", Kind: row.Timestamp},
		{Name: "pending", Kind: row.Bool}, {Name: "closed", Kind: row.Bool}, {Name: "changed", Kind: row.Bool}}}
	if d.Revisions() {
		t.Columns = append(t.Columns, row.Field{Name: "shown_starts", Kind: row.ListOf(row.Timestamp)}, row.Field{Name: "shown_ends", Kind: row.ListOf(row.Timestamp)},
			row.Field{Name: "next_revisions", Kind: row.ListOf(row.Int)}, row.Field{Name: "standing", Kind: row.ListOf(row.Bool)})
	}
	t.Columns = append(t.Columns, d.spec.accSchema()...)
	return t
}

// Freeze copies the sessions that changed.
func (l *sessionLane) Freeze() []*state.Changes {
	c := l.next
	l.next = state.NewChanges(c.Table)
	l.dirty.Each(func(n uint32) {
		s := &l.sessions[n]
		cols := c.Put(l.dict.Key(s.key), l.dict.Hash(s.key), 0, s.number)
		s.stored = true
		cols[0].AppendInt(int64(s.start))
		cols[1].AppendInt(int64(l.end(s)))
		if s.readUnder == row.MinTime {
			cols[2].AppendNull()
		} else {
			cols[2].AppendInt(int64(s.readUnder))
		}
		cols[3].AppendBool(s.pending)
		cols[4].AppendBool(s.closed)
		cols[5].AppendBool(s.changed)
		if cols = cols[6:]; l.several {
			saveIdentities(cols, s.shown())
			cols = cols[4:]
		}
		l.accs.save(cols, n)
	})
	l.sent.Join(&l.dirty)
	l.dirty.Clear()
	l.onTheWay.Join(&l.leaving)
	l.leaving.Clear()
	return []*state.Changes{c}
}

// Bring implements [Lane].
func (l *sessionLane) Bring(x *Exchange, lane int, _ *Turn) { l.cold.bring(x, lane) }

// Written implements [Lane].
func (l *sessionLane) Written() {
	l.sent.Clear()
	l.onTheWay.Clear()
}

// Shed lets go the keys of which the store has all sessions as they are. What waits for a preview stays.
func (l *sessionLane) Shed() {
	if l.cold.b == nil {
		return
	}
	any := false
	expect(&l.cold.filter, l.live)
	for key := range uint32(len(l.first)) {
		rows, due := 0, row.MaxTime
		stays := l.first[key] == 0 || l.leaving.Has(key) || l.onTheWay.Has(key)
		for n := l.first[key]; n != 0 && !stays; n = l.sessions[n-1].next {
			s := &l.sessions[n-1]
			stays = !s.stored || s.inPreview || s.queued == row.MaxTime || l.dirty.Has(n-1) || l.sent.Has(n-1)
			rows, due = rows+1, min(due, s.queued)
		}
		if stays {
			continue
		}
		any = true
		l.cold.let(l.dict.Key(key), l.dict.Hash(key), rows, due)
		for n := l.first[key]; n != 0; {
			next := l.sessions[n-1].next
			l.sessions[n-1].stored = false // it is not dropped
			l.release(n - 1)
			n = next
		}
		l.first[key] = 0
	}
	if l.cold.done(); any {
		l.forgetKeys()
		l.compact()
	}
}

// saveIdentities appends what was published of a session, as four lists.
func saveIdentities(cols []*row.Column, shown []identity) {
	one := func(v func(o identity) int64) []byte {
		c := row.Column{Kind: row.Int}
		var list []byte
		for _, o := range shown {
			c.I = append(c.I[:0], v(o))
			list = row.AppendElement(list, &c, 0)
		}
		return list
	}
	cols[0].AppendBytes(one(func(o identity) int64 { return int64(o.start) }))
	cols[1].AppendBytes(one(func(o identity) int64 { return int64(o.end) }))
	cols[2].AppendBytes(one(func(o identity) int64 { return int64(o.next) }))
	cols[3].AppendBytes(one(func(o identity) int64 { return int64(bit(o.standing)) }))
}

func loadIdentities(cols []*row.Column, i int) ([]identity, error) {
	var lists [4]row.Column
	for k := range lists {
		lists[k].Kind = row.Int
		if !row.Elements(row.ListOf(row.Int), cols[k].Bytes(i), nil, &lists[k], nil) || lists[k].Len() != lists[0].Len() {
			return nil, errState
		}
	}
	var out []identity
	for n := range lists[0].I {
		out = append(out, identity{row.Time(lists[0].I[n]), row.Time(lists[1].I[n]), published{int32(lists[2].I[n]), lists[3].I[n] != 0}})
	}
	return out, nil
}

// Load takes sessions.
func (l *sessionLane) Load(_ int, r *state.Rows) error {
	return keysOf(r, l.dict, func(i int, id uint32) error {
		for int(id) >= len(l.first) {
			l.first = append(l.first, 0)
		}
		cols := r.Cols
		n := l.alloc(id, row.Time(cols[0].I[i]))
		s := &l.sessions[n]
		s.stored, s.number = l.keeps, r.Rest[0][i]
		l.number = max(l.number, s.number)
		s.last = row.Time(cols[1].I[i]) - l.gap
		if !cols[2].IsNull(i) {
			s.readUnder = row.Time(cols[2].I[i])
		}
		l.await(s, cols[3].I[i] != 0)
		s.closed, s.changed = cols[4].I[i] != 0, cols[5].I[i] != 0
		if s.changed && s.pending && l.def.Revised {
			s.inPreview = true
			l.preview = append(l.preview, n)
		}
		if cols = cols[6:]; l.several {
			shown, err := loadIdentities(cols, i)
			if err != nil {
				return err
			}
			s.setShown(shown)
			cols = cols[4:]
		}
		l.link(id, n)
		s.queued = l.dueAt(s)
		l.queue.push(s.queued, n)
		l.accs.grow(len(l.sessions))
		return l.accs.load(cols, i, n)
	})
}
