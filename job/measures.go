package job

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

func (b *builder) measures(n *node, place string, k *node, in input, d *step.Window, schema row.Schema, s *Step) (row.Schema, bool) {
	if n == nil {
		b.fault(k, place, "the step measures nothing", "add measures: {rows: count()}")
		return schema, true
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, place, fmt.Sprintf("%s stands where measures belong", n.kind), "write measures: {rows: count()}")
		return schema, true
	}
	faulty := false
	s.means = nil
	for i, k := range n.keys {
		p := join(place, k.text)
		v := n.values[i]
		if v.kind == nullNode && strings.ContainsAny(k.text, ")]'\"") {
			b.fault(k, place, fmt.Sprintf("%q stands where a name belongs: YAML has cut an unquoted expression at its comma", k.text), "put the expression before it in quotes")
			continue
		}
		if !b.checkField(k, p, k.text) {
			continue
		}
		if schema.Index(k.text) >= 0 || d.RevisionSchema().Index(k.text) >= 0 {
			b.fault(k, p, k.text+" is already a field of the row", "choose another name")
			continue
		}
		var prog *expr.Program
		if v.kind == mapNode {
			prog = b.fold(v, p, in, d)
		} else {
			prog = b.expression(v, p, expr.Scope{Fields: in.schema, Values: b.job.Values, Measure: true})
		}
		if prog == nil {
			faulty = true
			continue
		}
		spec := d.Spec()
		first := len(spec.Aggregates)
		for i, a := range prog.Aggregates {
			if in.overlap && a.Func == "sum" {
				b.warn(v, p, in.text+" publishes windows that overlap, and a sum over them takes rows several times", "sum what the windows read")
			}
			if f := in.meanIn(a.Arg); a.Func == "mean" && f != "" {
				b.warn(v, p, f+" is a mean, and a mean of means weighs windows of few rows like those of many", "publish sum and count, and divide their sums: sum(total) / double(sum(n))")
			}
			kept := step.NewAggregate(a)
			if kept.Name = k.text; len(prog.Aggregates) > 1 {
				kept.Name = fmt.Sprintf("%s.%d", k.text, i+1)
			}
			spec.Aggregates = append(spec.Aggregates, kept)
		}
		d.Measures = append(d.Measures, prog.Shift(first))
		s.Does = append(s.Does, k.text+" = "+prog.Text())
		schema = append(schema, row.Field{Name: k.text, Kind: prog.Kind()})
		if n := len(prog.Aggregates); n == 1 && prog.Aggregates[0].Func == "mean" {
			s.means = append(s.means, k.text)
		}
	}
	return schema, faulty
}

// meanIn names a field that an argument uses and that is a mean; empty for none.
func (in *input) meanIn(arg *expr.Program) string {
	if arg == nil {
		return ""
	}
	for _, name := range expr.Names(arg.Text()) {
		if slices.Contains(in.means, name) {
			return name
		}
	}
	return ""
}

// fold reads a measure of the document's own.
func (b *builder) fold(n *node, place string, in input, d *step.Window) *expr.Program {
	if !b.mapping(n, place, fieldSpec{known: []string{"fold"}}) {
		return nil
	}
	f := n.get("fold")
	place += ".fold"
	if f == nil {
		b.fault(n, place, "a mapping that is not a fold", "write an expression, or {fold: {initial: …, next: …, combine: …, result: …}}")
		return nil
	}
	if !b.mapping(f, place, fieldSpec{known: []string{"initial", "next", "combine", "result"}}) {
		return nil
	}
	out := &expr.Fold{}
	if i := f.get("initial"); i == nil || f.get("next") == nil {
		b.fault(f, place, "a fold needs initial and next", "write {initial: 0.0, next: so_far + x, combine: left + right}")
		return nil
	} else if out.InitialOf = b.expression(i, place+".initial", expr.Scope{Values: b.job.Values}); out.InitialOf == nil {
		return nil
	}
	kind := out.InitialOf.Kind()
	local := func(names ...string) (s row.Schema) {
		for _, n := range names {
			s = append(s, row.Field{Name: n, Kind: kind})
		}
		return s
	}
	want := func(n *node, p string, prog *expr.Program) {
		if prog != nil && prog.Kind() != kind {
			b.fault(n, p, fmt.Sprintf("this is %s, and initial %s", row.A(prog.Kind()), row.A(kind)), "give both one type")
		}
	}
	for _, name := range []string{"so_far", "left", "right"} {
		if in.schema.Index(name) >= 0 {
			b.fault(f, place, name+" is a field of the row, and a name within a fold", "rename the field by set before")
			return nil
		}
	}
	out.NextOf = b.expression(f.get("next"), place+".next", expr.Scope{Fields: in.schema, Values: b.job.Values, Locals: local("so_far")})
	b.warnGrowth(f.get("next"), place+".next", "so_far", out.NextOf)
	if uses := expr.Names(f.get("next").text); slices.ContainsFunc(uses, func(u string) bool { return in.schema.Index(u) >= 0 }) {
		b.warnOverlap(f.get("next"), place+".next", in, out.NextOf, "fold")
	}
	want(f.get("next"), place+".next", out.NextOf)
	if c := f.get("combine"); c != nil {
		out.CombineOf = b.expression(c, place+".combine", expr.Scope{Values: b.job.Values, Locals: local("left", "right")})
		want(c, place+".combine", out.CombineOf)
	} else if d.Session != nil || d.LookBack > 0 || d.Aligned != nil && !d.Aligned.Tumbles() {
		b.fault(f, place+".combine", "windows of this kind are joined from parts, and the fold does not say how", "add combine: left + right")
	}
	result := kind
	if r := f.get("result"); r != nil {
		if out.ResultOf = b.expression(r, place+".result", expr.Scope{Values: b.job.Values, Locals: local("so_far")}); out.ResultOf == nil {
			return nil
		}
		result = out.ResultOf.Kind()
	}
	if out.NextOf == nil {
		return nil
	}
	return expr.MeasureOf(expr.Aggregate{Func: "fold", Kind: result, Fold: out}, "fold from "+out.InitialOf.Text()+" by "+out.NextOf.Text())
}
