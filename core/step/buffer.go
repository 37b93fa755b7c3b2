package step

import (
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
}

func newBuffer(s *Spec) *buffer { return &buffer{spec: s, rows: row.NewBatch(s.Input)} }

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
	b.queue.put(queued{at, b.seq, uint32(len(b.key) - 1)})
}

// next gives the least time; row.MaxTime for none.
func (b *buffer) next() row.Time { return b.queue.next() }

// pop takes the row of least time: its number in rows, valid until the next put.
func (b *buffer) pop() (at row.Time, r int, key uint32) {
	top := b.queue.pop()
	b.free++
	return top.at, int(top.n), b.key[top.n]
}

// tidy gives memory back once most rows are gone; rekey, if not nil, gives the new numbers of keys.
func (b *buffer) tidy(rekey []uint32) {
	if rekey == nil && (b.free < 4096 || b.free < len(b.key)/2) {
		return
	}
	next := row.NewBatch(b.spec.Input)
	keys := make([]uint32, 0, len(b.queue))
	for i := range b.queue {
		q := &b.queue[i]
		next.AppendFrom(b.rows, int(q.n))
		k := b.key[q.n]
		if rekey != nil {
			k = rekey[k]
		}
		keys = append(keys, k)
		q.n = uint32(len(keys) - 1)
	}
	b.rows, b.key, b.free = next, keys, 0
}

func (b *buffer) bytes() int {
	n := 24*cap(b.queue) + 4*cap(b.key)
	for _, c := range b.rows.Cols {
		n += 8*cap(c.I) + 8*cap(c.F) + 4*cap(c.Off) + cap(c.Data)
	}
	return n
}

// schema is that of the rows in checkpoints: share, key, event_time, place among those that wait, and the
// fields of the row.
func (b *buffer) schema() row.Schema {
	s := b.spec.stateKey()
	s = append(s, row.Field{Name: "event_time", Kind: row.Timestamp}, row.Field{Name: "place", Kind: row.Int})
	for _, f := range b.spec.Input {
		s = append(s, row.Field{Name: "row_" + f.Name, Kind: f.Kind})
	}
	return s
}

// save copies the rows that wait, by share and place.
func (b *buffer) save(d *state.Dict) *row.Batch {
	out := row.NewBatch(b.schema())
	keys := len(b.spec.Key)
	byKey := map[uint32][]queued{}
	for _, q := range b.queue {
		byKey[b.key[q.n]] = append(byKey[b.key[q.n]], q)
	}
	for share, ids := range byShare(d) {
		for _, id := range ids {
			for _, q := range byKey[id] {
				saveKey(out, share, keys, d, id)
				c := out.Cols[1+keys:]
				c[0].AppendInt(int64(q.at))
				c[1].AppendInt(int64(q.seq))
				for k, col := range b.rows.Cols {
					c[2+k].AppendFrom(col, int(q.n))
				}
				out.N++
			}
		}
	}
	return out
}

// load takes the rows of the lane's shares back.
func (b *buffer) load(in *row.Batch, lane, lanes int, d *state.Dict) error {
	keys := len(b.spec.Key)
	return loadRows(in, b.schema(), keys, lane, lanes, d, func(i int, id uint32) error {
		c := in.Cols[1+keys:]
		for k, col := range b.rows.Cols {
			col.AppendFrom(c[2+k], i)
		}
		b.rows.N++
		seq := b.seq
		b.seq = uint64(c[1].I[i]) - 1 // rows of one key keep their order
		b.push(row.Time(c[0].I[i]), id)
		b.seq = max(seq, b.seq)
		return nil
	})
}

// known marks the keys of rows that wait.
func (b *buffer) known(mark []bool) {
	for _, q := range b.queue {
		mark[b.key[q.n]] = true
	}
}
