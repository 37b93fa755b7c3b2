package figures

import (
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"undertide/job"
)

// TestPast: points of all tiers are the means and the greatest of the seconds that they are made of, whatever was not known, and
// wherever a service stops and another goes on.
func TestPast(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	begin := time.Date(2026, 3, 1, 9, 59, 50, 0, time.UTC)
	type second struct {
		at     time.Time
		values map[string]float64
	}
	var all []second
	kept := map[string][]Point{} // by tier
	p := &Past{}
	for n := range 9000 {
		if n > 4000 && n < 4300 {
			continue // it did not run
		}
		at := begin.Add(time.Duration(n)*time.Second + time.Duration(r.IntN(900))*time.Millisecond)
		names := []string{"a", "b"}
		if n > 5000 {
			names = []string{"b", "c", "a"} // another version
		}
		values := make([]float64, len(names))
		now := second{at, map[string]float64{}}
		for i := range values {
			values[i] = float64(r.IntN(1000))
			if r.IntN(4) == 0 {
				values[i] = math.NaN()
			} else {
				now.values[names[i]] = values[i]
			}
		}
		all = append(all, now)
		for _, x := range p.Add(at, names, values) {
			kept[fmt.Sprint(x.Tier)] = append(kept[fmt.Sprint(x.Tier)], x)
		}
		if n%1777 == 1776 { // the service is killed; another one takes up what was written
			p = &Past{}
			for tier := 1; tier < 3; tier++ { // it had not written the last point of some tiers
				if list := kept[fmt.Sprint(tier)]; len(list) > 0 && at.Sub(list[len(list)-1].At) < 2*Tiers[tier].Step {
					kept[fmt.Sprint(tier)] = list[:len(list)-1]
				}
			}
			for tier := len(Tiers) - 2; tier >= 0; tier-- {
				step := Tiers[tier+1].Step
				now := at.Truncate(step)
				from := now.Add(-step)
				if slices.ContainsFunc(kept[fmt.Sprint(tier+1)], func(x Point) bool { return x.At.Equal(from) }) {
					from = now
				}
				var points []Point
				for _, x := range kept[fmt.Sprint(tier)] {
					if !x.At.Before(from) {
						points = append(points, x)
					}
				}
				for _, x := range p.Restore(points) {
					kept[fmt.Sprint(x.Tier)] = append(kept[fmt.Sprint(x.Tier)], x)
				}
			}
		}
	}
	if a, b, c := len(kept["0"]), len(kept["1"]), len(kept["3"]); a != len(all) || b < 865 || c < 12 || len(kept["4"]) != 3 {
		t.Fatalf("%d points of seconds, %d of ten, %d of ten minutes, %d of hours", a, b, c, len(kept["4"]))
	}
	for _, tier := range []int{1, 2, 3} { // the means of means are those of seconds where each has as many
		for _, x := range kept[fmt.Sprint(tier)] {
			for i, name := range x.Names {
				most, n := math.NaN(), 0
				sum := 0.0
				for _, s := range all {
					v, is := s.values[name]
					if !is || s.at.Before(x.At) || !s.at.Before(x.At.Add(Tiers[tier].Step)) {
						continue
					}
					n++
					sum += v
					if !(most >= v) {
						most = v
					}
				}
				if got := float64(x.Greatest[i]); got != most && !(math.IsNaN(got) && n == 0) {
					t.Fatalf("tier %d at %v: the greatest %s is %v, want %v", tier, x.At, name, got, most)
				}
				if got := float64(x.Means[i]); tier == 1 && n > 0 && math.Abs(got-sum/float64(n)) > 0.01 {
					t.Fatalf("tier %d at %v: the mean %s is %v, want %v", tier, x.At, name, got, sum/float64(n))
				}
			}
		}
	}
}

// TestTierFor: what is asked for comes at the finest tier that still has it, in no more points than are wanted.
func TestTierFor(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		back time.Duration
		most int
		want time.Duration
	}{{10 * time.Minute, 1000, time.Second}, {15 * time.Minute, 1000, time.Second}, {15 * time.Minute, 500, 10 * time.Second}, {time.Hour, 1000, 10 * time.Second}, {5 * time.Hour, 1000, time.Minute}, {20 * time.Hour, 1000, 10 * time.Minute}, {20 * time.Hour, 2000, time.Minute},
		{7 * 24 * time.Hour, 1100, 10 * time.Minute}, {29 * 24 * time.Hour, 1000, time.Hour}, {90 * 24 * time.Hour, 1000, 24 * time.Hour}, {900 * 24 * time.Hour, 1000, 24 * time.Hour}} {
		if got := Tiers[TierFor(now, now.Add(-c.back), c.most)].Step; got != c.want {
			t.Errorf("%v in %d points: %v, want %v", c.back, c.most, got, c.want)
		}
	}
}

// TestNames: each figure that is kept stands in docs/figures.md with its unit, and no other; values come in the order of the names.
func TestNames(t *testing.T) {
	text, err := os.ReadFile("../docs/figures.md")
	if err != nil {
		t.Fatal(err)
	}
	j := &job.Job{Sources: []job.Source{{Name: "NAME"}}, Steps: []job.Step{{Name: "NAME"}}, Sinks: []job.Sink{{Name: "NAME"}}}
	list := j.Figures()
	var want []string
	for _, f := range list {
		want = append(want, fmt.Sprintf("| `%s` | %s | %s |", f.Name, f.Unit, f.About))
	}
	_, part, _ := strings.Cut(string(text), "## Names")
	var got []string
	for line := range strings.Lines(part) {
		if strings.HasPrefix(line, "| `") {
			got = append(got, strings.TrimSpace(line))
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("docs/figures.md lists\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if down := Down(j, NotUp{Restarts: 3}); len(down) != len(list) || down[0] != 0 || down[slices.IndexFunc(list, func(f job.Figure) bool { return f.Name == "restarts" })] != 3 {
		t.Errorf("of a run that is started again: %v", down)
	}
}
