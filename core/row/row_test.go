package row

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestAppendTime(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	times := []Time{0, -1, 1, FirstTime, LastTime, 1_767_225_600_100_000}
	for range 5000 {
		times = append(times, FirstTime+Time(r.Int64N(int64(LastTime-FirstTime))))
	}
	for _, x := range times {
		if got, want := x.String(), x.Std().Format(time.RFC3339Nano); got != want {
			t.Fatalf("%d is written %s, want %s", int64(x), got, want)
		}
		if TimeOf(x.Std()) != x {
			t.Fatalf("%s does not come back from time.Time", x)
		}
	}
	if MinTime.Minus(time.Hour) != MinTime || MaxTime.Minus(time.Hour) != MaxTime {
		t.Error("an infinity was moved")
	}
	if got := TimeOf(time.Unix(-1, 999_999_999)); got != -1 {
		t.Errorf("just before 1970 is %d us, want -1: times are cut towards the past", got)
	}
}

// TestColumns compares a column with a plain slice of pointers through random appends and cuts.
func TestColumns(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for _, k := range []Kind{Int, Double, String, Bool} {
		c, src := NewColumn(k), NewColumn(k)
		var want []*int64
		for range 3000 {
			switch r.IntN(10) {
			case 0:
				n := r.IntN(len(want) + 1)
				c.Truncate(n)
				want = want[:n]
			case 1, 2:
				c.AppendNull()
				want = append(want, nil)
			default:
				v := r.Int64N(2)
				src.Reset()
				switch k {
				case Double:
					src.AppendDouble(float64(v))
				case String:
					src.AppendString(string(rune('0' + v)))
				case Bool:
					src.AppendBool(v == 1)
				default:
					src.AppendInt(v)
				}
				c.AppendFrom(src, 0)
				want = append(want, &v)
			}
			if c.Len() != len(want) {
				t.Fatalf("%s: %d rows, want %d", k, c.Len(), len(want))
			}
		}
		for i, w := range want {
			if c.IsNull(i) != (w == nil) {
				t.Fatalf("%s, row %d: null %v", k, i, c.IsNull(i))
			}
			if w == nil {
				continue
			}
			got := int64(-1)
			switch k {
			case Double:
				got = int64(c.F[i])
			case String:
				got = int64(c.Bytes(i)[0] - '0')
			default:
				got = c.I[i]
			}
			if got != *w {
				t.Fatalf("%s, row %d: %d, want %d", k, i, got, *w)
			}
		}
	}
}

// TestKeep compares rows that are moved together in place with those that are appended to a new batch.
func TestKeep(t *testing.T) {
	s := Schema{{Name: "a", Kind: String}, {Name: "b", Kind: Int}, {Name: "c", Kind: Double}}
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 3))
		b, want := NewBatch(s), NewBatch(s)
		var stay []bool
		for i := range r.IntN(300) {
			for _, c := range b.Cols {
				switch {
				case r.IntN(5) == 0 && seed%3 > 0:
					c.AppendNull()
				case c.Kind == String:
					c.AppendString(strings.Repeat("x", r.IntN(9)) + fmt.Sprint(i))
				case c.Kind == Int:
					c.AppendInt(int64(i))
				default:
					c.AppendDouble(float64(i))
				}
			}
			b.Times = append(b.Times, Time(i))
			b.N++
			stay = append(stay, r.IntN(3) > 0)
			if stay[i] {
				want.AppendFrom(b, i)
			}
		}
		b.Keep(stay)
		for c := range s { // and what is appended behind it
			b.Cols[c].AppendNull()
			want.Cols[c].AppendNull()
		}
		if b.N != want.N || !slices.Equal(b.Times, want.Times) {
			t.Fatalf("seed %d: %d rows, want %d", seed, b.N, want.N)
		}
		for c := range s {
			for i := range want.N + 1 {
				g, w := b.Cols[c], want.Cols[c]
				same := g.IsNull(i) == w.IsNull(i) && g.Len() == w.Len()
				switch s[c].Kind {
				case String:
					same = same && string(g.Bytes(i)) == string(w.Bytes(i))
				case Int:
					same = same && g.I[i] == w.I[i]
				default:
					same = same && g.F[i] == w.F[i]
				}
				if !same {
					t.Fatalf("seed %d: row %d of %s differs", seed, i, s[c].Name)
				}
			}
		}
	}
}
