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
	Name: "csv", Title: "CSV", About: "records with commas between; the first names the columns", Endings: []string{".csv"}, Header: true, Quote: '"', Untyped: true,
	Decode: func() connect.Decoding { return &decoding{} }, Encode: NewEncoder, Head: Head, Guess: guess,
}

type decoding struct {
	Delimiter delimiter `set:"delimiter,beside" hint:";" default:"," about:"For decode: csv, what stands between the cells: one sign, or tab."`
	Columns   []string  `set:"columns,beside" hint:"gauge, level_m" about:"For decode: csv of messages, and of files without a first line that names the columns: the names of the cells, in order."`
	Quote     quote     `set:"quote,beside" hint:"'" default:"\"" about:"For decode: csv, the sign around cells that hold others; none where no sign is."`
}

// quote is the sign around cells; 0 for a double one.
type quote byte

// noQuote is that of texts in which no sign is one. It stands in no text of UTF-8.
const noQuote quote = 0xff

// UnmarshalText takes one sign, or none.
func (q *quote) UnmarshalText(text []byte) error {
	switch {
	case string(text) == "none":
		*q = noQuote
	case len(text) == 1 && text[0] > ' ' && text[0] < 0x7f:
		*q = quote(text[0])
	default:
		return fmt.Errorf("%q is not a sign around cells; write one, such as \"'\", or none", text)
	}
	return nil
}

func (q quote) sign() byte {
	if q == 0 {
		return '"'
	}
	return byte(q)
}

// Shape implements [connect.Shaping].
func (d *decoding) Shape(f connect.Format) connect.Format {
	f.Header, f.Quote = f.Header && len(d.Columns) == 0, d.Quote.sign()
	return f
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
		return fmt.Errorf("%q is not a delimiter; write one sign, such as ';', or tab", text)
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
	case d.Quote != 0 && rune(d.Quote) == d.Delimiter.comma():
		c.Fault("one sign stands between cells and around them", "write another delimiter, or another quote", "quote")
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
	return newDecoder(fields, d.Delimiter.comma(), d.Columns, d.Quote.sign())
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
