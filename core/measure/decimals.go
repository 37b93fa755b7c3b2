package measure

import (
	"github.com/shopspring/decimal"

	"undertide/core/expr"
	"undertide/core/row"
)

// decimalSums adds decimals exactly.
type decimalSums struct {
	valueCounts
	mean bool
	sum  []decimal.Decimal
}

func (c *decimalSums) Grow(n int) { c.sum = grown(c.sum, n) }
func (c *decimalSums) Clear() {
	clear(c.sum)
	c.sum = c.sum[:0]
}
func (c *decimalSums) Bytes() int { return 56 * cap(c.sum) }
func (c *decimalSums) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		c.sum[id] = c.sum[id].Add(expr.DecimalOf(arg.Bytes(int(rows[i]))))
	}
}
func (c *decimalSums) Merge(to uint32, src Column, from uint32) {
	c.sum[to] = c.sum[to].Add(src.(*decimalSums).sum[from])
}
func (c *decimalSums) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *decimalSums) Reset(id uint32)              { c.sum[id] = decimal.Decimal{} }
func (c *decimalSums) Append(dst *row.Column, id uint32) error {
	if c.mean {
		dst.AppendString(expr.DecimalText(c.sum[id].DivRound(decimal.NewFromInt(c.of(id)), expr.DecimalDigits)))
		return nil
	}
	dst.AppendString(expr.DecimalText(c.sum[id]))
	return nil
}
func (c *decimalSums) State() row.Schema {
	return row.Schema{{Name: "sum", Kind: row.Decimal}, {Name: "values", Kind: row.Int}}
}
func (c *decimalSums) Save(dst []*row.Column, id uint32) {
	dst[0].AppendString(expr.DecimalText(c.sum[id]))
	dst[1].AppendInt(c.of(id))
}
func (c *decimalSums) Load(id uint32, src []*row.Column, i int) error {
	c.sum[id] = expr.DecimalOf(src[0].Bytes(i))
	return nil
}

// decimalExtremes keeps the least or greatest of decimals.
type decimalExtremes struct {
	greatest bool
	v        []decimal.Decimal
	has      []bool
}

func (c *decimalExtremes) Grow(n int) { c.v, c.has = grown(c.v, n), grown(c.has, n) }
func (c *decimalExtremes) Clear() {
	clear(c.v)
	clear(c.has)
	c.v, c.has = c.v[:0], c.has[:0]
}
func (c *decimalExtremes) Bytes() int { return 64 * cap(c.v) }
func (c *decimalExtremes) put(id uint32, x decimal.Decimal) {
	if n := x.Cmp(c.v[id]); !c.has[id] || c.greatest && n > 0 || !c.greatest && n < 0 { // of equal ones the first stays
		c.v[id], c.has[id] = x, true
	}
}
func (c *decimalExtremes) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		c.put(id, expr.DecimalOf(arg.Bytes(int(rows[i]))))
	}
}
func (c *decimalExtremes) Merge(to uint32, src Column, from uint32) {
	if s := src.(*decimalExtremes); s.has[from] {
		c.put(to, s.v[from])
	}
}
func (c *decimalExtremes) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *decimalExtremes) Reset(id uint32)              { c.v[id], c.has[id] = decimal.Decimal{}, false }
func (c *decimalExtremes) Append(dst *row.Column, id uint32) error {
	dst.AppendString(expr.ScaledText(c.v[id])) // as it was given
	return nil
}
func (c *decimalExtremes) State() row.Schema {
	return row.Schema{{Name: "value", Kind: row.Decimal}}
}
func (c *decimalExtremes) Save(dst []*row.Column, id uint32) {
	if c.has[id] {
		dst[0].AppendString(expr.ScaledText(c.v[id]))
	} else {
		dst[0].AppendNull()
	}
}
func (c *decimalExtremes) Load(id uint32, src []*row.Column, i int) error {
	if !src[0].IsNull(i) {
		c.put(id, expr.DecimalOf(src[0].Bytes(i)))
	}
	return nil
}
