package step

import (
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
)

// Remember carries values from row to row of a key (docs/time.md, "Nulls, errors, values"). Expressions see
// the input's fields, and as locals the remembered values as they were before the row, then the sets
// before them. Immutable.
type Remember struct {
	Keys    Spec
	Names   []string
	Initial []*expr.Program // without fields
	Next    []*expr.Program
	Where   *expr.Program // nil: every row
	Sets    []*expr.Program
	// Output names, for each output field, its column among the input's, or behind them the set.
	Output []int
	Schema row.Schema
	Forget time.Duration
	// Arrival takes rows as they come; else by event time once the watermark has passed them.
	Arrival bool
}

// Spec implements [Keyed], as do the methods below.
func (d *Remember) Spec() *Spec            { return &d.Keys }
func (d *Remember) MainSchema() row.Schema { return d.Schema }
func (d *Remember) LateSchema() row.Schema {
	if d.Arrival {
		return nil
	}
	return lateSchema(d.Keys.Input)
}
func (d *Remember) RejectsInLanes() {}
func (d *Remember) Tables() []*state.Table {
	s := row.Schema{{Name: "last_seen", Kind: row.Timestamp}}
	for i, p := range d.Next {
		s = append(s, row.Field{Name: "value_" + d.Names[i], Kind: p.Kind()})
	}
	return []*state.Table{{Key: d.Keys.KeySchema(), Columns: s}, waitingTable(&d.Keys)}
}
func (d *Remember) NewLane(o LaneOptions) Lane {
	t := d.Tables()[0]
	l := &rememberLane{def: d, expiry: expiry{after: row.Time(d.Forget.Microseconds())}, kept: newLedger(t, o.Keeps), dict: state.NewDict(), out: newMadeRows(d.Schema, o.Ordered)}
	l.wait = newBuffer(&d.Keys, o, func() *state.Dict { return l.dict })
	l.cold = newCold(o, t, d.Forget > 0, keyFinder{func() *state.Dict { return l.dict }, func(id uint32) bool { return l.knows(id) || l.kept.left(id) }, l.Load})
	l.late, l.wrong = newLateRows(d.Keys.Input), newMadeRows(d.Keys.Input, o.Ordered)
	return l
}

// rememberLane keeps the values of each key, and the rows that the watermark has not passed.
type rememberLane struct {
	expiry
	kept   ledger
	cold   cold
	def    *Remember
	dict   *state.Dict
	values [][]expr.Value // by key; nil where nothing is remembered
	held   int            // bytes of texts and lists in values
	wait   *buffer
	counts LaneCounts
	late   lateRows
	out    madeRows
	wrong  madeRows // one row that had an error
	key    []*row.Column
	some   []passedRow
	locals []expr.Value
	next   []expr.Value
}

func (l *rememberLane) Counts() *LaneCounts { return &l.counts }
func (l *rememberLane) Held() Held {
	return Held{Keys: l.live + l.cold.rows, Rows: l.live + l.cold.rows + l.wait.waits(), Bytes: l.dict.Bytes() + l.wait.bytes() + l.expiry.bytes() + l.kept.bytes() + l.cold.bytes() + 24*cap(l.values) + valueBytes*len(l.def.Next)*l.live + l.held, Next: min(l.wait.next(), l.queue.next(), l.cold.due)}
}

// Take applies rows as they come, or keeps them until the watermark has passed them.
func (l *rememberLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		at, mark := x.Times[r], t.Marks[x.Index[r]]
		if !l.def.Arrival && at < mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		l.grow()
		if !l.def.Arrival {
			l.wait.put(x, int(r), id)
			continue
		}
		if l.passed(id, mark) {
			l.forget(id)
		}
		l.apply(x.Cols, int(r), id, at, rowPlace{index: x.Index[r], order: x.order(int(r))}, out)
	}
	l.late.flush(out)
	l.flush(out)
}

func (l *rememberLane) grow() {
	l.expiry.grow(l.dict.Len())
	for len(l.values) < l.dict.Len() {
		l.values = append(l.values, nil)
	}
}

// Move applies the rows that the watermark has passed, and forgets keys.
func (l *rememberLane) Move(t *Turn, out Out) {
	for l.wait.ready(t.After) {
		l.applySome(t, out)
	}
	l.flush(out)
	l.wait.passed(t.After)
	l.cold.eachDue(t.After, func(upTo row.Time) { l.due(upTo, l.forget) })
	if rebuilds(l.dict.Len(), l.live+len(l.wait.queue)) {
		l.rebuild(l.knows)
	}
}

// passedRow is a row that waited, and that the watermark has passed.
type passedRow struct {
	queued
	key uint32
}

// applySome applies rows that the watermark has passed, up to row.MaxRows.
func (l *rememberLane) applySome(t *Turn, out Out) {
	l.some = l.some[:0]
	wanted := state.NewNames(l.cold.table)
	for len(l.some) < row.MaxRows && l.wait.ready(t.After) {
		seq := l.wait.queue[0].seq
		at, r, id := l.wait.pop()
		l.some = append(l.some, passedRow{queued{at, seq, uint32(r)}, id})
		if l.cold.rows > 0 {
			l.cold.want(wanted, l.dict.Key(id), l.dict.Hash(id))
		}
	}
	if wanted.N > 0 {
		l.cold.fetch(wanted)
	}
	l.grow()
	for _, p := range l.some {
		l.apply(l.wait.rows.Cols, int(p.n), p.key, p.at, rowPlace{index: t.Passed(p.at + 1), made: true, seq: p.seq}, out)
	}
}

// Bring implements [Lane].
func (l *rememberLane) Bring(x *Exchange, lane int, _ *Turn) {
	if l.def.Arrival {
		l.cold.bring(x, lane)
	}
}

// Written implements [Lane].
func (l *rememberLane) Written() {
	l.kept.written()
	l.wait.written()
}

// Shed lets go what is remembered of keys where the store has it as it is, and rows that wait.
func (l *rememberLane) Shed() {
	goes := func(id uint32) bool { return l.knows(id) && l.kept.clean(id) }
	some := l.cold.letAll(l.dict.Len(), goes, func(id uint32) row.Time {
		if l.after == 0 {
			return row.MaxTime
		}
		return beyond(l.last[id], l.after)
	})
	if l.wait.shed() || some {
		l.rebuild(func(id uint32) bool { return l.knows(id) && !goes(id) })
	}
}

func (l *rememberLane) forget(id uint32) {
	l.counts.Forgotten++
	l.held -= heldOf(l.values[id])
	l.values[id] = nil
	l.drop(id)
	l.kept.drop(id, l.dict)
}

// valueBytes is what a value takes, beside its text.
const valueBytes = 48

func heldOf(values []expr.Value) (n int) {
	for _, v := range values {
		n += len(v.S)
	}
	return n
}

// rowPlace is where a row stands in its turn: that of its event, or, where the row waited for the watermark,
// behind the event that moved it.
type rowPlace struct {
	index uint16
	order []byte // of a row that did not wait
	made  bool
	seq   uint64 // orders rows of one key and time that waited
}

// apply takes one row: the output sees what was remembered before it. A row with an error changes nothing.
func (l *rememberLane) apply(cols []*row.Column, r int, id uint32, at row.Time, place rowPlace, out Out) {
	shown, wrong, err := l.evaluate(cols, r, l.before(id, at))
	switch {
	case err != nil:
		l.reject(cols, r, at, place, wrong, err, out)
		return
	case shown:
		l.give(cols, r, at, place)
	default:
		l.counts.Dropped++
	}
	l.remember(id, at)
	if l.out.full() {
		l.flush(out)
	}
}

// before gives what is remembered of a key before a row; nil where nothing is, or where it is forgotten by then.
func (l *rememberLane) before(id uint32, at row.Time) []expr.Value {
	if !l.knows(id) || at-l.last[id] >= l.after {
		return nil
	}
	return l.values[id]
}

// evaluate works out what a row makes of what is remembered: next, whether the row is shown, and then the sets behind
// the values in locals. wrong is the expression that has an error.
func (l *rememberLane) evaluate(cols []*row.Column, r int, before []expr.Value) (shown bool, wrong *expr.Program, err error) {
	d := l.def
	l.locals, l.next = append(l.locals[:0], before...), l.next[:0]
	if before == nil {
		for _, p := range d.Initial {
			v, err := p.Eval(nil, 0)
			if err != nil {
				return false, p, err
			}
			l.locals = append(l.locals, v)
		}
	}
	for _, p := range d.Next {
		v, err := p.EvalWith(cols, r, l.locals)
		if err != nil {
			return false, p, err
		}
		v.Kind = p.Kind()
		l.next = append(l.next, v)
	}
	if d.Where != nil {
		v, err := d.Where.EvalWith(cols, r, l.locals)
		if err != nil || !v.True() {
			return false, d.Where, err
		}
	}
	for _, p := range d.Sets {
		v, err := p.EvalWith(cols, r, l.locals)
		if err != nil {
			return false, p, err
		}
		l.locals = append(l.locals, v)
	}
	return true, nil, nil
}

// remember keeps next as the key's values. Locals of a row that is not published yet do not see them: values are copied.
func (l *rememberLane) remember(id uint32, at row.Time) {
	if len(l.values[id]) == 0 {
		l.values[id] = make([]expr.Value, len(l.def.Next))
	}
	l.held += heldOf(l.next) - heldOf(l.values[id])
	copy(l.values[id], l.next)
	l.touch(id, at)
	l.kept.touch(id)
}

// reject gives a row whose expression had an error, behind the rows before it.
func (l *rememberLane) reject(cols []*row.Column, r int, at row.Time, place rowPlace, p *expr.Program, err error, out Out) {
	l.flush(out)
	l.wrong.b.Reset()
	for i, c := range cols {
		l.wrong.b.Cols[i].AppendFrom(c, r)
	}
	l.end(&l.wrong, cols, r, at, place)
	out.Reject(ViewOf(l.wrong.b), Reject{Index: place.index, Row: 0, Reason: Expression, Message: err.Error(), Expression: p.Text()})
}

// give appends the row to what is published.
func (l *rememberLane) give(cols []*row.Column, r int, at row.Time, place rowPlace) {
	b := l.out.b
	for i, c := range l.def.Output {
		if c < len(cols) {
			b.Cols[i].AppendFrom(cols[c], r)
		} else {
			l.locals[len(l.def.Initial)+c-len(cols)].AppendTo(b.Cols[i])
		}
	}
	l.end(&l.out, cols, r, at, place)
	l.counts.Used++
}

// end ends a row of m that was made of row r of cols.
func (l *rememberLane) end(m *madeRows, cols []*row.Column, r int, at row.Time, place rowPlace) {
	if !place.made {
		m.own(at, place.index, place.order)
		return
	}
	l.key = l.key[:0]
	for _, k := range l.def.Keys.Key {
		l.key = append(l.key, cols[k])
	}
	m.add(at, place.index, l.key, r, place.seq)
}

func (l *rememberLane) flush(out Out) { l.out.flush(out, &l.counts) }

// rebuild makes everything anew for some keys, and for those of rows that wait.
func (l *rememberLane) rebuild(stays func(id uint32) bool) {
	var stay state.Set
	r := rekey(l.dict, func(mark []bool) {
		for id := range mark {
			if mark[id] = stays(uint32(id)); mark[id] {
				stay.Put(uint32(id))
			}
		}
		l.kept.known(mark)
		l.wait.known(mark)
	})
	for id := range l.values { // a key whose rows wait goes on without what is remembered of it
		if !stay.Has(uint32(id)) && l.knows(uint32(id)) {
			l.held -= heldOf(l.values[id])
			l.values[id] = nil
			l.kept.let(uint32(id))
			l.drop(uint32(id))
		}
	}
	l.values = moved(&r, l.values)
	l.expiry.rekey(&r)
	l.kept.rekey(&r)
	l.wait.tidy(r.to)
	l.dict = r.dict
}

// Freeze copies what is remembered of keys where it changed, and the rows that began to wait.
func (l *rememberLane) Freeze() []*state.Changes {
	return []*state.Changes{l.kept.freeze(l.dict, func(id uint32, cols []*row.Column) {
		cols[0].AppendInt(int64(l.last[id]))
		for i, v := range l.values[id] {
			v.AppendTo(cols[1+i])
		}
	}), l.wait.freeze(l.dict)}
}

// Load takes what is remembered, and the rows that wait.
func (l *rememberLane) Load(table int, r *state.Rows) error {
	if table == 1 {
		l.wait.load(r, l.dict)
		l.grow()
		return nil
	}
	return keysOf(r, l.dict, func(i int, id uint32) error {
		l.grow()
		l.kept.load(id)
		for n := range l.def.Next {
			l.values[id] = append(l.values[id], expr.At(r.Cols[1+n], i))
		}
		l.held += heldOf(l.values[id])
		l.touch(id, row.Time(r.Cols[0].I[i]))
		return nil
	})
}
