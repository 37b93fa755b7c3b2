package job

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// lookup is what `lookup` says.
type lookup struct {
	in      int // of Job.References
	match   []int
	names   []string // of match
	fields  []int    // of the reference
	columns []string // their names there
	adds    row.Schema
	missing string
	asOf    string
}

// lookupOf reads `lookup`; missing are the choices for rows that are not found.
func (b *builder) lookupOf(v *node, place string, in input, missing []string) (l lookup, ok bool) {
	if !b.mapping(v, place, fieldSpec{known: []string{"reference", "match", "add", "missing", "as_of"}}) {
		return l, false
	}
	ref := v.get("reference")
	if ref == nil {
		b.fault(v, place+".reference", "what rows are looked up in is not said", "add reference: and a name of references:")
		return l, false
	}
	if l.in, ok = b.referenceNamed(ref, place+".reference"); !ok {
		return l, false
	}
	r := &b.job.References[l.in]
	matches := b.lookupMatch(v, place, in, r, &l)
	adds := b.lookupAdd(v, place, in, r, &l)
	l.missing = "keep"
	if m := v.get("missing"); m != nil {
		l.missing = b.choice(m, place+".missing", missing, nil)
	}
	l.asOf = "latest"
	if a := v.get("as_of"); a != nil {
		l.asOf = b.choice(a, place+".as_of", []string{"latest", "event_time"}, nil)
	}
	return l, matches && adds
}

// lookupMatch reads `match`: {field of the row: key field of the reference}, or a list of names that both have.
func (b *builder) lookupMatch(v *node, p string, in input, r *Reference, l *lookup) bool {
	m, place := v.get("match"), p+".match"
	keys := r.KeyNames()
	remedy := fmt.Sprintf("write match: {field of %s: %s}", in.text, keys[0])
	if m == nil || m.kind != mapNode && m.kind != listNode || len(m.values) == 0 {
		at := m
		if at == nil {
			at = v
		}
		b.fault(at, place, "what must be equal is not said", remedy)
		return false
	}
	l.match, l.names = make([]int, len(keys)), make([]string, len(keys))
	given := make([]bool, len(keys))
	ok := true
	for i, right := range m.values {
		left := right
		if m.kind == mapNode {
			left = m.keys[i]
		}
		name, fine := b.text(left, join(place, left.text))
		of, fine2 := b.text(right, join(place, left.text))
		if !fine || !fine2 {
			return false
		}
		c, k := in.schema.Index(name), slices.Index(keys, of)
		switch {
		case c < 0 || in.schema[c].Hidden:
			b.fault(left, join(place, left.text), fmt.Sprintf("%s has no field %s", in.text, name), b.didYouMean(name, in.schema.Names()))
		case k < 0:
			b.fault(right, join(place, left.text), fmt.Sprintf("%s is not a key field of %s", of, r.Name), b.didYouMean(of, keys))
		case given[k]:
			b.fault(right, join(place, left.text), of+" is matched twice", "name each key field once")
		case in.schema[c].Kind != r.Schema[r.Key[k]].Kind:
			b.fault(left, join(place, left.text), fmt.Sprintf("%s is %s, and %s of %s %s: they are never equal", name, row.A(in.schema[c].Kind), of, r.Name, row.A(r.Schema[r.Key[k]].Kind)), "bring them to one type before, with set, or by the type of the reference's field")
		default:
			l.match[k], l.names[k], given[k] = c, name, true
			continue
		}
		ok = false
	}
	if at := slices.Index(given, false); ok && at >= 0 {
		b.fault(m, place, fmt.Sprintf("the key of %s has also %s", r.Name, keys[at]), "match all its key fields: "+strings.Join(keys, ", "))
		return false
	}
	return ok
}

// lookupAdd reads `add`: {name: column}, or a list of columns that keep their names.
func (b *builder) lookupAdd(v *node, p string, in input, r *Reference, l *lookup) bool {
	a, place := v.get("add"), p+".add"
	var rest []string
	for i, f := range r.Schema {
		if !slices.Contains(r.Key, i) {
			rest = append(rest, f.Name)
		}
	}
	if a == nil || a.kind != mapNode && a.kind != listNode || len(a.values) == 0 {
		at := a
		if at == nil {
			at = v
		}
		b.fault(at, place, "which columns are added is not said", fmt.Sprintf("add: and names, of %s: %s", r.Name, strings.Join(rest, ", ")))
		return false
	}
	ok := true
	for i, x := range a.values {
		k := x
		if a.kind == mapNode {
			k = a.keys[i]
		}
		column, fine := b.text(x, join(place, k.text))
		if !fine || !b.checkField(k, join(place, k.text), k.text) {
			return false
		}
		c := r.Schema.Index(column)
		switch {
		case c < 0:
			b.fault(x, join(place, k.text), fmt.Sprintf("%s has no column %s", r.Name, column), b.didYouMean(column, r.Schema.Names()))
		case in.schema.Index(k.text) >= 0 || l.adds.Index(k.text) >= 0:
			b.fault(k, join(place, k.text), fmt.Sprintf("there is a field %s already", k.text), fmt.Sprintf("give it another name: {%s_%s: %s}", r.Name, column, column))
		default:
			l.fields, l.columns = append(l.fields, c), append(l.columns, column)
			l.adds = append(l.adds, row.Field{Name: k.text, Kind: r.Schema[c].Kind})
			continue
		}
		ok = false
	}
	return ok
}

// lookupStep builds a step that looks rows up; where, set, without and only see the result.
func (b *builder) lookupStep(n *node, place string, in input, s *Step) {
	v := n.get("lookup")
	l, ok := b.lookupOf(v, place+".lookup", in, []string{"keep", "drop", "reject"})
	if !ok {
		return
	}
	r := &b.job.References[l.in]
	keys := r.KeyNames()
	s.Does = append(s.Does, lookupTexts(&l, in.text, r.Name, keys)...)
	missing := map[string]step.Unfound{"keep": step.KeepUnfound, "drop": step.DropUnfound, "reject": step.RejectUnfound}[l.missing]
	d := &step.Lookup{Reference: r.Name, Match: l.match, Names: l.names, Fields: l.fields, Adds: l.adds, Key: r.Key, Missing: missing}
	s.Looks = append(s.Looks, l.in)
	if l.asOf == "event_time" {
		b.asOf(n, place, in, s, &l, missing)
		return
	}
	wide := in
	wide.schema = append(slices.Clone(in.schema), l.adds...)
	b.stateless(n, place, wide, s)
	if s.Stateless != nil {
		s.Stateless.Lookup = d
	}
}

// asOf builds a lookup as of event time: the reference is read as a source, and its rows come to the step beside the others
// (docs/time.md, "Lookup as of event time").
func (b *builder) asOf(n *node, place string, in input, s *Step, l *lookup, missing step.Unfound) {
	v, p := n.get("lookup"), place+".lookup"
	r := &b.job.References[l.in]
	b.needTime(v, p, "a lookup as of event time", in)
	switch {
	case r.Of != nil:
		b.fault(v.get("as_of"), p+".as_of", r.Name+" is made of other references, which have no times", fmt.Sprintf("look up in %s, and in a step behind it in %s", b.job.References[r.Of.From].Name, b.job.References[r.Of.In].Name))
		return
	case !r.Timed():
		b.fault(v.get("as_of"), p+".as_of", "rows of "+r.Name+" do not say from when on they hold", "add event_time: and watermark: to the reference")
		return
	case in.several:
		b.fault(n.get("from"), place+".from", fmt.Sprintf("%s may publish several rows for one key and window (%s), and this step would let each wait", in.text, in.how), "read a step that publishes settled rows, without accept, revised and repeat")
	}
	if r.AsOf < 0 {
		r.AsOf = len(b.job.Sources)
		b.job.Sources = append(b.job.Sources, r.Source)
	}
	d := &step.AsOf{Reference: r.Name, Missing: missing, Keep: r.Keep, Limit: r.Limit}
	var columns [2][]int // by field of the result
	for _, c := range in.schema.Visible() {
		f, of := in.schema[c], -1
		if at := slices.Index(l.match, c); at >= 0 {
			of = r.Key[at]
		}
		s.Input = append(s.Input[:d.Fields:d.Fields], row.Field{Name: f.Name, Kind: f.Kind})
		columns[step.LeftSide], columns[step.RightSide] = append(columns[step.LeftSide], c), append(columns[step.RightSide], of)
		d.Fields++
	}
	for i, f := range l.adds {
		s.Input = append(s.Input, f)
		columns[step.LeftSide], columns[step.RightSide] = append(columns[step.LeftSide], -1), append(columns[step.RightSide], l.fields[i])
	}
	result := s.Input
	s.Input = append(s.Input[:len(s.Input):len(s.Input)], step.SideField)
	for _, c := range l.match {
		d.Keys.Key = append(d.Keys.Key, slices.Index(columns[step.LeftSide], c))
	}
	d.Keys.Input, d.Keys.KeepNull = s.Input, true
	s.From = nil
	for _, x := range in.from {
		s.From = append(s.From, asSide(x, step.LeftSide, columns[step.LeftSide], s.Input))
	}
	s.From = append(s.From, asSide(engine.Read(engine.Ref{At: r.AsOf})[0], step.RightSide, columns[step.RightSide], s.Input))
	s.unbounded = s.unbounded || r.Unbounded()
	s.Does = append(s.Does, "as "+r.Name+" held at the time of each row")
	s.Schema = result
	b.then(n, place, in.text, &d.Then, s)
	s.Keyed = d
}

// then builds what stands beside a join or lookup and sees its result: where, set, without, only.
func (b *builder) then(n *node, place, text string, to **step.Stateless, s *Step) {
	if !slices.ContainsFunc([]string{"where", "set", "without", "only"}, func(field string) bool { return n.get(field) != nil }) {
		return
	}
	then := Step{}
	b.stateless(n, place, input{text: text, schema: s.Schema}, &then)
	if then.Stateless != nil {
		*to, s.Schema = then.Stateless, then.Schema
	}
	s.Does = append(s.Does, then.Does...)
}

// sided says whether rows come to a step as those of sides.
func sided(k step.Keyed) bool {
	switch k.(type) {
	case *step.Join, *step.AsOf:
		return true
	}
	return false
}

// IsReference says whether a source is a reference that is looked up in as of event time.
func (j *Job) IsReference(source int) bool {
	return slices.ContainsFunc(j.References, func(r Reference) bool { return r.AsOf == source })
}

// KeyNames gives the names of its key fields.
func (r *Reference) KeyNames() (out []string) {
	for _, k := range r.Key {
		out = append(out, r.Schema[k].Name)
	}
	return out
}
