package codec

import (
	"strconv"

	"github.com/go-faster/jx"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// jsonEncoder writes one object a line: fields in the schema's order, nulls written.
type jsonEncoder struct {
	cols   []int
	prefix [][]byte // {"name": or ,"name":
	w      jx.Writer
}

// NewJSONEncoder makes an encoder of NDJSON.
func NewJSONEncoder(s row.Schema) engine.Encoder {
	e := &jsonEncoder{cols: s.Visible()}
	for n, i := range e.cols {
		p := []byte{','}
		if n == 0 {
			p[0] = '{'
		}
		var w jx.Writer
		w.Str(s[i].Name)
		e.prefix = append(e.prefix, append(append(p, w.Buf...), ':'))
	}
	return e
}

func (e *jsonEncoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		i := int(r)
		for n, at := range e.cols {
			dst = append(dst, e.prefix[n]...)
			c := v.Cols[at]
			if c.IsNull(i) {
				dst = append(dst, "null"...)
				continue
			}
			switch c.Kind {
			case row.String:
				e.w.Buf = dst
				e.w.ByteStr(c.Bytes(i))
				dst = e.w.Buf
			case row.Int, row.Double, row.Bool:
				dst = AppendText(dst, c, i)
			default:
				dst = appendValue(dst, c, i)
			}
		}
		if len(e.cols) == 0 {
			dst = append(dst, '{')
		}
		dst = append(dst, '}', '\n')
	}
	return dst
}

// appendDouble writes a double as encoding/json does.
func appendDouble(dst []byte, f float64) []byte {
	format := byte('f')
	if abs := max(f, -f); abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		format = 'e'
	}
	dst = strconv.AppendFloat(dst, f, format, -1, 64)
	if format == 'e' { // e-09 is written e-9
		if n := len(dst); n >= 4 && dst[n-4] == 'e' && dst[n-3] == '-' && dst[n-2] == '0' {
			dst[n-2] = dst[n-1]
			dst = dst[:n-1]
		}
	}
	return dst
}
