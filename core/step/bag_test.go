package step

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"undertide/core/expr"
	"undertide/core/row"
)

// TestJoinAll: bags that are joined at once, wide or narrow, of which the older have fewer keys, give what their rows give when each accumulator is
// merged after the other; also in a bag that had something before.
func TestJoinAll(t *testing.T) {
	var d Spec
	for _, f := range []string{"count", "sum", "mean", "min", "max", "first"} {
		arg, faults := expr.Compile("x", expr.Scope{Fields: row.Schema{{Name: "x", Kind: row.Double}}})
		if arg == nil {
			t.Fatal(faults)
		}
		a := expr.Aggregate{Func: f, Kind: row.Double, Arg: arg}
		if f == "count" {
			a.Arg, a.Kind = nil, row.Int
		}
		d.Aggregates = append(d.Aggregates, NewAggregate(a))
	}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 7))
		into := &bag{accs: *newAccs(&d)}
		for range 3 { // the second and third meet what was there
			keys := 0
			var srcs []*bag
			for range 1 + r.IntN(9) {
				keys += r.IntN(4)
				src := &bag{accs: *newAccs(&d), narrow: r.IntN(8) == 0}
				fill(r, src, keys+1)
				srcs = append(srcs, src)
			}
			into.joinAll(srcs, keys+1)
			slow := &bag{accs: *newAccs(&d), narrow: true}
			for _, src := range srcs {
				for slot := range src.rows {
					if src.rows[slot] > 0 {
						slow.merge(slow.put(src.key(uint32(slot)), keys+1), &src.accs, uint32(slot))
					}
				}
			}
			if got, want := resultsOf(into, keys+1), resultsOf(slow, keys+1); got != want {
				t.Fatalf("seed %d: %d bags give\n%swant\n%s", seed, len(srcs), got, want)
			}
		}
	}
}

// fill adds rows, some of them without a value, to keys of a bag.
func fill(r *rand.Rand, b *bag, keys int) {
	n := r.IntN(30)
	values := row.NewColumn(row.Double)
	x := &Exchange{View: View{Times: make([]row.Time, n)}, Args: make([]*row.Column, len(b.def.Aggregates)), Conds: make([]*row.Column, len(b.def.Aggregates))}
	var slots []uint32
	var rows []uint16
	for i := range n {
		if values.AppendDouble(r.NormFloat64()); r.IntN(4) == 0 {
			values.SetNull(i, true)
		}
		slots, rows = append(slots, b.put(uint32(r.IntN(keys)), keys)), append(rows, uint16(i))
	}
	for i, a := range b.def.Aggregates {
		if a.Arg != nil {
			x.Args[i] = values
		}
	}
	b.add(x, slots, rows)
}

// resultsOf gives the results of all keys that a bag has.
func resultsOf(b *bag, keys int) (out string) {
	var counts LaneCounts
	for key := range uint32(keys) {
		slot, ok := b.find(key)
		if !ok || b.rows[slot] == 0 {
			continue
		}
		var cols []*row.Column
		for _, a := range b.def.Aggregates {
			cols = append(cols, row.NewColumn(a.Kind))
		}
		b.results(cols, []uint32{slot}, &counts)
		out += fmt.Sprint(key, ": ")
		for _, c := range cols {
			out += fmt.Sprint(expr.At(c, 0), " ")
		}
		out += "\n"
	}
	return out
}
