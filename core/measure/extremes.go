package measure

import (
	"math"

	"undertide/core/row"
)

// extremes keeps the least or greatest of numbers. What stands for none yet is beyond all values: an
// infinity, or the end of the int64s.
type extremes[T int64 | float64] struct {
	kind     row.Kind
	greatest bool
	none     T
	v        []T
	values   func(c *row.Column) *[]T // those of a column
}

func newIntExtremes(kind row.Kind, greatest bool) *extremes[int64] {
	c := &extremes[int64]{kind: kind, greatest: greatest, none: math.MaxInt64, values: func(c *row.Column) *[]int64 { return &c.I }}
	if greatest {
		c.none = math.MinInt64
	}
	return c
}

func newDoubleExtremes(greatest bool) *extremes[float64] {
	c := &extremes[float64]{kind: row.Double, greatest: greatest, none: math.Inf(1), values: func(c *row.Column) *[]float64 { return &c.F }}
	if greatest {
		c.none = math.Inf(-1)
	}
	return c
}

func (c *extremes[T]) Grow(n int) {
	from := len(c.v)
	c.v = grown(c.v, n)
	for i := from; i < len(c.v); i++ {
		c.v[i] = c.none
	}
}
func (c *extremes[T]) Clear()     { c.v = c.v[:0] }
func (c *extremes[T]) Bytes() int { return 8 * cap(c.v) }
func (c *extremes[T]) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	acc, v := c.v, *c.values(arg)
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
func (c *extremes[T]) Merge(to uint32, src Column, from uint32) {
	if x := src.(*extremes[T]).v[from]; x > c.v[to] == c.greatest {
		c.v[to] = x
	}
}
func (c *extremes[T]) JoinAll(srcs []Column, n int) {
	v := c.v[:n]
	copy(v, srcs[0].(*extremes[T]).v[:n])
	srcs = srcs[1:]
	for ; len(srcs) >= 2; srcs = srcs[2:] { // two in one pass, as [SetSums] reads four
		a, b := srcs[0].(*extremes[T]).v[:n], srcs[1].(*extremes[T]).v[:n]
		if c.greatest {
			for i, x := range v {
				v[i] = max(x, a[i], b[i])
			}
		} else {
			for i, x := range v {
				v[i] = min(x, a[i], b[i])
			}
		}
	}
	for _, src := range srcs {
		a := src.(*extremes[T]).v[:n]
		if c.greatest {
			for i, x := range a {
				v[i] = max(v[i], x)
			}
		} else {
			for i, x := range a {
				v[i] = min(v[i], x)
			}
		}
	}
}
func (c *extremes[T]) Reset(id uint32) { c.v[id] = c.none }
func (c *extremes[T]) Append(dst *row.Column, id uint32) error {
	to := c.values(dst)
	*to = append(*to, c.v[id])
	return nil
}

// AppendAll implements [Bulk].
func (c *extremes[T]) AppendAll(dst *row.Column, ids []uint32) bool {
	to := *c.values(dst)
	for _, id := range ids {
		to = append(to, c.v[id])
	}
	*c.values(dst) = to
	return true
}

// AppendFrom implements [Bulk].
func (c *extremes[T]) AppendFrom(dst *row.Column, from, to int) bool {
	of := c.values(dst)
	*of = append(*of, c.v[from:to]...)
	return true
}
func (c *extremes[T]) State() row.Schema { return row.Schema{{Name: "value", Kind: c.kind}} }

// Save writes null for none yet: what stands for it is no value of a row.
func (c *extremes[T]) Save(dst []*row.Column, id uint32) {
	if c.v[id] == c.none {
		dst[0].AppendNull()
		return
	}
	to := c.values(dst[0])
	*to = append(*to, c.v[id])
}
func (c *extremes[T]) Load(id uint32, src []*row.Column, i int) error {
	if !src[0].IsNull(i) {
		c.v[id] = (*c.values(src[0]))[i]
	}
	return nil
}
