package step

import (
	"undertide/core/expr"
	"undertide/core/row"
)

// Stateless is a filter and compute step: lookup, where, set, without and only, in this order
// (docs/job-document.md, "Steps"). Immutable; [Stateless.NewRun] gives what runs it.
type Stateless struct {
	// Lookup adds columns after the input's; nil for none.
	Lookup *Lookup
	Where  *expr.Program // nil: every row; over the input's columns and those that were looked up
	// Sets are in the order in which they depend on each other; each adds a column after the
	// input's, and sees the columns before it.
	Sets []*expr.Program
	// Output names, for each output field, its column among input, looked up and set columns.
	Output []int
	Schema row.Schema
}

// StatelessRun runs a step on one batch after another; one goroutine at a time.
type StatelessRun struct {
	def    *Stateless
	lookup *lookupRun
	where  *expr.Runner
	sets   []*expr.Runner
	cols   []*row.Column
	out    []*row.Column
	sel    []uint16
	kept   []uint16 // of sel, what where leaves
}

// NewRun makes what runs the step.
func (d *Stateless) NewRun() *StatelessRun {
	r := &StatelessRun{def: d, out: make([]*row.Column, len(d.Output))}
	if d.Lookup != nil {
		r.lookup = d.Lookup.newRun()
	}
	if d.Where != nil {
		r.where = d.Where.NewRunner()
	}
	for _, p := range d.Sets {
		r.sets = append(r.sets, p.NewRunner())
	}
	return r
}

// Run gives the rows that pass. Rows with an error are left out and appended to rejects; dropped
// counts those that where refused, and that were not found where such are dropped. The result lasts until the next Run or TakeBack.
func (r *StatelessRun) Run(in View, rejects []Reject) (out View, dropped int, _ []Reject) {
	sel := append(r.sel[:0], in.Sel...)
	if r.lookup != nil {
		sel, dropped, rejects = r.lookup.run(&in, sel, rejects)
	}
	if r.where != nil {
		var errs []uint64
		before := len(rejects)
		r.kept, errs = r.where.Select(in.Cols, in.N, sel, r.kept)
		_, rejects = dropErrors(sel, errs, in, r.def.Where, rejects)
		dropped += len(sel) - len(r.kept) - (len(rejects) - before)
		sel, r.kept = r.kept, sel
	}
	r.cols = append(r.cols[:0], in.Cols...)
	for i, s := range r.sets {
		c, errs := s.Run(r.cols, in.N)
		in.Cols = r.cols
		sel, rejects = dropErrors(sel, errs, in, r.def.Sets[i], rejects)
		r.cols = append(r.cols, c)
	}
	for i, c := range r.def.Output {
		r.out[i] = r.cols[c]
	}
	r.sel = sel
	in.Cols, in.Sel = r.out, sel
	return in, dropped, rejects
}

// Looked counts what the last Run looked up; nothing where the step looks nothing up.
func (r *StatelessRun) Looked() LookupCounts {
	if r.lookup == nil {
		return LookupCounts{}
	}
	return r.lookup.counts
}

// TakeBack says that nobody reads the last result any more.
func (r *StatelessRun) TakeBack() {
	for _, s := range r.sets {
		s.TakeBack()
	}
}

// dropErrors takes the rows with errors out of sel. The message comes from the plain evaluator,
// which is asked only for these rows.
func dropErrors(sel []uint16, errs []uint64, in View, p *expr.Program, rejects []Reject) ([]uint16, []Reject) {
	if len(errs) == 0 {
		return sel, rejects
	}
	kept := sel[:0]
	for _, i := range sel {
		if !expr.HasBit(errs, int(i)) {
			kept = append(kept, i)
			continue
		}
		message := "the expression has no value"
		if _, err := p.Eval(in.Cols, int(i)); err != nil {
			message = err.Error()
		}
		rejects = append(rejects, Reject{Index: in.Index[i], Row: int(i), Reason: Expression, Message: message, Expression: p.Text()})
	}
	return kept, rejects
}
