// Package csv is the format csv: records of RFC 4180, of which the first names the columns.
package csv

import (
	"encoding/csv"
	"errors"
	"strings"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
)

// Format is csv.
var Format = &connect.Format{
	Name: "csv", Title: "CSV", About: "records with commas between; the first names the columns", Endings: []string{".csv"}, Header: true, Untyped: true,
	Decode: func() connect.Decoding { return &decoding{} }, Encode: NewEncoder, Head: Head, Guess: guess,
}

type decoding struct{}

func (*decoding) Check(*connect.Checker)                     {}
func (*decoding) Decoder(fields codec.Fields) engine.Decoder { return NewDecoder(fields) }

// guess takes a sample that has a header.
func guess(s connect.Sample) connect.Guessed {
	names, err := csv.NewReader(strings.NewReader(s.Header)).Read()
	if err != nil || s.Header == "" {
		return connect.Guessed{}
	}
	return connect.Guessed{Share: 1, Reading: reading(names)}
}

var errNoRecord = errors.New("no record of the header's columns")

// reading takes records apart by the names of the columns.
type reading []string

func (r reading) Values(text []byte) ([]connect.Value, error) {
	cells, err := csv.NewReader(strings.NewReader(string(text))).Read()
	if err != nil || len(cells) != len(r) {
		return nil, errNoRecord
	}
	var out []connect.Value
	for i, c := range cells {
		v := connect.Value{Path: r[i]}
		if c != "" {
			v.V = c
		}
		out = append(out, v)
	}
	return out, nil
}
