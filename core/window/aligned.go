// Package window says which windows a time belongs to (docs/time.md, "Windows"): windows of a fixed size
// or of whole days or months in a time zone, one after another or overlapping. Sessions depend on the
// rows themselves and live in core/step.
package window

import (
	"time"

	"undertide/core/row"
)

// Unit is what an aligned window's size counts.
type Unit uint8

const (
	Micros Unit = iota
	Days        // of a zone's calendar
	Months
)

// Aligned windows start every By units and last Size units; with By equal to Size they tumble. Windows,
// and the slices between their starts and ends, are numbered along the time line. Half open.
type Aligned struct {
	Unit Unit
	// Size and By count units: 0 < By <= Size.
	Size, By int64
	// Shift moves windows of a fixed size, in microseconds, and those of days, in days: that of weeks is
	// their distance from Thursday, 1970-01-01.
	Shift int64
	Zone  *time.Location // of days and months
	// Clock is when a day begins, in seconds by the zone's clocks: 6 * 3600 for a day of business from 06:00.
	Clock int64
	// MonthDay is the day of the month on which months begin, from 0.
	MonthDay int64
}

// Tumbling makes windows of a fixed size that follow each other.
func Tumbling(size, shift time.Duration) Aligned {
	return Aligned{Size: size.Microseconds(), By: size.Microseconds(), Shift: shift.Microseconds()}
}

// Longest gives how long a window is at most.
func (w Aligned) Longest() time.Duration {
	switch w.Unit {
	case Days:
		return time.Duration(w.Size)*24*time.Hour + time.Hour
	case Months:
		return time.Duration(w.Size)*31*24*time.Hour + time.Hour
	}
	return time.Duration(w.Size) * time.Microsecond
}

// Tumbles says whether no windows overlap.
func (w Aligned) Tumbles() bool { return w.Size == w.By }

// rest is what the size is more than a multiple of by: where it is not 0, each period has two slices.
func (w Aligned) rest() int64 { return w.Size % w.By }

// SliceOf gives the number of the slice that holds t.
func (w Aligned) SliceOf(t row.Time) int64 {
	u := w.units(t) - w.Shift
	n := floorDiv(u, w.By)
	if r := w.rest(); r != 0 {
		if n *= 2; u-n/2*w.By >= r {
			n++
		}
	}
	return n
}

// SliceStart gives the start of slice n, which is the end of the one before.
func (w Aligned) SliceStart(n int64) row.Time {
	if r := w.rest(); r != 0 {
		u := floorDiv(n, 2) * w.By
		if n&1 != 0 {
			u += r
		}
		return w.instant(u + w.Shift)
	}
	return w.instant(n*w.By + w.Shift)
}

// Start and End give the bounds of window n.
func (w Aligned) Start(n int64) row.Time { return w.instant(n*w.By + w.Shift) }
func (w Aligned) End(n int64) row.Time   { return w.instant(n*w.By + w.Shift + w.Size) }

// Slices gives the first slice of window n and the one after its last.
func (w Aligned) Slices(n int64) (from, to int64) {
	q := w.Size / w.By
	if w.rest() == 0 {
		return n, n + q
	}
	return 2 * n, 2*(n+q) + 1
}

// Windows gives the first and last window that slice n is part of.
func (w Aligned) Windows(n int64) (first, last int64) {
	q := w.Size / w.By
	if w.rest() == 0 {
		return n - q + 1, n
	}
	last = floorDiv(n, 2)
	first = last - q // its end lies rest into this period
	if n&1 != 0 {
		first++
	}
	return first, last
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// units gives the unit that holds t, counted from 1970-01-01 in the zone.
func (w Aligned) units(t row.Time) int64 {
	if w.Unit == Micros {
		return int64(t)
	}
	day := w.dayOf(t)
	if w.Unit == Days {
		return day
	}
	y, m, _ := date(day - w.MonthDay)
	return int64(y-1970)*12 + int64(m) - 1
}

// instant gives the first instant of a unit.
func (w Aligned) instant(u int64) row.Time {
	switch w.Unit {
	case Days:
		return w.firstOf(u)
	case Months:
		first := time.Date(1970, time.January+time.Month(u), 1, 0, 0, 0, 0, time.UTC)
		return w.firstOf(floorDiv(first.Unix(), 86400) + w.MonthDay)
	}
	return row.Time(u)
}

func date(day int64) (int, time.Month, int) { return time.Unix(day*86400, 0).UTC().Date() }

// dayOf gives the day that holds t: the greatest whose first instant is not after t. Where the clocks go back over
// its beginning that is not always the one that they show.
func (w Aligned) dayOf(t row.Time) int64 {
	at := t.Std().In(w.Zone)
	_, offset := at.Zone()
	day := floorDiv(at.Unix()+int64(offset)-w.Clock, 86400)
	for w.firstOf(day+1) <= t {
		day++
	}
	return day
}

// firstOf gives the first instant at which the clocks of the zone show this day's beginning, or a later time
// where they leave it out. An example: clocks that go from 02:00 to 03:00 on a day make one that begins at
// 02:30 begin when they show 03:00.
func (w Aligned) firstOf(day int64) row.Time {
	begins := day*86400 + w.Clock                 // as the zone's clocks count
	at := time.Unix(begins-26*3600, 0).In(w.Zone) // no zone is further from UTC
	for {
		from, until := at.ZoneBounds()
		_, offset := at.Zone()
		first := begins - int64(offset)
		if !from.IsZero() {
			first = max(first, from.Unix())
		}
		if until.IsZero() || first < until.Unix() {
			return row.Time(first * 1_000_000)
		}
		at = until
	}
}

// LastEnd gives the end of the last window that holds t.
func (w Aligned) LastEnd(t row.Time) row.Time {
	if w.Tumbles() || w.Unit != Micros {
		return w.SliceStart(w.SliceOf(t) + 1)
	}
	start := floorDiv(int64(t)-w.Shift, w.By)*w.By + w.Shift
	return row.Time(start + w.Size)
}
