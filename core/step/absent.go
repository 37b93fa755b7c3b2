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
	return &absentLane{def: d, after: row.Time(d.After.Microseconds()), dict: state.NewDict(), out: newMadeRows(d.Schema, ordered), late: newLateRows(d.LateSchema())}
}

// absentLane keeps the greatest time of each key.
type absentLane struct {
	def    *Absent
	after  row.Time
	dict   *state.Dict
	last   []row.Time // by key; row.MinTime where it is forgotten
	queued []row.Time // when the key's entry in the queue is due; row.MaxTime without
	queue  queue
	live   int
	counts LaneCounts
	late   lateRows
	out    madeRows
}

func (l *absentLane) Counts() *LaneCounts { return &l.counts }
func (l *absentLane) Held() Held {
	return Held{Keys: l.live, Bytes: l.dict.Bytes() + 16*cap(l.last) + 16*cap(l.queue), Next: l.queue.next()}
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
		for int(id) >= len(l.last) {
			l.last, l.queued = append(l.last, row.MinTime), append(l.queued, row.MaxTime)
		}
		if l.last[id] != row.MinTime && l.last[id]+l.after <= mark {
			l.give(id, t, out)
		}
		if l.last[id] == row.MinTime {
			l.live++
		}
		l.last[id] = max(l.last[id], at)
		if l.queued[id] == row.MaxTime {
			l.queued[id] = at + l.after
			l.queue.push(l.queued[id], id)
		}
		l.counts.Used++
	}
	l.late.flush(out)
}

// Move gives the rows of keys that the watermark has passed, in order of time.
func (l *absentLane) Move(t *Turn, out Out) {
	for len(l.queue) > 0 && l.queue.next() <= t.After {
		id := l.queue.pop().n
		l.queued[id] = row.MaxTime
		if l.last[id] == row.MinTime {
			continue
		}
		if due := l.last[id] + l.after; due > t.After {
			l.queued[id] = due
			l.queue.push(due, id)
			continue
		}
		l.give(id, t, out)
	}
	l.out.flush(out, &l.counts)
	if l.dict.Len() > 2*l.live+1024 {
		l.rebuild()
	}
}

func (l *absentLane) rebuild() {
	live := make([]bool, l.dict.Len())
	for id, t := range l.last {
		live[id] = t != row.MinTime
	}
	dict, to := l.dict.Keep(live)
	last, queued := make([]row.Time, dict.Len()), make([]row.Time, dict.Len())
	l.queue = l.queue[:0]
	for id, is := range live {
		if is {
			k := to[id]
			last[k], queued[k] = l.last[id], l.last[id]+l.after
			l.queue.push(queued[k], k)
		}
	}
	l.dict, l.last, l.queued = dict, last, queued
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
	l.last[id] = row.MinTime
	l.live--
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
			if int(id) < len(l.last) && l.last[id] != row.MinTime {
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
		at := row.Time(b.Cols[1+keys].I[i])
		l.last, l.queued = append(l.last, at), append(l.queued, at+l.after)
		l.queue.push(at+l.after, id)
		l.live++
		return nil
	})
}
