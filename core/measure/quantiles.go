package measure

import (
	"math"

	"github.com/DataDog/sketches-go/ddsketch"
	"github.com/DataDog/sketches-go/ddsketch/mapping"
	"github.com/DataDog/sketches-go/ddsketch/store"
	"github.com/shopspring/decimal"

	"undertide/core/expr"
	"undertide/core/row"
)

// accuracy is the relative error of quantiles before they are rounded. The contract says less than 1 % after it
// (docs/job-document.md, "Measures"): whole numbers below 100 are off by less than a half, so they come back as
// they were, and beyond it rounding adds at most another half of a percent.
const accuracy = 0.0049

var indexMapping = func() mapping.IndexMapping {
	m, err := mapping.NewLogarithmicMapping(accuracy)
	if err != nil {
		panic(err) // the accuracy is a constant
	}
	return m
}()

// quantiles estimates the value of rank floor(q * (n - 1)) by sketches whose buckets add up exactly, so
// that the result does not depend on how they were joined.
type quantiles struct {
	q      float64
	median bool
	arg    row.Kind
	v      []*ddsketch.DDSketch
	some   int // that are there
}

// bucketsBytes is about what a sketch takes that has some tens of buckets.
const bucketsBytes = 1200

func (c *quantiles) Grow(n int) { c.v = grown(c.v, n) }
func (c *quantiles) Clear()     { clear(c.v); c.v, c.some = c.v[:0], 0 }
func (c *quantiles) Bytes() int { return 8*cap(c.v) + bucketsBytes*c.some }
func (c *quantiles) at(id uint32) *ddsketch.DDSketch {
	if c.v[id] == nil {
		c.some++
		c.v[id] = ddsketch.NewDDSketchFromStoreProvider(indexMapping, store.SparseStoreConstructor)
	}
	return c.v[id]
}
func (c *quantiles) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		x := number(arg, int(rows[i]))
		if m := indexMapping.MaxIndexableValue(); math.Abs(x) > m {
			x = math.Copysign(m, x)
		}
		if err := c.at(id).Add(x); err != nil {
			panic("a sketch refuses a finite value: " + err.Error())
		}
	}
}
func (c *quantiles) Merge(to uint32, src Column, from uint32) {
	s := src.(*quantiles).v[from]
	if s == nil {
		return
	}
	if err := c.at(to).MergeWith(s); err != nil {
		panic("sketches of one kind do not join: " + err.Error())
	}
}
func (c *quantiles) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *quantiles) Reset(id uint32) {
	if c.v[id] != nil {
		c.some--
	}
	c.v[id] = nil
}
func (c *quantiles) Append(dst *row.Column, id uint32) error {
	q := c.q
	if c.median {
		q = 0.5
	}
	if c.v[id] == nil || c.v[id].IsEmpty() {
		dst.AppendNull()
		return nil
	}
	// The library takes the value of rank q * (n - 1), counted from the other end among negative values. A
	// little to the right side of it the rounding of q does not matter.
	if n := c.v[id].GetCount(); n > 1 {
		rank := math.Floor(q * (n - 1))
		if rank < c.v[id].GetNegativeValueStore().TotalCount() {
			q = max(0, rank-0.25) / (n - 1)
		} else {
			q = min(1, (rank+0.25)/(n-1))
		}
	}
	x, err := c.v[id].GetValueAtQuantile(q)
	if err != nil {
		return err
	}
	switch dst.Kind {
	case row.Double:
		dst.AppendDouble(x)
	case row.Decimal:
		dst.AppendString(expr.DecimalText(decimal.NewFromFloat(x).Round(expr.DecimalDigits)))
	default:
		dst.AppendInt(nearestInt(x))
	}
	return nil
}

// nearestInt rounds to an int; an estimate beyond the ends of ints is one of them.
func nearestInt(x float64) int64 {
	switch {
	case x >= 1<<63:
		return math.MaxInt64
	case x <= -1<<63:
		return math.MinInt64
	}
	return int64(math.Round(x))
}

func (c *quantiles) State() row.Schema {
	return row.Schema{{Name: "buckets", Kind: row.Bytes}}
}
func (c *quantiles) Save(dst []*row.Column, id uint32) {
	if c.v[id] == nil {
		dst[0].AppendNull()
		return
	}
	var b []byte
	c.v[id].Encode(&b, true) // the mapping is ours
	dst[0].AppendBytes(b)
}
func (c *quantiles) Load(id uint32, src []*row.Column, i int) error {
	if src[0].IsNull(i) {
		return nil
	}
	s, err := ddsketch.DecodeDDSketch(src[0].Bytes(i), store.SparseStoreConstructor, indexMapping)
	if err == nil && c.v[id] == nil {
		c.some++
	}
	c.v[id] = s
	return err
}
