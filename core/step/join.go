package step

import (
	"cmp"
	"slices"
	"time"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// The sides of a join.
const (
	LeftSide = iota
	RightSide
)

// Sides are their names, in the field that says by which one a row came.
var Sides = [2]string{"left", "right"}

// Join makes pairs of the rows of two inputs (docs/time.md, "Join"). Immutable.
//
// Both sides come as rows of one schema: the fields of the result, and a last one that names the side. A row has nulls in the
// fields of the other side; the fields that must be equal, the key, are those of its own.
type Join struct {
	// Keys has the result's fields and the side's as input, and as key the fields that must be equal.
	Keys Spec
	// Of says of which side each of the result's fields is; of both where it is of the key.
	Of []SideSet
	// From and To bound right time minus left time, both included.
	From, To time.Duration
	// Window pairs rows that share a window, in place of From and To.
	Window *window.Aligned
	// Unmatched says of which sides rows are published that meet no partner.
	Unmatched [2]bool
	Accept    time.Duration
	// Then is carried out on the result; nil for nothing.
	Then *Stateless
}

// SideSet is a set of sides, by bit.
type SideSet uint8

// Has says whether a side is in it.
func (s SideSet) Has(side int) bool { return s>>side&1 != 0 }

// Spec implements [Keyed], as do the methods below.
func (d *Join) Spec() *Spec { return &d.Keys }
func (d *Join) MainSchema() row.Schema {
	if d.Then != nil {
		return d.Then.Schema
	}
	return d.result()
}
func (d *Join) LateSchema() row.Schema {
	s := lateSchema(d.Keys.Input)
	s[len(s)-2] = row.Field{Name: "side", Kind: row.String}
	return s
}

// RejectsInLanes implements [LaneRejecter]: Then may.
func (d *Join) RejectsInLanes() {}

func (d *Join) result() row.Schema { return d.Keys.Input[:len(d.Of):len(d.Of)] }

// SideField is the field behind the result's that says by which side a row came.
var SideField = row.Field{Name: "join.side", Kind: row.String, Hidden: true}

// Tables are a table of each side's rows. Those of one span go together: a span holds the rows whose last possible partner
// has a time in it.
func (d *Join) Tables() []*state.Table {
	var out []*state.Table
	for side, name := range Sides {
		t := &state.Table{Name: name, Span: "until", Key: d.Keys.KeySchema(), Rest: row.Schema{{Name: "event_time", Kind: row.Timestamp}, {Name: "place", Kind: row.Int}}}
		if side == LeftSide {
			t.Name = ""
		}
		for _, c := range d.fields(side) {
			f := d.Keys.Input[c]
			t.Columns = append(t.Columns, row.Field{Name: "row_" + f.Name, Kind: f.Kind})
		}
		t.Columns = append(t.Columns, row.Field{Name: "matched", Kind: row.Bool})
		out = append(out, t)
	}
	return out
}

// fields gives the result's fields that a side has.
func (d *Join) fields(side int) (out []int) {
	for i, of := range d.Of {
		if of.Has(side) {
			out = append(out, i)
		}
	}
	return out
}

// Back is how far the watermark behind the step stands back.
func (d *Join) Back() time.Duration {
	back := d.Accept
	most := time.Duration(0)
	for side, on := range d.Unmatched {
		if on {
			most = max(most, d.Reach(side))
		}
	}
	return back + most
}

// Reach is how much later than a row of a side its last possible partner is, at most.
func (d *Join) Reach(side int) time.Duration {
	switch {
	case d.Window != nil:
		return d.Window.Longest()
	case side == LeftSide:
		return d.To
	}
	return -d.From
}

// until gives the last time that a partner of a row may have.
func (d *Join) until(side int, at row.Time) row.Time {
	if w := d.Window; w != nil {
		_, last := w.Windows(w.SliceOf(at))
		return w.End(last) - 1
	}
	return at.Plus(d.Reach(side))
}

// Partners says whether rows of these times are partners.
func (d *Join) Partners(left, right row.Time) bool {
	if w := d.Window; w != nil {
		first, last := w.Windows(w.SliceOf(left))
		begins, ends := w.Windows(w.SliceOf(right))
		return max(first, begins) <= min(last, ends)
	}
	apart := time.Duration(right-left) * time.Microsecond
	return apart >= d.From && apart <= d.To
}

// span is how long the spans are that rows go in: about an eighth of the time that a row waits.
func (d *Join) span() row.Time {
	waits := d.To - d.From
	if d.Window != nil {
		waits = d.Window.Longest()
	}
	return max(row.Time(((waits + d.Accept) / 8).Microseconds()), row.Time(time.Second.Microseconds()))
}

// NewLane implements [Keyed].
func (d *Join) NewLane(o LaneOptions) Lane {
	l := &joinLane{def: d, accept: row.Time(d.Accept.Microseconds()), width: d.span(), keeps: o.Keeps, behind: newBehind(o), dict: state.NewDict(), mark: row.MinTime, published: row.MinTime,
		late: newLateRows(d.Keys.Input), out: newMadeRows(d.result(), o.Ordered), key: make([]*row.Column, len(d.Keys.Key))}
	l.then = newThen(d.Then)
	for side, t := range d.Tables() {
		s := &l.sides[side]
		*s = joinSide{fields: d.fields(side), table: t, next: state.NewChanges(t), spans: map[row.Time]*joinSpan{}, least: row.MaxTime}
		s.clear(d)
	}
	return l
}

// joinLane keeps the rows of both sides that may still meet a partner.
//
// Rows of a key hang together, the newest first: a row that comes goes along those of the other side. What the watermark
// has passed can be no partner of a row that is in time, so nobody need take it out at once: rows are moved together once most of
// them are past. A key's rows are in memory together, of both sides, or not at all.
type joinLane struct {
	def    *Join
	accept row.Time
	width  row.Time // of a span
	dict   *state.Dict
	sides  [2]joinSide
	place  int64 // of the row that came last
	mark   row.Time
	// published: whatever was due up to it is. A row that was published alone is named as gone to the store, which may
	// have it still until the next mark; so it is not fetched again, and is kept in memory while a move goes on.
	published row.Time
	keeps     bool
	behind    *behind
	// fetching: rows are loaded that lay in the store alone.
	fetching bool
	counts   LaneCounts
	late     lateRows
	out      madeRows
	then     thenRun
	order    []byte
	key      []*row.Column
	timely   []uint16 // rows of Take that are neither late nor without a key: positions in the exchange
	ids      []uint32 // by timely: its key
	met      []uint32 // partners of the row at hand
	scales   scales
	held     []SideHeld // as it was weighed last
	perKey   []uint32   // scratch
}

// joinSide are the rows of one side.
type joinSide struct {
	fields []int    // of the result
	head   []uint32 // by key: its newest row, and 1; 0 for none
	rows   *row.Batch
	key    []uint32  // by row
	prev   []uint32  // by row: the one of the same key that came before it, and 1; 0 for none
	place  []int64   // by row: the order in which they came
	alone  state.Set // rows that met no partner yet
	due    queue     // rows to be published where they meet none
	told   state.Set // rows that were published alone
	past   int       // rows that the watermark has passed

	spans map[row.Time]*joinSpan
	least row.Time  // none is before it
	last  *joinSpan // the span that was asked for last

	table   *state.Table
	next    *state.Changes // names what was published
	changed state.Set      // rows that are new, or met their first partner, since the last mark
	sent    state.Set      // rows that were frozen and are not yet in the store
	away    awaySpans      // what lies in the store alone
}

// joinSpan counts the rows of a span.
type joinSpan struct {
	at          row.Time
	rows, alone int64 // alone: that met no partner yet
	away        int   // rows that lie in the store alone
	here        bool  // keys with rows in it stay in memory: some of them are due
}

func (s *joinSide) clear(d *Join) {
	var schema row.Schema
	for _, c := range s.fields {
		schema = append(schema, d.Keys.Input[c])
	}
	s.rows = row.NewBatch(schema)
	s.head, s.key, s.prev, s.place, s.alone, s.told, s.due, s.past, s.changed, s.sent = nil, nil, nil, nil, state.Set{}, state.Set{}, nil, 0, state.Set{}, state.Set{}
}

// span gives the start of the span that a row of a time is in.
func (l *joinLane) span(side int, at row.Time) row.Time {
	return floorTo(l.def.until(side, at), l.width)
}

// spanOf gives the span with a start.
func (s *joinSide) spanOf(at row.Time) *joinSpan {
	if s.last != nil && s.last.at == at {
		return s.last
	}
	p := s.spans[at]
	if p == nil {
		p = &joinSpan{at: at}
		s.spans[at] = p
		s.least = min(s.least, at)
	}
	s.last = p
	return p
}

// spanWith gives the span that a time is in.
func (s *joinSide) spanWith(until, width row.Time) *joinSpan {
	if s.last != nil && until >= s.last.at && until-s.last.at < width {
		return s.last
	}
	return s.spanOf(floorTo(until, width))
}

func (l *joinLane) Counts() *LaneCounts { return &l.counts }

// Held implements [Lane].
func (l *joinLane) Held() Held {
	h := Held{Keys: l.dict.Len(), Bytes: l.dict.Bytes(), Next: row.MaxTime, Sides: l.held}
	for side := range l.sides {
		s := &l.sides[side]
		h.Bytes += s.bytes()
		h.Rows += s.rows.N
		for _, span := range s.spans {
			h.Rows += span.away
		}
		h.Next = min(h.Next, s.due.next())
	}
	return h
}

// bytes is about how much memory a side takes.
func (s *joinSide) bytes() int {
	n := 4*(cap(s.head)+cap(s.key)+cap(s.prev)) + 8*(cap(s.place)+cap(s.rows.Times)) + queuedBytes*cap(s.due) + s.alone.Bytes() + s.changed.Bytes() + s.sent.Bytes() + s.away.bytes()
	for _, c := range s.rows.Cols {
		n += 8*(cap(c.I)+cap(c.F)) + 4*cap(c.Off) + cap(c.Data)
	}
	return n
}

// dueAt gives the watermark at which a row is dropped whose last possible partner has the time until.
func (l *joinLane) dueAt(until row.Time) row.Time { return beyond(until, l.accept+1) }

// Take takes all rows.
func (l *joinLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.TakeSome(x, lane, 0, t, out, func(int) bool { return false })
}

// TakeSome pairs each row with those of the other side that are there, and keeps it for those that come.
func (l *joinLane) TakeSome(x *Exchange, lane, from int, t *Turn, out Out, enough func(held int) bool) (to int) {
	side := x.Cols[len(l.def.Of)]
	rows := x.Lanes[lane][from:]
	l.timely = l.timely[:0]
	for _, j := range rows {
		if r := int(x.Sel[j]); !l.tooLate(x, r, t) && !l.nullKey(x, r) {
			l.timely = append(l.timely, j)
		}
	}
	l.ids = l.dict.PutAll(&x.Keys, l.timely, l.ids[:0])
	l.grow()
	ids := l.ids
	to = len(x.Lanes[lane])
	for i, j := range rows {
		r := int(x.Sel[j])
		if i > 0 && x.Index[r] != x.Index[x.Sel[rows[i-1]]] && enough(l.out.b.Bytes()) {
			to = from + i
			break
		}
		n := LeftSide
		if side.Bytes(r)[0] == Sides[RightSide][0] {
			n = RightSide
		}
		c := &l.counts.Sides[n]
		c.Rows++
		mark := t.Marks[x.Index[r]]
		if l.tooLate(x, r, t) {
			c.Late++
			l.late.add(x, r, mark, &l.counts)
			continue
		}
		l.counts.Used++
		if l.nullKey(x, r) {
			l.lone(x, r, n, out)
			continue
		}
		l.pair(x, r, n, ids[0], mark, out)
		ids = ids[1:]
	}
	l.late.flush(out)
	l.flush(out)
	return to
}

// tooLate says whether a row comes when its partners may be gone.
func (l *joinLane) tooLate(x *Exchange, r int, t *Turn) bool {
	return x.Times[r] < t.Marks[x.Index[r]].Minus(l.def.Accept)
}

// flush publishes the rows that were made.
func (l *joinLane) flush(out Out) {
	if l.out.b.N == 0 {
		return
	}
	l.counts.Made += int64(l.out.b.N)
	l.then.publish(l.out.b, out, &l.counts)
}

// nullKey says whether a row can match nothing.
func (l *joinLane) nullKey(x *Exchange, r int) bool {
	for _, k := range l.def.Keys.Key {
		if x.Cols[k].IsNull(r) {
			return true
		}
	}
	return false
}

// lone is a row that nothing will match: there is nothing to wait for.
func (l *joinLane) lone(x *Exchange, r, side int, out Out) {
	l.counts.Sides[side].Unmatched++
	if !l.def.Unmatched[side] {
		return
	}
	for i := range l.def.Of {
		l.out.b.Cols[i].AppendFrom(x.Cols[i], r)
	}
	l.own(x, r, x.Times[r], 0, out)
}

// own ends a row that was made of row r of x, its n-th.
func (l *joinLane) own(x *Exchange, r int, at row.Time, n int, out Out) {
	if l.out.ordered {
		l.order = appendItem(appendLater(l.order[:0], x.order(r), at), n)
	}
	if l.out.own(at, x.Index[r], l.order); l.out.full() {
		l.flush(out)
	}
}

// pair makes the pairs of row r with rows that are there, in the order of their times and places, and keeps it.
func (l *joinLane) pair(x *Exchange, r, side int, id uint32, mark row.Time, out Out) {
	own, other := &l.sides[side], &l.sides[1-side]
	at := x.Times[r]
	l.met = l.met[:0]
	for q := other.head[id]; q != 0; q = other.prev[q-1] {
		if p := other.rows.Times[q-1]; side == LeftSide && l.def.Partners(at, p) || side == RightSide && l.def.Partners(p, at) {
			l.met = append(l.met, q-1)
		}
	}
	if len(l.met) > 1 {
		slices.SortFunc(l.met, func(a, b uint32) int {
			return cmp.Or(cmp.Compare(other.rows.Times[a], other.rows.Times[b]), cmp.Compare(other.place[a], other.place[b]))
		})
	}
	c := &l.counts
	for n, q := range l.met {
		l.give(x, r, side, other, int(q))
		c.Pairs++
		if other.alone.Has(q) {
			other.alone.Remove(q)
			c.Sides[1-side].Matched++
			other.spanWith(l.def.until(1-side, other.rows.Times[q]), l.width).alone--
			other.touch(q, l.keeps)
		}
		l.own(x, r, max(at, other.rows.Times[q]), n, out)
	}
	if len(l.met) > 0 {
		c.Sides[side].Matched++
	}
	until := l.def.until(side, at)
	if due := l.dueAt(until); due > mark {
		l.put(x, r, own, id, until, due, side)
	} else if len(l.met) == 0 {
		l.lone(x, r, side, out)
	}
}

// give appends the fields of a pair.
func (l *joinLane) give(x *Exchange, r, side int, other *joinSide, q int) {
	n := 0
	for i, of := range l.def.Of {
		if of.Has(side) {
			l.out.b.Cols[i].AppendFrom(x.Cols[i], r)
		}
		if of.Has(1 - side) {
			if !of.Has(side) {
				l.out.b.Cols[i].AppendFrom(other.rows.Cols[n], q)
			}
			n++
		}
	}
}

// put keeps row r of x, which met the partners of l.met.
func (l *joinLane) put(x *Exchange, r int, s *joinSide, id uint32, until, due row.Time, side int) {
	for n, c := range s.fields {
		s.rows.Cols[n].AppendFrom(x.Cols[c], r)
	}
	l.place++
	s.add(id, x.Times[r], l.place)
	at := uint32(len(s.key) - 1)
	p := s.spanWith(until, l.width)
	p.rows++
	if len(l.met) == 0 {
		s.alone.Put(at)
		p.alone++
		if l.def.Unmatched[side] {
			s.due.put(queued{due, uint64(l.place), at})
		}
	}
	s.touch(at, l.keeps)
}

// add links a row whose fields were appended.
func (s *joinSide) add(id uint32, at row.Time, place int64) {
	s.rows.N++
	s.rows.Times = append(s.rows.Times, at)
	s.key = append(s.key, id)
	s.place = append(s.place, place)
	s.prev = append(s.prev, s.head[id])
	s.head[id] = uint32(len(s.key))
}

func (s *joinSide) touch(at uint32, keeps bool) {
	if keeps {
		s.changed.Put(at)
	}
}

// Move publishes the rows that met no partner in time, and lets go what can meet none any more.
func (l *joinLane) Move(t *Turn, out Out) {
	l.mark = t.After
	for side := range l.sides {
		l.bringDue(side, t, out)
	}
	l.publishDue(t, out)
	l.published = l.mark
	for side := range l.sides {
		l.pass(side)
	}
	rows, past := len(l.sides[0].key)+len(l.sides[1].key), l.sides[0].past+l.sides[1].past
	if rebuilds(rows, rows-min(past, rows)) || rebuilds(l.dict.Len(), rows) {
		l.tidy(nil)
	}
	if l.scales.due(t, rows) {
		l.weigh()
	}
}

// publishDue publishes the unmatched rows in memory that are due, in order of that.
func (l *joinLane) publishDue(t *Turn, out Out) {
	for {
		side := LeftSide
		if l.sides[RightSide].due.next() < l.sides[LeftSide].due.next() {
			side = RightSide
		}
		s := &l.sides[side]
		if s.due.next() > l.mark || len(s.due) == 0 {
			break
		}
		q := s.due.pop()
		if !s.alone.Has(q.n) {
			continue
		}
		l.unmatched(s, side, q, t, out)
	}
	l.flush(out)
}

// unmatched publishes a row that met no partner.
func (l *joinLane) unmatched(s *joinSide, side int, q queued, t *Turn, out Out) {
	n := 0
	for i, of := range l.def.Of {
		if of.Has(side) {
			l.out.b.Cols[i].AppendFrom(s.rows.Cols[n], int(q.n))
			n++
		} else {
			l.out.b.Cols[i].AppendNull()
		}
	}
	for i, k := range l.def.Keys.Key {
		l.key[i] = s.rows.Cols[slices.Index(s.fields, k)]
	}
	at := s.rows.Times[q.n]
	l.out.add(at, t.Passed(q.at), l.key, int(q.n), uint64(side)<<63|uint64(s.place[q.n]))
	s.alone.Remove(q.n)
	s.told.Put(q.n)
	l.counts.Sides[side].Unmatched++
	span := l.span(side, at)
	p := s.spanOf(span)
	p.alone--
	p.rows--
	s.past++
	if s.changed.Remove(q.n); l.keeps && span >= l.passedSpan() {
		id := s.key[q.n]
		s.next.Drop(l.dict.Key(id), l.dict.Hash(id), span, int64(at), s.place[q.n])
	}
	if l.out.full() {
		l.flush(out)
	}
}

// passedSpan gives the first span of which a row may still have a partner, or is still to be published.
func (l *joinLane) passedSpan() row.Time {
	switch {
	case l.published > row.LastTime:
		return row.MaxTime
	case l.published < row.FirstTime:
		return row.MinTime
	}
	return floorTo(l.published-l.accept, l.width)
}

// pass counts the rows of the spans that the watermark has passed.
func (l *joinLane) pass(side int) {
	s, before := &l.sides[side], l.passedSpan()
	if before <= s.least {
		return
	}
	s.least, s.last = row.MaxTime, nil
	for at, p := range s.spans {
		if at >= before {
			s.least = min(s.least, at)
			continue
		}
		s.past += int(p.rows) - p.away
		l.counts.Sides[side].Unmatched += p.alone
		delete(s.spans, at)
	}
	s.away.pass(before)
}

// tidy moves together the rows that may still meet a partner, of keys that stay; all keys where stays is nil.
func (l *joinLane) tidy(stays func(id uint32) bool) {
	var alive [2][]bool
	r := rekey(l.dict, func(mark []bool) {
		for side := range l.sides {
			s := &l.sides[side]
			alive[side] = make([]bool, len(s.key))
			for at, id := range s.key {
				waits, told := l.waits(side, s.rows.Times[at]), s.told.Has(uint32(at))
				if stays == nil {
					alive[side][at] = waits && !told
				} else {
					alive[side][at] = stays(id) && (waits || told)
				}
				mark[id] = mark[id] || alive[side][at]
			}
		}
	})
	for side := range l.sides {
		l.sides[side].keep(alive[side], &r)
	}
	l.dict = r.dict
}

// keep moves the rows that are alive together, and links them anew.
func (s *joinSide) keep(alive []bool, r *rekeying) {
	to := make([]uint32, len(alive))
	s.head = make([]uint32, r.dict.Len())
	n := 0
	for at, id := range s.key {
		if !alive[at] {
			continue
		}
		to[at] = uint32(n)
		s.key[n], s.place[n], s.prev[n] = r.to[id], s.place[at], s.head[r.to[id]]
		n++
		s.head[r.to[id]] = uint32(n)
	}
	s.key, s.place, s.prev, s.past = s.key[:n], s.place[:n], s.prev[:n], 0
	s.rows.Keep(alive)
	for _, set := range []*state.Set{&s.alone, &s.told, &s.changed, &s.sent} {
		*set = set.Moved(alive, to, n)
	}
	due := s.due
	s.due = nil
	for _, q := range due {
		if alive[q.n] && s.alone.Has(to[q.n]) {
			s.due.put(queued{q.at, q.seq, to[q.n]})
		}
	}
	if cap(s.key) > 4*n+4096 { // there were far more
		rows := row.NewBatch(s.rows.Schema)
		for i := range n {
			rows.AppendFrom(s.rows, i)
		}
		s.rows, s.key, s.place, s.prev = rows, slices.Clone(s.key), slices.Clone(s.place), slices.Clone(s.prev)
	}
}

// waits says whether a row may still meet a partner, or stands in a span with such rows: those are counted and let go
// together, so that no row is counted twice by a run that starts from a mark before it.
func (l *joinLane) waits(side int, at row.Time) bool {
	return l.def.until(side, at) >= l.passedSpan() // which is the start of a span
}

// Freeze copies the rows that are new or met their first partner.
func (l *joinLane) Freeze() []*state.Changes {
	var out []*state.Changes
	for side := range l.sides {
		s := &l.sides[side]
		c := s.next
		s.next = state.NewChanges(s.table)
		c.Passed = l.passedSpan()
		s.changed.Each(func(at uint32) {
			span := l.span(side, s.rows.Times[at])
			if span < c.Passed {
				return
			}
			id := s.key[at]
			cols := c.Put(l.dict.Key(id), l.dict.Hash(id), span, int64(s.rows.Times[at]), s.place[at])
			for n, col := range s.rows.Cols {
				cols[n].AppendFrom(col, int(at))
			}
			cols[len(s.rows.Cols)].AppendBool(!s.alone.Has(at))
		})
		s.sent.Join(&s.changed)
		s.changed.Clear()
		out = append(out, c)
	}
	return out
}

// Written implements [Lane].
func (l *joinLane) Written() {
	for side := range l.sides {
		l.sides[side].sent.Clear()
	}
}

// Load takes rows of a side: those that the lane starts with, or that it fetches.
func (l *joinLane) Load(side int, r *state.Rows) error {
	s := &l.sides[side]
	if len(r.Cols) != len(s.rows.Cols)+1 {
		return errState
	}
	matched := r.Cols[len(s.rows.Cols)]
	for i := range r.N {
		at, place := row.Time(r.Rest[0][i]), r.Rest[1][i]
		until := l.def.until(side, at)
		if l.fetching && l.dueAt(until) <= l.published {
			continue // the store has not heard of that yet
		}
		p := s.spanOf(floorTo(until, l.width))
		alone := matched.I[i] == 0
		if l.fetching {
			p.away--
		} else {
			p.rows++
			if alone {
				p.alone++
			}
			if l.gone(r.Key(i), r.Hash[i]) { // with the rest of its key
				l.leave(s, p, r.Hash[i])
				l.place = max(l.place, place)
				continue
			}
		}
		l.place = max(l.place, place)
		id := l.dict.Put(r.Key(i), r.Hash[i])
		l.grow()
		for n, col := range s.rows.Cols {
			col.AppendFrom(r.Cols[n], i)
		}
		s.add(id, at, place)
		if number := uint32(len(s.key) - 1); alone {
			s.alone.Put(number)
			if l.def.Unmatched[side] {
				s.due.put(queued{l.dueAt(until), uint64(place), number})
			}
		}
	}
	return nil
}

// gone says whether rows of a key lie in the store alone, as it seems: then all do, or it has none in memory.
func (l *joinLane) gone(key []byte, hash uint64) bool {
	for side := range l.sides {
		for i := range l.sides[side].away {
			if l.sides[side].away[i].keys.Has(hash) {
				_, here := l.dict.Find(key, hash)
				return !here
			}
		}
	}
	return false
}

// leave notes that a row lies in the store alone.
func (l *joinLane) leave(s *joinSide, p *joinSpan, hash uint64) {
	p.away++
	s.away.add(p.at, hash, l.dict.Len())
}

// grow makes room for the rows of all keys.
func (l *joinLane) grow() {
	for n := range l.sides {
		for s := &l.sides[n]; len(s.head) < l.dict.Len(); {
			s.head = append(s.head, 0)
		}
	}
}

// Bring fetches the rows of keys that are asked for, of both sides.
func (l *joinLane) Bring(x *Exchange, lane int, _ *Turn) {
	if len(l.sides[0].away)+len(l.sides[1].away) == 0 {
		return
	}
	wanted := l.nobody()
	for _, j := range x.Lanes[lane] {
		l.want(&wanted, x.Keys.Bytes(int(j)), x.Keys.Hash[j])
	}
	l.fetch(&wanted)
}

func (l *joinLane) nobody() (wanted [2]*state.Rows) {
	for side := range wanted {
		wanted[side] = state.NewNames(l.sides[side].table)
	}
	return wanted
}

func (l *joinLane) want(wanted *[2]*state.Rows, key []byte, hash uint64) {
	for side := range l.sides {
		s := &l.sides[side]
		s.away.want(wanted[side], s.table, key, hash, func() bool {
			_, here := l.dict.Find(key, hash)
			return here
		})
	}
}

func (l *joinLane) fetch(wanted *[2]*state.Rows) {
	l.fetching = true
	defer func() { l.fetching = false }()
	for side := range l.sides {
		l.behind.find(l.sides[side].table, wanted[side], func(r *state.Rows) { l.behind.must(l.Load(side, r)) })
	}
}

// bringDue publishes what is due of rows that lie in the store alone: span by span their keys are fetched, in portions.
func (l *joinLane) bringDue(side int, t *Turn, out Out) {
	s := &l.sides[side]
	if !l.def.Unmatched[side] || len(s.away) == 0 {
		return
	}
	for _, a := range slices.Clone(s.away) {
		if l.dueAt(a.span) > l.mark {
			break
		}
		p := s.spanOf(a.span)
		if p.here || p.away == 0 {
			continue
		}
		p.here = true
		l.behind.inParts(s.table, a.span, a.span+1, p.away, func(r *state.Rows) {
			wanted := l.nobody()
			for i := range r.N {
				l.want(&wanted, r.Key(i), r.Hash[i])
			}
			l.fetch(&wanted)
		}, func(int, int) { l.publishDue(t, out) })
	}
}

// Shed lets go the keys of which the store has all rows as they are.
func (l *joinLane) Shed() {
	if l.behind == nil {
		return
	}
	stays := make([]bool, l.dict.Len())
	for side := range l.sides {
		s := &l.sides[side]
		for at, id := range s.key {
			n := uint32(at)
			stays[id] = stays[id] || s.changed.Has(n) || s.sent.Has(n) || s.told.Has(n) || l.def.Unmatched[side] && s.alone.Has(n) && s.spanOf(l.span(side, s.rows.Times[at])).here
		}
	}
	any := false
	for side := range l.sides {
		s := &l.sides[side]
		for at, id := range s.key {
			if stays[id] || !l.waits(side, s.rows.Times[at]) {
				continue
			}
			any = true
			l.leave(s, s.spanOf(l.span(side, s.rows.Times[at])), l.dict.Hash(id))
		}
	}
	if any {
		l.tidy(func(id uint32) bool { return stays[id] })
	}
}
