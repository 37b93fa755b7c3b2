package step

import (
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
)

// Inspector makes of the rows of a table of state what people look at: keys, spans, results in place of accumulators, and
// when each is closed or forgotten. One goroutine at a time.
type Inspector struct {
	// Schema names what Append gives: the key's fields, the span or what tells rows of a key apart, what is kept, and
	// last, where something ends with the watermark, `until`: the W at which it does.
	Schema row.Schema
	// Table is the table itself.
	Table *state.Table

	keys  int
	parts []part
	until func(r *state.Rows, i int) (row.Time, bool) // nil: nothing ends
	begun map[string]row.Time
}

// part is some columns of what is shown.
type part struct {
	width int
	write func(dst []*row.Column, r *state.Rows)
}

// Inspect makes an inspector of a step's table. raw: the columns as they are kept. begun is that of [LaneOptions].
func Inspect(d Keyed, t *state.Table, raw bool, begun map[string]row.Time) *Inspector {
	x := &Inspector{Table: t, keys: len(t.Key), begun: begun}
	x.Schema = append(x.Schema, t.Key...)
	if raw {
		x.span(t.Span)
		for i, f := range t.Rest {
			x.add(f, func(dst *row.Column, r *state.Rows, at int) { dst.AppendInt(r.Rest[i][at]) })
		}
		for i, f := range t.Columns {
			x.add(f, func(dst *row.Column, r *state.Rows, at int) { dst.AppendFrom(r.Cols[i], at) })
		}
		return x
	}
	if t.Name == "waiting" {
		x.span(t.Span)
		for i, f := range t.Columns {
			x.add(row.Field{Name: f.Name[len("row_"):], Kind: f.Kind}, func(dst *row.Column, r *state.Rows, at int) { dst.AppendFrom(r.Cols[i], at) })
		}
		x.ends(func(r *state.Rows, i int) (row.Time, bool) { return r.Span[i], true })
		return x
	}
	switch d := d.(type) {
	case *Window:
		x.window(d, t)
	case *Join:
		x.add(t.Rest[0], func(dst *row.Column, r *state.Rows, at int) { dst.AppendInt(r.Rest[0][at]) })
		for i, f := range t.Columns {
			if f.Name = strings.TrimPrefix(f.Name, "row_"); t.Key.Index(f.Name) >= 0 {
				continue // it stands there already
			}
			x.add(f, func(dst *row.Column, r *state.Rows, at int) { dst.AppendFrom(r.Cols[i], at) })
		}
		side := slices.Index(Sides[:], t.Name)
		x.ends(func(r *state.Rows, i int) (row.Time, bool) {
			return d.until(max(side, LeftSide), row.Time(r.Rest[0][i])).Plus(d.Accept), true
		})
	case *AsOf:
		x.add(t.Rest[0], func(dst *row.Column, r *state.Rows, at int) { dst.AppendInt(r.Rest[0][at]) })
		for i, f := range t.Columns {
			f.Name = strings.TrimPrefix(f.Name, "row_")
			x.add(f, func(dst *row.Column, r *state.Rows, at int) { dst.AppendFrom(r.Cols[i], at) })
		}
	case *Deduplicate:
		x.column(0)
		x.ends(func(r *state.Rows, i int) (row.Time, bool) { return row.Time(r.Cols[0].I[i]).Plus(d.Within), true })
	case *Absent:
		x.column(0)
		x.ends(func(r *state.Rows, i int) (row.Time, bool) { return row.Time(r.Cols[0].I[i]).Plus(d.After), true })
	case *Remember:
		x.column(0)
		for i, f := range t.Columns[1:] {
			f.Name = f.Name[len("value_"):]
			x.add(f, func(dst *row.Column, r *state.Rows, at int) { dst.AppendFrom(r.Cols[1+i], at) })
		}
		if d.Forget > 0 {
			x.ends(func(r *state.Rows, i int) (row.Time, bool) { return row.Time(r.Cols[0].I[i]).Plus(d.Forget), true })
		}
	}
	return x
}

// add shows a column of values made one by one.
func (x *Inspector) add(f row.Field, one func(dst *row.Column, r *state.Rows, at int)) {
	x.Schema = append(x.Schema, f)
	x.parts = append(x.parts, part{1, func(dst []*row.Column, r *state.Rows) {
		for i := range r.N {
			one(dst[0], r, i)
		}
	}})
}

// span shows the time that rows stand together by.
func (x *Inspector) span(name string) {
	if name != "" {
		x.add(row.Field{Name: name, Kind: row.Timestamp}, func(dst *row.Column, r *state.Rows, i int) { dst.AppendInt(int64(r.Span[i])) })
	}
}

// column shows a column of the table as it is.
func (x *Inspector) column(n int) {
	x.add(x.Table.Columns[n], func(dst *row.Column, r *state.Rows, i int) { dst.AppendFrom(r.Cols[n], i) })
}

// ends says when rows are closed or forgotten.
func (x *Inspector) ends(at func(r *state.Rows, i int) (row.Time, bool)) {
	x.until = at
	x.add(row.Field{Name: "until", Kind: row.Timestamp}, func(dst *row.Column, r *state.Rows, i int) {
		if t, ok := at(r, i); ok {
			dst.AppendInt(int64(t))
		} else {
			dst.AppendNull()
		}
	})
}

func (x *Inspector) window(d *Window, t *state.Table) {
	if t.Name == "shown" {
		x.span(t.Span)
		x.column(0)
		x.column(1)
		return
	}
	first := 0 // column of the accumulators
	switch {
	case d.Aligned != nil:
		w := d.Aligned
		first = len(t.Columns) - len(d.spec.accSchema())
		x.span(t.Span)
		end := "slice_end"
		if w.Tumbles() {
			end = "window_end"
		}
		x.add(row.Field{Name: end, Kind: row.Timestamp}, func(dst *row.Column, r *state.Rows, i int) {
			dst.AppendInt(int64(w.SliceStart(w.SliceOf(r.Span[i]) + 1)))
		})
	case d.Session != nil:
		first = len(t.Columns) - len(d.spec.accSchema())
		for n := range 2 {
			x.column(n)
		}
	case d.LookBack > 0:
		first = 1
		x.column(0)
	default:
		first = 4
		x.column(0)
	}
	x.results(d, first)
	switch {
	case d.Aligned != nil:
		w, hold := d.Aligned, max(d.Accept, d.RepeatKeep)
		x.ends(func(r *state.Rows, i int) (row.Time, bool) {
			_, last := w.Windows(w.SliceOf(r.Span[i]))
			return w.End(last).Plus(hold), true
		})
	case d.Session != nil:
		hold := max(d.Accept, d.RepeatKeep)
		x.ends(func(r *state.Rows, i int) (row.Time, bool) { return row.Time(r.Cols[1].I[i]).Plus(hold), true })
	case d.LookBack > 0:
		x.ends(func(r *state.Rows, i int) (row.Time, bool) { return row.Time(r.Cols[0].I[i]).Plus(d.LookBack), true })
	case d.Forget > 0:
		x.ends(func(r *state.Rows, i int) (row.Time, bool) {
			return row.Time(r.Cols[0].I[i]).Plus(d.Forget), !r.Cols[0].IsNull(i)
		})
	}
}

// results shows how many rows were taken, and the measures of what was accumulated, from column first on. A measure with
// an error is null, as in published rows.
func (x *Inspector) results(d *Window, first int) {
	x.add(row.Field{Name: "rows_taken", Kind: row.Int}, func(dst *row.Column, r *state.Rows, i int) { dst.AppendInt(r.Cols[first].I[i]) })
	var kinds row.Schema
	for _, a := range d.spec.Aggregates {
		kinds = append(kinds, row.Field{Kind: a.Kind})
	}
	results := row.NewBatch(kinds)
	var measures []*expr.Runner
	names := d.Schema[len(d.ResultSchema()):]
	for i, m := range d.Measures {
		measures = append(measures, m.NewRunner())
		x.Schema = append(x.Schema, row.Field{Name: names[i].Name, Kind: m.Kind()})
	}
	begun := d.begun(x.begun)
	lacks := func(m int, r *state.Rows, i int) bool { // rows of before the measure came
		switch {
		case begun == nil:
			return false
		case d.Aligned != nil:
			return r.Span[i] < begun[m]
		}
		return row.Time(r.Cols[0].I[i]) < begun[m]
	}
	x.parts = append(x.parts, part{len(measures), func(dst []*row.Column, r *state.Rows) {
		var counts LaneCounts
		for from := 0; from < r.N; from += row.MaxRows {
			n := min(row.MaxRows, r.N-from)
			a := newAccs(&d.spec)
			a.grow(n)
			ids := make([]uint32, n)
			for i := range n {
				ids[i] = uint32(i)
				if err := a.load(r.Cols[first:], from+i, uint32(i)); err != nil {
					panic(state.Failure{Err: err})
				}
			}
			results.Reset()
			a.results(results.Cols, ids, &counts)
			for m, run := range measures {
				c, errs := run.Run(results.Cols, n)
				for i := range n {
					if expr.HasBit(errs, i) || lacks(m, r, from+i) {
						dst[m].AppendNull()
					} else {
						dst[m].AppendFrom(c, i)
					}
				}
			}
		}
	}})
}

// Append appends what is shown of some rows to a batch of Schema.
func (x *Inspector) Append(b *row.Batch, r *state.Rows) error {
	for i := range r.N {
		if err := state.AppendKey(b.Cols[:x.keys], r.Key(i)); err != nil {
			return err
		}
	}
	at := x.keys
	for _, p := range x.parts {
		p.write(b.Cols[at:at+p.width], r)
		at += p.width
	}
	b.N += r.N
	return nil
}

// Until gives the W at which a row is closed or forgotten; false where nothing of it is.
func (x *Inspector) Until(r *state.Rows, i int) (row.Time, bool) {
	if x.until == nil {
		return 0, false
	}
	return x.until(r, i)
}

// Taken gives how many rows of the input a row of state holds; 1 where that is not counted.
func (x *Inspector) Taken(r *state.Rows, i int) int64 {
	if n := x.Table.Columns.Index("rows"); n >= 0 {
		return r.Cols[n].I[i]
	}
	return 1
}
