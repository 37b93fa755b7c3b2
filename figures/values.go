package figures

import (
	"math"
	"time"

	"undertide/api"
	"undertide/job"
	"undertide/run"
)

// Figure is one number that is kept over time, and that alarms ask about (docs/figures.md, "Names").
type Figure struct {
	Name  string // lag_seconds, steps.minute.lost_share
	Unit  string
	About string
}

// of is a figure of a kind of part, and how it is found; NaN where it is not known.
type of[T any] struct {
	name, unit, about string
	value             func(x T) float64
}

// Units of figures.
const (
	events   = "events"
	rows     = "rows"
	perEvent = "events/s"
	perRow   = "rows/s"
	bytes    = "bytes"
	perByte  = "bytes/s"
	seconds  = "seconds"
	share    = "share" // 0 to 1
	plain    = ""
)

var ofJobs = []of[*api.Figures]{
	{"up", plain, "1 while the run goes on, 0 while it is started again", func(f *api.Figures) float64 {
		return number(f.Status == "running" || f.Status == "draining" || f.Status == "stopping")
	}},
	{"lag_events", events, "events that wait to be read", func(f *api.Figures) float64 { return known(f.Live.LagEvents) }},
	{"lag_seconds", seconds, "how long ago the newest event that was read was stored, where some wait", func(f *api.Figures) float64 { return known(f.Live.LagSeconds) }},
	{"in_per_second", perEvent, "events read", func(f *api.Figures) float64 { return f.Live.InPerSecond }},
	{"arriving_per_second", perEvent, "events that come to be where they are read from", func(f *api.Figures) float64 { return known(f.Live.ArrivingPerSecond) }},
	{"could_per_second", perEvent, "about what could be read if the busiest were busy all the time", func(f *api.Figures) float64 { return known(f.Live.CouldPerSecond) }},
	{"out_per_second", perRow, "rows that sinks took", func(f *api.Figures) float64 { return f.Live.OutPerSecond }},
	{"watermark_age_seconds", seconds, "how far the watermark is behind the clock", func(f *api.Figures) float64 { return known(f.Live.WatermarkAge) }},
	{"late_per_second", perEvent, "events of which a row was lost as late", func(f *api.Figures) float64 {
		return add(f.Rates.Sources, func(r api.SourceRate) float64 { return r.Late })
	}},
	{"rejected_per_second", perRow, "events and rows that were rejected", func(f *api.Figures) float64 {
		return add(f.Rates.Sources, func(r api.SourceRate) float64 { return r.Rejected }) + add(f.Rates.Steps, func(r api.StepRate) float64 { return r.Rejected })
	}},
	{"busiest_share", share, "how busy the busiest worker, lane or sink is", func(f *api.Figures) float64 { return f.Live.Busiest.Busy }},
	{"work", plain, "CPUs that the run takes, by its own account", func(f *api.Figures) float64 { return f.Rates.Work }},
	{"memory_bytes", bytes, "what the run holds in memory, by its own account", func(f *api.Figures) float64 { return float64(f.Memory) }},
	{"state_bytes", bytes, "state in memory", func(f *api.Figures) float64 {
		return add(f.Steps, func(x run.StepFigures) float64 { return float64(x.StateBytes) })
	}},
	{"checkpoint_age_seconds", seconds, "since the newest checkpoint", func(f *api.Figures) float64 { return known(f.Live.CheckpointAge) }},
	{"checkpoint_seconds", seconds, "what the newest checkpoint took", func(f *api.Figures) float64 {
		return last(f, func(c run.LastCheckpoint) float64 { return c.Seconds })
	}},
	{"checkpoint_bytes", bytes, "what the newest checkpoint has, much of it shared with others", func(f *api.Figures) float64 {
		return last(f, func(c run.LastCheckpoint) float64 { return float64(c.Bytes) })
	}},
	{"checkpoint_stall_seconds", seconds, "the longest that a lane stood still for a checkpoint, of this try", func(f *api.Figures) float64 { return f.Checkpoints.LongestStall }},
	{"checkpoints_failed", plain, "checkpoints that failed, of this try", func(f *api.Figures) float64 { return float64(f.Checkpoints.Failed) }},
	{"restarts", plain, "how often the run was started again", func(f *api.Figures) float64 { return float64(f.Restarts) }},
}

// source, stepOf and sinkOf are a part of a run with its rates.
type source struct {
	run.SourceFigures
	rate api.SourceRate
	at   time.Time
}

type stepOf struct {
	run.StepFigures
	rate api.StepRate
}

type sinkOf struct {
	run.SinkFigures
	rate api.SinkRate
}

var ofSources = []of[source]{
	{"read_per_second", perEvent, "events read", func(x source) float64 { return x.rate.Read }},
	{"bytes_per_second", perByte, "bytes of them", func(x source) float64 { return x.rate.Bytes }},
	{"arriving_per_second", perEvent, "events that come to be there", func(x source) float64 { return known(x.rate.Arriving) }},
	{"lag_events", events, "events that wait to be read", func(x source) float64 { return known(x.LagEvents) }},
	{"lag_seconds", seconds, "how long ago the newest event that was read was stored, where some wait", func(x source) float64 { return known(x.LagSeconds) }},
	{"rejected_share", share, "of its events: rejected", func(x source) float64 { return ratio(x.rate.Rejected, x.rate.Read) }},
	{"late_share", share, "of its events: a row was lost as late", func(x source) float64 { return ratio(x.rate.Late, x.rate.Read) }},
	{"watermark_age_seconds", seconds, "how far its watermark is behind the clock", func(x source) float64 {
		if w, ok := TimeOf(x.Watermark); ok {
			return max(0, x.at.Sub(w).Seconds())
		}
		return math.NaN()
	}},
	{"busy_share", share, "of the workers' time: to decode its events", func(x source) float64 { return x.rate.Busy }},
	{"blocked_share", share, "of the time: what was decoded could not be handed on", func(x source) float64 { return x.rate.Blocked }},
}

var ofSteps = []of[stepOf]{
	{"in_per_second", perRow, "rows that came to it", func(x stepOf) float64 { return x.rate.In }},
	{"out_per_second", perRow, "rows that it published", func(x stepOf) float64 { return x.rate.Out }},
	{"dropped_per_second", perRow, "rows dropped by where, or results by having", func(x stepOf) float64 { return x.rate.Dropped }},
	{"lost_share", share, "of its rows: lost as late", func(x stepOf) float64 { return ratio(x.rate.Lost, x.rate.In) }},
	{"rejected_share", share, "of its rows: rejected, null keys among them", func(x stepOf) float64 { return ratio(x.rate.Rejected, x.rate.In) }},
	{"open_windows", plain, "windows open", func(x stepOf) float64 { return float64(x.OpenWindows) }},
	{"keys", plain, "keys held", func(x stepOf) float64 { return float64(x.Keys) }},
	{"state_bytes", bytes, "state in memory", func(x stepOf) float64 { return float64(x.StateBytes) }},
	{"busy_share", share, "of the time of those who carry it out: at work for it", func(x stepOf) float64 { return x.rate.Busy }},
	{"blocked_share", share, "of that time: what it had made was not taken", func(x stepOf) float64 { return x.rate.Blocked }},
	{"skew", plain, "rows of the fullest lane against the mean of all", func(x stepOf) float64 { return skewOf(x.rate.Lanes) }},
}

var ofSinks = []of[sinkOf]{
	{"rows_per_second", perRow, "rows that it took", func(x sinkOf) float64 { return x.rate.Rows }},
	{"delivered_per_second", perRow, "rows delivered", func(x sinkOf) float64 { return x.rate.Delivered }},
	{"waiting_rows", rows, "rows taken and not delivered", func(x sinkOf) float64 { return float64(x.Waiting) }},
	{"waiting_bytes", bytes, "bytes that checkpoints hold for it", func(x sinkOf) float64 { return float64(x.WaitingBytes) }},
	{"held_up_share", share, "of the time: somebody waited for it to take rows", func(x sinkOf) float64 { return x.rate.HeldUp }},
	{"writing_share", share, "of the time: it wrote", func(x sinkOf) float64 { return x.rate.Writing }},
	{"delivering_share", share, "of the time: it delivered", func(x sinkOf) float64 { return x.rate.Delivering }},
	{"retries", plain, "what it had to try again", func(x sinkOf) float64 { return float64(x.Retries) }},
}

func number(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

// known gives a number that may not be known.
func known[T int64 | float64](v *T) float64 {
	if v == nil {
		return math.NaN()
	}
	return float64(*v)
}

// ratio gives a share of rows; of none it is not known.
func ratio(of, all float64) float64 {
	if all <= 0 {
		return math.NaN()
	}
	return min(1, of/all)
}

func add[T any](m map[string]T, of func(T) float64) (all float64) {
	for _, x := range m {
		all += of(x)
	}
	return all
}

func last(f *api.Figures, of func(run.LastCheckpoint) float64) float64 {
	if f.Checkpoints.Last == nil {
		return math.NaN()
	}
	return of(*f.Checkpoints.Last)
}

func skewOf(lanes []api.LaneRate) float64 {
	all, most := 0.0, 0.0
	for _, l := range lanes {
		all, most = all+l.In, max(most, l.In)
	}
	return ratio2(most*float64(len(lanes)), all)
}

func ratio2(a, b float64) float64 {
	if b <= 0 {
		return math.NaN()
	}
	return a / b
}

// each calls f for every figure of a job in the order of the document: those of the job, then of its sources, steps and sinks.
func each(j *job.Job, f *api.Figures, do func(name, unit, about string, value func() float64)) {
	for _, o := range ofJobs {
		do(o.name, o.unit, o.about, func() float64 { return o.value(f) })
	}
	for i := range j.Sources {
		n := j.Sources[i].Name
		for _, o := range ofSources {
			do("sources."+n+"."+o.name, o.unit, o.about, func() float64 { return o.value(source{f.Sources[n], f.Rates.Sources[n], f.At}) })
		}
	}
	for i := range j.Steps {
		n := j.Steps[i].Name
		for _, o := range ofSteps {
			do("steps."+n+"."+o.name, o.unit, o.about, func() float64 { return o.value(stepOf{f.Steps[n], f.Rates.Steps[n]}) })
		}
	}
	for i := range j.Sinks {
		n := j.Sinks[i].Name
		for _, o := range ofSinks {
			do("sinks."+n+"."+o.name, o.unit, o.about, func() float64 { return o.value(sinkOf{f.Sinks[n], f.Rates.Sinks[n]}) })
		}
	}
}

// Of lists the figures of a job.
func Of(j *job.Job) (list []Figure) {
	each(j, nil, func(name, unit, about string, _ func() float64) { list = append(list, Figure{name, unit, about}) })
	return list
}

// Values gives the figures of a job at a moment, in the order of [Of]; NaN for what is not known.
func Values(j *job.Job, f *api.Figures) (list []float64) {
	each(j, f, func(_, _, _ string, value func() float64) { list = append(list, value()) })
	return list
}

// Down gives the figures of a job whose run is being started again: that it is not up, and nothing else is known.
func Down(j *job.Job, restarts int) (list []float64) {
	each(j, nil, func(name, _, _ string, _ func() float64) {
		v := math.NaN()
		switch name {
		case "up":
			v = 0
		case "restarts":
			v = float64(restarts)
		}
		list = append(list, v)
	})
	return list
}
