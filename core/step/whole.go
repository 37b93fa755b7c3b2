package step

import (
	"undertide/core/row"
	"undertide/core/state"
)

// wholeLane is the state of a step without a window: one accumulator for each key. It closes at the end
// of the input; a key that `forget` names goes without a row (docs/time.md, "Windows").
type wholeLane struct {
	def    *Window
	dict   *state.Dict
	accs   *accs
	last   []row.Time // by key: its greatest time
	shown  shownWindow
	queue  queue
	queued []row.Time // by key: when its entry in the queue is due
	mark   row.Time
	begun  bool
	counts LaneCounts
	pub    *publisher

	preview             []uint32
	nextBeat, nextAgain row.Time
	ids                 []uint32
	rows                []uint16
	due                 due
}

func newWholeLane(d *Window, ordered bool) *wholeLane {
	l := &wholeLane{def: d, dict: state.NewDict(), accs: newAccs(&d.spec), mark: row.MinTime}
	l.pub = newPublisher(d, ordered, &l.counts)
	return l
}

func (l *wholeLane) Counts() *LaneCounts { return &l.counts }
func (l *wholeLane) Held() Held {
	return Held{Windows: min(1, l.accs.keys), Keys: l.accs.keys, Bytes: l.dict.Bytes() + l.accs.bytes() + 16*cap(l.last), Next: l.queue.next()}
}

func (l *wholeLane) begin(t *Turn) {
	if !l.begun {
		l.begun, l.mark = true, t.Marks[0]
		l.nextBeat, l.nextAgain = t.Now+row.Time(l.def.Every.Microseconds()), t.Now+row.Time(l.def.RepeatEvery.Microseconds())
	}
}

// Take adds the lane's rows. A key that its watermark has passed by `forget` starts anew.
func (l *wholeLane) Take(x *Exchange, lane int, t *Turn, out Out) {
	l.begin(t)
	forget := row.Time(l.def.Forget.Microseconds())
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		id := l.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j])
		l.grow()
		if forget > 0 {
			if mark := t.Marks[x.Index[r]]; l.last[id] != row.MinTime && l.last[id]+forget <= mark {
				l.flush(x)
				l.reset(id)
			}
			l.last[id] = max(l.last[id], x.Times[r])
			if due := l.last[id] + forget; l.queued[id] == row.MaxTime {
				l.queued[id] = due
				l.queue.push(due, id)
			}
		}
		l.ids, l.rows = append(l.ids, id), append(l.rows, r)
		if l.def.Revisions() {
			f := &l.shown.flags[id]
			if *f |= changed; l.def.Revised && *f&inPreview == 0 {
				*f |= inPreview
				l.preview = append(l.preview, id)
			}
		}
	}
	l.flush(x)
}

func (l *wholeLane) grow() {
	n := l.dict.Len()
	l.accs.grow(n)
	for len(l.last) < n {
		l.last = append(l.last, row.MinTime)
		l.queued = append(l.queued, row.MaxTime)
	}
	l.shown.grow(n)
}

func (l *wholeLane) flush(x *Exchange) {
	l.counts.Used += int64(len(l.ids))
	l.accs.add(x, l.ids, l.rows)
	l.ids, l.rows = l.ids[:0], l.rows[:0]
}

func (l *wholeLane) reset(id uint32) {
	l.accs.reset(id)
	l.last[id] = row.MinTime
	l.shown.next[id], l.shown.flags[id] = 0, 0
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
	if l.def.Revised && t.Now >= l.nextBeat && !ended {
		l.nextBeat = t.Now + row.Time(l.def.Every.Microseconds())
		due := l.preview[:0]
		for _, id := range l.preview {
			if l.shown.flags[id]&inPreview != 0 { // else it was published or forgotten meanwhile
				l.shown.flags[id] &^= inPreview
				due = append(due, id)
			}
		}
		if len(due) > 0 {
			l.publish(due, t, out, false, false)
		}
		l.preview = l.preview[:0]
	}
	if ended {
		l.publish(nil, t, out, true, false)
	}
	if l.def.RepeatEvery > 0 && (t.Now >= l.nextAgain || ended) {
		l.nextAgain = t.Now + row.Time(l.def.RepeatEvery.Microseconds())
		l.publish(nil, t, out, ended, true)
	}
	if ended { // nothing follows
		l.dict, l.accs, l.last, l.queued, l.shown = state.NewDict(), newAccs(&l.def.spec), nil, nil, shownWindow{}
	}
}

func (l *wholeLane) forget(mark row.Time) {
	if l.def.Forget == 0 {
		return
	}
	forget := row.Time(l.def.Forget.Microseconds())
	for len(l.queue) > 0 && l.queue.next() <= mark {
		id := l.queue.pop().n
		l.queued[id] = row.MaxTime
		switch due := beyond(l.last[id], forget); {
		case l.last[id] == row.MinTime:
		case due <= mark:
			l.reset(id)
		default:
			l.queued[id] = due
			l.queue.push(due, id)
		}
	}
	if l.dict.Len() <= 2*l.accs.keys+1024 || len(l.preview) > 0 {
		return
	}
	live := make([]bool, l.dict.Len())
	for id, n := range l.accs.rows {
		live[id] = n > 0
	}
	dict, to := l.dict.Keep(live)
	old := *l
	l.dict, l.accs, l.last, l.queued, l.shown, l.queue = dict, newAccs(&l.def.spec), nil, nil, shownWindow{}, nil
	l.grow()
	for id, is := range live {
		if !is {
			continue
		}
		k := to[id]
		l.accs.merge(k, old.accs, uint32(id))
		l.last[k], l.shown.next[k], l.shown.flags[k] = old.last[id], old.shown.next[id], old.shown.flags[id]
		l.queued[k] = l.last[k] + forget
		l.queue.push(l.queued[k], k)
	}
}

// publish makes rows of some keys, or of all.
func (l *wholeLane) publish(ids []uint32, t *Turn, out Out, closed, again bool) {
	d := &l.due
	d.reset()
	if ids == nil {
		for id := range l.accs.rows {
			d.key = append(d.key, uint32(id))
		}
	} else {
		d.key = append(d.key, ids...)
	}
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
		l.counts.LeftOut += l.accs.left(d.acc)
	}
	if !l.def.Revisions() {
		l.pub.publish(d, l.accs, l.dict, out, nil)
		return
	}
	for _, id := range d.key {
		d.slot = append(d.slot, int(id))
	}
	l.pub.publish(d, l.accs, l.dict, out, func(id int, meets bool) verdict {
		if again && l.shown.flags[id]&changed == 0 && l.shown.next[id] > 0 {
			return verdict{show: l.shown.flags[id]&standing != 0, revision: int64(l.shown.next[id]) - 1, closed: closed}
		}
		return l.shown.row(id, meets, closed)
	})
}

func (d *Window) wholeSchema() row.Schema {
	s := d.spec.stateKey()
	s = append(s, row.Field{Name: "last_seen", Kind: row.Timestamp}, row.Field{Name: "next_revision", Kind: row.Int}, row.Field{Name: "standing", Kind: row.Bool}, row.Field{Name: "changed", Kind: row.Bool})
	return append(s, d.spec.accSchema()...)
}

// Snapshot copies the keys.
func (l *wholeLane) Snapshot() []*row.Batch {
	b := row.NewBatch(l.def.wholeSchema())
	keys := len(l.def.spec.Key)
	for share, ids := range byShare(l.dict) {
		for _, id := range ids {
			if int(id) >= len(l.accs.rows) || l.accs.rows[id] == 0 {
				continue
			}
			saveKey(b, share, keys, l.dict, id)
			c := b.Cols[1+keys:]
			if l.last[id] == row.MinTime {
				c[0].AppendNull()
			} else {
				c[0].AppendInt(int64(l.last[id]))
			}
			c[1].AppendInt(int64(l.shown.next[id]))
			c[2].AppendBool(l.shown.flags[id]&standing != 0)
			c[3].AppendBool(l.shown.flags[id]&changed != 0)
			l.accs.save(c[4:], id)
			b.N++
		}
	}
	return []*row.Batch{b}
}

// Load takes the keys of the lane's shares.
func (l *wholeLane) Load(_ int, b *row.Batch, lane, lanes int) error {
	keys := len(l.def.spec.Key)
	return loadRows(b, l.def.wholeSchema(), keys, lane, lanes, l.dict, func(i int, id uint32) error {
		l.grow()
		c := b.Cols[1+keys:]
		if !c[0].IsNull(i) {
			l.last[id] = row.Time(c[0].I[i])
			l.queued[id] = l.last[id] + row.Time(l.def.Forget.Microseconds())
			l.queue.push(l.queued[id], id)
		}
		l.shown.next[id] = int32(c[1].I[i])
		if c[2].I[i] != 0 {
			l.shown.flags[id] |= standing
		}
		if c[3].I[i] != 0 {
			l.shown.flags[id] |= changed
			if l.def.Revised {
				l.shown.flags[id] |= inPreview
				l.preview = append(l.preview, id)
			}
		}
		return l.accs.load(c[4:], i, id)
	})
}
