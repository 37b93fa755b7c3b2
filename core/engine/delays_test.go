package engine

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"undertide/core/row"
)

// about says whether a delay is one within what the sketch may be off.
func about(got, want time.Duration) bool {
	return float64(got) > 0.93*float64(want) && float64(got) < 1.07*float64(want)
}

// TestDelaySketch: quantiles are those of the sorted delays, within 5 %, also once most of what was looked at has been thinned out; what is older
// than a minute counts no more.
func TestDelaySketch(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	now := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	var d delays
	var all []time.Duration
	var some ages
	for range 20_000 {
		took := time.Duration(float64(5*time.Millisecond) * (1 + 1000*rnd.ExpFloat64()))
		all = append(all, took)
		some = some.add(ages{{event: row.TimeOf(now.Add(-took)), arrived: row.TimeOf(now.Add(-took / 10)), rows: 1}})
	}
	rows := 0
	for _, a := range some {
		rows += a.rows
	}
	if rows != len(all) || len(some) > mostAges {
		t.Fatalf("%d that were looked at stand for %d rows of %d", len(some), rows, len(all))
	}
	d.appear(some, now)
	slices.Sort(all)
	event, read := d.within(now.Add(49 * time.Second))
	for _, q := range []struct {
		what string
		got  time.Duration
		of   time.Duration
	}{{"p50", event.P50, all[len(all)/2]}, {"p99", event.P99, all[len(all)*99/100]}, {"p50 from reading", read.P50, all[len(all)/2] / 10}} {
		// 5 % of the sketch, and what a sample of a thousand leaves open
		if float64(q.got) < 0.8*float64(q.of) || float64(q.got) > 1.25*float64(q.of) {
			t.Errorf("%s is %s, want about %s", q.what, q.got, q.of)
		}
	}
	if event, _ := d.within(now.Add(time.Minute)); event.P50 != -1 {
		t.Errorf("after a minute the delays are %+v", event)
	}
	for b := 1; b < delayBuckets-1; b++ {
		if got := delayBucket(delayOf(b)); got != b {
			t.Errorf("the middle of bucket %d is in %d", b, got)
		}
	}
	var s delaySketch
	for took := delayBase; took < 400*24*time.Hour; took += took / 7 {
		s = delaySketch{}
		if s[delayBucket(took)]++; !about(s.quantile(0.99), took) {
			t.Errorf("%s alone has p99 %s", took, s.quantile(0.99))
		}
	}
}

// TestDelays: a row's delay ends when it can be read: as it is made, or with the delivery of its epoch.
func TestDelays(t *testing.T) {
	for _, asMade := range []bool{true, false} {
		t.Run(fmt.Sprintf("as made %v", asMade), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				out, w, in := newSlow(), NewWatch(), newFeed("a", false)
				g := graph(t, out, 0, false, in)
				g.Sinks[0].AsMade = asMade
				stop := started(t, g, Options{Lanes: 2, Every: 10 * time.Second, Save: (&saves{}).save, Watch: w})
				event := func() { in.lines <- fmt.Sprintf("%d 1", time.Now().UnixMicro()) }
				time.Sleep(500 * time.Millisecond)
				event()
				time.Sleep(3 * time.Second)
				if f := w.Figures(); f.Sinks[0].FromEvent != nodelay || f.Steps[0].LastOut != row.MinTime {
					t.Errorf("before the first row the figures are %+v, %v", f.Sinks[0].FromEvent, f.Steps[0].LastOut)
				}
				event() // closes the window of the first, 3.5 s after the start
				time.Sleep(10 * time.Second)
				f := w.Figures()
				if got := f.Steps[0]; got.LastOut != row.TimeOf(time.Now().Add(-10*time.Second)) || got.Watermark == row.MinTime || got.StateRows != 1 || got.OpenWindows != 1 {
					t.Errorf("the step's figures are %+v", got)
				}
				// The checkpoint of second 10 holds the row; its delivery is let through now, at 13.5 s, behind that of the first epoch.
				out.pass <- struct{}{}
				out.pass <- struct{}{}
				synctest.Wait()
				s := w.Figures().Sinks[0]
				fromEvent, fromRead := 3*time.Second, delayBase/2
				if !asMade {
					fromEvent, fromRead = 13*time.Second, 10*time.Second
				}
				if !about(s.FromEvent.P50, fromEvent) || !about(s.FromEvent.P99, fromEvent) || !about(s.FromRead.P50, fromRead) {
					t.Errorf("the delays are %+v and %+v, want %s and %s", s.FromEvent, s.FromRead, fromEvent, fromRead)
				}
				close(out.pass)
				if _, err := stop(); err != nil {
					t.Error(err)
				}
			})
		})
	}
}
