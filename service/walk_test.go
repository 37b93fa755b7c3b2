package service

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"undertide/api"
)

var walkFor = flag.Duration("walk", 12*time.Second, "how long TestSumsAddUp walks")

// walked is a job with all that is counted: rejects, drops, repeats, late rows, branches of a split, results that having drops, several sinks.
const walked = `undertide: 1
job: walked
settings: {checkpoint: {every: 200ms}, restart: {tries: 1000, within: 10m}}
sources:
  lifts:
    via: simulate
    with:
      rate: 4000/s
      seed: 7
      disorder: {share: 0.1, up_to: 400ms}
      again: {share: 0.1}
      fields: {id: {id: true}, _n: {between: [1, 9]}, _c: {pick: [C1, C2, C3]}, crane: {expr: '_n < 2 ? null : _c'}, tonnes: {normal: [18.0, 9.0]}, at: {now: true}}
    fields: {id: string, crane: string, tonnes: double, at: timestamp}
    event_time: at
    watermark: {margin: 50ms}
steps:
  heavy: {from: lifts, where: tonnes > 5.0}
  once: {from: heavy, deduplicate: {key: [id], within: 100ms}}
  second: {from: once, key: [crane], window: {tumbling: 1s}, measures: {n: count()}, having: n > 40}
  sides: {from: once, split: {left: tonnes < 15.0, right: tonnes > 25.0}}
  each: {from: left of sides, key: [crane], window: {sliding: 2s, by: 500ms}, measures: {n: count()}, late: {accept: 100ms}}
sinks:
  seconds: {from: second, via: file, with: {path: %[1]s/seconds/}}
  others: {from: rest of sides, via: file, with: {path: %[1]s/others/}}
  each: {from: each, via: file, with: {path: %[1]s/each/}}
  missed: {from: late of second, via: file, with: {path: %[1]s/missed/}}
`

// TestSumsAddUp walks at random through starts, stops, drains and failures of a job, and looks at its figures all the while: no row is counted twice or
// vanishes, counts do not go back while a run goes on, shares are shares, and once a run has ended every sum adds up.
func TestSumsAddUp(t *testing.T) {
	base, dir := serving(t)
	out := filepath.Join(dir, "out")
	call := func(method, path, body string) string {
		kind := "application/json"
		if strings.HasPrefix(body, "undertide") {
			kind = "application/yaml"
		}
		return call(t, base, method, path, kind, body)
	}
	if text := call("POST", "/jobs", fmt.Sprintf(walked, out)); !strings.Contains(text, `"number":1`) {
		t.Fatal(text)
	}
	rnd := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	var before api.Figures
	looks, ended, failures := 0, 0, 0
	look := func() (status string) {
		var j api.Job
		if err := json.Unmarshal([]byte(call("GET", "/jobs/walked", "")), &j); err != nil {
			t.Fatal(err)
		}
		if j.Run == nil {
			return j.Status
		}
		var f api.Figures
		text := call("GET", fmt.Sprintf("/runs/%d/figures", j.Run.ID), "")
		if err := json.Unmarshal([]byte(text), &f); err != nil || f.Job == "" {
			return j.Status // there are none yet
		}
		looks++
		done := f.Status == "stopped" || f.Status == "finished"
		if done {
			ended++
			if err := json.Unmarshal([]byte(call("GET", "/jobs/walked", "")), &j); err != nil { // it may have ended between the two
				t.Fatal(err)
			}
		}
		for _, wrong := range unsound(f, done) {
			t.Errorf("run %d, %s, look %d: %s", f.Run, f.Status, looks, wrong)
		}
		if f.Run == before.Run && (f.Checkpoints.Completed < before.Checkpoints.Completed || f.Checkpoints.Failed < before.Checkpoints.Failed) {
			t.Errorf("run %d, %s, look %d: checkpoints went back from %+v to %+v", f.Run, f.Status, looks, before.Checkpoints, f.Checkpoints)
		}
		// A run that was stopped by a failure has the counts of its newest checkpoint, as a try has that failed.
		if f.Run == before.Run && f.Restarts == before.Restarts && !(done && j.Run.Error != "") {
			for _, wrong := range wentBack(before, f) {
				t.Errorf("run %d, %s, look %d: %s", f.Run, f.Status, looks, wrong)
			}
		}
		before = f
		return j.Status
	}
	// A busy machine walks slowly, and a walk may by chance not meet a failure: it goes on until it has seen enough.
	seen := func() bool { return looks >= 50 && ended > 0 && failures > 0 }
	for begun := time.Now(); !t.Failed() && (time.Since(begun) < *walkFor || !seen() && time.Since(begun) < *walkFor+2*time.Minute); {
		status := look()
		over := status == "saved" || status == "stopped" || status == "finished" || status == "failed"
		switch {
		case over && rnd.IntN(2) > 0, !over && rnd.IntN(12) > 0:
		case over:
			resume := []string{`{}`, `{}`, `{"resume":"fresh"}`}[rnd.IntN(3)]
			switch text := call("POST", "/jobs/walked/runs", resume); {
			case !strings.Contains(text, `"code"`), strings.Contains(text, `"already-running"`): // it is just about to end
			case strings.Contains(text, "finished"): // it has come to its end by draining
				call("POST", "/jobs/walked/runs", `{"resume":"fresh"}`)
			default:
				t.Fatal(text)
			}
		case rnd.IntN(3) == 0:
			call("POST", "/jobs/walked/stop", "")
		case rnd.IntN(8) == 0:
			call("POST", "/jobs/walked/drain", "")
		case rnd.IntN(2) == 0: // a file stands in the way: the run fails, and is started again
			away := filepath.Join(out, "each")
			if os.Rename(away, away+"-away") == nil {
				failures++
				_ = os.WriteFile(away, nil, 0o644)
				for range []int{8, 60}[rnd.IntN(2)] { // for longer than a try waits: the next one fails as it begins
					if look(); rnd.IntN(40) == 0 {
						call("POST", "/jobs/walked/stop", "")
					}
					time.Sleep(40 * time.Millisecond)
				}
				_ = os.Remove(away)
				if err := os.Rename(away+"-away", away); err != nil {
					t.Fatal(err)
				}
			}
		}
		time.Sleep(time.Duration(rnd.IntN(40)) * time.Millisecond)
	}
	call("POST", "/jobs/walked/stop", "")
	until(t, "it has ended", func() bool { s := look(); return s == "stopped" || s == "finished" || s == "failed" })
	if !seen() && !t.Failed() {
		t.Errorf("the walk had %d looks, %d of ended runs, %d failures", looks, ended, failures)
	}
	t.Logf("%d looks, %d of ended runs, %d failures", looks, ended, failures)
}

// unsound names the sums that cannot be: what of a row is counted comes after its arrival, so that rows may be on their way, and never fewer than none.
// Once a run has ended none is.
func unsound(f api.Figures, ended bool) (wrong []string) {
	check := func(ok bool, format string, args ...any) {
		if !ok {
			wrong = append(wrong, fmt.Sprintf(format, args...))
		}
	}
	for name, s := range f.Sources {
		check(s.Late <= s.Read && sum(s.Rejected) <= s.Read, "source %s: %d read, %d late, %d rejected", name, s.Read, s.Late, sum(s.Rejected))
	}
	for name, s := range f.Steps {
		dropped := s.Dropped
		if s.Made > 0 || name == "second" || name == "each" {
			dropped = 0
			check(s.Made == s.RowsOut+s.Dropped, "step %s: %d made, %d out, %d dropped by having", name, s.Made, s.RowsOut, s.Dropped)
		}
		rest := s.RowsIn - s.Used - dropped - s.Repeats - s.Late.Lost - sum(s.Rejected)
		check(rest >= 0 && (rest == 0 || !ended), "step %s: %d rows came and %d are left: %d used, %d dropped, %d repeats, %d lost, %d rejected", name, s.RowsIn, rest, s.Used, dropped, s.Repeats, s.Late.Lost, sum(s.Rejected))
		check(s.BusyRatio >= 0 && s.BusyRatio <= 1 && s.BlockedRatio >= 0 && s.BlockedRatio <= 1, "step %s: busy %g, blocked %g", name, s.BusyRatio, s.BlockedRatio)
		check(s.OpenWindows >= 0 && s.KeptWindows >= 0 && s.StateRows >= 0 && s.Keys >= 0, "step %s: %d open, %d kept, %d rows, %d keys", name, s.OpenWindows, s.KeptWindows, s.StateRows, s.Keys)
	}
	for sink, from := range map[string]int64{"seconds": f.Steps["second"].RowsOut, "each": f.Steps["each"].RowsOut, "missed": f.Steps["second"].Late.Lost} {
		s := f.Sinks[sink]
		check(s.Rows <= from && (s.Rows == from || !ended), "sink %s took %d of %d rows", sink, s.Rows, from)
		check(s.Delivered >= 0 && s.Waiting >= 0 && s.Rows == s.Delivered+s.Waiting, "sink %s: %d rows, %d delivered, %d waiting", sink, s.Rows, s.Delivered, s.Waiting)
	}
	for from, to := range map[string]string{"heavy": "once", "once": "second"} {
		made, came := f.Steps[from].RowsOut, f.Steps[to].RowsIn
		check(came <= made && (came == made || !ended), "%d rows of %s, and %d came to %s", made, from, came, to)
	}
	for name, r := range f.Rates.Steps {
		check(r.In >= 0 && r.Out >= 0 && r.Dropped >= 0 && r.Lost >= 0 && r.Busy >= 0 && r.Busy <= 1, "rates of step %s: %+v", name, r)
	}
	for name, r := range f.Rates.Sinks {
		check(r.Rows >= 0 && r.Delivered >= 0 && r.HeldUp >= 0 && r.HeldUp <= 1, "rates of sink %s: %+v", name, r)
	}
	return wrong
}

// wentBack names the counts that are fewer than before, in one try of a run.
func wentBack(a, b api.Figures) (wrong []string) {
	check := func(name string, before, now int64) {
		if now < before {
			wrong = append(wrong, fmt.Sprintf("%s went back from %d to %d", name, before, now))
		}
	}
	for name, s := range b.Sources {
		check("source "+name, a.Sources[name].Read, s.Read)
	}
	for name, s := range b.Steps {
		o := a.Steps[name]
		check("rows into "+name, o.RowsIn, s.RowsIn)
		check("rows out of "+name, o.RowsOut, s.RowsOut)
		check("used by "+name, o.Used, s.Used)
		check("lost by "+name, o.Late.Lost, s.Late.Lost)
	}
	for name, s := range b.Sinks {
		check("rows of sink "+name, a.Sinks[name].Rows, s.Rows)
		check("delivered by sink "+name, a.Sinks[name].Delivered, s.Delivered)
	}
	return wrong
}

func sum(by map[string]int64) (n int64) {
	for _, v := range by {
		n += v
	}
	return n
}
