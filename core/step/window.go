package step

import (
	"undertide/core/expr"
	"undertide/core/measure"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// Window is a windowed step with its key and measures. Immutable.
type Window struct {
	Kind window.Tumbling
	Key  []int // columns of the input; empty: all rows together
	// Aggregates are what is accumulated, Measures what is published of it.
	Aggregates []Aggregate
	Measures   []*expr.Program // over the aggregates' results
	Input      row.Schema
	Schema     row.Schema // of published rows: key, window_start, window_end, measures
}

// Aggregate is one accumulator of a step. A count of all rows has no Column of its own.
type Aggregate struct {
	expr.Aggregate
	Spec measure.Spec
}

// NewAggregate fits an aggregate call of a measure to its accumulator.
func NewAggregate(a expr.Aggregate) Aggregate {
	s := measure.Spec{Func: a.Func}
	if a.Arg != nil {
		s.Arg = a.Arg.Kind()
	}
	return Aggregate{Aggregate: a, Spec: s}
}

// plainCount says whether the slice's own row count is the result.
func (a Aggregate) plainCount() bool { return a.Func == "count" && a.Cond == nil }

// KeySchema gives the key fields.
func (d *Window) KeySchema() row.Schema {
	s := make(row.Schema, len(d.Key))
	for i, c := range d.Key {
		s[i] = row.Field{Name: d.Input[c].Name, Kind: d.Input[c].Kind}
	}
	return s
}

// LateSchema is that of `late of`: the input's fields and late_by.
func (d *Window) LateSchema() row.Schema {
	return append(d.Input[:len(d.Input):len(d.Input)], row.Field{Name: "late_by", Kind: row.Duration})
}

// Exchange is a batch prepared for the lanes: keys, hashes and the arguments of measures, with the
// rows of each lane. It is filled where the batch is decoded and read-only afterwards.
type Exchange struct {
	View
	Keys state.Keys
	// Lanes has, for each lane, positions in Sel and Keys (not row numbers).
	Lanes [][]uint16
	Args  []*row.Column // for each aggregate, nil without
	Conds []*row.Column

	def     *Window
	lanes   int
	args    []*expr.Runner
	conds   []*expr.Runner
	keyCols []*row.Column
	sel     []uint16
}

// NewExchange makes an exchange for so many lanes; one goroutine at a time fills it.
func (d *Window) NewExchange(lanes int) *Exchange {
	x := &Exchange{
		def: d, lanes: lanes, Lanes: make([][]uint16, lanes),
		Args: make([]*row.Column, len(d.Aggregates)), Conds: make([]*row.Column, len(d.Aggregates)),
		args: make([]*expr.Runner, len(d.Aggregates)), conds: make([]*expr.Runner, len(d.Aggregates)),
	}
	for i, a := range d.Aggregates {
		if a.Arg != nil {
			x.args[i] = a.Arg.NewRunner()
		}
		if a.Cond != nil {
			x.conds[i] = a.Cond.NewRunner()
		}
	}
	return x
}

// Fill prepares the rows of in. Rows with a null key or an error in an argument become rejects.
func (x *Exchange) Fill(in View, rejects []Reject) []Reject {
	sel := append(x.sel[:0], in.Sel...)
	x.keyCols = x.keyCols[:0]
	for _, k := range x.def.Key {
		c := in.Cols[k]
		x.keyCols = append(x.keyCols, c)
		if len(c.Null) == 0 {
			continue
		}
		kept := sel[:0]
		for _, i := range sel {
			if c.IsNull(int(i)) {
				rejects = append(rejects, Reject{Index: in.Index[i], Row: int(i), Reason: NullKey, Message: "key field " + x.def.Input[k].Name + " is null"})
			} else {
				kept = append(kept, i)
			}
		}
		sel = kept
	}
	for i, a := range x.def.Aggregates {
		var errs []uint64
		if x.args[i] != nil {
			x.Args[i], errs = x.args[i].Run(in.Cols, in.N)
			sel, rejects = dropErrors(sel, errs, in, a.Arg, rejects)
		}
		if x.conds[i] != nil {
			x.Conds[i], errs = x.conds[i].Run(in.Cols, in.N)
			sel, rejects = dropErrors(sel, errs, in, a.Cond, rejects)
		}
	}
	x.sel = sel
	x.View = in
	x.Sel = sel
	x.Keys.Encode(x.keyCols, sel)
	for l := range x.Lanes {
		x.Lanes[l] = x.Lanes[l][:0]
	}
	if x.lanes == 1 {
		for j := range sel {
			x.Lanes[0] = append(x.Lanes[0], uint16(j))
		}
		return rejects
	}
	for j, h := range x.Keys.Hash {
		l := state.LaneOf(state.ShareOf(h), x.lanes)
		x.Lanes[l] = append(x.Lanes[l], uint16(j))
	}
	return rejects
}
