package measure

import (
	"undertide/core/row"
)

// counts counts the rows that it is given (count_if; count itself is the slice's own).
type counts struct{ n []int64 }

func (c *counts) Grow(n int) { c.n = grown(c.n, n) }
func (c *counts) Clear()     { clear(c.n); c.n = c.n[:0] }
func (c *counts) Bytes() int { return 8 * cap(c.n) }
func (c *counts) Add(ids []uint32, _ []uint16, _ *row.Column) {
	n := c.n
	for _, id := range ids {
		n[id]++
	}
}
func (c *counts) Append(dst *row.Column, id uint32) error { dst.AppendInt(c.n[id]); return nil }
func (c *counts) State() row.Schema                       { return row.Schema{{Name: "count", Kind: row.Int}} }
func (c *counts) Save(dst []*row.Column, id uint32)       { dst[0].AppendInt(c.n[id]) }
func (c *counts) Load(id uint32, src []*row.Column, i int) {
	c.n[id] = src[0].I[i]
}
func (c *counts) Move(dst Column, from, to uint32) { dst.(*counts).n[to] = c.n[from] }
