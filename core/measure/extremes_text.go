package measure

import (
	"undertide/core/row"
)

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
