package step

import (
	"undertide/core/expr"
	"undertide/core/row"
)

// Split sends each row to the parts whose condition it meets, and the rest to the rest
// (docs/job-document.md, "Steps"). Immutable.
type Split struct {
	Names []string
	Parts []*expr.Program
	// FirstOnly sends a row to the first part only.
	FirstOnly bool
}

// SplitRun runs a split; one goroutine at a time.
type SplitRun struct {
	def   *Split
	conds []*expr.Runner
	sels  [][]uint16 // the rest, then the parts
	taken []bool
	sel   []uint16
}

// NewRun makes what runs the step.
func (d *Split) NewRun() *SplitRun {
	r := &SplitRun{def: d, sels: make([][]uint16, 1+len(d.Parts))}
	for _, p := range d.Parts {
		r.conds = append(r.conds, p.NewRunner())
	}
	return r
}

// Run gives the rows of the rest and of each part; a row with an error in any condition is a reject.
// The selections live until the next Run.
func (r *SplitRun) Run(in View, rejects []Reject) ([][]uint16, []Reject) {
	sel := append(r.sel[:0], in.Sel...)
	cols := make([]*row.Column, len(r.conds))
	for i, c := range r.conds {
		var errs []uint64
		cols[i], errs = c.Run(in.Cols, in.N)
		sel, rejects = dropErrors(sel, errs, in, r.def.Parts[i], rejects)
	}
	r.sel = sel
	for i := range r.sels {
		r.sels[i] = r.sels[i][:0]
	}
	r.taken = append(r.taken[:0], make([]bool, in.N)...)
	for n, c := range cols {
		for _, i := range sel {
			if c.I[i] != 0 && !c.IsNull(int(i)) && !(r.def.FirstOnly && r.taken[i]) {
				r.sels[n+1] = append(r.sels[n+1], i)
				r.taken[i] = true
			}
		}
	}
	for _, i := range sel {
		if !r.taken[i] {
			r.sels[0] = append(r.sels[0], i)
		}
	}
	return r.sels, rejects
}

// Expand makes a row of each element of a list; null and empty lists make none. Immutable.
type Expand struct {
	List *expr.Program
	// Schema is the input's fields, of which Replaces, when it is not -1, gives way to the element, or
	// with the element after them.
	Schema   row.Schema
	Replaces int
}

// ExpandRun runs an expand; one goroutine at a time.
type ExpandRun struct {
	def     *Expand
	list    *expr.Runner
	out     *row.Batch
	element *row.Column
	counts  *row.Column
	order   *row.Column
	rejects []Reject
	sel     []uint16
}

// NewRun makes what runs the step.
func (d *Expand) NewRun() *ExpandRun {
	return &ExpandRun{def: d, list: d.List.NewRunner(), out: row.NewBatch(d.Schema), element: row.NewColumn(d.List.Kind().Elem()), counts: row.NewColumn(row.Int), order: row.NewColumn(row.Bytes)}
}

// Run hands the rows to emit, up to row.MaxRows at a time; the views live until emit returns. It gives the
// rejects, which live until the next Run.
func (r *ExpandRun) Run(in View, emit func(View)) []Reject {
	c, errs := r.list.Run(in.Cols, in.N)
	r.sel, r.rejects = dropErrors(append(r.sel[:0], in.Sel...), errs, in, r.def.List, r.rejects[:0])
	at := r.def.Replaces
	if at < 0 {
		at = len(in.Cols)
	}
	flush := func() {
		if r.out.N > 0 {
			v := ViewOf(r.out, nil)
			if v.Made = in.Made; in.Order != nil {
				v.Order = r.order
			}
			emit(v)
			r.out.Reset()
			r.order.Reset()
		}
	}
	for _, i := range r.sel {
		if c.IsNull(int(i)) || !row.Elements(c.Kind, c.Bytes(int(i)), nil, r.element, r.counts) {
			continue
		}
		for e := range r.element.Len() {
			for k, col := range in.Cols {
				if k != at {
					r.out.Cols[k].AppendFrom(col, int(i))
				}
			}
			r.out.Cols[at].AppendFrom(r.element, e)
			if len(in.Times) > 0 {
				r.out.Times = append(r.out.Times, in.Times[i])
			}
			r.out.Index = append(r.out.Index, in.Index[i])
			if in.Order != nil {
				r.order.AppendFrom(in.Order, int(i))
			}
			if r.out.N++; r.out.N == row.MaxRows {
				flush()
			}
		}
	}
	flush()
	return r.rejects
}
