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
// The selections last until the next Run.
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
	ordered bool
	list    *expr.Runner
	element *row.Column
	counts  *row.Column
	rejects []Reject
	sel     []uint16
	order   []byte
}

// NewRun makes what runs the step. ordered: a step behind lanes asks for the order of an event's rows.
func (d *Expand) NewRun(ordered bool) *ExpandRun {
	return &ExpandRun{def: d, ordered: ordered, list: d.List.NewRunner(), element: row.NewColumn(d.List.Kind().Elem()), counts: row.NewColumn(row.Int)}
}

// Run hands the rows to emit, up to row.MaxRows at a time, on pages. It gives the rejects, which last until
// the next Run.
func (r *ExpandRun) Run(in View, pages *Pages, emit func(View)) []Reject {
	c, errs := r.list.Run(in.Cols, in.N)
	r.sel, r.rejects = dropErrors(append(r.sel[:0], in.Sel...), errs, in, r.def.List, r.rejects[:0])
	at := r.def.Replaces
	if at < 0 {
		at = len(in.Cols)
	}
	var out *row.Batch
	for _, i := range r.sel {
		if c.IsNull(int(i)) || !row.Elements(c.Kind, c.Bytes(int(i)), nil, r.element, r.counts) {
			continue
		}
		for e := range r.element.Len() {
			if out == nil {
				out = pages.Next()
			}
			for k, col := range in.Cols {
				if k != at {
					out.Cols[k].AppendFrom(col, int(i))
				}
			}
			out.Cols[at].AppendFrom(r.element, e)
			if len(in.Times) > 0 {
				out.Times = append(out.Times, in.Times[i])
			}
			out.Index = append(out.Index, in.Index[i])
			if r.ordered {
				r.order = appendItem(append(r.order[:0], in.order(int(i))...), e)
				out.AppendOrder(r.order)
			}
			if out.N++; out.N == row.MaxRows {
				emit(ViewOf(out))
				out = nil
			}
		}
	}
	if out != nil {
		emit(ViewOf(out))
	}
	return r.rejects
}
