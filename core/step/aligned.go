package step

import (
	"sort"

	"fmt"
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// alignedLane is the state of tumbling and sliding windows in one lane. A row is added to its slice once; a window
// joins the largest whole nodes of slices within it (docs/time.md, "Same input, same output").
type alignedLane struct {
	timeline
	revisions
	dict   *state.Dict
	counts LaneCounts
	late   lateRows
	pub    *publisher

	// mark: every window with an end at or before it was closed. It means nothing before the first turn, which says where
	// the watermark stands.
	mark row.Time
	next row.Time // the end of the window that closes next; row.MaxTime for none

	table *state.Table // of the slices
	// shownTable is that of what was published, where windows may have several rows.
	shownTable *state.Table
	behind     *behind

	several bool     // a window may have several rows
	hold    row.Time // how long a closed window is kept
	beats   beats

	// rows that were given a slice and not yet added, and scratch for it
	ids, ids2    []uint32
	starts, fill []int
	rows, rows2  []uint16
	taken        []uint16 // their positions in the exchange, where keys are found together
	touched      []*slice
	ordinal      []uint16
	due          due
}

func newAlignedLane(d *Window, o LaneOptions) *alignedLane {
	l := &alignedLane{timeline: newTimeline(d, o.Keeps), dict: state.NewDict(), late: newLateRows(d.spec.Input), mark: row.MinTime, next: row.MaxTime,
		several: d.Revisions(), hold: row.Time(max(d.Accept, d.RepeatKeep).Microseconds()), beats: newBeats(d)}
	l.moment, l.table, l.behind = 1, d.sliceTable(), newBehind(o)
	if l.several {
		l.shown, l.shownTable = map[int64]*shownWindow{}, d.shownTable()
	}
	l.pub = newPublisher(d, o, &l.counts)
	return l
}

func (l *alignedLane) Counts() *LaneCounts { return &l.counts }

func (l *alignedLane) Held() Held {
	h := Held{Keys: l.dict.Len(), Rows: l.cold, Bytes: l.dict.Bytes() + l.held + 16*(cap(l.owed)+cap(l.preview)), Next: l.next}
	for _, sh := range l.shown {
		h.Bytes += 48 * len(sh.by)
	}
	for _, s := range l.open {
		h.Rows += s.keys
	}
	if n := len(l.open); n > 0 {
		first := l.firstUnclosed()
		closed := sort.Search(n, func(i int) bool { return l.open[i].last >= first })
		h.Windows = n - closed
		if !l.w.Tumbles() {
			h.Windows = max(0, int(l.open[n-1].last-max(l.open[0].first, first)+1))
		}
		if l.hold > 0 {
			h.Kept = closed
		}
	}
	return h
}

// begin takes the watermark that stands before the first turn: what ends before it was closed, by the run
// that the state comes from.
func (l *alignedLane) begin(t *Turn) {
	if l.beats.begin(t.Now) {
		l.mark = t.Marks[0]
		l.findNext()
	}
}

// beyond gives t + d without passing the end of time.
func beyond(t, d row.Time) row.Time {
	if t == row.MinTime || t == row.MaxTime || t > row.MaxTime-d {
		return t
	}
	return t + d
}

// Take adds the lane's rows. Before a row is added, what its watermark closes is closed: a later row may
// be late for one window of a slice and in time for another. Windows that tumble and have one row each
// need not ask: a closed one takes no row, so a turn's closings can follow its rows.
func (l *alignedLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.begin(t)
	ordered := l.several || !l.w.Tumbles()
	accept := row.Time(l.def.Accept.Microseconds())
	var cur *slice
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		at := x.Times[r]
		mark := t.Marks[x.Index[r]]
		if ordered && mark > l.mark {
			if mark >= l.next || l.owes() {
				l.flush(x)
				l.advance(mark, t, out)
				l.Bring(x, lane, t) // what was let go meanwhile
				cur = nil
			}
			l.mark = mark
		}
		if cur == nil || at < cur.start || at >= cur.end {
			n := l.w.SliceOf(at)
			if l.w.End(l.lastOf(n))+accept <= mark {
				l.late.add(x, int(r), mark, &l.counts)
				continue
			}
			cur = l.find(n)
			if cur.ordinal < 0 {
				cur.ordinal = len(l.touched)
				l.touched = append(l.touched, cur)
			}
		} else if cur.lastEnd+accept <= mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		if l.several {
			id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
			l.ids = append(l.ids, id)
			l.note(cur, id, mark)
		} else {
			l.taken = append(l.taken, j) // their keys are found together
		}
		l.rows = append(l.rows, r)
		l.ordinal = append(l.ordinal, uint16(cur.ordinal))
		if cur.firstEnd <= mark {
			if cur.firstEnd+accept <= mark {
				l.counts.Partial++
			} else {
				l.counts.Accepted++
			}
		}
	}
	l.flush(x)
	l.late.flush(out)
}

func (l *alignedLane) lastOf(slice int64) int64 {
	_, last := l.w.Windows(slice)
	return last
}

// flush adds the gathered rows to their slices, sorted so that every slice's columns are passed once.
func (l *alignedLane) flush(x *Exchange) {
	l.ids = l.dict.PutAll(&x.Keys, l.taken, l.ids)
	l.counts.Used += int64(len(l.ids))
	switch len(l.touched) {
	case 0:
	case 1:
		l.addTo(l.touched[0], x, l.ids, l.rows)
	default:
		l.addGrouped(x)
	}
	for _, s := range l.touched {
		s.ordinal = -1
	}
	l.ids, l.taken, l.rows, l.ordinal, l.touched = l.ids[:0], l.taken[:0], l.rows[:0], l.ordinal[:0], l.touched[:0]
	l.findNext()
}

func (l *alignedLane) addTo(s *slice, x *Exchange, ids []uint32, rows []uint16) {
	moment := int64(0)
	if l.def.RepeatEvery > 0 {
		moment = l.moment
	}
	l.add(s, x, ids, rows, l.dict.Len(), moment)
}

// find gives the open slice of this number, made if need be.
func (l *alignedLane) find(n int64) *slice {
	s, made := l.timeline.find(n, l.dict.Len())
	if made {
		l.findNext()
	}
	return s
}

func (l *alignedLane) addGrouped(x *Exchange) {
	starts := append(l.starts[:0], make([]int, len(l.touched)+1)...)
	for _, o := range l.ordinal {
		starts[o+1]++
	}
	for i := 1; i < len(starts); i++ {
		starts[i] += starts[i-1]
	}
	l.ids2 = append(l.ids2[:0], l.ids...)
	l.rows2 = append(l.rows2[:0], l.rows...)
	fill := append(l.fill[:0], starts...)
	l.starts, l.fill = starts, fill
	for i, o := range l.ordinal {
		l.ids[fill[o]], l.rows[fill[o]] = l.ids2[i], l.rows2[i]
		fill[o]++
	}
	for i, s := range l.touched {
		l.addTo(s, x, l.ids[starts[i]:starts[i+1]], l.rows[starts[i]:starts[i+1]])
	}
}

// firstUnclosed gives the first window that ends after mark.
func (l *alignedLane) firstUnclosed() int64 {
	if l.mark < row.FirstTime {
		return l.open[0].first
	}
	if l.mark > row.LastTime+row.Time(1<<56) { // the end
		return l.open[len(l.open)-1].last + 1
	}
	first, _ := l.w.Windows(l.w.SliceOf(l.mark))
	return first
}

func (l *alignedLane) findNext() {
	l.next = row.MaxTime
	if len(l.open) > 0 {
		if k, ok := l.nextWindow(l.firstUnclosed()); ok {
			l.next = l.w.End(k)
		}
	}
}

// Move closes what the turn's watermark has passed, and publishes what is due by the clock.
func (l *alignedLane) Move(t *Turn, out Out) {
	l.begin(t)
	before := l.mark
	l.advance(t.After, t, out)
	if !l.several {
		return
	}
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
	l.drop(l.mark)
}

// advance publishes corrections that are owed, then closes every window with an end up to mark, in order.
func (l *alignedLane) advance(mark row.Time, t *Turn, out Out) {
	if l.owes() && mark > l.owedMark {
		l.publishCorrections(t, out)
	}
	if mark <= l.mark {
		return
	}
	if mark < l.next || len(l.open) == 0 {
		l.mark = mark
		return
	}
	closed := 0
	for k, ok := l.nextWindow(l.firstUnclosed()); ok && l.w.End(k) <= mark; k, ok = l.nextWindow(k + 1) {
		l.publishWindow(k, t, out)
		if !l.several && l.w.Tumbles() { // its one slice is not needed again, and the next is soon found
			closed += l.close(1, l.dict.Len())
		}
	}
	l.mark = mark
	l.findNext()
	if !l.several {
		l.drop(mark)
	}
	if closed > 0 {
		l.forget(closed)
	}
}

// publishWindow publishes the closing rows of a window.
func (l *alignedLane) publishWindow(k int64, t *Turn, out Out) {
	l.inParts(k, func(first, last int) {
		b := l.contents(k, l.dict.Len())
		if b == nil {
			return
		}
		l.due.reset()
		l.all(k, b, t.Passed(l.w.End(k)), first, last)
		l.counts.LeftOut += b.leftOut(l.due.acc)
		if l.several {
			l.publishShown(k, b, true, out)
		} else {
			l.pub.publish(&l.due, &b.accs, l.dict, out, nil)
		}
	})
}

// all makes every key of a window due whose share is from first to last.
func (l *alignedLane) all(k int64, b *bag, index uint16, first, last int) {
	d := &l.due
	d.of(l.w.Start(k), l.w.End(k), index)
	some := first > 0 || last < state.Shares-1
	d.acc = slices.Grow(d.acc, len(b.rows))[:len(b.rows)]
	n := 0
	for slot, rows := range b.rows {
		d.acc[n] = uint32(slot)
		if rows > 0 {
			n++
		}
	}
	if d.acc = d.acc[:n]; some {
		d.acc = slices.DeleteFunc(d.acc, func(slot uint32) bool {
			share := int(state.ShareOf(l.dict.Hash(b.key(slot))))
			return share < first || share > last
		})
	}
	d.first = len(d.acc) == len(b.rows)
	if b.narrow {
		for _, slot := range d.acc {
			d.key = append(d.key, b.ids[slot])
		}
	} else {
		d.key = append(d.key, d.acc...)
	}
	if l.several {
		for _, key := range d.key {
			d.slot = append(d.slot, int(key))
		}
	}
}

// drop forgets slices that no window needs any more.
func (l *alignedLane) drop(mark row.Time) {
	n := 0
	for n < len(l.open) && beyond(l.open[n].lastEnd, l.hold) <= mark {
		n++
	}
	if n == 0 {
		return
	}
	closed := l.close(n, l.dict.Len())
	for k := range l.shown {
		if beyond(l.w.End(k), l.hold) <= mark {
			delete(l.shown, k)
		}
	}
	l.findNext()
	l.prune()
	l.forget(closed)
}

// forget drops the keys that no open slice holds, once they are the greater part: memory follows
// open windows and keys. A population that stays as it was is never rebuilt.
func (l *alignedLane) forget(closed int) {
	held := closed
	for _, s := range l.open {
		held += s.keys
	}
	if !rebuilds(l.dict.Len(), held) {
		return
	}
	r := rekey(l.dict, func(mark []bool) {
		l.live(mark)
		if l.cold > 0 { // a key that lies in the store alone may be published again
			l.revisions.known(mark)
		}
	})
	l.dict = r.dict
	l.rekeyRevisions(&r)
	l.renumber(r.alive, r.to, r.dict.Len())
}

// sliceTable declares the slices; a tumbling window is a slice. Where windows may have several rows, it says what is to
// be published again for a key of a slice: see [revisions].
func (d *Window) sliceTable() *state.Table {
	t := &state.Table{Span: "slice_start", Key: d.spec.KeySchema()}
	if d.Aligned.Tumbles() {
		t.Span = "window_start"
	}
	if d.Revisions() {
		t.Columns = row.Schema{{Name: "in_preview", Kind: row.Bool}, {Name: "owed_under", Kind: row.Timestamp}, {Name: "added", Kind: row.Int}}
	}
	t.Columns = append(t.Columns, d.spec.accSchema()...)
	return t
}

// shownTable declares what was published of each window and key.
func (d *Window) shownTable() *state.Table {
	return &state.Table{Name: "shown", Span: "window_start", Key: d.spec.KeySchema(),
		Columns: row.Schema{{Name: "next_revision", Kind: row.Int}, {Name: "standing", Kind: row.Bool}, {Name: "looked_at", Kind: row.Int}}}
}

// firstKept gives the first window that is not dropped when the watermark stands at mark: at negative or positive
// infinity false.
func (l *alignedLane) firstKept() (int64, bool) {
	if l.mark < row.FirstTime || l.mark > row.LastTime+row.Time(1<<56) {
		return 0, false
	}
	first, _ := l.w.Windows(l.w.SliceOf(max(l.mark-l.hold, row.FirstTime)))
	return first, true
}

// Freeze copies the slices' keys that changed, and what was published of windows.
func (l *alignedLane) Freeze() []*state.Changes {
	out := []*state.Changes{state.NewChanges(l.table)}
	if l.several {
		out = append(out, state.NewChanges(l.shownTable))
	}
	if k, ok := l.firstKept(); ok {
		from, _ := l.w.Slices(k)
		out[0].Passed = l.w.SliceStart(from)
		if l.several {
			out[1].Passed = l.w.Start(k)
		}
	} else if l.mark > 0 {
		for _, c := range out {
			c.Passed = row.MaxTime
		}
	}
	for _, s := range l.open {
		l.freezeSlice(s, out[0])
	}
	if l.several {
		l.freezeShown(out[1])
	}
	return out
}

// freezeSlice copies the keys of a slice that changed, several at a time.
func (l *alignedLane) freezeSlice(s *slice, c *state.Changes) {
	slots, keys := l.ids[:0], l.ids2[:0]
	give := func() {
		cols := c.PutAll(l.dict, keys, s.start)
		if l.several {
			for i, slot := range slots {
				l.saveNews(cols, s, keys[i], slot)
			}
			cols = cols[3:]
		}
		s.saveAll(cols, slots)
		slots, keys = slots[:0], keys[:0]
	}
	s.changed.Each(func(slot uint32) {
		if s.rows[slot] == 0 {
			return
		}
		slots, keys = append(slots, slot), append(keys, s.key(slot))
		if len(slots) == row.MaxRows {
			give()
		}
	})
	if len(slots) > 0 {
		give()
	}
	l.ids, l.ids2 = slots, keys
	s.sent.Join(&s.changed)
	s.changed.Clear()
}

// Written implements [Lane].
func (l *alignedLane) Written() {
	for _, s := range l.open {
		s.sent.Clear()
	}
}

// Load takes slices and what was published.
func (l *alignedLane) Load(table int, r *state.Rows) error {
	if table == 1 {
		return l.loadShown(r)
	}
	return keysOf(r, l.dict, func(i int, id uint32) error {
		s := l.find(l.w.SliceOf(r.Span[i]))
		if s.start != r.Span[i] {
			return fmt.Errorf("the state has a window that begins at %s, which the step does not make: the document has changed", r.Span[i])
		}
		slot := s.put(id, l.dict.Len())
		cols := r.Cols
		if l.several {
			l.loadNews(cols, i, s, id, slot)
			cols = cols[3:]
		}
		if err := s.load(cols, i, slot); err != nil {
			return err
		}
		s.fit(l.dict.Len())
		l.count(s)
		l.forgetNodes(s.n)
		return nil
	})
}
