package expr

import (
	"regexp"

	"cel.dev/cel-go/common/functions"

	"undertide/core/row"
)

// op says what a node does.
type op uint8

const (
	opConst op = iota
	opField
	opEq
	opNe
	opLt
	opLe
	opGt
	opGe
	opAdd
	opSub
	opMul
	opDiv
	opMod
	opNeg
	opNot
	opAnd
	opOr
	opCond
	opIsNull
	opNotNull
	opIn
	opToDouble // int to double
	opToInt    // double to int, towards zero
	opStarts
	opEnds
	opContains
	opMatches // with a constant pattern, compiled once
	opCall    // any other function: the library's
	opOwn     // a function of ours
	opLocal   // a value beside the row, such as what a fold has so far
	opLoop    // a macro over a list
)

// node is one place of a checked expression tree; immutable after Compile.
type node struct {
	op    op
	kind  row.Kind
	args  []*node
	value Value // opConst
	field int   // opField: column number; opLocal: that of the local
	re    *regexp.Regexp
	call  *functions.Overload
	name  string // opCall: for messages
	own   ownFunction
	// lenient: own takes nulls too; else a null argument makes the result null.
	lenient bool
	loop    *loop // opLoop
}

// Program is a checked expression, ready to be evaluated. It is immutable and safe for concurrent
// use; a [Runner] made from it is not.
type Program struct {
	root *node
	text string
	// Aggregates are the aggregate calls of a measure (count, sum …), in order of appearance; the
	// program reads their results as its columns.
	Aggregates []Aggregate
}

// Aggregate is one aggregate call: its function, and what it takes of each row.
type Aggregate struct {
	Func string
	Kind row.Kind // of the result
	Arg  *Program // nil for count
	Cond *Program // nil: every row
	// N and Q are the constants of collect, largest, most_common and quantile.
	N int
	Q float64
	// Fold is the document's own measure.
	Fold *Fold
}

// Kind is the kind of the result.
func (p *Program) Kind() row.Kind { return p.root.kind }

// Text is the CEL text as it was written.
func (p *Program) Text() string { return p.text }

// Shift gives the program with its columns moved by n: the aggregates of a measure, put behind those
// of the measures before it.
func (p *Program) Shift(n int) *Program {
	var move func(x *node) *node
	move = func(x *node) *node {
		y := *x
		if y.op == opField {
			y.field += n
		}
		y.args = nil
		for _, a := range x.args {
			y.args = append(y.args, move(a))
		}
		return &y
	}
	return &Program{root: move(p.root), text: p.text}
}

// NullProgram is a program that gives null of a kind.
func NullProgram(k row.Kind) *Program {
	return &Program{root: &node{op: opConst, kind: k, value: NullOf(k)}, text: "null"}
}
