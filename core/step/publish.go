package step

import (
	"encoding/binary"
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
)

// due are rows about to be published: columns of equal length, a row each.
type due struct {
	acc    []uint32 // number of its accumulators
	key    []uint32 // of the dictionary
	starts []row.Time
	ends   []row.Time
	index  []uint16
	// oneWindow: starts, ends and index have one entry, which holds for all rows
	oneWindow bool
	// first: acc has the numbers from 0 on, none left out
	first bool
	// only where a window may have several rows
	withdraw []bool // a withdrawal and nothing else; acc means nothing
	slot     []int  // for whoever decides
	// only of a look back: orders rows of one key and time
	number []uint64
}

func (d *due) reset() {
	if cap(d.acc) > 8*len(d.acc)+1<<16 { // there were far more once
		*d = due{}
	}
	d.first, d.oneWindow = false, false
	d.acc, d.key, d.starts, d.ends, d.index = d.acc[:0], d.key[:0], d.starts[:0], d.ends[:0], d.index[:0]
	d.withdraw, d.slot, d.number = d.withdraw[:0], d.slot[:0], d.number[:0]
}

// of says that all rows are of one window.
func (d *due) of(start, end row.Time, index uint16) {
	d.oneWindow = true
	d.starts, d.ends, d.index = append(d.starts[:0], start), append(d.ends[:0], end), append(d.index[:0], index)
}

// verdict is what becomes of a row where a window may have several.
type verdict struct {
	show      bool
	revision  int64
	closed    bool
	withdrawn bool
}

// published is what was published of a result that may have several rows: of a key of a window, of a session under
// one start and end, of a key that is whole.
type published struct {
	next     int32 // the next revision
	standing bool  // a row was published and not withdrawn
}

// row decides what becomes of the next row: one that does not meet `having` withdraws what stands.
func (p *published) row(meets, closed bool) verdict {
	v := verdict{revision: int64(p.next), closed: closed}
	switch {
	case meets:
		v.show, p.standing = true, true
	case p.standing:
		v.show, v.withdrawn, p.standing = true, true, false
	}
	if v.show {
		p.next++
	}
	return v
}

// again gives the last row once more.
func (p published) again(closed bool) verdict {
	return verdict{show: p.standing, revision: int64(p.next) - 1, closed: closed}
}

// publisher makes the rows of a windowed step out of accumulators.
type publisher struct {
	def      *Window
	ordered  bool
	counts   *LaneCounts
	out      *row.Batch
	results  *row.Batch
	measures []*expr.Runner
	begun    []row.Time // by measure, windows that begin before it lack rows in it; nil for none
	having   *expr.Runner
	cols     []*row.Column
	sel      []uint16
	order    *row.Column
	orderKey []byte
	several  *row.Batch // rows with revisions

	fetched  uint64   // keeps the reads of keys from being left out
	keyed    []uint32 // the keys that out's key columns hold, of this dictionary
	keyedFor *state.Dict
}

func newPublisher(d *Window, o LaneOptions, c *LaneCounts) *publisher {
	p := &publisher{def: d, ordered: o.Ordered, begun: d.begun(o.Begun), counts: c, out: row.NewBatch(d.ResultSchema()), order: row.NewColumn(row.Bytes)}
	var results row.Schema
	for _, a := range d.spec.Aggregates {
		results = append(results, row.Field{Kind: a.Kind})
	}
	p.results = row.NewBatch(results)
	for _, m := range d.Measures {
		p.measures = append(p.measures, m.NewRunner())
	}
	if d.Having != nil {
		p.having = d.Having.NewRunner()
	}
	if d.Revisions() {
		p.several = row.NewBatch(d.Schema)
	}
	return p
}

// publish makes the rows of d from accumulators a, up to row.MaxRows at a time. decide says what becomes
// of each, given whether it meets `having`; without it all that meet it are shown.
//
// Columns of the rows that are given out are the publisher's: they hold until out.Main returns.
func (p *publisher) publish(d *due, a *accs, dict *state.Dict, out Out, decide func(slot int, meets bool) verdict) {
	for from := 0; from < len(d.key); from += row.MaxRows {
		to := min(from+row.MaxRows, len(d.key))
		p.keys(d.key[from:to], dict)
		p.bounds(d, from, to)
		p.gather(d, from, to, a)
		p.measure(to - from)
		meets := p.judge(to-from, decide == nil)
		p.orders(d, from, to-from, len(p.def.spec.Key))
		if decide != nil {
			p.emitSeveral(d, from, to-from, meets, out, decide)
		} else {
			p.emit(to-from, meets, out)
		}
	}
}

// bounds writes window_start and window_end, where windows have them, and the rows' own event times: a window's lies
// just before its end, that of a look back is its row's.
func (p *publisher) bounds(d *due, from, to int) {
	b, n := p.out, to-from
	b.N, b.Times = n, b.Times[:0]
	if d.oneWindow {
		b.Index = filled(b.Index, n, d.index[0])
	} else {
		b.Index = append(b.Index[:0], d.index[from:to]...)
	}
	if !p.def.Bounds() {
		return
	}
	keys := len(p.def.spec.Key)
	starts, ends := b.Cols[keys], b.Cols[keys+1]
	starts.Reset()
	ends.Reset()
	if d.oneWindow {
		starts.I, ends.I = filled(starts.I, n, int64(d.starts[0])), filled(ends.I, n, int64(d.ends[0]))
		b.Times = filled(b.Times, n, d.ends[0]-1)
		return
	}
	before := row.Time(1)
	if p.def.LookBack > 0 {
		before = 0
	}
	starts.I, ends.I, b.Times = slices.Grow(starts.I, n)[:n], slices.Grow(ends.I, n)[:n], slices.Grow(b.Times, n)[:n]
	for i, t := range d.starts[from:to] {
		starts.I[i] = int64(t)
	}
	for i, t := range d.ends[from:to] {
		ends.I[i], b.Times[i] = int64(t), t-before
	}
}

// filled gives n times v, in the memory of s.
func filled[T any](s []T, n int, v T) []T {
	s = slices.Grow(s[:0], n)[:n]
	for i := range s {
		s[i] = v
	}
	return s
}

// gather writes the aggregates' results; nulls for withdrawals, which have no accumulators.
func (p *publisher) gather(d *due, from, to int, a *accs) {
	p.results.Reset()
	if d.first && len(d.withdraw) == 0 {
		a.resultsFrom(p.results.Cols, d.acc[from:to], p.counts)
		return
	}
	if len(d.withdraw) == 0 {
		a.results(p.results.Cols, d.acc[from:to], p.counts)
		return
	}
	for i := from; i < to; i++ {
		if !d.withdraw[i] {
			a.results(p.results.Cols, d.acc[i:i+1], p.counts)
			continue
		}
		for _, c := range p.results.Cols {
			c.AppendNull()
		}
	}
}

// measure works out the measures of n rows, behind the key and the bounds in cols. One with an error is null.
func (p *publisher) measure(n int) {
	p.cols = append(p.cols[:0], p.out.Cols...)
	for k, m := range p.measures {
		c, errs := m.Run(p.results.Cols, n)
		for i := 0; len(errs) > 0 && i < n; i++ {
			if expr.HasBit(errs, i) {
				c.SetNull(i, true)
				p.counts.MeasureErrors++
			}
		}
		if p.begun != nil {
			p.leaveOut(c, p.begun[k], n)
		}
		p.cols = append(p.cols, c)
	}
}

// leaveOut makes a measure null where the window began before the measure did.
func (p *publisher) leaveOut(c *row.Column, begun row.Time, n int) {
	starts := p.out.Cols[len(p.def.spec.Key)].I
	for i := range n {
		if row.Time(starts[i]) < begun {
			c.SetNull(i, true)
		}
	}
}

// begun gives by measure the time from which on windows have all rows in it; nil where all have. A count of all rows has
// them always.
func (d *Window) begun(of map[string]row.Time) (out []row.Time) {
	if len(of) == 0 || !d.Bounds() {
		return nil
	}
	for i, f := range d.Schema[len(d.ResultSchema()):][:len(d.Measures)] {
		out = append(out, row.MinTime)
		for _, a := range d.spec.Aggregates {
			if of, _, _ := strings.Cut(a.Name, "."); of == f.Name && !a.plainCount() {
				out[i] = row.MaxTime
			}
		}
		if at, there := of[f.Name]; there && out[i] == row.MaxTime {
			out[i] = at
		} else {
			out[i] = row.MinTime
		}
	}
	return out
}

// judge says which of n rows meet `having`; nil for all. One with an error does not; it is counted where counts says so.
func (p *publisher) judge(n int, counts bool) func(i int) bool {
	if p.having == nil {
		return nil
	}
	meets, errs := p.having.Run(p.cols, n)
	for i := 0; counts && i < n; i++ {
		if expr.HasBit(errs, i) {
			p.counts.MeasureErrors++
		}
	}
	return func(i int) bool { return meets.I[i] != 0 && !meets.IsNull(i) && !expr.HasBit(errs, i) }
}

// emit publishes the rows that meet `having`, one for each result.
func (p *publisher) emit(n int, meets func(i int) bool, out Out) {
	sel := everyOf(n)
	if meets != nil {
		p.sel = p.sel[:0]
		for i := range n {
			if meets(i) {
				p.sel = append(p.sel, uint16(i))
			}
		}
		sel = p.sel
	}
	p.counts.Made += int64(n)
	p.counts.Dropped += int64(n - len(sel))
	if len(sel) == 0 {
		return
	}
	p.counts.Out += int64(len(sel))
	v := View{Cols: p.cols, Times: p.out.Times, Index: p.out.Index, Sel: sel, N: n}
	if p.ordered {
		v.Order = p.order
	}
	out.Main(v)
	for _, m := range p.measures {
		m.TakeBack()
	}
}

// keys writes the key columns, unless they hold these keys already: windows that follow each other mostly
// have the same.
func (p *publisher) keys(ids []uint32, dict *state.Dict) {
	if p.keyedFor == dict && slices.Equal(ids, p.keyed) {
		return
	}
	p.keyedFor, p.keyed = dict, append(p.keyed[:0], ids...)
	p.fetched = 0
	for _, id := range ids { // the processor waits for many at once, and not for each as it is written
		p.fetched += dict.Hash(id)
	}
	cols := p.out.Cols[:len(p.def.spec.Key)]
	for _, c := range cols {
		c.Reset()
	}
	for _, id := range ids {
		if err := state.AppendKey(cols, dict.Key(id)); err != nil {
			panic("a key of the dictionary cannot be read: " + err.Error()) // ours alone wrote it
		}
	}
}

// orders writes, for each row, what it is ordered by among those of one event. Rows of the whole come last:
// they are made at the end.
func (p *publisher) orders(d *due, from, n, keys int) {
	if !p.ordered {
		return
	}
	p.order.Reset()
	for i := range n {
		p.orderKey = p.orderKey[:0]
		if p.def.Bounds() {
			p.orderKey = appendOrder(appendMade(p.orderKey, p.out.Times[i]), p.out.Cols[keys], i)
		} else {
			p.orderKey = appendMade(p.orderKey, row.MaxTime)
		}
		for _, c := range p.out.Cols[:keys] {
			p.orderKey = appendOrder(p.orderKey, c, i)
		}
		if len(d.number) > 0 {
			p.orderKey = binary.BigEndian.AppendUint64(p.orderKey, d.number[from+i])
		}
		p.order.AppendBytes(p.orderKey)
	}
}

// emitSeveral publishes rows with revision, closed and withdrawn, as decide says of each.
func (p *publisher) emitSeveral(d *due, from, n int, judged func(int) bool, out Out, decide func(int, bool) verdict) {
	b := p.several
	first := len(p.out.Cols)
	rev := len(p.cols)
	for i := range n {
		meets := (judged == nil || judged(i)) && !(len(d.withdraw) > 0 && d.withdraw[from+i])
		v := decide(d.slot[from+i], meets)
		if v.show || !meets {
			p.counts.Made++
		}
		if !v.show {
			if !meets {
				p.counts.Dropped++
			}
			continue
		}
		for c := range p.cols {
			if c >= first && v.withdrawn {
				b.Cols[c].AppendNull()
			} else {
				b.Cols[c].AppendFrom(p.cols[c], i)
			}
		}
		b.Cols[rev].AppendInt(v.revision)
		b.Cols[rev+1].AppendBool(v.closed)
		b.Cols[rev+2].AppendBool(v.withdrawn)
		if len(p.out.Times) > 0 {
			b.Times = append(b.Times, p.out.Times[i])
		}
		b.Index = append(b.Index, p.out.Index[i])
		b.N++
	}
	if b.N == 0 {
		return
	}
	p.counts.Out += int64(b.N)
	out.Main(ViewOf(b))
	b.Reset()
}
