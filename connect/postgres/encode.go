package postgres

import (
	"encoding/hex"

	"undertide/connect/codec"
	"undertide/core/row"
	"undertide/core/step"
)

// encoder writes rows as lines of COPY's text format: columns with tabs between, null as \N, and bytes that have a meaning
// there behind a backslash. A newline within a value is written \n, so each line is a row.
type encoder struct {
	cols    []int
	gone    int // the column that says that a row is withdrawn; -1 for none
	replace bool
	text    []byte
}

func newEncoder(t *table, s row.Schema) *encoder {
	e := &encoder{cols: s.Visible(), gone: -1, replace: t.key != nil}
	if e.replace {
		if i := s.Index("withdrawn"); i >= 0 && s[i].Hidden {
			e.gone = i
		}
	}
	return e
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		i := int(r)
		for n, at := range e.cols {
			if n > 0 {
				dst = append(dst, '\t')
			}
			dst = e.value(dst, v.Cols[at], i)
		}
		if e.replace {
			dst = append(dst, '\t', 'f')
			if e.gone >= 0 && !v.Cols[e.gone].IsNull(i) && v.Cols[e.gone].I[i] != 0 {
				dst[len(dst)-1] = 't'
			}
		}
		dst = append(dst, '\n')
	}
	return dst
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
