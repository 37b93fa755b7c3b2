package ndjson

import (
	"github.com/go-faster/jx"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// encoder writes one object a line: fields in the schema's order, nulls written.
type encoder struct {
	cols   []int
	prefix [][]byte // {"name": or ,"name":
	times  []codec.Times
	w      jx.Writer
}

// NewEncoder makes an encoder of NDJSON.
func NewEncoder(s row.Schema) engine.Encoder {
	e := &encoder{cols: s.Visible()}
	for n, i := range e.cols {
		p := []byte{','}
		if n == 0 {
			p[0] = '{'
		}
		var w jx.Writer
		w.Str(s[i].Name)
		e.prefix = append(e.prefix, append(append(p, w.Buf...), ':'))
	}
	e.times = make([]codec.Times, len(e.cols))
	return e
}

func (e *encoder) Append(dst []byte, v step.View) []byte {
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
			case row.Timestamp:
				dst = append(e.times[n].Append(append(dst, '"'), row.Time(c.I[i])), '"')
			case row.Int, row.Double, row.Bool:
				dst = codec.AppendText(dst, c, i)
			default:
				dst = codec.AppendValue(dst, c, i)
			}
		}
		if len(e.cols) == 0 {
			dst = append(dst, '{')
		}
		dst = append(dst, '}', '\n')
	}
	return dst
}
