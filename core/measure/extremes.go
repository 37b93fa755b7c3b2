package measure

import (
	"math"
	"slices"

	"undertide/core/row"
)

// extremes keeps the least or greatest of numbers, as ranks: ints whose greatest is the rank of the value that is wanted. A double's
// rank is its bits, turned so that they order as doubles do (-0 before 0); where the least is wanted all bits are turned once
// more. So -1.5, 0 and 2 have rising ranks for max and falling ones for min, and joining is one loop over ints for all.
type extremes struct {
	kind row.Kind
	turn int64 // 0 for the greatest, -1 (all bits) for the least
	rank []int64
}

// none is the rank of a key without values: before that of all doubles, and of ints that of the last one to be wanted.
const none = math.MinInt64

func newExtremes(kind row.Kind, greatest bool) *extremes {
	c := &extremes{kind: kind}
	if !greatest {
		c.turn = -1
	}
	return c
}

// orderOf gives ints that order as doubles do, and doubles of those again.
func orderOf(bits int64) int64 { return bits ^ int64(uint64(bits>>63)>>1) }

// rankOf gives the rank of a double.
func (c *extremes) rankOf(v float64) int64 { return orderOf(int64(math.Float64bits(v))) ^ c.turn }

// double gives the double of a rank.
func (c *extremes) double(rank int64) float64 {
	return math.Float64frombits(uint64(orderOf(rank ^ c.turn)))
}

func (c *extremes) Grow(n int) {
	from := len(c.rank)
	c.rank = grown(c.rank, n)
	for i := from; i < len(c.rank); i++ {
		c.rank[i] = none
	}
}
func (c *extremes) Clear()     { c.rank = c.rank[:0] }
func (c *extremes) Bytes() int { return 8 * cap(c.rank) }
func (c *extremes) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	acc := c.rank
	if c.kind == row.Double {
		v := arg.F
		for i, id := range ids {
			if x := c.rankOf(v[rows[i]]); x > acc[id] {
				acc[id] = x
			}
		}
		return
	}
	v := arg.I
	for i, id := range ids {
		if x := v[rows[i]] ^ c.turn; x > acc[id] {
			acc[id] = x
		}
	}
}
func (c *extremes) Merge(to uint32, src Column, from uint32) {
	c.rank[to] = max(c.rank[to], src.(*extremes).rank[from])
}
func (c *extremes) JoinAll(srcs []Column, n int) {
	setGreatest(c.rank, srcs, n, func(c Column) []int64 { return c.(*extremes).rank })
}
func (c *extremes) Reset(id uint32) { c.rank[id] = none }

func (c *extremes) Append(dst *row.Column, id uint32) error {
	c.AppendFrom(dst, int(id), int(id)+1)
	return nil
}

// AppendAll implements [Bulk].
func (c *extremes) AppendAll(dst *row.Column, ids []uint32) bool {
	if c.kind == row.Double {
		for _, id := range ids {
			dst.F = append(dst.F, c.double(c.rank[id]))
		}
		return true
	}
	for _, id := range ids {
		dst.I = append(dst.I, c.rank[id]^c.turn)
	}
	return true
}

// AppendFrom implements [Bulk].
func (c *extremes) AppendFrom(dst *row.Column, from, to int) bool {
	if c.kind == row.Double {
		at := len(dst.F)
		dst.F = slices.Grow(dst.F, to-from)[:at+to-from]
		out := dst.F[at:]
		for i, rank := range c.rank[from:to] {
			out[i] = c.double(rank)
		}
		return true
	}
	for _, rank := range c.rank[from:to] {
		dst.I = append(dst.I, rank^c.turn)
	}
	return true
}
func (c *extremes) State() row.Schema { return row.Schema{{Name: "value", Kind: c.kind}} }

// Save writes null for none yet: what stands for it is not a value of a row.
func (c *extremes) Save(dst []*row.Column, id uint32) {
	if c.rank[id] == none {
		dst[0].AppendNull()
		return
	}
	c.AppendFrom(dst[0], int(id), int(id)+1)
}
func (c *extremes) Load(id uint32, src []*row.Column, i int) error {
	switch {
	case src[0].IsNull(i):
	case c.kind == row.Double:
		c.rank[id] = c.rankOf(src[0].F[i])
	default:
		c.rank[id] = src[0].I[i] ^ c.turn
	}
	return nil
}
