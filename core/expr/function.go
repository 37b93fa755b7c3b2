package expr

import (
	"fmt"
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"

	"undertide/core/row"
)

// Function is a function of the document's own (docs/job-document.md, "Functions"). A call of it is replaced by what it
// is, with the arguments in place of its parameters, when an expression is compiled: rows cost no call, and nulls and
// errors are those of what stands there. With kilos(t) = t * 1000.0
//
//	kilos(tonnes + 1.0) > 500.0    becomes    (tonnes + 1.0) * 1000.0 > 500.0
//
// Immutable.
type Function struct {
	Name string
	// Of are its parameters, in order.
	Of row.Schema

	is *Program
}

// MaxFunctionParts bounds how many parts an expression may have once what its functions are stands in it: functions of
// functions double it with each.
const MaxFunctionParts = 5_000

// NewFunction makes a function of what it is, compiled with its parameters as the scope's fields.
func NewFunction(name string, of row.Schema, is *Program) *Function {
	return &Function{Name: name, Of: of, is: is}
}

// Kind is the kind of what it gives.
func (f *Function) Kind() row.Kind { return f.is.Kind() }

// Taken says whether a name is that of a function or macro of the language, which a document's own cannot have.
func Taken(name string) bool {
	return slices.Contains(FunctionNames(true), name) || baseEnvs()[1].HasFunction(name)
}

// declared gives the function as the library checks calls of it.
func (f *Function) declared() cel.EnvOption {
	var of []*cel.Type
	for _, p := range f.Of {
		of = append(of, celType(p.Kind))
	}
	return cel.Function(f.Name, cel.Overload("own_"+f.Name, of, celType(f.Kind())))
}

// calledIn gives the functions of the scope that an expression calls.
func (s Scope) calledIn(a *ast.AST) (out []*Function) {
	if len(s.Functions) == 0 {
		return nil
	}
	for _, e := range ast.MatchDescendants(ast.NavigateAST(a), ast.KindMatcher(ast.CallKind)) {
		call := e.AsCall()
		if f := s.Functions[call.FunctionName()]; f != nil && !call.IsMemberFunction() && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// inline gives what a call of f is, over these arguments.
func (c *compiler) inline(e ast.Expr, f *Function, args []*node) *node {
	for i, a := range args {
		if isNullLiteral(a) {
			args[i] = &node{op: opConst, kind: f.Of[i].Kind, value: NullOf(f.Of[i].Kind)}
		}
	}
	in := inliner{args: args, locals: len(c.scope.Locals) + len(c.bound), left: MaxFunctionParts - c.inlined}
	n := in.node(f.is.root)
	c.inlined = MaxFunctionParts - in.left
	if in.left <= 0 {
		c.fault(e, fmt.Sprintf("with what its functions are, the expression has more than %d parts", MaxFunctionParts), "compute parts of it in a step before, as fields of their own")
	}
	return n
}

// inliner copies what a function is. Its loops keep their variables behind the locals that there are at the call.
type inliner struct {
	args   []*node
	locals int
	left   int // parts that may still be made
}

func (in *inliner) node(n *node) *node {
	if n.op == opField {
		in.left -= in.args[n.field].parts()
		return in.args[n.field]
	}
	if in.left--; in.left <= 0 {
		return n
	}
	out := *n
	if n.op == opLocal {
		out.field += in.locals
	}
	if n.loop != nil {
		l := *n.loop
		l.locals += in.locals
		out.loop = &l
	}
	out.args = make([]*node, len(n.args))
	for i, a := range n.args {
		out.args[i] = in.node(a)
	}
	return &out
}

// parts counts the parts of a tree.
func (n *node) parts() int {
	sum := 1
	for _, a := range n.args {
		sum += a.parts()
	}
	return sum
}
