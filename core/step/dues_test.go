package step

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"
	"unsafe"

	"undertide/core/row"
)

// TestDues compares dues with a sorted list, while times go on as a watermark does, in steps of any size.
func TestDues(t *testing.T) {
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 18))
		d := newDues()
		var all []dueAt
		scale := int64(1) << r.IntN(45)
		mark := row.Time(r.Int64N(2*scale) - scale)
		for n := range uint32(2000) {
			for range r.IntN(3) {
				x := dueAt{mark + 1 + row.Time(r.Int64N(scale)), n}
				if r.IntN(50) == 0 {
					x.at = row.MaxTime
				}
				d.push(x.at, x.n)
				all = append(all, x)
			}
			if r.IntN(4) == 0 {
				mark += row.Time(r.Int64N(scale/4 + 2))
			}
			slices.SortFunc(all, func(a, b dueAt) int { return cmp.Compare(a.at, b.at) })
			want := row.MaxTime
			if len(all) > 0 {
				want = all[0].at
			}
			if d.next() != want || d.held != len(all) {
				t.Fatalf("seed %d: the next of %d is due at %d, want %d of %d", seed, d.held, d.next(), want, len(all))
			}
			var due []dueAt
			got := d.take(mark, nil)
			for len(all) > 0 && all[0].at <= mark {
				due, all = append(due, all[0]), all[1:]
			}
			order := func(a, b dueAt) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(a.n, b.n)) }
			slices.SortFunc(got, order)
			slices.SortFunc(due, order)
			if !slices.Equal(got, due) {
				t.Fatalf("seed %d: %v is taken out up to %d, want %v", seed, got, mark, due)
			}
		}
		left := 0
		d.each(func(dueAt) { left++ })
		if left != len(all) {
			t.Fatalf("seed %d: %d are left, want %d", seed, left, len(all))
		}
	}
}

// TestSortByTime compares it with sorting by comparison, for times of any size and sign.
func TestSortByTime(t *testing.T) {
	var spare []dueAt
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 19))
		scale, from := int64(1)<<r.IntN(63), row.Time(r.Int64()-r.Int64())
		list := make([]dueAt, r.IntN(300))
		for i := range list {
			list[i] = dueAt{from/2 + row.Time(r.Int64N(scale)/2), uint32(i)}
		}
		want := slices.Clone(list)
		slices.SortStableFunc(want, func(a, b dueAt) int { return cmp.Compare(a.at, b.at) })
		var got []dueAt
		if got, spare = sortByTime(list, spare); !slices.Equal(got, want) {
			t.Fatalf("seed %d: %v, want %v", seed, got, want)
		}
	}
}

// TestSessionLine: a session takes the bytes that Held counts, one line of the processor's cache.
func TestSessionLine(t *testing.T) {
	if n := unsafe.Sizeof(session{}); n != sessionBytes {
		t.Errorf("a session takes %d bytes, not %d", n, sessionBytes)
	}
}
