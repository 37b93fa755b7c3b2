package measure

import (
	"cmp"
	"slices"
	"sort"

	"undertide/core/expr"
	"undertide/core/row"
)

// collections keeps the first n values by event time; among equal times those that came first.
type collections struct {
	kind row.Kind
	n    int
	v    []collection
	col  *row.Column // for results
	held int
}

type collection struct {
	at   []row.Time
	v    []expr.Value
	left int64 // values that there was no room for
}

// put takes a value that comes after all that are there already; it gives by how many bytes the list has grown.
func (l *collection) put(t row.Time, v expr.Value, n int) (grown int) {
	i := sort.Search(len(l.at), func(k int) bool { return l.at[k] > t })
	if len(l.at) >= n {
		l.left++
		if i == len(l.at) {
			return 0
		}
		grown -= listedBytes + len(l.v[n-1].S)
		l.at, l.v = l.at[:n-1], l.v[:n-1]
	}
	l.at, l.v = slices.Insert(l.at, i, t), slices.Insert(l.v, i, v)
	return grown + listedBytes + len(v.S)
}

// listedBytes is what a value in a list takes, with its time and beside its text.
const listedBytes = 64

func (c *collections) Grow(n int) { c.v = grown(c.v, n) }
func (c *collections) Clear()     { clear(c.v); c.v, c.held = c.v[:0], 0 }
func (c *collections) Bytes() int { return 56*cap(c.v) + c.held }
func (c *collections) Add(ids []uint32, rows []uint16, arg *row.Column, times []row.Time) {
	for i, id := range ids {
		t := row.Time(0)
		if len(times) > 0 {
			t = times[rows[i]]
		}
		c.put(id, t, expr.At(arg, int(rows[i])))
	}
}
func (c *collections) put(id uint32, t row.Time, v expr.Value) {
	c.held += c.v[id].put(t, v, c.n)
}
func (c *collections) Merge(to uint32, src Column, from uint32) {
	s := src.(*collections).v[from]
	for i, t := range s.at {
		c.put(to, t, s.v[i])
	}
	c.v[to].left += s.left
}
func (c *collections) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *collections) Reset(id uint32) {
	for _, v := range c.v[id].v {
		c.held -= listedBytes + len(v.S)
	}
	c.v[id] = collection{}
}
func (c *collections) Append(dst *row.Column, id uint32) error {
	dst.AppendString(expr.ListOf(row.ListOf(c.kind), c.v[id].v).S)
	return nil
}

// Left tells how many values of a key there was no room for.
func (c *collections) Left(id uint32) int64 { return c.v[id].left }

// Leaver is a column that leaves out values beyond its bound.
type Leaver interface{ Left(id uint32) int64 }

func (c *collections) State() row.Schema {
	return row.Schema{{Name: "at", Kind: row.ListOf(row.Timestamp)}, {Name: "values", Kind: row.ListOf(c.kind)}, {Name: "left_out", Kind: row.Int}}
}
func (c *collections) Save(dst []*row.Column, id uint32) {
	l := c.v[id]
	times := make([]expr.Value, len(l.at))
	for i, t := range l.at {
		times[i] = expr.Value{Kind: row.Timestamp, I: int64(t)}
	}
	dst[0].AppendString(expr.ListOf(row.ListOf(row.Timestamp), times).S)
	dst[1].AppendString(expr.ListOf(row.ListOf(c.kind), l.v).S)
	dst[2].AppendInt(l.left)
}
func (c *collections) Load(id uint32, src []*row.Column, i int) error {
	times, values := row.NewColumn(row.Timestamp), row.NewColumn(c.kind)
	if !row.Elements(src[0].Kind, src[0].Bytes(i), nil, times, nil) || !row.Elements(src[1].Kind, src[1].Bytes(i), nil, values, nil) || times.Len() != values.Len() {
		return errState
	}
	for k := range times.Len() {
		c.put(id, row.Time(times.I[k]), expr.At(values, k))
	}
	c.v[id].left = src[2].I[i]
	return nil
}

// largest keeps the n greatest values, from the greatest down.
type largest struct {
	kind row.Kind
	n    int
	v    [][]expr.Value
	held int // bytes
}

func (c *largest) put(id uint32, x expr.Value) {
	l := c.v[id]
	i := sort.Search(len(l), func(k int) bool { return expr.Compare(l[k], x) < 0 })
	if i == c.n {
		return
	}
	if len(l) == c.n {
		c.held -= listedBytes + len(l[c.n-1].S)
		l = l[:c.n-1]
	}
	c.held += listedBytes + len(x.S)
	c.v[id] = slices.Insert(l, i, x)
}

func (c *largest) Grow(n int) { c.v = grown(c.v, n) }
func (c *largest) Clear()     { clear(c.v); c.v, c.held = c.v[:0], 0 }
func (c *largest) Bytes() int { return 24*cap(c.v) + c.held }
func (c *largest) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		c.put(id, expr.At(arg, int(rows[i])))
	}
}
func (c *largest) Merge(to uint32, src Column, from uint32) {
	for _, x := range src.(*largest).v[from] {
		c.put(to, x)
	}
}
func (c *largest) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *largest) Reset(id uint32) {
	for _, v := range c.v[id] {
		c.held -= listedBytes + len(v.S)
	}
	c.v[id] = nil
}
func (c *largest) Append(dst *row.Column, id uint32) error {
	dst.AppendString(expr.ListOf(row.ListOf(c.kind), c.v[id]).S)
	return nil
}
func (c *largest) State() row.Schema {
	return row.Schema{{Name: "values", Kind: row.ListOf(c.kind)}}
}
func (c *largest) Save(dst []*row.Column, id uint32) {
	dst[0].AppendString(expr.ListOf(row.ListOf(c.kind), c.v[id]).S)
}
func (c *largest) Load(id uint32, src []*row.Column, i int) error {
	values := row.NewColumn(c.kind)
	if !row.Elements(src[0].Kind, src[0].Bytes(i), nil, values, nil) {
		return errState
	}
	for k := range values.Len() {
		c.put(id, expr.At(values, k))
	}
	return nil
}

// commons counts each value, and gives the n most common: greater count first, then the lesser value.
type commons struct {
	kind row.Kind
	n    int
	v    []map[expr.Value]int64
	held int
}

func (c *commons) put(id uint32, x expr.Value, n int64) {
	if c.v[id] == nil {
		c.v[id] = map[expr.Value]int64{}
	}
	before := len(c.v[id])
	if c.v[id][x] += n; len(c.v[id]) > before {
		c.held += commonBytes + len(x.S)
	}
}

func (c *commons) Grow(n int) { c.v = grown(c.v, n) }
func (c *commons) Clear()     { clear(c.v); c.v, c.held = c.v[:0], 0 }
func (c *commons) Bytes() int { return 8*cap(c.v) + c.held }

// commonBytes is what a counted value takes, beside its text.
const commonBytes = 80

func (c *commons) Add(ids []uint32, rows []uint16, arg *row.Column, _ []row.Time) {
	for i, id := range ids {
		x := expr.At(arg, int(rows[i]))
		if x.F == 0 {
			x.F = 0 // one value for both zeros
		}
		if x.Kind == row.Decimal {
			x.S = string(row.PlainDecimal([]byte(x.S)))
		}
		c.put(id, x, 1)
	}
}
func (c *commons) Merge(to uint32, src Column, from uint32) {
	for x, n := range src.(*commons).v[from] {
		c.put(to, x, n)
	}
}
func (c *commons) JoinAll(srcs []Column, n int) { joinEach(c, srcs, n) }
func (c *commons) Reset(id uint32) {
	for x := range c.v[id] {
		c.held -= commonBytes + len(x.S)
	}
	c.v[id] = nil
}

// sorted gives a key's values, the most common first.
func (c *commons) sorted(id uint32) []expr.Value {
	all := c.v[id]
	values := make([]expr.Value, 0, len(all))
	for x := range all {
		values = append(values, x)
	}
	slices.SortFunc(values, func(a, b expr.Value) int {
		if n := cmp.Compare(all[b], all[a]); n != 0 {
			return n
		}
		return expr.Compare(a, b)
	})
	return values
}
func (c *commons) list(id uint32, n int) []byte {
	var out []byte
	values, counts := row.NewColumn(c.kind), row.NewColumn(row.Int)
	for i, x := range c.sorted(id) {
		if i == n {
			break
		}
		x.AppendTo(values)
		counts.AppendInt(c.v[id][x])
		out = row.AppendElement(row.AppendElement(out, values, i), counts, i)
	}
	return out
}
func (c *commons) Append(dst *row.Column, id uint32) error {
	dst.AppendBytes(c.list(id, c.n))
	return nil
}
func (c *commons) State() row.Schema {
	return row.Schema{{Name: "values", Kind: row.CommonOf(c.kind)}}
}
func (c *commons) Save(dst []*row.Column, id uint32) { dst[0].AppendBytes(c.list(id, -1)) }
func (c *commons) Load(id uint32, src []*row.Column, i int) error {
	values, counts := row.NewColumn(c.kind), row.NewColumn(row.Int)
	if !row.Elements(src[0].Kind, src[0].Bytes(i), nil, values, counts) {
		return errState
	}
	for k := range values.Len() {
		c.put(id, expr.At(values, k), counts.I[k])
	}
	return nil
}
