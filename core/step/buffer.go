package step

import (
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// buffer keeps whole rows with their keys until the watermark has passed their time, and gives them back
// in order of time, among equal times in order of place.
type buffer struct {
	spec  *Spec
	rows  *row.Batch
	key   []uint32 // by row: its key
	free  int      // rows that were given back; the batch is rebuilt when they are the greater part
	queue queue    // of row numbers
	seq   uint64
	mark  row.Time // rows before it wait no more
	keeps bool
	fresh []queued // what began to wait since the last mark; some may have gone
	// sending: what was frozen is not yet in the store.
	sending bool

	// Rows from horizon on may lie in the store alone, away of them; those that came since are in memory.
	behind  *behind
	table   *state.Table
	dict    func() *state.Dict
	horizon row.Time
	away    int
}

// newBuffer makes an empty one; dict gives the lane's dictionary of keys.
func newBuffer(s *Spec, o LaneOptions, dict func() *state.Dict) *buffer {
	return &buffer{spec: s, rows: row.NewBatch(s.Input), mark: row.MinTime, keeps: o.Keeps, behind: newBehind(o), table: waitingTable(s), dict: dict, horizon: row.MaxTime}
}

// put keeps row r of x.
func (b *buffer) put(x *Exchange, r int, key uint32) {
	for c, col := range x.Cols {
		b.rows.Cols[c].AppendFrom(col, r)
	}
	b.rows.N++
	b.push(x.Times[r], key)
}

// putAll keeps these rows of x, with their keys.
func (b *buffer) putAll(x *Exchange, rows []int32, keys []uint32) {
	for c, col := range x.Cols {
		b.rows.Cols[c].AppendPicked(col, rows)
	}
	b.rows.N += len(rows)
	for n, r := range rows {
		b.push(x.Times[r], keys[n])
	}
}

// push queues the row that was appended last.
func (b *buffer) push(at row.Time, key uint32) {
	b.key = append(b.key, key)
	b.seq++
	q := queued{at, b.seq, uint32(len(b.key) - 1)}
	if b.queue.put(q); b.keeps {
		b.fresh = append(b.fresh, q)
	}
}

// next gives the least time; row.MaxTime for none.
func (b *buffer) next() row.Time { return min(b.queue.next(), b.horizon) }

// waits counts the rows.
func (b *buffer) waits() int { return len(b.queue) + b.away }

// ready says whether there is a row before a time, and has the first such in memory, with all others of its time.
func (b *buffer) ready(before row.Time) bool {
	for b.horizon < before && b.queue.next() >= b.horizon {
		b.refill()
	}
	return b.queue.next() < before
}

// refill fetches the rows at the horizon, and some behind it.
func (b *buffer) refill() {
	type name struct {
		at   row.Time
		seq  uint64
		hash uint64
	}
	here := map[name]bool{} // came since, and may be in the store too
	for _, q := range b.queue {
		if q.at >= b.horizon {
			here[name{q.at, q.seq, b.dict().Hash(b.key[q.n])}] = true
		}
	}
	from, n, at := b.horizon, 0, row.MinTime
	b.horizon = row.MaxTime
	first, last := b.behind.shares()
	b.behind.scan(b.table, from, row.MaxTime, first, last, func(r *state.Rows) bool {
		var not []int
		for i := range r.N {
			if n >= portion && r.Span[i] > at {
				b.horizon = r.Span[i]
				for ; i < r.N; i++ {
					not = append(not, i)
				}
				break
			}
			at = r.Span[i]
			if here[name{at, uint64(r.Rest[0][i]), r.Hash[i]}] {
				not = append(not, i)
				continue
			}
			n++
		}
		b.load(r.Without(not), b.dict())
		return b.horizon == row.MaxTime
	})
	if b.away -= n; b.horizon == row.MaxTime {
		b.away = 0
	}
}

// shed lets go the later half of the rows, where the store has all of them; the caller rebuilds the dictionary.
func (b *buffer) shed() bool {
	if b.behind == nil || len(b.queue) == 0 || len(b.fresh) > 0 || b.sending {
		return false
	}
	times := make([]row.Time, len(b.queue))
	for i, q := range b.queue {
		times[i] = q.at
	}
	slices.Sort(times)
	from := min(times[len(times)/2>>checked], b.horizon)
	var kept queue
	for _, q := range b.queue {
		if q.at < from {
			kept.put(q)
		} else {
			b.away++
			b.free++
		}
	}
	b.queue, b.horizon = kept, from
	return true
}

// written notes that the store has what was frozen.
func (b *buffer) written() { b.sending = false }

// pop takes the row of least time: its number in rows, valid until the next put.
func (b *buffer) pop() (at row.Time, r int, key uint32) {
	top := b.queue.pop()
	b.free++
	return top.at, int(top.n), b.key[top.n]
}

// passed is told where the watermark stands once all rows before it were taken.
func (b *buffer) passed(mark row.Time) {
	b.mark = mark
	if len(b.fresh) > 2*len(b.queue)+4096 { // marks are rare, or there are none
		b.fresh = slices.DeleteFunc(b.fresh, func(q queued) bool { return q.at < b.mark })
	}
	b.tidy(nil)
}

// clear lets everything go; no row waits.
func (b *buffer) clear() {
	b.rows, b.key, b.free, b.queue, b.fresh = row.NewBatch(b.spec.Input), nil, 0, nil, nil
}

// tidy gives memory back once most rows are gone; rekey, if not nil, gives the new numbers of keys.
func (b *buffer) tidy(rekey []uint32) {
	if rekey == nil && (b.free < 4096 || b.free < len(b.key)/2) {
		return
	}
	next := row.NewBatch(b.spec.Input)
	keys := make([]uint32, 0, len(b.queue))
	var to []uint32
	if len(b.fresh) > 0 {
		to = make([]uint32, len(b.key))
	}
	for i := range b.queue {
		q := &b.queue[i]
		next.AppendFrom(b.rows, int(q.n))
		k := b.key[q.n]
		if rekey != nil {
			k = rekey[k]
		}
		keys = append(keys, k)
		if to != nil {
			to[q.n] = uint32(len(keys) - 1)
		}
		q.n = uint32(len(keys) - 1)
	}
	b.fresh = slices.DeleteFunc(b.fresh, func(q queued) bool { return q.at < b.mark })
	for i := range b.fresh {
		b.fresh[i].n = to[b.fresh[i].n]
	}
	b.rows, b.key, b.free = next, keys, 0
}

func (b *buffer) bytes() int {
	n := queuedBytes*(cap(b.queue)+cap(b.fresh)) + 4*cap(b.key)
	for _, c := range b.rows.Cols {
		n += 8*cap(c.I) + 8*cap(c.F) + 4*cap(c.Off) + cap(c.Data)
	}
	return n
}

// waitingTable declares the rows that wait: those of one time stand together, so that what the watermark has passed goes
// as one range. Place orders rows of one key and time.
func waitingTable(s *Spec) *state.Table {
	t := &state.Table{Name: "waiting", Span: "event_time", Key: s.KeySchema(), Rest: row.Schema{{Name: "place", Kind: row.Int}}}
	for _, f := range s.Input {
		t.Columns = append(t.Columns, row.Field{Name: "row_" + f.Name, Kind: f.Kind})
	}
	return t
}

// freeze copies the rows that began to wait since it was called last, and wait still.
func (b *buffer) freeze(d *state.Dict) *state.Changes {
	c := state.NewChanges(b.table)
	c.Passed = b.mark
	for _, q := range b.fresh {
		if q.at < b.mark {
			continue
		}
		key := b.key[q.n]
		for k, col := range c.Put(d.Key(key), d.Hash(key), q.at, int64(q.seq)) {
			col.AppendFrom(b.rows.Cols[k], int(q.n))
		}
	}
	b.fresh, b.sending = b.fresh[:0], b.sending || len(c.New) > 0
	return c
}

// load takes rows that wait back. Rows of one key keep their order; others come behind all of them.
func (b *buffer) load(r *state.Rows, d *state.Dict) {
	for i := range r.N {
		for k, col := range b.rows.Cols {
			col.AppendFrom(r.Cols[k], i)
		}
		b.rows.N++
		key := d.Put(r.Key(i), r.Hash[i])
		b.key = append(b.key, key)
		seq := uint64(r.Rest[0][i])
		b.queue.put(queued{r.Span[i], seq, uint32(len(b.key) - 1)})
		b.seq = max(b.seq, seq)
	}
}

// known marks the keys of rows that wait.
func (b *buffer) known(mark []bool) {
	for _, q := range b.queue {
		mark[b.key[q.n]] = true
	}
}
