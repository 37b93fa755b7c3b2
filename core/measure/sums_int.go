package measure

import (
	"math"
	"math/bits"

	"undertide/core/row"
)

// intSums adds ints in 128 bits.
type intSums struct {
	valueCounts
	mean bool
	lo   []uint64
	hi   []int64
}

func (c *intSums) Grow(n int) { c.lo, c.hi = grown(c.lo, n), grown(c.hi, n) }
func (c *intSums) Clear() {
	clear(c.lo)
	clear(c.hi)
	c.lo, c.hi = c.lo[:0], c.hi[:0]
}
func (c *intSums) Bytes() int { return 8 * (cap(c.lo) + cap(c.hi)) }
func (c *intSums) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	lo, hi, v := c.lo, c.hi, arg.I
	for i, id := range ids {
		x := v[rows[i]]
		var carry uint64
		lo[id], carry = bits.Add64(lo[id], uint64(x), 0)
		hi[id] += x>>63 + int64(carry)
	}
}
func (c *intSums) Append(dst *row.Column, id uint32) error {
	lo, hi := c.lo[id], c.hi[id]
	if c.mean {
		dst.AppendDouble(double128(hi, lo) / float64(c.of(id)))
		return nil
	}
	if hi != int64(lo)>>63 {
		return ErrOverflow
	}
	dst.AppendInt(int64(lo))
	return nil
}

// double128 gives the double nearest to a 128-bit int: its highest 64 bits with the rest folded into
// the last of them, which is enough for one correct rounding.
func double128(hi int64, lo uint64) float64 {
	if hi == int64(lo)>>63 {
		return float64(int64(lo))
	}
	sign := 1.0
	high := uint64(hi)
	if hi < 0 {
		var borrow uint64
		lo, borrow = bits.Sub64(0, lo, 0)
		high, _ = bits.Sub64(0, high, borrow)
		sign = -1
	}
	if high == 0 {
		return sign * float64(lo)
	}
	shift := 64 - bits.LeadingZeros64(high)
	top := high<<(64-shift) | lo>>shift
	if lo<<(64-shift) != 0 {
		top |= 1
	}
	return sign * math.Ldexp(float64(top), shift)
}

func (c *intSums) State() row.Schema {
	s := row.Schema{{Name: "sum_high", Kind: row.Int}, {Name: "sum_low", Kind: row.Int}}
	if c.mean {
		s = append(s, row.Field{Name: "values", Kind: row.Int})
	}
	return s
}
func (c *intSums) Save(dst []*row.Column, id uint32) {
	dst[0].AppendInt(c.hi[id])
	dst[1].AppendInt(int64(c.lo[id]))
	if c.mean {
		dst[2].AppendInt(c.of(id))
	}
}
func (c *intSums) Load(id uint32, src []*row.Column, i int) error {
	c.hi[id], c.lo[id] = src[0].I[i], uint64(src[1].I[i])
	return nil
}

func (c *intSums) Merge(to uint32, src Column, from uint32) {
	s := src.(*intSums)
	var carry uint64
	c.lo[to], carry = bits.Add64(c.lo[to], s.lo[from], 0)
	c.hi[to] += s.hi[from] + int64(carry)
}
func (c *intSums) JoinAll(srcs []Column, n int) {
	lo, hi := c.lo[:n], c.hi[:n]
	clear(lo)
	clear(hi)
	for _, src := range srcs {
		s := src.(*intSums)
		slo, shi := s.lo[:n], s.hi[:n]
		for i := range lo {
			var carry uint64
			lo[i], carry = bits.Add64(lo[i], slo[i], 0)
			hi[i] += shi[i] + int64(carry)
		}
	}
}
func (c *intSums) Reset(id uint32) { c.lo[id], c.hi[id] = 0, 0 }

// SaveAll implements [BulkSaver].
func (c *intSums) SaveAll(dst []*row.Column, ids []uint32) {
	dst[0].I = gather(dst[0].I, c.hi, ids)
	for _, id := range ids {
		dst[1].I = append(dst[1].I, int64(c.lo[id]))
	}
	if c.mean {
		dst[2].I = c.appendAll(dst[2].I, ids)
	}
}
