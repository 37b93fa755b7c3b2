package step

import (
	"encoding/binary"

	"undertide/core/row"
)

// madeRows gathers rows that a step makes one by one, and publishes them when they are many.
type madeRows struct {
	b *row.Batch
	// ordered: they go on to a step that asks for the order of an event's rows.
	ordered bool
	order   []byte
}

func newMadeRows(s row.Schema, ordered bool) madeRows {
	return madeRows{b: row.NewBatch(s), ordered: ordered}
}

// add ends a row, whose columns the caller has filled, that was made because event index moved a watermark.
// key are the columns of its key and r its row there; n orders rows of one key and time.
func (m *madeRows) add(at row.Time, index uint16, key []*row.Column, r int, n uint64) {
	if m.ordered {
		m.order = appendMade(m.order[:0], at)
		for _, c := range key {
			m.order = appendOrder(m.order, c, r)
		}
		m.order = binary.BigEndian.AppendUint64(m.order, n)
	}
	m.own(at, index, m.order)
}

// own ends a row that keeps the place of the row that it was made of.
func (m *madeRows) own(at row.Time, index uint16, order []byte) {
	m.b.Times = append(m.b.Times, at)
	m.b.Index = append(m.b.Index, index)
	if m.ordered {
		m.b.AppendOrder(order)
	}
	m.b.N++
}

// full says whether the rows must be published before another is added.
func (m *madeRows) full() bool { return m.b.N == row.MaxRows }

func (m *madeRows) flush(out Out, c *LaneCounts) {
	if m.b.N == 0 {
		return
	}
	c.Out += int64(m.b.N)
	out.Main(ViewOf(m.b))
	m.b.Reset()
}
