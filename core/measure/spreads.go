package measure

import (
	"math"

	"undertide/core/expr"
	"undertide/core/row"
)

// spreads is the variance or standard deviation of a sample, by Welford's method; accumulators are
// joined by that of Chan, Golub and LeVeque. Products are rounded before they are added, so that no
// machine fuses them.
type spreads struct {
	root bool
	arg  row.Kind
	n    []int64
	mean []float64
	m2   []float64 // sum of squared distances from the mean
}

func (c *spreads) Grow(n int) {
	c.n, c.mean, c.m2 = grown(c.n, n), grown(c.mean, n), grown(c.m2, n)
}
func (c *spreads) Clear() {
	clear(c.n)
	clear(c.mean)
	clear(c.m2)
	c.n, c.mean, c.m2 = c.n[:0], c.mean[:0], c.m2[:0]
}
func (c *spreads) Bytes() int { return 24 * cap(c.n) }
func (c *spreads) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		x := number(arg, int(rows[i]))
		c.n[id]++
		d := x - c.mean[id]
		c.mean[id] += d / float64(c.n[id])
		c.m2[id] += float64(d * (x - c.mean[id]))
	}
}
func (c *spreads) Merge(to uint32, src Column, from uint32) {
	s := src.(*spreads)
	if s.n[from] == 0 {
		return
	}
	if c.n[to] == 0 {
		c.n[to], c.mean[to], c.m2[to] = s.n[from], s.mean[from], s.m2[from]
		return
	}
	a, b := float64(c.n[to]), float64(s.n[from])
	d := s.mean[from] - c.mean[to]
	c.n[to] += s.n[from]
	c.mean[to] += float64(d*b) / (a + b)
	c.m2[to] += s.m2[from] + float64(float64(d*d)*(float64(a*b)/(a+b)))
}
func (c *spreads) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *spreads) Reset(id uint32)              { c.n[id], c.mean[id], c.m2[id] = 0, 0, 0 }
func (c *spreads) Append(dst *row.Column, id uint32) error {
	if c.n[id] < 2 {
		dst.AppendNull()
		return nil
	}
	v := c.m2[id] / float64(c.n[id]-1)
	if c.root {
		v = math.Sqrt(v)
	}
	if v-v != 0 {
		return ErrNotFinite
	}
	dst.AppendDouble(v)
	return nil
}
func (c *spreads) State() row.Schema {
	return row.Schema{{Name: "values", Kind: row.Int}, {Name: "mean", Kind: row.Double}, {Name: "squares", Kind: row.Double}}
}
func (c *spreads) Save(dst []*row.Column, id uint32) {
	dst[0].AppendInt(c.n[id])
	dst[1].AppendDouble(c.mean[id])
	dst[2].AppendDouble(c.m2[id])
}
func (c *spreads) Load(id uint32, src []*row.Column, i int) error {
	c.n[id], c.mean[id], c.m2[id] = src[0].I[i], src[1].F[i], src[2].F[i]
	return nil
}

// number gives a value as a double.
func number(c *row.Column, i int) float64 {
	switch c.Kind {
	case row.Double:
		return c.F[i]
	case row.Decimal:
		f, _ := expr.DecimalOf(c.Bytes(i)).Float64()
		return f
	}
	return float64(c.I[i])
}
