package step

import (
	"fmt"
	"math/bits"
	"slices"
	"sort"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// alignedLane is the state of tumbling and sliding windows in one lane: for each open slice of time
// columns of accumulators (window-major). A row is added to its slice once; a window joins the largest
// whole nodes of slices within it (docs/time.md, "Same input, same output").
type alignedLane struct {
	def    *Window
	w      window.Aligned
	dict   *state.Dict
	open   []*slice // by number
	spare  []*slice // cleared, for reuse
	nodes  map[node]*accs
	levels int     // of nodes within a window
	unused []*accs // nodes that are gone, cleared
	sum    *accs   // of the window at hand
	counts LaneCounts
	late   lateRows
	pub    *publisher

	// mark: every window with an end at or before it was closed; begun is false until the first turn says
	// where the watermark stands.
	mark  row.Time
	begun bool
	next  row.Time // the end of the window that closes next; row.MaxTime for none

	// several rows for a window
	several   bool
	hold      row.Time // how long a closed window is kept
	shown     map[int64]*shownWindow
	owed      []owed // corrections to be published once the watermark moves beyond owedMark
	owedMark  row.Time
	preview   []owed
	nextBeat  row.Time // of previews
	nextAgain row.Time // of repeats

	// scratch
	ids, ids2    []uint32
	starts, fill []int
	rows, rows2  []uint16
	touched      []*slice
	ordinal      []uint16
	due          due
}

// slice is the accumulators of one piece of the time line.
type slice struct {
	accs
	n           int64
	start, end  row.Time
	first, last int64    // windows that it is part of
	firstEnd    row.Time // of the first of them
	lastEnd     row.Time
	ordinal     int // among the slices touched since the last flush, or -1
}

// node is a run of 2^level slices that begins at a multiple of its length.
type node struct {
	level int
	at    int64
}

// shownWindow is what was published of a window, by key.
type shownWindow struct {
	next  []int32 // the next revision
	flags []uint8
}

const (
	standing uint8 = 1 << iota // a row was published and not withdrawn
	isOwed                     // a correction is owed
	changed                    // rows were added since the last row
	inPreview
)

type owed struct {
	window int64
	key    uint32
}

func (s *shownWindow) grow(n int) {
	for len(s.next) < n {
		s.next = append(s.next, 0)
		s.flags = append(s.flags, 0)
	}
}

func newAlignedLane(d *Window, ordered bool) *alignedLane {
	l := &alignedLane{def: d, w: *d.Aligned, dict: state.NewDict(), nodes: map[node]*accs{}, late: newLateRows(d.LateSchema()), mark: row.MinTime, next: row.MaxTime,
		several: d.Revisions(), hold: row.Time(max(d.Accept, d.RepeatKeep).Microseconds()), sum: newAccs(&d.spec)}
	if l.several {
		l.shown = map[int64]*shownWindow{}
	}
	from, to := l.w.Slices(0)
	l.levels = bits.Len64(uint64(to - from))
	l.pub = newPublisher(d, ordered, &l.counts)
	return l
}

func (l *alignedLane) Counts() *LaneCounts { return &l.counts }

func (l *alignedLane) Held() Held {
	h := Held{Keys: l.dict.Len(), Bytes: l.dict.Bytes(), Next: l.next}
	for _, s := range l.open {
		h.Bytes += s.bytes()
	}
	for _, a := range l.nodes {
		h.Bytes += a.bytes()
	}
	if n := len(l.open); n > 0 {
		h.Windows = n
		if !l.w.Tumbles() {
			h.Windows = int(l.open[n-1].last - max(l.open[0].first, l.firstUnclosed()) + 1)
		}
	}
	return h
}

// begin takes the watermark that stands before the first turn: what ends before it was closed, by the run
// that the state comes from.
func (l *alignedLane) begin(t *Turn) {
	if !l.begun {
		l.begun, l.mark = true, t.Marks[0]
		l.nextBeat, l.nextAgain = t.Now+row.Time(l.def.Every.Microseconds()), t.Now+row.Time(l.def.RepeatEvery.Microseconds())
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
			if mark >= l.next || len(l.owed) > 0 {
				l.flush(x)
				l.advance(mark, t, out)
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
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		l.ids = append(l.ids, id)
		l.rows = append(l.rows, r)
		l.ordinal = append(l.ordinal, uint16(cur.ordinal))
		if l.several {
			l.note(cur, id, mark)
		}
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
	l.ids, l.rows, l.ordinal, l.touched = l.ids[:0], l.rows[:0], l.ordinal[:0], l.touched[:0]
	l.findNext()
}

func (l *alignedLane) addTo(s *slice, x *Exchange, ids []uint32, rows []uint16) {
	s.grow(l.dict.Len())
	s.add(x, ids, rows)
	l.forgetNodes(s.n)
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

// note remembers that the windows of a slice have a row more, which is owed where they are closed.
func (l *alignedLane) note(s *slice, id uint32, mark row.Time) {
	accept := row.Time(l.def.Accept.Microseconds())
	for k := s.last; k >= s.first; k-- {
		end := l.w.End(k)
		if end+accept <= mark {
			break
		}
		sh := l.shownOf(k)
		sh.flags[id] |= changed
		switch {
		case end <= mark:
			if sh.flags[id]&isOwed == 0 {
				sh.flags[id] |= isOwed
				l.owed = append(l.owed, owed{k, id})
			}
			l.owedMark = mark
		case l.def.Revised && sh.flags[id]&inPreview == 0:
			sh.flags[id] |= inPreview
			l.preview = append(l.preview, owed{k, id})
		}
	}
}

func (l *alignedLane) shownOf(k int64) *shownWindow {
	sh := l.shown[k]
	if sh == nil {
		sh = &shownWindow{}
		l.shown[k] = sh
	}
	sh.grow(l.dict.Len())
	return sh
}

// at gives the open slice of this number, nil for none.
func (l *alignedLane) at(n int64) *slice {
	i := sort.Search(len(l.open), func(k int) bool { return l.open[k].n >= n })
	if i < len(l.open) && l.open[i].n == n {
		return l.open[i]
	}
	return nil
}

// find gives the open slice of this number, made if need be.
func (l *alignedLane) find(n int64) *slice {
	i := len(l.open)
	if i > 0 && l.open[i-1].n >= n { // else the newest, as is usual
		i = sort.Search(len(l.open), func(k int) bool { return l.open[k].n >= n })
		if l.open[i].n == n {
			return l.open[i]
		}
	}
	var s *slice
	if k := len(l.spare); k > 0 {
		s, l.spare = l.spare[k-1], l.spare[:k-1]
	} else {
		s = &slice{accs: *newAccs(&l.def.spec)}
	}
	s.n, s.ordinal = n, -1
	s.start, s.end = l.w.SliceStart(n), l.w.SliceStart(n+1)
	s.first, s.last = l.w.Windows(n)
	s.firstEnd, s.lastEnd = l.w.End(s.first), l.w.End(s.last)
	l.open = slices.Insert(l.open, i, s)
	l.findNext()
	return s
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

// nextWindow gives the first window from k on that has an open slice; false for none.
func (l *alignedLane) nextWindow(k int64) (int64, bool) {
	for _, s := range l.open {
		if s.last >= k {
			return max(k, s.first), true
		}
	}
	return 0, false
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
	if l.def.Revised && t.Now >= l.nextBeat {
		l.nextBeat = t.Now + row.Time(l.def.Every.Microseconds())
		l.publishOwed(l.preview, uint16(len(t.Marks)-1), out)
		l.preview = l.preview[:0]
	}
	if l.def.RepeatEvery > 0 && (t.Now >= l.nextAgain || t.After == row.MaxTime && before < row.MaxTime) {
		l.nextAgain = t.Now + row.Time(l.def.RepeatEvery.Microseconds())
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
	if len(l.owed) > 0 && mark > l.owedMark {
		l.publishOwed(l.owed, t.Passed(l.owedMark+1), out)
		l.owed = l.owed[:0]
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
		l.close(k, t, out)
		if !l.several && l.w.Tumbles() { // its one slice is not needed again, and the next is soon found
			closed += l.open[0].keys
			l.recycle(l.open[0])
			l.open = slices.Delete(l.open, 0, 1)
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

// contents gives the accumulators of a window.
func (l *alignedLane) contents(k int64) *accs {
	from, to := l.w.Slices(k)
	if to-from == 1 {
		if s := l.at(from); s != nil {
			return &s.accs
		}
		return nil
	}
	var one *accs
	several := false
	for lo := from; lo < to; {
		level := min(bits.TrailingZeros64(uint64(lo)), bits.Len64(uint64(to-lo))-1)
		if lo == 0 {
			level = bits.Len64(uint64(to)) - 1
		}
		if a := l.node(level, lo>>level); a != nil {
			switch {
			case one == nil:
				one = a
			case !several:
				several = true
				l.sum.clear()
				l.sum.mergeAll(one)
				l.sum.mergeAll(a)
			default:
				l.sum.mergeAll(a)
			}
		}
		lo += 1 << level
	}
	if several {
		return l.sum
	}
	return one
}

// node gives the accumulators of a node, nil when no slice of it has any. It keeps what it has joined.
func (l *alignedLane) node(level int, at int64) *accs {
	if level == 0 {
		if s := l.at(at); s != nil {
			return &s.accs
		}
		return nil
	}
	key := node{level, at}
	if a, ok := l.nodes[key]; ok {
		return a
	}
	left, right := l.node(level-1, 2*at), l.node(level-1, 2*at+1)
	a := left
	switch {
	case left == nil:
		a = right
	case right != nil:
		if n := len(l.unused); n > 0 {
			a, l.unused = l.unused[n-1], l.unused[:n-1]
		} else {
			a = newAccs(&l.def.spec)
		}
		a.mergeAll(left)
		a.mergeAll(right)
		l.nodes[key] = a
	}
	return a
}

// forgetNodes drops the nodes that hold a slice, since it has changed or is gone.
func (l *alignedLane) forgetNodes(n int64) {
	for level := 1; level <= l.levels && len(l.nodes) > 0; level++ {
		key := node{level, n >> level}
		if a := l.nodes[key]; a != nil {
			delete(l.nodes, key)
			if len(l.unused) < 2*l.levels {
				a.clear()
				l.unused = append(l.unused, a)
			}
		}
	}
}

// close publishes the closing rows of a window.
func (l *alignedLane) close(k int64, t *Turn, out Out) {
	a := l.contents(k)
	if a == nil {
		return
	}
	l.due.reset()
	l.all(k, a, t.Passed(l.w.End(k)))
	l.counts.LeftOut += a.left(l.due.acc)
	if !l.several {
		l.pub.publish(&l.due, a, l.dict, out, nil)
		return
	}
	sh := l.shownOf(k)
	l.pub.publish(&l.due, a, l.dict, out, func(id int, meets bool) verdict { return sh.row(id, meets, true) })
}

// all makes every key of a window due.
func (l *alignedLane) all(k int64, a *accs, index uint16) {
	start, end := l.w.Start(k), l.w.End(k)
	d := &l.due
	for id, n := range a.rows {
		if n > 0 {
			d.acc = append(d.acc, uint32(id))
		}
	}
	n := len(d.acc)
	d.key = append(d.key, d.acc...)
	d.starts, d.ends, d.index = filled(d.starts, n, start), filled(d.ends, n, end), filled(d.index, n, index)
	if l.several {
		for _, id := range d.acc {
			d.slot = append(d.slot, int(id))
		}
	}
}

func filled[T any](s []T, n int, v T) []T {
	s = slices.Grow(s, n)
	for range n {
		s = append(s, v)
	}
	return s
}

// row decides what becomes of a key's next row: one that does not meet `having` withdraws what stands.
func (s *shownWindow) row(id int, meets, closed bool) verdict {
	f := &s.flags[id]
	*f &^= changed | isOwed | inPreview
	v := verdict{revision: int64(s.next[id]), closed: closed}
	switch {
	case meets:
		v.show = true
		*f |= standing
	case *f&standing != 0:
		v.show, v.withdrawn = true, true
		*f &^= standing
	default:
		return v
	}
	s.next[id]++
	return v
}

// publishOwed publishes corrections or previews, in order of window.
func (l *alignedLane) publishOwed(list []owed, index uint16, out Out) {
	slices.SortStableFunc(list, func(a, b owed) int { return int(max(-1, min(1, a.window-b.window))) })
	for len(list) > 0 {
		k := list[0].window
		n := 0
		l.due.reset()
		sh := l.shownOf(k)
		start, end := l.w.Start(k), l.w.End(k)
		for ; n < len(list) && list[n].window == k; n++ {
			id := list[n].key
			if sh.flags[id]&(isOwed|inPreview) == 0 {
				continue // published meanwhile
			}
			sh.flags[id] &^= isOwed | inPreview
			d := &l.due
			d.acc, d.key, d.slot = append(d.acc, id), append(d.key, id), append(d.slot, int(id))
			d.starts, d.ends, d.index = append(d.starts, start), append(d.ends, end), append(d.index, index)
		}
		list = list[n:]
		if a := l.contents(k); a != nil && len(l.due.key) > 0 {
			closed := end <= l.mark
			l.pub.publish(&l.due, a, l.dict, out, func(id int, meets bool) verdict { return sh.row(id, meets, closed) })
		}
	}
}

// repeat publishes a row for each key and kept window: the last one again, or the next where rows were
// added since.
func (l *alignedLane) repeat(mark row.Time, t *Turn, out Out) {
	if len(l.open) == 0 {
		return
	}
	keep := row.Time(l.def.RepeatKeep.Microseconds())
	last := l.open[len(l.open)-1].last
	for k, ok := l.nextWindow(l.open[0].first); ok && k <= last; k, ok = l.nextWindow(k + 1) {
		end := l.w.End(k)
		if beyond(end, keep) <= mark {
			continue
		}
		a := l.contents(k)
		if a == nil {
			continue
		}
		l.due.reset()
		l.all(k, a, uint16(len(t.Marks)-1))
		sh := l.shownOf(k)
		closed := end <= l.mark
		l.pub.publish(&l.due, a, l.dict, out, func(id int, meets bool) verdict {
			if sh.flags[id]&changed != 0 || sh.next[id] == 0 {
				return sh.row(id, meets, closed)
			}
			return verdict{show: sh.flags[id]&standing != 0, revision: int64(sh.next[id]) - 1, closed: closed}
		})
	}
}

// drop forgets slices that no window needs any more.
func (l *alignedLane) drop(mark row.Time) {
	closed, n := 0, 0
	for n < len(l.open) && beyond(l.open[n].lastEnd, l.hold) <= mark {
		s := l.open[n]
		closed += s.keys
		l.forgetNodes(s.n)
		l.recycle(s)
		n++
	}
	if n == 0 {
		return
	}
	l.open = slices.Delete(l.open, 0, n)
	if l.several {
		for k := range l.shown {
			if beyond(l.w.End(k), l.hold) <= mark {
				delete(l.shown, k)
			}
		}
	}
	l.findNext()
	l.forget(closed)
}

func (l *alignedLane) recycle(s *slice) {
	s.clear()
	if len(l.spare) < 4 {
		l.spare = append(l.spare, s)
	}
}

// forget drops the keys that no open slice holds, once they are the greater part: memory follows
// open windows and keys. A population that stays as it was is never rebuilt.
func (l *alignedLane) forget(closed int) {
	held := closed
	for _, s := range l.open {
		held += s.keys
	}
	if l.dict.Len() <= 2*held+1024 || len(l.owed)+len(l.preview) > 0 {
		return
	}
	live := make([]bool, l.dict.Len())
	for _, s := range l.open {
		for id, n := range s.rows {
			live[id] = live[id] || n > 0
		}
	}
	dict, to := l.dict.Keep(live)
	l.dict = dict
	l.spare, l.unused = nil, nil
	clear(l.nodes)
	for _, s := range l.open {
		next := newAccs(&l.def.spec)
		next.grow(dict.Len())
		for id, n := range s.rows {
			if n > 0 {
				next.merge(to[id], &s.accs, uint32(id))
			}
		}
		s.accs = *next
	}
	for _, sh := range l.shown {
		next := &shownWindow{}
		next.grow(dict.Len())
		for id, l := range live[:len(sh.next)] {
			if l {
				next.next[to[id]], next.flags[to[id]] = sh.next[id], sh.flags[id]
			}
		}
		*sh = *next
	}
}

// stateSchema gives the columns of the slices: share, the key fields, slice_start, slice_end and the
// accumulators. A tumbling window is a slice.
func (d *Window) sliceSchema() row.Schema {
	s := d.spec.stateKey()
	names := [2]string{"slice_start", "slice_end"}
	if d.Aligned.Tumbles() {
		names = [2]string{"window_start", "window_end"}
	}
	s = append(s, row.Field{Name: names[0], Kind: row.Timestamp}, row.Field{Name: names[1], Kind: row.Timestamp})
	return append(s, d.spec.accSchema()...)
}

func (d *Window) shownSchema() row.Schema {
	s := d.spec.stateKey()
	return append(s, row.Field{Name: "window_start", Kind: row.Timestamp}, row.Field{Name: "window_end", Kind: row.Timestamp}, row.Field{Name: "next_revision", Kind: row.Int},
		row.Field{Name: "standing", Kind: row.Bool}, row.Field{Name: "owed", Kind: row.Bool}, row.Field{Name: "changed", Kind: row.Bool}, row.Field{Name: "read_under", Kind: row.Timestamp})
}

// Snapshot copies the slices, and what was published of each window.
func (l *alignedLane) Snapshot() []*row.Batch {
	b := row.NewBatch(l.def.sliceSchema())
	keys := len(l.def.spec.Key)
	var sh *row.Batch
	if l.several {
		sh = row.NewBatch(l.def.shownSchema())
	}
	windows := make([]int64, 0, len(l.shown))
	for k := range l.shown {
		windows = append(windows, k)
	}
	slices.Sort(windows)
	for share, ids := range byShare(l.dict) {
		for _, s := range l.open {
			for _, id := range ids {
				if int(id) >= len(s.rows) || s.rows[id] == 0 {
					continue
				}
				saveKey(b, share, keys, l.dict, id)
				b.Cols[1+keys].AppendInt(int64(s.start))
				b.Cols[2+keys].AppendInt(int64(s.end))
				s.save(b.Cols[3+keys:], id)
				b.N++
			}
		}
		for _, k := range windows {
			w := l.shown[k]
			for _, id := range ids {
				if int(id) >= len(w.next) || w.next[id] == 0 && w.flags[id] == 0 {
					continue
				}
				saveKey(sh, share, keys, l.dict, id)
				c := sh.Cols[1+keys:]
				c[0].AppendInt(int64(l.w.Start(k)))
				c[1].AppendInt(int64(l.w.End(k)))
				c[2].AppendInt(int64(w.next[id]))
				c[3].AppendBool(w.flags[id]&standing != 0)
				c[4].AppendBool(w.flags[id]&isOwed != 0)
				c[5].AppendBool(w.flags[id]&changed != 0)
				if w.flags[id]&isOwed != 0 {
					c[6].AppendInt(int64(l.owedMark))
				} else {
					c[6].AppendNull()
				}
				sh.N++
			}
		}
	}
	if l.several {
		return []*row.Batch{b, sh}
	}
	return []*row.Batch{b}
}

// Load takes the rows of the lane's shares.
func (l *alignedLane) Load(table int, b *row.Batch, lane, lanes int) error {
	want := l.def.sliceSchema()
	if table == 1 {
		want = l.def.shownSchema()
	}
	keys := len(l.def.spec.Key)
	return loadRows(b, want, keys, lane, lanes, l.dict, func(i int, id uint32) error {
		c := b.Cols[1+keys:]
		start, end := row.Time(c[0].I[i]), row.Time(c[1].I[i])
		if table == 1 {
			k, _ := l.w.Windows(l.w.SliceOf(start))
			for l.w.Start(k) < start {
				k++
			}
			if l.w.Start(k) != start || l.w.End(k) != end {
				return fmt.Errorf("row %d of the state has a window that the step does not make: the document has changed", i)
			}
			sh := l.shownOf(k)
			sh.next[id] = int32(c[2].I[i])
			for n, f := range []uint8{standing, isOwed, changed} {
				if c[3+n].I[i] != 0 {
					sh.flags[id] |= f
				}
			}
			switch {
			case sh.flags[id]&isOwed != 0:
				l.owed = append(l.owed, owed{k, id})
				l.owedMark = row.Time(c[6].I[i])
			case sh.flags[id]&changed != 0 && l.def.Revised:
				sh.flags[id] |= inPreview
				l.preview = append(l.preview, owed{k, id})
			}
			return nil
		}
		s := l.find(l.w.SliceOf(start))
		if s.start != start || s.end != end {
			return fmt.Errorf("row %d of the state has a window that the step does not make: the document has changed", i)
		}
		s.grow(l.dict.Len())
		return s.load(c[2:], i, id)
	})
}
