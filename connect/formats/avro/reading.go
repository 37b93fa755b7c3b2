package avro

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/hamba/avro/v2"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/row"
)

// guess reads a sample by the schemas that its messages name, or by that of its container.
func guess(s connect.Sample) connect.Guessed {
	r := &sampleReading{registry: s.Registry, known: map[int]*sampleSchema{}, types: map[string]string{}}
	if s.Header != "" {
		schema, err := parse(s.Header)
		if err != nil {
			return connect.Guessed{}
		}
		r.inside, _ = r.schema(schema)
	} else if s.Registry == nil {
		return connect.Guessed{}
	} else {
		r.askNewest(s.Subject)
	}
	read, all := 0, 0
	for _, e := range s.Events {
		if len(e.Text) == 0 {
			continue
		}
		all++
		if _, err := r.Values(e.Text); err == nil {
			read++
		}
	}
	if read == 0 {
		return connect.Guessed{}
	}
	// Of equals the first of the list counts, and no JSON object begins with a zero byte.
	return connect.Guessed{Share: float64(read) / float64(all), Reading: r, Types: r.types}
}

// sampleReading takes events apart by the fields that their schema describes.
type sampleReading struct {
	registry connect.Registry
	inside   *sampleSchema
	known    map[int]*sampleSchema // nil for one that cannot be had
	types    map[string]string
	newest   avro.Schema // by which all are read; nil where each is read by its own
}

// askNewest asks for the newest schema of the stream.
func (r *sampleReading) askNewest(subject string) {
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	if _, text, err := r.registry.Newest(ctx, subject); err == nil {
		if s, err := parse(text); err == nil {
			r.newest = s
		}
	}
}

type sampleSchema struct {
	program *program
	fields  codec.Fields
	rows    *row.Batch
}

func (r *sampleReading) schema(s avro.Schema) (*sampleSchema, error) {
	by := s
	if r.newest != nil {
		by = r.newest
	}
	fields, err := fieldsOf(by)
	if err != nil {
		return nil, err
	}
	p, err := compile(s, fields, aliasesOf(r.newest))
	if err != nil {
		return nil, err
	}
	for _, f := range fields {
		r.types[f.Path()] = f.Kind.String()
	}
	return &sampleSchema{p, fields, row.NewBatch(fields.Schema())}, nil
}

var errNoSchema = errors.New("no schema to read it by")

// of gives the schema of an event, and its body.
func (r *sampleReading) of(event []byte) (*sampleSchema, []byte, error) {
	if r.inside != nil {
		return r.inside, event, nil
	}
	id, ok := schemaOf(event)
	if !ok || r.registry == nil {
		return nil, nil, errNoSchema
	}
	s, ok := r.known[id]
	if !ok {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		text, err := r.registry.Schema(ctx, id)
		if err == nil {
			var parsed avro.Schema
			if parsed, err = parse(text); err == nil {
				s, err = r.schema(parsed)
			}
		}
		if err != nil {
			s = nil
		}
		r.known[id] = s
	}
	if s == nil {
		return nil, nil, errNoSchema
	}
	return s, event[prefix:], nil
}

// Values implements [connect.Reading].
func (r *sampleReading) Values(event []byte) ([]connect.Value, error) {
	s, body, err := r.of(event)
	if err != nil {
		return nil, err
	}
	s.rows.Reset()
	var in reading
	in.reset(body)
	in.cols, in.wrong = s.rows.Cols, -1
	s.program.read(&in)
	if in.err != nil || in.at < len(body) {
		return nil, errNoSchema
	}
	var out []connect.Value
	for i := range s.fields {
		c := s.rows.Cols[i]
		v := connect.Value{Path: s.fields[i].Path()}
		if c.Len() == 0 {
			s.fields[i].Missing(c)
		}
		if !c.IsNull(0) {
			v.V = codec.SampleValue(c)
		}
		out = append(out, v)
	}
	return out, nil
}

var _ fmt.Stringer = (*decoding)(nil) // versions compare how events are decoded by it
