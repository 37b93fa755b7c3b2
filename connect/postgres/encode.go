package postgres

import (
	"encoding/binary"
	"encoding/hex"
	"math"

	"undertide/connect/codec"
	"undertide/core/row"
	"undertide/core/step"
)

// Rows travel in one of COPY's two formats (PostgreSQL, "COPY", File Formats).
//
// As binary where each column has the type that is made for its field: nothing is turned into text and read again, which is
// most of the work of both sides. A row is the number of its columns, then for each its length and its bytes, -1 for null.
//
// Else as text, which the server's types read as they like: columns with tabs between, null as \N, and bytes that have a
// meaning there behind a backslash. A newline within a value is written \n, so each line is a row.

// binaryHead begins rows in the binary format: a signature, and no flags; binaryEnd ends them.
var (
	binaryHead = []byte("PGCOPY\n\xff\r\n\x00\x00\x00\x00\x00\x00\x00\x00\x00")
	binaryEnd  = []byte("\xff\xff")
)

// encoder writes rows for a table; which format is known once the table was seen.
type encoder struct {
	w    *writer
	cols []int
	gone int // the column that says that a row is withdrawn; -1 for none
	text []byte
}

func newEncoder(w *writer, s row.Schema) *encoder {
	e := &encoder{w: w, cols: s.Visible(), gone: -1}
	if w.table.key != nil {
		if i := s.Index("withdrawn"); i >= 0 && s[i].Hidden {
			e.gone = i
		}
	}
	return e
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
	if e.w.binary {
		for _, r := range v.Sel {
			dst = e.tuple(dst, v, int(r))
		}
		return dst
	}
	for _, r := range v.Sel {
		i := int(r)
		for n, at := range e.cols {
			if n > 0 {
				dst = append(dst, '\t')
			}
			dst = e.value(dst, v.Cols[at], i)
		}
		if e.w.table.key != nil {
			dst = append(dst, '\t', 'f')
			if e.isGone(v, i) {
				dst[len(dst)-1] = 't'
			}
		}
		dst = append(dst, '\n')
	}
	return dst
}

func (e *encoder) isGone(v step.View, i int) bool {
	return e.gone >= 0 && !v.Cols[e.gone].IsNull(i) && v.Cols[e.gone].I[i] != 0
}

// epoch2000 is where PostgreSQL's time begins, in microseconds since 1970.
const epoch2000 = 946_684_800_000_000

// tuple writes a row in the binary format.
func (e *encoder) tuple(dst []byte, v step.View, i int) []byte {
	n := len(e.cols)
	if e.w.table.key != nil {
		n++
	}
	dst = binary.BigEndian.AppendUint16(dst, uint16(n))
	for _, at := range e.cols {
		c := v.Cols[at]
		switch {
		case c.IsNull(i):
			dst = binary.BigEndian.AppendUint32(dst, math.MaxUint32)
		case c.Kind == row.Int:
			dst = binary.BigEndian.AppendUint64(append(dst, 0, 0, 0, 8), uint64(c.I[i]))
		case c.Kind == row.Double:
			dst = binary.BigEndian.AppendUint64(append(dst, 0, 0, 0, 8), math.Float64bits(c.F[i]))
		case c.Kind == row.Bool:
			dst = append(dst, 0, 0, 0, 1, byte(c.I[i]))
		case c.Kind == row.Timestamp:
			dst = binary.BigEndian.AppendUint64(append(dst, 0, 0, 0, 8), uint64(c.I[i]-epoch2000))
		case c.Kind == row.Duration: // and no days, no months
			dst = binary.BigEndian.AppendUint64(append(dst, 0, 0, 0, 16), uint64(c.I[i]))
			dst = append(dst, 0, 0, 0, 0, 0, 0, 0, 0)
		case c.Kind.Plain():
			dst = binary.BigEndian.AppendUint32(dst, uint32(len(c.Bytes(i))))
			dst = append(dst, c.Bytes(i)...)
		default: // jsonb, in its version 1
			e.text = codec.AppendText(e.text[:0], c, i)
			dst = binary.BigEndian.AppendUint32(dst, uint32(len(e.text)+1))
			dst = append(append(dst, 1), e.text...)
		}
	}
	if e.w.table.key != nil {
		dst = append(dst, 0, 0, 0, 1, 0)
		if e.isGone(v, i) {
			dst[len(dst)-1] = 1
		}
	}
	return dst
}

// binaryTypes are the types of columns, by the server's own names, that take a kind in the binary format; none for a kind
// that is always written as text.
func binaryTypes(k row.Kind) []string {
	switch k {
	case row.String:
		return []string{"text", "varchar", "bpchar"}
	case row.Int:
		return []string{"int8"}
	case row.Double:
		return []string{"float8"}
	case row.Bool:
		return []string{"bool"}
	case row.Bytes:
		return []string{"bytea"}
	case row.Timestamp:
		return []string{"timestamptz", "timestamp"}
	case row.Duration:
		return []string{"interval"}
	case row.Decimal:
		return nil
	}
	return []string{"jsonb"}
}

// texts gives the values of a binary row for people, nil for null.
func (t *table) texts(tuple []byte) (out []*string) {
	rest := tuple[2:]
	for _, f := range t.fields {
		n := int32(binary.BigEndian.Uint32(rest))
		rest = rest[4:]
		if n < 0 {
			out = append(out, nil)
			continue
		}
		v := rest[:n]
		rest = rest[n:]
		c := row.NewColumn(f.Kind)
		switch {
		case f.Kind == row.Double:
			c.AppendDouble(math.Float64frombits(binary.BigEndian.Uint64(v)))
		case f.Kind == row.Timestamp:
			c.AppendInt(int64(binary.BigEndian.Uint64(v)) + epoch2000)
		case f.Kind == row.Bool:
			c.AppendInt(int64(v[0]))
		case !f.Kind.Text():
			c.AppendInt(int64(binary.BigEndian.Uint64(v)))
		}
		text := string(v)
		switch {
		case c.Len() > 0:
			text = string(codec.AppendText(nil, c, 0))
		case !f.Kind.Plain():
			text = string(v[1:])
		}
		out = append(out, &text)
	}
	return out
}

func (e *encoder) value(dst []byte, c *row.Column, i int) []byte {
	switch {
	case c.IsNull(i):
		return append(dst, `\N`...)
	case c.Kind == row.String:
		return escape(dst, c.Bytes(i))
	case c.Kind == row.Bytes:
		dst = append(dst, `\\x`...)
		return hex.AppendEncode(dst, c.Bytes(i))
	case c.Kind.Plain():
		return codec.AppendText(dst, c, i) // none of these texts has bytes with a meaning
	}
	e.text = codec.AppendText(e.text[:0], c, i)
	return escape(dst, e.text)
}

func escape(dst, text []byte) []byte {
	from := 0
	for i, b := range text {
		var as byte
		switch b {
		case '\\':
			as = '\\'
		case '\n':
			as = 'n'
		case '\r':
			as = 'r'
		case '\t':
			as = 't'
		default:
			continue
		}
		dst = append(append(dst, text[from:i]...), '\\', as)
		from = i + 1
	}
	return append(dst, text[from:]...)
}

// fields gives the texts of a line, nil for null: the reverse of what Append writes.
func fields(line []byte) (out []*string) {
	var text []byte
	null := false
	end := func() {
		s := string(text)
		if out = append(out, &s); null {
			out[len(out)-1] = nil
		}
		text, null = text[:0], false
	}
	for i := 0; i < len(line); i++ {
		switch b := line[i]; {
		case b == '\t':
			end()
		case b == '\\' && i+1 < len(line):
			i++
			switch line[i] {
			case 'n':
				text = append(text, '\n')
			case 'r':
				text = append(text, '\r')
			case 't':
				text = append(text, '\t')
			case 'N':
				null = true
			default:
				text = append(text, line[i])
			}
		default:
			text = append(text, b)
		}
	}
	end()
	return out
}
