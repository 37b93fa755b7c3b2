package row

// Batch is up to MaxRows rows as columns. Columns are pointers, so that a step's output can share
// its input's columns; whoever made a column says how long it lives.
type Batch struct {
	Schema Schema
	Cols   []*Column
	// Times are the rows' event times; empty when the rows have none.
	Times []Time
	// Index is each row's place within its turn (docs/time.md, "Turns and places").
	Index []uint16
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
	b.Times, b.Index, b.N = b.Times[:0], b.Index[:0], 0
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
	b.N++
}
