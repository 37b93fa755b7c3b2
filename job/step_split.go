package job

import (
	"fmt"
	"slices"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// split builds a split.
func (b *builder) split(n *node, place string, in input, s *Step) {
	d := &step.Split{FirstOnly: b.boolean(n.get("first_only"), place+".first_only")}
	if d.FirstOnly {
		s.Does = append(s.Does, "to the first part that fits")
	}
	parts := n.get("split")
	place += ".split"
	if parts.kind != mapNode || len(parts.keys) == 0 {
		b.fault(parts, place, fmt.Sprintf("%s stands where parts belong", parts.kind), "write split: {good: code == 200, bad: code >= 400}")
		return
	}
	for i, k := range parts.keys {
		p := join(place, k.text)
		if !b.checkName(k, p) {
			continue
		}
		prog := b.expression(parts.values[i], p, expr.Scope{Fields: in.schema, Values: b.job.Values})
		b.wantBool(parts.values[i], p, prog)
		if prog == nil || prog.Kind() != row.Bool {
			continue
		}
		d.Names, d.Parts = append(d.Names, k.text), append(d.Parts, prog)
		s.Does = append(s.Does, k.text+" when "+prog.Text())
	}
	if len(d.Names) > 200 {
		b.fault(parts, place, "a split has at most 200 parts", "split again in a second step")
		return
	}
	if len(d.Names) == len(parts.keys) {
		s.Split, s.Schema = d, in.schema
	}
}

// expand builds an expand: the element takes the place of a field of its name, or stands last.
func (b *builder) expand(n *node, place string, in input, s *Step) {
	e := n.get("expand")
	place += ".expand"
	if e.kind != mapNode || len(e.keys) != 1 {
		b.fault(e, place, "an expand makes one field", "write expand: {item: items}")
		return
	}
	k := e.keys[0]
	p := join(place, k.text)
	if !b.checkField(k, p, k.text) {
		return
	}
	prog := b.expression(e.values[0], p, expr.Scope{Fields: in.schema, Values: b.job.Values})
	if prog == nil {
		return
	}
	if !prog.Kind().IsList() && !prog.Kind().IsCommon() {
		b.fault(e.values[0], p, fmt.Sprintf("an expand takes a list, and this is %s", row.A(prog.Kind())), "name a field of type list<T>")
		return
	}
	d := &step.Expand{List: prog, Replaces: in.schema.Index(k.text), Schema: slices.Clone(in.schema)}
	f := row.Field{Name: k.text, Kind: prog.Kind().Elem()}
	if d.Replaces >= 0 {
		d.Schema[d.Replaces] = f
	} else {
		d.Schema = append(d.Schema, f)
	}
	s.Does = append(s.Does, "a row with "+k.text+" for each element of "+prog.Text())
	s.Expand, s.Schema = d, d.Schema
}
