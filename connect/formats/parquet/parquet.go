// Package parquet is the format parquet: files of columns (Apache Parquet's format specification 2.12). Only the columns that are asked
// for are read. They are read column by column and handed on row by row, each row with the values that its fields take
// (docs/connectors.md, "Parquet").
package parquet

import (
	"encoding/json"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
)

// Format is parquet.
var Format = &connect.Format{
	Name: "parquet", Title: "Parquet", About: "files of columns", Endings: []string{".parquet"},
	Decode: func() connect.Decoding { return &decoding{} }, Open: open, Guess: guess,
	Encode: func(s row.Schema) engine.Encoder { return newEncoder(s) }, Pack: pack,
}

type decoding struct{}

// Check refuses what is not a file.
func (*decoding) Check(c *connect.Checker) {
	if _, file := c.Source.(connect.Ended); !file && c.Source != nil {
		c.Fault("Parquet is of files: their columns stand together, and messages are one event each", "decode: json, csv, text or avro", "decode")
	}
	for i := range c.Fields {
		for _, part := range c.Fields[i].At {
			if part.Item {
				c.Fault("field "+c.Fields[i].Name+" takes an item of a list, which is not taken from Parquet", "take the list, and the item by an expression", "decode")
			}
		}
	}
}

// Decoder implements [connect.Decoding].
func (*decoding) Decoder(fields codec.Fields) engine.Decoder { return newDecoder(fields) }

// String is the same for settings that decode alike.
func (*decoding) String() string { return "" }

// described is a field as the header of chunks has it.
type described struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
}

// headerOf describes what the rows of a container are made of.
func headerOf(fields codec.Fields) []byte {
	all := make([]described, len(fields))
	for i := range fields {
		all[i] = described{fields[i].Path(), fields[i].Kind.String()}
	}
	out, err := json.Marshal(all)
	if err != nil {
		panic(err) // texts
	}
	return out
}
