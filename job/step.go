package job

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

var (
	statelessFields = []string{"where", "set", "without", "only"}
	windowFields    = []string{"key", "window", "measures", "late", "publish"}
	laterWindow     = []string{"having", "every", "repeat", "null_key"}
	laterSteps      = []string{"split", "first_only", "expand", "deduplicate", "remember", "forget", "order", "absent", "rank", "join", "lookup"}
	stepFields      = fieldSpec{
		known: slices.Concat([]string{"from"}, statelessFields, windowFields),
		later: slices.Concat(laterWindow, laterSteps),
	}
)

// readSteps builds the steps in an order in which each stands after what it reads.
func (b *builder) readSteps() {
	n := b.doc.get("steps")
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, "steps", fmt.Sprintf("%s stands where steps belong", n.kind), "write steps: {name: {from: …}}")
		return
	}
	type pending struct {
		k, v *node
		from string // the source or step that it reads
	}
	var left []pending
	for i, k := range n.keys {
		place := join("steps", k.text)
		_, isSource := b.sources[k.text]
		if !b.checkName(k, place) {
			continue
		}
		if isSource || b.broken[k.text] {
			b.fault(k, place, k.text+" is also a source", "sources and steps share one set of names; choose another")
			continue
		}
		b.broken[k.text] = true
		if !b.mapping(n.values[i], place, stepFields) {
			continue
		}
		from := n.values[i].get("from")
		if from == nil {
			b.fault(k, place+".from", "the step does not say what it reads", "add from: and a source or step")
			continue
		}
		if from.kind == listNode {
			b.fault(from, place+".from", "merging several inputs is not built yet", "name one source or step")
			continue
		}
		text, ok := b.text(from, place+".from")
		if !ok {
			continue
		}
		f := strings.Fields(text)
		if len(f) == 0 {
			b.fault(from, place+".from", "the step does not say what it reads", "name a source or step")
			continue
		}
		left = append(left, pending{k, n.values[i], f[len(f)-1]})
	}
	for len(left) > 0 {
		var next []pending
		waiting := map[string]bool{}
		for _, p := range left {
			waiting[p.k.text] = true
		}
		for _, p := range left {
			if waiting[p.from] {
				next = append(next, p)
				continue
			}
			b.step(p.k, p.v, join("steps", p.k.text))
		}
		if len(next) == len(left) {
			names := make([]string, len(next))
			for i, p := range next {
				names[i] = p.k.text
			}
			b.fault(next[0].k, join("steps", next[0].k.text), "steps read each other in a circle: "+strings.Join(names, ", "), "let one of them read a source")
			return
		}
		left = next
	}
}

// input is what a step or sink reads.
type input struct {
	ref    engine.Ref
	schema row.Schema
	timed  bool
	keyed  bool // rows come out of a windowed step
}

// from resolves a name or part; false, with a fault unless what it names is itself faulty.
func (b *builder) from(n *node, place string) (input, bool) {
	text, ok := b.text(n, place)
	if !ok {
		return input{}, false
	}
	words := strings.Fields(text)
	name := words[len(words)-1]
	part := engine.Main
	switch {
	case len(words) == 1:
	case len(words) == 3 && words[1] == "of" && words[0] == "late":
		part = engine.LatePart
	case len(words) == 3 && words[1] == "of" && words[0] == "rejects":
		part = engine.RejectPart
	case len(words) == 3 && words[1] == "of":
		b.fault(n, place, fmt.Sprintf("%s has no part %s; split is not built yet", name, words[0]), "read it whole, or late of, rejects of")
		return input{}, false
	default:
		b.fault(n, place, fmt.Sprintf("%q names nothing that can be read", text), "write a source, a step, late of STEP, rejects of STEP or rejects of SOURCE")
		return input{}, false
	}
	if i, ok := b.sources[name]; ok {
		s := &b.job.Sources[i]
		switch part {
		case engine.LatePart:
			b.fault(n, place, name+" is a source, and sources have no late rows", "write late of and a windowed step")
			return input{}, false
		case engine.RejectPart:
			return input{ref: engine.Ref{At: i, Part: part}, schema: engine.RejectSchema}, true
		}
		return input{ref: engine.Ref{At: i}, schema: s.Schema, timed: s.Timed()}, true
	}
	if i, ok := b.steps[name]; ok {
		s := &b.job.Steps[i]
		ref := engine.Ref{OfStep: true, At: i, Part: part}
		keyed := s.Window != nil || b.afterWindow(s.From)
		switch {
		case part == engine.RejectPart:
			return input{ref: ref, schema: engine.RejectSchema, keyed: keyed && s.Window == nil}, true
		case part == engine.LatePart && s.Window == nil:
			b.fault(n, place, name+" has no window, and so no late rows", "write late of and a windowed step")
			return input{}, false
		case part == engine.LatePart:
			return input{ref: ref, schema: s.Window.LateSchema(), timed: true, keyed: true}, true
		}
		return input{ref: ref, schema: s.Schema, timed: s.Timed, keyed: keyed}, true
	}
	if !b.broken[name] {
		known := append(sortedKeys(b.sources), sortedKeys(b.steps)...)
		for k := range b.broken {
			known = append(known, k)
		}
		slices.Sort(known)
		b.fault(n, place, "there is no source or step "+name, didYouMean(name, known))
	}
	return input{}, false
}

func (b *builder) afterWindow(r engine.Ref) bool {
	for r.OfStep {
		s := &b.job.Steps[r.At]
		if s.Window != nil {
			return r.Part != engine.RejectPart
		}
		r = s.From
	}
	return false
}

func (b *builder) step(k, n *node, place string) {
	in, ok := b.from(n.get("from"), place+".from")
	if !ok {
		b.shape(n, place) // what can be judged without the input
		return
	}
	windowed, stateless := "", ""
	for _, key := range n.keys {
		if slices.Contains(windowFields, key.text) || slices.Contains(laterWindow, key.text) {
			windowed = key.text
		}
		if slices.Contains(statelessFields, key.text) {
			stateless = key.text
		}
		if slices.Contains(laterSteps, key.text) {
			return // reported by mapping
		}
	}
	s := Step{Name: k.text, From: in.ref, FromText: strings.Join(strings.Fields(n.get("from").text), " ")}
	before := len(b.faults)
	switch {
	case windowed != "" && stateless != "":
		b.fault(n.get(stateless), join(place, stateless), fmt.Sprintf("%s and %s are of two kinds of step", stateless, windowed), "filter in a step of its own, and let this one read it")
		return
	case windowed != "":
		b.window(k, n, place, in, &s)
	case stateless != "":
		b.stateless(n, place, in, &s)
	default:
		b.fault(k, place, "the step does nothing", "add where, set, without, only, or key, window and measures")
		return
	}
	if len(b.faults) > before && len(s.Schema) == 0 {
		return
	}
	if s.Stateless == nil && s.Window == nil {
		return
	}
	delete(b.broken, k.text)
	b.steps[k.text] = len(b.job.Steps)
	b.job.Steps = append(b.job.Steps, s)
}

var identifier = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)

// stateless builds where, set, without and only.
func (b *builder) stateless(n *node, place string, in input, s *Step) {
	d := &step.Stateless{}
	s.Timed = in.timed
	scope := expr.Scope{Fields: in.schema, Values: b.job.Values}
	if w := n.get("where"); w != nil {
		d.Where = b.expression(w, place+".where", scope)
		s.Where = w.text
		b.wantBool(w, place+".where", d.Where)
	}
	fields := slices.Clone(in.schema) // input columns and set columns; a name that is set again is blank
	broken := b.sets(n.get("set"), place+".set", in, d, s, &fields)
	drop, dropAt := b.names(n.get("without"), place+".without")
	only, onlyAt := b.names(n.get("only"), place+".only")
	if n.get("without") != nil && n.get("only") != nil {
		b.fault(n.get("only"), place+".only", "without and only stand together", "keep one of them")
	}
	known := fields.Names()
	for i, name := range slices.Concat(drop, only) {
		if !slices.Contains(known, name) && !slices.Contains(broken, name) {
			where := slices.Concat(dropAt, onlyAt)[i]
			b.fault(where, place, "there is no field "+name, didYouMean(name, known))
		}
	}
	add := func(i int) {
		d.Output = append(d.Output, i)
		d.Schema = append(d.Schema, fields[i])
	}
	if len(only) > 0 {
		for _, name := range only {
			if i := fields.Index(name); i >= 0 {
				add(i)
			}
		}
	} else {
		for i, f := range fields {
			if f.Name != "" && !f.Hidden && !slices.Contains(drop, f.Name) {
				add(i)
			}
		}
	}
	if len(d.Schema) == 0 && len(broken) == 0 {
		b.fault(n, place, "no field is left", "keep at least one")
	}
	for i, f := range fields {
		if f.Hidden {
			add(i)
		}
	}
	s.Stateless, s.Schema = d, d.Schema
}

func (b *builder) wantBool(n *node, place string, p *expr.Program) {
	if p != nil && p.Kind() != row.Bool {
		b.fault(n, place, fmt.Sprintf("a condition is a bool, and this is a %s", p.Kind()), "compare it with something, such as "+strings.TrimSpace(n.text)+" > 0")
	}
}

// sets compiles the set expressions in the order in which they use each other; it gives the names
// whose expressions have faults.
func (b *builder) sets(n *node, place string, in input, d *step.Stateless, s *Step, fields *row.Schema) (broken []string) {
	if n == nil {
		return nil
	}
	if n.kind != mapNode {
		b.fault(n, place, fmt.Sprintf("%s stands where a mapping belongs", n.kind), "write set: {name: expression}")
		return nil
	}
	type pending struct {
		k, v *node
		uses map[string]bool
	}
	var left []pending
	isSet := map[string]bool{}
	for i, k := range n.keys {
		if v := n.values[i]; v.kind == nullNode && strings.ContainsAny(k.text, ")]'\"") {
			b.fault(k, place, fmt.Sprintf("%q stands where a name belongs: YAML has cut an unquoted expression at its comma", k.text), "put the expression before it in quotes")
			continue
		}
		if !b.checkField(k, join(place, k.text), k.text) {
			continue
		}
		p := pending{k: k, v: n.values[i], uses: map[string]bool{}}
		for _, w := range identifier.FindAllString(n.values[i].text, -1) {
			p.uses[w] = true
		}
		left = append(left, p)
		isSet[k.text] = true
	}
	scopeFields := slices.Clone(in.schema)
	for i, f := range scopeFields {
		if isSet[f.Name] {
			scopeFields[i].Name = ""
			(*fields)[i].Name = ""
		}
	}
	for len(left) > 0 {
		var next []pending
		for _, p := range left {
			wait := false
			for _, o := range left {
				wait = wait || p.uses[o.k.text]
			}
			if wait {
				next = append(next, p)
				continue
			}
			delete(isSet, p.k.text)
			usesBroken := slices.ContainsFunc(broken, func(name string) bool { return p.uses[name] })
			var prog *expr.Program
			if !usesBroken {
				prog = b.expression(p.v, join(place, p.k.text), expr.Scope{Fields: scopeFields, Values: b.job.Values})
			}
			if prog == nil {
				broken = append(broken, p.k.text)
				continue
			}
			f := row.Field{Name: p.k.text, Kind: prog.Kind()}
			d.Sets = append(d.Sets, prog)
			s.Sets = append(s.Sets, p.k.text+" = "+prog.Text())
			scopeFields = append(scopeFields, f)
			*fields = append(*fields, f)
		}
		if len(next) == len(left) {
			p := next[0]
			if len(next) == 1 || p.uses[p.k.text] {
				b.fault(p.k, join(place, p.k.text), p.k.text+" uses itself", "give the new value a name of its own, and drop the old one by without")
			} else {
				b.fault(p.k, join(place, p.k.text), p.k.text+" and "+next[1].k.text+" use each other", "let one of them use fields of the input only")
			}
			for _, p := range next {
				broken = append(broken, p.k.text)
			}
			return broken
		}
		left = next
	}
	return broken
}

// shape reads what a windowed step says apart from its input: window, late, publish.
func (b *builder) shape(n *node, place string) window.Tumbling {
	var kind window.Tumbling
	if w := n.get("window"); w != nil {
		kind = b.tumbling(w, place+".window")
	}
	if l := n.get("late"); l != nil {
		b.mapping(l, place+".late", fieldSpec{later: []string{"accept"}})
	}
	if p := n.get("publish"); p != nil {
		b.choice(p, place+".publish", []string{"settled"}, []string{"revised"})
	}
	return kind
}

// window builds a windowed step.
func (b *builder) window(k, n *node, place string, in input, s *Step) {
	d := &step.Window{Input: in.schema}
	if in.keyed {
		b.fault(n.get("from"), place+".from", "a window over rows of a windowed step is not built yet", "read the source or a filter of it")
	}
	d.Kind = b.shape(n, place)
	if w := n.get("window"); w == nil {
		b.fault(k, place+".window", "a step without a window is not built yet", "add window: {tumbling: 1m}")
	} else if !in.timed {
		b.fault(w, place+".window", "a window needs an event time, and the rows of "+s.FromText+" have none", "add event_time and watermark to the source")
	}
	keys, keyAt := b.names(n.get("key"), place+".key")
	for i, name := range keys {
		c := in.schema.Index(name)
		if c < 0 || in.schema[c].Hidden {
			b.fault(keyAt[i], place+".key", "there is no field "+name, didYouMean(name, in.schema.Names()))
			continue
		}
		d.Key = append(d.Key, c)
		s.Schema = append(s.Schema, in.schema[c])
	}
	s.Schema = append(s.Schema, row.Field{Name: "window_start", Kind: row.Timestamp}, row.Field{Name: "window_end", Kind: row.Timestamp})
	b.measures(n.get("measures"), place+".measures", k, in, d, s)
	d.Schema = s.Schema
	s.Window, s.Timed = d, true
}

func (b *builder) measures(n *node, place string, k *node, in input, d *step.Window, s *Step) {
	if n == nil {
		b.fault(k, place, "the step measures nothing", "add measures: {rows: count()}")
		return
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, place, fmt.Sprintf("%s stands where measures belong", n.kind), "write measures: {rows: count()}")
		return
	}
	scope := expr.Scope{Fields: in.schema, Values: b.job.Values, Measure: true}
	for i, k := range n.keys {
		p := join(place, k.text)
		v := n.values[i]
		if v.kind == mapNode && v.get("fold") != nil {
			b.fault(v, p, "fold is not built yet", "built: "+strings.Join(expr.AggregateNames, ", "))
			continue
		}
		if v.kind == nullNode && strings.ContainsAny(k.text, ")]'\"") {
			b.fault(k, place, fmt.Sprintf("%q stands where a name belongs: YAML has cut an unquoted expression at its comma", k.text), "put the expression before it in quotes")
			continue
		}
		if !b.checkField(k, p, k.text) {
			continue
		}
		if s.Schema.Index(k.text) >= 0 {
			b.fault(k, p, k.text+" is already a field of the row", "choose another name")
			continue
		}
		prog := b.expression(v, p, scope)
		if prog == nil {
			// what reads the step may name the measure: keep the name, with some kind
			continue
		}
		first := len(d.Aggregates)
		for _, a := range prog.Aggregates {
			d.Aggregates = append(d.Aggregates, step.NewAggregate(a))
		}
		d.Measures = append(d.Measures, prog.Shift(first))
		s.Measures = append(s.Measures, k.text+" = "+prog.Text())
		s.Schema = append(s.Schema, row.Field{Name: k.text, Kind: prog.Kind()})
	}
}

func (b *builder) tumbling(n *node, place string) window.Tumbling {
	var w window.Tumbling
	later := []string{"sliding", "by", "session", "longest", "look_back", "zone"}
	if !b.mapping(n, place, fieldSpec{known: []string{"tumbling", "shift"}, later: later}) {
		return w
	}
	size := n.get("tumbling")
	if size == nil {
		if !slices.ContainsFunc(n.keys, func(k *node) bool { return slices.Contains(later, k.text) }) {
			b.fault(n, place, "the size is missing", "write {tumbling: 1m}")
		}
		return w
	}
	if d, ok := b.duration(size, place+".tumbling", false); ok {
		w.Size = d
		for _, days := range []time.Duration{30, 90, 365} {
			if d == days*24*time.Hour {
				b.warn(size, place+".tumbling", fmt.Sprintf("%dd is a fixed length; is a calendar size meant?", int(days)), "calendar sizes are not built yet")
			}
		}
	}
	if v := n.get("shift"); v != nil {
		if d, ok := b.duration(v, place+".shift", true); ok {
			w.Shift = d
			if w.Size > 0 && d >= w.Size {
				b.fault(v, place+".shift", fmt.Sprintf("the shift %s is not shorter than the size %s", v.text, size.text), "give less than "+size.text)
			}
		}
	}
	return w
}
