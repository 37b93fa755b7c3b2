// Package measure holds the aggregates of windows as columns: one accumulator for each key number.
// A column adds the rows of a batch in one typed loop, gives results, and saves and loads its state
// as plain columns. Sums of doubles take rows one by one in the order given
// (docs/time.md, "Same input, same output").
package measure

import (
	"errors"
	"fmt"
	"math"
	"math/bits"

	"undertide/core/row"
)

// ErrOverflow is returned when an int sum does not fit 64 bits at the end, ErrNotFinite when a sum
// of doubles is not finite.
var (
	ErrOverflow  = errors.New("the int result does not fit 64 bits")
	ErrNotFinite = errors.New("the double result is not finite")
)

// Spec describes an aggregate: the function's name and the kind of its argument (Invalid: none).
type Spec struct {
	Func string
	Arg  row.Kind
}

// Column is the accumulators of one aggregate for the keys of one slice. One goroutine at a time.
type Column interface {
	// Grow makes room for keys 0 to n-1; new ones are empty.
	Grow(n int)
	// Add takes row rows[i] of arg for key ids[i], for every i, in order. No row is null.
	Add(ids []uint32, rows []uint16, arg *row.Column)
	// Append adds the result of key id to dst, which is not called for keys without a value.
	Append(dst *row.Column, id uint32) error
	// State names the columns of Save and Load.
	State() row.Schema
	// Save appends the accumulator of key id to columns as State says.
	Save(dst []*row.Column, id uint32)
	// Load sets the accumulator of key id from row i of such columns.
	Load(id uint32, src []*row.Column, i int)
	// Move copies the accumulator of key from to key to of another column of the same spec.
	Move(dst Column, from, to uint32)
	// Bytes is about how much memory the column takes.
	Bytes() int
	// Clear empties all accumulators and keeps the memory.
	Clear()
}

// New makes an empty column.
func New(s Spec) (Column, error) {
	switch s.Func {
	case "count":
		return &counts{}, nil
	case "sum", "mean":
		mean := s.Func == "mean"
		switch s.Arg {
		case row.Double:
			return &doubleSums{mean: mean}, nil
		case row.Int, row.Duration:
			return &intSums{mean: mean}, nil
		}
	case "min", "max":
		sign := int64(1)
		if s.Func == "max" {
			sign = -1
		}
		switch s.Arg {
		case row.Double:
			return &doubleExtremes{greatest: sign < 0}, nil
		case row.Int, row.Duration, row.Timestamp:
			return &intExtremes{kind: s.Arg, greatest: sign < 0}, nil
		case row.String:
			return &textExtremes{greatest: sign < 0}, nil
		}
	}
	return nil, fmt.Errorf("no aggregate %s of %s", s.Func, s.Arg)
}

// grown extends s to n entries of zero.
func grown[T any](s []T, n int) []T {
	if n <= cap(s) {
		return s[:max(n, len(s))]
	}
	next := make([]T, n, n+n/4+16)
	copy(next, s)
	return next
}

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

// intSums adds ints in 128 bits; n counts the values for a mean.
type intSums struct {
	mean bool
	lo   []uint64
	hi   []int64
	n    []int64
}

func (c *intSums) Grow(n int) {
	c.lo, c.hi = grown(c.lo, n), grown(c.hi, n)
	if c.mean {
		c.n = grown(c.n, n)
	}
}
func (c *intSums) Clear() {
	clear(c.lo)
	clear(c.hi)
	clear(c.n)
	c.lo, c.hi, c.n = c.lo[:0], c.hi[:0], c.n[:0]
}
func (c *intSums) Bytes() int { return 8 * (cap(c.lo) + cap(c.hi) + cap(c.n)) }
func (c *intSums) Add(ids []uint32, rows []uint16, arg *row.Column) {
	lo, hi, v := c.lo, c.hi, arg.I
	for i, id := range ids {
		x := v[rows[i]]
		var carry uint64
		lo[id], carry = bits.Add64(lo[id], uint64(x), 0)
		hi[id] += x>>63 + int64(carry)
	}
	if c.mean {
		for _, id := range ids {
			c.n[id]++
		}
	}
}
func (c *intSums) Append(dst *row.Column, id uint32) error {
	lo, hi := c.lo[id], c.hi[id]
	if c.mean {
		dst.AppendDouble(double128(hi, lo) / float64(c.n[id]))
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
		dst[2].AppendInt(c.n[id])
	}
}
func (c *intSums) Load(id uint32, src []*row.Column, i int) {
	c.hi[id], c.lo[id] = src[0].I[i], uint64(src[1].I[i])
	if c.mean {
		c.n[id] = src[2].I[i]
	}
}
func (c *intSums) Move(dst Column, from, to uint32) {
	d := dst.(*intSums)
	d.lo[to], d.hi[to] = c.lo[from], c.hi[from]
	if c.mean {
		d.n[to] = c.n[from]
	}
}

// doubleSums adds doubles one by one.
type doubleSums struct {
	mean bool
	sum  []float64
	n    []int64
}

func (c *doubleSums) Grow(n int) {
	c.sum = grown(c.sum, n)
	if c.mean {
		c.n = grown(c.n, n)
	}
}
func (c *doubleSums) Clear() {
	clear(c.sum)
	clear(c.n)
	c.sum, c.n = c.sum[:0], c.n[:0]
}
func (c *doubleSums) Bytes() int { return 8 * (cap(c.sum) + cap(c.n)) }
func (c *doubleSums) Add(ids []uint32, rows []uint16, arg *row.Column) {
	sum, v := c.sum, arg.F
	if c.mean {
		n := c.n
		for i, id := range ids {
			sum[id] += v[rows[i]]
			n[id]++
		}
		return
	}
	for i, id := range ids {
		sum[id] += v[rows[i]]
	}
}
func (c *doubleSums) Append(dst *row.Column, id uint32) error {
	v := c.sum[id]
	if c.mean {
		v /= float64(c.n[id])
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
		dst[1].AppendInt(c.n[id])
	}
}
func (c *doubleSums) Load(id uint32, src []*row.Column, i int) {
	c.sum[id] = src[0].F[i]
	if c.mean {
		c.n[id] = src[1].I[i]
	}
}
func (c *doubleSums) Move(dst Column, from, to uint32) {
	d := dst.(*doubleSums)
	d.sum[to] = c.sum[from]
	if c.mean {
		d.n[to] = c.n[from]
	}
}

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

// doubleExtremes keeps the least or greatest of doubles; infinities stand for none yet.
type doubleExtremes struct {
	greatest bool
	v        []float64
}

func (c *doubleExtremes) Grow(n int) {
	from := len(c.v)
	c.v = grown(c.v, n)
	start := math.Inf(1)
	if c.greatest {
		start = math.Inf(-1)
	}
	for i := from; i < len(c.v); i++ {
		c.v[i] = start
	}
}
func (c *doubleExtremes) Clear()     { c.v = c.v[:0] }
func (c *doubleExtremes) Bytes() int { return 8 * cap(c.v) }
func (c *doubleExtremes) Add(ids []uint32, rows []uint16, arg *row.Column) {
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
func (c *doubleExtremes) Load(id uint32, src []*row.Column, i int) {
	if !src[0].IsNull(i) {
		c.v[id] = src[0].F[i]
	}
}
func (c *doubleExtremes) Move(dst Column, from, to uint32) { dst.(*doubleExtremes).v[to] = c.v[from] }

// textExtremes keeps the least or greatest of strings, by bytes.
type textExtremes struct {
	greatest bool
	v        []string
	has      []bool
	bytes    int
}

func (c *textExtremes) Grow(n int) { c.v, c.has = grown(c.v, n), grown(c.has, n) }
func (c *textExtremes) Clear() {
	clear(c.v)
	clear(c.has)
	c.v, c.has, c.bytes = c.v[:0], c.has[:0], 0
}
func (c *textExtremes) Bytes() int { return 17*cap(c.v) + c.bytes }
func (c *textExtremes) Add(ids []uint32, rows []uint16, arg *row.Column) {
	for i, id := range ids {
		x := arg.Bytes(int(rows[i]))
		// string(x) does not allocate in a comparison
		if !c.has[id] || (c.greatest && string(x) > c.v[id]) || (!c.greatest && string(x) < c.v[id]) {
			c.bytes += len(x) - len(c.v[id])
			c.v[id], c.has[id] = string(x), true
		}
	}
}
func (c *textExtremes) Append(dst *row.Column, id uint32) error {
	dst.AppendString(c.v[id])
	return nil
}
func (c *textExtremes) State() row.Schema { return row.Schema{{Name: "value", Kind: row.String}} }
func (c *textExtremes) Save(dst []*row.Column, id uint32) {
	if c.has[id] {
		dst[0].AppendString(c.v[id])
	} else {
		dst[0].AppendNull()
	}
}
func (c *textExtremes) Load(id uint32, src []*row.Column, i int) {
	if !src[0].IsNull(i) {
		c.v[id], c.has[id] = string(src[0].Bytes(i)), true
		c.bytes += len(c.v[id])
	}
}
func (c *textExtremes) Move(dst Column, from, to uint32) {
	d := dst.(*textExtremes)
	d.v[to], d.has[to] = c.v[from], c.has[from]
	d.bytes += len(c.v[from])
}
