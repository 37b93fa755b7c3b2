package expr

import (
	"errors"
	"math"
	"strings"

	"cel.dev/cel-go/common/types/ref"

	"undertide/core/row"
)

// The faults of evaluation (docs/time.md, "Nulls, errors, values").
var (
	errOverflow  = errors.New("the int result does not fit 64 bits")
	errDivision  = errors.New("division by zero")
	errNotFinite = errors.New("the double result is not finite")
	errTime      = errors.New("the timestamp is outside the years 1 to 9999")
	errDecimal   = errors.New("the decimal result has more than a thousand digits")
)

func checkFinite(v Value) (Value, error) {
	if v.F-v.F != 0 {
		return Value{}, errNotFinite
	}
	return v, nil
}

func checkTime(v Value) (Value, error) {
	if row.Time(v.I) < row.FirstTime || row.Time(v.I) > row.LastTime {
		return Value{}, errTime
	}
	return v, nil
}

// Eval is the plain evaluator: the value of the program for row i of the columns.
func (p *Program) Eval(cols []*row.Column, i int) (Value, error) {
	return p.root.eval(&given{cols: cols, row: i})
}

// EvalWith is Eval where the scope has locals; they come in its order.
func (p *Program) EvalWith(cols []*row.Column, i int, locals []Value) (Value, error) {
	return p.root.eval(&given{cols: cols, row: i, locals: locals})
}

// given is what an evaluation reads.
type given struct {
	cols   []*row.Column
	row    int
	locals []Value
}

func (n *node) eval(g *given) (Value, error) {
	switch n.op {
	case opConst:
		return n.value, nil
	case opField:
		return At(g.cols[n.field], g.row), nil
	case opLocal:
		return g.locals[n.field], nil
	case opAnd, opOr:
		return n.evalLogic(g)
	case opLoop:
		return n.evalLoop(g)
	case opCond:
		c, err := n.args[0].eval(g)
		if err != nil {
			return Value{}, err
		}
		branch := n.args[2] // a null condition counts as no
		if c.True() {
			branch = n.args[1]
		}
		v, err := branch.eval(g)
		v.Kind = n.kind
		return v, err
	}
	var store [4]Value
	args := store[:0]
	null := false
	for _, a := range n.args {
		v, err := a.eval(g)
		if err != nil {
			return Value{}, err
		}
		null = null || v.Null
		args = append(args, v)
	}
	switch n.op {
	case opIsNull:
		return BoolOf(args[0].Null), nil
	case opNotNull:
		return BoolOf(!args[0].Null), nil
	case opIn:
		return evalIn(args), nil
	}
	if n.op == opOwn && n.lenient {
		return n.own(args)
	}
	if null {
		return NullOf(n.kind), nil
	}
	return n.apply(args)
}

// evalLogic is three-valued && and ||; one side that decides is enough, even beside an error.
func (n *node) evalLogic(g *given) (Value, error) {
	decides := n.op == opOr
	var fault error
	null := false
	for _, a := range n.args {
		v, err := a.eval(g)
		switch {
		case err != nil:
			if fault == nil {
				fault = err
			}
		case v.Null:
			null = true
		case (v.I != 0) == decides:
			return BoolOf(decides), nil
		}
	}
	if fault != nil {
		return Value{}, fault
	}
	if null {
		return NullOf(row.Bool), nil
	}
	return BoolOf(!decides), nil
}

// evalIn is equality with any of a list: null when undecided beside a null.
func evalIn(args []Value) Value {
	if args[0].Null {
		return NullOf(row.Bool)
	}
	null := false
	for _, e := range args[1:] {
		if e.Null {
			null = true
		} else if Compare(args[0], e) == 0 {
			return BoolOf(true)
		}
	}
	if null {
		return NullOf(row.Bool)
	}
	return BoolOf(false)
}

// apply computes an operator over values of which none is null.
func (n *node) apply(a []Value) (Value, error) {
	switch n.op {
	case opEq:
		return BoolOf(Compare(a[0], a[1]) == 0), nil
	case opNe:
		return BoolOf(Compare(a[0], a[1]) != 0), nil
	case opLt:
		return BoolOf(Compare(a[0], a[1]) < 0), nil
	case opLe:
		return BoolOf(Compare(a[0], a[1]) <= 0), nil
	case opGt:
		return BoolOf(Compare(a[0], a[1]) > 0), nil
	case opGe:
		return BoolOf(Compare(a[0], a[1]) >= 0), nil
	case opNot:
		return BoolOf(a[0].I == 0), nil
	case opToDouble:
		return Value{Kind: row.Double, F: float64(a[0].I)}, nil
	case opToInt:
		if !fitsInt(a[0].F) {
			return Value{}, errOverflow
		}
		return Value{Kind: row.Int, I: int64(a[0].F)}, nil
	case opStarts:
		return BoolOf(strings.HasPrefix(a[0].S, a[1].S)), nil
	case opEnds:
		return BoolOf(strings.HasSuffix(a[0].S, a[1].S)), nil
	case opContains:
		return BoolOf(strings.Contains(a[0].S, a[1].S)), nil
	case opMatches:
		return BoolOf(n.re.MatchString(a[0].S)), nil
	case opCall:
		return n.callLibrary(a)
	case opOwn:
		return n.own(a)
	}
	switch n.kind {
	case row.Decimal:
		return applyDecimal(n.op, a)
	case row.Double:
		return applyDouble(n.op, a)
	case row.String, row.Bytes: // only + has this kind
		return Value{Kind: n.kind, S: a[0].S + a[1].S}, nil
	}
	if !n.kind.Plain() { // lists one after another
		return Value{Kind: n.kind, S: a[0].S + a[1].S}, nil
	}
	v, err := applyInt(n.op, a)
	if err != nil {
		return Value{}, err
	}
	v.Kind = n.kind
	if n.kind == row.Timestamp {
		return checkTime(v)
	}
	return v, nil
}

// fitsInt: the doubles whose whole part is an int64.
func fitsInt(f float64) bool { return f > -9223372036854777856.0 && f < 9223372036854775808.0 }

func applyDouble(o op, a []Value) (Value, error) {
	v := Value{Kind: row.Double}
	switch o {
	case opAdd:
		v.F = a[0].F + a[1].F
	case opSub:
		v.F = a[0].F - a[1].F
	case opMul:
		v.F = a[0].F * a[1].F
	case opDiv:
		if a[1].F == 0 {
			return Value{}, errDivision
		}
		v.F = a[0].F / a[1].F
	case opNeg:
		v.F = -a[0].F
	}
	return checkFinite(v)
}

func applyInt(o op, a []Value) (Value, error) {
	x := a[0].I
	var r int64
	if o == opNeg {
		if x == math.MinInt64 {
			return Value{}, errOverflow
		}
		return Value{I: -x}, nil
	}
	y := a[1].I
	switch o {
	case opAdd:
		r = x + y
		if (x^r)&(y^r) < 0 {
			return Value{}, errOverflow
		}
	case opSub:
		r = x - y
		if (x^y)&(x^r) < 0 {
			return Value{}, errOverflow
		}
	case opMul:
		var ok bool
		if r, ok = mulInt(x, y); !ok {
			return Value{}, errOverflow
		}
	case opDiv, opMod:
		if y == 0 {
			return Value{}, errDivision
		}
		if x == math.MinInt64 && y == -1 {
			return Value{}, errOverflow
		}
		if o == opDiv {
			r = x / y
		} else {
			r = x % y
		}
	}
	return Value{I: r}, nil
}

// mulInt multiplies; false when the product does not fit.
func mulInt(x, y int64) (int64, bool) {
	if x == 0 || y == 0 {
		return 0, true
	}
	r := x * y
	return r, r/y == x && !(x == -1 && y == math.MinInt64) && !(y == -1 && x == math.MinInt64)
}

func (n *node) callLibrary(a []Value) (Value, error) {
	args := make([]ref.Val, len(a))
	for i, v := range a {
		var err error
		if args[i], err = toLibrary(v); err != nil {
			return Value{}, err
		}
	}
	var r ref.Val
	switch {
	case n.call.Unary != nil && len(args) == 1:
		r = n.call.Unary(args[0])
	case n.call.Binary != nil && len(args) == 2:
		r = n.call.Binary(args[0], args[1])
	default:
		r = n.call.Function(args...)
	}
	v, err := fromLibrary(r)
	if err != nil {
		return Value{}, err
	}
	v.Kind = n.kind
	return v, nil
}
