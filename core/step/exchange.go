package step

import (
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
)

// Spec says how rows find their lane and what is worked out of them on the way.
type Spec struct {
	Input row.Schema
	Key   []int // columns of the input; empty: all rows together
	// KeepNull takes null for a key like others (`null_key: keep`).
	KeepNull bool
	// Aggregates are what is accumulated of the rows.
	Aggregates []Aggregate
}

// KeySchema gives the key fields.
func (s *Spec) KeySchema() row.Schema {
	out := make(row.Schema, len(s.Key))
	for i, c := range s.Key {
		out[i] = row.Field{Name: s.Input[c].Name, Kind: s.Input[c].Kind}
	}
	return out
}

// Exchange is a batch prepared for the lanes: keys, hashes and the arguments of measures, with the
// rows of each lane. It is filled where the rows are made and read-only afterwards.
type Exchange struct {
	View
	Keys state.Keys
	// Lanes has, for each lane, positions in Sel and Keys (not row numbers).
	Lanes [][]uint16
	Args  []*row.Column // for each aggregate, nil without
	Conds []*row.Column

	spec    *Spec
	lanes   int
	args    []*expr.Runner
	conds   []*expr.Runner
	keyCols []*row.Column
	sel     []uint16
}

// NewExchange makes an exchange for so many lanes; one goroutine at a time fills it.
func (s *Spec) NewExchange(lanes int) *Exchange {
	n := len(s.Aggregates)
	x := &Exchange{
		spec: s, lanes: lanes, Lanes: make([][]uint16, lanes),
		Args: make([]*row.Column, n), Conds: make([]*row.Column, n), args: make([]*expr.Runner, n), conds: make([]*expr.Runner, n),
	}
	for i, a := range s.Aggregates {
		if a.Arg != nil {
			x.args[i] = a.Arg.NewRunner()
		}
		if a.Cond != nil {
			x.conds[i] = a.Cond.NewRunner()
		}
	}
	return x
}

// EventAt gives the event of a lane's row, by its position in Lanes.
func (x *Exchange) EventAt(lane, pos int) int { return int(x.Index[x.Sel[x.Lanes[lane][pos]]]) }

// Fill prepares the rows of in. Rows with a null key or an error in an argument become rejects.
func (x *Exchange) Fill(in View, rejects []Reject) []Reject {
	sel := append(x.sel[:0], in.Sel...)
	x.keyCols = x.keyCols[:0]
	for _, k := range x.spec.Key {
		c := in.Cols[k]
		x.keyCols = append(x.keyCols, c)
		if len(c.Null) == 0 || x.spec.KeepNull {
			continue
		}
		kept := sel[:0]
		for _, i := range sel {
			if c.IsNull(int(i)) {
				rejects = append(rejects, Reject{Index: in.Index[i], Row: int(i), Reason: NullKey, Message: "key field " + x.spec.Input[k].Name + " is null"})
			} else {
				kept = append(kept, i)
			}
		}
		sel = kept
	}
	for i, a := range x.spec.Aggregates {
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
