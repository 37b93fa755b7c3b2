// Package figures makes of a run's counts what people want to know: rates over the last seconds, how far behind it is and
// when it will have caught up, what holds it and for how long, in one sentence (docs/figures.md). It reads figures and
// documents and touches nothing, so that each trouble can be tested with numbers alone.
package figures

import (
	"cmp"
	"math"
	"runtime"
	"slices"
	"time"

	"undertide/api"
	"undertide/job"
	"undertide/run"
)

// Over how long things are seen.
const (
	rateOver  = 5 * time.Second  // rates and shares are means over so long
	trendOver = 30 * time.Second // the trend of the lag, and what a step lets through
	keepFor   = 45 * time.Second // moments are kept
)

// moment is a run's figures at a time.
type moment struct {
	at  time.Time
	fig run.Figures
}

// Series are the last moments of one try of a run, in their order, and since when what holds it does. The zero value is empty; one goroutine at
// a time.
type Series struct {
	list  []moment
	first moment               // of this try
	rows  map[string]*rejects  // by part
	since map[string]time.Time // by what a cause is and where: when it was first seen, of those that are seen still
}

// Begin forgets the moments, as a new try begins; what has held the run since before is still known.
func (s *Series) Begin() { s.list, s.first = nil, moment{} }

// Add takes the figures of a moment.
func (s *Series) Add(at time.Time, fig run.Figures) {
	if s.first.at.IsZero() {
		s.first = moment{at, fig}
	}
	s.list = append(s.list, moment{at, fig})
	first := 0
	for at.Sub(s.list[first].at) > keepFor {
		first++
	}
	if first > 16 { // seldom, and no more than that are kept in vain
		s.list = slices.Clone(s.list[first:])
	}
}

func (s *Series) last() moment { return s.list[len(s.list)-1] }

// before finds the newest moment that is at least d before the last.
func (s *Series) before(d time.Duration) moment {
	last := s.last()
	for _, m := range slices.Backward(s.list) {
		if last.at.Sub(m.at) >= d-100*time.Millisecond {
			return m
		}
	}
	return s.list[0]
}

func rate(now, then int64, over float64) float64 {
	if over <= 0 || now < then { // counts go back where a run recovers
		return 0
	}
	return math.Round(float64(now-then)/over*10) / 10
}

// Rates compares the last moment with one of some seconds before.
func (s *Series) Rates() api.Rates {
	now, then := s.last(), s.before(rateOver)
	over := now.at.Sub(then.at).Seconds()
	wall, past := now.fig.WallSeconds, then.fig.WallSeconds
	share := func(now, then float64) float64 { // shares are of the whole run; those of the last seconds follow
		if wall <= past {
			return now
		}
		return min(1, max(0, (now*wall-then*past)/(wall-past)))
	}
	r := api.Rates{Sources: map[string]api.SourceRate{}, Steps: map[string]api.StepRate{}, Sinks: map[string]api.SinkRate{}, Pools: []api.PoolShare{},
		Work: max(0, now.fig.WorkSeconds-then.fig.WorkSeconds) / max(over, 1e-3)}
	for name, x := range now.fig.Sources {
		o := then.fig.Sources[name]
		r.Sources[name] = api.SourceRate{Read: rate(x.Read, o.Read, over), Bytes: rate(x.Bytes, o.Bytes, over), Arriving: arriving(x, o, over),
			Rejected: rate(sum(x.Rejected), sum(o.Rejected), over), Late: rate(x.Late, o.Late, over), Busy: share(x.BusyRatio, o.BusyRatio), Blocked: share(x.BlockedRatio, o.BlockedRatio)}
	}
	for name, x := range now.fig.Steps {
		o := then.fig.Steps[name]
		f := api.StepRate{In: rate(x.RowsIn, o.RowsIn, over), Out: rate(x.RowsOut, o.RowsOut, over), Dropped: rate(x.Dropped, o.Dropped, over), Lost: rate(x.Late.Lost, o.Late.Lost, over), Rejected: rate(sum(x.Rejected), sum(o.Rejected), over),
			Busy: share(x.BusyRatio, o.BusyRatio), Blocked: share(x.BlockedRatio, o.BlockedRatio), Lanes: []api.LaneRate{}}
		for i, l := range x.Lanes {
			var p run.LaneFigures
			if i < len(o.Lanes) {
				p = o.Lanes[i]
			}
			f.Lanes = append(f.Lanes, api.LaneRate{In: rate(l.RowsIn, p.RowsIn, over), Out: rate(l.RowsOut, p.RowsOut, over), Busy: share(l.BusyRatio, p.BusyRatio)})
		}
		r.Steps[name] = f
	}
	for name, x := range now.fig.Sinks {
		o := then.fig.Sinks[name]
		r.Sinks[name] = api.SinkRate{Rows: rate(x.Rows, o.Rows, over), Delivered: rate(x.Delivered, o.Delivered, over), HeldUp: share(x.HeldUpRatio, o.HeldUpRatio), Writing: share(x.WritingRatio, o.WritingRatio), Delivering: share(x.DeliveringRatio, o.DeliveringRatio)}
	}
	for i, p := range now.fig.Pools {
		f := api.PoolShare{Name: p.Name, Busy: p.BusyRatio}
		if i < len(then.fig.Pools) {
			f.Busy = share(p.BusyRatio, then.fig.Pools[i].BusyRatio)
		}
		r.Pools = append(r.Pools, f)
	}
	return r
}

// arriving is how many events a second came to be at the source's end, whether they are read or not; nil where that is not known.
func arriving(now, then run.SourceFigures, over float64) *float64 {
	if now.LagEvents == nil || then.LagEvents == nil {
		return nil
	}
	r := rate(now.Read+*now.LagEvents, then.Read+*then.LagEvents, over)
	return &r
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

// Asked is what a run is beside its figures.
type Asked struct {
	Job        *job.Job
	Status     string
	Since      time.Time // of the status
	Checkpoint time.Time // of the newest; zero for none
	Restarts   int
	Trouble    string // of the run as a whole, beside that of its parts
	// RestartsLately are those of the last ten minutes, and CheckpointsFailedRunning failed in a row.
	RestartsLately, CheckpointsFailedRunning int
	StateMemory                              int64 // what state may take; 0 for no bound
	CPUs                                     int   // of the machine; 0 for those that there are
	Portions                                 bool  // the figures are those of a spread job's portions together
	// Example gives the newest row or event of a part of the document as text; empty for none. May be nil.
	Example func(part string) string
	// Heaviest names the key with most of what a step keeps, such as "gauge=G1 (12,000 rows)"; empty where that is not known. May be nil.
	Heaviest func(step string) string
}

// Live tells how the run goes.
func (s *Series) Live(a Asked, rates api.Rates) api.Live {
	now := s.last()
	f := now.fig
	l := api.Live{LagTrend: "holding", CPUs: cmp.Or(a.CPUs, runtime.NumCPU()), Restarts: a.Restarts, Watermark: f.Watermark}
	l.LagEvents, l.LagSeconds = lag(f)
	for _, r := range rates.Sources {
		l.InPerSecond += r.Read
		if r.Arriving != nil {
			if l.ArrivingPerSecond == nil {
				l.ArrivingPerSecond = new(float64)
			}
			*l.ArrivingPerSecond += *r.Arriving
		}
	}
	for _, r := range rates.Sinks {
		l.OutPerSecond += r.Rows
	}
	for _, x := range f.Sources {
		l.Rejected += sum(x.Rejected)
		l.Late += x.Late
	}
	for _, x := range f.Steps {
		l.Rejected += sum(x.Rejected)
	}
	if w, ok := TimeOf(f.Watermark); ok {
		age := max(0, now.at.Sub(w).Seconds())
		l.WatermarkAge = &age
	}
	if !a.Checkpoint.IsZero() {
		age := now.at.Sub(a.Checkpoint).Seconds()
		l.CheckpointAge = &age
	}
	l.Busiest = busiest(rates)
	if l.Busiest.Busy > 0.02 && l.InPerSecond > 0 { // of less nothing follows
		could := math.Round(l.InPerSecond / l.Busiest.Busy)
		l.CouldPerSecond = &could
	}
	s.trend(&l)
	l.CheckpointEvery, l.CheckpointsFailedRunning, l.RestartsLately = a.Job.CheckpointEvery.Seconds(), a.CheckpointsFailedRunning, a.RestartsLately
	l.RejectedRatio, l.RetentionLeft, l.RefreshesMissed = s.rejectedShare(f), retentionLeft(f, now.at), refreshesMissed(a.Job, f, now.at)
	if a.StateMemory > 0 {
		state := 0.0
		for _, x := range f.Steps {
			state += float64(x.StateBytes)
		}
		state /= float64(a.StateMemory)
		l.MemoryRatio = &state
	}
	l.Causes = s.causes(a, rates)
	for _, c := range l.Causes {
		if c.Kind == Unreachable {
			l.Trouble = c.Text
			break
		}
	}
	l.Advice = s.advice(a, &l, rates)
	l.Sentence = sentence(&l, f, a, now.at)
	return l
}

// busiest finds who of a run has the least time left: it bounds what the run could do.
func busiest(r api.Rates) (most api.PoolShare) {
	for _, p := range r.Pools {
		if p.Busy > most.Busy {
			most = p
		}
	}
	return most
}

// rejects are counts of a part from which on its newest rows are counted, and the share of those before.
type rejects struct {
	all, rejected int64
	share         float64
	known         bool
}

// enoughRejected is how many rows of a part are looked at together.
const enoughRejected = 1000

// rejectedShare gives the share of rejects among the newest rows of a source or step: of each thousand that have come together.
func (s *Series) rejectedShare(f run.Figures) (most *float64) {
	if s.rows == nil {
		s.rows = map[string]*rejects{}
	}
	note := func(part string, all, rejected int64) {
		r := s.rows[part]
		if r == nil {
			r = &rejects{}
			s.rows[part] = r
		}
		if all < r.all { // counts go back where a run recovers
			r.all, r.rejected = all, rejected
		}
		if n := all - r.all; n >= enoughRejected {
			r.share, r.known = float64(rejected-r.rejected)/float64(n), true
			r.all, r.rejected = all, rejected
		}
		if share := r.share; r.known && (most == nil || share > *most) {
			most = &share
		}
	}
	for name, x := range f.Sources {
		note("source "+name, x.Read, sum(x.Rejected))
	}
	for name, x := range f.Steps {
		note("step "+name, x.RowsIn, sum(x.Rejected))
	}
	return most
}

// retentionLeft tells when the oldest event that waits to be read may be deleted: no earlier than what was stored with the last one
// that was read.
func retentionLeft(f run.Figures, now time.Time) (least *float64) {
	for _, x := range f.Sources {
		for _, p := range x.Partitions {
			if p.DeletedAt != nil {
				if left := p.DeletedAt.Sub(now).Seconds(); least == nil || left < *least {
					least = &left
				}
			}
		}
	}
	return least
}

// refreshesMissed tells how old the oldest reference is, in its refreshes.
func refreshesMissed(j *job.Job, f run.Figures, now time.Time) (most *float64) {
	for i := range j.References {
		r := &j.References[i]
		x, is := f.References[r.Name]
		if !is || r.Refresh <= 0 || x.Loaded.IsZero() {
			continue
		}
		if n := float64(now.Sub(x.Loaded)) / float64(r.Refresh); most == nil || n > *most {
			most = &n
		}
	}
	return most
}

func sum(m map[string]int64) (n int64) {
	for _, v := range m {
		n += v
	}
	return n
}

// TimeOf reads a watermark as figures give it; false where it is not at a time.
func TimeOf(w *string) (time.Time, bool) {
	if w == nil {
		return time.Time{}, false
	}
	t, err := time.Parse(time.RFC3339Nano, *w)
	return t, err == nil
}

// trend says whether the lag in events grows, and when it will be gone at the pace of the last half
// minute. Nothing that is read of nothing is not a trend: the lag of a run that stands still grows or holds.
func (s *Series) trend(l *api.Live) {
	if l.LagEvents == nil {
		l.LagTrend = ""
		return
	}
	then := s.before(trendOver)
	past, _ := lag(then.fig)
	over := s.last().at.Sub(then.at).Seconds()
	if past == nil || over < 2 {
		return
	}
	slope := float64(*l.LagEvents-*past) / over
	noise := 1 + 0.02*l.InPerSecond // a poll's worth of events comes and goes
	switch {
	case slope > noise && *l.LagEvents > int64(2*l.InPerSecond):
		l.LagTrend = "growing"
	case slope < -noise && *l.LagEvents > 0 && l.InPerSecond > 0:
		l.LagTrend = "shrinking"
		seconds := math.Round(float64(*l.LagEvents) / -slope)
		l.CatchUp = &seconds
	}
}
