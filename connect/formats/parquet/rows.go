package parquet

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// A row on its way between a file's columns and those of a batch is the values of its fields one after another: a byte that says what
// follows, then 8 bytes of a number, the least first, or a text with its length before it. G1 and 2.5 are
//
//	1, 2, 'G', '1', 1, 0, 0, 0, 0, 0, 0, 4, 64
const (
	absent  = 0 // null: nothing follows
	present = 1
	refused = 2 // what is there is of another type: a text that shows it follows
)

// appendRows appends the first n rows of columns as events.
func appendRows(to *engine.Chunk, cols []*column, n int) {
	raw := to.Raw
	for i := range n {
		to.Starts = append(to.Starts, uint32(len(raw)))
		for _, c := range cols {
			if len(c.wrong) > 0 && c.wrong[i] != "" {
				raw = row.AppendText(append(raw, refused), c.wrong[i])
				continue
			}
			raw = appendValue(raw, c.rows, i)
		}
		to.Ends = append(to.Ends, uint32(len(raw)))
	}
	to.Raw = raw
}

// appendValue appends a value of a column.
func appendValue(dst []byte, c *row.Column, i int) []byte {
	switch {
	case c.IsNull(i):
		return append(dst, absent)
	case c.Kind == row.Double:
		return binary.LittleEndian.AppendUint64(append(dst, present), math.Float64bits(c.F[i]))
	case c.Kind.Text():
		return row.AppendText(append(dst, present), c.Bytes(i))
	}
	return binary.LittleEndian.AppendUint64(append(dst, present), uint64(c.I[i]))
}

var errCut = errors.New("a row is cut short")

// takeValue reads a value that appendValue wrote onto a column, or nothing where it is absent or was refused; shown is what is there then.
func takeValue(data []byte, c *row.Column) (rest []byte, tag byte, shown []byte, err error) {
	if len(data) == 0 {
		return nil, 0, nil, errCut
	}
	tag, data = data[0], data[1:]
	switch {
	case tag == absent:
		return data, tag, nil, nil
	case tag == refused || tag == present && c.Kind.Text():
		text, rest, ok := row.NextText(data)
		if !ok {
			return nil, 0, nil, errCut
		}
		if tag == present {
			c.AppendBytes(text)
		}
		return rest, tag, text, nil
	case tag != present || len(data) < 8:
		return nil, 0, nil, errCut
	case c.Kind == row.Double:
		c.AppendDouble(math.Float64frombits(binary.LittleEndian.Uint64(data)))
	default:
		c.AppendInt(int64(binary.LittleEndian.Uint64(data)))
	}
	return data[8:], tag, nil, nil
}

// decoder reads rows of a container that was opened for the same fields.
type decoder struct {
	fields  codec.Fields
	header  string
	numbers []bool // of the fields that have 8 bytes
}

func newDecoder(fields codec.Fields) engine.Decoder {
	d := &decoder{fields: fields, header: string(headerOf(fields))}
	for i := range fields {
		d.numbers = append(d.numbers, !fields[i].Kind.Text())
	}
	return d
}

// Decode implements [engine.Decoder].
func (d *decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	read := d.row
	if string(c.Header) != d.header {
		read = func([]byte, *row.Batch) (string, string) {
			return step.Malformed, "it is not a row of a Parquet file that was opened for these fields"
		}
	}
	return codec.EachEvent(c, b, len(d.fields), rejects, read)
}

func (d *decoder) row(event []byte, b *row.Batch) (reason, message string) {
	for i := range d.fields {
		c := b.Cols[i]
		if len(event) > 8 && event[0] == present && d.numbers[i] { // most are plain numbers
			if v := binary.LittleEndian.Uint64(event[1:]); c.Kind == row.Double {
				c.F = append(c.F, math.Float64frombits(v))
			} else {
				c.I = append(c.I, int64(v))
			}
			event = event[9:]
			continue
		}
		f := &d.fields[i]
		rest, tag, shown, err := takeValue(event, c)
		switch {
		case err != nil:
			return step.Malformed, err.Error()
		case tag == refused:
			return step.WrongType, codec.WrongType(f, string(shown))
		case tag == absent && !f.Missing(c):
			return step.Missing, fmt.Sprintf("field %s is missing or null, and has no default", f.Name)
		}
		event = rest
	}
	if len(event) > 0 {
		return step.Malformed, "a row is too long"
	}
	return "", ""
}

// guess reads a sample by the fields that its file was opened for.
func guess(s connect.Sample) connect.Guessed {
	var all []described
	if s.Format != "parquet" || json.Unmarshal([]byte(s.Header), &all) != nil {
		return connect.Guessed{}
	}
	r := &reading{}
	g := connect.Guessed{Share: 1, Reading: r, Types: map[string]string{}}
	for _, f := range all {
		kind, ok := row.ParseKind(f.Kind)
		if !ok {
			return connect.Guessed{}
		}
		r.fields = append(r.fields, f)
		r.cols = append(r.cols, row.NewColumn(kind))
		g.Types[f.Path] = f.Kind
	}
	return g
}

// reading takes rows apart.
type reading struct {
	fields []described
	cols   []*row.Column
}

// Values implements [connect.Reading].
func (r *reading) Values(event []byte) (out []connect.Value, err error) {
	for i, c := range r.cols {
		c.Reset()
		var tag byte
		var shown []byte
		if event, tag, shown, err = takeValue(event, c); err != nil {
			return nil, err
		}
		v := connect.Value{Path: r.fields[i].Path}
		switch tag {
		case present:
			v.V = codec.SampleValue(c)
		case refused:
			v.V = string(shown)
		}
		out = append(out, v)
	}
	if len(event) > 0 {
		return nil, errCut
	}
	return out, nil
}
