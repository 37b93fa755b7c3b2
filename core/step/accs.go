package step

import (
	"fmt"

	"undertide/core/measure"
	"undertide/core/row"
)

// accs are the accumulators of a step's aggregates: those of one slice by key, or those of sessions by
// number. rows counts the rows of each; one with none is empty.
type accs struct {
	def     *Spec
	rows    []int64
	missing [][]int64 // for each aggregate, rows that gave no value; empty while none
	aggs    []measure.Column
	keys    int   // with rows
	widths  []int // by aggregate, columns of its state

	ids  []uint32 // scratch
	vals []uint16
	cols []measure.Column
}

func newAccs(def *Spec) *accs {
	n := len(def.Aggregates)
	a := &accs{def: def, aggs: make([]measure.Column, n), missing: make([][]int64, n)}
	for i, g := range def.Aggregates {
		if !g.plainCount() {
			a.aggs[i] = mustColumn(g.Spec)
		}
	}

	return a
}

func mustColumn(s measure.Spec) measure.Column {
	c, err := measure.New(s)
	if err != nil {
		panic(err) // the document was checked
	}
	return c
}

func (a *accs) grow(n int) {
	if n <= len(a.rows) {
		return
	}
	if n <= cap(a.rows) {
		a.rows = a.rows[:n]
	} else {
		a.rows = append(a.rows, make([]int64, n-len(a.rows))...)
	}
	for _, c := range a.aggs {
		if c != nil {
			c.Grow(n)
		}
	}
}

// add takes row rows[i] of x for number ids[i], in order.
func (a *accs) add(x *Exchange, ids []uint32, rows []uint16) {
	n := a.rows
	for _, id := range ids {
		if n[id] == 0 {
			a.keys++
		}
		n[id]++
	}
	for i, c := range a.aggs {
		if c == nil {
			continue
		}
		ids, rows := ids, rows
		arg, cond := x.Args[i], x.Conds[i]
		if cond != nil || (arg != nil && len(arg.Null) > 0) {
			ids, rows = a.withValue(i, ids, rows, arg, cond)
		}
		if t, ok := c.(measure.RowsTaker); ok {
			t.AddRows(ids, rows, x.Cols)
		} else {
			c.Add(ids, rows, arg, x.Times)
		}
	}
}

// withValue leaves out the rows that give aggregate i nothing: the argument is null, or the
// condition is not true.
func (a *accs) withValue(i int, ids []uint32, rows []uint16, arg, cond *row.Column) ([]uint32, []uint16) {
	a.ids, a.vals = a.ids[:0], a.vals[:0]
	for k, r := range rows {
		at := int(r)
		if (cond != nil && (cond.I[at] == 0 || cond.IsNull(at))) || (arg != nil && arg.IsNull(at)) {
			a.lack(i, ids[k], 1)
			continue
		}
		a.ids = append(a.ids, ids[k])
		a.vals = append(a.vals, r)
	}
	return a.ids, a.vals
}

func (a *accs) lack(i int, id uint32, n int64) {
	if len(a.missing[i]) < len(a.rows) {
		a.missing[i] = append(a.missing[i], make([]int64, len(a.rows)-len(a.missing[i]))...)
	}
	a.missing[i][id] += n
}

// empty says whether aggregate i of a number has no value at all.
func (a *accs) empty(i int, id uint32) bool {
	return int(id) < len(a.missing[i]) && a.missing[i][id] == a.rows[id]
}

// merge joins number from of src, whose rows come after, to number to.
func (a *accs) merge(to uint32, src *accs, from uint32) {
	if src.rows[from] == 0 {
		return
	}
	if a.rows[to] == 0 {
		a.keys++
	}
	a.rows[to] += src.rows[from]
	for i, c := range a.aggs {
		if int(from) < len(src.missing[i]) && src.missing[i][from] > 0 {
			a.lack(i, to, src.missing[i][from])
		}
		if c != nil {
			c.Merge(to, src.aggs[i], from)
		}
	}
}

// joinAll makes each number what those of all srcs give together, the oldest first, whatever it was before. It does not count
// keys: what is joined is not kept as a slice.
func (a *accs) joinAll(srcs []*accs) {
	n := len(srcs[0].rows) // the numbers that all have
	most := n
	for _, src := range srcs {
		n, most = min(n, len(src.rows)), max(most, len(src.rows))
	}
	if len(a.rows) > most {
		a.clear()
	}
	a.grow(most)
	a.keys = 0
	measure.SetSums(a.rows, srcs, n, func(src *accs) []int64 { return src.rows })
	for i, c := range a.aggs {
		a.missing[i] = a.missing[i][:0]
		a.cols = a.cols[:0]
		for _, src := range srcs {
			for id, k := range src.missing[i] {
				if k > 0 {
					a.lack(i, uint32(id), k)
				}
			}
			a.cols = append(a.cols, src.aggs[i])
		}
		if c != nil {
			c.JoinAll(a.cols, n)
		}
	}
	for id := n; id < most; id++ {
		a.joinOne(srcs, uint32(id))
	}
}

// joinOne does so for a number that some of srcs do not have yet; what is missing of it was counted.
func (a *accs) joinOne(srcs []*accs, id uint32) {
	a.rows[id] = 0
	for i, c := range a.aggs {
		if c == nil {
			continue
		}
		c.Reset(id)
		for _, src := range srcs {
			if int(id) < len(src.rows) && src.rows[id] > 0 {
				c.Merge(id, src.aggs[i], id)
			}
		}
	}
	for _, src := range srcs {
		if int(id) < len(src.rows) {
			a.rows[id] += src.rows[id]
		}
	}
}

// resetAll empties some numbers, column by column: the processor waits for many of a column at once.
func (a *accs) resetAll(ids []uint32) {
	for _, id := range ids {
		if a.rows[id] > 0 {
			a.keys--
		}
		a.rows[id] = 0
	}
	for i, c := range a.aggs {
		if missing := a.missing[i]; len(missing) > 0 {
			for _, id := range ids {
				if int(id) < len(missing) {
					missing[id] = 0
				}
			}
		}
		if c != nil {
			for _, id := range ids {
				c.Reset(id)
			}
		}
	}
}

// reset empties one number.
func (a *accs) reset(id uint32) { a.resetAll([]uint32{id}) }

// clear empties all and keeps the memory.
func (a *accs) clear() {
	clear(a.rows)
	a.rows, a.keys = a.rows[:0], 0
	for i, c := range a.aggs {
		clear(a.missing[i])
		a.missing[i] = a.missing[i][:0]
		if c != nil {
			c.Clear()
		}
	}
}

func (a *accs) bytes() int {
	n := 8 * cap(a.rows)
	for i, c := range a.aggs {
		n += 8 * cap(a.missing[i])
		if c != nil {
			n += c.Bytes()
		}
	}
	return n
}

// resultsFrom does as results for numbers that follow each other: what lies together is copied at once.
func (a *accs) resultsFrom(dst []*row.Column, ids []uint32, c *LaneCounts) {
	from, to := int(ids[0]), int(ids[len(ids)-1])+1
	for i, col := range a.aggs {
		a.tell(i)
		if col == nil {
			dst[i].I = append(dst[i].I, a.rows[from:to]...)
		} else if b, ok := col.(measure.Bulk); !ok || len(a.missing[i]) > 0 || !b.AppendFrom(dst[i], from, to) {
			a.result(i, dst[i], ids, c)
		}
	}
}

// results appends the aggregates' results of some numbers to columns; an error over measures is null and
// counted.
func (a *accs) results(dst []*row.Column, ids []uint32, c *LaneCounts) {
	for i, col := range a.aggs {
		a.tell(i)
		if b, ok := col.(measure.Bulk); !ok || len(a.missing[i]) > 0 || !b.AppendAll(dst[i], ids) {
			a.result(i, dst[i], ids, c)
		}
	}
}

// tell says to a column that does not count its values how many there are.
func (a *accs) tell(i int) {
	if c, ok := a.aggs[i].(measure.Counted); ok {
		c.SetCounts(a.rows, a.missing[i])
	}
}

// result appends the results of aggregate i one by one.
func (a *accs) result(i int, dst *row.Column, ids []uint32, c *LaneCounts) {
	col, f := a.aggs[i], a.def.Aggregates[i].Func
	for _, id := range ids {
		if col == nil {
			dst.AppendInt(a.rows[id])
		} else if f != "count" && f != "count_distinct" && a.empty(i, id) {
			dst.AppendNull()
		} else if err := col.Append(dst, id); err != nil {
			dst.AppendNull()
			c.MeasureErrors++
		}
	}
}

// leftOut counts the values that there was no room for.
func (a *accs) leftOut(ids []uint32) (n int64) {
	for _, c := range a.aggs {
		if l, ok := c.(measure.Leaver); ok {
			for _, id := range ids {
				n += l.Left(id)
			}
		}
	}
	return n
}

// measureWidths counts the columns of each aggregate's state, once.
func (a *accs) measureWidths() {
	if a.widths != nil {
		return
	}
	a.widths = make([]int, len(a.aggs))
	for i, c := range a.aggs {
		if c != nil {
			a.widths[i] = len(c.State())
		}
	}
}

// missingPart ends the name of the column that counts the rows that gave a measure no value.
const missingPart = ".missing"

// accSchema names the columns of a number's state: rows, and for each aggregate those of its accumulator, named
// MEASURE.PART (docs/checkpoints.md).
func (d *Spec) accSchema() row.Schema {
	s := row.Schema{{Name: "rows", Kind: row.Int}}
	for i, a := range d.Aggregates {
		if a.plainCount() {
			continue
		}
		name := a.Name
		if name == "" {
			name = fmt.Sprintf("%s_%d", a.Func, i+1)
		}
		s = append(s, row.Field{Name: name + missingPart, Kind: row.Int})
		for _, f := range mustColumn(a.Spec).State() {
			s = append(s, row.Field{Name: name + "." + f.Name, Kind: f.Kind})
		}
	}
	return s
}

// save appends a number to columns of this schema.
func (a *accs) save(dst []*row.Column, id uint32) {
	dst[0].AppendInt(a.rows[id])
	a.measureWidths()
	at := 1
	for i, c := range a.aggs {
		if c == nil {
			continue
		}
		missing := int64(0)
		if int(id) < len(a.missing[i]) {
			missing = a.missing[i][id]
		}
		dst[at].AppendInt(missing)
		n := a.widths[i]
		a.tell(i)
		c.Save(dst[at+1:at+1+n], id)
		at += 1 + n
	}
}

// saveAll appends some numbers.
func (a *accs) saveAll(dst []*row.Column, ids []uint32) {
	a.measureWidths()
	for _, id := range ids {
		dst[0].AppendInt(a.rows[id])
	}
	at := 1
	for i, c := range a.aggs {
		if c == nil {
			continue
		}
		for _, id := range ids {
			missing := int64(0)
			if int(id) < len(a.missing[i]) {
				missing = a.missing[i][id]
			}
			dst[at].AppendInt(missing)
		}
		to := dst[at+1 : at+1+a.widths[i]]
		a.tell(i)
		if s, ok := c.(measure.BulkSaver); ok {
			s.SaveAll(to, ids)
		} else {
			for _, id := range ids {
				c.Save(to, id)
			}
		}
		at += 1 + a.widths[i]
	}
}

// load sets an empty number from row i of such columns.
func (a *accs) load(src []*row.Column, i int, id uint32) error {
	a.measureWidths()
	a.rows[id] = src[0].I[i]
	a.keys++
	at := 1
	for k, c := range a.aggs {
		if c == nil {
			continue
		}
		if missing := src[at].I[i]; missing > 0 {
			a.lack(k, id, missing)
		}
		n := a.widths[k]
		if err := c.Load(id, src[at+1:at+1+n], i); err != nil {
			return err
		}
		at += 1 + n
	}
	return nil
}
