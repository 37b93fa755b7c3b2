package job

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/member"
)

var (
	sourceFields = fieldSpec{known: []string{"via", "with", "decode", "pattern", "fields", "event_time", "watermark", "begin"}, later: []string{"until"}}
	laterVia     = []string{"http", "socket", "mqtt", "postgres"}
	parseForms   = []string{"rfc3339", "epoch_s", "epoch_ms", "epoch_us", "epoch_ns"}
)

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
		if !b.checkName(k, place) || !b.mapping(n.values[i], place, sourceFields) {
			continue
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
	case slices.Contains(reserved, k.text):
		b.fault(k, place, k.text+" is no name for a source or step", "choose another; late, rejects, rest and of have a meaning in `from`")
	case !fieldName(k.text):
		b.fault(k, place, fmt.Sprintf("%q is no name", k.text), "use letters, digits and _, not beginning with a digit")
	default:
		return true
	}
	return false
}

func (b *builder) source(n *node, place string, k *node) Source {
	s := Source{Name: k.text, Idle: time.Minute, Ahead: time.Hour}
	if v := n.get("via"); v == nil {
		b.fault(k, place+".via", "the source does not say where its events come from", "add via: file, via: kafka or via: simulate")
	} else {
		s.Via = b.choice(v, place+".via", []string{"file", "kafka", "simulate"}, laterVia)
	}
	with := n.get("with")
	switch {
	case s.Via == "":
	case with == nil:
		b.fault(k, place+".with", "the settings of the connector are missing", "add with: {…}")
	case s.Via == "file":
		s.File = b.fileSource(with, place+".with")
	case s.Via == "kafka":
		s.Kafka = b.kafkaSource(with, place+".with")
	case s.Via == "simulate":
		s.Sim = b.simulation(with, place+".with")
	}
	s.Decode = "json"
	if v := n.get("decode"); v != nil {
		s.Decode = b.choice(v, place+".decode", []string{"json", "csv", "text"}, []string{"avro", "parquet"})
		if s.Via == "simulate" && (s.Decode == "csv" || s.Decode == "text") {
			b.fault(v, place+".decode", "simulated events are JSON", "write decode: json, or leave it out")
		} else if s.Via == "kafka" && s.Decode == "csv" {
			b.fault(v, place+".decode", "CSV from a topic is not built yet", "write decode: json")
		}
	} else if s.Via == "file" && strings.HasSuffix(s.File.Pattern, ".csv") {
		s.Decode = "csv"
	}
	if v := n.get("begin"); v != nil && s.Via == "kafka" {
		b.begin(v, place+".begin", &s.Kafka)
	} else if v != nil {
		b.choice(v, place+".begin", []string{"earliest"}, []string{"latest"})
	}
	b.fields(n.get("fields"), place+".fields", k, &s)
	if et := n.get("event_time"); et != nil && et.text == "stored" && s.Via == "kafka" {
		b.asked["stored"] = true
	}
	if len(s.Schema) > 0 {
		s.Schema = append(s.Schema, b.metaFields(s.Via)...)
	}
	b.pattern(n, place, k, &s)
	b.eventTime(n, place, k, &s)
	return s
}

// pattern reads the regular expression of `decode: text`, whose named groups are the fields.
func (b *builder) pattern(n *node, place string, k *node, s *Source) {
	p := n.get("pattern")
	place += ".pattern"
	switch {
	case p == nil && s.Decode == "text":
		b.fault(k, place, "how a line is taken apart is not said", `add pattern: '^(?P<crane>\S+) (?P<tonnes>[0-9.]+)$'; its named groups are the fields`)
		return
	case p == nil:
		return
	case s.Decode != "text":
		b.fault(p, place, "a pattern belongs to decode: text", "add decode: text, or leave it out")
		return
	}
	text, ok := b.text(p, place)
	if !ok {
		return
	}
	re, err := regexp.Compile(text)
	if err != nil {
		b.fault(p, place, "the pattern is no regular expression: "+strings.TrimPrefix(err.Error(), "error parsing regexp: "), "use RE2 syntax, in single quotes")
		return
	}
	s.Pattern = re
	names := slices.DeleteFunc(slices.Clone(re.SubexpNames()), func(g string) bool { return g == "" })
	for _, f := range s.Fields {
		want := f.Name
		if len(f.At) > 0 {
			want = f.At.Column()
		}
		if !slices.Contains(names, want) {
			b.fault(p, place, "the pattern has no group for field "+f.Name, "write (?P<"+want+">…); "+didYouMean(want, names))
		}
		if !f.Kind.Plain() {
			b.fault(p, join(place, f.Name), "a text line holds no lists", "take the text, and a list of it by an expression")
		}
	}
}

func (b *builder) fileSource(n *node, place string) FileSource {
	var f FileSource
	if !b.mapping(n, place, fieldSpec{known: []string{"path", "files", "follow"}}) {
		return f
	}
	path, files := n.get("path"), n.get("files")
	switch {
	case path != nil && files != nil:
		b.fault(files, place+".files", "path and files stand together", "keep path for one file, files for a pattern")
	case path != nil:
		f.Pattern, _ = b.text(path, place+".path")
	case files != nil:
		f.Pattern, _ = b.text(files, place+".files")
		if _, err := filepath.Match(f.Pattern, ""); err != nil {
			b.fault(files, place+".files", fmt.Sprintf("%q is no pattern", f.Pattern), "use * and ?, and [ ] in pairs")
		}
	default:
		b.fault(n, place, "the file is not named", "add path: events.ndjson, or files: events-*.ndjson")
	}
	b.absolute(n, place, f.Pattern)
	f.Follow = b.boolean(n.get("follow"), place+".follow")
	if f.Pattern == "-" && f.Follow {
		b.fault(n, place, "standard input cannot be followed", "leave out follow")
	}
	return f
}

// absolute refuses relative paths where the document has no folder.
func (b *builder) absolute(n *node, place, path string) {
	switch {
	case !b.opt.Absolute || path == "" || filepath.IsAbs(path):
	case path == "-":
		b.fault(n, place, "a service has no standard input or output", "name a file")
	default:
		b.fault(n, place, "the path "+path+" is relative, and a job in a service has no folder", "write the whole path, from /")
	}
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

// moneyName matches fields that are likely to hold money.
var moneyName = regexp.MustCompile(`(^|_)(price|amount|cost|fee|balance|invoice|payment|charge|money|salary|wage|rent|tax|vat|duty|toll|fare|tip|bonus|discount|refund|revenue|turnover|profit|debit|credit|deposit|budget|paid|due|eur|euro|usd|dollar|gbp|pound|chf|jpy|yen|cent|currency)s?($|_)`)

func (b *builder) field(k, v *node, place string) (Field, bool) {
	f := Field{Name: k.text}
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
			b.fault(p, place+".parse", fmt.Sprintf("parse is for timestamps, and the field is a %s", kind), "leave it out, or write type: timestamp")
		case strings.Contains(s, "%"):
			layout, err := strftime.Layout(s)
			if err != nil {
				b.fault(p, place+".parse", fmt.Sprintf("%q is no pattern of a time that can be read: %v", s, err), "use %Y %m %d %H %M %S %f %z, as in '%d/%m/%Y %H:%M:%S'")
			}
			f.Layout, f.Zone = layout, time.UTC
		default:
			f.Parse = b.choice(p, place+".parse", parseForms, nil)
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
			if s.Via == "kafka" {
				s.EventTime, _ = expr.Compile("meta.stored", expr.Scope{Fields: s.Schema})
				break
			}
			b.fault(et, place+".event_time", fmt.Sprintf("events of a %s have no stored time", s.Via), "name a field of type timestamp, or arrival")
		default:
			if len(s.Schema) == 0 {
				break // the fields are faulty
			}
			s.EventTime = b.expression(et, place+".event_time", expr.Scope{Fields: s.Schema, Values: b.job.Values})
			if s.EventTime != nil && s.EventTime.Kind() != row.Timestamp {
				remedy := "declare the field as {type: timestamp, parse: epoch_ms}, or as it is written"
				b.fault(et, place+".event_time", fmt.Sprintf("%s is a %s and no timestamp", text, s.EventTime.Kind()), remedy)
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
