package csv

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"fmt"
	"slices"
	"unicode/utf8"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// decoder reads RFC 4180 records; the partition's first record names the columns. An empty cell
// is null.
type decoder struct {
	fields codec.Fields
	header string
	column []int // for each field its cell, or -1
	cells  int
	src    bytes.Reader
	in     *bufio.Reader // over src; records takes it as its own
	// records reads one record after another from in, which holds one at a time.
	records *csv.Reader
	found   [][]byte // the cells of the record at hand, of the event or of cell
	cell    []byte
	comma   rune
	named   bool // by the document, not by a header
	quote   byte
	swapped []byte // an event whose quotes are double ones
}

// NewDecoder makes a decoder of CSV records. A nested path is looked up as its names joined by
// dots.
func NewDecoder(fields codec.Fields) engine.Decoder { return newDecoder(fields, ',', nil, '"') }

// newDecoder makes a decoder of records with this sign between cells; names are those of the cells where events have no header.
func newDecoder(fields codec.Fields, comma rune, names []string, quote byte) engine.Decoder {
	d := &decoder{quote: quote, fields: fields, column: make([]int, len(fields)), in: bufio.NewReader(nil), comma: comma, named: len(names) > 0}
	d.records = d.newReader()
	d.place(names)
	return d
}

// newReader makes a reader of what in holds.
func (d *decoder) newReader() *csv.Reader {
	r := csv.NewReader(d.in)
	r.FieldsPerRecord, r.ReuseRecord, r.Comma = -1, true, d.comma
	return r
}

func (d *decoder) learn(header []byte) error {
	r := csv.NewReader(bytes.NewReader(d.asDouble(header)))
	r.Comma = d.comma
	names, err := r.Read()
	if err != nil {
		return fmt.Errorf("the header line is not a CSV record: %w", err)
	}
	for i := range names {
		names[i] = string(d.asWritten([]byte(names[i])))
	}
	d.header = string(header)
	d.place(names)
	return nil
}

// place finds the cell of each field.
func (d *decoder) place(names []string) {
	d.cells = len(names)
	for i, f := range d.fields {
		d.column[i] = slices.Index(names, f.Column())
	}
}

func (d *decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	read := d.record
	if string(c.Header) != d.header && (len(c.Header) > 0 || !d.named) {
		if err := d.learn(c.Header); err != nil {
			read = func([]byte, *row.Batch) (string, string) { return step.Malformed, err.Error() }
		}
	}
	return codec.EachEvent(c, b, len(d.fields), rejects, read)
}

func (d *decoder) record(event []byte, b *row.Batch) (reason, message string) {
	if !utf8.Valid(event) {
		return step.Malformed, "the record is not UTF-8"
	}
	if !d.cut(event) {
		if err := d.read(event); err != nil {
			return step.Malformed, "no CSV record: " + err.Error()
		}
	}
	if len(d.found) != d.cells {
		return step.Malformed, fmt.Sprintf("the record has %d cells, and %d columns are named", len(d.found), d.cells)
	}
	for i := range d.fields {
		f, c := &d.fields[i], b.Cols[i]
		var text []byte
		if d.column[i] >= 0 {
			text = d.found[d.column[i]]
		}
		if len(text) == 0 {
			if !f.Missing(c) {
				return step.Missing, fmt.Sprintf("field %s is missing or empty, and has no default", f.Name)
			}
			continue
		}
		if !f.Set(c, text) {
			return step.WrongType, codec.WrongType(f, fmt.Sprintf("%q", text))
		}
	}
	return "", ""
}

// cut finds the cells of a record that has no quotes and is one line: what stands between the commas, as RFC 4180 has it. All others
// are for the library.
func (d *decoder) cut(event []byte) bool {
	if len(event) == 0 || d.comma >= utf8.RuneSelf || bytes.IndexByte(event, d.quote) >= 0 || bytes.IndexByte(event, '\r') >= 0 || bytes.IndexByte(event, '\n') >= 0 {
		return false
	}
	d.found = d.found[:0]
	for {
		n := bytes.IndexByte(event, byte(d.comma))
		if n < 0 {
			d.found = append(d.found, event)
			return true
		}
		d.found = append(d.found, event[:n])
		event = event[n+1:]
	}
}

// read finds the cells of any record.
func (d *decoder) read(event []byte) error {
	event = d.asDouble(event)
	d.src.Reset(event)
	d.in.Reset(&d.src)
	cells, err := d.records.Read()
	if err != nil {
		return d.wrong(event)
	}
	d.found, d.cell = d.found[:0], d.cell[:0]
	for _, text := range cells {
		from := len(d.cell)
		d.cell = append(d.cell, text...)
		d.asWritten(d.cell[from:])
		d.found = append(d.found, d.cell[from:len(d.cell):len(d.cell)]) // keeps what it is, should cell move
	}
	return nil
}

// asDouble gives an event in which the signs around cells are double quotes, and double quotes these: the reader knows no others. It lasts until
// the next one.
func (d *decoder) asDouble(event []byte) []byte {
	if d.quote == '"' {
		return event
	}
	d.swapped = append(d.swapped[:0], event...)
	return d.asWritten(d.swapped)
}

// asWritten changes them in place, also back.
func (d *decoder) asWritten(b []byte) []byte {
	if d.quote == '"' {
		return b
	}
	for i, c := range b {
		switch c {
		case d.quote:
			b[i] = '"'
		case '"':
			b[i] = d.quote
		}
	}
	return b
}

// wrong says what is wrong with an event, whose lines are counted from its own first: records has read others before.
func (d *decoder) wrong(event []byte) error {
	d.src.Reset(event)
	d.in.Reset(&d.src)
	_, err := d.newReader().Read()
	return err
}

// encoder writes RFC 4180 records without the header; [Head] gives that.
type encoder struct{ cols []int }

// NewEncoder makes an encoder of CSV records.
func NewEncoder(s row.Schema) engine.Encoder { return &encoder{cols: s.Visible()} }

// Head gives the line that names the columns.
func Head(s row.Schema) []byte {
	var out []byte
	for n, name := range s.Names() {
		if n > 0 {
			out = append(out, ',')
		}
		out = appendCell(out, []byte(name))
	}
	return append(out, '\n')
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
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
				dst = appendCell(dst, codec.AppendText(nil, c, int(r)))
			default:
				dst = codec.AppendText(dst, c, int(r))
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
