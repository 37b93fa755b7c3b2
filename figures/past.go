package figures

import (
	"math"
	"slices"
	"time"
)

// Tier is a fineness at which figures are kept.
type Tier struct {
	Step time.Duration // one point for each
	Keep time.Duration // for so long
}

// Tiers are those that figures are kept at, the finest first. Each point of one is made of the points of the tier before:
// the mean of theirs, and the greatest.
var Tiers = []Tier{
	{time.Second, 15 * time.Minute},
	{10 * time.Second, 3 * time.Hour},
	{time.Minute, 24 * time.Hour},
	{10 * time.Minute, 7 * 24 * time.Hour},
	{time.Hour, 30 * 24 * time.Hour},
	{24 * time.Hour, 400 * 24 * time.Hour},
}

// TierFor gives the finest tier that reaches back to a moment with at most so many points.
func TierFor(now, since time.Time, most int) int {
	span := now.Sub(since)
	for i, t := range Tiers {
		if span <= t.Keep && span/t.Step <= time.Duration(most) {
			return i
		}
	}
	return len(Tiers) - 1
}

// Point is the figures of a job over a step of a tier that begins at a moment.
type Point struct {
	Tier  int
	At    time.Time
	Names []string // of the figures; not changed once given
	// Means and Greatest are by name; NaN where nothing was known.
	Means, Greatest []float32
}

// Past makes the points of a job out of its figures of every second. One goroutine at a time; the zero value has no points.
//
// Seconds 10:00:07 to 10:00:12 with lags 1, 1, 7, 2, 2, 2 give, besides themselves, a point of 10 s at 10:00:00 with mean 3 and
// greatest 7 once second 10 has come; the rest goes into the next one.
type Past struct{ open []slot } // by tier; that of seconds is none

// slot is a point under way.
type slot struct {
	at    time.Time
	names []string
	sums  []float64
	n     []float64
	most  []float64
}

// Add takes the figures of a moment, and gives the points that are complete with it, of a second and of what ended before it.
func (p *Past) Add(at time.Time, names []string, values []float64) []Point {
	one := Point{At: at.UTC().Truncate(time.Second), Names: names, Means: make([]float32, len(values)), Greatest: make([]float32, len(values))}
	for i, v := range values {
		one.Means[i], one.Greatest[i] = float32(v), float32(v)
	}
	return p.add(one)
}

// add takes a point into the tiers behind its own.
func (p *Past) add(one Point) (done []Point) {
	done = append(done, one)
	next := one.Tier + 1
	if next == len(Tiers) {
		return done
	}
	for len(p.open) < len(Tiers) {
		p.open = append(p.open, slot{})
	}
	s := &p.open[next]
	if at := one.At.Truncate(Tiers[next].Step); !s.at.Equal(at) {
		if len(s.names) > 0 {
			done = append(done, p.add(s.point(next))...)
		}
		*s = slot{at: at}
	}
	s.take(one)
	return done
}

// Restore takes in points of a tier that were written, as a service starts: those that the slot of the next tier under way is made of, and of the
// one before it where its own point was not written; oldest first, the coarsest tier first. It gives the points that are complete with them.
func (p *Past) Restore(points []Point) (done []Point) {
	for _, one := range points {
		done = append(done, p.add(one)[1:]...) // the first is one itself
	}
	return done
}

func (s *slot) take(p Point) {
	same := slices.Equal(s.names, p.Names)
	for i, name := range p.Names {
		at := i
		if !same {
			if at = slices.Index(s.names, name); at < 0 { // new, or of another version
				at = len(s.names)
				s.names, s.sums, s.n, s.most = append(s.names, name), append(s.sums, 0), append(s.n, 0), append(s.most, math.NaN())
			}
		}
		if v := float64(p.Means[i]); !math.IsNaN(v) {
			s.sums[at] += v
			s.n[at]++
			if m := float64(p.Greatest[i]); !(s.most[at] >= m) { // NaN is less than all
				s.most[at] = m
			}
		}
	}
}

func (s *slot) point(tier int) Point {
	p := Point{Tier: tier, At: s.at, Names: s.names, Means: make([]float32, len(s.names)), Greatest: make([]float32, len(s.names))}
	for i := range s.names {
		p.Means[i], p.Greatest[i] = float32(s.sums[i]/s.n[i]), float32(s.most[i]) // of none NaN
	}
	return p
}
