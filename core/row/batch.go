package row

// Batch is up to MaxRows rows as columns. Columns are pointers, so that a step's output can share
// its input's columns; whoever made a column says how long it lives.
type Batch struct {
	Schema Schema
	Cols   []*Column
	// Times are the rows' event times; empty when the rows have none.
	Times []Time
	// Index is each row's event: its number within the turn (docs/time.md, "Turns and places").
	Index []uint16
	// Order orders the rows of one event, by bytes (docs/time.md, "Turns and places"). Nil or empty where
	// nobody asks; else of kind Bytes with an entry for each row.
	Order *Column
	N     int
}

// NewBatch makes an empty batch that owns its columns.
func NewBatch(s Schema) *Batch {
	b := &Batch{Schema: s, Cols: make([]*Column, len(s))}
	for i, f := range s {
		b.Cols[i] = NewColumn(f.Kind)
	}
	return b
}

// Reset empties the batch and its columns.
func (b *Batch) Reset() {
	for _, c := range b.Cols {
		c.Reset()
	}
	b.poison()
	if b.Order != nil {
		b.Order.Reset()
	}
	b.Times, b.Index, b.N = b.Times[:0], b.Index[:0], 0
}

// Keep moves the rows that stay together, in place, in their order; the batch has no Index and no Order.
func (b *Batch) Keep(stay []bool) {
	for _, c := range b.Cols {
		c.Keep(stay)
	}
	b.N = 0
	for i, s := range stay {
		if s {
			if len(b.Times) > 0 {
				b.Times[b.N] = b.Times[i]
			}
			b.N++
		}
	}
	b.Times = b.Times[:min(b.N, len(b.Times))]
}

// AppendOrder adds what orders the row that is being added.
func (b *Batch) AppendOrder(order []byte) {
	if b.Order == nil {
		b.Order = NewColumn(Bytes)
	}
	b.Order.AppendBytes(order)
}

// Bytes is how much memory the rows take.
func (b *Batch) Bytes() int {
	n := 8*len(b.Times) + 2*len(b.Index)
	for _, c := range b.Cols {
		n += c.size()
	}
	if b.Order != nil {
		n += b.Order.size()
	}
	return n
}

// AppendPicked adds these rows of src, whose columns have the same kinds in the same order.
func (b *Batch) AppendPicked(src *Batch, rows []int32) {
	for c := range b.Cols {
		b.Cols[c].AppendPicked(src.Cols[c], rows)
	}
	ordered := src.Order != nil && src.Order.Len() > 0
	for _, i := range rows {
		if len(src.Times) > 0 {
			b.Times = append(b.Times, src.Times[i])
		}
		if len(src.Index) > 0 {
			b.Index = append(b.Index, src.Index[i])
		}
		if ordered {
			b.AppendOrder(src.Order.Bytes(int(i)))
		}
	}
	b.N += len(rows)
}

// AppendRange adds the rows of src, whose columns have the same kinds in the same order, from one up to another.
func (b *Batch) AppendRange(src *Batch, from, to int) {
	for c := range b.Cols {
		b.Cols[c].AppendRange(src.Cols[c], from, to)
	}
	if len(src.Times) > 0 {
		b.Times = append(b.Times, src.Times[from:to]...)
	}
	if len(src.Index) > 0 {
		b.Index = append(b.Index, src.Index[from:to]...)
	}
	if src.Order != nil && src.Order.Len() > 0 {
		if b.Order == nil {
			b.Order = NewColumn(Bytes)
		}
		b.Order.AppendRange(src.Order, from, to)
	}
	b.N += to - from
}

// AppendFrom adds row i of src, whose columns have the same kinds in the same order.
func (b *Batch) AppendFrom(src *Batch, i int) {
	for c := range b.Cols {
		b.Cols[c].AppendFrom(src.Cols[c], i)
	}
	if len(src.Times) > 0 {
		b.Times = append(b.Times, src.Times[i])
	}
	if len(src.Index) > 0 {
		b.Index = append(b.Index, src.Index[i])
	}
	if src.Order != nil && src.Order.Len() > 0 {
		b.AppendOrder(src.Order.Bytes(i))
	}
	b.N++
}
