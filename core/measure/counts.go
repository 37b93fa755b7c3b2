package measure

import (
	"undertide/core/row"
)

// counts counts the rows that it is given (count_if; count itself is the slice's own).
type counts struct{ n []int64 }

func (c *counts) Grow(n int) { c.n = grown(c.n, n) }
func (c *counts) Clear()     { clear(c.n); c.n = c.n[:0] }
func (c *counts) Bytes() int { return 8 * cap(c.n) }
func (c *counts) Add(ids []uint32, _ []uint16, _ *row.Column, _ []row.Time) {
	n := c.n
	for _, id := range ids {
		n[id]++
	}
}
func (c *counts) Append(dst *row.Column, id uint32) error { dst.AppendInt(c.n[id]); return nil }
func (c *counts) State() row.Schema                       { return row.Schema{{Name: "count", Kind: row.Int}} }
func (c *counts) Save(dst []*row.Column, id uint32)       { dst[0].AppendInt(c.n[id]) }
func (c *counts) Load(id uint32, src []*row.Column, i int) error {
	c.n[id] = src[0].I[i]
	return nil
}
func (c *counts) Merge(to uint32, src Column, from uint32) { c.n[to] += src.(*counts).n[from] }
func (c *counts) JoinAll(srcs []Column, n int) {
	SetSums(c.n, srcs, n, func(c Column) []int64 { return c.(*counts).n })
}
func (c *counts) Reset(id uint32) { c.n[id] = 0 }

// SetSums makes the first n entries of dst the sums of those of some sources, added one source after the other. Four are read in one pass,
// so that a sum is not stored and read again between them.
func SetSums[S any, T int64 | float64](dst []T, srcs []S, n int, of func(S) []T) {
	dst = dst[:n]
	copy(dst, of(srcs[0])[:n])
	srcs = srcs[1:]
	for ; len(srcs) >= 4; srcs = srcs[4:] {
		a, b, c, d := of(srcs[0])[:n], of(srcs[1])[:n], of(srcs[2])[:n], of(srcs[3])[:n]
		for i, x := range dst {
			dst[i] = x + a[i] + b[i] + c[i] + d[i]
		}
	}
	for ; len(srcs) >= 2; srcs = srcs[2:] {
		a, b := of(srcs[0])[:n], of(srcs[1])[:n]
		for i, x := range dst {
			dst[i] = x + a[i] + b[i]
		}
	}
	for _, src := range srcs {
		for i, x := range of(src)[:n] {
			dst[i] += x
		}
	}
}

// SaveAll implements [BulkSaver].
func (c *counts) SaveAll(dst []*row.Column, ids []uint32) { dst[0].I = gather(dst[0].I, c.n, ids) }

// gather appends the entries of some keys.
func gather[T any](dst, from []T, ids []uint32) []T {
	for _, id := range ids {
		dst = append(dst, from[id])
	}
	return dst
}
