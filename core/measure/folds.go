package measure

import (
	"undertide/core/expr"
	"undertide/core/row"
)

// folds are measures of the document's own. One whose next or combine had an error gives no value any
// more, and the error.
type folds struct {
	fold  *expr.Fold
	v     []expr.Value
	has   []bool
	fault []error
	held  int // bytes of texts and lists in v
}

// set gives a key its value.
func (c *folds) set(id uint32, v expr.Value, err error) {
	c.held += len(v.S) - len(c.v[id].S)
	c.v[id], c.has[id], c.fault[id] = v, true, err
}

func (c *folds) Grow(n int) {
	c.v, c.has, c.fault = grown(c.v, n), grown(c.has, n), grown(c.fault, n)
}
func (c *folds) Clear() {
	clear(c.v)
	clear(c.has)
	clear(c.fault)
	c.v, c.has, c.fault, c.held = c.v[:0], c.has[:0], c.fault[:0], 0
}
func (c *folds) Bytes() int { return 72*cap(c.v) + c.held }

// Add is not used: a fold needs whole rows.
func (c *folds) Add([]uint32, []uint16, *row.Column, []row.Time) {}

// AddRows takes whole rows.
func (c *folds) AddRows(ids []uint32, rows []uint16, cols []*row.Column) {
	for i, id := range ids {
		if c.fault[id] != nil {
			continue
		}
		if !c.has[id] {
			v, err := c.fold.Initial()
			c.set(id, v, err)
		}
		if c.fault[id] == nil {
			v, err := c.fold.Next(c.v[id], cols, int(rows[i]))
			c.set(id, v, err)
		}
	}
}

// RowsTaker is a column that takes whole rows in place of an argument.
type RowsTaker interface {
	AddRows(ids []uint32, rows []uint16, cols []*row.Column)
}

func (c *folds) Merge(to uint32, src Column, from uint32) {
	s := src.(*folds)
	switch {
	case s.fault[from] != nil:
		c.fault[to] = s.fault[from]
	case !s.has[from] || c.fault[to] != nil:
	case !c.has[to]:
		c.set(to, s.v[from], nil)
	default:
		v, err := c.fold.Combine(c.v[to], s.v[from])
		c.set(to, v, err)
	}
}
func (c *folds) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *folds) Reset(id uint32) {
	c.set(id, expr.Value{}, nil)
	c.has[id] = false
}
func (c *folds) Append(dst *row.Column, id uint32) error {
	if c.fault[id] != nil {
		return c.fault[id]
	}
	v, err := c.fold.Result(c.v[id])
	if err != nil {
		return err
	}
	v.AppendTo(dst)
	return nil
}
func (c *folds) State() row.Schema {
	return row.Schema{{Name: "so_far", Kind: c.fold.Kind()}, {Name: "begun", Kind: row.Bool}, {Name: "fault", Kind: row.String}}
}
func (c *folds) Save(dst []*row.Column, id uint32) {
	if c.has[id] && c.fault[id] == nil {
		c.v[id].AppendTo(dst[0])
	} else {
		dst[0].AppendNull()
	}
	dst[1].AppendBool(c.has[id])
	if c.fault[id] != nil {
		dst[2].AppendString(c.fault[id].Error())
	} else {
		dst[2].AppendNull()
	}
}
func (c *folds) Load(id uint32, src []*row.Column, i int) error {
	c.set(id, expr.At(src[0], i), nil)
	c.has[id] = src[1].I[i] != 0
	if !src[2].IsNull(i) {
		c.fault[id] = savedFault(src[2].Bytes(i))
	}
	return nil
}

// savedFault is an error that came out of a checkpoint.
type savedFault string

func (f savedFault) Error() string { return string(f) }
