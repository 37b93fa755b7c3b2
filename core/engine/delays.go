package engine

import (
	"math"
	"sync"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// Delays
//
// How long rows take to a sink is looked at for a few of them (docs/figures.md, "Delays"): of the rows that are encoded together
// at most lookedAt, each standing for as many as lie between them. No row costs anything by itself. What was looked at
// travels with the block of encoded rows, then with the epoch until its rows appear, and goes into a sketch.
//
// An example: 4,096 rows are encoded in one go. Eight of them are looked at, each stands for 512. Two seconds later the
// checkpoint is complete and they appear: the sketch has 4,096 rows more, by eight delays.

// lookedAt is how many rows of those that are encoded together are looked at.
const lookedAt = 8

// aged is a row that was looked at: its event time, row.MinTime for none; when the event that made it was read; and how many rows it
// stands for.
type aged struct {
	event, arrived row.Time
	rows           int
}

// ages are rows that were looked at and have not appeared.
type ages []aged

// mostAges bounds what is kept of rows that have not appeared.
const mostAges = 2048

// look takes some rows of a view, which were made by an event that was read at arrived.
func (a ages) look(v step.View, arrived row.Time) ages {
	n := len(v.Sel)
	each := (n + lookedAt - 1) / lookedAt
	for from := 0; from < n; from += each {
		rows := min(each, n-from)
		event := row.MinTime
		if len(v.Times) > 0 {
			event = v.Times[v.Sel[from+rows/2]]
		}
		a = append(a, aged{event, arrived, rows})
	}
	return a
}

// add takes more. Where that are too many every other goes, and the one before it stands for both.
func (a ages) add(more ages) ages {
	if a = append(a, more...); len(a) <= mostAges {
		return a
	}
	n := 0
	for i := 0; i < len(a); i += 2 {
		one := a[i]
		if i+1 < len(a) {
			one.rows += a[i+1].rows
		}
		a[n] = one
		n++
	}
	return a[:n]
}

// The sketch counts rows by the logarithm of their delay, a bucket for each 10 %, so a quantile of it is at most 5 % off: bucket 0 has
// what took less than a millisecond, the last what took 400 days or more.
const (
	delayBuckets = 256
	delayBase    = time.Millisecond
	delayGrows   = 1.1
)

func delayBucket(d time.Duration) int {
	if d < delayBase {
		return 0
	}
	return min(delayBuckets-1, 1+int(math.Log(float64(d)/float64(delayBase))/math.Log(delayGrows)))
}

// delayOf is the middle of a bucket.
func delayOf(bucket int) time.Duration {
	if bucket == 0 {
		return delayBase / 2
	}
	return time.Duration(float64(delayBase) * math.Pow(delayGrows, float64(bucket)-0.5))
}

// delaySketch counts rows by delay.
type delaySketch [delayBuckets]int64

// quantile gives the delay that a share of the rows stays within; -1 of no rows.
func (s *delaySketch) quantile(share float64) time.Duration {
	var all int64
	for _, n := range s {
		all += n
	}
	if all == 0 {
		return -1
	}
	left := int64(math.Ceil(share * float64(all)))
	for i, n := range s {
		if left -= n; left <= 0 {
			return delayOf(i)
		}
	}
	return delayOf(delayBuckets - 1)
}

// Delay tells how long the rows of a sink took that appeared within the last minute: half of them at most P50, all but one in
// a hundred at most P99. -1 where there were none.
type Delay struct{ P50, P99 time.Duration }

var nodelay = Delay{-1, -1}

// delays are those of a sink's rows. Safe for concurrent use.
type delays struct {
	mu     sync.Mutex // guards all below
	slots  [delaySlots]struct{ event, arrived delaySketch }
	newest int64 // the slot that is filled, by the clock; the ones before it follow backwards
}

// A minute is kept as slots of ten seconds, of which the oldest goes whole.
const (
	delaySlots = 6
	delaySlot  = 10 * time.Second
)

// advance empties the slots that have passed.
func (d *delays) advance(now time.Time) {
	at := now.UnixNano() / int64(delaySlot)
	for n := max(d.newest+1, at-delaySlots+1); n <= at; n++ {
		d.slots[n%delaySlots].event, d.slots[n%delaySlots].arrived = delaySketch{}, delaySketch{}
	}
	d.newest = max(d.newest, at)
}

// appear takes rows that can be read from now on.
func (d *delays) appear(a ages, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.advance(now)
	s := &d.slots[d.newest%delaySlots]
	at := row.TimeOf(now)
	for _, r := range a {
		if r.event > row.MinTime && r.event < row.MaxTime {
			s.event[delayBucket(sinceTime(at, r.event))] += int64(r.rows)
		}
		s.arrived[delayBucket(sinceTime(at, r.arrived))] += int64(r.rows)
	}
}

// sinceTime is how long ago a time was, between 0 and the longest duration there is.
func sinceTime(now, then row.Time) time.Duration {
	const longest = math.MaxInt64 / int64(time.Microsecond)
	return time.Duration(min(max(0, int64(now)-int64(then)), longest)) * time.Microsecond
}

// within gives the delays of the last minute: from the rows' event times, and from when the events that made them were read.
func (d *delays) within(now time.Time) (event, arrived Delay) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.advance(now)
	var e, a delaySketch
	for i := range d.slots {
		for b := range e {
			e[b] += d.slots[i].event[b]
			a[b] += d.slots[i].arrived[b]
		}
	}
	return Delay{e.quantile(0.5), e.quantile(0.99)}, Delay{a.quantile(0.5), a.quantile(0.99)}
}
