// Package ndjson is the format json: one JSON object an event, and in files one a line.
package ndjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/member"
)

// Format is json.
var Format = &connect.Format{
	Name: "json", Title: "NDJSON", About: "a JSON object for each event; in files one a line", Endings: []string{".ndjson", ".jsonl", ".json"},
	Decode: func() connect.Decoding { return &decoding{} }, Encode: NewEncoder, Guess: guess,
}

type decoding struct{}

func (*decoding) Check(*connect.Checker)                     {}
func (*decoding) Decoder(fields codec.Fields) engine.Decoder { return NewDecoder(fields) }

// guess says how many of the events are objects.
func guess(s connect.Sample) connect.Guessed {
	objects, all := 0, 0
	for _, e := range s.Events {
		if len(e.Text) == 0 {
			continue
		}
		all++
		if _, err := (reading{}).Values(e.Text); err == nil {
			objects++
		}
	}
	return connect.Guessed{Share: float64(objects) / float64(max(1, all)), Reading: reading{}}
}

var errNoObject = errors.New("no JSON object")

// reading takes objects apart.
type reading struct{}

// Values gives the values of a JSON object in the order in which they are written, those of nested objects by their
// paths.
func (reading) Values(text []byte) ([]connect.Value, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	if t != json.Delim('{') {
		return nil, errNoObject
	}
	var out []connect.Value
	if err := object(d, nil, &out); err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errNoObject
	}
	return out, nil
}

func object(d *json.Decoder, at member.Path, out *[]connect.Value) error {
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		part, _ := name.(string)
		within := append(at[:len(at):len(at)], member.Part{Name: part})
		t, err := d.Token()
		if err != nil {
			return err
		}
		switch t {
		case json.Delim('{'):
			if err := object(d, within, out); err != nil {
				return err
			}
		case json.Delim('['):
			list := []any{}
			for d.More() {
				var v any
				if err := d.Decode(&v); err != nil {
					return err
				}
				list = append(list, v)
			}
			if _, err := d.Token(); err != nil {
				return err
			}
			*out = append(*out, connect.Value{Path: within.String(), V: list})
		default:
			*out = append(*out, connect.Value{Path: within.String(), V: t})
		}
	}
	_, err := d.Token()
	return err
}
