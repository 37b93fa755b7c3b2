package measure

import (
	"undertide/core/expr"
	"undertide/core/row"
)

// ends keeps the value of the first or last row by event time; among equal times the first or last by
// place.
type ends struct {
	kind row.Kind
	last bool
	at   []row.Time
	v    []expr.Value
	has  []bool
	held int // bytes of texts and lists in v
}

func (c *ends) set(id uint32, at row.Time, v expr.Value) {
	c.held += len(v.S) - len(c.v[id].S)
	c.at[id], c.v[id], c.has[id] = at, v, true
}

func (c *ends) Grow(n int) {
	c.at, c.v, c.has = grown(c.at, n), grown(c.v, n), grown(c.has, n)
}
func (c *ends) Clear() {
	clear(c.v)
	clear(c.has)
	c.at, c.v, c.has, c.held = c.at[:0], c.v[:0], c.has[:0], 0
}
func (c *ends) Bytes() int { return 57*cap(c.v) + c.held }
func (c *ends) Add(ids []uint32, rows []uint16, arg *row.Column, times []row.Time) {
	for i, id := range ids {
		t := row.Time(0)
		if len(times) > 0 { // rows without event time go by place
			t = times[rows[i]]
		}
		if c.takes(id, t) {
			c.set(id, t, expr.At(arg, int(rows[i])))
		}
	}
}

// takes says whether a later row of time t replaces what is kept.
func (c *ends) takes(id uint32, t row.Time) bool {
	if !c.has[id] {
		return true
	}
	if c.last {
		return t >= c.at[id]
	}
	return t < c.at[id]
}
func (c *ends) Merge(to uint32, src Column, from uint32) {
	s := src.(*ends)
	if s.has[from] && c.takes(to, s.at[from]) {
		c.set(to, s.at[from], s.v[from])
	}
}
func (c *ends) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *ends) Reset(id uint32) {
	c.set(id, 0, expr.Value{})
	c.has[id] = false
}
func (c *ends) Append(dst *row.Column, id uint32) error {
	c.v[id].AppendTo(dst)
	return nil
}
func (c *ends) State() row.Schema {
	return row.Schema{{Name: "at", Kind: row.Timestamp}, {Name: "value", Kind: c.kind}}
}
func (c *ends) Save(dst []*row.Column, id uint32) {
	if !c.has[id] {
		dst[0].AppendNull()
		dst[1].AppendNull()
		return
	}
	dst[0].AppendInt(int64(c.at[id]))
	c.v[id].AppendTo(dst[1])
}
func (c *ends) Load(id uint32, src []*row.Column, i int) error {
	if !src[0].IsNull(i) {
		c.set(id, row.Time(src[0].I[i]), expr.At(src[1], i))
	}
	return nil
}
