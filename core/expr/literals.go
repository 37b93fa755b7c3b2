package expr

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"

	"undertide/core/row"
)

// promoteLiterals makes an int literal beside a double a double (docs/time.md, "Nulls, errors,
// values"). It runs before the check, on its own reading of which parts are doubles: with a field tonnes of type double
// `tonnes > 2` becomes `tonnes > 2.0`.
func promoteLiterals(a *ast.AST, scope Scope) {
	ids := ast.MaxID(a)
	p := &promoter{scope: scope, fac: ast.NewExprFactory(), nextID: func() int64 { ids++; return ids }, loops: map[string]row.Kind{}}
	nullsToCalls(a.Expr(), p.fac, p.nextID)
	p.kind(a.Expr())
}

// promoter goes through an expression, finds the kinds of its parts, and promotes literals on the way.
type promoter struct {
	scope  Scope
	fac    ast.ExprFactory
	nextID func() int64
	loops  map[string]row.Kind // the elements of the loops around
}

// kind gives the kind of a part; Invalid when it is not known.
func (p *promoter) kind(e ast.Expr) row.Kind {
	switch e.Kind() {
	case ast.LiteralKind:
		switch e.AsLiteral().(type) {
		case types.Double:
			return row.Double
		case types.Int:
			return row.Int
		}
	case ast.IdentKind, ast.SelectKind:
		return p.kindOfName(e)
	case ast.ListKind:
		for _, x := range e.AsList().Elements() {
			p.kind(x)
		}
	case ast.ComprehensionKind:
		p.loop(e.AsComprehension())
	case ast.CallKind:
		return p.call(e.AsCall())
	}
	return row.Invalid
}

func (p *promoter) kindOfName(e ast.Expr) row.Kind {
	name, _ := qualified(e)
	if k, ok := p.loops[name]; ok {
		return k
	}
	if v, ok := strings.CutPrefix(name, "values."); ok {
		return p.scope.Values[v].Kind
	}
	if i := p.scope.Locals.Index(name); i >= 0 {
		return p.scope.Locals[i].Kind
	}
	if i := p.scope.Fields.Index(name); i >= 0 {
		return p.scope.Fields[i].Kind
	}
	return row.Invalid
}

// loop goes through a macro over a list, within which its variable has the kind of the elements.
func (p *promoter) loop(l ast.ComprehensionExpr) {
	before, had := p.loops[l.IterVar()]
	if k := p.kind(l.IterRange()); k.IsList() {
		p.loops[l.IterVar()] = k.Elem()
	}
	for _, x := range []ast.Expr{l.LoopCondition(), l.LoopStep(), l.Result()} {
		p.kind(x)
	}
	if delete(p.loops, l.IterVar()); had {
		p.loops[l.IterVar()] = before
	}
}

// beside promotes what stands beside a double or decimal, and gives the greatest of the kinds.
func (p *promoter) beside(exprs ...ast.Expr) row.Kind {
	kind := row.Invalid
	for _, e := range exprs {
		if k := p.kind(e); kind == row.Invalid || k == row.Decimal || k == row.Double && kind != row.Decimal {
			kind = k
		}
	}
	if kind == row.Double || kind == row.Decimal {
		for _, e := range exprs {
			promote(p.fac, e, kind, p.nextID)
		}
	}
	return kind
}

func (p *promoter) call(call ast.CallExpr) row.Kind {
	args := call.Args()
	switch call.FunctionName() {
	case operators.Add, operators.Subtract, operators.Multiply, operators.Divide:
		return p.beside(args...)
	case operators.Equals, operators.NotEquals, operators.Less, operators.LessEquals, operators.Greater, operators.GreaterEquals:
		p.beside(args...)
		return row.Bool
	case operators.Negate:
		return p.kind(args[0])
	case operators.Conditional:
		p.kind(args[0])
		return p.beside(args[1:]...)
	case operators.In:
		if args[1].Kind() == ast.ListKind {
			p.beside(append([]ast.Expr{args[0]}, args[1].AsList().Elements()...)...)
		}
		return row.Bool
	}
	return p.function(call)
}

// function gives the kind of a function that is called by its name.
func (p *promoter) function(call ast.CallExpr) row.Kind {
	name, args := call.FunctionName(), call.Args()
	first := row.Invalid
	for i, x := range args {
		if k := p.kind(x); i == 0 {
			first = k
		}
	}
	if call.IsMemberFunction() {
		p.kind(call.Target())
	}
	if f := p.scope.Functions[name]; f != nil && !call.IsMemberFunction() {
		for i, x := range args[:min(len(args), len(f.Of))] {
			if k := f.Of[i].Kind; k == row.Double || k == row.Decimal {
				promote(p.fac, x, k, p.nextID)
			}
		}
		return f.Kind()
	}
	switch name {
	case "double":
		return row.Double
	case "decimal":
		return row.Decimal
	case "round", "abs":
		return first
	case "coalesce":
		return p.beside(args...)
	}
	if p.scope.Measure {
		for _, s := range aggregateShapes {
			if s.name == name && s.gives(row.Int).Plain() {
				return s.gives(first)
			}
		}
	}
	return row.Invalid
}

// promote turns e into a double or decimal if it is a number's literal, or a branch or sum of such.
func promote(fac ast.ExprFactory, e ast.Expr, kind row.Kind, nextID func() int64) {
	switch e.Kind() {
	case ast.LiteralKind:
		switch v := e.AsLiteral().(type) {
		case types.Int:
			if kind == row.Double {
				e.SetKindCase(fac.NewLiteral(e.ID(), types.Double(v)))
			} else {
				e.SetKindCase(fac.NewCall(e.ID(), "decimal", fac.NewLiteral(nextID(), v)))
			}
		case types.Double:
			if kind == row.Decimal { // what was written, not what the nearest double is
				e.SetKindCase(fac.NewCall(e.ID(), "decimal", fac.NewLiteral(nextID(), v)))
			}
		}
	case ast.CallKind:
		call := e.AsCall()
		switch call.FunctionName() {
		case operators.Add, operators.Subtract, operators.Multiply, operators.Negate:
			for _, a := range call.Args() {
				promote(fac, a, kind, nextID)
			}
		case operators.Conditional:
			promote(fac, call.Args()[1], kind, nextID)
			promote(fac, call.Args()[2], kind, nextID)
		}
	}
}

// nullsToCalls makes `x == null` a call that takes every type, and `x != null` its opposite.
func nullsToCalls(e ast.Expr, fac ast.ExprFactory, nextID func() int64) {
	switch e.Kind() {
	case ast.ListKind:
		for _, x := range e.AsList().Elements() {
			nullsToCalls(x, fac, nextID)
		}
	case ast.ComprehensionKind:
		l := e.AsComprehension()
		for _, x := range []ast.Expr{l.IterRange(), l.LoopCondition(), l.LoopStep(), l.Result()} {
			nullsToCalls(x, fac, nextID)
		}
	}
	if e.Kind() != ast.CallKind {
		return
	}
	call := e.AsCall()
	if call.IsMemberFunction() {
		nullsToCalls(call.Target(), fac, nextID)
	}
	args := call.Args()
	for _, a := range args {
		nullsToCalls(a, fac, nextID)
	}
	isNull := func(x ast.Expr) bool { return x.Kind() == ast.LiteralKind && x.AsLiteral().Type() == types.NullType }
	name := call.FunctionName()
	if name != operators.Equals && name != operators.NotEquals {
		return
	}
	for i, a := range args {
		if !isNull(a) || isNull(args[1-i]) {
			continue
		}
		if name == operators.Equals {
			e.SetKindCase(fac.NewCall(e.ID(), isNullName, args[1-i]))
		} else {
			e.SetKindCase(fac.NewCall(e.ID(), operators.LogicalNot, fac.NewCall(nextID(), isNullName, args[1-i])))
		}
		return
	}
}

var (
	unknownName  = regexp.MustCompile(`^undeclared reference to '([^']*)'`)
	noOverload   = regexp.MustCompile(`^found no matching overload for '([^']*)' applied to '(.*)'$`)
	wrapperTypes = regexp.MustCompile(`wrapper\((\w+)\)`)
	protoTypes   = strings.NewReplacer("google.protobuf.Timestamp", "timestamp", "google.protobuf.Duration", "duration")
)

// faultsOf words the library's messages as ours: what is wrong, what would be right.
func faultsOf(env *cel.Env, iss *cel.Issues, text string) []Fault {
	var out []Fault
	for _, e := range iss.Errors() {
		f := Fault{Line: e.Location.Line(), Column: e.Location.Column()}
		message := protoTypes.Replace(wrapperTypes.ReplaceAllString(e.Message, "$1"))
		if m := unknownName.FindStringSubmatch(message); m != nil {
			f.Name = m[1]
			switch {
			case slices.Contains(AggregateNames, m[1]):
				f.Name, f.Message, f.Remedy = "", fmt.Sprintf("%s is an aggregate", m[1]), "aggregates stand in the measures of a window step, and are called: count()"
			default:
				f.Message = fmt.Sprintf("unknown name %s", m[1])
				if f.Function = calls(text, m[1]); f.Function {
					f.Message = fmt.Sprintf("unknown function %s", m[1])
				}
			}
		} else if m := noOverload.FindStringSubmatch(message); m != nil {
			f.Message, f.Remedy = overloadFault(env, m[1], m[2])
		} else if m, ok := strings.CutPrefix(message, "Syntax error: "); ok {
			if i := strings.Index(m, " expecting {"); i >= 0 {
				m = m[:i]
			}
			m = strings.NewReplacer("<EOF>", "the end").Replace(m)
			f.Message, f.Remedy = "the expression cannot be read: "+m, "write CEL, such as tonnes > 0.5 && crane != ''"
		} else if strings.Contains(message, "recursion") {
			f = Fault{Line: 1, Message: "the expression is chained or nested too deeply", Remedy: "compute parts of it in a step before, as fields of their own"}
		} else {
			f.Message, f.Remedy = message, "write CEL, such as tonnes > 0.5 && crane != ''"
		}
		out = append(out, f)
	}
	return out
}

func overloadFault(env *cel.Env, function, args string) (message, remedy string) {
	args = strings.Trim(args, "()")
	if left, right, ok := strings.Cut(args, ".("); ok { // member call: type.(types)
		args = strings.TrimSuffix(left+", "+right, ", ")
	}
	name := strings.Trim(function, "_")
	if strings.HasPrefix(function, "_") || strings.HasSuffix(function, "_") {
		name = strings.ReplaceAll(name, "_", " ")
	}
	list := strings.Split(args, ", ")
	message = fmt.Sprintf("%s does not take %s", name, strings.Join(list, " and "))
	switch {
	case slices.Contains(list, "int") && slices.Contains(list, "double"):
		remedy = "write double(…) around the int"
	case slices.Contains(list, "string") && len(list) == 2:
		remedy = "compare and join strings with strings; double('1.5') and int('3') read numbers, string(x) writes them"
	case strings.Contains(name, "?"):
		remedy = "both branches need one type, and the condition is a bool"
	default:
		remedy = takes(env, function, len(list))
	}
	return message, remedy
}

// takes says what a function takes: "mean takes int, double, duration or decimal". Forms with as many arguments as were given
// come before others; at most eight are named.
func takes(env *cel.Env, function string, given int) string {
	f := env.Functions()[function]
	if f == nil {
		return "call a function with values of its types"
	}
	var alike, others []string
	for _, o := range f.OverloadDecls() {
		var types []string
		for _, t := range o.ArgTypes() {
			types = append(types, protoTypes.Replace(wrapperTypes.ReplaceAllString(t.String(), "$1")))
		}
		form, list := strings.Join(types, " and "), &others
		if len(types) == given {
			list = &alike
		}
		if form != "" && !slices.Contains(*list, form) {
			*list = append(*list, form)
		}
	}
	if len(alike) == 0 {
		alike = others
	}
	if more := len(alike) - 8; more > 0 {
		alike = append(alike[:8], fmt.Sprintf("%d other forms", more))
	}
	if len(alike) == 0 {
		return "call it without values: " + function + "()"
	}
	name := function
	if strings.HasPrefix(name, "_") {
		name = strings.ReplaceAll(strings.Trim(name, "_"), "_", " ")
	}
	if last := len(alike) - 1; last > 0 {
		return name + " takes " + strings.Join(alike[:last], ", ") + " or " + alike[last]
	}
	return name + " takes " + alike[0]
}
