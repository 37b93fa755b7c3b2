package measure

import (
	"math"

	"undertide/core/row"
)

// intExtremes keeps the least or greatest of int64-backed values.
type intExtremes struct {
	kind     row.Kind
	greatest bool
	v        []int64
}

func (c *intExtremes) Grow(n int) {
	from := len(c.v)
	c.v = grown(c.v, n)
	start := int64(math.MaxInt64)
	if c.greatest {
		start = math.MinInt64
	}
	for i := from; i < len(c.v); i++ {
		c.v[i] = start
	}
}
func (c *intExtremes) Clear()     { c.v = c.v[:0] }
func (c *intExtremes) Bytes() int { return 8 * cap(c.v) }
func (c *intExtremes) Add(ids []uint32, rows []uint16, arg *row.Column) {
	acc, v := c.v, arg.I
	if c.greatest {
		for i, id := range ids {
			acc[id] = max(acc[id], v[rows[i]])
		}
		return
	}
	for i, id := range ids {
		acc[id] = min(acc[id], v[rows[i]])
	}
}
func (c *intExtremes) Append(dst *row.Column, id uint32) error { dst.AppendInt(c.v[id]); return nil }
func (c *intExtremes) State() row.Schema                       { return row.Schema{{Name: "value", Kind: c.kind}} }
func (c *intExtremes) Save(dst []*row.Column, id uint32)       { dst[0].AppendInt(c.v[id]) }
func (c *intExtremes) Load(id uint32, src []*row.Column, i int) {
	c.v[id] = src[0].I[i]
}
func (c *intExtremes) Move(dst Column, from, to uint32) { dst.(*intExtremes).v[to] = c.v[from] }
