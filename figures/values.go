package figures

import (
	"cmp"
	"math"
	"runtime"
	"time"

	"undertide/api"
	"undertide/job"
	"undertide/run"
)

// How each figure of job.OfJob and its like is found, by name; NaN where it is not known.
var ofJobs = map[string]func(*api.Figures) float64{
	"up": func(f *api.Figures) float64 {
		return number(f.Status == "running" || f.Status == "draining" || f.Status == "stopping")
	},
	"lag_events":            func(f *api.Figures) float64 { return known(f.Live.LagEvents) },
	"lag_seconds":           func(f *api.Figures) float64 { return known(f.Live.LagSeconds) },
	"in_per_second":         func(f *api.Figures) float64 { return f.Live.InPerSecond },
	"arriving_per_second":   func(f *api.Figures) float64 { return known(f.Live.ArrivingPerSecond) },
	"could_per_second":      func(f *api.Figures) float64 { return known(f.Live.CouldPerSecond) },
	"out_per_second":        func(f *api.Figures) float64 { return f.Live.OutPerSecond },
	"watermark_age_seconds": func(f *api.Figures) float64 { return known(f.Live.WatermarkAge) },
	"event_delay_p99_seconds": func(f *api.Figures) float64 {
		most := math.NaN()
		for _, s := range f.Sinks {
			if d := known(s.EventDelay.P99); !(most >= d) && !math.IsNaN(d) {
				most = d
			}
		}
		return most
	},
	"late_per_second": func(f *api.Figures) float64 {
		return add(f.Rates.Sources, func(r api.SourceRate) float64 { return r.Late })
	},
	"rejected_per_second": func(f *api.Figures) float64 {
		return add(f.Rates.Sources, func(r api.SourceRate) float64 { return r.Rejected }) + add(f.Rates.Steps, func(r api.StepRate) float64 { return r.Rejected })
	},
	"busiest_ratio": func(f *api.Figures) float64 { return f.Live.Busiest.Busy },
	"work":          func(f *api.Figures) float64 { return f.Rates.Work },
	"memory_bytes":  func(f *api.Figures) float64 { return float64(f.Memory) },
	"state_bytes": func(f *api.Figures) float64 {
		return add(f.Steps, func(x run.StepFigures) float64 { return float64(x.StateBytes) })
	},
	"checkpoint_age_seconds": func(f *api.Figures) float64 { return known(f.Live.CheckpointAge) },
	"checkpoint_seconds": func(f *api.Figures) float64 {
		return last(f, func(c run.LastCheckpoint) float64 { return c.Seconds })
	},
	"checkpoint_bytes": func(f *api.Figures) float64 {
		return last(f, func(c run.LastCheckpoint) float64 { return float64(c.Bytes) })
	},
	"checkpoint_stall_seconds":   func(f *api.Figures) float64 { return f.Checkpoints.LongestStall },
	"checkpoints_failed":         func(f *api.Figures) float64 { return float64(f.Checkpoints.Failed) },
	"checkpoint_every_seconds":   func(f *api.Figures) float64 { return f.Live.CheckpointEvery },
	"checkpoints_failed_running": func(f *api.Figures) float64 { return float64(f.Live.CheckpointsFailedRunning) },
	"restarts_lately":            func(f *api.Figures) float64 { return float64(f.Live.RestartsLately) },
	"failed":                     func(f *api.Figures) float64 { return number(f.Status == "failed") },
	"lag_growing": func(f *api.Figures) float64 {
		if f.Live.LagEvents == nil {
			return math.NaN()
		}
		return number(f.Live.LagTrend == "growing")
	},
	"rejected_ratio":         func(f *api.Figures) float64 { return known(f.Live.RejectedRatio) },
	"memory_ratio":           func(f *api.Figures) float64 { return known(f.Live.MemoryRatio) },
	"cpu_ratio":              func(f *api.Figures) float64 { return f.Rates.Work / float64(cmp.Or(f.Live.CPUs, runtime.NumCPU())) },
	"retention_left_seconds": func(f *api.Figures) float64 { return known(f.Live.RetentionLeft) },
	"refreshes_missed":       func(f *api.Figures) float64 { return known(f.Live.RefreshesMissed) },
	"skew": func(f *api.Figures) float64 {
		most := math.NaN()
		for _, r := range f.Rates.Steps {
			if s := skewOf(r.Lanes); r.In >= enoughRows && !(most >= s) {
				most = s
			}
		}
		return most
	},
	"restarts": func(f *api.Figures) float64 { return float64(f.Restarts) },
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
	at   time.Time
}

type sinkOf struct {
	run.SinkFigures
	rate api.SinkRate
}

var ofSources = map[string]func(source) float64{
	"read_per_second":       func(x source) float64 { return x.rate.Read },
	"bytes_per_second":      func(x source) float64 { return x.rate.Bytes },
	"arriving_per_second":   func(x source) float64 { return known(x.rate.Arriving) },
	"lag_events":            func(x source) float64 { return known(x.LagEvents) },
	"lag_seconds":           func(x source) float64 { return known(x.LagSeconds) },
	"rejected_ratio":        func(x source) float64 { return ratio(x.rate.Rejected, x.rate.Read) },
	"late_ratio":            func(x source) float64 { return ratio(x.rate.Late, x.rate.Read) },
	"watermark_age_seconds": func(x source) float64 { return age(x.Watermark, x.at) },
	"busy_ratio":            func(x source) float64 { return x.rate.Busy },
	"blocked_ratio":         func(x source) float64 { return x.rate.Blocked },
}

var ofSteps = map[string]func(stepOf) float64{
	"in_per_second":         func(x stepOf) float64 { return x.rate.In },
	"out_per_second":        func(x stepOf) float64 { return x.rate.Out },
	"dropped_per_second":    func(x stepOf) float64 { return x.rate.Dropped },
	"lost_ratio":            func(x stepOf) float64 { return ratio(x.rate.Lost, x.rate.In) },
	"rejected_ratio":        func(x stepOf) float64 { return ratio(x.rate.Rejected, x.rate.In) },
	"watermark_age_seconds": func(x stepOf) float64 { return age(x.Watermark, x.at) },
	"silent_seconds": func(x stepOf) float64 {
		if x.LastOut == nil {
			return math.NaN()
		}
		return max(0, x.at.Sub(*x.LastOut).Seconds())
	},
	"open_windows":  func(x stepOf) float64 { return float64(x.OpenWindows) },
	"kept_windows":  func(x stepOf) float64 { return float64(x.KeptWindows) },
	"keys":          func(x stepOf) float64 { return float64(x.Keys) },
	"forgotten":     func(x stepOf) float64 { return float64(x.Forgotten) },
	"state_rows":    func(x stepOf) float64 { return float64(x.StateRows) },
	"state_bytes":   func(x stepOf) float64 { return float64(x.StateBytes) },
	"busy_ratio":    func(x stepOf) float64 { return x.rate.Busy },
	"blocked_ratio": func(x stepOf) float64 { return x.rate.Blocked },
	"skew":          func(x stepOf) float64 { return skewOf(x.rate.Lanes) },
}

var ofSinks = map[string]func(sinkOf) float64{
	"rows_per_second":         func(x sinkOf) float64 { return x.rate.Rows },
	"delivered_per_second":    func(x sinkOf) float64 { return x.rate.Delivered },
	"waiting_rows":            func(x sinkOf) float64 { return float64(x.Waiting) },
	"waiting_bytes":           func(x sinkOf) float64 { return float64(x.WaitingBytes) },
	"held_up_ratio":           func(x sinkOf) float64 { return x.rate.HeldUp },
	"writing_ratio":           func(x sinkOf) float64 { return x.rate.Writing },
	"delivering_ratio":        func(x sinkOf) float64 { return x.rate.Delivering },
	"event_delay_p50_seconds": func(x sinkOf) float64 { return known(x.EventDelay.P50) },
	"event_delay_p99_seconds": func(x sinkOf) float64 { return known(x.EventDelay.P99) },
	"read_delay_p50_seconds":  func(x sinkOf) float64 { return known(x.ReadDelay.P50) },
	"read_delay_p99_seconds":  func(x sinkOf) float64 { return known(x.ReadDelay.P99) },
	"retries":                 func(x sinkOf) float64 { return float64(x.Retries) },
}

// age is how far a watermark is behind the clock; one at the end has none.
func age(watermark *string, now time.Time) float64 {
	if w, ok := TimeOf(watermark); ok {
		return max(0, now.Sub(w).Seconds())
	}
	return math.NaN()
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
func ratio(of, all float64) float64 { return min(1, against(of, all)) }

// against gives one number in terms of another; of 0 it is not known.
func against(a, b float64) float64 {
	if b <= 0 {
		return math.NaN()
	}
	return a / b
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
	return against(most*float64(len(lanes)), all)
}

// Values gives the figures of a job at a moment, in the order of [job.Job.Figures]; NaN for what is not known.
func Values(j *job.Job, f *api.Figures) (list []float64) {
	for _, o := range job.OfJob {
		list = append(list, ofJobs[o.Name](f))
	}
	for i := range j.Sources {
		n := j.Sources[i].Name
		x := source{f.Sources[n], f.Rates.Sources[n], f.At}
		for _, o := range job.OfSource {
			list = append(list, ofSources[o.Name](x))
		}
	}
	for i := range j.Steps {
		n := j.Steps[i].Name
		x := stepOf{f.Steps[n], f.Rates.Steps[n], f.At}
		for _, o := range job.OfStep {
			list = append(list, ofSteps[o.Name](x))
		}
	}
	for i := range j.Sinks {
		n := j.Sinks[i].Name
		x := sinkOf{f.Sinks[n], f.Rates.Sinks[n]}
		for _, o := range job.OfSink {
			list = append(list, ofSinks[o.Name](x))
		}
	}
	return list
}

// NotUp is what is known of a run that does not run: it is started again, or has failed.
type NotUp struct {
	Restarts, RestartsLately, CheckpointsFailedRunning int
	CheckpointsFailed                                  int64
	Failed                                             bool
}

// Down gives the figures of a job whose run does not run: that it is not up, and little else is known.
func Down(j *job.Job, down NotUp) (list []float64) {
	for _, f := range j.Figures() {
		v := math.NaN()
		switch f.Name {
		case "up":
			v = 0
		case "restarts":
			v = float64(down.Restarts)
		case "restarts_lately":
			v = float64(down.RestartsLately)
		case "failed":
			v = number(down.Failed)
		case "checkpoints_failed":
			v = float64(down.CheckpointsFailed)
		case "checkpoints_failed_running":
			v = float64(down.CheckpointsFailedRunning)
		}
		list = append(list, v)
	}
	return list
}
