package step

import (
	"undertide/core/row"
	"undertide/core/state"
)

// wholeLane is the state of a step without a window: one accumulator for each key. It closes at the end
// of the input; a key that `forget` names goes without a row (docs/time.md, "Windows").
type wholeLane struct {
	expiry // where keys are forgotten
	kept   ledger
	cold   cold
	def    *Window
	dict   *state.Dict
	accs   *accs
	shown  []wholeKey // by key
	mark   row.Time
	beats  beats
	counts LaneCounts
	pub    *publisher

	preview []uint32
	ids     []uint32
	rows    []uint16
	due     due
}

// wholeKey is what was published of a key.
type wholeKey struct {
	published
	changed   bool // rows were added since the last row
	inPreview bool
}

func newWholeLane(d *Window, o LaneOptions) *wholeLane {
	t := d.wholeTable()
	l := &wholeLane{expiry: expiry{after: row.Time(d.Forget.Microseconds())}, kept: newLedger(t, o.Keeps), def: d, dict: state.NewDict(), accs: newAccs(&d.spec), mark: row.MinTime, beats: newBeats(d)}
	l.pub = newPublisher(d, o, &l.counts)
	l.cold = newCold(o, t, d.Forget > 0, keyFinder{func() *state.Dict { return l.dict }, func(id uint32) bool {
		return int(id) < len(l.accs.rows) && l.accs.rows[id] > 0 || l.kept.left(id)
	}, l.Load})
	return l
}

func (l *wholeLane) Counts() *LaneCounts { return &l.counts }
func (l *wholeLane) Held() Held {
	return Held{Windows: min(1, l.accs.keys), Keys: l.accs.keys + l.cold.rows, Rows: l.accs.keys + l.cold.rows, Bytes: l.dict.Bytes() + l.accs.bytes() + l.expiry.bytes() + l.kept.bytes() + l.cold.bytes() + 12*cap(l.shown), Next: min(l.queue.next(), l.cold.due)}
}

func (l *wholeLane) begin(t *Turn) {
	if l.beats.begin(t.Now) {
		l.mark = t.Marks[0]
	}
}

// Take adds the lane's rows. A key that its watermark has passed by `forget` starts anew.
func (l *wholeLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.begin(t)
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		l.grow()
		if l.after > 0 {
			if l.passed(id, t.Marks[x.Index[r]]) {
				l.flush(x)
				l.reset(id)
			}
			l.touch(id, x.Times[r])
		}
		l.ids, l.rows = append(l.ids, id), append(l.rows, r)
		l.kept.touch(id)
		if l.def.Revisions() {
			k := &l.shown[id]
			if k.changed = true; l.def.Revised && !k.inPreview {
				k.inPreview = true
				l.preview = append(l.preview, id)
			}
		}
	}
	l.flush(x)
}

func (l *wholeLane) grow() {
	n := l.dict.Len()
	l.accs.grow(n)
	l.expiry.grow(n)
	for len(l.shown) < n {
		l.shown = append(l.shown, wholeKey{})
	}
}

func (l *wholeLane) flush(x *Exchange) {
	l.counts.Used += int64(len(l.ids))
	l.accs.add(x, l.ids, l.rows)
	l.ids, l.rows = l.ids[:0], l.rows[:0]
}

func (l *wholeLane) reset(id uint32) {
	l.counts.Forgotten++
	l.accs.reset(id)
	l.drop(id)
	l.kept.drop(id, l.dict)
	l.shown[id] = wholeKey{}
}

// Move forgets keys, and publishes what is due by the clock and at the end.
func (l *wholeLane) Move(t *Turn, out Out) {
	l.begin(t)
	ended := t.After == row.MaxTime && l.mark < row.MaxTime
	l.mark = t.After
	if ended { // what the last event had passed is forgotten all the same
		l.forget(t.Marks[len(t.Marks)-1])
	} else {
		l.forget(t.After)
	}
	if !ended && l.beats.preview(t.Now) {
		l.publishPreviews(t, out)
	}
	if ended {
		l.publishAll(t, out, true, false)
	}
	if l.beats.repeat(t.Now, ended) {
		l.publishAll(t, out, ended, true)
	}
	if ended { // nothing follows
		l.kept.empty()
		l.cold.forget()
		l.dict, l.accs, l.shown, l.expiry = state.NewDict(), newAccs(&l.def.spec), nil, expiry{after: l.after}
	}
}

// publishPreviews publishes the keys that got rows since the last beat, and were neither published nor forgotten
// meanwhile.
func (l *wholeLane) publishPreviews(t *Turn, out Out) {
	due := l.preview[:0]
	for _, id := range l.preview {
		if l.shown[id].inPreview {
			l.shown[id].inPreview = false
			due = append(due, id)
		}
	}
	if len(due) > 0 {
		l.publish(due, t, out, false, false)
	}
	l.preview = l.preview[:0]
}

// forget forgets the keys that the watermark has passed, and the dictionary's once most are gone.
func (l *wholeLane) forget(mark row.Time) {
	if l.after == 0 {
		return
	}
	l.cold.eachDue(mark, func(upTo row.Time) { l.expiry.due(upTo, l.reset) })
	if rebuilds(l.dict.Len(), l.accs.keys) {
		l.rebuild(func(uint32) bool { return true })
	}
}

// rebuild makes everything anew for the keys that have rows and stay.
func (l *wholeLane) rebuild(stays func(id uint32) bool) {
	r := rekey(l.dict, func(mark []bool) {
		for id, n := range l.accs.rows {
			mark[id] = n > 0 && stays(uint32(id))
		}
		l.kept.known(mark)
	})
	accs := l.accs
	l.expiry.rekey(&r)
	l.kept.rekey(&r)
	l.dict, l.accs, l.shown, l.preview = r.dict, newAccs(&l.def.spec), moved(&r, l.shown), r.numbers(l.preview)
	l.grow()
	for id, is := range r.alive {
		if is {
			l.accs.merge(r.to[id], accs, uint32(id))
		}
	}
}

// Bring implements [Lane].
func (l *wholeLane) Bring(x *Exchange, lane int, _ *Turn) { l.cold.bring(x, lane) }

// Written implements [Lane].
func (l *wholeLane) Written() { l.kept.written() }

// Shed lets go the keys that the store has as they are. What waits for a preview stays.
func (l *wholeLane) Shed() {
	goes := func(id uint32) bool { return l.accs.rows[id] > 0 && l.kept.clean(id) && !l.shown[id].inPreview }
	any := l.cold.letAll(len(l.accs.rows), goes, func(id uint32) row.Time {
		if !l.knows(id) {
			return row.MaxTime
		}
		return beyond(l.last[id], l.after)
	})
	if any {
		l.rebuild(func(id uint32) bool { return !goes(id) })
	}
}

// publishAll makes rows of all keys.
func (l *wholeLane) publishAll(t *Turn, out Out, closed, again bool) {
	l.cold.inParts(func(first, last int) {
		var ids []uint32
		for id := range uint32(len(l.accs.rows)) {
			if l.accs.rows[id] > 0 && within(l.dict, id, first, last) {
				ids = append(ids, id)
			}
		}
		l.publish(ids, t, out, closed, again)
	})
}

// publish makes rows of some keys.
func (l *wholeLane) publish(ids []uint32, t *Turn, out Out, closed, again bool) {
	d := &l.due
	d.reset()
	d.key = append(d.key, ids...)
	kept := d.key[:0]
	for _, id := range d.key {
		if l.accs.rows[id] > 0 {
			kept = append(kept, id)
		}
	}
	d.key = kept
	d.acc = append(d.acc, d.key...)
	d.index = filled(d.index, len(d.key), uint16(len(t.Marks)-1))
	if closed && !again {
		l.counts.LeftOut += l.accs.leftOut(d.acc)
	}
	if !l.def.Revisions() {
		l.pub.publish(d, l.accs, l.dict, out, nil)
		return
	}
	for _, id := range d.key {
		d.slot = append(d.slot, int(id))
	}
	l.pub.publish(d, l.accs, l.dict, out, func(id int, meets bool) verdict {
		k := &l.shown[id]
		if again && !k.changed && k.next > 0 {
			return k.again(closed)
		}
		k.changed, k.inPreview = false, false
		l.kept.touch(uint32(id))
		return k.row(meets, closed)
	})
}

// wholeTable declares the keys, with what was published of each.
func (d *Window) wholeTable() *state.Table {
	return &state.Table{Key: d.spec.KeySchema(), Columns: append(row.Schema{{Name: "last_seen", Kind: row.Timestamp}, {Name: "next_revision", Kind: row.Int},
		{Name: "standing", Kind: row.Bool}, {Name: "changed", Kind: row.Bool}}, d.spec.accSchema()...)}
}

// Freeze copies the keys that changed.
func (l *wholeLane) Freeze() []*state.Changes {
	return []*state.Changes{l.kept.freeze(l.dict, func(id uint32, cols []*row.Column) {
		if l.knows(id) {
			cols[0].AppendInt(int64(l.last[id]))
		} else {
			cols[0].AppendNull()
		}
		k := l.shown[id]
		cols[1].AppendInt(int64(k.next))
		cols[2].AppendBool(k.standing)
		cols[3].AppendBool(k.changed)
		l.accs.save(cols[4:], id)
	})}
}

// Load takes keys.
func (l *wholeLane) Load(_ int, r *state.Rows) error {
	c := r.Cols
	return keysOf(r, l.dict, func(i int, id uint32) error {
		l.grow()
		l.kept.load(id)
		if !c[0].IsNull(i) {
			l.touch(id, row.Time(c[0].I[i]))
		}
		k := wholeKey{published: published{int32(c[1].I[i]), c[2].I[i] != 0}, changed: c[3].I[i] != 0}
		if k.changed && l.def.Revised {
			k.inPreview = true
			l.preview = append(l.preview, id)
		}
		l.shown[id] = k
		return l.accs.load(c[4:], i, id)
	})
}
