package measure

import (
	"math"

	"undertide/core/row"
)

// doubleExtremes keeps the least or greatest of doubles; infinities stand for none yet.
type doubleExtremes struct {
	greatest bool
	v        []float64
}

func (c *doubleExtremes) Grow(n int) {
	from, start := len(c.v), c.start()
	c.v = grown(c.v, n)
	for i := from; i < len(c.v); i++ {
		c.v[i] = start
	}
}
func (c *doubleExtremes) Clear()     { c.v = c.v[:0] }
func (c *doubleExtremes) Bytes() int { return 8 * cap(c.v) }
func (c *doubleExtremes) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	acc, v := c.v, arg.F
	if c.greatest {
		for i, id := range ids {
			if x := v[rows[i]]; x > acc[id] {
				acc[id] = x
			}
		}
		return
	}
	for i, id := range ids {
		if x := v[rows[i]]; x < acc[id] {
			acc[id] = x
		}
	}
}
func (c *doubleExtremes) Append(dst *row.Column, id uint32) error {
	dst.AppendDouble(c.v[id])
	return nil
}
func (c *doubleExtremes) State() row.Schema {
	return row.Schema{{Name: "value", Kind: row.Double}}
}

// Save writes null for none yet: infinities are no values of a row.
func (c *doubleExtremes) Save(dst []*row.Column, id uint32) {
	if math.IsInf(c.v[id], 0) {
		dst[0].AppendNull()
	} else {
		dst[0].AppendDouble(c.v[id])
	}
}
func (c *doubleExtremes) Load(id uint32, src []*row.Column, i int) error {
	if !src[0].IsNull(i) {
		c.v[id] = src[0].F[i]
	}
	return nil
}

// start is the accumulator without a value.
func (c *doubleExtremes) start() float64 {
	if c.greatest {
		return math.Inf(-1)
	}
	return math.Inf(1)
}
func (c *doubleExtremes) Merge(to uint32, src Column, from uint32) {
	if x := src.(*doubleExtremes).v[from]; x > c.v[to] == c.greatest {
		c.v[to] = x
	}
}
func (c *doubleExtremes) MergeAll(src Column, n int) {
	a, b := c.v[:n], src.(*doubleExtremes).v[:n]
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
func (c *doubleExtremes) Reset(id uint32) { c.v[id] = c.start() }

// AppendAll implements [Bulk].
func (c *doubleExtremes) AppendAll(dst *row.Column, ids []uint32) bool {
	for _, id := range ids {
		dst.F = append(dst.F, c.v[id])
	}
	return true
}
