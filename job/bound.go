package job

import (
	"fmt"
	"strings"
	"time"

	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

// Bound says what bounds the rows of state that a step keeps.
type Bound struct {
	// For is how long a row of the input counts in the state, in event time; 0 where only the end of the input ends that.
	For time.Duration
	// Span is the time that rows stand together by, as a window or slice: each key has a row for each; 0 for one row a key.
	Span time.Duration
	// Each: a row of the input is a row of state, however few keys there are.
	Each bool
	Text string
}

// Bound gives what bounds a step's state; false for a step that keeps nothing. Nothing grows for ever: a key without a
// window is forgotten at some time, unless the input ends.
func (j *Job) Bound(s *Step) (Bound, bool) {
	if s.Keyed == nil {
		return Bound{}, false
	}
	margin := j.margin(s.From)
	b := Bound{}
	// last words a time that is counted back, with what late rows and the margin add.
	last := func(what string, span, late time.Duration) {
		b.For = span + late + margin
		var times []string
		for _, d := range []struct {
			d  time.Duration
			of string
		}{{span, ""}, {late, " for late rows"}, {margin, " of margin"}} {
			if d.d > 0 {
				times = append(times, row.DurationText(d.d)+d.of)
			}
		}
		b.Text = what + strings.Join(times, " + ")
	}
	switch d := s.Keyed.(type) {
	case *step.Deduplicate:
		last("the keys of the last ", d.Within, 0)
	case *step.Absent:
		last("the keys of the last ", d.After, 0)
	case *step.Remember:
		last("the keys of the last ", d.Forget, 0)
	case *step.AsOf:
		last("the newest version of each key of "+d.Reference+", and all of the last ", d.Keep, 0)
	case *step.Join:
		b.Each = true
		last("the rows of the last ", max(d.Reach(step.LeftSide), d.Reach(step.RightSide), 0), d.Accept)
	case *step.Rank:
		b.Each = true
		last("the rows of windows that end within the last ", 0, 0)
	case *step.Window:
		hold := max(d.Accept, d.RepeatKeep)
		switch w := d.Aligned; {
		case w != nil:
			size := WindowSize(w)
			if b.Span = size; !w.Tumbles() && w.Unit == window.Micros {
				b.Span = time.Duration(w.By) * time.Microsecond
			}
			last("the keys of the last ", size, hold)
		case d.Session != nil:
			last("the keys with a row in the last ", d.Session.Gap, hold)
			b.Text += ", one row for each session however long"
		case d.LookBack > 0:
			b.Each = true
			last("the rows of the last ", d.LookBack, 0)
		case len(d.Spec().Key) == 0:
			b.Text, b.For = "one row", 1
		case d.Forget > 0:
			last("the keys with a row in the last ", d.Forget, 0)
		default:
			b.Text = "the keys of the whole input"
		}
	}
	return b, true
}

// WindowSize gives the length of aligned windows; of a calendar's, that of today.
func WindowSize(w *window.Aligned) time.Duration {
	if w.Unit == window.Micros {
		return time.Duration(w.Size) * time.Microsecond
	}
	at := row.TimeOf(time.Now())
	return time.Duration(w.LastEnd(at)-w.SliceStart(w.SliceOf(at))) * time.Microsecond
}

// boundText words what bounds a step's state, for plans.
func (j *Job) boundText(s *Step) string {
	b, keeps := j.Bound(s)
	if !keeps {
		return ""
	}
	return fmt.Sprintf("bounded by %s; what the run's memory does not hold lies on the disk", b.Text)
}
