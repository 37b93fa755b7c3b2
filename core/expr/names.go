package expr

import (
	"slices"
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Names gives the names that an expression uses, each once: fields and locals, of `values.NAME` the whole, as of
// meta.NAME. None where the text is not an expression.
func Names(text string) []string {
	if len(text) > MaxText {
		return nil
	}
	parsed, iss := baseEnvs()[1].Parse(text)
	if iss.Err() != nil {
		return nil
	}
	nameHeaders(parsed.NativeRep())
	return namesIn(parsed.NativeRep(), dottedHeads)
}

// dottedHeads begin names that have dots in all scopes; a scope may have more.
var dottedHeads = []string{"values", "meta"}

// dotted gives the beginnings of all names of the scope that have dots.
func (s Scope) dotted() []string {
	out := dottedHeads
	for _, f := range s.Fields {
		if head, _, is := strings.Cut(f.Name, "."); is && !slices.Contains(out, head) {
			out = append(out[:len(out):len(out)], head)
		}
	}
	return out
}

func namesIn(a *ast.AST, dotted []string) []string {
	var out []string
	var walk func(e ast.Expr, bound []string)
	walk = func(e ast.Expr, bound []string) {
		switch e.Kind() {
		case ast.IdentKind, ast.SelectKind:
			name, ok := qualified(e)
			if !ok {
				walk(e.AsSelect().Operand(), bound)
				return
			}
			head, _, _ := strings.Cut(name, ".")
			if !slices.Contains(dotted, head) {
				name = head
			}
			if !slices.Contains(bound, name) && !slices.Contains(out, name) {
				out = append(out, name)
			}
		case ast.CallKind:
			if e.AsCall().IsMemberFunction() {
				walk(e.AsCall().Target(), bound)
			}
			for _, a := range e.AsCall().Args() {
				walk(a, bound)
			}
		case ast.ListKind:
			for _, x := range e.AsList().Elements() {
				walk(x, bound)
			}
		case ast.MapKind:
			for _, x := range e.AsMap().Entries() {
				walk(x.AsMapEntry().Key(), bound)
				walk(x.AsMapEntry().Value(), bound)
			}
		case ast.ComprehensionKind:
			c := e.AsComprehension()
			walk(c.IterRange(), bound)
			walk(c.AccuInit(), bound)
			within := append(bound[:len(bound):len(bound)], c.IterVar(), c.IterVar2(), c.AccuVar())
			walk(c.LoopCondition(), within)
			walk(c.LoopStep(), within)
			walk(c.Result(), within)
		}
	}
	walk(a.Expr(), nil)
	return out
}

// headers is what the names of a broker's headers begin with.
const headers = "meta.headers"

// nameHeaders writes meta.headers['trace-id'] as the name meta.headers.trace-id, which no text could name
// otherwise. It runs before the check.
func nameHeaders(a *ast.AST) {
	fac := ast.NewExprFactory()
	ast.PostOrderVisit(a.Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != operators.Index {
			return
		}
		args := e.AsCall().Args()
		name, ok := qualified(args[0])
		if !ok || name != headers || args[1].Kind() != ast.LiteralKind {
			return
		}
		if key, ok := args[1].AsLiteral().(types.String); ok {
			e.SetKindCase(fac.NewIdent(e.ID(), headers+"."+string(key)))
		}
	}))
}
