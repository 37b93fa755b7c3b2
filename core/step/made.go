package step

import "undertide/core/row"

// madeRows gathers rows that a step makes one by one, and publishes them when they are many.
type madeRows struct {
	b *row.Batch
	// made: they are made as the watermark moves; ordered: they go on to another keyed step, and order
	// says how those of one event and time stand.
	made, ordered bool
	order         *row.Column
}

func newMadeRows(s row.Schema, made, ordered bool) madeRows {
	return madeRows{b: row.NewBatch(s), made: made, ordered: ordered, order: row.NewColumn(row.Bytes)}
}

// add ends a row whose columns the caller has filled. key are the columns of its key and r their row; n orders
// rows of one key.
func (m madeRows) add(at row.Time, index uint16, key []*row.Column, r int, n int) {
	m.b.Times = append(m.b.Times, at)
	m.b.Index = append(m.b.Index, index)
	if m.ordered {
		var order []byte
		for _, c := range key {
			order = appendOrder(order, c, r)
		}
		m.order.AppendBytes(append(order, byte(n>>16), byte(n>>8), byte(n)))
	}
	m.b.N++
}

// full says whether the rows must be published before another is added.
func (m madeRows) full() bool { return m.b.N == row.MaxRows }

func (m madeRows) flush(out Out, c *LaneCounts) {
	if m.b.N == 0 {
		return
	}
	c.Out += int64(m.b.N)
	v := ViewOf(m.b, nil)
	if v.Made = m.made; m.ordered {
		v.Order = m.order
	}
	out.Main(v)
	m.b.Reset()
	m.order.Reset()
}
