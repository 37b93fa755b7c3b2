package service

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"undertide/api"
	"undertide/job"
	"undertide/run"
)

// moment is a run's figures at a time, kept for rates.
type moment struct {
	at  time.Time
	fig run.Figures
}

const (
	rateOver  = 5 * time.Second  // rates are means over so long
	trendOver = 30 * time.Second // the lag's trend is seen over so long
)

// before finds the newest moment that is at least d before the last.
func before(list []moment, d time.Duration) moment {
	last := list[len(list)-1]
	for _, m := range slices.Backward(list) {
		if last.at.Sub(m.at) >= d-100*time.Millisecond {
			return m
		}
	}
	return list[0]
}

func rate(now, then int64, over float64) float64 {
	if over <= 0 || now < then { // counts go back where a run recovers
		return 0
	}
	return math.Round(float64(now-then)/over*10) / 10
}

// ratesOf compares the last moment with an earlier one.
func ratesOf(j *job.Job, list []moment) api.Rates {
	now, then := list[len(list)-1], before(list, rateOver)
	over := now.at.Sub(then.at).Seconds()
	r := api.Rates{Sources: map[string]float64{}, Steps: map[string]api.StepRate{}, Sinks: map[string]float64{}}
	for name, s := range now.fig.Sources {
		r.Sources[name] = rate(s.Read, then.fig.Sources[name].Read, over)
	}
	for name, s := range now.fig.Steps {
		o := then.fig.Steps[name]
		share := func(now1, then1 float64) float64 { // shares are of the whole run; those of the last seconds follow
			wall, past := now.fig.WallSeconds, then.fig.WallSeconds
			if wall <= past {
				return now1
			}
			return min(1, max(0, (now1*wall-then1*past)/(wall-past)))
		}
		r.Steps[name] = api.StepRate{In: rate(s.RowsIn, o.RowsIn, over), Out: rate(s.RowsOut, o.RowsOut, over), Busy: share(s.BusyShare, o.BusyShare), Blocked: share(s.BlockedShare, o.BlockedShare)}
	}
	for name, s := range now.fig.Sinks {
		r.Sinks[name] = rate(s.Rows, then.fig.Sinks[name].Rows, over)
	}
	return r
}

// lag adds up what the sources have not read yet; nil where no source can tell.
func lag(f run.Figures) (events *int64, seconds *float64) {
	for _, s := range f.Sources {
		if s.LagEvents == nil {
			continue
		}
		if events == nil {
			events, seconds = new(int64), new(float64)
		}
		*events += *s.LagEvents
		*seconds = max(*seconds, *s.LagSeconds)
	}
	return events, seconds
}

// liveOf words how a run goes.
func liveOf(j *job.Job, list []moment, rates api.Rates, status string, started, checkpoint time.Time, restarts int) api.Live {
	now := list[len(list)-1]
	f := now.fig
	l := api.Live{LagTrend: "holding", Restarts: restarts, Watermark: f.Watermark}
	l.LagEvents, l.LagSeconds = lag(f)
	for _, r := range rates.Sources {
		l.InPerSecond += r
	}
	for _, r := range rates.Sinks {
		l.OutPerSecond += r
	}
	for _, s := range f.Sources {
		l.Rejected += sum(s.Rejected)
		l.Trouble = cmp.Or(l.Trouble, s.Trouble)
	}
	for _, s := range f.Steps {
		l.Rejected += sum(s.Rejected)
		l.Late += s.Late.Lost
	}
	for _, s := range f.Sinks {
		l.Trouble = cmp.Or(l.Trouble, s.Trouble)
	}
	if w, ok := timeOf(f.Watermark); ok {
		age := max(0, now.at.Sub(w).Seconds())
		l.WatermarkAge = &age
	}
	if !checkpoint.IsZero() {
		age := now.at.Sub(checkpoint).Seconds()
		l.CheckpointAge = &age
	}
	trend(&l, list)
	l.HeldUpBy = heldUp(j, rates)
	l.Sentence = sentence(&l, f, status, now.at.Sub(started))
	return l
}

func sum(m map[string]int64) (n int64) {
	for _, v := range m {
		n += v
	}
	return n
}

func timeOf(w *string) (time.Time, bool) {
	if w == nil {
		return time.Time{}, false
	}
	t, err := time.Parse(time.RFC3339Nano, *w)
	return t, err == nil
}

// trend says whether the lag in events grows, and when it will be gone at the pace of the last half
// minute.
func trend(l *api.Live, list []moment) {
	if l.LagEvents == nil {
		l.LagTrend = ""
		return
	}
	then := before(list, trendOver)
	past, _ := lag(then.fig)
	over := list[len(list)-1].at.Sub(then.at).Seconds()
	if past == nil || over < 2 {
		return
	}
	slope := float64(*l.LagEvents-*past) / over
	noise := 1 + 0.02*l.InPerSecond // a poll's worth of events comes and goes
	switch {
	case slope > noise && *l.LagEvents > int64(2*l.InPerSecond):
		l.LagTrend = "growing"
	case slope < -noise && *l.LagEvents > 0:
		l.LagTrend = "shrinking"
		seconds := math.Round(float64(*l.LagEvents) / -slope)
		l.CatchUp = &seconds
	}
}

// heldUp names what holds a run up, where something does: steps whose lanes wait for a sink.
func heldUp(j *job.Job, rates api.Rates) string {
	for i := range j.Steps {
		s := &j.Steps[i]
		r := rates.Steps[s.Name]
		if r.Blocked > 0.5 {
			var sinks []string
			for k := range j.Sinks {
				if strings.HasSuffix(j.Sinks[k].FromText, s.Name) {
					sinks = append(sinks, j.Sinks[k].Name)
				}
			}
			return fmt.Sprintf("held up by sink %s, blocked %.0f %%", strings.Join(sinks, ", "), 100*r.Blocked)
		}
	}
	for i := range j.Steps {
		if r := rates.Steps[j.Steps[i].Name]; r.Busy > 0.9 {
			return fmt.Sprintf("step %s is busy %.0f %% of the time", j.Steps[i].Name, 100*r.Busy)
		}
	}
	return ""
}

// sentence says in words how a run is (docs/console.md, "The sentence").
func sentence(l *api.Live, f run.Figures, status string, up time.Duration) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s%s %s.", strings.ToUpper(status[:1]), status[1:], words(up))
	if l.Trouble != "" {
		fmt.Fprintf(&b, " Waiting: %s.", l.Trouble)
	}
	switch {
	case l.LagEvents == nil:
	case *l.LagEvents == 0:
		b.WriteString(" Nothing waits to be read.")
	case l.CatchUp != nil:
		fmt.Fprintf(&b, " %s events behind, caught up in %s.", grouped(*l.LagEvents), words(time.Duration(*l.CatchUp)*time.Second))
	default:
		fmt.Fprintf(&b, " %s events behind, %s.", grouped(*l.LagEvents), l.LagTrend)
	}
	open, next := 0, ""
	for _, s := range f.Steps {
		open += s.OpenWindows
		if s.NextClose != nil && (next == "" || *s.NextClose < next) {
			next = *s.NextClose
		}
	}
	if open > 0 {
		noun := "windows"
		if open == 1 {
			noun = "window"
		}
		fmt.Fprintf(&b, " %d %s open; the next closes when the watermark passes %s (now %s).", open, noun, clock(&next), clock(f.Watermark))
	}
	if l.Late > 0 {
		fmt.Fprintf(&b, " %s late rows lost.", grouped(l.Late))
	}
	if l.Rejected > 0 {
		fmt.Fprintf(&b, " %s rejected.", grouped(l.Rejected))
	}
	if l.HeldUpBy != "" {
		fmt.Fprintf(&b, " %s%s.", strings.ToUpper(l.HeldUpBy[:1]), l.HeldUpBy[1:])
	}
	return b.String()
}

// clock writes a watermark of today shortly.
func clock(w *string) string {
	t, ok := timeOf(w)
	switch {
	case w == nil:
		return "nowhere yet"
	case !ok:
		return *w
	case time.Since(t).Abs() < 12*time.Hour:
		return t.Format("15:04:05") + " UTC"
	}
	return t.Format("2006-01-02 15:04:05") + " UTC"
}

// words writes a duration as people say it: 3 h 4 min, 2 min 5 s, 12 s.
func words(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days %d h", d/(24*time.Hour), d%(24*time.Hour)/time.Hour)
	case d >= time.Hour:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	case d >= time.Minute:
		return fmt.Sprintf("%d min %d s", d/time.Minute, d%time.Minute/time.Second)
	}
	return fmt.Sprintf("%d s", d/time.Second)
}

func grouped(n int64) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
