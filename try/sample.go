package try

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"undertide/connect"
	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/look"
	"undertide/run"
)

const sampleRows = 1000

// opening is what a source of a document is looked at with.
func opening(j *job.Job, s *job.Source) connect.Opening {
	return connect.Opening{Name: s.Name, Dir: j.Dir, Format: s.Decode, Fields: s.Fields}
}

// Sample takes raw events of a source through its connector; nothing is written and no position moves. Rows of 0 means
// 1,000.
func Sample(ctx context.Context, j *job.Job, s *job.Source, o connect.Sampling) (connect.Sample, error) {
	if o.Rows <= 0 {
		o.Rows = sampleRows
	}
	out, err := s.With.Sample(ctx, opening(j, s), o)
	if err != nil && !errors.Is(err, connect.ErrUsage) {
		return out, fmt.Errorf("source %s: %w", s.Name, err)
	}
	return out, err
}

// sampleFile takes events of a file, or of the files of a pattern, that stands in a source's place.
func sampleFile(ctx context.Context, path string, s *job.Source, rows int) (connect.Sample, error) {
	if rows <= 0 {
		rows = sampleRows
	}
	return connect.AtPath(path).Sample(ctx, connect.Opening{Name: s.Name, Format: s.Decode, Fields: s.Fields}, connect.Sampling{Rows: rows, From: connect.Oldest})
}

// SampleStream takes events of a stream of a connection, such as a topic.
func SampleStream(ctx context.Context, c *connect.Connection, stream string, o connect.Sampling) (connect.Sample, error) {
	s, err := c.At(stream)
	if err != nil {
		return connect.Sample{}, err
	}
	return s.Sample(ctx, connect.Opening{}, o)
}

// sampled is a partition of events of a sample. It takes what the connector knew of them along.
type sampled struct {
	memory.Partition
	all    []connect.Event
	header string
	text   func(event []byte) []byte
}

func sampledPartitions(s connect.Sample) (out []engine.Partition) {
	at := map[string]int{}
	for _, e := range s.Events {
		n, ok := at[e.Partition]
		if !ok {
			n = len(out)
			at[e.Partition] = n
			out = append(out, &sampled{Partition: memory.Partition{Called: e.Partition, Turn: row.MaxRows, Ends: true}, header: s.Header, text: s.Text})
		}
		p := out[n].(*sampled) // made above
		p.Events, p.all = append(p.Events, string(e.Text)), append(p.all, e)
	}
	if len(out) == 0 {
		out = append(out, &sampled{Partition: memory.Partition{Called: "none", Turn: 1, Ends: true}})
	}
	return out
}

func (p *sampled) Read(ctx context.Context, c *engine.Chunk) error {
	first := p.Next
	if err := p.Partition.Read(ctx, c); err != nil {
		return err
	}
	c.Header, c.Text = []byte(p.header), p.text
	for _, e := range p.all[first:p.Next] {
		c.Offsets = append(c.Offsets, e.Offset)
	}
	c.Meta = sampledMeta(p.all[first:p.Next])
	return nil
}

type sampledMeta []connect.Event

func (m sampledMeta) Append(c *row.Column, field string, i int) {
	e := m[i]
	switch {
	case field == "meta.key" && e.Key != nil:
		c.AppendBytes(e.Key)
		return
	case field == "meta.stored" && !e.Stored.IsZero():
		c.AppendInt(int64(row.TimeOf(e.Stored)))
		return
	case e.Hidden != nil && e.Hidden(c, field):
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

// Decoded is an event of a sample as a document's source decodes it.
type Decoded struct {
	Row    json.RawMessage // null where it is a reject
	Time   *string         // its event time; null for none
	Reason string          // why it is a reject; empty for a row
}

// Decode decodes a sample's events one by one, as the document's source would.
func Decode(s *job.Source, sample connect.Sample) []Decoded {
	out := make([]Decoded, len(sample.Events))
	enc := run.TextOf(s.Schema)
	eachRow(s, sample, func(i int, b *row.Batch, rejects []step.Reject) {
		if b.N == 0 {
			out[i].Reason = "not decoded"
			if len(rejects) > 0 {
				out[i].Reason = rejects[0].Reason + ": " + rejects[0].Message
			}
			return
		}
		out[i].Row = json.RawMessage(strings.TrimSuffix(string(enc.Append(nil, step.ViewOf(b))), "\n"))
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
func eachRow(s *job.Source, sample connect.Sample, next func(i int, b *row.Batch, rejects []step.Reject)) {
	d, b := s.Decoder(), row.NewBatch(s.Schema)
	for i, e := range sample.Events {
		c := engine.Chunk{Raw: e.Text, Starts: []uint32{0}, Ends: []uint32{uint32(len(e.Text))}, Header: []byte(sample.Header), Offsets: []int64{e.Offset}}
		b.Reset()
		rejects := d.Decode(&c, b, nil)
		fillMeta(s, b, sampledMeta{e}, e)
		next(i, b, rejects)
	}
}

func fillMeta(s *job.Source, b *row.Batch, meta sampledMeta, e connect.Event) {
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
func LatenessIn(j *job.Job, s *job.Source, sample connect.Sample) look.Lateness {
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
