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
func (d *Deduplicate) Tables() []*state.Table {
	return []*state.Table{{Span: "about", Key: d.Keys.KeySchema(), Columns: row.Schema{{Name: "event_time", Kind: row.Timestamp}}}}
}
func (d *Deduplicate) NewLane(o LaneOptions) Lane {
	return &dedupLane{def: d, within: row.Time(d.Within.Microseconds()), keeps: o.Keeps, table: d.Tables()[0], behind: newBehind(o), dict: state.NewDict(), mark: row.MinTime, late: newLateRows(d.Keys.Input)}
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
	keeps  bool
	fresh  state.Set // keys of which a row passed since the last mark
	sent   state.Set // keys that were frozen and are not yet in the store
	table  *state.Table
	behind *behind
	away   awaySpans // what lies in the store alone, by span
	mark   row.Time
	counts LaneCounts
	late   lateRows
	sel    []uint16
	timely []uint16 // positions in the exchange
	ids    []uint32 // by timely: its key
}

func (l *dedupLane) Counts() *LaneCounts { return &l.counts }
func (l *dedupLane) Held() Held {
	return Held{Keys: l.dict.Len(), Rows: l.dict.Len(), Bytes: l.dict.Bytes() + 8*cap(l.passed) + 64*len(l.more) + l.fresh.Bytes() + l.sent.Bytes() + l.away.bytes(), Next: row.MaxTime}
}

func (l *dedupLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.sel, l.timely = l.sel[:0], l.timely[:0]
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		if mark := t.Marks[x.Index[r]]; x.Times[r]+l.within <= mark {
			l.late.add(x, int(r), mark, &l.counts)
			continue
		}
		l.timely = append(l.timely, j)
	}
	l.ids = l.dict.PutAll(&x.Keys, l.timely, l.ids[:0])
	for n, j := range l.timely {
		r, id := x.Sel[j], l.ids[n]
		at, mark := x.Times[r], t.Marks[x.Index[r]]
		if int(id) == len(l.passed) { // it is new
			l.passed = append(l.passed, at)
		} else if l.repeats(id, at, mark) {
			l.counts.Repeats++
			continue
		}
		if l.keeps {
			l.fresh.Put(id)
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
	if l.mark >= row.FirstTime && l.mark <= row.LastTime {
		l.away.pass(l.about(l.mark - l.within))
	}
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
	l.rebuild(func(id uint32) bool { return beyond(l.passed[id], l.within) > t.After })
}

// rebuild lets go all keys but some.
func (l *dedupLane) rebuild(stays func(id uint32) bool) {
	r := rekey(l.dict, func(mark []bool) {
		for id := range mark {
			mark[id] = stays(uint32(id))
		}
	})
	more := map[uint32][]row.Time{}
	for id, m := range l.more {
		if r.alive[id] {
			more[r.to[id]] = m
		}
	}
	l.dict, l.passed, l.more = r.dict, moved(&r, l.passed), more
	l.fresh = l.fresh.Moved(r.alive, r.to, r.dict.Len())
	l.sent = l.sent.Moved(r.alive, r.to, r.dict.Len())
}

// about gives the span that a time that passed stands in: an eighth of `within`, so that times that count no more go
// as one range. Two times of one key in one span do not both count: they are less than `within` apart.
func (l *dedupLane) about(at row.Time) row.Time {
	return floorTo(at, max(l.within/8, 1))
}

// floorTo gives the greatest multiple of width that is not later than a time.
func floorTo(at, width row.Time) row.Time {
	n := at / width
	if at < 0 && at%width != 0 {
		n--
	}
	return n * width
}

// Freeze copies the times that passed since the last mark.
func (l *dedupLane) Freeze() []*state.Changes {
	c := state.NewChanges(l.table)
	switch {
	case l.mark > row.LastTime:
		c.Passed = row.MaxTime
	case l.mark >= row.FirstTime:
		c.Passed = l.about(l.mark - l.within) // its last times may count still
	}
	l.fresh.Each(func(id uint32) {
		put := func(at row.Time) {
			if beyond(at, l.within) > l.mark {
				c.Put(l.dict.Key(id), l.dict.Hash(id), l.about(at))[0].AppendInt(int64(at))
			}
		}
		for _, at := range l.more[id] {
			put(at)
		}
		put(l.passed[id])
	})
	l.sent.Join(&l.fresh)
	l.fresh.Clear()
	return []*state.Changes{c}
}

// Written implements [Lane].
func (l *dedupLane) Written() { l.sent.Clear() }

// Bring implements [Lane]. A key is in memory with all times that count or not at all.
func (l *dedupLane) Bring(x *Exchange, lane int, _ *Turn) {
	if len(l.away) == 0 {
		return
	}
	wanted := state.NewNames(l.table)
	for _, j := range x.Lanes[lane] {
		key, hash := x.Keys.Bytes(int(j)), x.Keys.Hash[j]
		l.away.want(wanted, l.table, key, hash, func() bool {
			_, here := l.dict.Find(key, hash)
			return here
		})
	}
	l.behind.find(l.table, wanted, func(r *state.Rows) { l.behind.must(l.Load(0, r)) })
}

// Shed lets go the keys of which the store has all times.
func (l *dedupLane) Shed() {
	if l.behind == nil {
		return
	}
	kept := func(id uint32) bool { return l.fresh.Has(id) || l.sent.Has(id) }
	gone, keys := 0, l.dict.Len()
	for id := range uint32(keys) {
		if kept(id) {
			continue
		}
		gone++
		l.letGo(l.dict.Hash(id), l.passed[id], keys)
		for _, at := range l.more[id] {
			l.letGo(l.dict.Hash(id), at, keys)
		}
	}
	if gone > 0 {
		l.rebuild(kept)
		l.live = l.dict.Len()
	}
}

func (l *dedupLane) letGo(hash uint64, at row.Time, others int) {
	if beyond(at, l.within) <= l.mark {
		return // it counts no more
	}
	l.away.add(l.about(at), hash, others)
}

// Load takes times that passed.
func (l *dedupLane) Load(_ int, r *state.Rows) error {
	return keysOf(r, l.dict, func(i int, id uint32) error {
		at := row.Time(r.Cols[0].I[i])
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
