package job

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// joinSides gives the nodes that name what a join reads.
func joinSides(n *node) (out []*node) {
	for _, side := range step.Sides {
		if v := n.get("join").get(side); v != nil {
			out = append(out, inputsOf(v)...)
		}
	}
	return out
}

// join builds a join (docs/time.md, "Join").
func (b *builder) join(k, n *node, place string) {
	v, p := n.get("join"), place+".join"
	if from := n.get("from"); from != nil {
		b.fault(from, place+".from", "a join reads its left and right", "leave from out, and name them in join: {left: A, right: B}")
	}
	if !b.mapping(v, p, fieldSpec{known: []string{"left", "right", "match", "within", "window", "kind", "accept"}}) {
		return
	}
	var sides [2]input
	for i, side := range step.Sides {
		x := v.get(side)
		if x == nil {
			b.fault(v, p+"."+side, "the "+side+" side is missing", "add "+side+": and a source or step")
			return
		}
		in, ok := b.inputs(x, p+"."+side)
		if !ok {
			return
		}
		if in.several {
			b.fault(x, p+"."+side, fmt.Sprintf("%s may publish several rows for one key and window (%s), and each would be paired", in.text, in.how), "read a step that publishes settled rows, without accept, revised and repeat")
		}
		b.needTime(x, p+"."+side, "join", in)
		sides[i] = in
	}
	pairs, ok := b.matches(v, p, sides)
	if !ok {
		return
	}
	d := &step.Join{}
	s := Step{Name: k.text, Kind: "join", FromText: sides[0].text + ", " + sides[1].text, Timed: true, unbounded: sides[0].unbounded || sides[1].unbounded}
	b.joined(v, p, d, &s, sides, pairs)
	b.joinBounds(v, p, d, sides, pairs)
	b.joinKind(v, p, d)
	s.Schema = s.Input[:len(d.Of):len(d.Of)]
	s.Does = append(joinDoes(d, sides, pairs), s.Does...)
	b.then(n, place, k.text, &d.Then, &s)
	s.Keyed = d
	delete(b.broken, k.text)
	b.steps[k.text] = len(b.job.Steps)
	b.job.Steps = append(b.job.Steps, s)
}

// matched are two fields that must be equal, by side their columns.
type matched [2]int

// matches reads `match`: {left field: right field}, or a list of fields that both sides have.
func (b *builder) matches(v *node, p string, sides [2]input) (out []matched, ok bool) {
	m, place := v.get("match"), p+".match"
	const remedy = "write match: {field of the left: field of the right}"
	if m == nil {
		b.fault(v, place, "what must be equal is not said", remedy)
		return nil, false
	}
	if m.kind != mapNode && m.kind != listNode || len(m.values) == 0 {
		b.fault(m, place, "what must be equal is not said", remedy)
		return nil, false
	}
	ok = true
	for i, r := range m.values {
		l := r
		if m.kind == mapNode {
			l = m.keys[i]
		}
		x := matched{-1, -1}
		for side, n := range []*node{l, r} {
			name, is := b.text(n, join(place, l.text))
			if !is {
				return nil, false
			}
			schema := sides[side].schema
			switch c := schema.Index(name); {
			case c < 0 || schema[c].Hidden:
				b.fault(n, join(place, l.text), fmt.Sprintf("%s has no field %s", sides[side].text, name), b.didYouMean(name, schema.Names()))
				ok = false
			case !schema[c].Kind.Plain():
				b.fault(n, join(place, l.text), fmt.Sprintf("%s of %s is %s, which cannot be matched", name, sides[side].text, row.A(schema[c].Kind)), "take a field of a plain type")
				ok = false
			default:
				x[side] = c
			}
		}
		if slices.Contains(x[:], -1) {
			continue
		}
		left, right := sides[0].schema[x[0]], sides[1].schema[x[1]]
		if left.Kind != right.Kind {
			b.fault(l, join(place, l.text), fmt.Sprintf("%s of %s is %s, and %s of %s %s: they are never equal", left.Name, sides[0].text, row.A(left.Kind), right.Name, sides[1].text, row.A(right.Kind)),
				"bring them to one type before, with set")
			ok = false
			continue
		}
		if left.Kind == row.Double {
			b.warn(l, join(place, l.text), fmt.Sprintf("%s is a double: rows match only where it is the same to the last bit", left.Name), "match a decimal, an int or a string")
		}
		if slices.ContainsFunc(out, func(o matched) bool { return o[0] == x[0] || o[1] == x[1] }) {
			b.fault(l, join(place, l.text), l.text+" is matched twice", "name each field once")
			ok = false
		}
		out = append(out, x)
	}
	return out, ok
}

// joined works out the fields of the result, and how the rows of each side become rows of it: the fields of the left, then
// those of the right without what matched.
func (b *builder) joined(v *node, p string, d *step.Join, s *Step, sides [2]input, pairs []matched) {
	var columns [2][]int // by field of the result: the side's column, or -1
	add := func(f row.Field, left, right int) {
		s.Input = append(s.Input, row.Field{Name: f.Name, Kind: f.Kind})
		of := step.SideSet(0)
		for side, c := range []int{left, right} {
			if columns[side] = append(columns[side], c); c >= 0 {
				of |= 1 << side
			}
		}
		d.Of = append(d.Of, of)
	}
	both := func(name string) bool {
		for side := range sides {
			c := sides[side].schema.Index(name)
			if c < 0 || sides[side].schema[c].Hidden || slices.ContainsFunc(pairs, func(m matched) bool { return side == step.RightSide && m[side] == c }) {
				return false
			}
		}
		return true
	}
	named := func(side int, name string) string {
		in := sides[side].text
		if !fieldName(in) || in == sides[1-side].text {
			in = step.Sides[side]
		}
		return in + "_" + name
	}
	var renamed []string
	for side := range sides {
		for _, c := range sides[side].schema.Visible() {
			f := sides[side].schema[c]
			at := slices.IndexFunc(pairs, func(m matched) bool { return m[side] == c })
			switch {
			case at >= 0 && side == step.RightSide:
				continue
			case at >= 0:
				d.Keys.Key = append(d.Keys.Key, len(s.Input))
				add(f, c, pairs[at][step.RightSide])
				continue
			case both(f.Name):
				renamed = append(renamed, fmt.Sprintf("%s of %s is %s", f.Name, sides[side].text, named(side, f.Name)))
				f.Name = named(side, f.Name)
			}
			if side == step.LeftSide {
				add(f, c, -1)
			} else {
				add(f, -1, c)
			}
		}
	}
	seen := map[string]bool{"side": true} // a field of late rows
	for _, f := range s.Input {
		if seen[f.Name] {
			b.fault(v, p, fmt.Sprintf("the result would have two fields %s", f.Name), "rename one of them before, with set and without")
		}
		seen[f.Name] = true
	}
	if len(renamed) > 0 {
		s.Does = append(s.Does, strings.Join(renamed, ", ")+": both sides have the name")
	}
	s.Input = append(s.Input, step.SideField)
	d.Keys.Input, d.Keys.KeepNull = s.Input, true
	for side := range sides {
		for _, in := range sides[side].from {
			s.From = append(s.From, asSide(in, side, columns[side], s.Input))
		}
	}
}

// asSide gives the input whose rows come as those of a side of a join.
func asSide(in engine.Input, side int, columns []int, schema row.Schema) engine.Input {
	out := engine.Input{Ref: in.Ref, Columns: make([]int, len(schema)), Fill: make([]*row.Column, len(schema))}
	for i, f := range schema {
		switch {
		case i == len(columns):
			out.Columns[i], out.Fill[i] = -1, row.Same(step.Sides[side])
		case columns[i] < 0:
			out.Columns[i], out.Fill[i] = -1, row.Nulls(f.Kind)
		case in.Columns != nil:
			out.Columns[i] = in.Columns[columns[i]]
		default:
			out.Columns[i] = columns[i]
		}
	}
	return out
}

// joinBounds reads `within`, `window` and `accept`.
func (b *builder) joinBounds(v *node, p string, d *step.Join, sides [2]input, pairs []matched) {
	within, w := v.get("within"), v.get("window")
	switch {
	case within != nil && w != nil:
		b.fault(w, p+".window", "within and window stand together", "keep one of them")
	case w != nil:
		var of step.Window
		b.windowKind(w, p+".window", &of)
		if d.Window = of.Aligned; of.Session != nil || of.LookBack > 0 {
			b.fault(w, p+".window", "rows are paired that share a tumbling or sliding window", "write {tumbling: 10s}, or within: 10s in place of window")
		}
	case within == nil:
		b.fault(v, p+".within", "how far apart two partners may be is not said: without it every row would be kept for ever",
			fmt.Sprintf("add within: 10s, or within: [-1m, 10m] for a row of %s from one minute before to ten minutes after", sides[1].text))
	case within.kind == listNode:
		if len(within.values) != 2 {
			b.fault(within, p+".within", "within has the least and the greatest distance", "write within: [-1m, 10m]")
			return
		}
		var ok, fine bool
		d.From, ok = b.distance(within.values[0], p+".within[0]")
		d.To, fine = b.distance(within.values[1], p+".within[1]")
		if ok && fine && d.From > d.To {
			b.fault(within, p+".within", "no distance is both", fmt.Sprintf("write the lesser one first: [%s, %s]", within.values[1].text, within.values[0].text))
		}
	default:
		if x, ok := b.duration(within, p+".within", true); ok {
			d.From, d.To = -x, x
		}
	}
	if a := v.get("accept"); a != nil {
		if x, ok := b.duration(a, p+".accept", true); ok {
			d.Accept = x
		}
	}
}

// distance reads a time from a row of the left to one of the right, which may be negative.
func (b *builder) distance(n *node, place string) (time.Duration, bool) {
	if n.kind != scalarNode || !strings.HasPrefix(n.text, "-") {
		return b.duration(n, place, true)
	}
	later := *n
	later.text = n.text[1:]
	x, ok := b.duration(&later, place, true)
	return -x, ok
}

// joinKind reads `kind`.
func (b *builder) joinKind(v *node, p string, d *step.Join) {
	kind := "inner"
	if k := v.get("kind"); k != nil {
		kind = b.choice(k, p+".kind", []string{"inner", "left", "outer"}, nil)
	}
	d.Unmatched = [2]bool{kind == "left" || kind == "outer", kind == "outer"}
}

// joinDoes words what a join does.
func joinDoes(d *step.Join, sides [2]input, pairs []matched) (out []string) {
	left, right := sides[0], sides[1]
	var equal []string
	for _, m := range pairs {
		equal = append(equal, fmt.Sprintf("%s = %s", left.schema[m[0]].Name, right.schema[m[1]].Name))
	}
	text := fmt.Sprintf("pairs of %s and %s with %s", left.text, right.text, strings.Join(equal, " and "))
	if d.Window != nil {
		text += " that share a window"
	} else {
		text += ": " + borderText(d, left.text, right.text)
	}
	out = append(out, text)
	for side, on := range d.Unmatched {
		if on {
			out = append(out, fmt.Sprintf("rows of %s that meet none, once, with nulls", sides[side].text))
		}
	}
	return out
}

// borderText words how far apart two partners may be.
func borderText(d *step.Join, left, right string) string {
	after := func(x time.Duration) string {
		switch {
		case x < 0:
			return row.DurationText(-x) + " before"
		case x > 0:
			return row.DurationText(x) + " after"
		}
		return "at the time of"
	}
	switch {
	case d.From == -d.To && d.To > 0:
		return fmt.Sprintf("at most %s apart; at just %s they are partners still", row.DurationText(d.To), row.DurationText(d.To))
	case d.From == d.To:
		return fmt.Sprintf("%s comes %s %s", right, after(d.From), left)
	case d.From >= 0:
		return fmt.Sprintf("%s comes from %s to %s after %s, both included", right, row.DurationText(d.From), row.DurationText(d.To), left)
	case d.To <= 0:
		return fmt.Sprintf("%s comes from %s to %s before %s, both included", right, row.DurationText(-d.To), row.DurationText(-d.From), left)
	}
	return fmt.Sprintf("%s comes from %s to %s %s, both included", right, after(d.From), after(d.To), left)
}
