package job

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
)

// sinkFields are the settings of all sinks, and those that some kinds have beside them.
func sinkFields() fieldSpec {
	return fieldSpec{known: append([]string{"from", "via", "with", "encode", "columns", "append_revisions"}, besideOf(true)...), later: []string{"batch", "retry"}}
}

func (b *builder) readSinks() {
	n := b.doc.get("sinks")
	if n == nil {
		b.fault(b.doc, "sinks", "the job has no sinks: its rows go nowhere", "add sinks: {name: {from: …, via: file, with: {path: out.ndjson}}}")
		return
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, "sinks", fmt.Sprintf("%s stands where sinks belong", n.kind), "write sinks: {name: {from: …, via: file, with: {path: out.ndjson}}}")
		return
	}
	targets := map[string]string{}
	for i, k := range n.keys {
		place := join("sinks", k.text)
		if !b.checkName(k, place) || !b.mapping(n.values[i], place, sinkFields()) {
			continue
		}
		s := b.sink(k, n.values[i], place)
		b.alone(n.values[i], place, &s, targets)
		b.job.Sinks = append(b.job.Sinks, s)
	}
}

// alone refuses two sinks with one target, and one that writes what the job reads.
func (b *builder) alone(n *node, place string, s *Sink, targets map[string]string) {
	if sole, ok := s.With.(connect.Sole); ok {
		target, twice := sole.Target()
		target = s.Via + " " + target
		if other, taken := targets[target]; taken && twice != nil {
			message, remedy := twice(other)
			b.fault(n, place+".with", message, remedy)
		}
		targets[target] = s.Name
	}
	for i := range b.job.Sources {
		if in := &b.job.Sources[i]; connect.SameStream(s.With, in.With) {
			_, stream := in.With.(connect.Streaming).Stream() // it has one: they are the same
			b.fault(n.get("with"), place+".with", fmt.Sprintf("the sink writes %s %s, which source %s reads: the job would read its own rows", connect.KindNamed(s.Via).Noun, stream, in.Name), "name another "+connect.KindNamed(s.Via).Noun)
		}
	}
}

func sinkKinds() (out []string) {
	for _, k := range connect.Kinds() {
		if k.Sink != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

func (b *builder) sink(k, n *node, place string) Sink {
	s := Sink{Name: k.text}
	var in input
	known := false
	if f := n.get("from"); f == nil {
		b.fault(k, place+".from", "the sink does not say what it takes", "add from: and a step")
	} else if in, known = b.inputs(f, place+".from"); known {
		s.From, s.Schema, s.Reads, s.fields, s.FromText = in.from, in.schema, in.schema, in.schema, in.text
		if c := n.get("columns"); c != nil {
			b.columns(c, place+".columns", &s)
		}
	}
	kind := b.via(n, place, k, "the sink does not say where its rows go", sinkKinds(), connect.NotBuilt.Sinks)
	if kind == nil {
		return s
	}
	s.Via, s.With = kind.Name, kind.Sink()
	list := settings.Of(s.With)
	r := b.settingsOf(n, place, k, kind)
	if r != nil {
		r.schema = s.Schema
		r.read(r.within, r.place, list, reflect.ValueOf(s.With))
	}
	s.Encode = b.encode(n, place, &s)
	if known {
		b.replaces(k, n, place, &s, in)
	} else {
		b.boolean(n.get("append_revisions"), place+".append_revisions")
	}
	b.encodes(n, place, &s)
	if r != nil {
		s.With.Check(r.checker(connect.Checker{Job: b.job.Name, Name: s.Name, Format: s.Encode, Schema: s.Schema, Endless: b.unbounded()}))
	}
	for _, name := range besideOf(true) {
		if v := n.get(name); v != nil && !slices.ContainsFunc(list, func(x settings.Setting) bool { return x.Beside && x.Name == name }) {
			b.fault(v, join(place, name), "a "+s.Via+" sink has no "+name, "leave it out")
		}
	}
	b.delivers(k, place, &s)
	return s
}

// encode reads how rows look: as `encode` says, or the end of the sink's name, or as most do.
func (b *builder) encode(n *node, place string, s *Sink) *connect.Format {
	if v := n.get("encode"); v != nil {
		return connect.FormatNamed(b.choice(v, place+".encode", connect.FormatNames(true), connect.NotBuilt.Formats))
	}
	if e, ok := s.With.(connect.Ended); ok {
		if f := connect.FormatOf(e.Ending()); f != nil && f.Encode != nil && !f.ForPeople {
			return f
		}
	}
	return connect.DefaultFormat()
}

// encodes refuses a format whose rows are no messages, in a sink of messages.
func (b *builder) encodes(n *node, place string, s *Sink) {
	if _, file := s.With.(connect.Ended); file || s.Encode == nil || s.Encode.Pack == nil {
		return
	}
	at := cmp.Or(n.get("encode"), n)
	if s.Encode.Schema == nil {
		b.fault(at, join(place, "encode"), s.Encode.Title+" is of files: its columns stand together, and messages are one row each", "write json, csv or avro, or write a file")
		return
	}
	if registry, _, err := connect.RegistryOf(s.With); registry == nil && err == nil {
		b.fault(at, join(place, "encode"), "messages of "+s.Encode.Title+" name a schema of a registry, and this sink has none", "add registry: {url: …} to the connection of a topic, or write a file")
	}
}

// delivers judges a sink that delivers at least once.
func (b *builder) delivers(k *node, place string, s *Sink) {
	if s.With.Atomic() || b.job.Delivery != "exactly_once" {
		return
	}
	if b.job.DeliverySaid {
		b.fault(k, place, "exactly once into a "+connect.KindNamed(s.Via).Noun+" is not built yet", "write delivery: at_least_once in settings")
		return
	}
	b.warn(k, place, "the sink delivers at least once: after a restart rows may come again", "write delivery: at_least_once in settings to agree")
}

// columns reads what a sink writes in place of all fields: names, each with a field or with a constant expression.
func (b *builder) columns(n *node, place string, s *Sink) {
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, place, fmt.Sprintf("%s stands where columns belong", n.kind), "write columns: {name: field}")
		return
	}
	var fields []int
	var reads row.Schema
	for i, k := range n.keys {
		p, v := join(place, k.text), n.values[i]
		if !fieldName(k.text) {
			b.fault(k, p, fmt.Sprintf("%q is not a name of a column", k.text), "use letters, digits and _, not beginning with a digit")
			continue
		}
		text, ok := b.text(v, p)
		if !ok {
			continue
		}
		if at := s.Schema.Index(text); at >= 0 && !s.Schema[at].Hidden {
			f := s.Schema[at]
			f.Name = k.text
			fields, reads = append(fields, at), append(reads, f)
			continue
		}
		if c, ok := b.constant(v, p, k.text, s.Schema); ok {
			c.At = len(fields) + len(s.Constants)
			s.Constants = append(s.Constants, c)
		}
	}
	for i := range s.From {
		in := &s.From[i]
		arranged := make([]int, len(fields))
		for k, at := range fields {
			if arranged[k] = at; in.Columns != nil {
				arranged[k] = in.Columns[at]
			}
		}
		in.Columns = arranged
	}
	s.Reads = reads
	s.Schema = (&engine.SinkNode{Schema: reads, Constants: s.Constants}).Writes()
}

// constant works out an expression that reads no field.
func (b *builder) constant(n *node, place, name string, fields row.Schema) (out engine.Constant, ok bool) {
	text := strings.TrimSpace(n.text)
	if fieldName(text) {
		b.fault(n, place, "there is no field "+text, b.didYouMean(text, fields.Names()))
		return out, false
	}
	before := len(b.faults)
	e := b.expression(n, place, expr.Scope{Values: b.job.Values})
	if e == nil {
		if len(b.faults) > before {
			b.faults[len(b.faults)-1].Remedy = "name a field, or write an expression that reads none, such as '\"north\"'; compute others by set in a step"
		}
		return out, false
	}
	col := row.NewColumn(e.Kind())
	v, err := e.Eval(nil, 0)
	if err != nil {
		b.fault(n, place, err.Error(), "write another expression")
		return out, false
	}
	v.AppendTo(col)
	return engine.Constant{Field: row.Field{Name: name, Kind: e.Kind()}, Value: col}, true
}

// replaces judges a sink where the newest row of an identity takes the place of those before it; others append.
func (b *builder) replaces(k, n *node, place string, s *Sink, in input) {
	r, can := s.With.(connect.Replacing)
	on := false
	var key []string
	if can {
		on, key = r.Replaces()
	}
	if !on {
		b.revisions(k, n, place, in)
		return
	}
	at := n.get("with")
	if v := n.get("append_revisions"); v != nil {
		b.fault(v, place+".append_revisions", "the sink replaces rows, and appends none", "leave it out, or replace")
	}
	identity := make([]string, 0, len(in.identity))
	for _, f := range in.identity {
		if name := s.writtenAs(f); name != "" {
			identity = append(identity, name)
			continue
		}
		b.fault(n.get("columns"), place+".columns", fmt.Sprintf("%s is not written, and is part of the identity of the rows of %s", f, in.text), "add it: a row is replaced by "+strings.Join(in.identity, ", "))
		return
	}
	switch {
	case in.identity == nil && len(key) == 0:
		b.fault(at, place+".with.replace", fmt.Sprintf("nothing tells the rows of %s apart", in.text), "add key: and the fields by which a row replaces another, beside via; or leave replace out")
		return
	case in.identity != nil && len(key) > 0 && !sameNames(key, identity):
		b.fault(n.get("key"), place+".key", fmt.Sprintf("a row of %s is told apart by %s, and not by %s", in.text, cmp.Or(strings.Join(identity, ", "), "nothing: there is one"), strings.Join(key, ", ")), "leave key out")
		return
	case len(key) == 0:
		r.ReplaceBy(identity)
	}
	b.takesBack(s)
}

func sameNames(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// writtenAs gives the name by which a field is written; empty where it is not.
func (s *Sink) writtenAs(field string) string {
	in := &s.From[0]
	for i, f := range s.Reads {
		at := i
		if in.Columns != nil {
			at = in.Columns[i]
		}
		if s.fields[at].Name == field {
			return f.Name
		}
	}
	return ""
}

// takesBack lets a replacing sink see which rows are withdrawn: a field that is read and not written.
func (b *builder) takesBack(s *Sink) {
	at := s.fields.Index("withdrawn")
	if at < 0 || s.fields[at].Kind != row.Bool {
		return
	}
	hidden := row.Field{Name: "withdrawn", Kind: row.Bool, Hidden: true}
	if i := s.Reads.Index("withdrawn"); i >= 0 && s.writtenAs("withdrawn") == "withdrawn" {
		s.Reads = slices.Clone(s.Reads)
		s.Reads[i] = hidden
	} else {
		for i := range s.From {
			in := &s.From[i]
			if in.Columns == nil {
				in.Columns = make([]int, len(s.Reads))
				for k := range in.Columns {
					in.Columns[k] = k
				}
			}
			in.Columns = append(slices.Clone(in.Columns), at)
		}
		s.Reads = append(slices.Clone(s.Reads), hidden)
	}
	s.Schema = (&engine.SinkNode{Schema: s.Reads, Constants: s.Constants}).Writes()
}

// revisions judges several rows for one key and window into a sink that appends.
func (b *builder) revisions(k, n *node, place string, in input) {
	may := b.boolean(n.get("append_revisions"), place+".append_revisions")
	switch {
	case !in.several && n.get("append_revisions") != nil:
		b.fault(n.get("append_revisions"), place+".append_revisions", in.text+" publishes one row for each key and window", "leave it out")
	case !in.several || may:
	case strings.Contains(in.how, "revised") || strings.Contains(in.how, "repeat"):
		b.fault(k, place, fmt.Sprintf("%s publishes several rows for a key and window (%s), and the sink appends each", in.text, in.how), "say append_revisions: true beside via, if whoever reads it takes the newest of each key and window")
	default:
		b.warn(k, place, fmt.Sprintf("%s publishes corrections of closed windows, and the sink appends them", in.text), "say append_revisions: true beside via to agree; the newest of each key and window counts")
	}
}

// unbounded says whether any source goes on without end.
func (b *builder) unbounded() bool {
	return slices.ContainsFunc(b.job.Sources, func(s Source) bool { return s.Unbounded() })
}
