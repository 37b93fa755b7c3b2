package table

import (
	"bytes"
	"math"
	"strconv"
	"unicode/utf8"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// encoder writes rows in columns for people to read: texts to the left, numbers to the right,
// doubles with three digits. Wider values push their line out of shape rather than being cut.
type encoder struct {
	cols  []int
	width []int
}

// NewEncoder makes an encoder of aligned lines; [Head] gives the first one.
func NewEncoder(s row.Schema) engine.Encoder {
	cols, width := tableColumns(s)
	return &encoder{cols: cols, width: width}
}

func tableColumns(s row.Schema) (cols, width []int) {
	for _, i := range s.Visible() {
		w := 8
		switch s[i].Kind {
		case row.Timestamp:
			w = 20
		case row.Double, row.Int, row.Duration, row.Decimal:
			w = 10
		}
		cols = append(cols, i)
		width = append(width, max(w, len(s[i].Name)))
	}
	return cols, width
}

func toRight(k row.Kind) bool {
	return k == row.Int || k == row.Double || k == row.Duration || k == row.Decimal
}

// Head gives the line of column names, and a rule under it.
func Head(s row.Schema) []byte {
	cols, width := tableColumns(s)
	var out, rule []byte
	for n, i := range cols {
		if n > 0 {
			out, rule = append(out, "  "...), append(rule, "  "...)
		}
		out = pad(out, []byte(s[i].Name), width[n], toRight(s[i].Kind))
		rule = append(rule, bytes.Repeat([]byte("─"), width[n])...)
	}
	out = append(bytes.TrimRight(out, " "), '\n')
	return append(append(out, rule...), '\n')
}

func pad(dst, text []byte, width int, right bool) []byte {
	gap := bytes.Repeat([]byte(" "), max(0, width-utf8.RuneCount(text)))
	if right {
		return append(append(dst, gap...), text...)
	}
	return append(append(dst, text...), gap...)
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
	var cell []byte
	for _, r := range v.Sel {
		for n, at := range e.cols {
			if n > 0 {
				dst = append(dst, "  "...)
			}
			c := v.Cols[at]
			cell = cell[:0]
			switch {
			case c.IsNull(int(r)):
				cell = append(cell, '-')
			case c.Kind == row.Double && math.Abs(c.F[r]) < 1e15:
				cell = strconv.AppendFloat(cell, c.F[r], 'f', 3, 64)
			default:
				cell = codec.AppendText(cell, c, int(r))
			}
			dst = pad(dst, cell, e.width[n], toRight(c.Kind))
		}
		dst = append(bytes.TrimRight(dst, " "), '\n')
	}
	return dst
}
