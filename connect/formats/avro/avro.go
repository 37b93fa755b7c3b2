// Package avro is the format avro: records of Avro's binary encoding, by the schema of a registry that each message names, by one of a
// file, or by that of an object container file (docs/connectors.md, "Avro").
package avro

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/hamba/avro/v2"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// Format is avro.
var Format = &connect.Format{
	Name: "avro", Title: "Avro", About: "records of Avro, by their schema", Endings: []string{".avro"},
	Decode: func() connect.Decoding { return &decoding{} }, Guess: guess, Encode: newEncoder, Schema: SchemaOf, Pack: pack,
}

type decoding struct {
	Schema settings.PathText `set:"schema,beside" about:"For decode: avro, a file of the schema, where messages name none of a registry." hint:"weights.avsc"`

	file     avro.Schema // of Schema
	registry connect.Registry
	subject  string
	fault    error // why there is no schema
}

// mostSchema bounds the text of a schema.
const mostSchema = 1 << 20

// Check reads the schema's file, or finds the registry.
func (d *decoding) Check(c *connect.Checker) {
	if d.Schema != "" {
		text, err := c.Files.ReadFile(string(d.Schema), mostSchema)
		if err != nil {
			d.fault = err
			c.Fault(err.Error(), "name a file of an Avro schema (.avsc) that this program may read", "schema")
			return
		}
		if d.file, err = parse(string(text)); err != nil {
			d.fault = err
			c.Fault(err.Error(), "give a schema of a record", "schema")
			return
		}
	}
	var err error
	if d.registry, d.subject, err = connect.RegistryOf(c.Source); err != nil {
		d.fault = err
		c.Fault(err.Error(), "put right the connection's registry", "decode")
		return
	}
	if ended, ok := c.Source.(connect.Ended); ok && ended.Ending() != "" {
		return // a file has its own
	}
	if d.file == nil && d.registry == nil {
		c.Fault("it is not said where the schema is", "add schema: FILE.avsc beside decode, or registry: {url: …} to the connection", "decode")
	}
}

// Described gives the fields that the schema describes, for a document that writes none.
func (d *decoding) Described() (codec.Fields, error) {
	s := d.file
	switch {
	case d.fault != nil:
		return nil, d.fault
	case s == nil && d.registry == nil:
		return nil, errors.New("no schema is at hand")
	case s == nil:
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		_, text, err := d.registry.Newest(ctx, d.subject)
		if err != nil {
			return nil, err
		}
		if s, err = parse(text); err != nil {
			return nil, fmt.Errorf("subject %s: %w", d.subject, err)
		}
	}
	return fieldsOf(s)
}

// String is the same for settings that decode alike.
func (d *decoding) String() string { return string(d.Schema) }

// Decoder implements [connect.Decoding].
func (d *decoding) Decoder(fields codec.Fields) engine.Decoder {
	out := &decoder{fields: fields, registry: d.registry, subject: d.subject, before: aliasesOf(d.file), known: map[int]*program{}, unknown: map[int]string{}}
	out.asked = d.file != nil
	if d.file != nil && d.registry == nil {
		out.bare, out.fault = compile(d.file, fields, nil)
	}
	return out
}

// parse reads a schema on its own: names that other schemas have do not count.
func parse(text string) (avro.Schema, error) {
	s, err := avro.ParseWithCache(text, "", &avro.SchemaCache{})
	if err != nil {
		return nil, fmt.Errorf("it is not an Avro schema: %s", strings.TrimPrefix(err.Error(), "avro: "))
	}
	if actual(s).Type() != avro.Record {
		return nil, fmt.Errorf("the schema is of type %s, and events are records", s.Type())
	}
	return s, nil
}

// decoder reads records. One goroutine at a time.
type decoder struct {
	fields   codec.Fields
	registry connect.Registry
	subject  string
	before   map[string][]string // the names that fields had, as the reader's schema says
	asked    bool                // for the reader's schema
	bare     *program            // of messages that name no schema; nil where they do
	fault    error               // why there is none
	known    map[int]*program
	unknown  map[int]string // why a schema cannot be had

	header  string // of the container at hand
	inside  *program
	reading reading
}

// prefix is how a message names the schema of a registry: a zero byte, and the number in 4 bytes, the greatest first.
const prefix = 5

// schemaOf gives the number of the schema that a message names.
func schemaOf(event []byte) (id int, ok bool) {
	if len(event) < prefix || event[0] != 0 {
		return 0, false
	}
	return int(binary.BigEndian.Uint32(event[1:])), true
}

// Ready implements [engine.Readier]: it gets the schemas that a chunk names, and waits for the registry.
func (d *decoder) Ready(ctx context.Context, c *engine.Chunk) error {
	if len(c.Header) > 0 || d.registry == nil {
		return nil
	}
	for i := range c.Starts {
		id, ok := schemaOf(c.Event(i))
		if !ok || d.known[id] != nil || d.unknown[id] != "" {
			continue
		}
		if err := d.learn(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// learn gets a schema. The newest one of the topic's says which names fields had before, where no file does.
func (d *decoder) learn(ctx context.Context, id int) error {
	if !d.asked {
		d.asked = true
		if _, text, err := d.registry.Newest(ctx, d.subject); err == nil {
			if schema, err := parse(text); err == nil {
				d.before = aliasesOf(schema)
			}
		}
	}
	pauses, said := connect.Pauses(), false
	for {
		text, err := d.registry.Schema(ctx, id)
		switch {
		case err == nil:
			schema, err := parse(text)
			if err == nil {
				d.known[id], err = compile(schema, d.fields, d.before)
			}
			if err != nil {
				d.unknown[id] = fmt.Sprintf("schema %d: %v", id, err)
			}
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case !errors.Is(err, connect.ErrUnreachable):
			d.unknown[id] = err.Error()
			return nil
		}
		if !said {
			slog.Warn("events wait for their schema", "schema", id, "error", err)
			said = true
		}
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Decode implements [engine.Decoder].
func (d *decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	if h := string(c.Header); h != d.header {
		d.header, d.inside = h, nil
		if schema, err := parse(h); err == nil {
			d.inside, d.fault = compile(schema, d.fields, d.before)
		} else {
			d.fault = err
		}
	}
	return codec.EachEvent(c, b, len(d.fields), rejects, d.event)
}

// event reads one event.
func (d *decoder) event(event []byte, b *row.Batch) (reason, message string) {
	p, body := d.bare, event
	if d.header != "" {
		p = d.inside
	} else if d.registry != nil {
		id, ok := schemaOf(event)
		if !ok {
			return step.Malformed, "it names no schema: the first byte is not 0, or it is shorter than five"
		}
		if p, body = d.known[id], event[prefix:]; p == nil {
			return step.Malformed, d.unknown[id]
		}
	}
	if p == nil {
		return step.Malformed, fmt.Sprintf("there is no schema to read it by: %v", d.fault)
	}
	r := &d.reading
	r.reset(body)
	r.cols, r.row, r.wrong = b.Cols, b.N, -1
	p.read(r)
	switch {
	case r.err != nil:
		return step.Malformed, "no Avro of its schema: " + r.err.Error()
	case r.at < len(body):
		return step.Malformed, fmt.Sprintf("no Avro of its schema: %d bytes are left", len(body)-r.at)
	case r.wrong >= 0:
		return step.WrongType, codec.WrongType(&d.fields[r.wrong], "the bytes "+r.reason+" of another type")
	}
	for i := range d.fields {
		if col := b.Cols[i]; col.Len() == b.N && !d.fields[i].Missing(col) {
			return step.Missing, fmt.Sprintf("field %s is missing or null, and has no default", d.fields[i].Name)
		}
	}
	return "", ""
}
