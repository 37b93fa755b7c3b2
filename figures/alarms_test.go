package figures

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"undertide/job"
	"undertide/run"
)

// watched gives alarms the figures of a job as a whole; those that are not given are not known.
func watched(a *Alarms, at time.Time, rules []job.Alarm, given map[string]float64) []Change {
	var names []string
	var values []float64
	for _, f := range (&job.Job{}).Figures() {
		v, is := given[f.Name]
		if !is {
			v = math.NaN()
		}
		names, values = append(names, f.Name), append(values, v)
	}
	return a.Add(at, rules, names, values)
}

// TestAlarms: an alarm is on once its condition has held for as long as it says, off once it has not for a while, and stays as it is
// while what it asks about is not known.
func TestAlarms(t *testing.T) {
	rule := func(when string, lasting time.Duration) job.Alarm {
		a, err := job.AlarmOf("behind", when, "too far behind", lasting, nil)
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	nan := math.NaN()
	hold := func(v float64, n int) (out []float64) {
		for range n {
			out = append(out, v)
		}
		return out
	}
	for _, c := range []struct {
		name  string
		rule  job.Alarm
		lags  [][]float64
		want  string // seconds at which it is on and off
		rules []job.Alarm
	}{
		{"at once", rule("lag_seconds > 60", 0), [][]float64{hold(0, 5), hold(61, 5)}, "5 on", nil},
		{"not for long enough", rule("lag_seconds > 60", time.Minute), [][]float64{hold(61, 60), hold(0, 5), hold(61, 60), hold(0, 5)}, "", nil},
		{"for long enough", rule("lag_seconds > 60", time.Minute), [][]float64{hold(0, 10), hold(61, 61), hold(1, 31)}, "70 on, 101 off", nil},
		{"it comes and goes", rule("lag_seconds > 60", 10*time.Second), [][]float64{hold(61, 20), hold(0, 9), hold(61, 1), hold(0, 9), hold(61, 5), hold(0, 11)}, "10 on, 54 off", nil},
		{"not known while it is on", rule("lag_seconds > 60", 10*time.Second), [][]float64{hold(61, 20), hold(nan, 100), hold(61, 3), hold(0, 11)}, "10 on, 133 off", nil},
		{"not known while it begins", rule("lag_seconds > 60", 10*time.Second), [][]float64{hold(61, 5), hold(nan, 3), hold(61, 5)}, "10 on", nil},
		{"never known", rule("lag_seconds > 60", 0), [][]float64{hold(nan, 50)}, "", nil},
		{"two figures", rule("lag_seconds > 60 && in_per_second < 1", 0), [][]float64{hold(61, 5)}, "0 on", nil},
		{"one of two is not known, and decides nothing", rule("lag_seconds > 60 || restarts > 1", 0), [][]float64{hold(61, 5)}, "0 on", nil},
	} {
		var a Alarms
		var got []string
		second := 0
		for _, part := range c.lags {
			for _, v := range part {
				for _, x := range watched(&a, at(0).Add(time.Duration(second)*time.Second), []job.Alarm{c.rule}, map[string]float64{"lag_seconds": v, "in_per_second": 0}) {
					got = append(got, fmt.Sprintf("%d %s", second, map[bool]string{true: "on", false: "off"}[x.On]))
					if !strings.HasPrefix(x.Text, "too far behind (lag_seconds is ") {
						t.Errorf("%s: it says %q", c.name, x.Text)
					}
				}
				second++
			}
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s: %s, want %s", c.name, strings.Join(got, ", "), c.want)
		}
	}
}

// TestAlarmsChange: an alarm that was on when the service ended is not told again; one that is taken away is off.
func TestAlarmsChange(t *testing.T) {
	a, err := job.AlarmOf("behind", "lag_seconds > 60", "", time.Hour, nil)
	if err != nil {
		t.Fatal(err)
	}
	var w Alarms
	w.Resume("behind", at(0))
	if got := watched(&w, at(1), []job.Alarm{a}, map[string]float64{"lag_seconds": 90}); len(got) > 0 || !w.On("behind") {
		t.Errorf("told again: %+v", got)
	}
	if got := watched(&w, at(2), nil, nil); len(got) != 1 || got[0].On || w.On("behind") {
		t.Errorf("taken away: %+v", got)
	}
	w.Resume("behind", at(0))
	off := a
	off.When = nil
	if got := watched(&w, at(2), []job.Alarm{off}, nil); len(got) != 1 || got[0].On {
		t.Errorf("switched off: %+v", got)
	}
	if got := watched(&w, at(3), []job.Alarm{off}, nil); len(got) > 0 {
		t.Errorf("told again: %+v", got)
	}
}

// TestRules: a document changes usual alarms, switches them off, and adds its own.
func TestRules(t *testing.T) {
	mine, err := job.AlarmOf("skew", "skew > 9", "very uneven", 0, []string{"duty"})
	if err != nil {
		t.Fatal(err)
	}
	own, err := job.AlarmOf("behind", "lag_seconds > 60", "", time.Minute, nil)
	if err != nil {
		t.Fatal(err)
	}
	usual := Usual()
	got := Rules(usual, &job.Job{Alarms: []job.Alarm{mine, {Name: "cpu"}, own}})
	if len(got) != len(usual)+1 || got[len(got)-1].Name != "behind" {
		t.Errorf("%d rules of %d", len(got), len(usual))
	}
	for _, r := range got {
		if r.Name == "skew" && r.When.Text() != "skew > 9" || r.Name == "cpu" && r.When != nil || r.Name == "failed" && r.When == nil {
			t.Errorf("%+v", r)
		}
	}
}

// TestRejectedShare: it is that of each thousand rows that came together, not of the whole run.
func TestRejectedShare(t *testing.T) {
	var s Series
	share := func(read, rejected int64) string {
		v := s.rejectedShare(run.Figures{Sources: map[string]run.SourceFigures{"lifts": {Read: read, Rejected: map[string]int64{"malformed": rejected}}}, Steps: map[string]run.StepFigures{"a": {RowsIn: read}}})
		if v == nil {
			return "not known"
		}
		return fmt.Sprint(*v)
	}
	for _, c := range []struct {
		read, rejected int64
		want           string
	}{{500, 500, "not known"}, {1000, 500, "0.5"}, {1900, 500, "0.5"}, {2000, 500, "0"}, {6000, 900, "0.1"}, {10, 0, "0.1"}, {1010, 30, "0.03"}} {
		if got := share(c.read, c.rejected); got != c.want {
			t.Errorf("%d rejected of %d: %s, want %s", c.rejected, c.read, got, c.want)
		}
	}
}
