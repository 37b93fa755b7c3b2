package step

import (
	"slices"
	"sort"
	"time"

	"undertide/core/expr"
	"undertide/core/measure"
	"undertide/core/row"
	"undertide/core/state"
)

// WindowLane is the state of a windowed step in one lane: one dictionary of keys, and for each open
// window the columns of its accumulators. One goroutine at a time.
type WindowLane struct {
	def   *Window
	dict  *state.Dict
	open  []*slice // by start
	spare []*slice // cleared, for reuse

	// Counts of this lane (docs/time.md, "Counts add up").
	Used, Lost, Out, MeasureErrors int64
	// MostLate is the greatest late_by of a lost row.
	MostLate time.Duration

	// scratch
	ids, ids2    []uint32
	starts, next []int
	rows, rows2  []uint16
	touched      []*slice
	ordinal      []uint16
	out          *row.Batch
	results      *row.Batch
	measures     []*expr.Runner
	late         *row.Batch
	cols         []*row.Column
	batchIDs     []uint32
	outSel       []uint16
	valueRows    []uint16
}

// slice is one open window's columns. Rows counts a key's rows; a key with none is not in it.
type slice struct {
	start, end row.Time
	rows       []int64
	missing    [][]int64 // for each aggregate, rows that gave no value; empty while none
	aggs       []measure.Column
	keys       int
	ordinal    int // among the slices touched by the current batch, or -1
}

// NewLane makes the empty state.
func (d *Window) NewLane() *WindowLane {
	w := &WindowLane{def: d, dict: state.NewDict(), out: row.NewBatch(d.Schema), late: row.NewBatch(d.LateSchema())}
	var results row.Schema
	for _, a := range d.Aggregates {
		results = append(results, row.Field{Kind: a.Kind})
	}
	w.results = row.NewBatch(results)
	for _, m := range d.Measures {
		w.measures = append(w.measures, m.NewRunner())
	}
	return w
}

// Open gives how many windows and keys are held, and about how many bytes.
func (w *WindowLane) Open() (windows, keys, bytes int) {
	bytes = w.dict.Bytes()
	for _, s := range w.open {
		bytes += s.bytes()
	}
	return len(w.open), w.dict.Len(), bytes
}

// NextEnd gives the end of the window that closes next; row.MaxTime when none is open.
func (w *WindowLane) NextEnd() row.Time {
	if len(w.open) == 0 {
		return row.MaxTime
	}
	return w.open[0].end
}

func (s *slice) bytes() int {
	n := 8 * cap(s.rows)
	for i, a := range s.aggs {
		n += 8 * cap(s.missing[i])
		if a != nil {
			n += a.Bytes()
		}
	}
	return n
}

// Add takes the lane's rows of an exchange. marks is the watermark that stood before each row, by row
// number. Late rows are appended to the batch that [WindowLane.Late] gives. Nothing is closed here: whether a row is in
// time depends on its own watermark alone, so a turn's closings can follow its rows.
func (w *WindowLane) Add(x *Exchange, lane int, marks []row.Time) {
	w.ids, w.rows, w.ordinal = w.ids[:0], w.rows[:0], w.ordinal[:0]
	for _, s := range w.touched {
		s.ordinal = -1
	}
	w.touched = w.touched[:0]
	var cur *slice
	for _, j := range x.Lanes[lane] {
		r := x.Sel[j]
		t := x.Times[r]
		mark := marks[r]
		if cur == nil || t < cur.start || t >= cur.end {
			start := w.def.Kind.Start(t)
			if w.def.Kind.End(start) <= mark {
				w.addLate(x, int(r), mark)
				continue
			}
			cur = w.find(start)
			if cur.ordinal < 0 {
				cur.ordinal = len(w.touched)
				w.touched = append(w.touched, cur)
			}
		} else if cur.end <= mark {
			w.addLate(x, int(r), mark)
			continue
		}
		w.ids = append(w.ids, w.dict.Put(x.Keys.Bytes(int(j)), x.Keys.Hash[j]))
		w.rows = append(w.rows, r)
		w.ordinal = append(w.ordinal, uint16(cur.ordinal))
	}
	w.Used += int64(len(w.ids))
	switch len(w.touched) {
	case 0:
	case 1:
		w.addTo(w.touched[0], x, w.ids, w.rows)
	default:
		w.addGrouped(x)
	}
}

// addGrouped sorts the rows by slice, keeping their order within each, so that every slice's
// columns are passed once.
func (w *WindowLane) addGrouped(x *Exchange) {
	starts := append(w.starts[:0], make([]int, len(w.touched)+1)...)
	for _, o := range w.ordinal {
		starts[o+1]++
	}
	for i := 1; i < len(starts); i++ {
		starts[i] += starts[i-1]
	}
	w.ids2 = append(w.ids2[:0], w.ids...)
	w.rows2 = append(w.rows2[:0], w.rows...)
	next := append(w.next[:0], starts...)
	w.starts, w.next = starts, next
	for i, o := range w.ordinal {
		w.ids[next[o]], w.rows[next[o]] = w.ids2[i], w.rows2[i]
		next[o]++
	}
	for i, s := range w.touched {
		w.addTo(s, x, w.ids[starts[i]:starts[i+1]], w.rows[starts[i]:starts[i+1]])
	}
}

func (w *WindowLane) addTo(s *slice, x *Exchange, ids []uint32, rows []uint16) {
	s.grow(w.dict.Len())
	n := s.rows
	for _, id := range ids {
		if n[id] == 0 {
			s.keys++
		}
		n[id]++
	}
	for i, a := range s.aggs {
		if a == nil {
			continue
		}
		ids, rows := ids, rows
		arg, cond := x.Args[i], x.Conds[i]
		if cond != nil || (arg != nil && len(arg.Null) > 0) {
			ids, rows = w.withValue(s, i, ids, rows, arg, cond)
		}
		a.Add(ids, rows, arg)
	}
}

// withValue leaves out the rows that give aggregate i nothing: the argument is null, or the
// condition is not true.
func (w *WindowLane) withValue(s *slice, i int, ids []uint32, rows []uint16, arg, cond *row.Column) ([]uint32, []uint16) {
	w.batchIDs, w.valueRows = w.batchIDs[:0], w.valueRows[:0]
	for k, r := range rows {
		at := int(r)
		if (cond != nil && (cond.I[at] == 0 || cond.IsNull(at))) || (arg != nil && arg.IsNull(at)) {
			if len(s.missing[i]) < len(s.rows) {
				s.missing[i] = append(s.missing[i], make([]int64, len(s.rows)-len(s.missing[i]))...)
			}
			s.missing[i][ids[k]]++
			continue
		}
		w.batchIDs = append(w.batchIDs, ids[k])
		w.valueRows = append(w.valueRows, r)
	}
	return w.batchIDs, w.valueRows
}

// empty says whether aggregate i of a key has no value at all.
func (s *slice) empty(i int, id uint32) bool {
	return int(id) < len(s.missing[i]) && s.missing[i][id] == s.rows[id]
}

func (s *slice) grow(n int) {
	if n <= len(s.rows) {
		return
	}
	if n <= cap(s.rows) {
		s.rows = s.rows[:n]
	} else {
		s.rows = append(s.rows, make([]int64, n-len(s.rows))...)
	}
	for _, a := range s.aggs {
		if a != nil {
			a.Grow(n)
		}
	}
}

// find gives the open slice that starts at start, made if need be.
func (w *WindowLane) find(start row.Time) *slice {
	i := len(w.open)
	if i > 0 && w.open[i-1].start >= start { // else the newest, as is usual
		i = sort.Search(len(w.open), func(k int) bool { return w.open[k].start >= start })
		if w.open[i].start == start {
			return w.open[i]
		}
	}
	s := w.newSlice(start)
	w.open = slices.Insert(w.open, i, s)
	return s
}

func (w *WindowLane) newSlice(start row.Time) *slice {
	var s *slice
	if n := len(w.spare); n > 0 {
		s, w.spare = w.spare[n-1], w.spare[:n-1]
	} else {
		s = &slice{aggs: make([]measure.Column, len(w.def.Aggregates)), missing: make([][]int64, len(w.def.Aggregates))}
		for i, a := range w.def.Aggregates {
			if a.plainCount() {
				continue
			}
			c, err := measure.New(a.Spec)
			if err != nil {
				panic(err) // the document was checked
			}
			s.aggs[i] = c
		}
	}
	s.start, s.end, s.ordinal = start, w.def.Kind.End(start), -1
	return s
}

func (s *slice) clear() {
	clear(s.rows)
	s.rows, s.keys = s.rows[:0], 0
	for i, a := range s.aggs {
		clear(s.missing[i])
		s.missing[i] = s.missing[i][:0]
		if a != nil {
			a.Clear()
		}
	}
}

func (w *WindowLane) addLate(x *Exchange, r int, mark row.Time) {
	w.Lost++
	w.MostLate = max(w.MostLate, time.Duration(mark-x.Times[r])*time.Microsecond)
	b := w.late
	for c, col := range x.Cols {
		b.Cols[c].AppendFrom(col, r)
	}
	b.Cols[len(x.Cols)].AppendInt(int64(mark - x.Times[r]))
	b.Times = append(b.Times, x.Times[r])
	b.Index = append(b.Index, x.Index[r])
	b.N++
}

// Late gives the late rows since the last call of ClearLate.
func (w *WindowLane) Late() *row.Batch { return w.late }

// ClearLate forgets them.
func (w *WindowLane) ClearLate() { w.late.Reset() }

// Close publishes and drops every window with end <= mark, in order of end. emit is called with up
// to row.MaxRows rows at a time, which it may not keep.
func (w *WindowLane) Close(mark row.Time, emit func(View)) {
	closed := 0
	for len(w.open) > 0 && w.open[0].end <= mark {
		s := w.open[0]
		w.publish(s, emit)
		closed += s.keys
		s.clear()
		if len(w.spare) < 4 {
			w.spare = append(w.spare, s)
		}
		w.open = slices.Delete(w.open, 0, 1)
	}
	if closed > 0 {
		w.forget(closed)
	}
}

func (w *WindowLane) publish(s *slice, emit func(View)) {
	w.batchIDs = w.batchIDs[:0]
	for id, n := range s.rows {
		if n == 0 {
			continue
		}
		w.batchIDs = append(w.batchIDs, uint32(id))
		if len(w.batchIDs) == row.MaxRows {
			w.emit(s, w.batchIDs, emit)
			w.batchIDs = w.batchIDs[:0]
		}
	}
	if len(w.batchIDs) > 0 {
		w.emit(s, w.batchIDs, emit)
	}
}

// emit builds the published rows of some keys: key, window_start, window_end, measures.
func (w *WindowLane) emit(s *slice, ids []uint32, emit func(View)) {
	out := w.out
	out.Reset()
	w.results.Reset()
	keys := len(w.def.Key)
	for _, id := range ids {
		if err := state.AppendKey(out.Cols[:keys], w.dict.Key(id)); err != nil {
			panic("a key of the dictionary cannot be read: " + err.Error()) // ours alone wrote it
		}
		out.Cols[keys].AppendInt(int64(s.start))
		out.Cols[keys+1].AppendInt(int64(s.end))
		out.Times = append(out.Times, s.end-1)
		out.Index = append(out.Index, 0)
	}
	for i, a := range s.aggs {
		dst := w.results.Cols[i]
		for _, id := range ids {
			if a == nil {
				dst.AppendInt(s.rows[id])
			} else if w.def.Aggregates[i].Func != "count" && s.empty(i, id) {
				dst.AppendNull()
			} else if err := a.Append(dst, id); err != nil {
				dst.AppendNull() // an error over measures: null, and counted
				w.MeasureErrors++
			}
		}
	}
	out.N = len(ids)
	w.cols = append(w.cols[:0], out.Cols[:keys+2]...)
	for _, m := range w.measures {
		c, errs := m.Run(w.results.Cols, len(ids))
		for i := range ids {
			if expr.HasBit(errs, i) {
				c.SetNull(i, true)
				w.MeasureErrors++
			}
		}
		w.cols = append(w.cols, c)
	}
	w.Out += int64(len(ids))
	w.outSel = w.outSel[:0]
	for i := range ids {
		w.outSel = append(w.outSel, uint16(i))
	}
	emit(View{Cols: w.cols, Times: out.Times, Index: out.Index, Sel: w.outSel, N: len(ids)})
}

// forget drops the keys that no open window holds, once they are the greater part: memory follows
// open windows and keys. A population that stays as it was is never rebuilt.
func (w *WindowLane) forget(closed int) {
	held := closed
	for _, s := range w.open {
		held += s.keys
	}
	if w.dict.Len() <= 2*held+1024 {
		return
	}
	live := make([]bool, w.dict.Len())
	for _, s := range w.open {
		for id, n := range s.rows {
			live[id] = live[id] || n > 0
		}
	}
	dict, to := w.dict.Keep(live)
	w.dict = dict
	w.spare = nil
	for k, s := range w.open {
		next := w.newSlice(s.start)
		next.grow(dict.Len())
		for id, n := range s.rows {
			if n > 0 {
				s.move(next, uint32(id), to[id])
			}
		}
		w.open[k] = next
	}
	w.touched = w.touched[:0]
}

func (s *slice) move(dst *slice, from, to uint32) {
	dst.rows[to] = s.rows[from]
	dst.keys++
	for i, a := range s.aggs {
		if int(from) < len(s.missing[i]) {
			if len(dst.missing[i]) < len(dst.rows) {
				dst.missing[i] = make([]int64, len(dst.rows))
			}
			dst.missing[i][to] = s.missing[i][from]
		}
		if a != nil {
			a.Move(dst.aggs[i], from, to)
		}
	}
}
