package job

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

var sinkFields = fieldSpec{
	known: []string{"from", "via", "with", "encode", "key", "append_revisions"},
	later: []string{"columns", "batch", "retry"},
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
	paths := map[string]string{}
	for i, k := range n.keys {
		place := join("sinks", k.text)
		if !b.checkName(k, place) || !b.mapping(n.values[i], place, sinkFields) {
			continue
		}
		s := b.sink(k, n.values[i], place)
		switch o, twice := paths[s.Path]; {
		case !twice || s.Path == "" || strings.HasSuffix(s.Path, "/"):
		case s.Path == "-":
			b.fault(n.values[i], place+".with.path", fmt.Sprintf("sink %s writes standard output too", o), "give one of them a file")
		default:
			b.fault(n.values[i], place+".with.path", fmt.Sprintf("sink %s writes the same file", o), "give each sink a file of its own")
		}
		paths[s.Path] = k.text
		b.job.Sinks = append(b.job.Sinks, s)
	}
}

func (b *builder) sink(k, n *node, place string) Sink {
	s := Sink{Name: k.text, Encode: "json"}
	if f := n.get("from"); f == nil {
		b.fault(k, place+".from", "the sink does not say what it takes", "add from: and a step")
	} else if in, ok := b.inputs(f, place+".from"); ok {
		s.From, s.Schema, s.FromText = in.from, in.schema, in.text
		b.revisions(k, n, place, in)
	} else {
		b.boolean(n.get("append_revisions"), place+".append_revisions")
	}
	via := ""
	if v := n.get("via"); v == nil {
		b.fault(k, place+".via", "the sink does not say where its rows go", "add via: file")
	} else {
		via = b.choice(v, place+".via", sinkVias, []string{"postgres", "http", "mqtt", "mail", "live"})
	}
	with := n.get("with")
	if via == "file" {
		if with == nil {
			b.fault(k, place+".with", "the file is not named", "add with: {path: out.ndjson}")
		} else {
			b.fileSink(with, place+".with", &s)
		}
	}
	s.Via = via
	if via == "kafka" {
		if with == nil {
			b.fault(k, place+".with", "the topic is not named", "add with: {connection: …, topic: …}")
		} else {
			b.kafkaSink(with, place+".with", &s)
		}
	}
	if key := n.get("key"); key != nil && via == "kafka" {
		b.sinkKey(key, place+".key", &s)
	} else if key != nil && via != "" {
		b.fault(key, place+".key", "a "+via+" sink has no message key", "leave it out")
	}
	if via == "kafka" && b.job.Delivery == "exactly_once" {
		said := "the sink delivers at least once: after a restart rows may come again"
		if b.job.DeliverySaid {
			b.fault(k, place, "exactly once into a topic is not built yet", "write delivery: at_least_once in settings")
		} else {
			b.warn(k, place, said, "write delivery: at_least_once in settings to agree")
		}
	}
	if v := n.get("encode"); v != nil {
		s.Encode = b.choice(v, place+".encode", []string{"json", "csv"}, []string{"avro", "parquet"})
		if via == "kafka" && s.Encode == "csv" {
			b.fault(v, place+".encode", "CSV into a topic is not built yet", "write encode: json")
		}
	} else if strings.HasSuffix(s.Path, ".csv") {
		s.Encode = "csv"
	} else if strings.HasSuffix(s.Path, ".parquet") {
		b.fault(with, place+".with.path", "Parquet is not built yet", "write .ndjson or .csv")
	}
	return s
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

func (b *builder) fileSink(n *node, place string, s *Sink) {
	if !b.mapping(n, place, fieldSpec{known: []string{"path", "roll"}}) {
		return
	}
	path := n.get("path")
	if path == nil {
		b.fault(n, place+".path", "the file is not named", "add path: out.ndjson, or a folder with / at its end")
		return
	}
	text, ok := b.text(path, place+".path")
	if !ok {
		return
	}
	if strings.ContainsAny(text, "{}") {
		b.fault(path, place+".path", "patterns in paths are not built yet", "write a plain path")
	}
	s.Path = text
	b.absolute(path, place+".path", text)
	if s.Path != "-" && !strings.HasSuffix(s.Path, "/") && b.unbounded() {
		b.warn(path, place+".path", "one file appears only when the run finishes, and the sources of this job do not end", "end the path with / for a folder of rolled files")
	}
	roll := n.get("roll")
	if roll == nil {
		return
	}
	if !b.mapping(roll, place+".roll", fieldSpec{known: []string{"size"}, later: []string{"every"}}) {
		return
	}
	if !strings.HasSuffix(text, "/") {
		b.fault(roll, place+".roll", "one file is not rolled", "end the path with / for a folder of rolled files")
	}
	if v := roll.get("size"); v != nil {
		if size, ok := b.text(v, place+".roll.size"); ok {
			bytes, err := ParseSize(size)
			if err != nil {
				b.fault(v, place+".roll.size", err.Error(), "write a size such as 64MiB")
			}
			s.Roll = bytes
			if err == nil && bytes < 1<<20 {
				b.warn(v, place+".roll.size", size+" makes very small files", "64MiB and more is usual")
			}
		}
	}
}

// ParseSize reads sizes of documents: whole numbers with B, KiB, MiB or GiB.
func ParseSize(s string) (int64, error) {
	units := []struct {
		name string
		size int64
	}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"B", 1}}
	for _, u := range units {
		if num, ok := strings.CutSuffix(s, u.name); ok {
			v, err := strconv.ParseInt(strings.TrimSpace(num), 10, 64)
			if err != nil || v <= 0 || v > (1<<62)/u.size {
				break
			}
			return v * u.size, nil
		}
	}
	return 0, fmt.Errorf("%q is no size", s)
}

// unbounded says whether any source goes on without end.
func (b *builder) unbounded() bool {
	return slices.ContainsFunc(b.job.Sources, func(s Source) bool { return s.Unbounded() })
}
