package row

import (
	"errors"
	"math"
)

// Column holds the values of one field for the rows of a batch. Int, Bool, Timestamp and Duration
// live in I, Double in F, String and Bytes in Data with Off. A null row has its bit set in Null and
// an unspecified but present value, so that loops may read it. Not safe for concurrent writes.
type Column struct {
	Kind Kind
	I    []int64
	F    []float64
	Off  []uint32 // row i is Data[Off[i]:Off[i+1]]; one more entry than rows
	Data []byte
	// Null has a bit for each null row; rows beyond its length are not null.
	Null []uint64
}

// NewColumn makes an empty column.
func NewColumn(k Kind) *Column {
	c := &Column{Kind: k}
	c.Reset()
	return c
}

// Reset empties the column and keeps its memory.
func (c *Column) Reset() {
	c.poison()
	c.I, c.F, c.Data, c.Null = c.I[:0], c.F[:0], c.Data[:0], c.Null[:0]
	if c.Kind.Text() {
		c.Off = append(c.Off[:0], 0)
	}
}

// Len gives the number of rows.
func (c *Column) Len() int {
	switch {
	case c.Kind == Double:
		return len(c.F)
	case c.Kind.Text():
		return len(c.Off) - 1
	}
	return len(c.I)
}

// size is how much memory the values take.
func (c *Column) size() int {
	return 8*len(c.I) + 8*len(c.F) + 4*len(c.Off) + len(c.Data) + 8*len(c.Null)
}

// Truncate drops the rows from n on.
func (c *Column) Truncate(n int) {
	for i := n; i < c.Len(); i++ {
		c.SetNull(i, false)
	}
	switch {
	case c.Kind == Double:
		c.F = c.F[:n]
	case c.Kind.Text():
		c.Off = c.Off[:n+1]
		c.Data = c.Data[:c.Off[n]]
	default:
		c.I = c.I[:n]
	}
}

// Keep moves the rows that stay together, in place, in their order; stay has an entry for each row.
func (c *Column) Keep(stay []bool) {
	nulls := len(c.Null) > 0
	n := 0
	var end uint32 // of the texts that stay
	for i, s := range stay {
		if !s {
			continue
		}
		switch {
		case c.Kind == Double:
			c.F[n] = c.F[i]
		case c.Kind.Text():
			from, to := c.Off[i], c.Off[i+1]
			copy(c.Data[end:], c.Data[from:to])
			c.Off[n] = end
			end += to - from
		default:
			c.I[n] = c.I[i]
		}
		if nulls {
			c.SetNull(n, c.IsNull(i))
		}
		n++
	}
	if nulls {
		for i := n; i < len(stay); i++ {
			c.SetNull(i, false)
		}
	}
	switch {
	case c.Kind == Double:
		c.F = c.F[:n]
	case c.Kind.Text():
		c.Off, c.Data = c.Off[:n+1], c.Data[:end]
		c.Off[n] = end
	default:
		c.I = c.I[:n]
	}
}

// IsNull says whether row i is null.
func (c *Column) IsNull(i int) bool {
	w := i >> 6
	return w < len(c.Null) && c.Null[w]>>(uint(i)&63)&1 != 0
}

// SetNull marks row i as null or not.
func (c *Column) SetNull(i int, null bool) {
	w := i >> 6
	if w >= len(c.Null) {
		if !null {
			return
		}
		for w >= len(c.Null) {
			c.Null = append(c.Null, 0)
		}
	}
	if null {
		c.Null[w] |= 1 << (uint(i) & 63)
	} else {
		c.Null[w] &^= 1 << (uint(i) & 63)
	}
}

// AppendNull adds a null row.
func (c *Column) AppendNull() {
	c.SetNull(c.Len(), true)
	switch {
	case c.Kind == Double:
		c.F = append(c.F, 0)
	case c.Kind.Text():
		c.Off = append(c.Off, uint32(len(c.Data)))
	default:
		c.I = append(c.I, 0)
	}
}

// AppendInt adds a row of an int64-backed kind.
func (c *Column) AppendInt(v int64) { c.I = append(c.I, v) }

// AppendDouble adds a row of kind Double.
func (c *Column) AppendDouble(v float64) { c.F = append(c.F, v) }

// maxData bounds the bytes of a column, whose offsets have 32 bits.
const maxData = math.MaxUint32

// ErrTooLarge is what a column panics with that would hold more than four GiB of text: the run fails, before
// any row is wrong.
var ErrTooLarge = errors.New("a column of more than 4 GiB of text: rows of this size are too large for a batch")

// room is called before n bytes are added.
func (c *Column) room(n int) {
	if len(c.Data)+n > maxData {
		panic(ErrTooLarge)
	}
}

// AppendBytes adds a row of kind String or Bytes, copying v.
func (c *Column) AppendBytes(v []byte) {
	c.room(len(v))
	c.Data = append(c.Data, v...)
	c.Off = append(c.Off, uint32(len(c.Data)))
}

// AppendString is AppendBytes for a string.
func (c *Column) AppendString(v string) {
	c.room(len(v))
	c.Data = append(c.Data, v...)
	c.Off = append(c.Off, uint32(len(c.Data)))
}

// AppendBool adds a row of kind Bool.
func (c *Column) AppendBool(v bool) {
	if v {
		c.I = append(c.I, 1)
	} else {
		c.I = append(c.I, 0)
	}
}

// Bytes gives row i of a text column; it lives as long as the column's content.
func (c *Column) Bytes(i int) []byte { return c.Data[c.Off[i]:c.Off[i+1]] }

// AppendFrom adds row i of src, which has the same kind.
func (c *Column) AppendFrom(src *Column, i int) {
	if src.IsNull(i) {
		c.AppendNull()
		return
	}
	switch {
	case c.Kind == Double:
		c.F = append(c.F, src.F[i])
	case c.Kind.Text():
		c.AppendBytes(src.Bytes(i))
	default:
		c.I = append(c.I, src.I[i])
	}
}

// NoRow stands among the rows that AppendPicked takes for one that there is not.
const NoRow = -1

// AppendPicked adds these rows of src, which has the same kind, in this order; null for [NoRow].
func (c *Column) AppendPicked(src *Column, rows []int32) {
	n := c.Len()
	switch {
	case c.Kind == Double:
		for _, r := range rows {
			v := 0.0
			if r >= 0 {
				v = src.F[r]
			}
			c.F = append(c.F, v)
		}
	case c.Kind.Text():
		for _, r := range rows {
			if r < 0 {
				c.Off = append(c.Off, uint32(len(c.Data)))
				continue
			}
			c.AppendBytes(src.Bytes(int(r)))
		}
	default:
		for _, r := range rows {
			v := int64(0)
			if r >= 0 {
				v = src.I[r]
			}
			c.I = append(c.I, v)
		}
	}
	for i, r := range rows {
		if r < 0 || len(src.Null) > 0 && src.IsNull(int(r)) {
			c.SetNull(n+i, true)
		}
	}
}

// AppendRange adds the rows of src, which has the same kind, from one up to another.
func (c *Column) AppendRange(src *Column, from, to int) {
	n := c.Len()
	switch {
	case c.Kind == Double:
		c.F = append(c.F, src.F[from:to]...)
	case c.Kind.Text():
		first, last := src.Off[from], src.Off[to]
		c.room(int(last - first))
		start := uint32(len(c.Data))
		c.Data = append(c.Data, src.Data[first:last]...)
		for _, off := range src.Off[from+1 : to+1] {
			c.Off = append(c.Off, start+off-first)
		}
	default:
		c.I = append(c.I, src.I[from:to]...)
	}
	if len(src.Null) > 0 {
		for i := from; i < to; i++ {
			if src.IsNull(i) {
				c.SetNull(n+i-from, true)
			}
		}
	}
}
