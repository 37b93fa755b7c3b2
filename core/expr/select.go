package expr

import (
	"slices"

	"undertide/core/row"
)

// A condition is mostly a few comparisons joined by &&, of columns without nulls. Then no column of truth is made: the first
// comparison leaves some of the rows that are asked for, the second looks at those alone, and so on. Rows are left out without a
// branch, since which ones pass is hard to predict.
//
// An example: `level_m > 1.0 && gauge == "G7"` of rows 0 to 3 with the levels 0.5, 2, 3, 0 leaves 1 and 2, and only their gauges are
// looked at.
//
// With a null or an error anywhere in it a conjunction is not what its parts leave (docs/time.md, "Nulls, errors, values": an error && false is
// false), and the condition is worked out as a column.

// Select gives those rows of sel, ascending, for which a condition is true, in the memory of kept. A bit in errs means that the row
// has an error: it is not among them. n is the number of rows in cols; errs belongs to the runner until its next use.
func (r *Runner) Select(cols []*row.Column, n int, sel, kept []uint16) (_ []uint16, errs []uint64) {
	kept = slices.Grow(kept[:0], n)[:n]
	if r.parts == nil {
		r.parts = conjunction(r.root, nil)
	}
	if left, ok := r.narrow(cols, n, sel, kept); ok {
		return left, nil
	}
	c, errs := r.Run(cols, n)
	k := 0
	for _, i := range sel {
		if c.I[i] != 0 && !c.IsNull(int(i)) && !HasBit(errs, int(i)) {
			kept[k] = i
			k++
		}
	}
	return kept[:k], errs
}

// conjunction lists the parts of a condition that are joined by &&.
func conjunction(s *step, parts []*step) []*step {
	if s.n.op == opAnd {
		return conjunction(s.args[1], conjunction(s.args[0], parts))
	}
	return append(parts, s)
}

// narrow leaves what all parts leave; false where one of them has a null or an error.
func (r *Runner) narrow(cols []*row.Column, n int, sel, kept []uint16) ([]uint16, bool) {
	for _, p := range r.parts {
		if p.comparesNumbers() {
			for _, a := range p.args {
				if a.run(cols, n); a.lacks() {
					return nil, false
				}
			}
			sel = p.pick(n, sel, kept)
			continue
		}
		if p.run(cols, n); p.lacks() {
			return nil, false
		}
		truth, k := p.out.col.I, 0
		for _, i := range sel {
			kept[k] = i
			k += int(truth[i])
		}
		sel = kept[:k]
	}
	return sel, true
}

func (s *step) lacks() bool { return len(s.out.col.Null)+len(s.out.err) > 0 }

func (s *step) comparesNumbers() bool {
	return s.n.op >= opEq && s.n.op <= opGe && len(s.args) == 2 && !s.n.args[0].kind.Text() && s.n.args[0].kind != row.Decimal
}

// pick leaves the rows of sel for which a comparison of numbers is true, in kept, which may be the same.
func (s *step) pick(n int, sel, kept []uint16) []uint16 {
	o, a, b := s.n.op, s.args[0], s.args[1]
	if a.n.op == opConst {
		o, a, b = o.mirrored(), b, a
	}
	if a.out.col.Kind == row.Double {
		if b.n.op == opConst {
			return pickBy(o, a.out.col.F[:n], b.n.value.F, sel, kept)
		}
		return pickPairs(o, a.out.col.F, b.out.col.F, sel, kept)
	}
	if b.n.op == opConst {
		return pickBy(o, a.out.col.I[:n], b.n.value.I, sel, kept)
	}
	return pickPairs(o, a.out.col.I, b.out.col.I, sel, kept)
}

// mirrored gives the comparison with its sides exchanged: 5 < x is x > 5.
func (o op) mirrored() op {
	switch o {
	case opLt:
		return opGt
	case opLe:
		return opGe
	case opGt:
		return opLt
	case opGe:
		return opLe
	}
	return o
}

// simple gives the comparison as one of ==, < and <=, with 1 where it is the opposite of that. Doubles are finite, so that x > y is
// never both false with x <= y.
func (o op) simple() (op, int) {
	switch o {
	case opNe:
		return opEq, 1
	case opGe:
		return opLt, 1
	case opGt:
		return opLe, 1
	}
	return o, 0
}

func pickBy[T int64 | float64](o op, a []T, by T, sel, kept []uint16) []uint16 {
	o, not := o.simple()
	if len(sel) == len(a) { // all rows, as ascending as they are
		return pickAllBy(o, not, a, by, kept)
	}
	kept, k := kept[:len(sel)], 0
	switch o {
	case opEq:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] == by)) ^ not
		}
	case opLt:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] < by)) ^ not
		}
	case opLe:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] <= by)) ^ not
		}
	}
	return kept[:k]
}

// pickAllBy does so for all rows, as most conditions begin.
func pickAllBy[T int64 | float64](o op, not int, a []T, by T, kept []uint16) []uint16 {
	kept, k := kept[:len(a)], 0
	switch o {
	case opEq:
		for i, x := range a {
			kept[k] = uint16(i)
			k += int(b2i(x == by)) ^ not
		}
	case opLt:
		for i, x := range a {
			kept[k] = uint16(i)
			k += int(b2i(x < by)) ^ not
		}
	case opLe:
		for i, x := range a {
			kept[k] = uint16(i)
			k += int(b2i(x <= by)) ^ not
		}
	}
	return kept[:k]
}

func pickPairs[T int64 | float64](o op, a, b []T, sel, kept []uint16) []uint16 {
	o, not := o.simple()
	kept, k := kept[:len(sel)], 0
	switch o {
	case opEq:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] == b[i])) ^ not
		}
	case opLt:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] < b[i])) ^ not
		}
	case opLe:
		for _, i := range sel {
			kept[k] = i
			k += int(b2i(a[i] <= b[i])) ^ not
		}
	}
	return kept[:k]
}
