package step

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

var input = row.Schema{{Name: "k", Kind: row.String}, {Name: "x", Kind: row.Double}, {Name: "b", Kind: row.Int}, {Name: "s", Kind: row.String}}

// newWindow makes a step with every aggregate over every kind.
func newWindow(t *testing.T, size time.Duration) *Window {
	t.Helper()
	w := window.Tumbling(size, 0)
	d := NewWindow(Spec{Key: []int{0}, Input: input})
	d.Aligned = &w
	d.Schema = row.Schema{{Name: "k", Kind: row.String}, {Name: "window_start", Kind: row.Timestamp}, {Name: "window_end", Kind: row.Timestamp}}
	addMeasures(t, d, "count()", "count_if(x > 0.0)", "sum(x)", "mean(x)", "min(x)", "max(x)", "sum(b)", "mean(b)", "min(b)", "max(b)", "min(s)", "max(s)", "sum(b, x > 0.0)")
	return d
}

// addMeasures gives a step measures: their aggregates, what is computed from them, and the columns m0, m1 and so on.
func addMeasures(t *testing.T, d *Window, measures ...string) {
	t.Helper()
	for _, m := range measures {
		p, faults := expr.Compile(m, expr.Scope{Fields: input, Measure: true})
		if p == nil {
			t.Fatalf("%s: %v", m, faults)
		}
		first := len(d.spec.Aggregates)
		for _, a := range p.Aggregates {
			d.spec.Aggregates = append(d.spec.Aggregates, NewAggregate(a))
		}
		d.Measures = append(d.Measures, p.Shift(first))
		d.Schema = append(d.Schema, row.Field{Name: fmt.Sprintf("m%d", first), Kind: p.Kind()})
	}
}

// batch makes rows of so many keys, at times from start on.
func batch(r *rand.Rand, n, keys, firstKey int, start, span row.Time) *row.Batch {
	b := row.NewBatch(input)
	for i := range n {
		b.Cols[0].AppendString(fmt.Sprintf("key %d", firstKey+r.IntN(keys)))
		for _, c := range b.Cols[1:] {
			switch {
			case r.IntN(6) == 0:
				c.AppendNull()
			case c.Kind == row.Double:
				c.AppendDouble(r.NormFloat64())
			case c.Kind == row.String:
				c.AppendString(fmt.Sprint(r.IntN(50)))
			default:
				c.AppendInt(int64(r.Uint64()))
			}
		}
		b.Times = append(b.Times, start+row.Time(r.Int64N(int64(span))))
		b.Index = append(b.Index, uint16(i))
		b.N++
	}
	return b
}

func texts(v View) []string {
	var out []string
	for _, i := range v.Sel {
		line := ""
		for _, c := range v.Cols {
			line += expr.At(c, int(i)).String() + " "
		}
		out = append(out, line)
	}
	return out
}

// box keeps what a lane publishes, as text.
type box struct {
	rows, late []string
	counts     int64 // sum of count()
}

func (b *box) Main(v View) {
	b.rows = append(b.rows, texts(v)...)
	for _, i := range v.Sel {
		b.counts += v.Cols[3].I[i]
	}
}
func (b *box) Late(v View)         { b.late = append(b.late, texts(v)...) }
func (b *box) Reject(View, Reject) { panic("no row of these tests is rejected by a lane") }

// turn is one whose watermark stands, and moves at its end.
func turn(n int, mark, after row.Time) *Turn {
	t := &Turn{After: after}
	for range n {
		t.Marks = append(t.Marks, mark)
	}
	return t
}

// TestSnapshot saves the state in the middle, loads it into other numbers of lanes, and wants the same
// rows as from lanes that went on.
func TestSnapshot(t *testing.T) {
	d := newWindow(t, time.Second)
	for _, lanes := range []int{1, 2, 5} {
		for _, later := range []int{1, 2, 3} {
			r := rand.New(rand.NewPCG(uint64(lanes), uint64(later)))
			var batches []*row.Batch
			for range 6 {
				batches = append(batches, batch(r, 500, 40, 0, 0, 5_000_000))
			}
			feed := func(ls []Lane, from, to int) {
				x := d.Spec().NewExchange(len(ls))
				for _, b := range batches[from:to] {
					x.Fill(ViewOf(b), nil)
					for n, l := range ls {
						l.Take(x, n, turn(b.N, row.MinTime, row.MinTime), &box{})
					}
				}
			}
			end := func(ls []Lane) []string {
				var out box
				for _, l := range ls {
					l.Move(turn(1, row.MinTime, row.MaxTime), &out)
				}
				slices.Sort(out.rows)
				return out.rows
			}
			newLanes := func(n int) (ls []Lane) {
				for range n {
					ls = append(ls, d.NewLane(LaneOptions{Keeps: true}))
				}
				return ls
			}
			alone := newLanes(1)
			feed(alone, 0, 6)
			first := newLanes(lanes)
			m := state.NewMemory()
			for part := range 3 { // each part is kept by what it changed
				feed(first, part, part+1)
				keep(m, d, first)
			}
			second := newLanes(later)
			keep(m, d, first)
			for n, l := range second {
				if err := Restore("s", d, l, m, n, later, nil); err != nil {
					t.Fatal(err)
				}
			}
			feed(second, 3, 6)
			got, want := end(second), end(alone)
			if !slices.Equal(got, want) {
				t.Fatalf("%d lanes saved, %d loaded: %d rows, want %d, or they differ:\n%s\n%s", lanes, later, len(got), len(want), got[0], want[0])
			}
		}
	}
}

// keep carries out what changed in some lanes of a step.
func keep(m *state.Memory, d Keyed, lanes []Lane) {
	for n, l := range lanes {
		for _, c := range l.Freeze() {
			m.Apply("s", c, n, len(lanes))
		}
	}
}

// TestLoadRefuses: state of another step is refused with words.
func TestLoadRefuses(t *testing.T) {
	d := newWindow(t, time.Second)
	l := d.NewLane(LaneOptions{Keeps: true})
	x := d.Spec().NewExchange(1)
	b := batch(rand.New(rand.NewPCG(1, 1)), 10, 3, 0, 3_000_000, 1_000_000)
	x.Fill(ViewOf(b), nil)
	l.Take(x, 0, turn(b.N, row.MinTime, row.MinTime), &box{})
	m := state.NewMemory()
	keep(m, d, []Lane{l})
	for _, size := range []time.Duration{2 * time.Second, 700 * time.Millisecond} {
		if err := Restore("s", d, newWindow(t, size).NewLane(LaneOptions{}), m, 0, 1, nil); err == nil {
			t.Errorf("state of windows of another size was taken by those of %s", size)
		}
	}
}

// TestMemoryFollowsKeys: keys that come once are forgotten with their windows, and what the windows
// hold is right all the while.
func TestMemoryFollowsKeys(t *testing.T) {
	d := newWindow(t, time.Second)
	l := d.NewLane(LaneOptions{Keeps: true})
	x := d.Spec().NewExchange(1)
	r := rand.New(rand.NewPCG(1, 1))
	most := 0
	var out box
	seconds := fewer(240)
	for second := range seconds {
		start := row.Time(second) * 1_000_000
		b := batch(r, 2000, 3000, second*3000, start, 2_000_000) // this window and the next
		x.Fill(ViewOf(b), nil)
		after := start + 1_000_000
		l.Take(x, 0, turn(b.N, start, after), &out)
		l.Move(turn(b.N, start, after), &out)
		most = max(most, l.Held().Keys)
	}
	if most > 20_000 {
		t.Errorf("%d keys were held at once; at most some 3,500 have an open window", most)
	}
	l.Move(turn(1, row.Time(seconds)*1_000_000, row.MaxTime), &out)
	if want := seconds * 2000; int(out.counts) != want {
		t.Errorf("the windows hold %d rows, want %d", out.counts, want)
	}
	if h := l.Held(); h.Windows != 0 {
		t.Errorf("%d windows are left", h.Windows)
	}
}

// TestWindowsOpenAndKept: a window is open until the watermark has passed it, then kept for late rows; a late row does not open it again. It holds
// over a restart.
func TestWindowsOpenAndKept(t *testing.T) {
	const second = row.Time(1_000_000)
	tumbling := window.Tumbling(time.Second, 0)
	for name, set := range map[string]func(*Window){
		"tumbling": func(d *Window) { d.Aligned = &tumbling },
		"session":  func(d *Window) { d.Session = &Session{Gap: time.Second} },
	} {
		t.Run(name, func(t *testing.T) {
			d := windowed(t, func(d *Window) {
				set(d)
				d.Accept = 3 * time.Second
			})
			r := rand.New(rand.NewPCG(3, 4))
			l, m := d.NewLane(LaneOptions{Keeps: true}), state.NewMemory()
			x := d.Spec().NewExchange(1)
			begun := map[row.Time]bool{} // windows that had rows, by start: even seconds, so that sessions stay apart
			mark := row.MinTime
			for n := range 200 {
				at := row.Time(1000+n/4-r.IntN(8)) / 2 * 2 * second // some are too late
				b := batch(r, 1, 1, 0, at, 1)
				x.Fill(ViewOf(b), nil)
				if mark == row.MinTime || at+4*second > mark {
					begun[at] = true
				}
				after := max(mark, row.Time(1000+n/4)*second-row.Time(r.Int64N(int64(second))))
				l.Take(x, 0, turn(1, mark, after), &box{})
				l.Move(turn(1, mark, after), &box{})
				mark = after
				if n%50 == 20 {
					keep(m, d, []Lane{l})
					l = d.NewLane(LaneOptions{Keeps: true})
					if err := Restore("s", d, l, m, 0, 1, nil); err != nil {
						t.Fatal(err)
					}
				}
				mark++
				l.Move(turn(1, mark-1, mark), &box{}) // what a turn has closed goes with the next one at the latest
				open, kept := 0, 0
				for at := range begun {
					switch end := at + second; {
					case end > mark:
						open++
					case end+3*second > mark:
						kept++
					}
				}
				if h := l.Held(); h.Windows != open || h.Kept != kept || h.Rows != open+kept {
					t.Fatalf("after row %d %d windows are open and %d kept, in %d rows; want %d and %d", n, h.Windows, h.Kept, h.Rows, open, kept)
				}
			}
		})
	}
}

// TestNoAllocation: adding rows of known keys to open windows allocates nothing.
func TestNoAllocation(t *testing.T) {
	d := newWindow(t, time.Hour)
	l := d.NewLane(LaneOptions{Keeps: true})
	x := d.Spec().NewExchange(1)
	r := rand.New(rand.NewPCG(1, 1))
	b := batch(r, row.MaxRows, 300, 0, 0, 2*3_600_000_000)
	for i := range b.N { // texts are copied when they are a new least; let there be none
		b.Cols[3].SetNull(i, true)
	}
	tn := turn(b.N, row.MinTime, row.MinTime)
	out := &box{}
	once := func() {
		v := ViewOf(b)
		x.Fill(v, nil)
		l.Take(x, 0, tn, out)
	}
	once()
	if n := testing.AllocsPerRun(10, once); n > 0 {
		t.Errorf("%.0f allocations for a batch of %d rows, want none", n, b.N)
	}
}
