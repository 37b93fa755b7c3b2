package job

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"undertide/connect"
	"undertide/connect/settings"
)

// sinkFields are the settings of all sinks, and those that some kinds have beside them.
func sinkFields() fieldSpec {
	return fieldSpec{known: append([]string{"from", "via", "with", "encode", "append_revisions"}, besideOf(true)...), later: []string{"columns", "batch", "retry"}}
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
	if f := n.get("from"); f == nil {
		b.fault(k, place+".from", "the sink does not say what it takes", "add from: and a step")
	} else if in, ok := b.inputs(f, place+".from"); ok {
		s.From, s.Schema, s.FromText = in.from, in.schema, in.text
		b.revisions(k, n, place, in)
	} else {
		b.boolean(n.get("append_revisions"), place+".append_revisions")
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

// revisions judges several rows for one key and window into a sink that appends, as all sinks do that are
// built.
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
