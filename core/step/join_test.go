package step

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// joined makes a join of levels (gauge k, l) and calls (k, r).
func joined(from, to, accept time.Duration, left, right bool) *Join {
	return &Join{
		Keys: Spec{Input: row.Schema{{Name: "k", Kind: row.String}, {Name: "l", Kind: row.Int}, {Name: "r", Kind: row.Int}, SideField}, Key: []int{0}, KeepNull: true},
		Of:   []SideSet{3, 1, 2}, From: from, To: to, Accept: accept, Unmatched: [2]bool{left, right},
	}
}

// joinRow is a row of a side, which is read under a watermark.
type joinRow struct {
	side, key, n int // key < 0: null
	at, mark     row.Time
}

// partners says by the contract's words whether rows of these times are.
func partners(d *Join, left, right row.Time) bool {
	if d.Window == nil {
		return left+row.Time(d.From.Microseconds()) <= right && right <= left+row.Time(d.To.Microseconds())
	}
	size, by := row.Time(d.Window.Size), row.Time(d.Window.By)
	for start := floorTo(left, by); start > left-size; start -= by {
		if start <= right && right < start+size {
			return true
		}
	}
	return false
}

// joinModel makes all pairs by trying each.
func joinModel(d *Join, rows []joinRow) (pairs []string, sides [2]SideCounts) {
	met := map[int]bool{}
	var in []int
	for i, r := range rows {
		sides[r.side].Rows++
		if r.mark != row.MinTime && r.at < r.mark-row.Time(d.Accept.Microseconds()) {
			sides[r.side].Late++
			pairs = append(pairs, fmt.Sprintf("late %s %d", Sides[r.side], r.n))
			continue
		}
		for _, k := range in {
			o := rows[k]
			a, b := r, o
			if r.side == RightSide {
				a, b = o, r
			}
			if o.side != r.side && r.key >= 0 && r.key == o.key && partners(d, a.at, b.at) {
				met[i], met[k] = true, true
				pairs = append(pairs, fmt.Sprintf("K%d %d %d at %d", r.key, a.n, b.n, max(a.at, b.at)))
			}
		}
		in = append(in, i)
	}
	for _, i := range in {
		r := rows[i]
		c := &sides[r.side]
		if met[i] {
			c.Matched++
			continue
		}
		c.Unmatched++
		if d.Unmatched[r.side] {
			key := "null"
			if r.key >= 0 {
				key = fmt.Sprintf("K%d", r.key)
			}
			if r.side == LeftSide {
				pairs = append(pairs, fmt.Sprintf("%s %d null at %d", key, r.n, r.at))
			} else {
				pairs = append(pairs, fmt.Sprintf("%s null %d at %d", key, r.n, r.at))
			}
		}
	}
	slices.Sort(pairs)
	return pairs, sides
}

// joinBox keeps what a join publishes, and sees that nothing is late behind it.
type joinBox struct {
	t    *testing.T
	back time.Duration
	turn *Turn
	rows []string
}

func (b *joinBox) Main(v View) {
	for _, i := range v.Sel {
		value := func(c int) string {
			if v.Cols[c].IsNull(int(i)) {
				return "null"
			}
			if v.Cols[c].Kind.Text() {
				return string(v.Cols[c].Bytes(int(i)))
			}
			return fmt.Sprint(v.Cols[c].I[i])
		}
		b.rows = append(b.rows, fmt.Sprintf("%s %s %s at %d", value(0), value(1), value(2), v.Times[i]))
		if w := b.turn.Marks[v.Index[i]].Minus(b.back); v.Times[i] < w {
			b.t.Errorf("a row of %d is published where the watermark behind the step stands at %d", v.Times[i], w)
		}
	}
}

func (b *joinBox) Late(v View) {
	for _, i := range v.Sel {
		n := v.Cols[1]
		if string(v.Cols[3].Bytes(int(i))) == "right" {
			n = v.Cols[2]
		}
		b.rows = append(b.rows, fmt.Sprintf("late %s %d", v.Cols[3].Bytes(int(i)), n.I[i]))
	}
}
func (b *joinBox) Reject(View, Reject) { b.t.Error("a row is rejected") }

// TestRandomJoins compares joins with the model: bounds on both sides of zero, windows, rows out of order, late ones, nulls,
// all kinds; lanes that change in the middle, and start from what was kept.
func TestRandomJoins(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 15))
		from := time.Duration(r.IntN(40)-30) * time.Second
		d := joined(from, from+time.Duration(r.IntN(40))*time.Second, time.Duration(r.IntN(3)*r.IntN(20))*time.Second, r.IntN(2) == 0, r.IntN(2) == 0)
		if r.IntN(4) == 0 {
			w := window.Tumbling(time.Duration(1+r.IntN(20))*time.Second, 0)
			if r.IntN(2) == 0 {
				w.By = w.Size / int64(1+r.IntN(4))
			}
			d.Window, d.From, d.To = &w, 0, 0
		}
		var rows []joinRow
		mark := row.MinTime
		for i := range 1 + r.IntN(600) {
			x := joinRow{side: r.IntN(2), key: r.IntN(12) - 1, n: i, at: row.Time(i*200_000 + r.IntN(30_000_000)), mark: mark}
			rows = append(rows, x)
			if next := row.Time(i*200_000 - r.IntN(20_000_000)); r.IntN(3) == 0 {
				mark = max(mark, next)
			}
		}
		want, sides := joinModel(d, rows)
		out := &joinBox{t: t, back: d.Back()}
		got, counts := runJoin(t, d, rows, r, out)
		slices.Sort(got)
		if !slices.Equal(got, want) {
			t.Fatalf("seed %d, %+v: %d rows, want %d\n%q\n%q", seed, d, len(got), len(want), without(got, want), without(want, got))
		}
		if counts != sides {
			t.Fatalf("seed %d: counts %+v, want %+v", seed, counts, sides)
		}
	}
}

// TestWeigh: what a side keeps is told by the keys with most rows, and no more of what the watermark has passed.
func TestWeigh(t *testing.T) {
	d := joined(-10*time.Second, 10*time.Second, 0, false, false)
	l := d.NewLane(LaneOptions{})
	x := d.Spec().NewExchange(1)
	out := &joinBox{t: t}
	weigh := func(now row.Time, rows []joinRow, after row.Time) []SideHeld {
		b, turn := row.NewBatch(d.Keys.Input), &Turn{After: after, Now: now}
		for i, r := range rows {
			addJoinRow(b, r, i)
		}
		for range max(1, len(rows)) {
			turn.Marks = append(turn.Marks, 0)
		}
		out.turn = turn
		x.Fill(ViewOf(b), nil)
		l.Take(x, 0, turn, out)
		l.Move(turn, out)
		return l.Held().Sides
	}
	const second = 1_000_000
	var rows []joinRow
	for key, n := range []int{1, 2, 9, 2, 4, 1, 3, 1} { // key 2 has nine rows
		for i := range n {
			rows = append(rows, joinRow{side: LeftSide, key: key, n: len(rows), at: row.Time(second * (1 + 20*(i%2)))})
		}
	}
	want := func(held []SideHeld, n int64, heaviest string) {
		t.Helper()
		got := ""
		for _, k := range held[LeftSide].Heaviest {
			got += fmt.Sprintf("%s: %d; ", k.Key, k.Rows)
		}
		if held[LeftSide].Rows != n || got != heaviest || held[LeftSide].Bytes < 10*n || held[RightSide].Rows != 0 {
			t.Errorf("kept %+v, want %d rows, the heaviest %s", held, n, heaviest)
		}
	}
	want(weigh(second, rows, 0), 23, "k \"K2\": 9; k \"K4\": 4; k \"K6\": 3; k \"K1\": 2; k \"K3\": 2; ")
	before := weigh(second+1, nil, 15*second)
	want(before, 23, "k \"K2\": 9; k \"K4\": 4; k \"K6\": 3; k \"K1\": 2; k \"K3\": 2; ") // it is weighed once a second
	want(weigh(3*second, nil, 15*second), 9, "k \"K2\": 4; k \"K4\": 2; k \"K1\": 1; k \"K3\": 1; k \"K6\": 1; ")
	want(before, 23, "k \"K2\": 9; k \"K4\": 4; k \"K6\": 3; k \"K1\": 2; k \"K3\": 2; ") // what was given stays as it is
	if held := weigh(3*second, nil, row.MaxTime); held[LeftSide].Rows != 0 || len(held[LeftSide].Heaviest) != 0 {
		t.Errorf("after the end %+v is kept", held)
	}
}

func addJoinRow(b *row.Batch, x joinRow, index int) {
	if x.key < 0 {
		b.Cols[0].AppendNull()
	} else {
		b.Cols[0].AppendString(fmt.Sprintf("K%d", x.key))
	}
	for s := range 2 {
		if s == x.side {
			b.Cols[1+s].AppendInt(int64(x.n))
		} else {
			b.Cols[1+s].AppendNull()
		}
	}
	b.Cols[3].AppendString(Sides[x.side])
	b.Times, b.Index = append(b.Times, x.at), append(b.Index, uint16(index))
	b.N++
}

func without(a, b []string) []string {
	return slices.DeleteFunc(slices.Clone(a), func(s string) bool { return slices.Contains(b, s) })
}

func runJoin(t *testing.T, d *Join, rows []joinRow, r *rand.Rand, out *joinBox) ([]string, [2]SideCounts) {
	m := state.NewMemory()
	var sides [2]SideCounts
	lanes := []Lane{d.NewLane(LaneOptions{Keeps: true})}
	x := d.Spec().NewExchange(1)
	count := func() {
		for _, l := range lanes {
			for s := range sides {
				sides[s].Add(l.Counts().Sides[s])
			}
		}
	}
	for len(rows) > 0 {
		n := min(len(rows), 1+r.IntN(60))
		b, tn := row.NewBatch(d.Keys.Input), &Turn{}
		for i, x := range rows[:n] {
			addJoinRow(b, x, i)
			tn.Marks = append(tn.Marks, x.mark)
		}
		tn.After = rows[n-1].mark
		if rows = rows[n:]; len(rows) > 0 {
			tn.After = rows[0].mark
		} else {
			tn.After = row.MaxTime
		}
		out.turn = tn
		x.Fill(ViewOf(b), nil)
		for i, l := range lanes {
			l.Take(x, i, tn, out)
			l.Move(tn, out)
		}
		if r.IntN(4) == 0 {
			keep(m, d, lanes)
			if r.IntN(2) == 0 { // others go on
				count()
				lanes = nil
				n := 1 + r.IntN(3)
				for i := range n {
					l := d.NewLane(LaneOptions{Keeps: true})
					if err := Restore("s", d, l, m, i, n, nil); err != nil {
						t.Fatal(err)
					}
					lanes = append(lanes, l)
				}
				x = d.Spec().NewExchange(n)
			}
		}
	}
	count()
	return out.rows, sides
}

// TestJoinMemory: rows that can meet no partner any more, and their keys, are let go; what is held follows the rows of the span.
func TestJoinMemory(t *testing.T) {
	for _, outer := range []bool{false, true} {
		d := joined(0, time.Second, 0, outer, outer)
		l := d.NewLane(LaneOptions{})
		x := d.Spec().NewExchange(1)
		out := &joinBox{t: t, back: d.Back()}
		n, most, made := fewer(400_000), 0, 0
		const batch, perSecond = 2000, 10_000
		for from := 0; from < n; from += batch {
			b, now := row.NewBatch(d.Keys.Input), row.Time(from)*1_000_000/perSecond
			tn := &Turn{After: now + batch*1_000_000/perSecond}
			for i := range batch {
				row := joinRow{side: i % 2, key: (from + i) / 3, n: from + i, at: now + row.Time(i)*1_000_000/perSecond}
				addJoinRow(b, row, i)
				tn.Marks = append(tn.Marks, now)
			}
			x.Fill(ViewOf(b), nil)
			out.turn = tn
			l.Take(x, 0, tn, out)
			l.Move(tn, out)
			most = max(most, l.Held().Keys)
			made, out.rows = made+len(out.rows), out.rows[:0]
		}
		if most > 40_000 || made < n/4 { // of 3,333 keys a second, up to two seconds, and as many again until they are let go
			t.Errorf("outer %v: %d keys were held at once for %d rows made", outer, most, made)
		}
		end := turn(1, row.Time(n)*1_000_000/perSecond, row.MaxTime)
		out.turn = end
		l.Move(end, out)
		if s := l.Counts().Sides; s[0].Waiting() != 0 || s[1].Waiting() != 0 {
			t.Errorf("rows wait at the end: %+v", s)
		}
	}
}
