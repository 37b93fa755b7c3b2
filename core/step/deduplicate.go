package step

import (
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Deduplicate passes the first row of each key within a time (docs/time.md, "Deduplicate"). Immutable.
type Deduplicate struct {
	Keys   Spec
	Within time.Duration
}

// Spec implements [Keyed], as do the methods below.
func (d *Deduplicate) Spec() *Spec            { return &d.Keys }
func (d *Deduplicate) MainSchema() row.Schema { return d.Keys.Input }
func (d *Deduplicate) LateSchema() row.Schema { return lateSchema(d.Keys.Input) }
func (d *Deduplicate) Tables() []string       { return []string{""} }
func (d *Deduplicate) NewLane(bool) Lane {
	return &dedupLane{def: d, within: row.Time(d.Within.Microseconds()), dict: state.NewDict(), mark: row.MinTime, late: newLateRows(d.LateSchema())}
}

// dedupLane remembers, for each key, the times of the rows that have passed; nearly always one. Keys are not queued to
// be forgotten as [expiry] does: where nearly every row has a new key, looking through all of them once they have doubled
// costs a row less.
type dedupLane struct {
	def    *Deduplicate
	within row.Time
	dict   *state.Dict
	passed []row.Time            // by key: the greatest time that passed
	more   map[uint32][]row.Time // others, where there are several
	live   int                   // keys that counted when they were last looked through
	mark   row.Time
	counts LaneCounts
	late   lateRows
	sel    []uint16
}

func (l *dedupLane) Counts() *LaneCounts { return &l.counts }
func (l *dedupLane) Held() Held {
	return Held{Keys: l.dict.Len(), Bytes: l.dict.Bytes() + 8*cap(l.passed) + 64*len(l.more), Next: row.MaxTime}
}

func (l *dedupLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.sel = l.sel[:0]
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		at, mark := x.Times[r], t.Marks[x.Index[r]]
		if at+l.within <= mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		before := l.dict.Len()
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		if int(id) == before {
			l.passed = append(l.passed, at)
		} else if l.repeats(id, at, mark) {
			l.counts.Repeats++
			continue
		}
		l.sel = append(l.sel, r)
	}
	l.counts.Used += int64(len(l.sel))
	l.late.flush(out)
	if len(l.sel) > 0 {
		l.counts.Out += int64(len(l.sel))
		v := x.View
		v.Sel = l.sel
		out.Main(v)
	}
}

// repeats says whether a row of the key is a repeat; if not, it is remembered as passed.
func (l *dedupLane) repeats(id uint32, at, mark row.Time) bool {
	is := func(p row.Time) bool { return max(p-at, at-p) < l.within && mark < p+l.within }
	if is(l.passed[id]) {
		return true
	}
	kept := l.more[id][:0]
	for _, p := range l.more[id] {
		if is(p) {
			return true
		}
		if mark < p+l.within {
			kept = append(kept, p)
		}
	}
	if mark < l.passed[id]+l.within { // it may still have repeats
		if l.more == nil {
			l.more = map[uint32][]row.Time{}
		}
		kept = append(kept, min(at, l.passed[id]))
		at = max(at, l.passed[id])
	}
	l.passed[id] = at
	if len(kept) > 0 {
		l.more[id] = kept
	} else {
		delete(l.more, id)
	}
	return false
}

// Move forgets keys whose rows can have no repeat any more, once they are the greater part.
func (l *dedupLane) Move(t *Turn, _ Out) {
	l.mark = t.After
	if !rebuilds(l.dict.Len(), l.live) {
		return
	}
	n := 0
	for _, p := range l.passed {
		if beyond(p, l.within) > t.After {
			n++
		}
	}
	if l.live = n; 2*n > l.dict.Len() { // most are needed: look again when it has grown
		l.live = l.dict.Len()
		return
	}
	r := rekey(l.dict, func(mark []bool) {
		for id, p := range l.passed {
			mark[id] = beyond(p, l.within) > t.After
		}
	})
	more := map[uint32][]row.Time{}
	for id, m := range l.more {
		if r.alive[id] {
			more[r.to[id]] = m
		}
	}
	l.dict, l.passed, l.more = r.dict, moved(&r, l.passed), more
}

func (d *Deduplicate) stateSchema() row.Schema {
	s := d.Keys.stateKey()
	return append(s, row.Field{Name: "event_time", Kind: row.Timestamp})
}

// Snapshot copies the times that count still.
func (l *dedupLane) Snapshot() []*row.Batch {
	b := row.NewBatch(l.def.stateSchema())
	keys := len(l.def.Keys.Key)
	for share, ids := range byShare(l.dict) {
		for _, id := range ids {
			for _, p := range append([]row.Time{l.passed[id]}, l.more[id]...) {
				if beyond(p, l.within) <= l.mark {
					continue
				}
				saveKey(b, share, keys, l.dict, id)
				b.Cols[1+keys].AppendInt(int64(p))
				b.N++
			}
		}
	}
	return []*row.Batch{b}
}

// Load takes the times of the lane's shares.
func (l *dedupLane) Load(_ int, b *row.Batch, lane, lanes int) error {
	keys := len(l.def.Keys.Key)
	return loadRows(b, l.def.stateSchema(), keys, lane, lanes, l.dict, func(i int, id uint32) error {
		at := row.Time(b.Cols[1+keys].I[i])
		if int(id) == len(l.passed) {
			l.passed = append(l.passed, at)
			return nil
		}
		if l.more == nil {
			l.more = map[uint32][]row.Time{}
		}
		l.more[id] = append(l.more[id], min(at, l.passed[id]))
		l.passed[id] = max(at, l.passed[id])
		return nil
	})
}
