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
}

func newBuffer(s *Spec, keeps bool) *buffer {
	return &buffer{spec: s, rows: row.NewBatch(s.Input), mark: row.MinTime, keeps: keeps}
}

// put keeps row r of x.
func (b *buffer) put(x *Exchange, r int, key uint32) {
	for c, col := range x.Cols {
		b.rows.Cols[c].AppendFrom(col, r)
	}
	b.rows.N++
	b.push(x.Times[r], key)
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
func (b *buffer) next() row.Time { return b.queue.next() }

// pop takes the row of least time: its number in rows, valid until the next put.
func (b *buffer) pop() (at row.Time, r int, key uint32) {
	top := b.queue.pop()
	b.free++
	return top.at, int(top.n), b.key[top.n]
}

// passed is told where the watermark stands once all rows before it were taken.
func (b *buffer) passed(mark row.Time) {
	b.mark = mark
	b.tidy(nil)
}

// clear lets everything go; no row waits.
func (b *buffer) clear() {
	next := newBuffer(b.spec, b.keeps)
	next.seq, next.mark = b.seq, b.mark
	*b = *next
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
	c := state.NewChanges(waitingTable(b.spec))
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
	b.fresh = b.fresh[:0]
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
