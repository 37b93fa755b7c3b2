package codec

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"slices"
	"unicode/utf8"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// csvDecoder reads RFC 4180 records; the partition's first record names the columns. An empty cell
// is null.
type csvDecoder struct {
	fields Fields
	header string
	column []int // for each field its cell, or -1
	cells  int
	src    bytes.Reader
}

// NewCSVDecoder makes a decoder of CSV records. A nested path is looked up as its names joined by
// dots.
func NewCSVDecoder(fields Fields) engine.Decoder {
	return &csvDecoder{fields: fields, column: make([]int, len(fields))}
}

func (d *csvDecoder) learn(header []byte) error {
	names, err := csv.NewReader(bytes.NewReader(header)).Read()
	if err != nil {
		return fmt.Errorf("the header line is no CSV record: %w", err)
	}
	d.header, d.cells = string(header), len(names)
	for i, f := range d.fields {
		name := f.Name
		if len(f.At) > 0 {
			name = f.At.Column()
		}
		d.column[i] = slices.Index(names, name)
	}
	return nil
}

func (d *csvDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	read := d.record
	if string(c.Header) != d.header {
		if err := d.learn(c.Header); err != nil {
			read = func([]byte, *row.Batch) (string, string) { return step.Malformed, err.Error() }
		}
	}
	return eachEvent(c, b, len(d.fields), rejects, read)
}

func (d *csvDecoder) record(event []byte, b *row.Batch) (reason, message string) {
	if !utf8.Valid(event) {
		return step.Malformed, "the record is not UTF-8"
	}
	d.src.Reset(event)
	r := csv.NewReader(&d.src)
	r.FieldsPerRecord = -1
	cells, err := r.Read()
	if err != nil {
		return step.Malformed, "no CSV record: " + err.Error()
	}
	if len(cells) != d.cells {
		return step.Malformed, fmt.Sprintf("the record has %d cells, the header %d", len(cells), d.cells)
	}
	for i := range d.fields {
		f, c := &d.fields[i], b.Cols[i]
		text := ""
		if d.column[i] >= 0 {
			text = cells[d.column[i]]
		}
		if text == "" {
			if !f.missing(c) {
				return step.Missing, fmt.Sprintf("field %s is missing or empty, and has no default", f.Name)
			}
		} else if !f.set(c, []byte(text)) {
			return step.WrongType, wrongType(f, fmt.Sprintf("%q", text))
		}
	}
	return "", ""
}

// csvEncoder writes RFC 4180 records without the header; [CSVHeader] gives that.
type csvEncoder struct{ cols []int }

// NewCSVEncoder makes an encoder of CSV records.
func NewCSVEncoder(s row.Schema) engine.Encoder { return &csvEncoder{cols: s.Visible()} }

// CSVHeader gives the line that names the columns.
func CSVHeader(s row.Schema) []byte {
	var out []byte
	for n, name := range s.Names() {
		if n > 0 {
			out = append(out, ',')
		}
		out = appendCell(out, []byte(name))
	}
	return append(out, '\n')
}

func (e *csvEncoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		for n, at := range e.cols {
			if n > 0 {
				dst = append(dst, ',')
			}
			c := v.Cols[at]
			switch {
			case c.IsNull(int(r)):
			case c.Kind == row.String:
				dst = appendCell(dst, c.Bytes(int(r)))
			case !c.Kind.Plain():
				dst = appendCell(dst, AppendText(nil, c, int(r)))
			default:
				dst = AppendText(dst, c, int(r))
			}
		}
		dst = append(dst, '\n')
	}
	return dst
}

// appendCell quotes a cell where RFC 4180 asks for it. An empty string is quoted, to differ from null.
func appendCell(dst, cell []byte) []byte {
	if len(cell) > 0 && !bytes.ContainsAny(cell, ",\"\r\n") && cell[0] != ' ' {
		return append(dst, cell...)
	}
	dst = append(dst, '"')
	for _, b := range cell {
		if b == '"' {
			dst = append(dst, '"')
		}
		dst = append(dst, b)
	}
	return append(dst, '"')
}
