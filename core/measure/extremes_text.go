package measure

import (
	"undertide/core/row"
)

// textExtremes keeps the least or greatest of strings, by bytes.
type textExtremes struct {
	kind     row.Kind
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
func (c *textExtremes) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
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
func (c *textExtremes) State() row.Schema { return row.Schema{{Name: "value", Kind: c.kind}} }
func (c *textExtremes) Save(dst []*row.Column, id uint32) {
	if c.has[id] {
		dst[0].AppendString(c.v[id])
	} else {
		dst[0].AppendNull()
	}
}
func (c *textExtremes) Load(id uint32, src []*row.Column, i int) error {
	if !src[0].IsNull(i) {
		c.v[id], c.has[id] = string(src[0].Bytes(i)), true
		c.bytes += len(c.v[id])
	}
	return nil
}

func (c *textExtremes) Merge(to uint32, src Column, from uint32) {
	s := src.(*textExtremes)
	if s.has[from] && (!c.has[to] || s.v[from] > c.v[to] == c.greatest) {
		c.bytes += len(s.v[from]) - len(c.v[to])
		c.v[to], c.has[to] = s.v[from], true
	}
}
func (c *textExtremes) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *textExtremes) Reset(id uint32) {
	c.bytes -= len(c.v[id])
	c.v[id], c.has[id] = "", false
}
