// Package look tells what is in a stream from a sample of its events: a profile of each field, the
// fields, event time and margin that a document could declare ([Infer]), how late events come
// ([LatenessOf]), and a document to begin with ([Begin]). It reads nothing itself and guesses nothing
// silently: whatever is not certain is said as a doubt (docs/streams.md).
package look

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"time"

	"undertide/member"
)

// Event is one raw event of a sample, in the order in which it arrived in its partition.
type Event struct {
	Partition string
	Offset    int64
	Key       []byte    // nil for none
	Stored    time.Time // zero for none
	Headers   []Header
	Text      []byte
}

// Header is a header of a broker's event.
type Header struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// value is one value of an event: nil, bool, json.Number, string, or []any of a list. object marks a
// list of objects, or a list in a list, which no field can hold.
type value struct {
	path string // names with dots between
	v    any
}

var errNoObject = errors.New("no JSON object")

// flatten gives the values of a JSON object in the order in which they are written, those of nested
// objects by their paths.
func flatten(text []byte) ([]value, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	if t != json.Delim('{') {
		return nil, errNoObject
	}
	var out []value
	if err := object(d, nil, &out); err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errNoObject
	}
	return out, nil
}

func object(d *json.Decoder, at member.Path, out *[]value) error {
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return err
		}
		part, _ := name.(string)
		within := append(at[:len(at):len(at)], member.Part{Name: part})
		path := within.String()
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
			*out = append(*out, value{path, list})
		default:
			*out = append(*out, value{path, t})
		}
	}
	_, err := d.Token()
	return err
}
