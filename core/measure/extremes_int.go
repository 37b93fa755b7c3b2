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
	from, start := len(c.v), c.start()
	c.v = grown(c.v, n)
	for i := from; i < len(c.v); i++ {
		c.v[i] = start
	}
}
func (c *intExtremes) Clear()     { c.v = c.v[:0] }
func (c *intExtremes) Bytes() int { return 8 * cap(c.v) }
func (c *intExtremes) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
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
func (c *intExtremes) Load(id uint32, src []*row.Column, i int) error {
	c.v[id] = src[0].I[i]
	return nil
}

// start is the accumulator without a value.
func (c *intExtremes) start() int64 {
	if c.greatest {
		return math.MinInt64
	}
	return math.MaxInt64
}
func (c *intExtremes) Merge(to uint32, src Column, from uint32) {
	if x := src.(*intExtremes).v[from]; x > c.v[to] == c.greatest {
		c.v[to] = x
	}
}
func (c *intExtremes) MergeAll(src Column, n int) {
	a, b := c.v[:n], src.(*intExtremes).v[:n]
	if c.greatest {
		for i, x := range b {
			a[i] = max(a[i], x)
		}
		return
	}
	for i, x := range b {
		a[i] = min(a[i], x)
	}
}
func (c *intExtremes) Reset(id uint32) { c.v[id] = c.start() }

// AppendAll implements [Bulk].
func (c *intExtremes) AppendAll(dst *row.Column, ids []uint32) bool {
	for _, id := range ids {
		dst.I = append(dst.I, c.v[id])
	}
	return true
}
