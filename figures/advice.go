package figures

import (
	"cmp"
	"fmt"
	"runtime"
	"strings"
	"time"

	"undertide/api"
	"undertide/core/row"
	"undertide/run"
)

// What advice is about (docs/figures.md, "Advice").
const (
	AdviseLanes      = "lanes"      // more, or fewer, against the machine's CPUs
	AdvisePartitions = "partitions" // events wait, and nobody has much to do
	AdviseKey        = "key"        // one key has most of a step's rows
	AdviseMargin     = "margin"     // what a greater one would have kept
	AdviseRoll       = "roll"       // files are small
)

// When advice is given.
const (
	lateShare    = 0.001 // of a step's rows are lost
	smallFile    = 10_000
	advisedAfter = time.Minute // a run that began just now is like no other moment of it
	idleShare    = 0.5         // the busiest has half of its time left
)

// advice says what would help, each with the number behind it; nothing of a run that began just now.
func (s *Series) advice(a Asked, l *api.Live, rates api.Rates) []api.Advice {
	v := &adviser{Asked: a, live: l, rates: rates, fig: s.last().fig, first: s.first.fig, over: s.last().at.Sub(s.first.at).Seconds(), cpus: float64(cmp.Or(a.CPUs, runtime.NumCPU())), found: []api.Advice{}}
	if s.last().at.Sub(a.Since) >= advisedAfter {
		v.lanes()
		v.partitions()
		v.keys()
		v.margins()
		v.rolls()
	}
	return v.found
}

type adviser struct {
	Asked
	live  *api.Live
	rates api.Rates
	fig   run.Figures
	first run.Figures // of this try
	over  float64     // seconds since then
	cpus  float64
	found []api.Advice
}

func (v *adviser) add(kind, at, format string, args ...any) {
	v.found = append(v.found, api.Advice{Kind: kind, At: at, Text: fmt.Sprintf(format, args...)})
}

// lanesOf is how many lanes the run has: those of any of its steps with keys; 0 for none.
func (v *adviser) lanesOf() (n int) {
	for _, x := range v.fig.Steps {
		n = max(n, len(x.Lanes))
	}
	return n
}

// lanes: one that has no time left, while CPUs have; or more of them than CPUs.
func (v *adviser) lanes() {
	if v.Portions { // each has lanes of its own
		return
	}
	n, b := v.lanesOf(), v.live.Busiest
	free := v.cpus - v.rates.Work
	switch {
	case n == 0:
	case strings.HasPrefix(b.Name, "lane ") && b.Busy >= busyShare && float64(n) < v.cpus && free >= 0.5:
		v.add(AdviseLanes, "", "%s is busy %.0f %% of the time, and the run takes %.1f of %.0f CPUs: with lanes: %.0f in place of %d its steps would have up to %.0f times as much time", b.Name, 100*b.Busy, v.rates.Work, v.cpus, v.cpus, n, v.cpus/float64(n))
	case float64(n) > 2*v.cpus:
		v.add(AdviseLanes, "", "%d lanes share %.0f CPUs: no more than %.0f are at work at once, and each has its part of every checkpoint; lanes: %.0f would do", n, v.cpus, v.cpus, v.cpus)
	}
}

// partitions: events wait in a source with fewer partitions than CPUs, while nobody is busy.
func (v *adviser) partitions() {
	if v.live.LagTrend != "growing" || v.live.Busiest.Busy > idleShare || len(v.live.Causes) > 0 && v.live.Causes[0].Grave {
		return
	}
	for _, name := range sorted(v.fig.Sources) {
		x := v.fig.Sources[name]
		if n := len(x.Partitions); x.LagEvents != nil && *x.LagEvents > 0 && n > 0 && float64(n) < v.cpus {
			v.add(AdvisePartitions, "source "+name, "%s events of %s wait while the busiest, %s, is so %.0f %% of the time: it has %d %s, each of which is read by one reader; here up to %.0f can be read side by side", Grouped(*x.LagEvents), name, v.live.Busiest.Name, 100*v.live.Busiest.Busy, n, plural(n, "partition", "partitions"), v.cpus)
		}
	}
}

// keys: the rows of the fullest lane bound what all lanes do together.
func (v *adviser) keys() {
	for i := range v.Job.Steps {
		step := &v.Job.Steps[i]
		lanes := v.fig.Steps[step.Name].Lanes
		_, most, all := fullest(step, lanes)
		effective := float64(all) / float64(most)
		if all == 0 || effective > float64(len(lanes))/2 { // more than half of them are at work
			continue
		}
		key := ""
		if v.Heaviest != nil {
			if h := v.Heaviest(step.Name); h != "" {
				key = ", most of them of " + h
			}
		}
		v.add(AdviseKey, "step "+step.Name, "one lane of step %s has %s of %s rows%s: its %d lanes do the work of %.1f; with a key that tells more rows apart than %s they would do that of up to %d", step.Name, Grouped(most), Grouped(all), key, len(lanes), effective, strings.Join(step.Keyed.Spec().KeySchema().Names(), ", "), len(lanes))
	}
}

// margins: what a greater one would have kept.
func (v *adviser) margins() {
	for i := range v.Job.Steps {
		step := &v.Job.Steps[i]
		x := v.fig.Steps[step.Name]
		if x.RowsIn < skewedRows || float64(x.Late.Lost) < lateShare*float64(x.RowsIn) {
			continue
		}
		margin := v.Job.MarginOf(step)
		late := time.Duration(x.Late.MostSeconds * float64(time.Second)).Round(time.Second)
		whole := margin + max(late, time.Second)
		v.add(AdviseMargin, "step "+step.Name, "step %s has lost %s of %s rows as late (%.2g %%), the latest by %s: a margin of %s in place of %s would have kept all, and each result comes %s later; undertide lateness says what lies between", step.Name, Grouped(x.Late.Lost), Grouped(x.RowsIn), 100*float64(x.Late.Lost)/float64(x.RowsIn), row.DurationText(late), row.DurationText(whole), row.DurationText(margin), row.DurationText(whole-margin))
	}
}

// rolls: a file for each checkpoint, with few rows.
func (v *adviser) rolls() {
	every := v.Job.CheckpointEvery
	for i := range v.Job.Sinks {
		s := &v.Job.Sinks[i]
		rate := against(float64(v.fig.Sinks[s.Name].Rows-v.first.Sinks[s.Name].Rows), v.over)
		rows := rate * every.Seconds()
		if !(rows >= 1) || rows > smallFile || every >= 10*time.Minute || !v.Job.Rolls(s) { // its words are made last: this is asked every second
			continue
		}
		v.add(AdviseRoll, "sink "+s.Name, "sink %s makes a file at each checkpoint, every %s, of about %s rows: roll: {every: 10m} makes one of %s", s.Name, row.DurationText(every), Grouped(int64(rows)), Grouped(int64(rate*600)))
	}
}
