package expr

import (
	"bytes"
	"math"
	"math/bits"

	"undertide/core/row"
)

// Runner evaluates a program over the columns of a batch by typed loops. One goroutine at a time;
// it owns its results until the next Run.
type Runner struct {
	root  *step
	parts []*step // of a condition, see [Runner.Select]
}

// step is a node with its result columns.
type step struct {
	n    *node
	args []*step
	out  vector
	own  *row.Column // the column that out.col points to, when it is ours
	// less, of `x % by == 0` or != with a power of two: by - 1. The remainder is not a column of its own then; x is the argument.
	less int64
}

// vector is a column of results; a row whose bit is set in err has no value.
type vector struct {
	col *row.Column
	err []uint64
}

// NewRunner makes a runner with memory of its own.
func (p *Program) NewRunner() *Runner { return &Runner{root: newStep(p.root)} }

func newStep(n *node) *step {
	s := &step{n: n}
	if n.op == opConst {
		s.own = row.NewColumn(n.kind)
		for range row.MaxRows {
			n.value.AppendTo(s.own)
		}
		s.out.col = s.own
		return s
	}
	if n.op == opField {
		return s
	}
	s.own = row.NewColumn(n.kind)
	s.out.col = s.own
	if !hasLoop(n) {
		return s // evaluated row by row: its arguments need no columns
	}
	args := n.args
	if by := n.dividesBy(); by > 0 {
		s.less, args = by-1, args[0].args[:1]
	}
	for _, a := range args {
		s.args = append(s.args, newStep(a))
	}
	return s
}

// dividesBy gives the power of two of a question whether an int is a multiple of it, above 1; 0 for other nodes.
func (n *node) dividesBy() int64 {
	if n.op != opEq && n.op != opNe || n.args[0].op != opMod || !n.args[1].isInt() || n.args[1].value.I != 0 {
		return 0
	}
	by := n.args[0].args[1]
	if !by.isInt() || by.value.I < 2 || by.value.I&(by.value.I-1) != 0 {
		return 0
	}
	return by.value.I
}

// isInt says whether the node is a constant int.
func (n *node) isInt() bool { return n.op == opConst && n.kind == row.Int && !n.value.Null }

// hasLoop says whether there is a typed loop for the node; otherwise the plain evaluator does it.
func hasLoop(n *node) bool {
	switch n.op {
	case opEq, opNe, opLt, opLe, opGt, opGe:
		return n.args[0].kind != row.Decimal
	case opAnd, opOr, opNot, opIsNull, opNotNull, opToDouble, opToInt:
		return true
	case opCond:
		return !n.kind.Text()
	case opStarts, opEnds, opContains, opMatches:
		return true
	case opAdd, opSub, opMul, opNeg, opDiv, opMod:
		return n.kind == row.Double || n.kind == row.Int || n.kind == row.Timestamp || n.kind == row.Duration
	}
	return false
}

// Run evaluates rows 0 to n-1 of cols. The column holds the results, with null bits; a bit in errs
// means that the row has an error and no value. Both belong to the runner (or are an input column).
// Errors of rows that the caller does not want are the caller's to ignore.
func (r *Runner) Run(cols []*row.Column, n int) (*row.Column, []uint64) {
	r.root.run(cols, n)
	return r.root.out.col, r.root.out.err
}

// TakeBack says that nobody reads the results of the last Run any more; under the build tag `checks` they
// are overwritten.
func (r *Runner) TakeBack() { r.root.takeBack() }

func (s *step) takeBack() {
	if s.own != nil && s.n.op != opConst {
		s.own.TakeBack()
	}
	for _, a := range s.args {
		a.takeBack()
	}
}

func (s *step) run(cols []*row.Column, n int) {
	switch s.n.op {
	case opConst:
		return
	case opField:
		s.out.col = cols[s.n.field]
		return
	}
	s.own.Null, s.out.err = s.own.Null[:0], s.out.err[:0]
	if !hasLoop(s.n) {
		s.runPlain(cols, n)
		return
	}
	for _, a := range s.args {
		a.run(cols, n)
	}
	switch s.n.op {
	case opIsNull, opNotNull:
		a := s.args[0].out
		s.out.err = append(s.out.err, a.err...)
		d := s.ints(n)
		want := s.n.op == opIsNull
		for i := range d {
			d[i] = b2i(a.col.IsNull(i) == want)
		}
		return
	case opAnd, opOr:
		s.runLogic(n)
		return
	case opCond:
		s.runCond(n)
		return
	}
	for _, a := range s.args {
		s.own.Null = orBits(s.own.Null, a.out.col.Null)
		s.out.err = orBits(s.out.err, a.out.err)
	}
	switch s.n.op {
	case opEq, opNe, opLt, opLe, opGt, opGe:
		s.runCompare(n)
	case opNot:
		a, d := s.args[0].out.col.I[:n], s.ints(n)
		for i := range d {
			d[i] = a[i] ^ 1
		}
	case opToDouble:
		a, d := s.args[0].out.col.I[:n], s.doubles(n)
		for i := range d {
			d[i] = float64(a[i])
		}
	case opToInt:
		a, d := s.args[0].out.col.F[:n], s.ints(n)
		for i := range d {
			if fitsInt(a[i]) {
				d[i] = int64(a[i])
			} else {
				s.fault(i)
			}
		}
	case opStarts, opEnds, opContains, opMatches:
		s.runText(n)
	default:
		if s.n.kind == row.Double {
			s.runDouble(n)
		} else {
			s.runInt(n)
		}
	}
}

func (s *step) ints(n int) []int64 {
	if cap(s.own.I) < n {
		s.own.I = make([]int64, row.MaxRows)
	}
	s.own.I = s.own.I[:n]
	return s.own.I
}

func (s *step) doubles(n int) []float64 {
	if cap(s.own.F) < n {
		s.own.F = make([]float64, row.MaxRows)
	}
	s.own.F = s.own.F[:n]
	return s.own.F
}

// fault marks row i as an error, unless it is null anyway.
func (s *step) fault(i int) {
	if !s.own.IsNull(i) {
		s.out.err = setBit(s.out.err, i)
	}
}

func setBit(b []uint64, i int) []uint64 {
	for i>>6 >= len(b) {
		b = append(b, 0)
	}
	b[i>>6] |= 1 << (uint(i) & 63)
	return b
}

// HasBit says whether bit i of a bitmap is set; bits past its end are not.
func HasBit(b []uint64, i int) bool {
	return i>>6 < len(b) && b[i>>6]>>(uint(i)&63)&1 != 0
}

func orBits(dst, src []uint64) []uint64 {
	for len(dst) < len(src) {
		dst = append(dst, 0)
	}
	for i, w := range src {
		dst[i] |= w
	}
	return dst
}

func (s *step) runPlain(cols []*row.Column, n int) {
	s.own.Reset()
	g := given{cols: cols}
	for i := range n {
		g.row = i
		v, err := s.n.eval(&g)
		if err != nil {
			v = NullOf(s.n.kind)
			s.out.err = setBit(s.out.err, i)
		}
		v.AppendTo(s.own)
	}
}

func (s *step) runLogic(n int) {
	d := s.ints(n)
	a, b := s.args[0].out, s.args[1].out
	x, y := a.col.I[:n], b.col.I[:n]
	if len(a.col.Null)|len(b.col.Null)|len(a.err)|len(b.err) == 0 {
		if s.n.op == opAnd {
			for i := range d {
				d[i] = x[i] & y[i]
			}
		} else {
			for i := range d {
				d[i] = x[i] | y[i]
			}
		}
		return
	}
	decides := b2i(s.n.op == opOr)
	for i := range d {
		ea, eb := HasBit(a.err, i), HasBit(b.err, i)
		na, nb := a.col.IsNull(i), b.col.IsNull(i)
		switch {
		case !ea && !na && x[i] == decides, !eb && !nb && y[i] == decides:
			d[i] = decides
		case ea || eb:
			s.out.err = setBit(s.out.err, i)
		case na || nb:
			s.own.SetNull(i, true)
		default:
			d[i] = decides ^ 1
		}
	}
}

func (s *step) runCond(n int) {
	c, a, b := s.args[0].out, s.args[1].out, s.args[2].out
	var di []int64
	var df []float64
	if s.n.kind == row.Double {
		df = s.doubles(n)
	} else {
		di = s.ints(n)
	}
	for i := range n {
		if HasBit(c.err, i) {
			s.out.err = setBit(s.out.err, i)
			continue
		}
		from := b
		if c.col.I[i] != 0 && !c.col.IsNull(i) {
			from = a
		}
		if HasBit(from.err, i) {
			s.out.err = setBit(s.out.err, i)
		} else if from.col.IsNull(i) {
			s.own.SetNull(i, true)
		} else if df != nil {
			df[i] = from.col.F[i]
		} else {
			di[i] = from.col.I[i]
		}
	}
}

func (s *step) runCompare(n int) {
	d := s.ints(n)
	if s.less > 0 {
		multiples(d, s.args[0].out.col.I, s.less, b2i(s.n.op == opNe))
		return
	}
	a, b := s.args[0].out.col, s.args[1].out.col
	switch {
	case a.Kind == row.Double && s.args[1].n.op == opConst:
		compareWith(s.n.op, d, a.F, s.args[1].n.value.F)
	case a.Kind == row.Double:
		compareLoop(s.n.op, d, a.F, b.F)
	case a.Kind.Text():
		for i := range d {
			x, y := a.Bytes(i), b.Bytes(i)
			switch s.n.op {
			case opEq:
				d[i] = b2i(bytes.Equal(x, y))
			case opNe:
				d[i] = b2i(!bytes.Equal(x, y))
			case opLt:
				d[i] = b2i(bytes.Compare(x, y) < 0)
			case opLe:
				d[i] = b2i(bytes.Compare(x, y) <= 0)
			case opGt:
				d[i] = b2i(bytes.Compare(x, y) > 0)
			case opGe:
				d[i] = b2i(bytes.Compare(x, y) >= 0)
			}
		}
	case s.args[1].n.op == opConst:
		compareWith(s.n.op, d, a.I, s.args[1].n.value.I)
	default:
		compareLoop(s.n.op, d, a.I, b.I)
	}
}

// multiples says which ints have none of the bits of less, those below a power of two: they are multiples of it, those below zero too.
func multiples(d, a []int64, less, not int64) {
	a = a[:len(d)]
	for i, x := range a {
		d[i] = b2i(x&less == 0) ^ not
	}
}

func compareLoop[T int64 | float64](o op, d []int64, a, b []T) {
	a, b = a[:len(d)], b[:len(d)]
	o, opposite := o.simple()
	not := int64(opposite)
	switch o {
	case opEq:
		for i := range d {
			d[i] = b2i(a[i] == b[i]) ^ not
		}
	case opLt:
		for i := range d {
			d[i] = b2i(a[i] < b[i]) ^ not
		}
	case opLe:
		for i := range d {
			d[i] = b2i(a[i] <= b[i]) ^ not
		}
	}
}

// compareWith compares with a constant.
func compareWith[T int64 | float64](o op, d []int64, a []T, by T) {
	a = a[:len(d)]
	o, opposite := o.simple()
	not := int64(opposite)
	switch o {
	case opEq:
		for i := range d {
			d[i] = b2i(a[i] == by) ^ not
		}
	case opLt:
		for i := range d {
			d[i] = b2i(a[i] < by) ^ not
		}
	case opLe:
		for i := range d {
			d[i] = b2i(a[i] <= by) ^ not
		}
	}
}

func (s *step) runText(n int) {
	d := s.ints(n)
	a, b := s.args[0].out.col, s.args[0].out.col
	if len(s.args) > 1 {
		b = s.args[1].out.col
	}
	for i := range d {
		x := a.Bytes(i)
		switch s.n.op {
		case opStarts:
			d[i] = b2i(bytes.HasPrefix(x, b.Bytes(i)))
		case opEnds:
			d[i] = b2i(bytes.HasSuffix(x, b.Bytes(i)))
		case opContains:
			d[i] = b2i(bytes.Contains(x, b.Bytes(i)))
		case opMatches:
			d[i] = b2i(s.n.re.Match(x))
		}
	}
}

func (s *step) runDouble(n int) {
	d := s.doubles(n)
	a := s.args[0].out.col.F[:n]
	if s.n.op == opNeg {
		for i := range d {
			d[i] = -a[i]
		}
		return // the negative of what is finite is finite
	}
	odd := s.doublesOf(d, n)
	if odd == 0 {
		return
	}
	for i, v := range d {
		if exponentOf(v)>>63 != 0 {
			d[i] = 0
			s.fault(i)
		}
	}
}

// doublesOf fills d and says whether something in it is not finite, which is asked in the same pass; division by zero is not finite
// either. A constant stays out of memory: a column of it would take all of the fastest cache. Each result is stored before it is used, so that
// nothing is fused.
func (s *step) doublesOf(d []float64, n int) (odd uint64) {
	left, right := s.args[0], s.args[1]
	a, b := left.out.col.F[:n], right.out.col.F[:n]
	o := s.n.op
	switch {
	case right.n.op == opConst && o == opSub:
		odd = addTo(d, a, -right.n.value.F) // the same to the bit
	case right.n.op == opConst && o == opAdd:
		odd = addTo(d, a, right.n.value.F)
	case right.n.op == opConst && o == opMul:
		odd = mulBy(d, a, right.n.value.F)
	case left.n.op == opConst && o == opAdd:
		odd = addTo(d, b, left.n.value.F)
	case left.n.op == opConst && o == opMul:
		odd = mulBy(d, b, left.n.value.F)
	case left.n.op == opConst && o == opSub:
		by := left.n.value.F
		for i := range d {
			v := by - b[i]
			d[i] = v
			odd |= exponentOf(v)
		}
	case right.n.op == opConst && o == opDiv:
		by := right.n.value.F
		for i := range d {
			v := a[i] / by
			d[i] = v
			odd |= exponentOf(v)
		}
	case o == opAdd:
		for i := range d {
			v := a[i] + b[i]
			d[i] = v
			odd |= exponentOf(v)
		}
	case o == opSub:
		for i := range d {
			v := a[i] - b[i]
			d[i] = v
			odd |= exponentOf(v)
		}
	case o == opMul:
		for i := range d {
			v := float64(a[i] * b[i])
			d[i] = v
			odd |= exponentOf(v)
		}
	case o == opDiv:
		for i := range d {
			v := a[i] / b[i]
			d[i] = v
			odd |= exponentOf(v)
		}
	}
	return odd >> 63
}

func addTo(d, a []float64, by float64) (odd uint64) {
	a = a[:len(d)]
	for i := range d {
		v := a[i] + by
		d[i] = v
		odd |= exponentOf(v)
	}
	return odd
}

func mulBy(d, a []float64, by float64) (odd uint64) {
	a = a[:len(d)]
	for i := range d {
		v := float64(a[i] * by)
		d[i] = v
		odd |= exponentOf(v)
	}
	return odd
}

// exponentOf has its highest bit set for infinities and NaN, which have all bits of the exponent set: one more makes it run over.
func exponentOf(v float64) uint64 {
	const exponent = 0x7ff << 52
	return math.Float64bits(v)&exponent + 1<<52
}

func (s *step) runInt(n int) {
	d := s.ints(n)
	a := s.args[0].out.col.I[:n]
	if s.n.op == opNeg {
		for i, x := range a {
			d[i] = -x
			if x == math.MinInt64 {
				s.fault(i)
			}
		}
		return
	}
	b := s.args[1].out.col.I[:n]
	switch s.n.op {
	case opAdd:
		for i := range d {
			r := a[i] + b[i]
			d[i] = r
			if (a[i]^r)&(b[i]^r) < 0 {
				s.fault(i)
			}
		}
	case opSub:
		for i := range d {
			r := a[i] - b[i]
			d[i] = r
			if (a[i]^b[i])&(a[i]^r) < 0 {
				s.fault(i)
			}
		}
	case opMul:
		for i := range d {
			r, ok := mulInt(a[i], b[i])
			d[i] = r
			if !ok {
				s.fault(i)
			}
		}
	case opDiv, opMod:
		if div := s.n.args[1]; div.op == opConst && div.value.I > 0 && div.value.I < 1<<31 && !div.value.Null {
			divideBy(s.n.op, d, a, div.value.I)
			return
		}
		for i := range d {
			x, y := a[i], b[i]
			if y == 0 || (y == -1 && x == math.MinInt64) {
				d[i] = 0
				s.fault(i)
			} else if s.n.op == opDiv {
				d[i] = x / y
			} else {
				d[i] = x % y
			}
		}
	}
	if s.n.kind == row.Timestamp {
		for i, t := range d {
			if row.Time(t) < row.FirstTime || row.Time(t) > row.LastTime {
				s.fault(i)
			}
		}
	}
}

// divideBy divides by a constant above zero, which has no errors. Most numbers are small, and 32 bits
// divide several times faster than 64.
func divideBy(o op, d, a []int64, by int64) {
	if by&(by-1) == 0 {
		shiftBy(o, d, a, by)
		return
	}
	small := uint32(by)
	for i, x := range a {
		var quotient int64
		if uint64(x)>>32 == 0 {
			quotient = int64(uint32(x) / small)
		} else {
			quotient = x / by
		}
		if o == opDiv {
			d[i] = quotient
		} else {
			d[i] = x - quotient*by
		}
	}
}

// shiftBy divides by a power of two, towards zero: -3 / 2 is -1, and -3 % 2 is -1.
func shiftBy(o op, d, a []int64, by int64) {
	shift, less := bits.TrailingZeros64(uint64(by)), by-1
	a = a[:len(d)]
	if o == opDiv {
		for i, x := range a {
			d[i] = (x + x>>63&less) >> shift
		}
		return
	}
	for i, x := range a {
		d[i] = x - (x+x>>63&less)&^less
	}
}
