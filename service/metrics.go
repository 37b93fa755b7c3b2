package service

import (
	"github.com/prometheus/client_golang/prometheus"

	"undertide/api"
	"undertide/figures"
	"undertide/run"
)

// collector gives the figures of all runs in the Prometheus text format (docs/service.md, "Metrics").
type collector struct{ s *Service }

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("undertide_"+name, help, labels, nil)
}

var (
	upDesc          = desc("job_up", "Whether the job's run goes on: 1 running, 0 not.", "job", "status")
	readDesc        = desc("source_events_total", "Events read.", "job", "source")
	readBytesDesc   = desc("source_bytes_total", "Bytes of events read.", "job", "source")
	lagDesc         = desc("source_lag_events", "Events that wait to be read.", "job", "source")
	lagTimeDesc     = desc("source_lag_seconds", "How long ago the newest event read was stored, where some wait.", "job", "source")
	rejectedDesc    = desc("rejected_total", "Events and rows rejected, by reason.", "job", "at", "reason")
	rowsInDesc      = desc("step_rows_in_total", "Rows that came to a step.", "job", "step")
	rowsOutDesc     = desc("step_rows_out_total", "Rows that a step published.", "job", "step")
	droppedDesc     = desc("step_rows_dropped_total", "Rows dropped by where.", "job", "step")
	lateDesc        = desc("step_rows_lost_total", "Late rows that went into no window.", "job", "step")
	windowsDesc     = desc("step_open_windows", "Windows open.", "job", "step")
	keysDesc        = desc("step_keys", "Keys held.", "job", "step")
	stateDesc       = desc("step_state_bytes", "State held, about.", "job", "step")
	busyDesc        = desc("step_busy_ratio", "Share of its lanes' time at work, over the last seconds.", "job", "step")
	blockedDesc     = desc("step_blocked_ratio", "Share of its lanes' time waiting for sinks, over the last seconds.", "job", "step")
	pairsDesc       = desc("join_pairs_total", "Pairs that a join made.", "job", "step")
	sideDesc        = desc("join_rows_total", "Rows of a side of a join, by what became of them: matched, unmatched, late.", "job", "step", "side", "fate")
	waitingRowsDesc = desc("join_rows_waiting", "Rows of a side of a join that have met none yet.", "job", "step", "side")
	keptRowsDesc    = desc("join_rows_kept", "Rows of a side of a join that may meet more partners.", "job", "step", "side")
	keptBytesDesc   = desc("join_kept_bytes", "Memory of the rows of a side of a join, about.", "job", "step", "side")
	lookupDesc      = desc("lookup_rows_total", "Rows that were looked up, by outcome: found, missed, null.", "job", "step", "reference", "outcome")
	refRowsDesc     = desc("reference_rows", "Rows of a reference.", "job", "reference")
	refBytesDesc    = desc("reference_bytes", "Memory of a reference, about.", "job", "reference")
	refAgeDesc      = desc("reference_loaded_timestamp_seconds", "When a reference was last read, or its newest row came.", "job", "reference")
	refFailedDesc   = desc("reference_failures_total", "Readings of a reference that failed; its rows of before stay.", "job", "reference")
	sinkDesc        = desc("sink_rows_total", "Rows that a sink took.", "job", "sink")
	deliveredDesc   = desc("sink_rows_delivered_total", "Rows delivered.", "job", "sink")
	undeliveredDesc = desc("sink_undelivered_bytes", "Bytes that checkpoints hold and that wait for the sink.", "job", "sink")
	retriesDesc     = desc("sink_retries_total", "What a sink had to try again.", "job", "sink")
	refusedDesc     = desc("sink_rows_refused_total", "Rows that the place did not take for their values, of all runs.", "job", "sink")
	postsDesc       = desc("posts_total", "Posts to a source, by outcome: taken, again, turned_away.", "job", "source", "outcome")
	postedDesc      = desc("posted_events_total", "Events that were posted to a source, by outcome: taken, refused.", "job", "source", "outcome")
	postedBytesDesc = desc("posted_bytes_total", "Bytes that were posted to a source, unpacked.", "job", "source")
	watermarkDesc   = desc("watermark_timestamp_seconds", "The run's watermark.", "job")
	checkpointDesc  = desc("checkpoint_age_seconds", "Time since the newest checkpoint.", "job")
	completedDesc   = desc("checkpoints_total", "Checkpoints of this try, by outcome.", "job", "outcome")
	heldUpDesc      = desc("sink_held_up_ratio", "Share of the last seconds in which somebody waited for a sink to take rows.", "job", "sink")
	writingDesc     = desc("sink_writing_ratio", "Share of the last seconds in which a sink wrote.", "job", "sink")
	eventDelayDesc  = desc("sink_event_delay_seconds", "How long after their event times rows appeared, over the last minute: a share of them, 0.5 or 0.99, within so long.", "job", "sink", "share")
	readDelayDesc   = desc("sink_read_delay_seconds", "How long after the events that made them were read rows appeared, over the last minute: a share of them, 0.5 or 0.99, within so long.", "job", "sink", "share")
	keptDesc        = desc("step_kept_windows", "Windows that are closed, and kept for late rows and repeats.", "job", "step")
	stateRowsDesc   = desc("step_state_rows", "Rows of state.", "job", "step")
	forgottenDesc   = desc("step_keys_forgotten_total", "Keys that forget has let go.", "job", "step")
	stepMarkDesc    = desc("step_watermark_timestamp_seconds", "The watermark that all lanes of a step with keys were given.", "job", "step")
	lastOutDesc     = desc("step_last_row_timestamp_seconds", "When a step published a row last.", "job", "step")
	lateEventsDesc  = desc("source_late_events_total", "Events of which a row was lost as late, each once.", "job", "source")
	workDesc        = desc("work_ratio", "CPUs that the run takes over the last seconds, by its own account.", "job")
	memoryDesc      = desc("memory_bytes", "What the run holds in memory, by its own account.", "job")
	arrivingDesc    = desc("source_arriving_events_per_second", "Events that come to be where a source reads.", "job", "source")
	stallDesc       = desc("checkpoint_longest_stall_seconds", "The longest that a lane stood still for a checkpoint, of this try.", "job")
	alarmDesc       = desc("alarm_on", "Whether an alarm of the job is on.", "job", "alarm")
	restartsDesc    = desc("restarts_total", "Restarts of the run.", "job")
	databaseDesc    = desc("database_up", "Whether the database answers.")
	nodeDesc        = desc("node_up", "Whether a node that shares the database was heard lately, as this one knows.", "node")
	nodeJobsDesc    = desc("node_jobs", "Jobs that a node carries out, as this one knows.", "node")
	waitingDesc     = desc("records_waiting", "Records that wait to be written to the database.")
)

// Describe leaves the collector unchecked: what there is depends on the jobs.
func (c collector) Describe(chan<- *prometheus.Desc) {}

func (c collector) Collect(out chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	count := func(d *prometheus.Desc, v int64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	why, _, waiting := c.s.db.State()
	gauge(databaseDesc, number1(why == ""))
	gauge(waitingDesc, float64(waiting))
	for _, n := range c.s.viewNodes() {
		gauge(nodeDesc, number1(n.State != "away"), n.Name)
		gauge(nodeJobsDesc, float64(len(n.Jobs)), n.Name)
	}
	for _, j := range c.s.viewJobs() {
		if j.Node != "" && j.Node != c.s.opt.Node { // that one tells of it
			continue
		}
		gauge(upDesc, number1(j.Status == running), j.Name, j.Status)
		for _, name := range j.Alarms {
			gauge(alarmDesc, 1, j.Name, name)
		}
		e, err := c.s.find(j.Name)
		if err != nil {
			continue // deleted meanwhile
		}
		r, _ := c.s.newestRun(e)
		if r == nil {
			continue
		}
		for i := range r.job.Sources {
			source := r.job.Sources[i].Name
			if t := c.s.takerAt(j.Name + "/" + source); t != nil {
				n := t.Counts()
				count(postsDesc, n.Taken, j.Name, source, "taken")
				count(postsDesc, n.Again, j.Name, source, "again")
				count(postsDesc, n.TurnedAway, j.Name, source, "turned_away")
				count(postedDesc, n.Events, j.Name, source, "taken")
				count(postedDesc, n.Refused, j.Name, source, "refused")
				count(postedBytesDesc, n.Bytes, j.Name, source)
			}
		}
		if f := r.figures(); f != nil {
			collectRun(f, gauge, count)
		}
	}
}

func number1(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func collectRun(f *api.Figures, gauge func(*prometheus.Desc, float64, ...string), count func(*prometheus.Desc, int64, ...string)) {
	job := f.Job
	count(restartsDesc, int64(f.Restarts), job)
	if t, ok := figures.TimeOf(f.Watermark); ok {
		gauge(watermarkDesc, float64(t.UnixMicro())/1e6, job)
	}
	if f.Live.CheckpointAge != nil {
		gauge(checkpointDesc, *f.Live.CheckpointAge, job)
	}
	count(completedDesc, f.Checkpoints.Completed, job, "completed")
	count(completedDesc, f.Checkpoints.Failed, job, "failed")
	count(completedDesc, f.Checkpoints.Skipped, job, "skipped")
	gauge(workDesc, f.Rates.Work, job)
	gauge(memoryDesc, float64(f.Memory), job)
	gauge(stallDesc, f.Checkpoints.LongestStall, job)
	for name, s := range f.Sources {
		count(lateEventsDesc, s.Late, job, name)
		if a := f.Rates.Sources[name].Arriving; a != nil {
			gauge(arrivingDesc, *a, job, name)
		}
		count(readDesc, s.Read, job, name)
		count(readBytesDesc, s.Bytes, job, name)
		if s.LagEvents != nil {
			gauge(lagDesc, float64(*s.LagEvents), job, name)
			gauge(lagTimeDesc, *s.LagSeconds, job, name)
		}
		for reason, n := range s.Rejected {
			count(rejectedDesc, n, job, name, reason)
		}
	}
	for name, s := range f.Steps {
		count(rowsInDesc, s.RowsIn, job, name)
		count(rowsOutDesc, s.RowsOut, job, name)
		count(droppedDesc, s.Dropped, job, name)
		count(lateDesc, s.Late.Lost, job, name)
		gauge(windowsDesc, float64(s.OpenWindows), job, name)
		gauge(keptDesc, float64(s.KeptWindows), job, name)
		gauge(keysDesc, float64(s.Keys), job, name)
		count(forgottenDesc, s.Forgotten, job, name)
		gauge(stateRowsDesc, float64(s.StateRows), job, name)
		if t, ok := figures.TimeOf(s.Watermark); ok {
			gauge(stepMarkDesc, float64(t.UnixMicro())/1e6, job, name)
		}
		if s.LastOut != nil {
			gauge(lastOutDesc, float64(s.LastOut.UnixMicro())/1e6, job, name)
		}
		gauge(stateDesc, float64(s.StateBytes), job, name)
		gauge(busyDesc, f.Rates.Steps[name].Busy, job, name)
		gauge(blockedDesc, f.Rates.Steps[name].Blocked, job, name)
		if j := s.Join; j != nil {
			count(pairsDesc, j.Pairs, job, name)
			for side, x := range map[string]run.SideFigures{"left": j.Left, "right": j.Right} {
				count(sideDesc, x.Matched, job, name, side, "matched")
				count(sideDesc, x.Unmatched, job, name, side, "unmatched")
				count(sideDesc, x.Late, job, name, side, "late")
				gauge(waitingRowsDesc, float64(x.Waiting), job, name, side)
				gauge(keptRowsDesc, float64(x.Kept), job, name, side)
				gauge(keptBytesDesc, float64(x.KeptBytes), job, name, side)
			}
		}
		if l := s.Lookup; l != nil {
			count(lookupDesc, l.Found, job, name, l.Reference, "found")
			count(lookupDesc, l.Missed, job, name, l.Reference, "missed")
			count(lookupDesc, l.Null, job, name, l.Reference, "null")
		}
		for reason, n := range s.Rejected {
			count(rejectedDesc, n, job, name, reason)
		}
	}
	for name, r := range f.References {
		gauge(refRowsDesc, float64(r.Rows), job, name)
		gauge(refBytesDesc, float64(r.Bytes), job, name)
		gauge(refAgeDesc, float64(r.Loaded.UnixMicro())/1e6, job, name)
		count(refFailedDesc, r.Failed, job, name)
		count(rejectedDesc, r.Rejected-r.Unkeyed, job, name, "malformed")
		count(rejectedDesc, r.Unkeyed, job, name, "null key")
	}
	for name, s := range f.Sinks {
		gauge(heldUpDesc, f.Rates.Sinks[name].HeldUp, job, name)
		gauge(writingDesc, f.Rates.Sinks[name].Writing, job, name)
		count(sinkDesc, s.Rows, job, name)
		count(deliveredDesc, s.Delivered, job, name)
		gauge(undeliveredDesc, float64(s.WaitingBytes), job, name)
		count(retriesDesc, s.Retries, job, name)
		count(refusedDesc, s.Refused, job, name)
		for d, delay := range map[*prometheus.Desc]run.DelayFigures{eventDelayDesc: s.EventDelay, readDelayDesc: s.ReadDelay} {
			if delay.P50 != nil {
				gauge(d, *delay.P50, job, name, "0.5")
				gauge(d, *delay.P99, job, name, "0.99")
			}
		}
	}
}
