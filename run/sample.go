package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"undertide/connect/codec"
	"undertide/connect/file"
	"undertide/connect/kafka"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/look"
)

// SampleOptions say which events of a source are taken.
type SampleOptions struct {
	Rows int        // at most so many; 0 means 1,000
	From kafka.From // Newest, Oldest, or Since At; simulated sources always begin at their start
	At   time.Time
}

const (
	sampleRows = 1000
	// readWhole bounds the files of which the newest events are looked for.
	readWhole = 256 << 20
)

// Sampled are events of a source, in the order of their arrival, and what people should know of them.
type Sampled struct {
	Events []look.Event
	Header string // of CSV
	Notes  []string
}

// Sample takes raw events of a source through its connector; nothing is written and no position moves.
func Sample(ctx context.Context, j *job.Job, s *job.Source, o SampleOptions) (Sampled, error) {
	if o.Rows <= 0 {
		o.Rows = sampleRows
	}
	switch s.Via {
	case "kafka":
		c, err := Reach(s.Kafka.Connection)
		if err != nil {
			return Sampled{}, err
		}
		return SampleTopic(ctx, c, kafka.PeekConfig{Topic: s.Kafka.Topic, From: o.From, At: o.At, Limit: o.Rows})
	case "simulate":
		var out Sampled
		err := drain(ctx, Simulated(s), o.Rows, &out)
		return out, err
	}
	pattern := s.File.Pattern
	if pattern == "-" {
		return Sampled{}, fmt.Errorf("%w: source %s reads standard input, which cannot be looked at beforehand; put the events into a file and give --in %s=PATH", ErrUsage, s.Name, s.Name)
	}
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(j.Dir, pattern)
	}
	out, err := SampleFile(ctx, pattern, s.Decode, o)
	if err != nil {
		return out, fmt.Errorf("source %s: %w", s.Name, err)
	}
	return out, nil
}

// SampleFile takes events of a file, or of the files of a pattern.
func SampleFile(ctx context.Context, pattern, decode string, o SampleOptions) (Sampled, error) {
	var out Sampled
	if o.Rows <= 0 {
		o.Rows = sampleRows
	}
	paths, err := expand(pattern)
	if err != nil {
		return out, err
	}
	form := file.Lines
	if decode == "csv" {
		form = file.CSV
	}
	each := max(1, o.Rows/len(paths))
	for _, path := range paths {
		p := file.NewPartition(path, form, false, 0)
		most := each
		if o.From == kafka.Newest {
			most = -each
			if p.Size() > readWhole {
				most = each
				out.Notes = append(out.Notes, fmt.Sprintf("%s is large: its oldest events were taken, not its newest", path))
			}
		}
		if err := drain(ctx, p, most, &out); err != nil {
			return out, err
		}
	}
	return out, nil
}

// drain reads a partition's first events, or with a negative number its last.
func drain(ctx context.Context, p engine.Partition, most int, out *Sampled) error {
	if err := p.Open(ctx, nil); err != nil {
		return err
	}
	defer p.Close()
	var c engine.Chunk
	var events []look.Event
	for !c.Last && (most < 0 || len(events) < most) {
		c.Reset()
		if err := p.Read(ctx, &c); err != nil {
			return err
		}
		if len(c.Header) > 0 {
			out.Header = string(c.Header)
		}
		for i := range c.Starts {
			events = append(events, look.Event{Partition: p.Name(), Offset: c.Offset(i), Text: append([]byte(nil), c.Event(i)...)})
		}
		if most < 0 && len(events) > -8*most {
			events = append(events[:0], events[len(events)+most:]...)
		}
	}
	if most > 0 && len(events) > most {
		events = events[:most]
	} else if most < 0 && len(events) > -most {
		events = events[len(events)+most:]
	}
	out.Events = append(out.Events, events...)
	return nil
}

// SampleTopic takes events of a topic.
func SampleTopic(ctx context.Context, c kafka.Connection, p kafka.PeekConfig) (Sampled, error) {
	var out Sampled
	l, err := kafka.Look(c)
	if err != nil {
		return out, err
	}
	defer l.Close()
	found, err := l.Peek(ctx, p)
	if err != nil {
		return out, err
	}
	out.Events = EventsOf(found.Records)
	var kept, was int64
	for _, s := range found.Spans {
		kept += s.End - s.Start
		was += s.End
	}
	switch {
	case len(out.Events) > 0:
	case was == 0:
		out.Notes = append(out.Notes, fmt.Sprintf("topic %s is empty: nothing was ever sent to it", p.Topic))
	case kept == 0:
		out.Notes = append(out.Notes, fmt.Sprintf("topic %s is empty now: it had events up to offset %d, which the broker has deleted", p.Topic, was))
	case p.From == kafka.Since:
		out.Notes = append(out.Notes, fmt.Sprintf("topic %s has no event stored since %s; look at its newest or oldest instead", p.Topic, p.At.UTC().Format(time.RFC3339)))
	default:
		out.Notes = append(out.Notes, fmt.Sprintf("topic %s has only markers of transactions, or events that are not committed", p.Topic))
	}
	return out, nil
}

// EventsOf gives a broker's events as samples hold them.
func EventsOf(records []kafka.Record) []look.Event {
	out := make([]look.Event, len(records))
	for i, r := range records {
		out[i] = look.Event{Partition: fmt.Sprint(r.Partition), Offset: r.Offset, Key: r.Key, Stored: r.Stored, Text: r.Value}
		for _, h := range r.Headers {
			out[i].Headers = append(out[i].Headers, look.Header{Name: h.Name, Value: h.Value})
		}
	}
	return out
}

// sampled is a partition of events of a sample. It takes what the connector knew of them along.
type sampled struct {
	memory
	all    []look.Event
	header string
}

func sampledPartitions(s Sampled) (out []engine.Partition) {
	at := map[string]int{}
	for _, e := range s.Events {
		n, ok := at[e.Partition]
		if !ok {
			n = len(out)
			at[e.Partition] = n
			out = append(out, &sampled{memory: memory{name: e.Partition, turn: row.MaxRows, ends: true}, header: s.Header})
		}
		p := out[n].(*sampled) // made above
		p.events, p.all = append(p.events, string(e.Text)), append(p.all, e)
	}
	if len(out) == 0 {
		out = append(out, &sampled{memory: memory{name: "none", turn: 1, ends: true}})
	}
	return out
}

func (p *sampled) Read(ctx context.Context, c *engine.Chunk) error {
	first := p.next
	if err := p.memory.Read(ctx, c); err != nil {
		return err
	}
	c.Header = []byte(p.header)
	for _, e := range p.all[first:p.next] {
		c.Offsets = append(c.Offsets, e.Offset)
	}
	c.Meta = sampledMeta(p.all[first:p.next])
	return nil
}

type sampledMeta []look.Event

func (m sampledMeta) Append(c *row.Column, field string, i int) {
	e := m[i]
	switch {
	case field == "meta.key" && e.Key != nil:
		c.AppendBytes(e.Key)
		return
	case field == "meta.stored" && !e.Stored.IsZero():
		c.AppendInt(int64(row.TimeOf(e.Stored)))
		return
	}
	for n := len(e.Headers) - 1; n >= 0; n-- {
		if "meta.headers."+e.Headers[n].Name == field {
			c.AppendBytes([]byte(e.Headers[n].Value))
			return
		}
	}
	c.AppendNull()
}

// decoderOf makes what decodes the raw events of a source.
func decoderOf(s *job.Source) engine.Decoder {
	fields := CodecFields(s.Fields)
	switch s.Decode {
	case "text":
		return codec.NewTextDecoder(fields, s.Pattern)
	case "csv":
		return codec.NewCSVDecoder(fields)
	}
	return codec.NewJSONDecoder(fields)
}

// Decoded is an event of a sample as a document's source decodes it.
type Decoded struct {
	Row    json.RawMessage // null where it is a reject
	Time   *string         // its event time; null for none
	Reason string          // why it is a reject; empty for a row
}

// Decode decodes a sample's events one by one, as the document's source would.
func Decode(s *job.Source, sample Sampled) []Decoded {
	out := make([]Decoded, len(sample.Events))
	enc := TextOf(s.Schema)
	eachRow(s, sample, func(i int, b *row.Batch, rejects []step.Reject) {
		if b.N == 0 {
			out[i].Reason = "not decoded"
			if len(rejects) > 0 {
				out[i].Reason = rejects[0].Reason + ": " + rejects[0].Message
			}
			return
		}
		out[i].Row = json.RawMessage(strings.TrimSuffix(string(enc.Append(nil, step.ViewOf(b, nil))), "\n"))
		if t, ok := eventTime(s, b); ok {
			text := t.String()
			out[i].Time = &text
		} else if s.EventTime != nil {
			out[i].Reason = step.NoEventTime + ": " + s.EventTime.Text() + " is null"
		}
	})
	return out
}

// eachRow decodes a sample's events one by one: next is given a batch of one row with its meta fields, or
// an empty one and the reject.
func eachRow(s *job.Source, sample Sampled, next func(i int, b *row.Batch, rejects []step.Reject)) {
	d, b := decoderOf(s), row.NewBatch(s.Schema)
	for i, e := range sample.Events {
		c := engine.Chunk{Raw: e.Text, Starts: []uint32{0}, Ends: []uint32{uint32(len(e.Text))}, Header: []byte(sample.Header), Offsets: []int64{e.Offset}}
		b.Reset()
		rejects := d.Decode(&c, b, nil)
		fillMeta(s, b, sampledMeta{e}, e)
		next(i, b, rejects)
	}
}

func fillMeta(s *job.Source, b *row.Batch, meta sampledMeta, e look.Event) {
	for n, f := range s.Schema {
		if !f.Hidden || b.Cols[n].Len() == b.N {
			continue
		}
		switch f.Name {
		case "meta.partition":
			b.Cols[n].AppendBytes([]byte(e.Partition))
		case "meta.offset":
			b.Cols[n].AppendInt(e.Offset)
		default:
			meta.Append(b.Cols[n], f.Name, 0)
		}
	}
}

// eventTime evaluates the source's event time for the batch's only row.
func eventTime(s *job.Source, b *row.Batch) (row.Time, bool) {
	if s.EventTime == nil {
		return 0, false
	}
	v, err := s.EventTime.Eval(b.Cols, 0)
	if err != nil || v.Null {
		return 0, false
	}
	return row.Time(v.I), true
}

// LatenessIn tells how late the events of a sample come by a document's source, and what the windows of
// the document would lose of them.
func LatenessIn(j *job.Job, s *job.Source, sample Sampled) look.Lateness {
	var timed []look.Timed
	var key *expr.Program
	var end func(row.Time) row.Time
	for i := range j.Steps {
		w, ok := j.Steps[i].Keyed.(*step.Window)
		if !ok || w.Aligned == nil || !readsFrom(j, &j.Steps[i], s.Name) {
			continue
		}
		accept := w.Accept
		a := w.Aligned
		end = func(t row.Time) row.Time { return a.LastEnd(t).Plus(accept) }
		if k := w.Spec().KeySchema(); len(k) > 0 && s.Schema.Index(k[0].Name) >= 0 {
			key, _ = expr.Compile(k[0].Name, expr.Scope{Fields: s.Schema})
		}
		break
	}
	eachRow(s, sample, func(i int, b *row.Batch, _ []step.Reject) {
		if b.N == 0 {
			return
		}
		t, ok := eventTime(s, b)
		if !ok {
			return
		}
		e := sample.Events[i]
		one := look.Timed{Partition: e.Partition, At: t, Stored: e.Stored, Key: string(e.Key)}
		if key != nil {
			if v, err := key.Eval(b.Cols, 0); err == nil && !v.Null {
				one.Key = plainText(v)
			}
		}
		timed = append(timed, one)
	})
	return look.LatenessOf(timed, s.Margin, end)
}

// plainText gives a value as people write it: texts without quotes.
func plainText(v expr.Value) string {
	if v.Kind == row.String && !v.Null {
		return v.S
	}
	return v.String()
}

// readsFrom says whether a step's rows come from a source, straight or through other steps.
func readsFrom(j *job.Job, st *job.Step, source string) bool {
	for _, in := range st.From {
		if !in.OfStep && j.Sources[in.At].Name == source || in.OfStep && readsFrom(j, &j.Steps[in.At], source) {
			return true
		}
	}
	return false
}

// ErrNoSource is wrapped where a document has no such source.
var ErrNoSource = errors.New("no such source")

// SourceNamed finds a source of a document; an empty name means the only one.
func SourceNamed(j *job.Job, name string) (*job.Source, error) {
	known := names(j.Sources, func(s *job.Source) string { return s.Name })
	for i := range j.Sources {
		if j.Sources[i].Name == name || name == "" && len(j.Sources) == 1 {
			return &j.Sources[i], nil
		}
	}
	if name == "" {
		return nil, fmt.Errorf("%w: the document has several sources; name one of %s", ErrNoSource, strings.Join(known, ", "))
	}
	remedy := "it has " + strings.Join(known, ", ")
	if n := job.Nearest(name, known); n != "" {
		remedy = "did you mean " + n + "?"
	}
	return nil, fmt.Errorf("%w: the document has no source %s; %s", ErrNoSource, name, remedy)
}
