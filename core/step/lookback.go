package step

import (
	"math/bits"
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// lookBackLane is the state of a look back in one lane: the rows that the watermark has not passed, and
// for each key its rows of the last span, a number of the accumulators each. A key's rows are numbered in
// order of time, and joined by nodes of 2^level rows, so that a long span costs its logarithm.
type lookBackLane struct {
	def   *Window
	span  row.Time
	dict  *state.Dict
	wait  *buffer
	keeps bool
	fresh []freshRow // since the last mark; some may have gone
	sent  []freshRow // that were frozen and are not yet in the store
	// freshMost: so many are looked through for those that no row to come can look back to.
	freshMost int
	mark      row.Time
	table     *state.Table
	behind    *behind
	away      awaySpans // rows of spans that lie in the store alone
	keys      []backKey
	seen      expiry // when a key's last row is of no use any more
	accs      *accs
	slots     int
	free      []uint32
	counts    LaneCounts
	late      lateRows
	pub       *publisher
	x         *Exchange
	in        *row.Batch
	ids       []uint32
	rows      []uint16
	found     []backRow
	due       due
}

type backKey struct {
	first int64 // number of rows[0]
	rows  []backOne
	nodes map[node]uint32
}

type backOne struct {
	at   row.Time
	slot uint32
}

type backRow struct {
	backOne
	key   uint32
	index uint16
	seq   uint64 // orders rows of one key and time
}

// freshRow names a row of a key.
type freshRow struct {
	key    uint32
	number int64
	at     row.Time
}

func newLookBackLane(d *Window, o LaneOptions) *lookBackLane {
	l := &lookBackLane{def: d, span: row.Time(d.LookBack.Microseconds()), dict: state.NewDict(), keeps: o.Keeps, table: d.backTable(), behind: newBehind(o), mark: row.MinTime, accs: newAccs(&d.spec), late: newLateRows(d.spec.Input),
		x: d.spec.NewExchange(1), in: row.NewBatch(d.spec.Input)}
	l.seen.after = l.span
	l.wait = newBuffer(&d.spec, o, func() *state.Dict { return l.dict })
	l.pub = newPublisher(d, o, &l.counts)
	return l
}

func (l *lookBackLane) Counts() *LaneCounts { return &l.counts }
func (l *lookBackLane) Held() Held {
	return Held{Keys: l.dict.Len(), Rows: l.slots - len(l.free) + l.wait.waits(), Bytes: l.dict.Bytes() + l.wait.bytes() + l.accs.bytes() + l.seen.bytes() + l.away.bytes() + 32*(cap(l.fresh)+cap(l.sent)) + 48*cap(l.keys), Next: l.wait.next()}
}

// Take keeps the lane's rows until the watermark has passed them.
func (l *lookBackLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		if mark := t.Marks[x.Index[r]]; x.Times[r] < mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		l.wait.put(x, int(r), l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j]))
		l.counts.Used++
	}
	l.late.flush(out)
}

func (l *lookBackLane) slot() uint32 {
	if k := len(l.free); k > 0 {
		n := l.free[k-1]
		l.free = l.free[:k-1]
		return n
	}
	l.slots++
	l.accs.grow(l.slots)
	return uint32(l.slots - 1)
}

func (l *lookBackLane) release(n uint32) {
	l.accs.reset(n)
	l.free = append(l.free, n)
}

// Move takes the rows that the watermark has passed, in order of time.
func (l *lookBackLane) Move(t *Turn, out Out) {
	l.found = l.found[:0]
	for l.wait.ready(t.After) {
		l.takePassed(t)
	}
	l.grow()
	l.bringFound()
	for i := 0; i < len(l.found); {
		n := i
		for ; n < len(l.found) && l.found[n].at == l.found[i].at; n++ {
			l.insert(l.found[n])
		}
		for ; i < n; i++ {
			f := l.found[i]
			d := &l.due
			d.acc, d.key, d.index, d.number = append(d.acc, l.sum(f.key)), append(d.key, f.key), append(d.index, f.index), append(d.number, f.seq)
			d.starts, d.ends = append(d.starts, f.at-l.span), append(d.ends, f.at)
			if len(d.acc) == row.MaxRows {
				l.publish(out)
			}
		}
	}
	l.publish(out)
	if l.mark = t.After; l.mark >= row.FirstTime && l.mark <= row.LastTime {
		l.away.pass(l.about(l.mark - l.span + 1))
	}
	l.forget(t.After)
	l.wait.passed(t.After)
	if len(l.fresh) > l.freshMost { // marks are rare, or there are none
		l.fresh = slices.DeleteFunc(l.fresh, func(f freshRow) bool { return beyond(f.at, l.span) <= l.mark })
		l.freshMost = 2*len(l.fresh) + 4096
	}
}

func (l *lookBackLane) grow() {
	l.seen.grow(l.dict.Len())
	for len(l.keys) < l.dict.Len() {
		l.keys = append(l.keys, backKey{})
	}
}

func (l *lookBackLane) publish(out Out) {
	l.counts.LeftOut += l.accs.leftOut(l.due.acc)
	l.pub.publish(&l.due, l.accs, l.dict, out, nil)
	for _, n := range l.due.acc {
		l.release(n)
	}
	l.due.reset()
}

// takePassed works out the arguments of up to row.MaxRows rows that the watermark has passed.
func (l *lookBackLane) takePassed(t *Turn) {
	l.in.Reset()
	l.ids, l.rows = l.ids[:0], l.rows[:0]
	for l.in.N < row.MaxRows && l.wait.ready(t.After) {
		seq := l.wait.queue[0].seq
		at, r, key := l.wait.pop()
		l.in.AppendFrom(l.wait.rows, r)
		l.in.Times = append(l.in.Times, at)
		l.in.Index = append(l.in.Index, 0)
		n := l.slot()
		l.ids, l.rows = append(l.ids, n), append(l.rows, uint16(l.in.N-1))
		l.found = append(l.found, backRow{backOne{at, n}, key, t.Passed(at + 1), seq})
	}
	l.x.Fill(ViewOf(l.in), nil) // without faults: they were found before the rows came here
	l.accs.add(l.x, l.ids, l.rows)
}

// insert puts a row into its key's span, and drops those that it leaves behind.
func (l *lookBackLane) insert(f backRow) {
	k := &l.keys[f.key]
	l.evict(k, f.at-l.span)
	if len(k.rows) == 0 {
		k.first = 0
	}
	l.seen.touch(f.key, f.at)
	k.rows = append(k.rows, f.backOne)
	if l.keeps {
		l.fresh = append(l.fresh, freshRow{f.key, k.first + int64(len(k.rows)) - 1, f.at})
	}
}

// evict drops the rows of a key up to a time.
func (l *lookBackLane) evict(k *backKey, upTo row.Time) {
	n := 0
	for ; n < len(k.rows) && k.rows[n].at <= upTo; n++ {
		l.release(k.rows[n].slot)
		number := k.first + int64(n)
		for level := 1; len(k.nodes) > 0 && level < 48; level++ {
			key := node{level, number >> level}
			if s, ok := k.nodes[key]; ok {
				l.release(s)
				delete(k.nodes, key)
			}
		}
	}
	k.first += int64(n)
	if k.rows = k.rows[n:]; len(k.rows) == 0 {
		k.rows = nil
	}
}

// sum joins the rows of a key's span, the largest whole nodes oldest first, into a number of its own.
func (l *lookBackLane) sum(key uint32) uint32 {
	k := &l.keys[key]
	to := l.slot()
	end := k.first + int64(len(k.rows))
	for lo := k.first; lo < end; {
		level := bits.Len64(uint64(end-lo)) - 1
		if lo > 0 {
			level = min(level, bits.TrailingZeros64(uint64(lo)))
		}
		l.accs.merge(to, l.accs, l.node(k, level, lo>>level))
		lo += 1 << level
	}
	return to
}

func (l *lookBackLane) node(k *backKey, level int, at int64) uint32 {
	if level == 0 {
		return k.rows[at-k.first].slot
	}
	key := node{level, at}
	if n, ok := k.nodes[key]; ok {
		return n
	}
	left, right := l.node(k, level-1, 2*at), l.node(k, level-1, 2*at+1)
	n := l.slot()
	l.accs.merge(n, l.accs, left)
	l.accs.merge(n, l.accs, right)
	if k.nodes == nil {
		k.nodes = map[node]uint32{}
	}
	k.nodes[key] = n
	return n
}

// forget drops what no row to come can look back to.
func (l *lookBackLane) forget(mark row.Time) {
	l.seen.due(mark, func(key uint32) {
		l.evict(&l.keys[key], row.MaxTime)
		l.seen.drop(key)
	})
	if rebuilds(l.dict.Len(), l.seen.live+len(l.wait.queue)) {
		l.rebuild()
	}
}

// rebuild makes everything anew for the keys that have rows, in their spans or waiting.
func (l *lookBackLane) rebuild() {
	r := rekey(l.dict, func(mark []bool) {
		l.seen.known(mark)
		l.wait.known(mark)
	})
	l.seen.rekey(&r)
	l.wait.tidy(r.to)
	l.dict, l.keys = r.dict, moved(&r, l.keys)
	for _, list := range []*[]freshRow{&l.fresh, &l.sent} {
		kept := (*list)[:0]
		for _, f := range *list {
			if r.alive[f.key] {
				kept = append(kept, freshRow{r.to[f.key], f.number, f.at})
			}
		}
		*list = kept
	}
}

// backTable declares the rows of keys' spans, by an eighth of a span. Number counts the rows of a key.
func (d *Window) backTable() *state.Table {
	return &state.Table{Span: "about", Key: d.spec.KeySchema(), Rest: row.Schema{{Name: "number", Kind: row.Int}},
		Columns: append(row.Schema{{Name: "event_time", Kind: row.Timestamp}}, d.spec.accSchema()...)}
}

// about gives the span of the store that a row stands in. Rows of a key in one of them are less than the key's span apart,
// so that their numbers differ.
func (l *lookBackLane) about(at row.Time) row.Time { return floorTo(at, max(l.span/8, 1)) }

// bringFound fetches the spans of keys whose rows are to be taken. A key has all rows of its span in memory, or none.
func (l *lookBackLane) bringFound() {
	if len(l.away) == 0 {
		return
	}
	wanted := state.NewNames(l.table)
	for _, f := range l.found {
		l.away.want(wanted, l.table, l.dict.Key(f.key), l.dict.Hash(f.key), func() bool { return len(l.keys[f.key].rows) > 0 })
	}
	l.behind.find(l.table, wanted, func(r *state.Rows) { l.behind.must(l.Load(0, r)) })
	l.grow()
}

// Bring implements [Lane]: rows wait before they ask for anything.
func (l *lookBackLane) Bring(*Exchange, int, *Turn) {}

// Written implements [Lane].
func (l *lookBackLane) Written() {
	l.sent = l.sent[:0]
	l.wait.written()
}

// Shed lets go the spans of keys of which the store has all rows, and rows that wait.
func (l *lookBackLane) Shed() {
	if l.behind == nil {
		return
	}
	var stays state.Set
	for _, list := range [][]freshRow{l.fresh, l.sent} {
		for _, f := range list {
			stays.Put(f.key)
		}
	}
	any := l.wait.shed()
	for id := range uint32(len(l.keys)) {
		k := &l.keys[id]
		if len(k.rows) == 0 || stays.Has(id) {
			continue
		}
		any = true
		for _, r := range k.rows {
			if beyond(r.at, l.span) > l.mark {
				l.away.add(l.about(r.at), l.dict.Hash(id), len(l.keys))
			}
		}
		l.evict(k, row.MaxTime)
		l.seen.drop(id)
	}
	if any {
		l.rebuild()
		l.compact()
	}
}

// compact gives the memory of accumulators back that are free.
func (l *lookBackLane) compact() {
	if len(l.free) < l.slots/2 {
		return
	}
	accs, n := newAccs(&l.def.spec), 0
	move := func(slot uint32) uint32 {
		accs.grow(n + 1)
		accs.merge(uint32(n), l.accs, slot)
		n++
		return uint32(n - 1)
	}
	for i := range l.keys {
		k := &l.keys[i]
		for r := range k.rows {
			k.rows[r].slot = move(k.rows[r].slot)
		}
		for at, slot := range k.nodes {
			k.nodes[at] = move(slot)
		}
	}
	l.accs, l.slots, l.free = accs, n, nil
}

// Freeze copies the rows that came into their keys' spans, and those that began to wait. A row that is so far behind the
// watermark that none to come can look back to it is gone from the store with all of its time, though the lane may have
// it until the next row of its key comes.
func (l *lookBackLane) Freeze() []*state.Changes {
	c := state.NewChanges(l.table)
	least := l.mark
	if c.Passed = l.mark; l.mark >= row.FirstTime && l.mark <= row.LastTime {
		least = l.mark - l.span + 1 // a row at t looks back to what is later than t - span, and t >= mark
		c.Passed = l.about(least)
	}
	for _, f := range l.fresh {
		if k := &l.keys[f.key]; f.at >= least && f.number >= k.first && f.number < k.first+int64(len(k.rows)) {
			r := k.rows[f.number-k.first]
			cols := c.Put(l.dict.Key(f.key), l.dict.Hash(f.key), l.about(r.at), f.number)
			cols[0].AppendInt(int64(r.at))
			l.accs.save(cols[1:], r.slot)
		}
	}
	l.sent, l.fresh = append(l.sent, l.fresh...), l.fresh[:0]
	return []*state.Changes{c, l.wait.freeze(l.dict)}
}

// Load takes the rows of spans, and those that wait.
func (l *lookBackLane) Load(table int, r *state.Rows) error {
	if table == 1 {
		l.wait.load(r, l.dict)
		return nil
	}
	return keysOf(r, l.dict, func(i int, id uint32) error {
		l.grow()
		k := &l.keys[id]
		n := l.slot()
		at, number := row.Time(r.Cols[0].I[i]), r.Rest[0][i]
		if len(k.rows) > 0 && number != k.first+int64(len(k.rows)) {
			l.evict(k, row.MaxTime) // they were evicted before this one came, and its numbers began anew
		}
		if len(k.rows) == 0 {
			k.first = number
		}
		l.seen.touch(id, at)
		k.rows = append(k.rows, backOne{at, n})
		return l.accs.load(r.Cols[1:], i, n)
	})
}
