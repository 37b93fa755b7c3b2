package job

import (
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/settings"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/member"
)

var parseForms = []string{"rfc3339", "epoch_s", "epoch_ms", "epoch_us", "epoch_ns"}

// sourceFields are the settings of all sources, and those that some kinds and formats have beside them.
func sourceFields() fieldSpec {
	return fieldSpec{known: append([]string{"described", "via", "with", "decode", "fields", "event_time", "watermark"}, besideOf(false)...)}
}

func (b *builder) readSources() {
	n := b.doc.get("sources")
	if n == nil {
		b.fault(b.doc, "sources", "the job has no sources", "add sources: with a name, via, with and fields")
		return
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, "sources", fmt.Sprintf("%s stands where sources belong", n.kind), "write sources: {name: {via: file, …}}")
		return
	}
	for i, k := range n.keys {
		place := join("sources", k.text)
		b.broken[k.text] = true
		if !b.checkName(k, place) || !b.mapping(n.values[i], place, sourceFields()) {
			continue
		}
		if n.values[i].get("described") != nil && n.values[i].get("via") == nil {
			continue // said where it was looked for
		}
		before := len(b.faults)
		s := b.source(n.values[i], place, k)
		if len(b.faults) > before {
			if len(s.Schema) == 0 || b.faultyFields(before, place) {
				continue // what reads it cannot be judged
			}
		}
		delete(b.broken, k.text)
		b.sources[k.text] = len(b.job.Sources)
		b.job.Sources = append(b.job.Sources, s)
	}
}

// faultyFields says whether any fault since before concerns the fields themselves.
func (b *builder) faultyFields(before int, place string) bool {
	for _, f := range b.faults[before:] {
		if strings.HasPrefix(f.Place, place+".fields") {
			return true
		}
	}
	return false
}

// checkName checks the name of a source, step or sink.
func (b *builder) checkName(k *node, place string) bool {
	switch {
	case slices.Contains(member.InputWords, k.text):
		b.fault(k, place, k.text+" is not a name for a source or step", "choose another; late, rejects, rest and of have a meaning in `from`")
	case !fieldName(k.text):
		b.fault(k, place, fmt.Sprintf("%q is not a name", k.text), "use letters, digits and _, not beginning with a digit")
	default:
		return true
	}
	return false
}

// span lets the source be read over the span that was asked for.
func (b *builder) span(k *node, place string, s *Source) {
	if b.opt.Begin == "" && b.opt.Until == "" {
		return
	}
	spanned, ok := s.With.(connect.Spanned)
	if !ok {
		b.fault(k, place, fmt.Sprintf("a %s source cannot be read from one time to another", s.Via), "make a job of the sources that can: topics")
		return
	}
	if err := spanned.Span(b.opt.Begin, b.opt.Until); err != nil {
		message, remedy, _ := strings.Cut(err.Error(), "; ")
		b.fault(k, place, message, remedy)
	}
}

func (b *builder) source(n *node, place string, k *node) Source {
	s := Source{Name: k.text, Idle: time.Minute, Ahead: time.Hour}
	known := sourceKinds()
	if referred(place) {
		known = referenceKinds()
	}
	if d := n.get("described"); d != nil {
		if referred(place) {
			b.fault(d, place+".described", "a reference is not described elsewhere", "write via, with, fields and key here")
		}
	}
	kind := b.via(n, place, k, "it is not said where its events come from", known, connect.NotBuilt.Sources)
	if kind != nil {
		s.Via, s.With = kind.Name, readsOf(place, kind)
	}
	r := b.settingsOf(n, place, k, kind)
	if r != nil {
		r.read(r.within, r.place, settings.Of(s.With), reflect.ValueOf(s.With))
		if !referred(place) {
			b.span(k, place, &s)
		}
	}
	b.format(n, place, &s)
	if s.Decode != nil {
		s.Decoding = s.Decode.Decode()
		(&settingsReader{reader: b.reader, within: n, beside: n, place: place, outside: place}).read(n, place, settings.Of(s.Decoding), reflect.ValueOf(s.Decoding))
		if shaping, ok := s.Decoding.(connect.Shaping); ok {
			f := shaping.Shape(*s.Decode)
			s.Decode = &f
		}
	}
	describing, describes := s.Decoding.(connect.Describing)
	if describes = describes && n.get("fields") == nil; !describes {
		b.fields(n.get("fields"), place+".fields", k, &s)
	}
	if r != nil {
		s.With.Check(r.checker(connect.Checker{Job: b.job.Name, Name: s.Name, Format: s.Decode, Fields: s.Fields}))
	}
	if s.Decode != nil {
		d := &settingsReader{reader: b.reader, within: n, beside: n, place: place, outside: place}
		s.Decoding.Check(d.checker(connect.Checker{Job: b.job.Name, Name: s.Name, Format: s.Decode, Fields: s.Fields, Source: s.With}))
	}
	if describes {
		b.described(describing, place, k, &s)
	}
	b.strangers(n, place, &s)
	if et := n.get("event_time"); et != nil && et.text == "stored" && s.stored() {
		b.asked["stored"] = true
	}
	if len(s.Schema) > 0 {
		s.Schema = append(s.Schema, b.metaFields(s.With)...)
	}
	b.eventTime(n, place, k, &s)
	return s
}

// via reads what a source or sink is of; nil, with a fault, where it is of nothing that there is.
func (b *builder) via(n *node, place string, k *node, missing string, known, later []string) *connect.Kind {
	v := n.get("via")
	if v == nil {
		b.fault(k, place+".via", missing, "add via: and one of "+strings.Join(known, ", "))
		return nil
	}
	return connect.KindNamed(b.choice(v, place+".via", known, later))
}

// referred says whether a place stands under references.
func referred(place string) bool { return strings.HasPrefix(place, "references.") }

// readsOf gives new settings of what is read at a place: a source, or a reference.
func readsOf(place string, kind *connect.Kind) connect.Source {
	if referred(place) {
		return kind.Reference()
	}
	return kind.Source()
}

func sourceKinds() (out []string) {
	for _, k := range connect.Kinds() {
		if k.Source != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

// settingsOf checks `with` of a source or sink; nil where there is nothing to read.
func (b *builder) settingsOf(n *node, place string, k *node, kind *connect.Kind) *settingsReader {
	if kind == nil {
		return nil
	}
	described := any(nil)
	if strings.HasPrefix(place, "sinks.") {
		described = kind.Sink()
	} else {
		described = readsOf(place, kind)
	}
	list := slices.DeleteFunc(settings.Of(described), func(s settings.Setting) bool { return s.Beside })
	with := n.get("with")
	if with == nil {
		var needed []string
		for i := range list {
			if list[i].Required || list[i].Once && len(needed) == 0 {
				needed = append(needed, list[i].Name+": …")
			}
		}
		b.fault(k, place+".with", "the settings of the connector are missing", "add with: {"+strings.Join(needed, ", ")+"}")
		return nil
	}
	if !b.mapping(with, place+".with", fieldSpec{known: namesOf(list), later: settings.LaterOf(described)}) {
		return nil
	}
	return &settingsReader{reader: b.reader, job: b, within: with, beside: n, place: place + ".with", outside: place, kind: kind.Name}
}

// format reads how the events look: as `decode` says, or the end of the source's name, or as most do.
func (b *builder) format(n *node, place string, s *Source) {
	if v := n.get("decode"); v != nil {
		s.Decode = connect.FormatNamed(b.choice(v, place+".decode", connect.FormatNames(false), connect.NotBuilt.Formats))
		return
	}
	s.Decode = connect.DefaultFormat()
	if e, ok := s.With.(connect.Ended); ok {
		// One that has to be told more is not taken for what a name ends in.
		if f := connect.FormatOf(e.Ending()); f != nil && f.Decode != nil && len(required(settings.Of(f.Decode()))) == 0 {
			s.Decode = f
		}
	}
}

// strangers says which settings stand beside `via` that belong to other kinds and formats.
func (b *builder) strangers(n *node, place string, s *Source) {
	own := map[string]bool{}
	note := func(described any) {
		for _, x := range settings.Of(described) {
			own[x.Name] = own[x.Name] || x.Beside
		}
	}
	if s.With != nil {
		note(s.With)
	}
	if s.Decoding != nil {
		note(s.Decoding)
	}
	for _, f := range connect.Formats() {
		if f.Decode == nil {
			continue
		}
		for _, x := range settings.Of(f.Decode()) {
			if v := n.get(x.Name); v != nil && !own[x.Name] && s.Decode != nil {
				b.fault(v, join(place, x.Name), "a "+x.Label+" belongs to decode: "+f.Name, "add decode: "+f.Name+", or leave it out")
				own[x.Name] = true
			}
		}
	}
	for _, name := range besideOf(false) {
		if v := n.get(name); v != nil && !own[name] && s.With != nil && s.Decode != nil {
			b.fault(v, join(place, name), "a "+s.Via+" source has no "+name, "leave it out")
		}
	}
}

// metaFields are the hidden fields that a source's expressions may name.
func (b *builder) metaFields(of connect.Source) row.Schema {
	all := row.Schema{{Name: "meta.partition", Kind: row.String, Hidden: true}, {Name: "meta.offset", Kind: row.Int, Hidden: true}}
	if k, ok := of.(connect.Knowing); ok {
		all = append(all, k.MetaFields(sortedKeys(b.asked))...)
	}
	return slices.DeleteFunc(all, func(f row.Field) bool { return !b.asked[strings.TrimPrefix(f.Name, "meta.")] })
}

func (b *builder) fields(n *node, place string, k *node, s *Source) {
	if n == nil {
		b.fault(k, place, "the source does not say which fields its events have", "add fields: {name: type}")
		return
	}
	if n.kind != mapNode || len(n.keys) == 0 {
		b.fault(n, place, fmt.Sprintf("%s stands where fields belong", n.kind), "write fields: {name: string, read_at: {type: timestamp, parse: epoch_ms}}")
		return
	}
	for i, k := range n.keys {
		p := join(place, k.text)
		if !b.checkField(k, p, k.text) {
			continue
		}
		f, ok := b.field(k, n.values[i], p)
		if !ok {
			continue
		}
		s.Fields = append(s.Fields, f)
		s.Schema = append(s.Schema, row.Field{Name: f.Name, Kind: f.Kind})
	}
}

// described takes the fields that the events' own schema describes.
func (b *builder) described(by connect.Describing, place string, k *node, s *Source) {
	fields, err := by.Described()
	if err != nil {
		b.fault(k, place+".fields", "the fields are not written, and the schema cannot be asked: "+err.Error(), "write fields: {name: type}, or let the schema be reached")
		return
	}
	for _, f := range fields {
		s.Fields = append(s.Fields, f)
		s.Schema = append(s.Schema, row.Field{Name: f.Name, Kind: f.Kind})
	}
}

// moneyName matches fields that are likely to hold money.
var moneyName = regexp.MustCompile(`(^|_)(price|amount|cost|fee|balance|invoice|payment|charge|money|salary|wage|rent|tax|vat|duty|toll|fare|tip|bonus|discount|refund|revenue|turnover|profit|debit|credit|deposit|budget|paid|due|eur|euro|usd|dollar|gbp|pound|chf|jpy|yen|cent|currency)s?($|_)`)

func (b *builder) field(k, v *node, place string) (codec.Field, bool) {
	f := codec.Field{Name: k.text}
	typ := v
	if v.kind == mapNode {
		if !b.mapping(v, place, fieldSpec{known: []string{"type", "at", "parse", "zone", "default", "nullable"}}) {
			return f, false
		}
		typ = v.get("type")
	}
	kind, ok := b.kind(typ, place, v)
	if !ok {
		return f, false
	}
	f.Kind = kind
	if kind == row.Double && moneyName.MatchString(k.text) {
		b.warn(typ, place, k.text+" is a double, which is not exact; money is better a decimal", "write decimal, whose sums are exact")
	}
	if v.kind != mapNode {
		return f, true
	}
	if at := v.get("at"); at != nil {
		if s, ok := b.text(at, place+".at"); ok {
			var err error
			if f.At, err = member.Parse(s); err != nil {
				message, remedy, _ := strings.Cut(err.Error(), "; ")
				b.fault(at, place+".at", message, remedy)
			}
		}
	}
	if p := v.get("parse"); p != nil {
		switch s, ok := b.text(p, place+".parse"); {
		case !ok:
		case kind != row.Timestamp:
			b.fault(p, place+".parse", fmt.Sprintf("parse is for timestamps, and the field is %s", row.A(kind)), "leave it out, or write type: timestamp")
		case strings.Contains(s, "%"):
			layout, err := strftime.Layout(s)
			if err != nil {
				b.fault(p, place+".parse", fmt.Sprintf("%q is not a pattern of a time that can be read: %v", s, err), "use %Y %m %d %H %M %S %f %z, as in '%d/%m/%Y %H:%M:%S'")
			}
			f.Parse, f.Layout, f.Zone = codec.ByLayout, layout, time.UTC
		default:
			f.Parse = codec.ParseNames[b.choice(p, place+".parse", parseForms, nil)]
		}
	}
	if z := v.get("zone"); z != nil {
		name, _ := b.text(z, place+".zone")
		loc, err := expr.Zone(name)
		switch {
		case f.Layout == "":
			b.fault(z, place+".zone", "a zone belongs to a pattern of a time", "add parse: '%Y-%m-%d %H:%M:%S', or leave it out")
		case err != nil:
			b.fault(z, place+".zone", err.Error(), "write an IANA name such as Europe/Lisbon")
		default:
			f.Zone = loc
		}
	}
	if d := v.get("default"); d != nil {
		if s, ok := b.text(d, place+".default"); ok {
			val, err := ParseValue(kind, s)
			if err != nil {
				b.fault(d, place+".default", err.Error(), fmt.Sprintf("give a %s", kind))
			}
			f.Default = val
		}
	}
	if nn := v.get("nullable"); nn != nil {
		f.Required = !b.boolean(nn, place+".nullable")
	}
	return f, true
}

func (b *builder) eventTime(n *node, place string, k *node, s *Source) {
	w := n.get("watermark")
	et := n.get("event_time")
	if et == nil {
		if w != nil {
			b.fault(w, place+".watermark", "a watermark needs an event time", "add event_time: and the field that holds it")
		}
		return
	}
	if text, ok := b.text(et, place+".event_time"); ok {
		switch text {
		case "arrival":
			s.Arrival = true
		case "stored":
			if s.stored() {
				s.EventTime, _ = expr.Compile("meta.stored", expr.Scope{Fields: s.Schema})
				break
			}
			b.fault(et, place+".event_time", fmt.Sprintf("events of a %s source have no stored time", s.Via), "name a field of type timestamp, or arrival")
		default:
			if len(s.Schema) == 0 {
				break // the fields are faulty
			}
			s.EventTime = b.expression(et, place+".event_time", expr.Scope{Fields: s.Schema, Values: b.job.Values})
			if s.EventTime != nil && s.EventTime.Kind() != row.Timestamp {
				remedy := "declare the field as {type: timestamp, parse: epoch_ms}, or as it is written"
				b.fault(et, place+".event_time", fmt.Sprintf("%s is %s and not a timestamp", text, row.A(s.EventTime.Kind())), remedy)
			}
		}
	}
	if w == nil {
		b.fault(k, place+".watermark", "the margin is not said: how far out of order may events come?", "add watermark: {margin: 5s}")
		return
	}
	if !b.mapping(w, place+".watermark", fieldSpec{known: []string{"margin", "idle", "silence", "ahead"}}) {
		return
	}
	if m := w.get("margin"); m == nil {
		b.fault(w, place+".watermark.margin", "the margin is not said: how far out of order may events come?", "add margin: 5s; 0s is allowed")
	} else if d, ok := b.duration(m, place+".watermark.margin", true); ok {
		s.Margin = d
		if d == 0 {
			b.warn(m, place+".watermark.margin", "with a margin of 0s every event out of order is late", "give the disorder that you expect")
		}
	}
	if v := w.get("idle"); v != nil {
		if d, ok := b.duration(v, place+".watermark.idle", false); ok {
			s.Idle = d
		}
	}
	if v := w.get("silence"); v != nil {
		s.Advance = b.choice(v, place+".watermark.silence", []string{"hold", "advance"}, nil) == "advance"
	}
	if v := w.get("ahead"); v != nil {
		if t, ok := b.text(v, place+".watermark.ahead"); ok && t == "none" {
			s.Ahead = 0
		} else if d, ok := b.duration(v, place+".watermark.ahead", false); ok {
			s.Ahead = d
		}
	}
}
