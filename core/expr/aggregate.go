package expr

import (
	"fmt"
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"

	"undertide/core/row"
)

// AggregateNames are the aggregate functions that measures may call (docs/job-document.md, "Measures").
var AggregateNames = []string{"count", "count_if", "count_distinct", "sum", "mean", "min", "max", "first", "last", "stddev", "variance",
	"quantile", "median", "collect", "largest", "most_common"}

// maxListed bounds what collect, largest and most_common keep of a key and window.
const maxListed = 100_000

var plainKinds = []row.Kind{row.String, row.Int, row.Double, row.Bool, row.Bytes, row.Timestamp, row.Duration, row.Decimal}

// aggregateShape says what an aggregate takes and gives.
type aggregateShape struct {
	name   string
	takes  []row.Kind
	beside *cel.Type // of the constant beside the argument; nil for none
	gives  func(k row.Kind) row.Kind
}

func same(k row.Kind) row.Kind   { return k }
func asDouble(row.Kind) row.Kind { return row.Double }
func meanOf(k row.Kind) row.Kind {
	if k == row.Decimal {
		return k // decimals stay decimals
	}
	return row.Double
}
func asInt(row.Kind) row.Kind      { return row.Int }
func keepList(k row.Kind) row.Kind { return row.ListOf(k) }

var numbers = []row.Kind{row.Int, row.Double}

var aggregateShapes = []aggregateShape{
	{"sum", []row.Kind{row.Int, row.Double, row.Duration, row.Decimal}, nil, same},
	{"mean", []row.Kind{row.Int, row.Double, row.Decimal}, nil, meanOf},
	{"min", plainKinds, nil, same},
	{"max", plainKinds, nil, same},
	{"first", plainKinds, nil, same},
	{"last", plainKinds, nil, same},
	{"count_distinct", plainKinds, nil, asInt},
	{"stddev", numbers, nil, asDouble},
	{"variance", numbers, nil, asDouble},
	{"median", []row.Kind{row.Int, row.Double, row.Duration, row.Decimal}, nil, same},
	{"quantile", []row.Kind{row.Int, row.Double, row.Decimal}, cel.DoubleType, meanOf},
	{"collect", plainKinds, cel.IntType, keepList},
	{"largest", plainKinds, cel.IntType, keepList},
	{"most_common", plainKinds, cel.IntType, row.CommonOf},
}

func aggregateOptions() []cel.EnvOption {
	opts := []cel.EnvOption{
		cel.Function("count", cel.Overload("measure_count", nil, cel.IntType)),
		cel.Function("count_if", cel.Overload("measure_count_if", []*cel.Type{cel.BoolType}, cel.IntType)),
	}
	for _, s := range aggregateShapes {
		var overloads []cel.FunctionOpt
		for _, k := range s.takes {
			args := []*cel.Type{bareType(k)}
			if s.beside != nil {
				args = append(args, s.beside)
			}
			result := celType(s.gives(k))
			id := fmt.Sprintf("measure_%s_%d", s.name, k)
			overloads = append(overloads, cel.Overload(id, args, result), cel.Overload(id+"_when", append(args, cel.BoolType), result))
			if s.name == "collect" { // its bound may be left out
				overloads = append(overloads, cel.Overload(id+"_all", args[:1], result))
			}
		}
		opts = append(opts, cel.Function(s.name, overloads...))
	}
	return opts
}

// bareType is the CEL type of values that are not null.
func bareType(k row.Kind) *cel.Type {
	switch {
	case k.IsList():
		return cel.ListType(bareType(k.Elem()))
	case k.IsMap():
		return cel.MapType(cel.StringType, bareType(k.Elem()))
	case k.IsCommon():
		return cel.ListType(cel.MapType(cel.StringType, cel.DynType))
	}
	switch k {
	case row.Int:
		return cel.IntType
	case row.Double:
		return cel.DoubleType
	case row.String:
		return cel.StringType
	case row.Bool:
		return cel.BoolType
	case row.Bytes:
		return cel.BytesType
	case row.Timestamp:
		return cel.TimestampType
	case row.Decimal:
		return decimalType
	case row.Duration:
		return cel.DurationType
	}
	return cel.DynType
}

func (c *compiler) aggregate(e ast.Expr, kind row.Kind) *node {
	if c.inside {
		c.fault(e, "an aggregate stands within an aggregate", "aggregate in one step, and again in a second")
		return &node{op: opConst, kind: kind}
	}
	c.inside = true
	defer func() { c.inside = false }()
	call := e.AsCall()
	a := Aggregate{Func: call.FunctionName(), Kind: kind}
	sub := func(x ast.Expr) *Program { return &Program{root: c.node(x), text: c.prog.text} }
	args := call.Args()
	switch at := slices.IndexFunc(aggregateShapes, func(s aggregateShape) bool { return s.name == a.Func }); {
	case a.Func == "count_if":
		a.Func, a.Cond = "count", sub(args[0])
	case at >= 0:
		a.Arg = sub(args[0])
		if a.Kind = aggregateShapes[at].gives(a.Arg.Kind()); a.Func == "most_common" {
			kind = a.Kind
		}
		args = args[1:]
		if aggregateShapes[at].beside != nil {
			if a.N = 1000; len(args) > 0 {
				c.beside(&a, args[0])
				args = args[1:]
			}
		}
		if len(args) > 0 {
			a.Cond = sub(args[0])
		}
	}
	c.prog.Aggregates = append(c.prog.Aggregates, a)
	return &node{op: opField, kind: kind, field: len(c.prog.Aggregates) - 1}
}

// beside takes the constant beside an aggregate's argument.
func (c *compiler) beside(a *Aggregate, x ast.Expr) {
	n := c.node(x)
	switch {
	case n.op != opConst || n.value.Null:
		c.fault(x, "what stands beside the argument of "+a.Func+" is a constant", "write a number, or values.NAME")
	case a.Func == "quantile":
		if a.Q = n.value.F; a.Q < 0 || a.Q > 1 {
			c.fault(x, fmt.Sprintf("%v is not a share from 0 to 1", a.Q), "write quantile(x, 0.95) for 95 %")
		}
	case n.value.I < 1 || n.value.I > maxListed:
		c.fault(x, fmt.Sprintf("%d is not a number of values from 1 to %d", n.value.I, maxListed), "write "+a.Func+"(x, 10)")
	default:
		a.N = int(n.value.I)
	}
}

// Fold is a measure of the document's own: what it begins with, what each row makes of it, how two
// parts join, and what comes out (docs/job-document.md, "Measures"). Immutable.
type Fold struct {
	InitialOf, NextOf, CombineOf, ResultOf *Program
}

// Kind is that of what is kept.
func (f *Fold) Kind() row.Kind { return f.InitialOf.Kind() }

// Initial gives what a key begins with.
func (f *Fold) Initial() (Value, error) { return f.InitialOf.Eval(nil, 0) }

// Next takes row i of the input's columns.
func (f *Fold) Next(soFar Value, cols []*row.Column, i int) (Value, error) {
	return f.NextOf.EvalWith(cols, i, []Value{soFar})
}

// Combine joins an earlier part with a later one.
func (f *Fold) Combine(left, right Value) (Value, error) {
	return f.CombineOf.EvalWith(nil, 0, []Value{left, right})
}

// Result gives what comes out.
func (f *Fold) Result(soFar Value) (Value, error) {
	if f.ResultOf == nil {
		return soFar, nil
	}
	return f.ResultOf.EvalWith(nil, 0, []Value{soFar})
}

// MeasureOf makes the program of a measure that is this one aggregate.
func MeasureOf(a Aggregate, text string) *Program {
	return &Program{root: &node{op: opField, kind: a.Kind}, text: text, Aggregates: []Aggregate{a}}
}
