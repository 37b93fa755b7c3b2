package step

import (
	"bytes"
	"cmp"

	"undertide/core/row"
	"undertide/core/state"
)

// Router copies rows that are made in one lane, for a keyed step whose rows come out of lanes: they are
// put in order and filled into an exchange by the lane that takes them (docs/architecture.md, "The way
// of a row").
type Router struct {
	spec *Spec
	// merges: the step has several inputs, whose number goes into the order of the rows.
	merges bool
	keys   state.Keys
	cols   []*row.Column
	order  []byte
	picked [][]int32 // by lane
	Lanes  []*row.Batch
}

// NewRouter makes a router for so many lanes.
func (s *Spec) NewRouter(lanes int, merges bool) *Router {
	r := &Router{spec: s, merges: merges, picked: make([][]int32, lanes)}
	for range lanes {
		r.Lanes = append(r.Lanes, row.NewBatch(s.Input))
	}
	return r
}

// Reset empties it.
func (r *Router) Reset() {
	for _, b := range r.Lanes {
		b.Reset()
	}
}

// Add takes the rows of v, which came by the step's input of this number.
func (r *Router) Add(v View, input int) {
	r.cols = r.cols[:0]
	for _, k := range r.spec.Key {
		r.cols = append(r.cols, v.Cols[k])
	}
	r.keys.Encode(r.cols, v.Sel)
	for lane := range r.picked {
		r.picked[lane] = r.picked[lane][:0]
	}
	for j, i := range v.Sel {
		lane := state.LaneOf(state.ShareOf(r.keys.Hash[j]), len(r.Lanes))
		r.picked[lane] = append(r.picked[lane], int32(i))
	}
	for lane, b := range r.Lanes {
		v.appendPicked(b, r.picked[lane])
		for _, i := range r.picked[lane] {
			if r.merges {
				r.order = appendInput(r.order[:0], v.order(int(i)), input)
				b.AppendOrder(r.order)
			} else {
				b.AppendOrder(v.order(int(i)))
			}
		}
	}
}

// Bytes is how much memory the rows take.
func (r *Router) Bytes() (n int) {
	for _, b := range r.Lanes {
		n += b.Bytes()
	}
	return n
}

// Forget drops the rows of events before this one.
func (r *Router) Forget(event int) {
	for lane, b := range r.Lanes {
		kept := r.picked[lane][:0]
		for i, at := range b.Index {
			if int(at) >= event {
				kept = append(kept, int32(i))
			}
		}
		r.picked[lane] = kept
		switch len(kept) {
		case b.N:
		case 0:
			b.Reset()
		default:
			next := row.NewBatch(b.Schema)
			next.AppendPicked(b, kept)
			r.Lanes[lane] = next
		}
	}
}

// Gathering puts the rows that several routers have for a lane in order of place (docs/time.md, "Turns and
// places"): by event, and by their order within it. The rows stay as they are until all were taken.
type Gathering struct {
	routers []*Router
	lane    int
	into    *row.Batch
	only    *row.Batch // rows that are in order as they are; nil for none
	all     []Place    // the others, that were not given yet
	room    []Place
}

// NewGathering makes an empty one, for rows of a schema.
func NewGathering(s row.Schema) *Gathering { return &Gathering{into: row.NewBatch(s)} }

// Open begins with the rows that the routers have for a lane of the events from one up to another.
func (g *Gathering) Open(routers []*Router, lane, from, to int) {
	g.routers, g.lane, g.only, g.all = routers, lane, onlyOne(routers, lane, from, to), nil
	if g.only != nil {
		return
	}
	all := g.room[:0]
	for n, r := range routers {
		for i, at := range r.Lanes[lane].Index {
			if int(at) >= from && int(at) < to {
				all = append(all, Place{n, i})
			}
		}
	}
	g.room = all
	mergeRuns(all, func(a, b Place) int {
		p, q := routers[a.List].Lanes[lane], routers[b.List].Lanes[lane]
		if c := cmp.Compare(p.Index[a.Row], q.Index[b.Row]); c != 0 {
			return c
		}
		return bytes.Compare(p.Order.Bytes(a.Row), q.Order.Bytes(b.Row))
	})
	g.all = all
}

// Next gives up to row.MaxRows rows, which last until the next call; false where there are no more.
func (g *Gathering) Next() (View, bool) {
	if only := g.only; only != nil {
		g.only = nil
		return ViewOf(only), true
	}
	if g.into.Reset(); len(g.all) == 0 {
		return View{}, false
	}
	some := g.all[:min(len(g.all), row.MaxRows)]
	g.all = g.all[len(some):]
	for len(some) > 0 { // rows that stand together are copied together
		first, n := some[0], 1
		for n < len(some) && some[n].List == first.List && some[n].Row == first.Row+n {
			n++
		}
		g.into.AppendRange(g.routers[first.List].Lanes[g.lane], first.Row, first.Row+n)
		some = some[n:]
	}
	return ViewOf(g.into), true
}

// onlyOne gives the rows of the one router that has any for a lane, where they are few enough for a view, of these events, and in order;
// else nil.
func onlyOne(routers []*Router, lane, from, to int) *row.Batch {
	var only *row.Batch
	for _, r := range routers {
		switch b := r.Lanes[lane]; {
		case b.N == 0:
		case only != nil || b.N > row.MaxRows:
			return nil
		default:
			only = b
		}
	}
	if only == nil || int(only.Index[0]) < from || int(only.Index[only.N-1]) >= to {
		return nil
	}
	for i := 1; i < only.N; i++ {
		if only.Index[i-1] > only.Index[i] || only.Index[i-1] == only.Index[i] && bytes.Compare(only.Order.Bytes(i-1), only.Order.Bytes(i)) > 0 {
			return nil
		}
	}
	return only
}

// Place is a row of one of several lists.
type Place struct{ List, Row int }

// InOrder puts rows of several lists in one order, those that compare equal as they stand in all, and hands them on, up
// to row.MaxRows at a time: next gives an empty batch, which add appends rows to. all is sorted in place.
func InOrder(all []Place, compare func(a, b Place) int, next func() *row.Batch, add func(b *row.Batch, some []Place), take func(v View)) {
	mergeRuns(all, compare)
	for len(all) > 0 {
		n := min(len(all), row.MaxRows)
		b := next()
		add(b, all[:n])
		take(ViewOf(b))
		all = all[n:]
	}
}

// mergeRuns sorts, and leaves those that compare equal as they stand. Each list gives its rows in order, so all is a few runs of
// ascending places: neighbours are merged until one is left.
func mergeRuns(all []Place, compare func(a, b Place) int) {
	var ends []int
	for i := 1; i <= len(all); i++ {
		if i == len(all) || compare(all[i-1], all[i]) > 0 {
			ends = append(ends, i)
		}
	}
	if len(ends) < 2 {
		return
	}
	from, to := all, make([]Place, len(all))
	for len(ends) > 1 {
		merged := ends[:0]
		start := 0
		for n := 0; n < len(ends); n += 2 {
			if n+1 == len(ends) {
				copy(to[start:ends[n]], from[start:ends[n]])
				merged = append(merged, ends[n])
				break
			}
			mid, end := ends[n], ends[n+1]
			a, b := start, mid
			for i := start; i < end; i++ {
				if b == end || a < mid && compare(from[a], from[b]) <= 0 {
					to[i] = from[a]
					a++
				} else {
					to[i] = from[b]
					b++
				}
			}
			merged = append(merged, end)
			start = end
		}
		ends = merged
		from, to = to, from
	}
	copy(all, from)
}
