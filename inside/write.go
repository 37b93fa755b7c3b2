package inside

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// Forms are the forms in which rows are written.
var Forms = []string{"table", "json", "csv", "parquet"}

// Shown are rows of a step's state, as the service answers.
type Shown struct {
	About
	Table  string            `json:"table"`
	Tables []string          `json:"tables"`
	Fields []Field           `json:"fields"`
	Rows   []json.RawMessage `json:"rows"`
	// More says that there are others behind the limit.
	More bool `json:"more"`
}

// About names the checkpoint that something is said of.
type About struct {
	Job     string    `json:"job"`
	Step    string    `json:"step"`
	Epoch   int64     `json:"epoch"`
	Written time.Time `json:"written"`
	// Watermark is the W of the step in it; null before the first row.
	Watermark *time.Time `json:"watermark"`
}

// Field is a field of what is shown.
type Field struct {
	Name string `json:"name"`
	Kind string `json:"kind"`
}

func fieldsOf(s row.Schema) []Field {
	out := []Field{}
	for _, f := range s {
		out = append(out, Field{f.Name, f.Kind.String()})
	}
	return out
}

// About gives the words that begin every answer.
func (s *Step) About() About {
	return About{Job: s.Job, Step: s.Name, Epoch: s.Epoch, Written: s.Written, Watermark: moment(s.Watermark)}
}

// moment gives a time that is none of the infinities.
func moment(t row.Time) *time.Time {
	if t < row.FirstTime || t > row.LastTime {
		return nil
	}
	std := t.Std()
	return &std
}

// Show gives rows as the service answers.
func (s *Step) Show(a Asked) (Shown, error) {
	schema, err := s.Schema(a)
	if err != nil {
		return Shown{}, err
	}
	out := Shown{About: s.About(), Table: a.Table, Tables: s.Tables(), Fields: fieldsOf(schema), Rows: []json.RawMessage{}}
	enc := ndjson.NewEncoder(schema)
	out.More, err = s.Rows(a, func(b *row.Batch) error {
		for line := range strings.Lines(string(encoded(enc, b))) {
			out.Rows = append(out.Rows, json.RawMessage(strings.TrimSuffix(line, "\n")))
		}
		return nil
	})
	return out, err
}

// encoded gives the text of a batch that may have more rows than an encoder takes at once.
func encoded(enc engine.Encoder, b *row.Batch) (text []byte) {
	part := row.NewBatch(b.Schema)
	for i := range b.N {
		part.AppendFrom(b, i)
		if part.N == row.MaxRows || i == b.N-1 {
			text = enc.Append(text, step.ViewOf(part))
			part.Reset()
		}
	}
	return text
}

// Write writes rows in one of Forms; it says whether there are others behind the limit.
func (s *Step) Write(w io.Writer, form string, a Asked) (more bool, err error) {
	schema, err := s.Schema(a)
	if err != nil {
		return false, err
	}
	f := connect.FormatNamed(form)
	if f == nil || !slices.Contains(Forms, form) {
		return false, fmt.Errorf("%w: --format %s: give %s", ErrUsage, form, strings.Join(Forms, ", "))
	}
	err = WriteAs(w, f, schema, func(write func(*row.Batch) error) (err error) {
		more, err = s.Rows(a, write)
		return err
	})
	return more, err
}

// WriteAs writes the rows that each gives, batch by batch, in a form: with what stands before all rows, and what ends the file.
func WriteAs(w io.Writer, f *connect.Format, schema row.Schema, each func(write func(*row.Batch) error) error) error {
	enc := f.Encode(schema)
	if f.Pack != nil {
		p := f.Pack(w, schema)
		err := each(func(b *row.Batch) error { return p.Write(encoded(enc, b), b.N) })
		return errors.Join(err, p.Close())
	}
	if f.Head != nil {
		if _, err := w.Write(f.Head(schema)); err != nil {
			return err
		}
	}
	return each(func(b *row.Batch) error {
		_, err := w.Write(encoded(enc, b))
		return err
	})
}

// SpansShown are the spans of a step.
type SpansShown struct {
	About
	Spans []SpanShown `json:"spans"`
}

// SpanShown is one: its start is null where rows stand in none, its end where nothing ends.
type SpanShown struct {
	Start *time.Time `json:"start"`
	Until *time.Time `json:"until"`
	Keys  int64      `json:"keys"`
	Rows  int64      `json:"rows"`
	// In is how far the watermark is from Until, in seconds; null where one of them is not known.
	In *float64 `json:"in_seconds"`
}

// ShowSpans gives the spans as the service answers.
func (s *Step) ShowSpans() (SpansShown, error) {
	spans, err := s.Spans()
	out := SpansShown{About: s.About(), Spans: []SpanShown{}}
	spanned := len(s.tables) > 0 && s.tables[0].Span != ""
	for _, p := range spans {
		v := SpanShown{Keys: p.Keys, Rows: p.Rows}
		if spanned {
			v.Start = moment(p.Start)
		}
		if p.Ends {
			v.Until = moment(p.Until)
		}
		if v.Until != nil && out.Watermark != nil {
			left := v.Until.Sub(*out.Watermark).Seconds()
			v.In = &left
		}
		out.Spans = append(out.Spans, v)
	}
	return out, err
}

// SkewShown is how a step's state lies over the key space.
type SkewShown struct {
	About
	Keys     int64   `json:"keys"`
	Rows     int64   `json:"rows"`
	Bytes    int64   `json:"bytes"`
	Shares   []Share `json:"shares"` // those that have any
	Lanes    []Share `json:"lanes"`
	Heaviest []Heavy `json:"heaviest"`
}

// Share is one of 240 parts of the key space, or a lane.
type Share struct {
	Number int   `json:"number"`
	Keys   int64 `json:"keys"`
	Rows   int64 `json:"rows"`
	Bytes  int64 `json:"bytes"`
}

// ShowSkew gives the skew as the service answers, for so many lanes, with so many of the heaviest keys.
func (s *Step) ShowSkew(lanes, heaviest int) (SkewShown, error) {
	k, err := s.Skew(lanes, heaviest)
	out := SkewShown{About: s.About(), Shares: []Share{}, Lanes: []Share{}, Heaviest: []Heavy{}}
	if err != nil {
		return out, err
	}
	out.Keys, out.Rows, out.Bytes, out.Heaviest = k.Keys, k.Rows, k.Bytes, append(out.Heaviest, k.Heaviest...)
	for n, p := range k.Shares {
		if p.Keys > 0 {
			out.Shares = append(out.Shares, Share{n, p.Keys, p.Rows, p.Bytes})
		}
	}
	for n, p := range k.Lanes {
		out.Lanes = append(out.Lanes, Share{n, p.Keys, p.Rows, p.Bytes})
	}
	return out, nil
}

// ComparedShown is what differs between two checkpoints.
type ComparedShown struct {
	About
	From        About             `json:"from"`
	Same        int64             `json:"same"`
	Came        int64             `json:"came"`
	Changed     int64             `json:"changed"`
	Went        int64             `json:"went"`
	Fields      []Field           `json:"fields"`
	Differences []ShownDifference `json:"differences"`
}

// ShownDifference is a row that differs; null where it was not, or is not there.
type ShownDifference struct {
	Was json.RawMessage `json:"was"`
	Is  json.RawMessage `json:"is"`
}

// ShowCompared compares a step of two checkpoints as the service answers.
func ShowCompared(was, is *Step, a Asked) (ComparedShown, error) {
	schema, err := is.Schema(a)
	if err != nil {
		return ComparedShown{}, err
	}
	out := ComparedShown{About: is.About(), From: was.About(), Fields: fieldsOf(schema), Differences: []ShownDifference{}}
	enc := ndjson.NewEncoder(schema)
	text := func(b *row.Batch) json.RawMessage {
		if b == nil {
			return json.RawMessage("null")
		}
		return json.RawMessage(strings.TrimSuffix(string(enc.Append(nil, step.ViewOf(b))), "\n"))
	}
	c, err := Compare(was, is, a, func(d Difference) error {
		out.Differences = append(out.Differences, ShownDifference{text(d.Was), text(d.Is)})
		return nil
	})
	out.Same, out.Came, out.Changed, out.Went = c.Same, c.Came, c.Changed, c.Went
	return out, err
}
