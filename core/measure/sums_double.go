package measure

import (
	"undertide/core/row"
)

// doubleSums adds doubles one by one.
type doubleSums struct {
	valueCounts
	mean bool
	sum  []float64
}

func (c *doubleSums) Grow(n int) { c.sum = grown(c.sum, n) }
func (c *doubleSums) Clear() {
	clear(c.sum)
	c.sum = c.sum[:0]
}
func (c *doubleSums) Bytes() int { return 8 * cap(c.sum) }
func (c *doubleSums) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	sum, v := c.sum, arg.F
	for i, id := range ids {
		sum[id] += v[rows[i]]
	}
}
func (c *doubleSums) Append(dst *row.Column, id uint32) error {
	v := c.sum[id]
	if c.mean {
		v /= float64(c.of(id))
	}
	if v-v != 0 {
		return ErrNotFinite
	}
	dst.AppendDouble(v)
	return nil
}
func (c *doubleSums) State() row.Schema {
	s := row.Schema{{Name: "sum", Kind: row.Double}}
	if c.mean {
		s = append(s, row.Field{Name: "values", Kind: row.Int})
	}
	return s
}
func (c *doubleSums) Save(dst []*row.Column, id uint32) {
	dst[0].AppendDouble(c.sum[id])
	if c.mean {
		dst[1].AppendInt(c.of(id))
	}
}
func (c *doubleSums) Load(id uint32, src []*row.Column, i int) error {
	c.sum[id] = src[0].F[i]
	return nil
}

func (c *doubleSums) Merge(to uint32, src Column, from uint32) {
	c.sum[to] += src.(*doubleSums).sum[from]
}
func (c *doubleSums) JoinAll(srcs []Column, n int) {
	SetSums(c.sum, srcs, n, func(c Column) []float64 { return c.(*doubleSums).sum })
}
func (c *doubleSums) Reset(id uint32) { c.sum[id] = 0 }

// AppendAll implements [Bulk].
func (c *doubleSums) AppendAll(dst *row.Column, ids []uint32) bool {
	from := len(dst.F)
	odd := 0.0
	if c.mean {
		for _, id := range ids {
			v := c.sum[id] / float64(c.of(id))
			odd += v - v
			dst.F = append(dst.F, v)
		}
	} else {
		for _, id := range ids {
			v := c.sum[id]
			odd += v - v
			dst.F = append(dst.F, v)
		}
	}
	if odd != 0 { // one is not finite
		dst.F = dst.F[:from]
	}
	return odd == 0
}

// SaveAll implements [BulkSaver].
func (c *doubleSums) SaveAll(dst []*row.Column, ids []uint32) {
	dst[0].F = gather(dst[0].F, c.sum, ids)
	if c.mean {
		dst[1].I = c.appendAll(dst[1].I, ids)
	}
}

// AppendFrom implements [Bulk].
func (c *doubleSums) AppendFrom(dst *row.Column, from, to int) bool {
	before := len(dst.F)
	dst.F = append(dst.F, c.sum[from:to]...)
	out, odd := dst.F[before:], 0.0
	if c.mean && len(c.missing) > 0 {
		for i := range out {
			out[i] /= float64(c.of(uint32(from + i)))
			odd += out[i] - out[i]
		}
	} else if c.mean {
		n := c.rows[from:to]
		for i, v := range out {
			v /= float64(n[i])
			odd += v - v
			out[i] = v
		}
	} else {
		for _, v := range out {
			odd += v - v
		}
	}
	if odd != 0 { // one is not finite
		dst.F = dst.F[:before]
	}
	return odd == 0
}
