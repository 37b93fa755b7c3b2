// Package csv is the format csv: records of RFC 4180, of which the first names the columns.
package csv

import (
	"encoding/csv"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
)

// Format is csv.
var Format = &connect.Format{
	Name: "csv", Title: "CSV", About: "records with commas between; the first names the columns", Endings: []string{".csv"}, Header: true, Untyped: true,
	Decode: func() connect.Decoding { return &decoding{} }, Encode: NewEncoder, Head: Head, Guess: guess,
}

type decoding struct {
	Delimiter delimiter `set:"delimiter,beside" hint:";" default:"," about:"For decode: csv, what stands between the cells: one sign, or tab."`
	Columns   []string  `set:"columns,beside" hint:"gauge, level_m" about:"For decode: csv of messages, which have no first line: the names of their cells, in order."`
}

// delimiter is one sign; 0 for a comma.
type delimiter rune

// UnmarshalText takes one sign, or tab.
func (d *delimiter) UnmarshalText(text []byte) error {
	if string(text) == "tab" {
		text = []byte("\t")
	}
	c, n := utf8.DecodeRune(text)
	if n == 0 || n < len(text) || c == utf8.RuneError || c == '"' || c == '\n' || c == '\r' {
		return fmt.Errorf("%q is no delimiter; write one sign, such as ';', or tab", text)
	}
	*d = delimiter(c)
	return nil
}

func (d delimiter) comma() rune {
	if d == 0 {
		return ','
	}
	return rune(d)
}

// Check asks for the names of cells where no line has them.
func (d *decoding) Check(c *connect.Checker) {
	_, file := c.Source.(connect.Ended)
	switch {
	case file && len(d.Columns) > 0:
		c.Fault("the first line of a file names the columns", "leave columns out, or write the line into the file", "columns")
	case !file && c.Source != nil && len(d.Columns) == 0:
		c.Fault("messages have no first line that names the columns", "add columns: [gauge, level_m], in the order of the cells", "decode")
	}
	if len(d.Columns) == 0 {
		return
	}
	for i := range c.Fields {
		if want := c.Fields[i].Column(); !slices.Contains(d.Columns, want) {
			c.Fault("no column is named "+want, c.Nearest(want, d.Columns), "columns")
		}
	}
}

// Decoder implements [connect.Decoding].
func (d *decoding) Decoder(fields codec.Fields) engine.Decoder {
	return newDecoder(fields, d.Delimiter.comma(), d.Columns)
}

// guess takes a sample that has a header: what stands most often in it of the usual delimiters is one.
func guess(s connect.Sample) connect.Guessed {
	var most []string
	comma := ','
	for _, c := range []rune{',', ';', '\t', '|'} {
		r := csv.NewReader(strings.NewReader(s.Header))
		r.Comma = c
		if names, err := r.Read(); err == nil && len(names) > len(most) {
			most, comma = names, c
		}
	}
	if s.Header == "" || len(most) == 0 {
		return connect.Guessed{}
	}
	g := connect.Guessed{Share: 1, Reading: reading{most, comma}}
	if comma != ',' {
		g.Settings = map[string]string{"delimiter": strings.Replace(string(comma), "\t", "tab", 1)}
	}
	return g
}

var errNoRecord = errors.New("no record of the header's columns")

// reading takes records apart by the names of the columns.
type reading struct {
	names []string
	comma rune
}

// Values implements [connect.Reading].
func (r reading) Values(text []byte) ([]connect.Value, error) {
	in := csv.NewReader(strings.NewReader(string(text)))
	in.Comma = r.comma
	cells, err := in.Read()
	if err != nil || len(cells) != len(r.names) {
		return nil, errNoRecord
	}
	var out []connect.Value
	for i, c := range cells {
		v := connect.Value{Path: r.names[i]}
		if c != "" {
			v.V = c
		}
		out = append(out, v)
	}
	return out, nil
}
