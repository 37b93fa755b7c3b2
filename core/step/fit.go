package step

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/row"
	"undertide/core/state"
)

// Fit tells how rows of a table that another version of a step kept become rows of now, its own of the same name
// (docs/job-document.md, "What a new version keeps"). Columns go by their names; the accumulators of a measure that is new,
// or named in fresh, begin empty: as if all rows so far had given them no value. The error says what does not fit.
func Fit(d Keyed, kept *state.Table, fresh []string) (now *state.Table, fit func(*state.Rows) *state.Rows, err error) {
	for _, t := range d.Tables() {
		if t.Name == kept.Name {
			now = t
		}
	}
	switch {
	case now == nil:
		return nil, nil, fmt.Errorf("it has no table %s any more", kept.Name)
	case now.Span != kept.Span || !slices.Equal(now.Key, kept.Key) || !slices.Equal(now.Rest, kept.Rest):
		return nil, nil, fmt.Errorf("its rows are named otherwise")
	}
	var acc row.Schema
	var empty []*row.Column
	if w, ok := d.(*Window); ok {
		acc = w.spec.accSchema()
		a := newAccs(&w.spec)
		a.grow(1)
		empty = row.NewBatch(acc).Cols
		a.save(empty, 0)
	}
	var parts []func(r *state.Rows) *row.Column
	for _, f := range now.Columns {
		at, of := kept.Columns.Index(f.Name), acc.Index(f.Name)
		there := at >= 0 && kept.Columns[at].Kind == f.Kind
		measure, _, _ := strings.Cut(f.Name, ".")
		switch {
		case there && (of < 1 || !slices.Contains(fresh, measure)):
			parts = append(parts, func(r *state.Rows) *row.Column { return r.Cols[at] })
		case of < 1:
			return nil, nil, fmt.Errorf("its rows hold no %s of kind %s", f.Name, f.Kind)
		case strings.HasSuffix(f.Name, missingPart):
			rows := kept.Columns.Index(acc[0].Name)
			if rows < 0 {
				return nil, nil, fmt.Errorf("its rows are not counted")
			}
			parts = append(parts, func(r *state.Rows) *row.Column { return r.Cols[rows] })
		default:
			parts = append(parts, func(r *state.Rows) *row.Column {
				c := row.NewColumn(f.Kind)
				for range r.N {
					c.AppendFrom(empty[of], 0)
				}
				return c
			})
		}
	}
	return now, func(r *state.Rows) *state.Rows {
		out := *r
		out.Cols = make([]*row.Column, len(parts))
		for i, p := range parts {
			out.Cols[i] = p(r)
		}
		return &out
	}, nil
}
