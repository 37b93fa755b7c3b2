package step

import (
	"fmt"

	"undertide/core/measure"
	"undertide/core/row"
	"undertide/core/state"
)

// StateSchema gives the columns of a snapshot: share, the key fields, window_start, window_end,
// rows, and for each aggregate the columns of its accumulator, named MEASURE-INDEX.function.part
// (docs/checkpoints.md).
func (d *Window) StateSchema() row.Schema {
	s := row.Schema{{Name: "share", Kind: row.Int}}
	s = append(s, d.KeySchema()...)
	s = append(s, row.Field{Name: "window_start", Kind: row.Timestamp}, row.Field{Name: "window_end", Kind: row.Timestamp}, row.Field{Name: "rows", Kind: row.Int})
	for i, a := range d.Aggregates {
		if a.plainCount() {
			continue
		}
		name := fmt.Sprintf("a%d_%s", i, a.Func)
		s = append(s, row.Field{Name: name + "_missing", Kind: row.Int})
		for _, f := range mustColumn(a.Spec).State() {
			s = append(s, row.Field{Name: name + "_" + f.Name, Kind: f.Kind})
		}
	}
	return s
}

func mustColumn(s measure.Spec) measure.Column {
	c, err := measure.New(s)
	if err != nil {
		panic(err) // the document was checked
	}
	return c
}

// Snapshot copies the state, a row for each window and key, sorted by share. The batch is the
// caller's and may be longer than row.MaxRows.
func (w *WindowLane) Snapshot() *row.Batch {
	b := row.NewBatch(w.def.StateSchema())
	byShare := make([][]uint32, state.Shares)
	for id := range uint32(w.dict.Len()) {
		sh := state.ShareOf(w.dict.Hash(id))
		byShare[sh] = append(byShare[sh], id)
	}
	keys := len(w.def.Key)
	for sh, ids := range byShare {
		for _, s := range w.open {
			for _, id := range ids {
				if int(id) >= len(s.rows) || s.rows[id] == 0 {
					continue
				}
				b.Cols[0].AppendInt(int64(sh))
				if err := state.AppendKey(b.Cols[1:1+keys], w.dict.Key(id)); err != nil {
					panic("a key of the dictionary cannot be read: " + err.Error()) // ours alone wrote it
				}
				b.Cols[1+keys].AppendInt(int64(s.start))
				b.Cols[2+keys].AppendInt(int64(s.end))
				b.Cols[3+keys].AppendInt(s.rows[id])
				at := 4 + keys
				for i, a := range s.aggs {
					if a == nil {
						continue
					}
					missing := int64(0)
					if int(id) < len(s.missing[i]) {
						missing = s.missing[i][id]
					}
					b.Cols[at].AppendInt(missing)
					n := len(a.State())
					a.Save(b.Cols[at+1:at+1+n], id)
					at += 1 + n
				}
				b.N++
			}
		}
	}
	return b
}

// Load adds the rows of a snapshot whose share belongs to this lane.
func (w *WindowLane) Load(b *row.Batch, lane, lanes int) error {
	want := w.def.StateSchema()
	if len(b.Cols) != len(want) {
		return fmt.Errorf("the state has %d columns, the step %d: the document has changed", len(b.Cols), len(want))
	}
	for i, f := range want {
		if b.Schema[i] != f {
			return fmt.Errorf("the state has column %s %s where the step has %s %s: the document has changed", b.Schema[i].Name, b.Schema[i].Kind, f.Name, f.Kind)
		}
	}
	keys := len(w.def.Key)
	var k state.Keys
	for i := range b.N {
		share := b.Cols[0].I[i]
		if share < 0 || share >= state.Shares {
			return fmt.Errorf("row %d of the state has share %d, which is not one of %d", i, share, state.Shares)
		}
		if state.LaneOf(uint8(share), lanes) != lane {
			continue
		}
		k.EncodeOne(b.Cols[1:1+keys], i)
		if state.ShareOf(k.Hash[0]) != uint8(share) {
			return fmt.Errorf("row %d of the state has share %d, its key share %d", i, share, state.ShareOf(k.Hash[0]))
		}
		id := w.dict.Put(k.Bytes(0), k.Hash[0])
		s := w.find(row.Time(b.Cols[1+keys].I[i]))
		if int64(s.end) != b.Cols[2+keys].I[i] {
			return fmt.Errorf("row %d of the state has a window that the step does not make: the document has changed", i)
		}
		s.grow(w.dict.Len())
		s.rows[id] = b.Cols[3+keys].I[i]
		s.keys++
		at := 4 + keys
		for a, col := range s.aggs {
			if col == nil {
				continue
			}
			if missing := b.Cols[at].I[i]; missing > 0 {
				if len(s.missing[a]) < len(s.rows) {
					s.missing[a] = append(s.missing[a], make([]int64, len(s.rows)-len(s.missing[a]))...)
				}
				s.missing[a][id] = missing
			}
			n := len(col.State())
			col.Load(id, b.Cols[at+1:at+1+n], i)
			at += 1 + n
		}
	}
	return nil
}
