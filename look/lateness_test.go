package look

import (
	"math/rand/v2"
	"testing"
	"time"

	"undertide/core/row"
)

// TestLateness compares the counts of each margin with a plain count, event by event.
func TestLateness(t *testing.T) {
	for seed := range uint64(50) {
		r := rand.New(rand.NewPCG(seed, 1))
		var all []Timed
		for i := range 300 {
			at := row.Time(i) * 1_000_000
			if r.IntN(5) == 0 {
				at -= row.Time(r.IntN(90_000_000))
			}
			all = append(all, Timed{Partition: []string{"0", "1"}[r.IntN(2)], At: at})
		}
		window := row.Time(60_000_000)
		end := func(t row.Time) row.Time { return (t - ((t%window)+window)%window) + window }
		l := LatenessOf(all, 7*time.Second, end)
		current := false
		for _, m := range l.Margins {
			margin := row.Time(m.Margin * 1e6)
			late, lost := 0, 0
			greatest := map[string]row.Time{}
			for _, e := range all {
				g, some := greatest[e.Partition]
				if some && e.At < g-margin {
					late++
					if end(e.At) <= g-margin {
						lost++
					}
				}
				if !some || e.At > g {
					greatest[e.Partition] = e.At
				}
			}
			if late != m.Late || lost != *m.Lost {
				t.Errorf("seed %d, margin %g s: %d late and %d lost, want %d and %d", seed, m.Margin, m.Late, *m.Lost, late, lost)
			}
			current = current || m.Current && m.Margin == 7
			if m.Margin == l.Proposed && late*1000 >= len(all) {
				t.Errorf("seed %d: the proposed margin of %g s loses %d of %d", seed, m.Margin, late, len(all))
			}
		}
		if !current {
			t.Errorf("seed %d: the margin in use is not marked: %v", seed, l.Margins)
		}
	}
}

func TestLatenessWords(t *testing.T) {
	at := func(s ...int) (out []Timed) {
		for i, x := range s {
			key := "C1"
			if i%2 == 1 {
				key = "slow"
			}
			out = append(out, Timed{Partition: "0", At: row.Time(x) * 1_000_000, Key: key})
		}
		return out
	}
	for _, c := range []struct {
		name, want string
		of         []Timed
		proposed   float64
	}{
		{"nothing", "no event of the sample has an event time", nil, 0},
		{"in order", "4 events, all in order", at(1, 2, 3, 4), 1},
		{"a slow key", "5 of 10 events came out of order, half of them by up to 30 s, the latest by 30 s; a margin of 30 s loses none of them; slow comes 30 s behind as a rule: a slow clock or sender", at(40, 10, 41, 11, 42, 12, 43, 13, 44, 14), 30},
	} {
		l := LatenessOf(c.of, -1, nil)
		if l.Words() != c.want {
			t.Errorf("%s: %q, want %q", c.name, l.Words(), c.want)
		}
		if len(c.of) > 0 && l.Proposed != c.proposed {
			t.Errorf("%s: proposed %g s, want %g", c.name, l.Proposed, c.proposed)
		}
	}
}
