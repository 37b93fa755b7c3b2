package engine

import (
	"math/rand/v2"
	"slices"
	"testing"

	"undertide/core/row"
)

// TestHeap compares the heap with a sorted list through random changes, and checks its invariant after
// each: no item comes before its parent, and each knows its place.
func TestHeap(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	h := partHeap{before: func(p, q *partition) bool { return p.w < q.w }, at: func(p *partition) *int { return &p.inAwake }}
	var all []*partition
	for i := range 40 {
		all = append(all, &partition{number: i, inAwake: -1})
	}
	in := map[*partition]bool{}
	for step := range 20_000 {
		p := all[r.IntN(len(all))]
		if r.IntN(3) == 0 {
			h.remove(p)
			delete(in, p)
		} else {
			p.w = row.Time(r.IntN(30))
			h.put(p)
			in[p] = true
		}
		for i, q := range h.items {
			if q.inAwake != i || !in[q] || i > 0 && q.w < h.items[(i-1)/2].w {
				t.Fatalf("step %d: item %d says %d, belongs there: %v", step, i, q.inAwake, in[q])
			}
		}
		var want []row.Time
		for q := range in {
			want = append(want, q.w)
		}
		slices.Sort(want)
		if len(h.items) != len(want) || h.has(p) != in[p] {
			t.Fatalf("step %d: %d items, want %d", step, len(h.items), len(want))
		}
		if len(want) > 0 && h.least().w != want[0] || len(want) > 1 && h.second().w != want[1] {
			t.Fatalf("step %d: the least are not %v", step, want[:min(2, len(want))])
		}
	}
}
