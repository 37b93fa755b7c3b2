package job

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// stepKind is one kind of step with the fields that it may have. The first field that a step has of
// those that tell decides its kind.
type stepKind struct {
	name  string
	tells []string
	may   []string
}

// keyed says whether steps of the kind keep something.
func (k *stepKind) keyed() bool {
	return k.name != "split" && k.name != "expand" && k.name != "lookup" && k.name != "filter and compute"
}

var stepKinds = []stepKind{
	{"split", []string{"split"}, []string{"first_only"}},
	{"expand", []string{"expand"}, nil},
	{"deduplicate", []string{"deduplicate"}, []string{"null_key"}},
	{"remember", []string{"remember"}, []string{"key", "forget", "order", "where", "set", "null_key"}},
	{"absent", []string{"absent"}, []string{"key", "null_key"}},
	{"rank", []string{"rank"}, nil},
	{"join", []string{"join"}, []string{"where", "set", "without", "only"}},
	{"lookup", []string{"lookup"}, []string{"where", "set", "without", "only"}},
	{"window", []string{"measures", "window", "publish", "late", "having", "repeat"}, []string{"key", "every", "forget", "null_key"}},
	{"filter and compute", []string{"where", "set", "without", "only"}, nil},
}

var stepFields = func() fieldSpec {
	s := fieldSpec{known: []string{"from", "levels"}}
	for _, k := range stepKinds {
		for _, f := range slices.Concat(k.tells, k.may) {
			if !slices.Contains(s.known, f) {
				s.known = append(s.known, f)
			}
		}
	}
	return s
}()

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
	var all []pending
	for i, k := range n.keys {
		place := join("steps", k.text)
		_, isSource := b.sources[k.text]
		_, isReference := b.references[k.text]
		if !b.checkName(k, place) {
			continue
		}
		if isSource || isReference || b.broken[k.text] {
			what := "source"
			if isReference {
				what = "reference"
			}
			b.fault(k, place, k.text+" is also a "+what, "sources, references and steps share one set of names; choose another")
			continue
		}
		b.broken[k.text] = true
		if !b.mapping(n.values[i], place, stepFields) {
			continue
		}
		var from []*node
		switch v := n.values[i]; {
		case v.get("join") != nil:
			from = joinSides(v)
		case v.get("from") != nil:
			from = inputsOf(v.get("from"))
		default:
			b.fault(k, place+".from", "the step does not say what it reads", "add from: and a source or step")
			continue
		}
		p := pending{k: k, v: n.values[i]}
		for _, x := range from {
			if f := strings.Fields(x.text); len(f) > 0 {
				p.from = append(p.from, f[len(f)-1])
			}
		}
		all = append(all, p)
	}
	ordered, circle := inOrder(all)
	for _, p := range ordered {
		if b.ctx.Err() != nil {
			return
		}
		place := join("steps", p.k.text)
		b.step(p.k, p.v, place)
		if i, built := b.steps[p.k.text]; built {
			b.levels(p.v.get("levels"), place+".levels", &b.job.Steps[i])
		}
	}
	if len(circle) > 0 {
		b.fault(circle[0].k, join("steps", circle[0].k.text), "steps read each other in a circle: "+namesOfPending(circle), "let one of them read a source")
	}
}

// pending is a step, or a computed field, that was found and is not read yet.
type pending struct {
	k, v *node
	from []string // the names that it reads: of its like, or others
}

// inOrder puts each behind those that it reads: first all that read none of the rest, then all that read only these, and
// so on, each in the document's order. circle are those that wait for each other.
func inOrder(all []pending) (ordered, circle []pending) {
	at := map[string]int{}
	for i, p := range all {
		at[p.k.text] = i
	}
	readers := make([][]int, len(all)) // of a step, by its place in all
	waits := make([]int, len(all))     // for so many
	var ready []int
	for i, p := range all {
		for _, from := range p.from {
			if of, isStep := at[from]; isStep {
				readers[of] = append(readers[of], i)
				waits[i]++
			}
		}
		if waits[i] == 0 {
			ready = append(ready, i)
		}
	}
	for len(ready) > 0 {
		var next []int
		for _, i := range ready {
			ordered = append(ordered, all[i])
			for _, r := range readers[i] {
				if waits[r]--; waits[r] == 0 {
					next = append(next, r)
				}
			}
		}
		slices.Sort(next)
		ready = next
	}
	for i, p := range all {
		if waits[i] > 0 {
			circle = append(circle, p)
		}
	}
	return ordered, circle
}

func namesOfPending(list []pending) string {
	var names []string
	for _, p := range list {
		names = append(names, p.k.text)
	}
	return strings.Join(names, ", ")
}

// input is what a step or sink reads.
type input struct {
	from   []engine.Input
	text   string
	schema row.Schema
	timed  bool
	// several: there may be several rows for one key and window; how says by what.
	several bool
	how     string
	// windowed: rows are those of windows, and come as they close; overlap: of windows that overlap.
	windowed, overlap bool
	unbounded         bool
	means             []string // fields that are means
	identity          []string // the fields that tell rows apart; nil where nothing does
}

func inputsOf(n *node) []*node {
	if n.kind == listNode {
		return n.values
	}
	return []*node{n}
}

// inputs resolves `from`: one name or part, or several that are merged.
func (b *builder) inputs(n *node, place string) (input, bool) {
	list := inputsOf(n)
	if len(list) == 0 {
		b.fault(n, place, "the list of inputs is empty", "name a source, step or output")
		return input{}, false
	}
	var out input
	ok := true
	seen := map[engine.Ref]bool{}
	for i, x := range list {
		p := place
		if len(list) > 1 {
			p = fmt.Sprintf("%s[%d]", place, i)
		}
		in, found := b.from(x, p)
		if !found {
			ok = false
			continue
		}
		if seen[in.from[0].Ref] {
			b.fault(x, p, in.text+" stands twice", "keep one of them")
			ok = false
			continue
		}
		seen[in.from[0].Ref] = true
		if out.from == nil {
			out = in
			if len(list) > 1 { // hidden fields belong to one source
				out.from[0].Columns = in.schema.Visible()
				out.schema = in.schema.Only(out.from[0].Columns)
			}
			continue
		}
		columns, fault := agree(out.schema, in.schema)
		if fault != "" {
			b.fault(x, p, fmt.Sprintf("%s cannot be merged with %s: %s", in.text, inputsText(list[:i]), fault), "bring them to the same fields first, with set, without and only")
			ok = false
			continue
		}
		out.from = append(out.from, engine.Input{Ref: in.from[0].Ref, Columns: columns})
		out.text += ", " + in.text
		out.timed = out.timed && in.timed
		out.several = out.several || in.several
		out.how += in.how
		out.windowed = out.windowed && in.windowed
		out.overlap = out.overlap || in.overlap
		if !slices.Equal(out.identity, in.identity) {
			out.identity = nil
		}
		out.means = append(out.means, in.means...)
		out.unbounded = out.unbounded || in.unbounded
	}
	return out, ok && out.from != nil
}

func inputsText(list []*node) string {
	names := make([]string, len(list))
	for i, n := range list {
		names[i] = strings.Join(strings.Fields(n.text), " ")
	}
	return strings.Join(names, ", ")
}

// agree gives, for each field of want, the column of the same field in got; or what is in the way.
func agree(want, got row.Schema) (columns []int, fault string) {
	for _, f := range want {
		i := got.Index(f.Name)
		switch {
		case i < 0 || got[i].Hidden:
			return nil, "it has no field " + f.Name
		case got[i].Kind != f.Kind:
			return nil, fmt.Sprintf("its %s is %s and not %s", f.Name, row.A(got[i].Kind), row.A(f.Kind))
		}
		columns = append(columns, i)
	}
	for _, i := range got.Visible() {
		if want.Index(got[i].Name) < 0 {
			return nil, "it has a field " + got[i].Name + " more"
		}
	}
	return columns, ""
}

// from resolves a name or part; false, with a fault unless what it names is itself faulty.
func (b *builder) from(n *node, place string) (input, bool) {
	text, ok := b.text(n, place)
	if !ok {
		return input{}, false
	}
	words := strings.Fields(text)
	if len(words) == 0 {
		b.fault(n, place, "nothing is named", "name a source, step or output")
		return input{}, false
	}
	name := words[len(words)-1]
	part := ""
	switch {
	case len(words) == 1:
	case len(words) == 3 && words[1] == "of":
		part = words[0]
	default:
		b.fault(n, place, fmt.Sprintf("%q names nothing that can be read", text), "write a source, a step, late of STEP, rejects of STEP or SOURCE, or PART of STEP")
		return input{}, false
	}
	in := input{text: strings.Join(words, " ")}
	ref := func(r engine.Ref, s row.Schema) input {
		in.from, in.schema = engine.Read(r), s
		return in
	}
	if i, ok := b.sources[name]; ok {
		s := &b.job.Sources[i]
		in.unbounded = s.Unbounded()
		switch part {
		case "":
			in.timed = s.Timed()
			return ref(engine.Ref{At: i}, s.Schema), true
		case "rejects":
			return ref(engine.Ref{At: i, Part: engine.RejectPart}, engine.RejectSchema), true
		}
		b.fault(n, place, fmt.Sprintf("%s is a source, and has no part %s", name, part), "read it whole, or rejects of "+name)
		return input{}, false
	}
	if i, ok := b.steps[name]; ok {
		return b.partOf(n, place, part, i, in)
	}
	if _, is := b.references[name]; is {
		b.fault(n, place, name+" is a reference: rows are looked up in it", "write lookup: {reference: "+name+", …} in a step, or put it under sources: to read its rows")
		return input{}, false
	}
	if !b.broken[name] && b.over() {
		b.fault(n, place, "there is no source or step "+name, "")
	} else if !b.broken[name] {
		known := append(sortedKeys(b.sources), sortedKeys(b.steps)...)
		for k := range b.broken {
			known = append(known, k)
		}
		slices.Sort(known)
		b.fault(n, place, "there is no source or step "+name, b.didYouMean(name, known))
	}
	return input{}, false
}

// partOf resolves a step or a part of it.
func (b *builder) partOf(n *node, place, part string, i int, in input) (input, bool) {
	s := &b.job.Steps[i]
	r := engine.Ref{OfStep: true, At: i}
	in.unbounded = s.unbounded
	in.from, in.schema = engine.Read(r), s.Schema
	if part == "rejects" {
		in.from[0].Part, in.schema = engine.RejectPart, engine.RejectSchema
		return in, true
	}
	in.timed = s.Timed
	if part == "late" {
		if s.Keyed == nil || s.Keyed.LateSchema() == nil {
			if slices.ContainsFunc(b.faults, func(f Fault) bool { return strings.HasPrefix(f.Place, "steps."+s.Name+".window") }) {
				return in, false // of a window that was meant
			}
			b.fault(n, place, s.Name+" has no late rows", "write late of and a step with a window, join, deduplicate, absent, or remember by time")
			return input{}, false
		}
		in.from[0].Part, in.schema = engine.LatePart, s.Keyed.LateSchema()
		return in, true
	}
	if s.Split != nil {
		known := append([]string{"rest"}, s.Split.Names...)
		at := slices.Index(known, part)
		switch {
		case part == "":
			b.fault(n, place, s.Name+" is a split and is read by its parts", "write "+known[1]+" of "+s.Name+", or rest of "+s.Name)
			return input{}, false
		case at < 0:
			b.fault(n, place, fmt.Sprintf("%s has no part %s", s.Name, part), b.didYouMean(part, known))
			return input{}, false
		}
		in.from[0].Part = engine.RestPart + engine.Part(at)
	} else if part != "" {
		b.fault(n, place, fmt.Sprintf("%s has no part %s", s.Name, part), "read it whole, or late of, rejects of; a split has parts of its own")
		return input{}, false
	}
	in.several, in.how, in.windowed, in.overlap, in.means, in.identity = s.several, s.how, s.windowed, s.overlap, s.means, s.identity
	return in, true
}

func (b *builder) step(k, n *node, place string) {
	if n.get("join") != nil {
		if kind, _ := b.kindOf(n, place); kind != nil {
			b.join(k, n, place)
		}
		return
	}
	in, ok := b.inputs(n.get("from"), place+".from")
	kind, given := b.kindOf(n, place)
	if kind == nil {
		return
	}
	if !ok {
		if kind.name == "window" {
			b.shape(n, place, input{timed: true}, &step.Window{}) // what can be judged without the input
		}
		return
	}
	if given == "" && len(in.from) == 1 {
		b.fault(k, place, "the step does nothing", "add where, set, without, only, or key, window and measures")
		return
	}
	s := Step{Name: k.text, Kind: kind.name, From: in.from, FromText: in.text, Input: in.schema, Timed: in.timed, unbounded: in.unbounded,
		several: in.several, how: in.how, windowed: in.windowed, overlap: in.overlap, means: in.means, identity: in.identity}
	before := len(b.faults)
	if kind.keyed() && in.several {
		b.fault(n.get("from"), place+".from", fmt.Sprintf("%s may publish several rows for one key and window (%s), and this step would count each", in.text, in.how), "read a step that publishes settled rows, without accept, revised and repeat")
	}
	switch kind.name {
	case "split":
		b.split(n, place, in, &s)
	case "expand":
		b.expand(n, place, in, &s)
	case "deduplicate":
		b.deduplicate(n, place, in, &s)
	case "remember":
		b.remember(k, n, place, in, &s)
	case "absent":
		b.absent(n, place, in, &s)
	case "rank":
		b.rank(n, place, in, &s)
	case "window":
		b.window(k, n, place, in, &s)
	case "lookup":
		b.lookupStep(n, place, in, &s)
	default:
		b.stateless(n, place, in, &s)
	}
	if len(b.faults) > before && len(s.Schema) == 0 {
		return
	}
	if kind.name != "window" && (kind.keyed() && kind.name != "rank" || kind.name == "expand" || slices.ContainsFunc(s.identity, func(f string) bool { return s.Schema.Index(f) < 0 })) {
		s.identity = nil
	}
	if s.Stateless == nil && s.Split == nil && s.Expand == nil && s.Keyed == nil {
		return
	}
	delete(b.broken, k.text)
	b.steps[k.text] = len(b.job.Steps)
	b.job.Steps = append(b.job.Steps, s)
}

// ofAny says whether steps of any kind have the field.
func ofAny(field *node) bool { return field.text == "from" || field.text == "levels" }

// kindOf finds what kind of step it is, and the field that tells; nil, with a fault, when fields of two
// kinds stand together.
func (b *builder) kindOf(n *node, place string) (*stepKind, string) {
	for _, key := range n.keys {
		if slices.Contains(stepFields.later, key.text) {
			return nil, "" // reported by mapping
		}
	}
	for i := range stepKinds {
		k := &stepKinds[i]
		for _, f := range k.tells {
			if n.get(f) == nil {
				continue
			}
			for _, key := range n.keys {
				if !ofAny(key) && slices.Contains(stepFields.known, key.text) && !slices.Contains(k.tells, key.text) && !slices.Contains(k.may, key.text) {
					b.fault(key, join(place, key.text), fmt.Sprintf("%s and %s are of two kinds of step", key.text, f), "put one of them in a step of its own, and let the other read it")
					return nil, ""
				}
			}
			return k, f
		}
	}
	for _, key := range n.keys {
		if !ofAny(key) && slices.Contains(stepFields.known, key.text) {
			b.fault(key, join(place, key.text), key.text+" alone says not what the step does", "add measures, deduplicate, remember, absent or split")
			return nil, ""
		}
	}
	return &stepKinds[len(stepKinds)-1], ""
}

// stateless builds where, set, without and only.
func (b *builder) stateless(n *node, place string, in input, s *Step) {
	d := &step.Stateless{}
	scope := expr.Scope{Fields: in.schema, Values: b.job.Values}
	if w := n.get("where"); w != nil {
		d.Where = b.expression(w, place+".where", scope)
		s.Does = append(s.Does, "where "+w.text)
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
			b.fault(where, place, "there is no field "+name, b.didYouMean(name, known))
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
		b.fault(n, place, fmt.Sprintf("a condition is a bool, and this is %s", row.A(p.Kind())), "compare it with something, such as "+strings.TrimSpace(n.text)+" > 0")
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
	var all []pending
	isSet := map[string]bool{}
	for i, k := range n.keys {
		if v := n.values[i]; v.kind == nullNode && strings.ContainsAny(k.text, ")]'\"") {
			b.fault(k, place, fmt.Sprintf("%q stands where a name belongs: YAML has cut an unquoted expression at its comma", k.text), "put the expression before it in quotes")
			continue
		}
		if !b.checkField(k, join(place, k.text), k.text) {
			continue
		}
		p := pending{k: k, v: n.values[i]}
		if !b.over() && b.written < maxExpressions {
			p.from = expr.Names(p.v.text)
		}
		all = append(all, p)
		isSet[k.text] = true
	}
	scopeFields := slices.Clone(in.schema)
	for i, f := range scopeFields {
		if isSet[f.Name] {
			scopeFields[i].Name = ""
			(*fields)[i].Name = ""
		}
	}
	ordered, circle := inOrder(all)
	for _, p := range ordered {
		var prog *expr.Program
		if !slices.ContainsFunc(p.from, func(name string) bool { return slices.Contains(broken, name) }) {
			prog = b.expression(p.v, join(place, p.k.text), expr.Scope{Fields: scopeFields, Values: b.job.Values})
		}
		if prog == nil {
			broken = append(broken, p.k.text)
			continue
		}
		f := row.Field{Name: p.k.text, Kind: prog.Kind()}
		d.Sets = append(d.Sets, prog)
		s.Does = append(s.Does, "set "+p.k.text+" = "+prog.Text())
		scopeFields = append(scopeFields, f)
		*fields = append(*fields, f)
	}
	if len(circle) > 0 {
		p := circle[0]
		if len(circle) == 1 || slices.Contains(p.from, p.k.text) {
			b.fault(p.k, join(place, p.k.text), p.k.text+" uses itself", "give the new value a name of its own, and drop the old one by without")
		} else {
			b.fault(p.k, join(place, p.k.text), p.k.text+" and "+circle[1].k.text+" use each other", "let one of them use fields of the input only")
		}
	}
	for _, p := range circle {
		broken = append(broken, p.k.text)
	}
	return broken
}
