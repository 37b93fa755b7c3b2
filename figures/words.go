package figures

import (
	"fmt"
	"strings"
	"time"

	"undertide/api"
	"undertide/run"
)

// sentence says in words how a run is: what it does and since when, how far behind, what holds it and for how long, and what
// is open (docs/figures.md, "The sentence").
func sentence(l *api.Live, f run.Figures, a Asked, now time.Time) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s.", upper(a.Status), Span(now.Sub(a.Since)))
	switch {
	case l.LagEvents == nil:
	case *l.LagEvents == 0:
		b.WriteString(" Nothing waits to be read.")
	case l.CatchUp != nil:
		fmt.Fprintf(&b, " %s %s behind, caught up in %s.", Grouped(*l.LagEvents), plural(int(*l.LagEvents), "event", "events"), Span(time.Duration(*l.CatchUp)*time.Second))
	default:
		fmt.Fprintf(&b, " %s %s behind, %s.", Grouped(*l.LagEvents), plural(int(*l.LagEvents), "event", "events"), l.LagTrend)
	}
	for i, c := range l.Causes {
		if i == 2 {
			fmt.Fprintf(&b, " And %d more.", len(l.Causes)-2)
			break
		}
		if c.Kind == Unreachable {
			fmt.Fprintf(&b, " Waiting: %s.", c.Text) // it says since when
			continue
		}
		b.WriteString(" " + upper(c.Text))
		if d := now.Sub(c.Since); d >= 10*time.Second && c.Kind != PassedOver && c.Kind != Skew {
			fmt.Fprintf(&b, ", for %s", Span(d))
		}
		b.WriteString(".")
	}
	open, next := 0, ""
	for _, s := range f.Steps {
		open += s.OpenWindows
		if s.NextClose != nil && s.OpenWindows > 0 && (next == "" || *s.NextClose < next) {
			next = *s.NextClose
		}
	}
	if open > 0 {
		fmt.Fprintf(&b, " %s %s open; the next closes when the watermark passes %s (now %s).", Grouped(int64(open)), plural(open, "window", "windows"), Clock(&next), Clock(f.Watermark))
	}
	if l.Late > 0 {
		fmt.Fprintf(&b, " %s late %s lost.", Grouped(l.Late), plural(int(l.Late), "event", "events"))
	}
	if l.Rejected > 0 {
		fmt.Fprintf(&b, " %s rejected.", Grouped(l.Rejected))
	}
	return b.String()
}

// Ended says in words how a run is that does not go on: since when, after how long, and why.
func Ended(run api.Run) string {
	var b strings.Builder
	b.WriteString(upper(run.Status))
	if run.EndedAt != nil {
		fmt.Fprintf(&b, " at %s, after %s", clock(*run.EndedAt), Span(run.EndedAt.Sub(run.StartedAt)))
	}
	switch why := strings.TrimSuffix(run.Error, "."); {
	case why != "":
		b.WriteString(": " + why + ".")
	case run.Status == "finished":
		b.WriteString(": all inputs are read, everything is delivered.")
	case run.Status == "stopped":
		b.WriteString(", with a checkpoint.")
	default:
		b.WriteString(".")
	}
	if run.Restarts > 0 {
		fmt.Fprintf(&b, " It had been started again %s.", times(run.Restarts))
	}
	return b.String()
}

// Begun says in words how a run is of which nothing more is known; since is as RFC 3339.
func Begun(status, since string) string {
	t, err := time.Parse(time.RFC3339, since)
	if err != nil {
		return upper(status) + "."
	}
	return fmt.Sprintf("%s since %s.", upper(status), clock(t))
}

// Resuming says in words how a run is that is started again. first is when the faults began of which the last is why; count
// says how often in a row it was the same.
func Resuming(why string, count int, first, now time.Time) string {
	text := "Resuming. " + upper(strings.TrimSuffix(why, "."))
	if count > 1 {
		text += fmt.Sprintf(", %s in %s", times(count), Span(now.Sub(first)))
	}
	return text + "."
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return Grouped(int64(n)) + " times"
}

func plural(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

func upper(s string) string {
	if s == "" {
		return ""
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// Clock writes a watermark of today shortly.
func Clock(w *string) string {
	t, ok := TimeOf(w)
	switch {
	case w == nil:
		return "nowhere yet"
	case !ok:
		return *w
	}
	return clock(t)
}

func clock(t time.Time) string {
	if time.Since(t).Abs() < 12*time.Hour {
		return t.UTC().Format("15:04:05") + " UTC"
	}
	return t.UTC().Format("2006-01-02 15:04:05") + " UTC"
}

// Span writes a duration as people say it: 3 h 4 min, 2 min 5 s, 12 s.
func Span(d time.Duration) string {
	d = max(d, 0).Round(time.Second)
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

// Grouped writes a number with a comma between thousands.
func Grouped(n int64) string {
	if n < 0 {
		return "-" + Grouped(-n)
	}
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
