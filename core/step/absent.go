package step

import (
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Absent gives a row when a key has had none for some time (docs/time.md, "Windows"). Immutable.
type Absent struct {
	Keys   Spec
	After  time.Duration
	Schema row.Schema // key, last_seen
}

// Spec implements [Keyed], as do the methods below.
func (d *Absent) Spec() *Spec            { return &d.Keys }
func (d *Absent) MainSchema() row.Schema { return d.Schema }
func (d *Absent) LateSchema() row.Schema { return lateSchema(d.Keys.Input) }
func (d *Absent) Tables() []*state.Table {
	return []*state.Table{{Key: d.Keys.KeySchema(), Columns: row.Schema{{Name: "last_seen", Kind: row.Timestamp}}}}
}
func (d *Absent) NewLane(o LaneOptions) Lane {
	t := d.Tables()[0]
	l := &absentLane{def: d, expiry: expiry{after: row.Time(d.After.Microseconds())}, kept: newLedger(t, o.Keeps), dict: state.NewDict(), out: newMadeRows(d.Schema, o.Ordered), late: newLateRows(d.Keys.Input)}
	l.cold = newCold(o, t, true, keyFinder{func() *state.Dict { return l.dict }, func(id uint32) bool { return l.knows(id) || l.kept.left(id) }, l.Load})
	return l
}

// absentLane keeps the greatest time of each key.
type absentLane struct {
	expiry
	kept   ledger
	cold   cold
	def    *Absent
	dict   *state.Dict
	counts LaneCounts
	late   lateRows
	out    madeRows
}

func (l *absentLane) Counts() *LaneCounts { return &l.counts }
func (l *absentLane) Held() Held {
	return Held{Keys: l.live + l.cold.rows, Rows: l.live + l.cold.rows, Bytes: l.dict.Bytes() + l.expiry.bytes() + l.kept.bytes() + l.cold.bytes(), Next: min(l.queue.next(), l.cold.due)}
}

// Take notes the times of the lane's rows. A key that the row's own watermark has passed gets its row
// before it is seen anew. A row that would be absent as it comes is late.
func (l *absentLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		at, mark := x.Times[r], t.Marks[x.Index[r]]
		if at+l.after <= mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		l.grow(l.dict.Len())
		if l.passed(id, mark) {
			l.give(id, t, out)
		}
		l.touch(id, at)
		l.kept.touch(id)
		l.counts.Used++
	}
	l.late.flush(out)
}

// Move gives the rows of keys that the watermark has passed, in order of time.
func (l *absentLane) Move(t *Turn, out Out) {
	l.cold.eachDue(t.After, func(upTo row.Time) {
		l.due(upTo, func(id uint32) { l.give(id, t, out) })
		l.out.flush(out, &l.counts)
		if rebuilds(l.dict.Len(), l.live) {
			l.rebuild(l.knows)
		}
	})
}

// Bring implements [Lane].
func (l *absentLane) Bring(x *Exchange, lane int, _ *Turn) { l.cold.bring(x, lane) }

// Written implements [Lane].
func (l *absentLane) Written() { l.kept.written() }

// Shed lets go the keys that the store has as they are.
func (l *absentLane) Shed() {
	goes := func(id uint32) bool { return l.knows(id) && l.kept.clean(id) }
	if l.cold.letAll(l.dict.Len(), goes, func(id uint32) row.Time { return beyond(l.last[id], l.after) }) {
		l.rebuild(func(id uint32) bool { return l.knows(id) && !goes(id) })
	}
}

// rebuild makes everything anew for some keys.
func (l *absentLane) rebuild(stays func(id uint32) bool) {
	r := rekey(l.dict, func(mark []bool) {
		for id := range mark {
			mark[id] = stays(uint32(id))
		}
		l.kept.known(mark)
	})
	l.expiry.rekey(&r)
	l.kept.rekey(&r)
	l.dict = r.dict
}

// give makes a key's row and forgets the key.
func (l *absentLane) give(id uint32, t *Turn, out Out) {
	keys := len(l.def.Keys.Key)
	cols := l.out.b.Cols
	if err := state.AppendKey(cols[:keys], l.dict.Key(id)); err != nil {
		panic("a key of the dictionary cannot be read: " + err.Error()) // ours alone wrote it
	}
	cols[keys].AppendInt(int64(l.last[id]))
	due := l.last[id] + l.after
	l.out.add(due, t.Passed(due), cols[:keys], l.out.b.N, 0)
	l.drop(id)
	l.kept.drop(id, l.dict)
	if l.out.full() {
		l.out.flush(out, &l.counts)
	}
}

// Freeze copies the keys that changed.
func (l *absentLane) Freeze() []*state.Changes {
	return []*state.Changes{l.kept.freeze(l.dict, func(id uint32, cols []*row.Column) { cols[0].AppendInt(int64(l.last[id])) })}
}

// Load takes keys.
func (l *absentLane) Load(_ int, r *state.Rows) error {
	return keysOf(r, l.dict, func(i int, id uint32) error {
		l.grow(l.dict.Len())
		l.touch(id, row.Time(r.Cols[0].I[i]))
		l.kept.load(id)
		return nil
	})
}
