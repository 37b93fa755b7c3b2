package expr

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/functions"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/overloads"
	"cel.dev/cel-go/common/types"

	"undertide/core/row"
)

// Scope is what an expression may name.
type Scope struct {
	Fields row.Schema
	// Values are the document's constants, named in expressions as values.NAME.
	Values map[string]Value
	// Locals are values beside the row, named like fields.
	Locals row.Schema
	// Functions are the document's own, by name.
	Functions map[string]*Function
	// Measure allows aggregate calls, and fields only within them.
	Measure bool
}

// Fault is one thing wrong with an expression's text. Line counts from 1, Column from 0, both
// within the text. Name is the unknown name where the fault is one, for a nearest-name remedy.
type Fault struct {
	Line, Column int
	Message      string
	Remedy       string
	Name         string
	// Function says that Name is called.
	Function bool
}

// celType gives the CEL type of a field. All fields may be null.
func celType(k row.Kind) *cel.Type {
	switch k {
	case row.String:
		return cel.NullableType(cel.StringType)
	case row.Int:
		return cel.NullableType(cel.IntType)
	case row.Double:
		return cel.NullableType(cel.DoubleType)
	case row.Bool:
		return cel.NullableType(cel.BoolType)
	case row.Bytes:
		return cel.NullableType(cel.BytesType)
	case row.Timestamp:
		return cel.TimestampType // CEL lets these two be null as they are
	case row.Duration:
		return cel.DurationType
	case row.Decimal:
		return decimalType
	}
	return bareType(k)
}

// kindOf gives the kind of a CEL type; Invalid for what a row cannot hold.
func kindOf(t *cel.Type) row.Kind {
	switch t.Kind() {
	case types.StringKind:
		return row.String
	case types.IntKind:
		return row.Int
	case types.DoubleKind:
		return row.Double
	case types.BoolKind:
		return row.Bool
	case types.BytesKind:
		return row.Bytes
	case types.TimestampKind:
		return row.Timestamp
	case types.DurationKind:
		return row.Duration
	}
	switch {
	case t.Kind() == types.StructKind && t.TypeName() == decimalType.TypeName():
		return row.Decimal
	case t.Kind() == types.ListKind:
		if k := kindOf(t.Parameters()[0]); k.Plain() && k != row.Invalid {
			return row.ListOf(k)
		}
	case t.Kind() == types.MapKind && t.Parameters()[0].Kind() == types.StringKind:
		if k := kindOf(t.Parameters()[1]); k.Plain() && k != row.Invalid {
			return row.MapOf(k)
		}
	}
	// A nullable type is a wrapper that carries the name of what it wraps.
	for _, k := range []row.Kind{row.String, row.Int, row.Double, row.Bool, row.Bytes} {
		if t.IsExactType(celType(k)) {
			return k
		}
	}
	return row.Invalid
}

var baseEnvs = sync.OnceValue(func() [2]*cel.Env {
	plain, err := cel.NewEnv(ownOptions()...)
	if err != nil {
		panic(err) // our own declarations are wrong
	}
	measure, err := plain.Extend(aggregateOptions()...)
	if err != nil {
		panic(err)
	}
	return [2]*cel.Env{plain, measure}
})

// env declares the names of the scope that an expression uses: a scope may have thousands, and each costs. Where one with
// a dot is unknown, all with dots are declared, since only then the library says that name and not values or meta alone.
func (s Scope) env(used []string, called []*Function) (*cel.Env, error) {
	if slices.ContainsFunc(used, func(name string) bool { return strings.Contains(name, ".") && !s.has(name) }) {
		used = slices.Clone(used)
		for name := range s.Values {
			used = append(used, "values."+name)
		}
		for _, f := range s.Fields {
			if strings.Contains(f.Name, ".") {
				used = append(used, f.Name)
			}
		}
	}
	var opts []cel.EnvOption
	for _, name := range used {
		if i := s.Fields.Index(name); i >= 0 {
			opts = append(opts, cel.Variable(name, celType(s.Fields[i].Kind)))
		}
		if i := s.Locals.Index(name); i >= 0 {
			opts = append(opts, cel.Variable(name, celType(s.Locals[i].Kind)))
		}
		if v, ok := strings.CutPrefix(name, "values."); ok {
			if known, ok := s.Values[v]; ok {
				opts = append(opts, cel.Variable(name, celType(known.Kind)))
			}
		}
	}
	for _, f := range called {
		opts = append(opts, f.declared())
	}
	return baseEnvs()[b2i(s.Measure)].Extend(opts...)
}

func (s Scope) has(name string) bool {
	v, isValue := strings.CutPrefix(name, "values.")
	_, known := s.Values[v]
	return isValue && known || s.Locals.Index(name) >= 0 || s.Fields.Index(name) >= 0
}

// MaxText bounds an expression in bytes: what is longer costs too much to read.
const MaxText = 8_000

// Compile parses and checks text. All faults that the library can find are returned at once; the
// program is nil when there is one.
func Compile(text string, scope Scope) (*Program, []Fault) {
	if len(text) > MaxText {
		return nil, []Fault{{Line: 1, Message: fmt.Sprintf("the expression has %d bytes; at most %d are read", len(text), MaxText), Remedy: "compute parts of it in a step before, as fields of their own"}}
	}
	parsed, iss := baseEnvs()[b2i(scope.Measure)].Parse(text)
	if iss.Err() != nil {
		return nil, faultsOf(baseEnvs()[b2i(scope.Measure)], iss, text)
	}
	if f := deepLoops(parsed.NativeRep()); f != nil {
		return nil, []Fault{*f}
	}
	nameHeaders(parsed.NativeRep())
	promoteLiterals(parsed.NativeRep(), scope)
	env, err := scope.env(namesIn(parsed.NativeRep(), scope.dotted()), scope.calledIn(parsed.NativeRep()))
	if err != nil {
		return nil, []Fault{{Line: 1, Message: err.Error()}}
	}
	checked, iss := env.Check(parsed)
	if iss.Err() != nil {
		return nil, faultsOf(env, iss, text)
	}
	c := &compiler{scope: scope, env: env, ast: checked.NativeRep(), prog: &Program{text: text}}
	c.prog.root = c.node(c.ast.Expr())
	if len(c.faults) == 0 && c.prog.root.kind == row.Invalid {
		c.fault(c.ast.Expr(), "the result is of type "+checked.OutputType().String()+", which a row cannot hold", "give a string, int, double, bool, bytes, timestamp, duration or decimal, or a list or map of one of these")
	}
	if len(c.faults) > 0 {
		return nil, c.faults
	}
	return c.prog, nil
}

// mostLoops bounds how deep map, filter, exists and all may stand within one another: the library's checking of types
// takes time that grows by the cube of it, and a row's time by the product of the lists.
const mostLoops = 6

// deepLoops finds a loop that stands too deep; nil for none.
func deepLoops(a *ast.AST) *Fault {
	for _, loop := range ast.MatchDescendants(ast.NavigateAST(a), ast.KindMatcher(ast.ComprehensionKind)) {
		depth := 1
		for up, inside := loop.Parent(); inside; up, inside = up.Parent() {
			if up.Kind() == ast.ComprehensionKind {
				depth++
			}
		}
		if depth > mostLoops {
			at := a.SourceInfo().GetStartLocation(loop.ID())
			return &Fault{Line: at.Line(), Column: at.Column(), Message: fmt.Sprintf("more than %d of map, filter, exists and all stand within one another", mostLoops), Remedy: "compute parts of it in a step before, as fields of their own"}
		}
	}
	return nil
}

type compiler struct {
	scope   Scope
	env     *cel.Env
	ast     *ast.AST
	prog    *Program
	inside  bool    // within an aggregate call
	inlined int     // parts that functions of the document have brought
	bound   []bound // variables of the loops around
	faults  []Fault
}

func (c *compiler) fault(e ast.Expr, message, remedy string) {
	loc := c.ast.SourceInfo().GetStartLocation(e.ID())
	c.faults = append(c.faults, Fault{Line: loc.Line(), Column: loc.Column(), Message: message, Remedy: remedy})
}

var operatorOf = map[string]op{
	operators.Equals: opEq, operators.NotEquals: opNe, operators.Less: opLt, operators.LessEquals: opLe,
	operators.Greater: opGt, operators.GreaterEquals: opGe, operators.Add: opAdd, operators.Subtract: opSub,
	operators.Multiply: opMul, operators.Divide: opDiv, operators.Modulo: opMod, operators.Negate: opNeg,
	operators.LogicalNot: opNot, operators.LogicalAnd: opAnd, operators.LogicalOr: opOr,
	operators.Conditional: opCond, operators.In: opIn,
}

// node translates a checked expression; faults are collected and a placeholder returned.
func (c *compiler) node(e ast.Expr) *node {
	kind := kindOf(c.ast.GetType(e.ID()))
	switch e.Kind() {
	case ast.LiteralKind:
		if e.AsLiteral().Type() == types.NullType {
			return &node{op: opConst, kind: row.Invalid, value: Value{Null: true}}
		}
		v, err := fromLibrary(e.AsLiteral())
		if err != nil {
			c.fault(e, "uint literals are not supported", "write an int, without the u")
		}
		return &node{op: opConst, kind: v.Kind, value: v}
	case ast.IdentKind:
		return c.name(e, e.AsIdent(), kind)
	case ast.SelectKind:
		if n := c.member(e, kind); n != nil {
			return n
		}
	case ast.ComprehensionKind:
		return c.loop(e, kind)
	case ast.MapKind:
		if kind.IsMap() {
			n := &node{op: opOwn, kind: kind, name: "map", own: makeMap(kind), lenient: true}
			for _, x := range e.AsMap().Entries() {
				n.args = append(n.args, c.node(x.AsMapEntry().Key()), c.node(x.AsMapEntry().Value()))
			}
			return n
		}
		c.fault(e, "a map needs texts as keys and values of one plain type", "write {'a': 1, 'b': 2}")
		return &node{op: opConst, kind: row.Bool}
	case ast.CallKind:
		return c.call(e, kind)
	case ast.ListKind:
		if kind != row.Invalid {
			n := &node{op: opOwn, kind: kind, name: "list", own: makeList(kind), lenient: true}
			for _, x := range e.AsList().Elements() {
				n.args = append(n.args, c.node(x))
			}
			return n
		}
		c.fault(e, "a list needs elements of one plain type", "write ['a', 'b'] or [1, 2]")
		return &node{op: opConst, kind: row.Bool}
	}
	c.fault(e, "this gives no value that a row can hold", "let it give a string, int, double, bool, timestamp, duration, decimal, or a list or map of these")
	return &node{op: opConst, kind: row.Bool}
}

// member takes a.b: a name with dots, an entry of a map, or value or count of what most_common gives; nil for
// anything else. has(m.k) asks whether a map has an entry.
func (c *compiler) member(e ast.Expr, kind row.Kind) *node {
	s := e.AsSelect()
	if name, ok := qualified(e); ok && !s.IsTestOnly() && c.knows(name) {
		return c.name(e, name, kind)
	}
	if of := s.Operand(); of.Kind() == ast.CallKind && of.AsCall().FunctionName() == operators.Index {
		list := c.node(of.AsCall().Args()[0])
		at := func(column int) ownFunction {
			return func(a []Value) (Value, error) {
				values, counts := row.NewColumn(a[0].Kind.Elem()), row.NewColumn(row.Int)
				row.Elements(a[0].Kind, []byte(a[0].S), nil, values, counts)
				if a[1].I < 0 || a[1].I >= int64(values.Len()) {
					return Value{}, fmt.Errorf("there is no element %d in a list of %d", a[1].I, values.Len())
				}
				return At([]*row.Column{values, counts}[column], int(a[1].I)), nil
			}
		}
		if list.kind.IsCommon() {
			n := &node{op: opOwn, args: []*node{list, c.node(of.AsCall().Args()[1])}}
			switch s.FieldName() {
			case "value":
				n.kind, n.own = list.kind.Elem(), at(0)
				return n
			case "count":
				n.kind, n.own = row.Int, at(1)
				return n
			}
			c.fault(e, "an entry of most_common has value and count, and no "+s.FieldName(), "write [0].value or [0].count")
			return &node{op: opConst, kind: row.Bool}
		}
	}
	m := c.node(s.Operand())
	if !m.kind.IsMap() {
		return nil
	}
	key := &node{op: opConst, kind: row.String, value: Value{Kind: row.String, S: s.FieldName()}}
	n := &node{op: opOwn, kind: m.kind.Elem(), own: entryOf, args: []*node{m, key}}
	if s.IsTestOnly() {
		n.kind, n.own = row.Bool, func(a []Value) (Value, error) {
			_, ok := lookUp(a[0], a[1].S)
			return BoolOf(ok), nil
		}
	}
	return n
}

// knows says whether a name is one of the scope.
func (c *compiler) knows(name string) bool {
	_, isBound := c.boundTo(name)
	return isBound || c.scope.has(name)
}

// qualified gives the dotted name of a.b.c.
func qualified(e ast.Expr) (string, bool) {
	if e.Kind() == ast.IdentKind {
		return e.AsIdent(), true
	}
	if e.Kind() != ast.SelectKind {
		return "", false
	}
	head, ok := qualified(e.AsSelect().Operand())
	return head + "." + e.AsSelect().FieldName(), ok
}

func (c *compiler) name(e ast.Expr, name string, kind row.Kind) *node {
	if v, ok := strings.CutPrefix(name, "values."); ok {
		if val, ok := c.scope.Values[v]; ok {
			return &node{op: opConst, kind: val.Kind, value: val}
		}
	}
	if n, ok := c.boundTo(name); ok {
		return n
	}
	if i := c.scope.Locals.Index(name); i >= 0 {
		return &node{op: opLocal, kind: c.scope.Locals[i].Kind, field: i}
	}
	i := c.scope.Fields.Index(name)
	if i < 0 {
		c.fault(e, fmt.Sprintf("%s is not a field", name), "use a field of the step's input")
		return &node{op: opConst, kind: kind}
	}
	if c.scope.Measure && !c.inside {
		c.fault(e, fmt.Sprintf("field %s stands outside an aggregate", name), fmt.Sprintf("say which of the window's values is meant: min(%s), max(%s) …", name, name))
	}
	return &node{op: opField, kind: kind, field: i}
}

func isNullLiteral(n *node) bool { return n.op == opConst && n.kind == row.Invalid && n.value.Null }

func (c *compiler) call(e ast.Expr, kind row.Kind) *node {
	call := e.AsCall()
	name := call.FunctionName()
	if c.scope.Measure && !call.IsMemberFunction() && slices.Contains(AggregateNames, name) {
		return c.aggregate(e, kind)
	}
	var exprs []ast.Expr
	if call.IsMemberFunction() {
		exprs = append(exprs, call.Target())
	}
	exprs = append(exprs, call.Args()...)
	if name == operators.In && exprs[1].Kind() == ast.ListKind {
		exprs = append(exprs[:1:1], exprs[1].AsList().Elements()...)
	}
	n := &node{kind: kind, name: name}
	for _, a := range exprs {
		n.args = append(n.args, c.node(a))
	}
	if f := c.scope.Functions[name]; f != nil && !call.IsMemberFunction() {
		return c.inline(e, f, n.args)
	}
	if name == notStrictlyFalse { // the loop takes errors and nulls for that itself
		return n.args[0]
	}
	if name == isNullName {
		n.op, n.kind = opIsNull, row.Bool
		return n
	}
	if name == operators.Equals || name == operators.NotEquals {
		for i, a := range n.args {
			if isNullLiteral(a) {
				n.op = opIsNull
				if name == operators.NotEquals {
					n.op = opNotNull
				}
				n.args = []*node{n.args[1-i]}
				return n
			}
		}
	}
	if c.own(e, n, name) {
		return n
	}
	if o, ok := operatorOf[name]; ok {
		n.op = o
		return c.settleNulls(e, n)
	}
	for _, a := range n.args {
		if isNullLiteral(a) {
			c.fault(e, "a function of null is always null", "drop the call")
			return n
		}
	}
	ids := c.ast.GetOverloadIDs(e.ID())
	switch {
	case len(ids) == 1 && ids[0] == overloads.IntToDouble:
		n.op = opToDouble
		return n
	case len(ids) == 1 && ids[0] == overloads.DoubleToInt:
		n.op = opToInt
		return n
	case name == overloads.StartsWith && len(n.args) == 2:
		n.op = opStarts
		return n
	case name == overloads.EndsWith && len(n.args) == 2:
		n.op = opEnds
		return n
	case name == overloads.Contains && len(n.args) == 2:
		n.op = opContains
		return n
	case name == overloads.Matches && n.args[1].op == opConst:
		re, err := regexp.Compile(n.args[1].value.S)
		if err != nil {
			c.fault(e, "the pattern is not a regular expression: "+err.Error(), "use RE2 syntax")
			return n
		}
		n.op, n.re, n.args = opMatches, re, n.args[:1]
		return n
	}
	n.op = opCall
	if n.call = c.libraryFunction(name, ids); n.call == nil || kind == row.Invalid {
		c.fault(e, fmt.Sprintf("%s is not built yet for these types", name), takes(c.env, name, len(call.Args())))
	}
	return n
}

// settleNulls gives null literals among an operator's arguments the kind that the others have.
func (c *compiler) settleNulls(e ast.Expr, n *node) *node {
	kind := row.Invalid
	args := n.args
	if n.op == opCond {
		args = n.args[1:]
		kind = n.kind
	}
	for _, a := range args {
		if a.kind != row.Invalid {
			kind = a.kind
		}
	}
	for i, a := range n.args {
		if isNullLiteral(a) {
			if kind == row.Invalid {
				kind = row.Bool
			}
			n.args[i] = &node{op: opConst, kind: kind, value: NullOf(kind)}
		}
	}
	if n.kind == row.Invalid && (n.op == opCond || n.op >= opAdd && n.op <= opNeg) { // its arguments are known better than by their types
		n.kind = kind
	}
	if n.kind == row.Invalid && n.op != opCond {
		c.fault(e, "this operator gives no value that a row can hold", "use ints, doubles, strings, timestamps or durations")
	}
	return n
}

func (c *compiler) libraryFunction(name string, ids []string) *functions.Overload {
	decl, ok := c.env.Functions()[name]
	if !ok {
		return nil
	}
	bindings, err := decl.Bindings()
	if err != nil {
		return nil
	}
	var whole *functions.Overload
	for _, b := range bindings {
		if len(ids) == 1 && b.Operator == ids[0] && (b.Unary != nil || b.Binary != nil || b.Function != nil) {
			return b
		}
		if b.Operator == name {
			whole = b
		}
	}
	return whole
}
