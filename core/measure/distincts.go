package measure

import (
	"slices"

	"github.com/axiomhq/hyperloglog"

	"undertide/core/row"
)

// exactDistinct is how many distinct values are counted exactly (docs/job-document.md, "Measures").
const exactDistinct = 10_000

// distincts counts distinct values: as a set up to exactDistinct, beyond it by a sketch with 2^16
// registers, whose standard error is 0.4 %.
type distincts struct {
	kind row.Kind
	v    []distinct
	buf  []byte
	held int // bytes of sets and sketches
}

// distinctBytes is what a value in a set takes, beside its text; sketchBytes a sketch.
const (
	distinctBytes = 40
	sketchBytes   = 1 << 16
)

// change lets a key's values change, and keeps count of their bytes.
func (c *distincts) change(id uint32, f func(d *distinct)) {
	d := &c.v[id]
	c.held -= d.bytes
	f(d)
	c.held += d.bytes
}

type distinct struct {
	set    map[string]struct{} // encoded as elements of lists
	sketch *hyperloglog.Sketch
	bytes  int
}

func (d *distinct) add(x []byte) {
	switch {
	case d.sketch != nil:
		d.sketch.Insert(x)
		return
	case d.set == nil:
		d.set = map[string]struct{}{}
	}
	if _, ok := d.set[string(x)]; ok {
		return
	}
	d.set[string(x)] = struct{}{}
	d.bytes += distinctBytes + len(x)
	if len(d.set) > exactDistinct {
		d.estimate()
	}
}

// estimate goes over to the sketch.
func (d *distinct) estimate() {
	if d.sketch != nil {
		return
	}
	d.sketch = newSketch()
	for x := range d.set {
		d.sketch.Insert([]byte(x))
	}
	d.set, d.bytes = nil, sketchBytes
}

func newSketch() *hyperloglog.Sketch {
	s, err := hyperloglog.NewSketch(16, false)
	if err != nil {
		panic(err) // the precision is a constant
	}
	return s
}

func (c *distincts) Grow(n int) { c.v = grown(c.v, n) }
func (c *distincts) Clear()     { clear(c.v); c.v, c.held = c.v[:0], 0 }
func (c *distincts) Bytes() int { return 24*cap(c.v) + c.held }
func (c *distincts) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		c.buf = row.AppendDistinct(c.buf[:0], arg, int(rows[i]))
		c.change(id, func(d *distinct) { d.add(c.buf) })
	}
}
func (c *distincts) Merge(to uint32, src Column, from uint32) {
	b := &src.(*distincts).v[from]
	c.change(to, func(a *distinct) {
		if b.sketch != nil {
			a.estimate()
			if err := a.sketch.Merge(b.sketch); err != nil {
				panic("sketches of one kind do not join: " + err.Error())
			}
			return
		}
		for x := range b.set {
			a.add([]byte(x))
		}
	})
}
func (c *distincts) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *distincts) Reset(id uint32)              { c.change(id, func(d *distinct) { *d = distinct{} }) }
func (c *distincts) Append(dst *row.Column, id uint32) error {
	if s := c.v[id].sketch; s != nil {
		dst.AppendInt(int64(s.Estimate()))
	} else {
		dst.AppendInt(int64(len(c.v[id].set)))
	}
	return nil
}
func (c *distincts) State() row.Schema {
	return row.Schema{{Name: "distinct", Kind: row.ListOf(c.kind)}, {Name: "sketch", Kind: row.Bytes}}
}
func (c *distincts) Save(dst []*row.Column, id uint32) {
	d := c.v[id]
	list := make([]string, 0, len(d.set))
	for x := range d.set {
		list = append(list, x)
	}
	slices.Sort(list) // the same state is the same file
	var all []byte
	for _, x := range list {
		all = append(all, x...)
	}
	dst[0].AppendBytes(all)
	if d.sketch == nil {
		dst[1].AppendNull()
		return
	}
	b, err := d.sketch.MarshalBinary()
	if err != nil {
		panic("a sketch cannot be written: " + err.Error())
	}
	dst[1].AppendBytes(b)
}
func (c *distincts) Load(id uint32, src []*row.Column, i int) error {
	if !src[1].IsNull(i) {
		c.change(id, func(d *distinct) { d.sketch, d.bytes = newSketch(), sketchBytes })
		return c.v[id].sketch.UnmarshalBinary(src[1].Bytes(i))
	}
	one := row.NewColumn(c.kind)
	for data := src[0].Bytes(i); len(data) > 0; {
		one.Reset()
		rest, ok := row.NextElement(data, one)
		if !ok {
			return errState
		}
		c.change(id, func(d *distinct) { d.add(data[:len(data)-len(rest)]) })
		data = rest
	}
	return nil
}
