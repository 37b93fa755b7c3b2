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
func (d *Absent) Tables() []string       { return []string{""} }
func (d *Absent) NewLane(ordered bool) Lane {
	return &absentLane{def: d, expiry: expiry{after: row.Time(d.After.Microseconds())}, dict: state.NewDict(), out: newMadeRows(d.Schema, ordered), late: newLateRows(d.LateSchema())}
}

// absentLane keeps the greatest time of each key.
type absentLane struct {
	expiry
	def    *Absent
	dict   *state.Dict
	counts LaneCounts
	late   lateRows
	out    madeRows
}

func (l *absentLane) Counts() *LaneCounts { return &l.counts }
func (l *absentLane) Held() Held {
	return Held{Keys: l.live, Bytes: l.dict.Bytes() + l.expiry.bytes(), Next: l.queue.next()}
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
		l.counts.Used++
	}
	l.late.flush(out)
}

// Move gives the rows of keys that the watermark has passed, in order of time.
func (l *absentLane) Move(t *Turn, out Out) {
	l.due(t.After, func(id uint32) { l.give(id, t, out) })
	l.out.flush(out, &l.counts)
	if rebuilds(l.dict.Len(), l.live) {
		l.rebuild()
	}
}

func (l *absentLane) rebuild() {
	r := rekey(l.dict, l.known)
	l.expiry.rekey(&r)
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
	if l.out.full() {
		l.out.flush(out, &l.counts)
	}
}

func (d *Absent) stateSchema() row.Schema {
	s := d.Keys.stateKey()
	return append(s, row.Field{Name: "last_seen", Kind: row.Timestamp})
}

// Snapshot copies the keys.
func (l *absentLane) Snapshot() []*row.Batch {
	b := row.NewBatch(l.def.stateSchema())
	keys := len(l.def.Keys.Key)
	for share, ids := range byShare(l.dict) {
		for _, id := range ids {
			if l.knows(id) {
				saveKey(b, share, keys, l.dict, id)
				b.Cols[1+keys].AppendInt(int64(l.last[id]))
				b.N++
			}
		}
	}
	return []*row.Batch{b}
}

// Load takes the keys of the lane's shares.
func (l *absentLane) Load(_ int, b *row.Batch, lane, lanes int) error {
	keys := len(l.def.Keys.Key)
	return loadRows(b, l.def.stateSchema(), keys, lane, lanes, l.dict, func(i int, id uint32) error {
		l.grow(l.dict.Len())
		l.touch(id, row.Time(b.Cols[1+keys].I[i]))
		return nil
	})
}
