package ndjson

import (
	"github.com/go-faster/jx"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// encoder writes one object a line: fields in the schema's order, nulls written.
//
// Rows that come together have much in common: names, and in those of one window its bounds. So text that is the same in all rows of a view is put
// together once, and copied piece by piece between the values that differ. Of rows of a window, with three pieces:
//
//	{"gauge":  ,"window_start":"2026-03-01T00:00:00Z","window_end":"2026-03-01T00:01:00Z","n":  }\n
type encoder struct {
	cols   []int
	prefix [][]byte // {"name": or ,"name":
	times  []codec.Times
	w      jx.Writer

	fixed  []byte  // of the view at hand: the pieces, one behind the other
	pieces []piece // one before each value that differs
}

// piece is text up to end of fixed, behind which the value of field n comes.
type piece struct{ end, n int }

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
	e.plan(&v)
	for _, r := range v.Sel {
		from := 0
		for _, p := range e.pieces {
			dst = append(dst, e.fixed[from:p.end]...)
			dst = e.value(dst, v.Cols[e.cols[p.n]], p.n, int(r))
			from = p.end
		}
		dst = append(dst, e.fixed[from:]...)
	}
	return dst
}

// plan puts together what is the same in all rows.
func (e *encoder) plan(v *step.View) {
	e.fixed, e.pieces = e.fixed[:0], e.pieces[:0]
	if len(e.cols) == 0 {
		e.fixed = append(e.fixed, '{')
	}
	for n, at := range e.cols {
		e.fixed = append(e.fixed, e.prefix[n]...)
		if c := v.Cols[at]; same(c, v.Sel) {
			e.fixed = e.value(e.fixed, c, n, int(v.Sel[0]))
		} else {
			e.pieces = append(e.pieces, piece{len(e.fixed), n})
		}
	}
	e.fixed = append(e.fixed, '}', '\n')
}

// same says whether a column has one value in all of some rows, as far as a look at each is cheap: most columns that differ do so soon.
func same(c *row.Column, sel []uint16) bool {
	if len(sel) == 0 || len(c.Null) > 0 || c.Kind != row.Timestamp && c.Kind != row.Int && c.Kind != row.Bool {
		return false
	}
	first := c.I[sel[0]]
	for _, i := range sel {
		if c.I[i] != first {
			return false
		}
	}
	return true
}

// value writes the value of row i of field n.
func (e *encoder) value(dst []byte, c *row.Column, n, i int) []byte {
	if c.IsNull(i) {
		return append(dst, "null"...)
	}
	switch c.Kind {
	case row.String:
		e.w.Buf = dst
		e.w.ByteStr(c.Bytes(i))
		return e.w.Buf
	case row.Timestamp:
		return append(e.times[n].Append(append(dst, '"'), row.Time(c.I[i])), '"')
	case row.Int, row.Double, row.Bool:
		return codec.AppendText(dst, c, i)
	}
	return codec.AppendValue(dst, c, i)
}
