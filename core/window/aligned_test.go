package window

import (
	"math/rand/v2"
	"testing"
	"time"
	_ "time/tzdata"

	"undertide/core/row"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// TestSlices holds the numbers of slices and windows together: a time lies in exactly the windows that
// its slice is part of, found by trying each.
func TestSlices(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 9))
	lisbon := zone(t, "Europe/Lisbon")
	for range 20_000 {
		by := 1 + r.Int64N(20)
		w := Aligned{By: by, Size: by + r.Int64N(60), Shift: r.Int64N(10)}
		at := row.Time(r.Int64N(400) - 200)
		if r.IntN(4) == 0 {
			w.Unit, w.Zone, w.Shift = Days+Unit(r.IntN(2)), lisbon, 0
			at = row.Time(r.Int64N(60*365*24) * 3600_000_000)
			w.By, w.Size = 1+by%4, 1+by%4+w.Size%9
			w.Clock, w.MonthDay = r.Int64N(2)*r.Int64N(86400), r.Int64N(2)*r.Int64N(28)
		}
		n := w.SliceOf(at)
		if w.SliceStart(n) > at || w.SliceStart(n+1) <= at {
			t.Fatalf("%+v: slice %d of %d goes from %d to %d", w, n, at, w.SliceStart(n), w.SliceStart(n+1))
		}
		first, last := w.Windows(n)
		for k := first - 2; k <= last+2; k++ {
			holds := w.Start(k) <= at && at < w.End(k)
			if holds != (k >= first && k <= last) {
				t.Fatalf("%+v: slice %d belongs to windows %d to %d, and window %d holds %d: %v", w, n, first, last, k, at, holds)
			}
			from, to := w.Slices(k)
			if w.SliceStart(from) != w.Start(k) || w.SliceStart(to) != w.End(k) {
				t.Fatalf("%+v: window %d has slices %d to %d", w, k, from, to)
			}
		}
	}
}

// TestCalendar: days and months follow their zone over changes of its clocks.
func TestCalendar(t *testing.T) {
	for _, c := range []struct {
		zone   string
		unit   Unit
		by     int64
		shift  int64
		in     string
		start  string
		lasted time.Duration
		clock  int64
		day    int64
	}{
		{"UTC", Days, 1, 0, "2026-03-29T12:00:00Z", "2026-03-29T00:00:00Z", 24 * time.Hour, 0, 0},
		{"Europe/Lisbon", Days, 1, 0, "2026-03-29T12:00:00Z", "2026-03-29T00:00:00Z", 23 * time.Hour, 0, 0},
		{"Europe/Lisbon", Days, 1, 0, "2026-10-25T23:30:00Z", "2026-10-24T23:00:00Z", 25 * time.Hour, 0, 0},
		{"America/New_York", Days, 1, 0, "2026-11-01T05:30:00Z", "2026-11-01T04:00:00Z", 25 * time.Hour, 0, 0},
		// The clocks go forward at midnight: the day begins at one o'clock.
		{"America/Sao_Paulo", Days, 1, 0, "2018-11-04T12:00:00Z", "2018-11-04T03:00:00Z", 23 * time.Hour, 0, 0},
		{"America/Havana", Days, 1, 0, "2026-11-01T05:30:00Z", "2026-11-01T04:00:00Z", 25 * time.Hour, 0, 0},
		// They went back a minute past midnight, to the day before: that hour is part of the day that had begun.
		{"America/St_Johns", Days, 1, 0, "2010-11-07T02:29:59Z", "2010-11-06T02:30:00Z", 24 * time.Hour, 0, 0},
		{"America/St_Johns", Days, 1, 0, "2010-11-07T03:00:00Z", "2010-11-07T02:30:00Z", 25 * time.Hour, 0, 0},
		// A day that was left out altogether.
		{"Pacific/Apia", Days, 1, 0, "2011-12-30T09:59:00Z", "2011-12-29T10:00:00Z", 24 * time.Hour, 0, 0},
		{"Pacific/Apia", Days, 1, 0, "2011-12-30T10:00:00Z", "2011-12-30T10:00:00Z", 24 * time.Hour, 0, 0},
		{"Europe/Lisbon", Days, 7, 4, "2026-03-29T12:00:00Z", "2026-03-23T00:00:00Z", 167 * time.Hour, 0, 0},
		{"Europe/Lisbon", Months, 1, 0, "2026-03-29T12:00:00Z", "2026-03-01T00:00:00Z", 743 * time.Hour, 0, 0},
		{"UTC", Months, 3, 0, "2026-05-29T12:00:00Z", "2026-04-01T00:00:00Z", 91 * 24 * time.Hour, 0, 0},
		{"UTC", Months, 12, 0, "1969-05-29T12:00:00Z", "1969-01-01T00:00:00Z", 365 * 24 * time.Hour, 0, 0},
		// A day of business from 06:00 by the zone's clocks, also over their changes.
		{zone: "Europe/Lisbon", unit: Days, by: 1, in: "2026-03-29T04:59:59Z", start: "2026-03-28T06:00:00Z", lasted: 23 * time.Hour, clock: 6 * 3600},
		{zone: "Europe/Lisbon", unit: Days, by: 1, in: "2026-03-29T05:00:00Z", start: "2026-03-29T05:00:00Z", lasted: 24 * time.Hour, clock: 6 * 3600},
		// 01:30 is left out on that day: it begins as the clocks show 02:00.
		{zone: "Europe/Lisbon", unit: Days, by: 1, in: "2026-03-29T01:00:00Z", start: "2026-03-29T01:00:00Z", lasted: 23*time.Hour + 30*time.Minute, clock: 90 * 60},
		// 01:30 comes twice: the day begins at the first.
		{zone: "Europe/Lisbon", unit: Days, by: 1, in: "2026-10-25T01:10:00Z", start: "2026-10-25T00:30:00Z", lasted: 25 * time.Hour, clock: 90 * 60},
		{zone: "UTC", unit: Days, by: 7, shift: 5, in: "2026-03-31T03:00:00Z", start: "2026-03-24T06:00:00Z", lasted: 168 * time.Hour, clock: 6 * 3600},
		{zone: "UTC", unit: Months, by: 1, in: "2026-03-05T05:59:59Z", start: "2026-02-05T06:00:00Z", lasted: 28 * 24 * time.Hour, clock: 6 * 3600, day: 4},
	} {
		w := Aligned{Unit: c.unit, Size: c.by, By: c.by, Shift: c.shift, Clock: c.clock, MonthDay: c.day, Zone: zone(t, c.zone)}
		at, err := time.Parse(time.RFC3339, c.in)
		if err != nil {
			t.Fatal(err)
		}
		n := w.SliceOf(row.TimeOf(at))
		if got := w.Start(n).String(); got != c.start {
			t.Errorf("%s: the window of %s starts at %s, want %s", c.zone, c.in, got, c.start)
		}
		if got := w.End(n).Std().Sub(w.Start(n).Std()); got != c.lasted {
			t.Errorf("%s: the window of %s lasts %s, want %s", c.zone, c.in, got, c.lasted)
		}
	}
}
