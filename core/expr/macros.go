package expr

import (
	"slices"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"

	"undertide/core/row"
)

// Macros
//
// CEL's macros over lists and maps (exists, all, exists_one, filter, map) are loops: over a range, with a variable for
// the element and one for what was worked out so far. The library makes such a loop of `l.exists(x, x > 1)`:
//
//	range l, so far false, while not so far: so far = so far || x > 1, result so far
//
// Both variables are locals of the evaluation, behind those of the scope. The rules for nulls and errors are those
// of && and ||: an element that decides is enough, also beside an element with an error.

// loop is what an opLoop node needs beside its arguments: range, first value, condition, step, result.
type loop struct {
	locals int // how many there are outside
	bool   bool
}

// bound is a variable of the loops around an expression.
type bound struct {
	name string
	kind row.Kind
}

// notStrictlyFalse is the library's name for "not false, or an error".
const notStrictlyFalse = operators.NotStrictlyFalse

func (c *compiler) loop(e ast.Expr, kind row.Kind) *node {
	l := e.AsComprehension()
	over := c.node(l.IterRange())
	element := over.kind.Elem()
	if over.kind.IsMap() {
		element = row.String
	}
	if over.kind.Plain() || over.kind.IsCommon() || l.HasIterVar2() {
		c.fault(e, "this macro takes a list of plain values, or the keys of a map", "name a field of type list<T> or map<T>")
		return &node{op: opConst, kind: row.Bool}
	}
	so := kindOf(c.ast.GetType(l.AccuInit().ID()))
	if so == row.Invalid || l.AccuInit().Kind() == ast.ListKind { // an empty list takes the type of the result
		so = kind
	}
	var first *node
	if l.AccuInit().Kind() == ast.ListKind {
		first = &node{op: opConst, kind: so, value: Value{Kind: so}}
	} else {
		first = c.node(l.AccuInit())
	}
	n := &node{op: opLoop, kind: kind, loop: &loop{locals: len(c.scope.Locals) + len(c.bound), bool: so == row.Bool}}
	c.bound = append(c.bound, bound{l.IterVar(), element}, bound{l.AccuVar(), so})
	while, step, result := c.node(l.LoopCondition()), c.node(l.LoopStep()), c.node(l.Result())
	c.bound = c.bound[:len(c.bound)-2]
	n.args = []*node{over, first, while, step, result}
	return n
}

// boundTo gives the local of a loop's variable; false where the name is none.
func (c *compiler) boundTo(name string) (*node, bool) {
	for i := len(c.bound) - 1; i >= 0; i-- {
		if c.bound[i].name == name {
			return &node{op: opLocal, kind: c.bound[i].kind, field: len(c.scope.Locals) + i}, true
		}
	}
	return nil, false
}

func (n *node) evalLoop(g *given) (Value, error) {
	over, err := n.args[0].eval(g)
	if err != nil || over.Null {
		return NullOf(n.kind), err
	}
	so, err := n.args[1].eval(g)
	if err != nil {
		return Value{}, err
	}
	in := *g
	in.locals = append(slices.Clone(g.locals[:min(len(g.locals), n.loop.locals)]), Value{}, so)
	at := n.loop.locals
	each := elements(over)
	if over.Kind.IsMap() {
		each = keysOf(over)
	}
	var fault error // of an element that did not decide
	for _, v := range each {
		if on, err := n.args[2].eval(&in); err == nil && !on.Null && on.I == 0 {
			break
		}
		in.locals[at] = v
		next, err := n.args[3].eval(&in)
		switch {
		case err != nil && !n.loop.bool:
			return Value{}, err
		case err != nil:
			fault = err
		default:
			next.Kind = in.locals[at+1].Kind
			in.locals[at+1] = next
		}
	}
	if fault != nil {
		if on, err := n.args[2].eval(&in); err != nil || on.Null || on.I != 0 { // nothing has decided
			return Value{}, fault
		}
	}
	v, err := n.args[4].eval(&in)
	v.Kind = n.kind
	return v, err
}

// keysOf gives the keys of a map.
func keysOf(m Value) []Value {
	keys, values := row.NewColumn(row.String), row.NewColumn(m.Kind.Elem())
	if !row.Elements(m.Kind, []byte(m.S), keys, values, nil) {
		return nil
	}
	out := make([]Value, keys.Len())
	for i := range out {
		out[i] = At(keys, i)
	}
	return out
}

// makeMap writes keys and values, one after another, as a map: sorted, of a key that stands twice the last.
func makeMap(kind row.Kind) ownFunction {
	return func(a []Value) (Value, error) {
		entries := map[string]Value{}
		for i := 0; i+1 < len(a); i += 2 {
			entries[a[i].S] = a[i+1]
		}
		names := make([]string, 0, len(entries))
		for k := range entries {
			names = append(names, k)
		}
		slices.Sort(names)
		c := row.NewColumn(kind.Elem())
		var out []byte
		for i, k := range names {
			entries[k].AppendTo(c)
			out = row.AppendElement(row.AppendText(out, k), c, i)
		}
		return Value{Kind: kind, S: string(out)}, nil
	}
}
