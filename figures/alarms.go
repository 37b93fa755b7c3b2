package figures

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"undertide/core/row"
	"undertide/job"
)

// offAfter is how long a condition does not hold before an alarm is off: one that comes and goes is on.
const offAfter = 30 * time.Second

// Alarms watches the conditions of a job's alarms, from second to second. One goroutine at a time; the zero value has none on.
//
// An alarm for 1 min whose condition holds from 10:00:00 on is on at 10:01:00. If it does not hold at 10:05:00, does at 10:05:10 and
// never again, it is off at 10:05:41.
type Alarms struct {
	state map[string]*alarmState
	cols  map[string][]*row.Column // by alarm: one row of its figures
}

type alarmState struct {
	holds   time.Time // since when the condition holds; zero: it does not
	without time.Time // since when it does not, while the alarm is on
	on      bool
}

// Change is an alarm that is on or off from now on.
type Change struct {
	Alarm job.Alarm
	On    bool
	At    time.Time
	// Text says what it is about, with the figures that its condition asks for.
	Text string
}

// Resume says that an alarm was on when the service ended.
func (a *Alarms) Resume(name string, since time.Time) {
	a.begin()
	a.state[name] = &alarmState{holds: since, on: true}
}

// Forget says that an alarm is off, whatever its condition was.
func (a *Alarms) Forget(name string) { delete(a.state, name) }

// On says whether an alarm is on.
func (a *Alarms) On(name string) bool { return a.state[name] != nil && a.state[name].on }

func (a *Alarms) begin() {
	if a.state == nil {
		a.state, a.cols = map[string]*alarmState{}, map[string][]*row.Column{}
	}
}

// Add takes the figures of a moment, by name, and gives what is on or off with them. A condition about what is not known neither
// holds nor does not: the alarm stays as it is. An alarm that is no longer listed, or was switched off, is off.
func (a *Alarms) Add(at time.Time, rules []job.Alarm, values map[string]float64) (changes []Change) {
	a.begin()
	for name, s := range a.state {
		if i := slices.IndexFunc(rules, func(r job.Alarm) bool { return r.Name == name }); i < 0 || rules[i].When == nil {
			if s.on {
				changes = append(changes, Change{Alarm: job.Alarm{Name: name}, At: at, Text: "it is no longer asked for"})
			}
			delete(a.state, name)
		}
	}
	for i := range rules {
		r := &rules[i]
		if r.When == nil {
			continue
		}
		s := a.state[r.Name]
		if s == nil {
			s = &alarmState{}
			a.state[r.Name] = s
		}
		holds, known := a.holds(r, values)
		switch {
		case !known:
		case holds:
			s.without = time.Time{}
			if s.holds.IsZero() {
				s.holds = at
			}
			if !s.on && at.Sub(s.holds) >= r.For {
				s.on = true
				changes = append(changes, Change{*r, true, at, alarmText(r, values)})
			}
		case !s.on:
			s.holds = time.Time{}
		case s.without.IsZero():
			s.without = at
		case at.Sub(s.without) >= min(offAfter, max(r.For, time.Second)):
			*s = alarmState{}
			changes = append(changes, Change{*r, false, at, alarmText(r, values)})
		}
	}
	return changes
}

// holds says whether a condition holds; not known where it asks about what is not.
func (a *Alarms) holds(r *job.Alarm, values map[string]float64) (holds, known bool) {
	cols := a.cols[r.Name]
	if len(cols) != len(r.Fields) {
		cols = make([]*row.Column, len(r.Fields))
		for i := range cols {
			cols[i] = row.NewColumn(row.Double)
		}
		a.cols[r.Name] = cols
	}
	for i, f := range r.Fields {
		cols[i].Reset()
		if v, is := values[f.Name]; is && !math.IsNaN(v) {
			cols[i].AppendDouble(v)
		} else {
			cols[i].AppendNull()
		}
	}
	v, err := r.When.Eval(cols, 0)
	if err != nil || v.Null {
		return false, false
	}
	return v.I != 0, true
}

// alarmText says what an alarm is about, with the figures that its condition names.
func alarmText(r *job.Alarm, values map[string]float64) string {
	text := r.About
	if text == "" {
		text = r.When.Text()
	}
	var parts []string
	for _, f := range r.Fields {
		if !names(r.When.Text(), f.Name) {
			continue
		}
		v := values[f.Name]
		said := "not known"
		if !math.IsNaN(v) {
			said = strconv.FormatFloat(v, 'g', 4, 64)
		}
		parts = append(parts, fmt.Sprintf("%s is %s", f.Name, said))
	}
	if len(parts) == 0 {
		return text
	}
	return text + " (" + strings.Join(parts, ", ") + ")"
}

// names says whether a text has a name that is not part of a longer one.
func names(text, name string) bool {
	part := func(b byte) bool {
		return b == '_' || b == '.' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
	}
	for at := 0; ; {
		i := strings.Index(text[at:], name)
		if i < 0 {
			return false
		}
		i += at
		if end := i + len(name); (i == 0 || !part(text[i-1])) && (end == len(text) || !part(text[end])) {
			return true
		}
		at = i + 1
	}
}

// Rules puts together the alarms of a job: the usual ones, as they were changed for all jobs, then as the document changes
// them, with its own.
func Rules(usual []job.Alarm, j *job.Job) []job.Alarm {
	out := slices.Clone(usual)
	for _, own := range j.Alarms {
		if i := slices.IndexFunc(out, func(r job.Alarm) bool { return r.Name == own.Name }); i >= 0 {
			if own.Notify == nil {
				own.Notify = out[i].Notify
			}
			out[i] = own
		} else {
			out = append(out, own)
		}
	}
	return out
}

// Usual gives the usual alarms as they are unless somebody changes them.
func Usual() (out []job.Alarm) {
	for _, u := range job.UsualAlarms {
		a, err := job.AlarmOf(u.Name, u.When, u.About, u.For, nil)
		if err != nil {
			panic(err) // ours are right
		}
		out = append(out, a)
	}
	return out
}
