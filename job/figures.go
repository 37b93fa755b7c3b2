package job

// Figure is one number of a job that is kept over time, and that alarms ask about (docs/figures.md, "Names").
type Figure struct {
	Name  string // lag_seconds, steps.minute.lost_ratio
	Unit  string // events, rows, bytes, seconds, ratio (0 to 1), or these a second; empty for a plain number
	About string
}

// The figures of a job as a whole, and those of each of its sources, steps and sinks.
var (
	OfJob = []Figure{
		{"up", "", "1 while the run goes on, 0 while it is started"},
		{"lag_events", "events", "events that wait to be read"},
		{"lag_seconds", "seconds", "how long ago the newest event that was read was stored, where some wait"},
		{"in_per_second", "events/s", "events read"},
		{"arriving_per_second", "events/s", "events that come to be where they are read from"},
		{"could_per_second", "events/s", "about what could be read if the busiest were busy all the time"},
		{"out_per_second", "rows/s", "rows that sinks took"},
		{"watermark_age_seconds", "seconds", "how far the watermark is behind the clock"},
		{"event_delay_p99_seconds", "seconds", "how long after their event times rows appear, all but one in a hundred, of the slowest sink"},
		{"late_per_second", "events/s", "events of which a row was lost as late"},
		{"rejected_per_second", "rows/s", "events and rows that were rejected"},
		{"busiest_ratio", "ratio", "how busy the busiest worker, lane or sink is"},
		{"work", "", "CPUs that the run takes, by its own account"},
		{"memory_bytes", "bytes", "what the run holds in memory, by its own account"},
		{"state_bytes", "bytes", "state in memory"},
		{"checkpoint_age_seconds", "seconds", "since the newest checkpoint"},
		{"checkpoint_seconds", "seconds", "what the newest checkpoint took"},
		{"checkpoint_bytes", "bytes", "what the newest checkpoint has, much of it shared with others"},
		{"checkpoint_stall_seconds", "seconds", "the longest that a lane stood still for a checkpoint, of this try"},
		{"checkpoints_failed", "", "checkpoints that failed, of all tries of this run since the service started"},
		{"checkpoint_every_seconds", "seconds", "how often a checkpoint is due"},
		{"checkpoints_failed_running", "", "checkpoints that failed in a row"},
		{"restarts", "", "how often the run was started again"},
		{"restarts_lately", "", "of these the ones of the last ten minutes"},
		{"failed", "", "1 where the run has failed and is not started again"},
		{"lag_growing", "", "1 while the lag grows"},
		{"rejected_ratio", "ratio", "of the newest 1,000 rows or more of a source or step: rejected, the most of all"},
		{"skew", "", "rows of the fullest lane against the mean of all, the most of all steps"},
		{"memory_ratio", "ratio", "of the memory that state may take"},
		{"cpu_ratio", "ratio", "of the machine's CPUs that the run takes"},
		{"retention_left_seconds", "seconds", "until the oldest unread event is deleted, at the earliest"},
		{"refreshes_missed", "", "how many refreshes a reference is old, the most of all"},
	}
	OfSource = []Figure{
		{"read_per_second", "events/s", "events read"},
		{"bytes_per_second", "bytes/s", "bytes of them"},
		{"arriving_per_second", "events/s", "events that come to be there"},
		{"lag_events", "events", "events that wait to be read"},
		{"lag_seconds", "seconds", "how long ago the newest event that was read was stored, where some wait"},
		{"rejected_ratio", "ratio", "of its events: rejected"},
		{"late_ratio", "ratio", "of its events: a row was lost as late"},
		{"watermark_age_seconds", "seconds", "how far its watermark is behind the clock"},
		{"busy_ratio", "ratio", "of the workers' time: to decode its events"},
		{"blocked_ratio", "ratio", "of the time: what was decoded could not be handed on"},
	}
	OfStep = []Figure{
		{"in_per_second", "rows/s", "rows that came to it"},
		{"out_per_second", "rows/s", "rows that it published"},
		{"dropped_per_second", "rows/s", "rows dropped by where, or results by having"},
		{"lost_ratio", "ratio", "of its rows: lost as late"},
		{"rejected_ratio", "ratio", "of its rows: rejected, null keys among them"},
		{"watermark_age_seconds", "seconds", "how far its watermark is behind the clock, where it has keys"},
		{"silent_seconds", "seconds", "since it published a row"},
		{"open_windows", "", "windows open"},
		{"kept_windows", "", "windows that are closed, and kept for late rows and repeats"},
		{"keys", "", "keys held"},
		{"forgotten", "", "keys that `forget` has let go"},
		{"state_rows", "rows", "rows of state, also those that are not in memory"},
		{"state_bytes", "bytes", "state in memory"},
		{"busy_ratio", "ratio", "of the time of those who carry it out: at work for it"},
		{"blocked_ratio", "ratio", "of that time: what it had made was not taken"},
		{"skew", "", "rows of the fullest lane against the mean of all"},
	}
	OfSink = []Figure{
		{"rows_per_second", "rows/s", "rows that it took"},
		{"delivered_per_second", "rows/s", "rows delivered"},
		{"waiting_rows", "rows", "rows taken and not delivered"},
		{"waiting_bytes", "bytes", "bytes that checkpoints hold for it"},
		{"held_up_ratio", "ratio", "of the time: somebody waited for it to take rows"},
		{"writing_ratio", "ratio", "of the time: it wrote"},
		{"delivering_ratio", "ratio", "of the time: it delivered"},
		{"event_delay_p50_seconds", "seconds", "how long after their event times rows appear: half of them"},
		{"event_delay_p99_seconds", "seconds", "the same: all but one in a hundred"},
		{"read_delay_p50_seconds", "seconds", "how long after the events that made them were read rows appear: half of them"},
		{"read_delay_p99_seconds", "seconds", "the same: all but one in a hundred"},
		{"retries", "", "what it had to try again"},
	}
)

// Figures lists those of the job, then of its sources, steps and sinks in the order of the document.
func (j *Job) Figures() []Figure {
	list := append([]Figure(nil), OfJob...)
	of := func(kind, name string, each []Figure) {
		for _, f := range each {
			f.Name = kind + "." + name + "." + f.Name
			list = append(list, f)
		}
	}
	for i := range j.Sources {
		of("sources", j.Sources[i].Name, OfSource)
	}
	for i := range j.Steps {
		of("steps", j.Steps[i].Name, OfStep)
	}
	for i := range j.Sinks {
		of("sinks", j.Sinks[i].Name, OfSink)
	}
	return list
}
