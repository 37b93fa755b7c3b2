package measure

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"undertide/core/expr"
	"undertide/core/row"
)

var specs = []Spec{
	{Func: "count"}, {Func: "sum", Arg: row.Int}, {Func: "mean", Arg: row.Int}, {Func: "sum", Arg: row.Double}, {Func: "mean", Arg: row.Double},
	{Func: "sum", Arg: row.Decimal}, {Func: "mean", Arg: row.Decimal}, {Func: "min", Arg: row.Int}, {Func: "max", Arg: row.Double}, {Func: "min", Arg: row.Double},
	{Func: "max", Arg: row.String}, {Func: "min", Arg: row.Decimal}, {Func: "max", Arg: row.Bool}, {Func: "first", Arg: row.String}, {Func: "last", Arg: row.Decimal},
	{Func: "quantile", Arg: row.Double, Q: 0.9}, {Func: "median", Arg: row.Int}, {Func: "median", Arg: row.Decimal}, {Func: "quantile", Arg: row.Decimal, Q: 0.3}, {Func: "count_distinct", Arg: row.Int}, {Func: "count_distinct", Arg: row.String}, {Func: "count_distinct", Arg: row.Decimal}, {Func: "count_distinct", Arg: row.Double},
	{Func: "collect", Arg: row.Int, N: 4}, {Func: "largest", Arg: row.Double, N: 3}, {Func: "most_common", Arg: row.String, N: 2},
	{Func: "variance", Arg: row.Double}, {Func: "stddev", Arg: row.Int},
}

// kindOf gives the kind of a spec's result.
func kindOf(s Spec) row.Kind {
	switch s.Func {
	case "count", "count_distinct":
		return row.Int
	case "mean", "quantile":
		if s.Arg == row.Decimal {
			return row.Decimal
		}
		return row.Double
	case "variance", "stddev":
		return row.Double
	case "collect", "largest":
		return row.ListOf(s.Arg)
	case "most_common":
		return row.CommonOf(s.Arg)
	}
	return s.Arg
}

func mustNew(t *testing.T, s Spec) Column {
	t.Helper()
	c, err := New(s)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// values makes a column of a kind; numbers are small, so that sums are exact in any order.
func values(r *rand.Rand, k row.Kind, n int) *row.Column {
	c := row.NewColumn(k)
	for range n {
		x := r.IntN(40) - 10
		switch k {
		case row.Double:
			c.AppendDouble(float64(x) / 4)
		case row.String:
			c.AppendString(fmt.Sprint("v", x))
		case row.Decimal:
			text, _ := expr.ParseDecimal(fmt.Sprintf("%d.%d", x, r.IntN(100)))
			c.AppendString(text)
		case row.Bool:
			c.AppendBool(x > 0)
		default:
			c.AppendInt(int64(x))
		}
	}
	return c
}

// tell says to a column that key id has n values.
func tell(c Column, id uint32, n int) {
	if c, ok := c.(Counted); ok {
		rows := make([]int64, id+1)
		rows[id] = int64(n) + 2 // of which two gave none
		missing := make([]int64, id+1)
		missing[id] = 2
		c.SetCounts(rows, missing)
	}
}

func result(t *testing.T, s Spec, c Column, id uint32, n int) string {
	t.Helper()
	tell(c, id, n)
	dst := row.NewColumn(kindOf(s))
	if err := c.Append(dst, id); err != nil {
		return err.Error()
	}
	if s.Func == "variance" || s.Func == "stddev" {
		if dst.IsNull(0) {
			return "null"
		}
		return fmt.Sprintf("%.9g", dst.F[0]) // joined in another order, its last digits may differ
	}
	return expr.At(dst, 0).String()
}

// TestParts: rows added in parts that are joined, saved and loaded give what rows added one after another
// give; a number that was emptied is as new.
func TestParts(t *testing.T) {
	for _, s := range specs {
		for round := range 200 {
			r := rand.New(rand.NewPCG(uint64(round), 7))
			n := 1 + r.IntN(30)
			arg := values(r, max(s.Arg, row.String), n)
			times := make([]row.Time, n)
			for i := range times {
				times[i] = row.Time(r.IntN(12))
			}
			whole, parts := mustNew(t, s), mustNew(t, s)
			whole.Grow(1)
			parts.Grow(4)
			parts.Add([]uint32{3}, []uint16{0}, arg, times) // something to be emptied
			parts.Reset(3)
			cut := []int{0, r.IntN(n + 1), r.IntN(n + 1), n}
			slices.Sort(cut)
			for i := range n {
				whole.Add([]uint32{0}, []uint16{uint16(i)}, arg, times)
			}
			for p := range 3 {
				for i := cut[p]; i < cut[p+1]; i++ {
					parts.Add([]uint32{uint32(p)}, []uint16{uint16(i)}, arg, times)
				}
			}
			loaded := mustNew(t, s)
			loaded.Grow(4)
			var saved []*row.Column
			for _, f := range parts.State() {
				saved = append(saved, row.NewColumn(f.Kind))
			}
			for id := range uint32(4) {
				tell(parts, id, 1)
				parts.Save(saved, id)
			}
			for id := range uint32(4) {
				if err := loaded.Load(id, saved, int(id)); err != nil {
					t.Fatalf("%+v: %v", s, err)
				}
			}
			all := mustNew(t, s)
			all.Grow(4)
			all.JoinAll([]Column{loaded}, 4) // into empty ones: the same again
			for p := range uint32(3) {
				all.Merge(3, all, p)
			}
			if got, want := result(t, s, all, 3, n), result(t, s, whole, 0, n); got != want {
				t.Fatalf("%s of %s, round %d: the parts give %s, the whole %s", s.Func, s.Arg, round, got, want)
			}
		}
	}
}

// TestQuantileError: the relative error is under 1 %, for values of any size and sign, joined or not.
func TestQuantileError(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, make := range []func() float64{
		func() float64 { return r.Float64() * 1000 },
		func() float64 { return math.Exp(r.NormFloat64() * 8) },
		func() float64 { return r.NormFloat64() * 1e-7 },
		func() float64 { return float64(r.IntN(5)) },
	} {
		var all []float64
		var parts []Column
		for range 4 {
			c := mustNew(t, Spec{Func: "quantile", Arg: row.Double})
			c.Grow(1)
			for range 1 + r.IntN(2000) {
				x := make()
				all = append(all, x)
				arg := row.NewColumn(row.Double)
				arg.AppendDouble(x)
				c.Add([]uint32{0}, []uint16{0}, arg, nil)
			}
			parts = append(parts, c)
		}
		slices.Sort(all)
		for _, q := range []float64{0, 0.01, 0.25, 0.5, 0.9, 0.95, 0.999, 1} {
			c := mustNew(t, Spec{Func: "quantile", Arg: row.Double, Q: q})
			c.Grow(1)
			for _, p := range parts {
				c.Merge(0, p, 0)
			}
			dst := row.NewColumn(row.Double)
			if err := c.Append(dst, 0); err != nil {
				t.Fatal(err)
			}
			want := all[int(math.Floor(q*float64(len(all)-1)))]
			if math.Abs(dst.F[0]-want) > 0.01*math.Abs(want) {
				t.Errorf("quantile %v of %d values is %v, want %v within 1 %%", q, len(all), dst.F[0], want)
			}
		}
	}
}

// TestDistinctError: exact to 10,000 values, then within 2 %, also where exact parts join estimated ones.
func TestDistinctError(t *testing.T) {
	add := func(c Column, from, to int) {
		arg := row.NewColumn(row.Int)
		for i := from; i < to; i++ {
			arg.Reset()
			arg.AppendInt(int64(i) * 7919)
			c.Add([]uint32{0}, []uint16{0}, arg, nil)
		}
	}
	count := func(c Column) float64 {
		dst := row.NewColumn(row.Int)
		if err := c.Append(dst, 0); err != nil {
			t.Fatal(err)
		}
		return float64(dst.I[0])
	}
	for _, n := range []int{1, 9_999, 10_000, 10_001, 50_000, 400_000} {
		whole, left, right := mustNew(t, Spec{Func: "count_distinct", Arg: row.Int}), mustNew(t, Spec{Func: "count_distinct", Arg: row.Int}), mustNew(t, Spec{Func: "count_distinct", Arg: row.Int})
		for _, c := range []Column{whole, left, right} {
			c.Grow(1)
		}
		add(whole, 0, n)
		add(left, 0, n*2/3)
		add(right, n/3, n)
		left.Merge(0, right, 0)
		allowed := 0.0
		if n > 10_000 {
			allowed = 0.02 * float64(n)
		}
		for _, got := range []float64{count(whole), count(left)} {
			if math.Abs(got-float64(n)) > allowed {
				t.Errorf("%d distinct values are counted as %v", n, got)
			}
		}
	}
}

// TestSpread compares variance and standard deviation with their definition.
func TestSpread(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		n := 2 + r.IntN(50)
		arg := row.NewColumn(row.Double)
		sum := 0.0
		for range n {
			arg.AppendDouble(1e6 + r.NormFloat64()*3)
			sum += arg.F[arg.Len()-1]
		}
		squares := 0.0
		for _, x := range arg.F {
			squares += (x - sum/float64(n)) * (x - sum/float64(n))
		}
		for _, f := range []string{"variance", "stddev"} {
			c := mustNew(t, Spec{Func: f, Arg: row.Double})
			c.Grow(1)
			for i := range n {
				c.Add([]uint32{0}, []uint16{uint16(i)}, arg, nil)
			}
			dst := row.NewColumn(row.Double)
			if err := c.Append(dst, 0); err != nil {
				t.Fatal(err)
			}
			want := squares / float64(n-1)
			if f == "stddev" {
				want = math.Sqrt(want)
			}
			if math.Abs(dst.F[0]-want) > 1e-6*want {
				t.Errorf("%s of %d values is %v, want %v", f, n, dst.F[0], want)
			}
		}
	}
}

// TestDamagedState: state that does not have the form of Save gives an error, not a panic.
func TestDamagedState(t *testing.T) {
	for _, s := range specs {
		c := mustNew(t, s)
		c.Grow(1)
		var cols []*row.Column
		lists := false
		for _, f := range c.State() {
			col := row.NewColumn(f.Kind)
			switch {
			case !f.Kind.Plain(), f.Kind == row.Bytes:
				lists = true
				col.AppendString("\x01\x02\x03")
			case f.Kind == row.Double:
				col.AppendDouble(1)
			case f.Kind.Text():
				col.AppendString("1")
			default:
				col.AppendInt(1)
			}
			cols = append(cols, col)
		}
		if err := c.Load(0, cols, 0); lists && err == nil {
			t.Errorf("%s of %s takes damaged state", s.Func, s.Arg)
		}
	}
}
