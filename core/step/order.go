package step

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"math"
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// Router copies rows that are made in one lane, for a keyed step whose rows come out of lanes: they are
// put in order and filled into an exchange by the lane that takes them (docs/architecture.md, "The way
// of a row").
type Router struct {
	spec  *Spec
	keys  state.Keys
	cols  []*row.Column
	Lanes []Routed
}

// Routed are the rows for one lane.
type Routed struct {
	row.Batch
	made  []bool
	input []uint8
	order *row.Column
}

// NewRouter makes a router for so many lanes.
func (s *Spec) NewRouter(lanes int) *Router {
	r := &Router{spec: s, Lanes: make([]Routed, lanes)}
	for i := range r.Lanes {
		r.Lanes[i] = Routed{Batch: *row.NewBatch(s.Input), order: row.NewColumn(row.Bytes)}
	}
	return r
}

// Reset empties it.
func (r *Router) Reset() {
	for i := range r.Lanes {
		l := &r.Lanes[i]
		l.Batch.Reset()
		l.order.Reset()
		l.made, l.input = l.made[:0], l.input[:0]
	}
}

// Add takes the rows of v, which came by the step's input of this number.
func (r *Router) Add(v View, input int) {
	r.cols = r.cols[:0]
	for _, k := range r.spec.Key {
		r.cols = append(r.cols, v.Cols[k])
	}
	r.keys.Encode(r.cols, v.Sel)
	for j, i := range v.Sel {
		l := &r.Lanes[state.LaneOf(state.ShareOf(r.keys.Hash[j]), len(r.Lanes))]
		for c, col := range v.Cols {
			l.Cols[c].AppendFrom(col, int(i))
		}
		if len(v.Times) > 0 {
			l.Times = append(l.Times, v.Times[i])
		}
		l.Index = append(l.Index, v.Index[i])
		l.made = append(l.made, v.Made)
		l.input = append(l.input, uint8(input))
		if v.Order != nil {
			l.order.AppendBytes(v.Order.Bytes(int(i)))
		} else {
			l.order.AppendNull()
		}
		l.N++
	}
}

// Gather puts the rows that several routers have for a lane in order of place (docs/time.md, "Turns and
// places"): by event, an event's own rows before those that its moving of the watermark made, these by
// window_end, window_start and key. take is called with up to row.MaxRows rows at a time.
func Gather(routers []*Router, lane int, into *row.Batch, take func(v View)) {
	type at struct{ from, row int }
	var all []at
	for n, r := range routers {
		for i := range r.Lanes[lane].N {
			all = append(all, at{n, i})
		}
	}
	if len(all) == 0 {
		return
	}
	slices.SortStableFunc(all, func(a, b at) int {
		p, q := &routers[a.from].Lanes[lane], &routers[b.from].Lanes[lane]
		if c := cmp.Compare(p.Index[a.row], q.Index[b.row]); c != 0 {
			return c
		}
		if pm, qm := p.made[a.row], q.made[b.row]; pm != qm {
			if qm {
				return -1
			}
			return 1
		} else if !pm {
			return cmp.Compare(p.input[a.row], q.input[b.row])
		}
		if len(p.Times) > 0 && len(q.Times) > 0 {
			if c := cmp.Compare(p.Times[a.row], q.Times[b.row]); c != 0 {
				return c
			}
		}
		if c := bytes.Compare(p.order.Bytes(a.row), q.order.Bytes(b.row)); c != 0 {
			return c
		}
		return cmp.Compare(p.input[a.row], q.input[b.row])
	})
	for len(all) > 0 {
		n := min(len(all), row.MaxRows)
		into.Reset()
		for _, x := range all[:n] {
			into.AppendFrom(&routers[x.from].Lanes[lane].Batch, x.row)
		}
		take(ViewOf(into, nil))
		all = all[n:]
	}
}

// appendOrder appends values so that the bytes order as the values do: null first, numbers by size,
// texts by bytes.
func appendOrder(dst []byte, c *row.Column, i int) []byte {
	if c.IsNull(i) {
		return append(dst, 0)
	}
	dst = append(dst, 1)
	switch {
	case c.Kind == row.Double:
		bits := math.Float64bits(c.F[i])
		if bits>>63 != 0 {
			bits = ^bits
		} else {
			bits |= 1 << 63
		}
		return binary.BigEndian.AppendUint64(dst, bits)
	case c.Kind.Text():
		for _, b := range c.Bytes(i) { // 0 ends a text; 0 within it is written 0 1
			if dst = append(dst, b); b == 0 {
				dst = append(dst, 1)
			}
		}
		return append(dst, 0, 0)
	}
	return binary.BigEndian.AppendUint64(dst, uint64(c.I[i])^1<<63)
}
