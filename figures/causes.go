package figures

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undertide/api"
	"undertide/core/engine"
	"undertide/core/step"
	"undertide/job"
	"undertide/run"
)

// Kinds of causes, in the order in which one is the root of those behind it: who cannot write takes no rows, whose lanes wait then
// read slowly, and nothing that comes late of that is anybody else's fault.
const (
	Unreachable = "unreachable" // something outside does not answer
	Undelivered = "undelivered" // a sink has as much undelivered as it may
	Sink        = "sink"        // a sink takes rows more slowly than they come
	Delivery    = "delivery"    // a sink delivers more slowly than rows come, and what waits grows
	Busy        = "busy"        // somebody has no time left
	Partition   = "partition"   // the watermark waits for a partition
	Silent      = "silent"      // all is idle, and the watermark stands
	ByClock     = "clock"       // all is idle, and the watermark goes on by the clock
	Skew        = "skew"        // one lane gets most of a step's rows
	NullKeys    = "null_keys"   // rows are rejected since they have no key
	Rejects     = "rejects"     // events or rows are rejected
	DropsAll    = "drops_all"   // where or having lets nothing through
	PassedOver  = "passed_over" // earlier events are not read
	Nothing     = "nothing"     // no event has come yet
)

var order = []string{Unreachable, Undelivered, Sink, Delivery, Busy, Partition, Silent, ByClock, Skew, NullKeys, Rejects, DropsAll, PassedOver, Nothing}

// mild causes explain why little comes out; with them nothing is wrong.
var mild = []string{Silent, ByClock, Skew, PassedOver, Nothing}

// When something is worth a word.
const (
	heldShare   = 0.5              // of the time somebody waits for a sink
	busyShare   = 0.9              // of the time somebody is at work
	newFor      = 5 * time.Second  // nothing has come of a source that began
	quietFor    = 15 * time.Second // a partition has had no event, or a quarter of its idle time, if that is less
	apart       = 2 * time.Second  // it is behind the others
	someEpochs  = 3                // wait for their delivery
	rejectShare = 0.05             // of the rows are rejected
	enoughRows  = 100              // for a share to say something
	someRows    = 20               // should have come through, and none did
	usualShare  = 0.05             // of a step's rows came through before
	skewedRows  = 1000             // of a step, for its lanes to be compared
	mostInOne   = 0.9              // of a step's rows in one lane; of many lanes three times the part of each
	exampleText = 160              // bytes of an example
)

// causes finds what keeps the run from its work or its results from coming, the root first. What follows from another is left out.
func (s *Series) causes(a Asked, rates api.Rates) []api.Cause {
	l := &look{Asked: a, now: s.last(), then: s.before(trendOver), rates: rates, found: []api.Cause{}}
	l.unreachable()
	l.sinks()
	if !l.has(Unreachable, Undelivered, Sink) {
		l.busy()
	}
	if !l.has(Unreachable, Undelivered, Sink, Busy) { // else events wait to be read that may be what is waited for
		l.watermark()
	}
	if !l.has(Busy) {
		l.uneven()
	}
	l.rejects()
	l.drops()
	l.beginnings()
	slices.SortStableFunc(l.found, func(a, b api.Cause) int {
		return cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind))
	})
	seen := map[string]time.Time{}
	for i := range l.found {
		c := &l.found[i]
		name := c.Kind + "\x00" + c.At
		if c.Since = s.since[name]; c.Since.IsZero() {
			c.Since = l.now.at
		}
		seen[name] = c.Since
	}
	s.since = seen
	return l.found
}

// look is one search for causes.
type look struct {
	Asked
	now, then moment
	rates     api.Rates
	found     []api.Cause
}

func (l *look) add(kind, at, text string, args ...any) {
	l.found = append(l.found, api.Cause{Kind: kind, At: at, Text: fmt.Sprintf(text, args...), Grave: !slices.Contains(mild, kind)})
}

func (l *look) has(kinds ...string) bool {
	return slices.ContainsFunc(l.found, func(c api.Cause) bool { return slices.Contains(kinds, c.Kind) })
}

// sorted gives the names of what figures tell of, so that causes come in the same order every time.
func sorted[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// unreachable names what does not answer; the same trouble of several parts once.
func (l *look) unreachable() {
	parts := map[string][]string{} // by trouble
	var troubles []string
	note := func(part, trouble string) {
		if trouble == "" {
			return
		}
		if parts[trouble] == nil {
			troubles = append(troubles, trouble)
		}
		parts[trouble] = append(parts[trouble], part)
	}
	for _, name := range sorted(l.now.fig.Sources) {
		note("source "+name, l.now.fig.Sources[name].Trouble)
	}
	for _, name := range sorted(l.now.fig.Sinks) {
		note("sink "+name, l.now.fig.Sinks[name].Trouble)
	}
	note("", l.Trouble)
	for _, t := range troubles {
		l.add(Unreachable, strings.Join(parts[t], ", "), "%s", strings.TrimSuffix(t, "."))
	}
}

// sinks names those that others wait for, the worst first.
func (l *look) sinks() {
	names := sorted(l.rates.Sinks)
	slices.SortStableFunc(names, func(a, b string) int {
		return cmp.Compare(l.rates.Sinks[b].HeldUp, l.rates.Sinks[a].HeldUp)
	})
	for _, name := range names {
		x, r := l.now.fig.Sinks[name], l.rates.Sinks[name]
		switch {
		case x.Trouble != "":
			continue
		case r.HeldUp < heldShare:
			if x.WaitingEpochs >= someEpochs && x.WaitingBytes > l.then.fig.Sinks[name].WaitingBytes && r.Delivering > busyShare {
				l.add(Delivery, "sink "+name, "sink %s delivers more slowly than rows come: %d checkpoints hold %s for it", name, x.WaitingEpochs, bytesText(x.WaitingBytes))
			}
			continue
		}
		if x.WaitingBytes > 0 && x.WaitingBytes >= l.undelivered() {
			l.add(Undelivered, "sink "+name, "sink %s has %s undelivered, which is as much as it may, and takes no rows", name, bytesText(x.WaitingBytes))
			continue
		}
		text := fmt.Sprintf("sink %s holds up %s: rows waited for it %.0f %% of the last seconds", name, l.heldBy(name), 100*r.HeldUp)
		if r.Rows > 0 {
			text += fmt.Sprintf(", and it takes %s a second", Grouped(int64(r.Rows)))
		} else {
			text += ", and it takes none"
		}
		l.add(Sink, "sink "+name, "%s", text)
	}
}

func (l *look) undelivered() int64 { return cmp.Or(l.Job.Undelivered, engine.DefaultUndelivered) }

// heldBy names the other sinks, which get no more than a sink takes that others wait for.
func (l *look) heldBy(sink string) string {
	var others []string
	for i := range l.Job.Sinks {
		if n := l.Job.Sinks[i].Name; n != sink {
			others = append(others, n)
		}
	}
	switch {
	case len(others) == 0:
		return "the run"
	case len(others) <= 3:
		return "the run, with " + plural(len(others), "sink ", "sinks ") + strings.Join(others, ", ")
	}
	return fmt.Sprintf("the run, with %d other sinks", len(others))
}

// busy names who has no time left, and for what most of it goes.
func (l *look) busy() {
	most := busiest(l.rates)
	if most.Busy < busyShare {
		return
	}
	if most.Name == "workers" {
		part, share := l.heaviest(func(i int) bool { return l.Job.Steps[i].Keyed == nil })
		l.add(Busy, part, "the workers are busy %.0f %% of the time, most with %s (%.0f %%)", 100*most.Busy, part, 100*share)
		return
	}
	if strings.HasPrefix(most.Name, "sink ") {
		l.add(Busy, most.Name, "%s is busy writing %.0f %% of the time", most.Name, 100*most.Busy)
		return
	}
	lane, steps, _ := strings.Cut(most.Name, " of ")
	part, _ := l.heaviest(func(i int) bool { return slices.Contains(strings.Split(steps, ", "), l.Job.Steps[i].Name) })
	text := fmt.Sprintf("%s of %s is busy %.0f %% of the time", lane, part, 100*most.Busy)
	if more := l.skew(strings.TrimPrefix(part, "step "), lane); more != "" {
		text += more
	}
	l.add(Busy, part, "%s", text)
}

// heaviest finds the source or step that costs most, of those that are asked for; sources are decoded by workers.
func (l *look) heaviest(among func(step int) bool) (part string, share float64) {
	for i := range l.Job.Steps {
		name := l.Job.Steps[i].Name
		if b := l.rates.Steps[name].Busy; among(i) && (part == "" || b > share) {
			part, share = "step "+name, b
		}
	}
	for _, name := range sorted(l.rates.Sources) {
		if b := l.rates.Sources[name].Busy; b > share && !strings.HasPrefix(part, "step ") || b > share && l.workersDo(part) {
			part, share = "source "+name, b
		}
	}
	return part, share
}

func (l *look) workersDo(part string) bool {
	i := slices.IndexFunc(l.Job.Steps, func(s job.Step) bool { return "step "+s.Name == part })
	return i >= 0 && l.Job.Steps[i].Keyed == nil
}

// skew says how much of a step's rows one lane gets, where that is more than three times its part.
func (l *look) skew(step, lane string) string {
	lanes := l.rates.Steps[step].Lanes
	var n int
	if _, err := fmt.Sscanf(lane, "lane %d", &n); err != nil || n >= len(lanes) || len(lanes) < 2 {
		return ""
	}
	all := 0.0
	for _, x := range lanes {
		all += x.In
	}
	if others := (all - lanes[n].In) / float64(len(lanes)-1); lanes[n].In < 3*others || all == 0 {
		return ""
	}
	return fmt.Sprintf(" and gets %.0f %% of the rows%s", 100*lanes[n].In/all, l.heavyKey(step))
}

// heavyKey names the key with most of what a step keeps, as text that follows a sentence; or where to look for it.
func (l *look) heavyKey(step string) string {
	if l.Heaviest != nil {
		if key := l.Heaviest(step); key != "" {
			return ", most for " + key
		}
	}
	job := l.Job.Name
	if lanes := l.now.fig.Steps[step].Lanes; l.Job.StepNamed(step) != nil {
		if n, _, all := fullest(l.Job.StepNamed(step), lanes); all > 0 && lanes[n].Portion != "" { // a portion has its keys
			job += "." + lanes[n].Portion
		}
	}
	return fmt.Sprintf("; the heaviest keys: undertide state %s %s --skew", job, step)
}

// uneven names steps of whose rows one lane has most.
func (l *look) uneven() {
	for i := range l.Job.Steps {
		s := &l.Job.Steps[i]
		lanes := l.now.fig.Steps[s.Name].Lanes
		if n, most, all := fullest(s, lanes); all > 0 && float64(most) >= min(mostInOne, 3/float64(len(lanes)))*float64(all) {
			who := fmt.Sprintf("lane %d", n)
			if p := lanes[n].Portion; p != "" {
				who = "portion " + p
			}
			l.add(Skew, "step "+s.Name, "%s of step %s has had %s of its %s rows%s", who, s.Name, Grouped(most), Grouped(all), l.heavyKey(s.Name))
		}
	}
}

// fullest gives the lane that has had most rows of a step with keys, how many, and how many all have had; none of all where too few came to say, or where
// rows are not spread over lanes.
func fullest(s *job.Step, lanes []run.LaneFigures) (lane int, most, all int64) {
	if s.Keyed == nil || len(lanes) < 2 || len(s.Keyed.Spec().KeySchema()) == 0 {
		return 0, 0, 0
	}
	for n, x := range lanes {
		if all += x.RowsIn; x.RowsIn > most {
			lane, most = n, x.RowsIn
		}
	}
	if all < skewedRows {
		return 0, 0, 0
	}
	return lane, most, all
}

// watermark names what the watermark waits for.
func (l *look) watermark() {
	done := map[string]bool{}
	for _, of := range l.together() {
		if l.silent(of, done) {
			continue
		}
		l.partition(of, done)
	}
}

// together gives the sets of sources whose watermarks steps with keys take the least of.
func (l *look) together() (sets [][]int) {
	from := make([]map[int]bool, len(l.Job.Steps))
	for i := range l.Job.Steps {
		s := &l.Job.Steps[i]
		from[i] = map[int]bool{}
		for _, in := range s.From {
			if !in.OfStep {
				from[i][in.At] = true
				continue
			}
			maps.Copy(from[i], from[in.At])
		}
		if set := slices.Sorted(maps.Keys(from[i])); s.Keyed != nil && !slices.ContainsFunc(sets, func(o []int) bool { return slices.Equal(o, set) }) {
			sets = append(sets, set)
		}
	}
	return sets
}

// silent says whether all that a set of sources has is idle, and names that.
func (l *look) silent(of []int, done map[string]bool) bool {
	var names []string
	byClock, windows := true, 0
	last := time.Time{}
	for _, i := range of {
		s := &l.Job.Sources[i]
		x := l.now.fig.Sources[s.Name]
		if !s.Timed() || len(x.Partitions) == 0 {
			return false
		}
		for _, p := range x.Partitions {
			if !p.Idle || p.Events == 0 {
				return false
			}
			last = later(last, p.LastEvent)
		}
		byClock = byClock && x.ByClock
		names = append(names, s.Name)
	}
	for _, x := range l.now.fig.Steps {
		windows += x.OpenWindows
	}
	name := strings.Join(names, ", ")
	switch {
	case done[name]:
	case byClock:
		l.add(ByClock, "source "+name, "nothing has come from %s since %s, and the watermark goes on by the clock (silence: advance)", name, clock(last))
	case windows > 0:
		l.add(Silent, "source "+name, "nothing has come from %s since %s, and the watermark stands (silence: hold): what is open closes with later events", name, clock(last))
	}
	done[name] = true
	return true
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// partition names the partition that holds the watermark of a set of sources, where it has had nothing for a while and others
// are ahead.
func (l *look) partition(of []int, done map[string]bool) {
	type place struct {
		source string
		run.PartitionFigures
	}
	var least *place
	ahead := ""
	for _, i := range of {
		s := &l.Job.Sources[i]
		if !s.Timed() {
			continue
		}
		for _, p := range l.now.fig.Sources[s.Name].Partitions {
			if p.Watermark != nil && *p.Watermark != "end" && *p.Watermark > ahead {
				ahead = *p.Watermark
			}
			if p.Idle || p.Ended {
				continue
			}
			if least == nil || p.Watermark == nil || least.Watermark != nil && *p.Watermark < *least.Watermark {
				if least == nil || least.Watermark != nil {
					least = &place{s.Name, p}
				}
			}
		}
	}
	if least == nil || ahead == "" {
		return
	}
	quiet := quietFor
	if idle := l.idleOf(least.source); idle > 0 {
		quiet = min(quiet, idle/4)
	}
	if l.now.at.Sub(least.LastEvent) < quiet {
		return
	}
	most, _ := TimeOf(&ahead)
	if w, ok := TimeOf(least.Watermark); ok && most.Sub(w) < apart {
		return
	}
	name := fmt.Sprintf("partition %s of %s", least.Name, least.source)
	if done[name] {
		return
	}
	done[name] = true
	text := name + " has had no event yet"
	if least.Events > 0 {
		text = name + " has had no event since " + clock(least.LastEvent)
	}
	switch idle := l.idleOf(least.source); {
	case least.End > least.Position && least.WaitedUntil == nil:
		text = fmt.Sprintf("%s is behind the others with %s that wait there, and the watermark waits for it", name, Grouped(least.End-least.Position))
	case least.WaitedUntil != nil:
		text += " and is waited for until " + clock(*least.WaitedUntil)
	case idle == 0:
		text += " and is waited for without end; `watermark: {idle: …}` would bound that"
	default:
		text += fmt.Sprintf(" and is waited for, at most %s once it is known that there is none", Span(idle))
	}
	l.add(Partition, name, "%s", text)
}

func (l *look) idleOf(source string) time.Duration {
	for i := range l.Job.Sources {
		if s := &l.Job.Sources[i]; s.Name == source {
			return s.Idle
		}
	}
	return 0
}

// rejects names where many rows are rejected, and why.
func (l *look) rejects() {
	for _, name := range sorted(l.now.fig.Sources) {
		x := l.now.fig.Sources[name]
		l.rejected("source "+name, "events", "", x.Read, x.Rejected)
	}
	for i := range l.Job.Steps {
		s := &l.Job.Steps[i]
		x, key := l.now.fig.Steps[s.Name], ""
		if s.Keyed != nil {
			key = strings.Join(s.Keyed.Spec().KeySchema().Names(), ", ")
		}
		l.rejected("step "+s.Name, "rows", key, x.RowsIn, x.Rejected)
	}
}

func (l *look) rejected(at, noun, key string, all int64, by map[string]int64) {
	for _, reason := range sorted(by) {
		n := by[reason]
		if all < enoughRows || float64(n) < rejectShare*float64(all) {
			continue
		}
		share := fmt.Sprintf("%.0f %% of the %s of %s", 100*float64(n)/float64(all), noun, at)
		if reason == step.NullKey {
			l.add(NullKeys, at, "%s have no %s and are rejected (null key): %s of %s", share, key, Grouped(n), Grouped(all))
		} else {
			l.add(Rejects, at, "%s are rejected (%s): %s of %s", share, reason, Grouped(n), Grouped(all))
		}
	}
}

// drops names steps that let nothing through.
func (l *look) drops() {
	for i := range l.Job.Steps {
		s := &l.Job.Steps[i]
		x, o := l.now.fig.Steps[s.Name], l.then.fig.Steps[s.Name]
		n, usual := x.Dropped-o.Dropped, ratio(float64(x.RowsOut), float64(x.RowsIn))
		switch {
		case s.Keyed == nil && x.RowsOut == 0 && x.Dropped >= enoughRows:
			l.add(DropsAll, "step "+s.Name, "step %s drops all of its %s rows (%s)%s", s.Name, Grouped(x.Dropped), l.says(s, "where "), l.example(s))
		case s.Keyed == nil && x.RowsOut == o.RowsOut && usual >= usualShare && float64(n)*usual >= someRows:
			l.add(DropsAll, "step "+s.Name, "step %s drops all of the last %s rows, where %.0f %% came through before (%s)%s", s.Name, Grouped(n), 100*usual, l.says(s, "where "), l.example(s))
		case s.Keyed != nil && x.RowsOut == 0 && x.Made >= someRows && x.Dropped == x.Made:
			l.add(DropsAll, "step "+s.Name, "step %s drops all of its %s results (%s)", s.Name, Grouped(x.Made), l.says(s, "having ", "where "))
		}
	}
}

// says finds the words of a document that a step drops rows by.
func (l *look) says(s *job.Step, words ...string) string {
	for _, w := range words {
		for _, d := range s.Does {
			if strings.HasPrefix(d, w) {
				return d
			}
		}
	}
	return s.Kind
}

// example gives a row that a step drops, as text that follows a sentence.
func (l *look) example(s *job.Step) string {
	if l.Example == nil || len(s.From) == 0 {
		return ""
	}
	text := ""
	l.Job.EachPart(func(name string, r engine.Ref) {
		if r == s.From[0].Ref && text == "" {
			text = l.Example(name)
		}
	})
	if text == "" {
		return ""
	}
	if len(text) > exampleText {
		text = strings.ToValidUTF8(text[:exampleText], "") + "…"
	}
	return ", such as " + text
}

// beginnings names sources of which nothing has come, or whose earlier events are not read.
func (l *look) beginnings() {
	for _, name := range sorted(l.now.fig.Sources) {
		x := l.now.fig.Sources[name]
		switch {
		case x.PassedOver > 0 && x.Read < x.PassedOver:
			l.add(PassedOver, "source "+name, "%s earlier %s of %s were passed over, since `begin` says so", Grouped(x.PassedOver), plural(int(x.PassedOver), "event", "events"), name)
		case x.Read == 0 && !l.has(Unreachable) && l.now.at.Sub(l.Since) >= newFor:
			l.add(Nothing, "source "+name, "no event has come from %s yet", name)
		}
	}
}

func bytesText(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%.0f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.0f KiB", float64(n)/(1<<10))
}
