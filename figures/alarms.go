package figures

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"
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
	cols  []*row.Column // one row of the job's figures
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
		a.state = map[string]*alarmState{}
	}
}

// Add takes the figures of a moment, in the order of [job.Job.Figures], and gives what is on or off with them. A condition about what is not known neither
// holds nor does not: the alarm stays as it is. An alarm that is no longer listed, or was switched off, is off.
func (a *Alarms) Add(at time.Time, rules []job.Alarm, names []string, values []float64) (changes []Change) {
	a.begin()
	a.fill(values)
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
		holds, known := a.holds(r)
		switch {
		case !known:
		case holds:
			s.without = time.Time{}
			if s.holds.IsZero() {
				s.holds = at
			}
			if !s.on && at.Sub(s.holds) >= r.For {
				s.on = true
				changes = append(changes, Change{*r, true, at, alarmText(r, names, values)})
			}
		case !s.on:
			s.holds = time.Time{}
		case s.without.IsZero():
			s.without = at
		case at.Sub(s.without) >= min(offAfter, max(r.For, time.Second)):
			*s = alarmState{}
			changes = append(changes, Change{*r, false, at, alarmText(r, names, values)})
		}
	}
	return changes
}

// fill puts the figures of a moment into columns. Conditions of all jobs ask about those of a job as a whole, which come first.
func (a *Alarms) fill(values []float64) {
	for len(a.cols) < len(values) {
		a.cols = append(a.cols, row.NewColumn(row.Double))
	}
	for i, v := range values {
		a.cols[i].Reset()
		if math.IsNaN(v) {
			a.cols[i].AppendNull()
		} else {
			a.cols[i].AppendDouble(v)
		}
	}
}

// holds says whether a condition holds; not known where it asks about what is not.
func (a *Alarms) holds(r *job.Alarm) (holds, known bool) {
	v, err := r.When.Eval(a.cols, 0)
	if err != nil || v.Null {
		return false, false
	}
	return v.I != 0, true
}

// alarmText says what an alarm is about, with the figures that its condition names.
func alarmText(r *job.Alarm, figures []string, values []float64) string {
	text := r.About
	if text == "" {
		text = r.When.Text()
	}
	var parts []string
	for i, v := range values {
		if !names(r.When.Text(), figures[i]) {
			continue
		}
		said := "not known"
		if !math.IsNaN(v) {
			said = shown(v)
		}
		parts = append(parts, fmt.Sprintf("%s is %s", figures[i], said))
	}
	if len(parts) == 0 {
		return text
	}
	return text + " (" + strings.Join(parts, ", ") + ")"
}

// shown writes a figure with what matters of it: 0.02, 7.96, 12,002.
func shown(v float64) string {
	if math.Abs(v) >= 1000 && math.Abs(v) < 1e15 {
		return Grouped(int64(math.Round(v)))
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
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
func Rules(all []job.Alarm, j *job.Job) []job.Alarm {
	out := slices.Clone(all)
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
func Usual() []job.Alarm { return slices.Clone(usual()) }

var usual = sync.OnceValue(func() (out []job.Alarm) {
	for _, u := range job.UsualAlarms {
		a, err := job.AlarmOf(u.Name, u.When, u.About, u.For, nil)
		if err != nil {
			panic(err) // ours are right
		}
		out = append(out, a)
	}
	return out
})
