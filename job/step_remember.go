package job

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

func (b *builder) remember(k, n *node, place string, in input, s *Step) {
	d := &step.Remember{Keys: step.Spec{Input: in.schema, KeepNull: b.nullKey(n, place)}}
	d.Keys.Key = b.keys(n.get("key"), place+".key", in)
	if f := n.get("forget"); f == nil {
		b.fault(k, place+".forget", "the values are kept without a bound", "add forget: 1h, the time without rows after which a key starts anew")
	} else if x, ok := b.duration(f, place+".forget", false); ok {
		d.Forget = x
	}
	if o := n.get("order"); o != nil {
		d.Arrival = b.choice(o, place+".order", []string{"time", "arrival"}, nil) == "arrival"
	}
	v := n.get("remember")
	p := place + ".remember"
	b.needTime(v, p, "remember", in)
	if v.kind != mapNode || len(v.keys) == 0 {
		b.fault(v, p, fmt.Sprintf("%s stands where values to remember belong", v.kind), "write remember: {last_tonnes: {initial: 0.0, next: tonnes}}")
		return
	}
	var locals row.Schema
	var nexts []*node
	for i, name := range v.keys {
		p := join(p, name.text)
		if !b.checkField(name, p, name.text) || !b.mapping(v.values[i], p, fieldSpec{known: []string{"initial", "next"}}) {
			continue
		}
		if in.schema.Index(name.text) >= 0 {
			b.fault(name, p, name.text+" is already a field of the row", "choose another name for what is remembered")
			continue
		}
		initial, next := v.values[i].get("initial"), v.values[i].get("next")
		if initial == nil || next == nil {
			b.fault(name, p, "initial and next are needed", "write {initial: 0.0, next: tonnes}")
			continue
		}
		// A null to begin with takes the type of what follows.
		scope := expr.Scope{Values: b.job.Values}
		var prog *expr.Program
		if strings.TrimSpace(initial.text) == "null" || initial.kind == nullNode {
			if typed := b.quietly(next, expr.Scope{Fields: in.schema, Values: b.job.Values}); typed != nil {
				prog = expr.NullProgram(typed.Kind())
			} else {
				b.fault(initial, p+".initial", "null has no type here, since next uses what is remembered", "begin with a value, such as timestamp('1970-01-01T00:00:00Z')")
			}
		} else {
			prog = b.expression(initial, p+".initial", scope)
		}
		if prog == nil {
			continue
		}
		locals = append(locals, row.Field{Name: name.text, Kind: prog.Kind()})
		d.Names, d.Initial, nexts = append(d.Names, name.text), append(d.Initial, prog), append(nexts, next)
	}
	scope := expr.Scope{Fields: in.schema, Values: b.job.Values, Locals: locals}
	for i, next := range nexts {
		p := join(p, d.Names[i]) + ".next"
		prog := b.expression(next, p, scope)
		if prog != nil && prog.Kind() != d.Initial[i].Kind() {
			b.fault(next, p, fmt.Sprintf("next is %s, and initial %s", row.A(prog.Kind()), row.A(d.Initial[i].Kind())), "give both one type")
		}
		b.warnGrowth(next, p, d.Names[i], prog)
		if slices.ContainsFunc(expr.Names(next.text), func(u string) bool { return in.schema.Index(u) >= 0 }) {
			b.warnOverlap(next, p, in, prog, "remember")
		}
		if prog != nil {
			s.Does = append(s.Does, "remember "+d.Names[i]+": "+d.Initial[i].Text()+", then "+prog.Text())
		}
		d.Next = append(d.Next, prog)
	}
	if w := n.get("where"); w != nil {
		d.Where = b.expression(w, place+".where", scope)
		b.wantBool(w, place+".where", d.Where)
		s.Does = append(s.Does, "where "+w.text)
	}
	d.Schema = slices.Clone(in.schema)
	for i := range in.schema {
		d.Output = append(d.Output, i)
	}
	b.rememberSets(n.get("set"), place+".set", in, d, s, scope)
	s.windowed = false
	s.Keyed, s.Schema = d, d.Schema
}

// rememberSets adds the fields of set, each of which sees those before it.
func (b *builder) rememberSets(n *node, place string, in input, d *step.Remember, s *Step, scope expr.Scope) {
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, place, fmt.Sprintf("%s stands where a mapping belongs", n.kind), "write set: {name: expression}")
		return
	}
	for i, k := range n.keys {
		p := join(place, k.text)
		if !b.checkField(k, p, k.text) {
			continue
		}
		if scope.Locals.Index(k.text) >= 0 {
			b.fault(k, p, k.text+" is a name of what is remembered", "give the field a name of its own")
			continue
		}
		prog := b.expression(n.values[i], p, scope)
		if prog == nil {
			continue
		}
		f := row.Field{Name: k.text, Kind: prog.Kind()}
		at := len(in.schema) + len(d.Sets)
		d.Sets = append(d.Sets, prog)
		s.Does = append(s.Does, "set "+k.text+" = "+prog.Text())
		if c := d.Schema.Index(k.text); c >= 0 {
			d.Schema[c], d.Output[c] = f, at
			scope.Locals = append(scope.Locals, row.Field{}) // the field keeps its old value in expressions
		} else {
			d.Schema, d.Output = append(d.Schema, f), append(d.Output, at)
			scope.Locals = append(scope.Locals, f)
		}
	}
}

// quietly compiles an expression without reporting its faults.
func (b *builder) quietly(n *node, scope expr.Scope) *expr.Program {
	if n.kind != scalarNode {
		return nil
	}
	p, _ := expr.Compile(n.text, scope)
	return p
}
