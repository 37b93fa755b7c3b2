package step

import (
	"time"

	"undertide/core/expr"
	"undertide/core/measure"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// Window is a windowed step with its key and measures (docs/time.md, "Windows", "Late rows", "Published
// rows"). At most one of Aligned, Session and LookBack is set; with none, one window holds everything.
// Immutable.
type Window struct {
	spec Spec

	Aligned  *window.Aligned
	Session  *Session
	LookBack time.Duration
	// Forget: a key of the whole is forgotten when the watermark is so far beyond its last row; 0 never.
	Forget time.Duration

	Measures []*expr.Program // over the aggregates' results
	Having   *expr.Program   // over the published row; nil: every row
	// Accept is how long a closed window is kept for late rows.
	Accept time.Duration
	// Revised publishes previews, at most one each Every for a key and window.
	Revised bool
	Every   time.Duration
	// RepeatEvery sends all kept windows again; a closed one is kept for RepeatKeep. 0 for never.
	RepeatEvery, RepeatKeep time.Duration

	// Schema is that of published rows: key, window_start and window_end (but of the whole), measures,
	// and revision, closed and withdrawn where a window may have several rows.
	Schema row.Schema
}

// Session are windows that end after a gap without rows.
type Session struct {
	Gap time.Duration
	// Longest bounds end - start; 0 for no bound.
	Longest time.Duration
}

// NewWindow makes a step that reads rows of a schema by some key and accumulates aggregates; the caller
// sets the rest.
func NewWindow(s Spec) *Window { return &Window{spec: s} }

// Revisions says whether a window may have several rows.
func (d *Window) Revisions() bool { return d.Accept > 0 || d.Revised || d.RepeatEvery > 0 }

// Bounds says whether rows have window_start and window_end.
func (d *Window) Bounds() bool { return d.Aligned != nil || d.Session != nil || d.LookBack > 0 }

// ResultSchema gives the fields of published rows before measures: key and bounds.
func (d *Window) ResultSchema() row.Schema {
	s := d.spec.KeySchema()
	if d.Bounds() {
		s = append(s, row.Field{Name: "window_start", Kind: row.Timestamp}, row.Field{Name: "window_end", Kind: row.Timestamp})
	}
	return s
}

// RevisionSchema gives the fields behind the measures where a window may have several rows.
func (d *Window) RevisionSchema() row.Schema {
	if !d.Revisions() {
		return nil
	}
	return row.Schema{{Name: "revision", Kind: row.Int}, {Name: "closed", Kind: row.Bool}, {Name: "withdrawn", Kind: row.Bool}}
}

// Spec implements [Keyed], as do the methods below.
func (d *Window) Spec() *Spec            { return &d.spec }
func (d *Window) MainSchema() row.Schema { return d.Schema }
func (d *Window) LateSchema() row.Schema {
	if !d.Bounds() {
		return nil
	}
	return lateSchema(d.spec.Input)
}

// Tables: what was published of aligned windows is a table of its own where there may be several rows; look back has the
// rows that it still needs.
func (d *Window) Tables() []*state.Table {
	switch {
	case d.Aligned != nil && d.Revisions():
		return []*state.Table{d.sliceTable(), d.shownTable()}
	case d.Aligned != nil:
		return []*state.Table{d.sliceTable()}
	case d.Session != nil:
		return []*state.Table{d.sessionTable()}
	case d.LookBack > 0:
		return []*state.Table{d.backTable(), waitingTable(&d.spec)}
	}
	return []*state.Table{d.wholeTable()}
}

// Beat is how often the step wants to be asked by the clock.
func (d *Window) Beat() time.Duration {
	switch {
	case d.Revised && d.RepeatEvery > 0:
		return min(d.Every, d.RepeatEvery)
	case d.Revised:
		return d.Every
	}
	return d.RepeatEvery
}

// NewLane makes the empty state.
func (d *Window) NewLane(o LaneOptions) Lane {
	switch {
	case d.Aligned != nil:
		return newAlignedLane(d, o)
	case d.Session != nil:
		return newSessionLane(d, o)
	case d.LookBack > 0:
		return newLookBackLane(d, o)
	}
	return newWholeLane(d, o)
}

// Aggregate is one accumulator of a step. A count of all rows has no Column of its own.
type Aggregate struct {
	expr.Aggregate
	Spec measure.Spec
	// Name is that of its measure, numbered where a measure has several aggregates; it names columns of state.
	Name string
}

// NewAggregate fits an aggregate call of a measure to its accumulator.
func NewAggregate(a expr.Aggregate) Aggregate {
	s := measure.Spec{Func: a.Func, N: a.N, Q: a.Q, Fold: a.Fold}
	if a.Arg != nil {
		s.Arg = a.Arg.Kind()
	}
	return Aggregate{Aggregate: a, Spec: s}
}

// plainCount says whether the slice's own row count is the result.
func (a Aggregate) plainCount() bool { return a.Func == "count" && a.Cond == nil }
