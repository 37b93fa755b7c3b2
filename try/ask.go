package try

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/job"
	"undertide/look"
)

// WrongQuestion says what is wrong with a condition or a list of fields, and what would be right.
type WrongQuestion struct{ Message, Remedy string }

func (w WrongQuestion) Error() string { return w.Message + "; " + w.Remedy }

// noField is the fault of a name that is not a field.
func noField(message, name string, known []string) WrongQuestion {
	if near := job.Nearest(name, known); near != "" {
		return WrongQuestion{message, "did you mean " + near + "?"}
	}
	return WrongQuestion{message, "the fields are " + strings.Join(known, ", ")}
}

// Where makes a test for rows, given as JSON, of an expression over their fields; true for all where there is none. An error is a
// [WrongQuestion]. The test is for one goroutine at a time.
func Where(schema row.Schema, text string) (func(row json.RawMessage) bool, error) {
	if text == "" {
		return func(json.RawMessage) bool { return true }, nil
	}
	p, faults := expr.Compile(text, expr.Scope{Fields: schema})
	for _, f := range faults {
		if f.Name != "" {
			return nil, noField("where: "+f.Message, f.Name, schema.Names())
		}
		return nil, WrongQuestion{"where: " + f.Message, f.Remedy}
	}
	if p.Kind() != row.Bool {
		return nil, WrongQuestion{fmt.Sprintf("where: a condition is a bool, and this is %s", row.A(p.Kind())), "compare it with something, as in n > 3"}
	}
	again := NewRereader(schema)
	return func(r json.RawMessage) bool {
		b := again.Read(r)
		if b.N == 0 {
			return false
		}
		v, err := p.Eval(b.Cols, 0)
		return err == nil && !v.Null && v.I != 0
	}, nil
}

// Rereader reads rows that were written as JSON again. One goroutine at a time.
type Rereader struct {
	decoder engine.Decoder
	chunk   engine.Chunk
	batch   *row.Batch
}

// NewRereader makes one for rows of these fields.
func NewRereader(schema row.Schema) *Rereader {
	var fields codec.Fields
	for _, f := range schema {
		fields = append(fields, codec.Field{Name: f.Name, Kind: f.Kind})
	}
	return &Rereader{decoder: connect.FormatNamed("json").Decode().Decoder(fields), batch: row.NewBatch(schema)}
}

// Read gives rows as a batch, until the next call; those that do not fit are left out.
func (r *Rereader) Read(rows ...json.RawMessage) *row.Batch {
	r.chunk.Reset()
	r.batch.Reset()
	for _, x := range rows {
		r.chunk.Starts = append(r.chunk.Starts, uint32(len(r.chunk.Raw)))
		r.chunk.Raw = append(r.chunk.Raw, x...)
		r.chunk.Ends = append(r.chunk.Ends, uint32(len(r.chunk.Raw)))
	}
	r.decoder.Decode(&r.chunk, r.batch, nil)
	return r.batch
}

// Question is what is asked of a stream's events without a job: which of them, and which of their fields.
type Question struct {
	Where string   // over the fields of the events; empty for all
	Only  []string // fields to show; none for all
	// Rows is how many that fit are wanted at most: the last of those that are looked at, or the first where First says so.
	Rows  int
	First bool
}

// Asked says whether anything is.
func (q Question) Asked() bool { return q.Where != "" || len(q.Only) > 0 }

// Sampled gives what events to look at for an answer: with a condition many more than are wanted.
func (q Question) Sampled(o connect.Sampling) connect.Sampling {
	if q.Where != "" {
		o.Rows = lookedThrough
	}
	return o
}

// lookedThrough is how many events are looked through for those that fit.
const lookedThrough = 20_000

// Asker answers a question about events. One goroutine at a time.
type Asker struct {
	Question
	schema row.Schema
	fits   func(json.RawMessage) bool
	row    func(connect.Event) json.RawMessage // nil where it does not decode
}

// AskSource asks about events of a document's source, by its fields.
func AskSource(q Question, s *job.Source) (*Asker, error) {
	return newAsker(q, s.Schema.Only(s.Schema.Visible()), func(e connect.Event) json.RawMessage {
		return Decode(s, connect.Sample{Events: []connect.Event{e}})[0].Row
	})
}

// AskSample asks about events that no document declares, by the fields that are inferred from some of them.
func AskSample(q Question, sample connect.Sample) (*Asker, error) {
	_, inf, err := look.Infer(sample)
	if err != nil {
		return nil, err
	}
	var schema row.Schema
	for _, f := range inf.Fields {
		kind, ok := row.ParseKind(f.Type)
		if !ok {
			continue
		}
		schema = append(schema, row.Field{Name: f.Name, Kind: kind})
	}
	return newAsker(q, schema, func(e connect.Event) json.RawMessage {
		values, err := inf.Decoded(e)
		if err != nil {
			return nil
		}
		return rowOf(schema, values)
	})
}

// RowsOf gives events as rows, by the fields that are inferred from them, with the numbers as they were declared; nil for one that does not read as the
// others do.
func RowsOf(sample connect.Sample, declared row.Schema) (row.Schema, []json.RawMessage, error) {
	if len(sample.Events) == 0 {
		return nil, nil, nil
	}
	a, err := AskSample(Question{}, sample)
	if err != nil {
		return nil, nil, err
	}
	number := func(k row.Kind) bool { return k == row.Int || k == row.Double || k == row.Decimal }
	for i := range a.schema { // also those that the rows are written by
		if n := declared.Index(a.schema[i].Name); n >= 0 && number(declared[n].Kind) && number(a.schema[i].Kind) {
			a.schema[i].Kind = declared[n].Kind
		}
	}
	var out []json.RawMessage
	for _, e := range sample.Events {
		out = append(out, a.row(e))
	}
	return a.schema, out, nil
}

// rowOf writes values that are text as a row.
func rowOf(schema row.Schema, values []connect.Header) json.RawMessage {
	var b bytes.Buffer
	b.WriteByte('{')
	for _, v := range values {
		f := schema.Index(v.Name)
		if f < 0 {
			continue
		}
		text := v.Value
		switch kind := schema[f].Kind; {
		case text == "null":
		case kind == row.Int || kind == row.Double || kind == row.Bool:
			if !json.Valid([]byte(text)) {
				text = "null"
			}
		case kind.Plain():
			text = strconv.Quote(text)
			if quoted, err := json.Marshal(v.Value); err == nil {
				text = string(quoted)
			}
		default:
			text = "null" // lists and maps are shown, and not asked about
		}
		if b.Len() > 1 {
			b.WriteByte(',')
		}
		b.WriteString(strconv.Quote(v.Name) + ":" + text)
	}
	b.WriteByte('}')
	return b.Bytes()
}

func newAsker(q Question, schema row.Schema, of func(connect.Event) json.RawMessage) (*Asker, error) {
	for _, name := range q.Only {
		if schema.Index(name) < 0 {
			return nil, noField("only: there is no field "+name, name, schema.Names())
		}
	}
	fits, err := Where(schema, q.Where)
	return &Asker{Question: q, schema: schema, fits: fits, row: of}, err
}

// Fits says whether an event is one that was asked for; without a condition all are.
func (a *Asker) Fits(e connect.Event) bool {
	if a.Where == "" {
		return true
	}
	r := a.row(e)
	return r != nil && a.fits(r)
}

// Of gives the events of a sample that fit, at most as many as are wanted, and notes how many were looked through.
func (a *Asker) Of(sample connect.Sample) connect.Sample {
	if a.Where == "" {
		return sample
	}
	looked := len(sample.Events)
	fit := slices.DeleteFunc(slices.Clone(sample.Events), func(e connect.Event) bool { return !a.Fits(e) })
	found := len(fit)
	switch {
	case found > a.Rows && a.First:
		fit = fit[:a.Rows]
	case found > a.Rows:
		fit = fit[found-a.Rows:]
	}
	sample.Events = fit
	text := fmt.Sprintf("%d of %d events that were looked through fit", found, looked)
	if len(fit) < found {
		text += fmt.Sprintf("; %d are shown", len(fit))
	}
	sample.Notes = append(slices.Clone(sample.Notes), text)
	return sample
}

// Shown keeps of an event's values those that were asked for, in their order.
func (a *Asker) Shown(values []connect.Header) []connect.Header {
	if len(a.Only) == 0 {
		return values
	}
	out := []connect.Header{}
	for _, name := range a.Only {
		if at := slices.IndexFunc(values, func(v connect.Header) bool { return v.Name == name }); at >= 0 {
			out = append(out, values[at])
		}
	}
	return out
}
