package run

import (
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// Figures are a run's figures as --figures and the API give them (docs/commands.md, "Run figures").
type Figures struct {
	Job         string  `json:"job"`
	Version     int     `json:"version"` // 0: not saved in a service
	Run         int     `json:"run"`
	Status      string  `json:"status"`
	WallSeconds float64 `json:"wall_seconds"`
	// CPUSeconds and PeakMemory are of the process; WorkSeconds is the time that this run's own goroutines were at work.
	CPUSeconds  float64 `json:"cpu_seconds"`
	PeakMemory  int64   `json:"peak_memory_bytes"`
	WorkSeconds float64 `json:"work_seconds"`
	// Memory is what the run holds, about: state, events under way, references, and rows that wait for sinks.
	Memory    int64                    `json:"memory_bytes"`
	Watermark *string                  `json:"watermark"` // null before the first row, "end" past the last
	Epoch     int64                    `json:"epoch"`
	Sources   map[string]SourceFigures `json:"sources"`
	// References are what rows are looked up in.
	References map[string]ReferenceFigures `json:"references"`
	Steps      map[string]StepFigures      `json:"steps"`
	Sinks      map[string]SinkFigures      `json:"sinks"`
	// Pools are those who carry the run out, with how busy they are.
	Pools       []PoolFigures     `json:"pools"`
	Checkpoints CheckpointFigures `json:"checkpoints"`
	Restarts    int               `json:"restarts"`
}

// PoolFigures tell how busy goroutines are that do the same: `workers`, which decode and carry out what stands before
// steps with keys; `lane N of STEP, …`, each alone; and `sink NAME`, which writes.
type PoolFigures struct {
	Name      string  `json:"name"`
	Size      int     `json:"size"`
	BusyRatio float64 `json:"busy_ratio"`
}

// SourceFigures tell of a source.
type SourceFigures struct {
	Read       int64              `json:"read"`
	Bytes      int64              `json:"bytes"`
	Rejected   map[string]int64   `json:"rejected"`
	LagEvents  *int64             `json:"lag_events"`  // null where it cannot be known
	LagSeconds *float64           `json:"lag_seconds"` // how long ago the newest event that was read was stored; 0 without lag
	Watermark  *string            `json:"watermark"`
	Trouble    string             `json:"trouble,omitempty"` // what keeps it from being read
	Posts      *PostFigures       `json:"posts,omitempty"`   // of one that takes what is posted
	Partitions []PartitionFigures `json:"partitions"`
	// BusyRatio is the share of the workers' time that its events take to decode; BlockedRatio that of the time in which they could
	// not be handed on.
	BusyRatio    float64 `json:"busy_ratio"`
	BlockedRatio float64 `json:"blocked_ratio"`
	ByClock      bool    `json:"by_clock"`    // its watermark goes on by the clock, in silence
	PassedOver   int64   `json:"passed_over"` // events before the first one that a run which starts anew reads
	Late         int64   `json:"late"`        // events of which a row was lost as late, each once whatever the number of steps
}

// PostFigures tell what became of posts since the run began to take them.
type PostFigures struct {
	Taken      int64 `json:"taken"`
	Again      int64 `json:"again"`       // that were taken before, under the same key
	TurnedAway int64 `json:"turned_away"` // of which nothing was taken
	Refused    int64 `json:"refused"`     // events within the others
	Bytes      int64 `json:"bytes"`
}

// PartitionFigures tell where a partition stands: position and end in bytes for files, as offsets for
// topics.
type PartitionFigures struct {
	Name      string  `json:"name"`
	Position  int64   `json:"position"`
	End       int64   `json:"end"`
	Events    int64   `json:"events"`
	Watermark *string `json:"watermark"`
	Idle      bool    `json:"idle"`
	// LastEvent is when the last event was read; when the run began to read, where Events is 0.
	LastEvent time.Time `json:"last_event"`
	// WaitedUntil is when the watermark goes on without the partition, if nothing comes; null where it does not.
	WaitedUntil *time.Time `json:"waited_until"`
	Ended       bool       `json:"ended"`
	// DeletedAt is when the oldest event that waits to be read is deleted where it is stored, at the earliest; null where none waits, or it is not
	// known.
	DeletedAt *time.Time `json:"deleted_at"`
}

// StepFigures tell of a step.
type StepFigures struct {
	RowsIn        int64            `json:"rows_in"`
	RowsOut       int64            `json:"rows_out"`
	Used          int64            `json:"used"`
	Dropped       int64            `json:"dropped"` // of a windowed step: of made, by having
	Made          int64            `json:"made"`    // of a windowed step: result rows
	Repeats       int64            `json:"repeats"`
	Late          LateFigures      `json:"late"`
	Rejected      map[string]int64 `json:"rejected"`
	MeasureErrors int64            `json:"measure_errors"`
	LeftOut       int64            `json:"left_out"`  // values that collect had no room for
	Forgotten     int64            `json:"forgotten"` // keys that `forget` let go
	OpenWindows   int              `json:"open_windows"`
	KeptWindows   int              `json:"kept_windows"` // closed, and kept for late rows and repeats
	StateRows     int              `json:"state_rows"`
	// Watermark is the one that all lanes of a step with keys were given; null for another step. LastOut is when the step gave out
	// rows last; null for not yet.
	Watermark  *string    `json:"watermark"`
	LastOut    *time.Time `json:"last_out"`
	NextClose  *string    `json:"next_close"` // the end of the window that closes next; null for none
	Keys       int        `json:"keys"`
	StateBytes int        `json:"state_bytes"`
	// BusyRatio is the share of the time that those who carry it out are at work for it, each on average: its lanes, or the
	// workers. BlockedRatio is the share in which they could not go on, since what it had made was not taken. WorkSeconds
	// is the time of all of them together.
	BusyRatio    float64        `json:"busy_ratio"`
	BlockedRatio float64        `json:"blocked_ratio"`
	WorkSeconds  float64        `json:"work_seconds"`
	Lanes        []LaneFigures  `json:"lanes"`
	Join         *JoinFigures   `json:"join,omitempty"`   // of a join
	Lookup       *LookupFigures `json:"lookup,omitempty"` // of a step that looks up
}

// JoinFigures tell of a join; the rows of a side = matched + unmatched + late + waiting.
type JoinFigures struct {
	Pairs int64       `json:"pairs"`
	Left  SideFigures `json:"left"`
	Right SideFigures `json:"right"`
}

// SideFigures tell of a side of a join.
type SideFigures struct {
	Rows      int64 `json:"rows"`
	Matched   int64 `json:"matched"`   // that met at least one partner
	Unmatched int64 `json:"unmatched"` // that can meet none any more
	Late      int64 `json:"late"`
	Waiting   int64 `json:"waiting"` // that have met none yet
	// Kept are the rows that may meet more partners, about as of a second ago, KeptBytes those of them in memory. Heaviest are
	// the keys with most of them.
	Kept      int64       `json:"kept"`
	KeptBytes int64       `json:"kept_bytes"`
	Heaviest  []HeavyRows `json:"heaviest"`
}

// HeavyRows is a key of a join and how many rows it has there.
type HeavyRows struct {
	Key  string `json:"key"`
	Rows int64  `json:"rows"`
}

// LookupFigures tell of what was looked up: rows = found + missed + null.
type LookupFigures struct {
	Reference string   `json:"reference"`
	Found     int64    `json:"found"`
	Missed    int64    `json:"missed"` // there is no row for their key
	Null      int64    `json:"null"`   // a field that is matched is null
	Misses    []string `json:"misses"` // some keys that were missed since the start
}

// LateFigures count late rows.
type LateFigures struct {
	Lost     int64 `json:"lost"`
	Partial  int64 `json:"partial"`
	Accepted int64 `json:"accepted"`
	// MostSeconds is how late the latest of the lost was.
	MostSeconds float64 `json:"most_seconds"`
}

// LaneFigures tell of a step in one lane.
type LaneFigures struct {
	RowsIn    int64   `json:"rows_in"`
	RowsOut   int64   `json:"rows_out"`
	Keys      int64   `json:"keys"`
	BusyRatio float64 `json:"busy_ratio"`
	// Portion is that of a spread job in which the lane is, such as 2-1; empty where the run is no spread job.
	Portion string `json:"portion"`
}

// SinkFigures tell of a sink; rows = delivered + waiting.
type SinkFigures struct {
	Rows      int64 `json:"rows"`
	Delivered int64 `json:"delivered"`
	Waiting   int64 `json:"waiting"`
	// WaitingEpochs and WaitingBytes are of waiting rows that checkpoints hold already: only their delivery is behind.
	WaitingEpochs int   `json:"waiting_epochs"`
	WaitingBytes  int64 `json:"waiting_bytes"`
	// Epoch is the one that this run delivered last; 0 for none yet.
	Epoch   int64 `json:"epoch"`
	Retries int64 `json:"retries"`
	// Refused are rows, of all runs, that the place did not take for their values, and keeps with the reason; Refusal is that of the newest.
	Refused int64  `json:"refused"`
	Refusal string `json:"refusal"`
	// Trouble is what keeps it from writing.
	Trouble string `json:"trouble,omitempty"`
	// HeldUpRatio is the share of the time in which somebody waited for it to take rows, WritingRatio that in which it wrote
	// and prepared them, DeliveringRatio that in which it delivered.
	HeldUpRatio     float64 `json:"held_up_ratio"`
	WritingRatio    float64 `json:"writing_ratio"`
	DeliveringRatio float64 `json:"delivering_ratio"`
	WorkSeconds     float64 `json:"work_seconds"` // to encode and to write
	// Delays of the rows that appeared within the last minute: from their event times, and from when the events that made them were read.
	EventDelay DelayFigures `json:"event_delay"`
	ReadDelay  DelayFigures `json:"read_delay"`
}

// DelayFigures tell within how many seconds half of the rows appeared, and all but one in a hundred; null where none did.
type DelayFigures struct {
	P50 *float64 `json:"p50_seconds"`
	P99 *float64 `json:"p99_seconds"`
}

func delayFigures(d engine.Delay) DelayFigures {
	if d.P50 < 0 {
		return DelayFigures{}
	}
	p50, p99 := d.P50.Seconds(), d.P99.Seconds()
	return DelayFigures{&p50, &p99}
}

// CheckpointFigures tell of checkpoints.
type CheckpointFigures struct {
	Completed int64 `json:"completed"`
	Failed    int64 `json:"failed"`
	// Skipped were due while one was under way.
	Skipped int64 `json:"skipped"`
	// LongestStall is the longest of all that a lane stood still for one.
	LongestStall float64         `json:"longest_stall_seconds"`
	Begun        *time.Time      `json:"begun"` // when the one that is under way began; null for none
	Last         *LastCheckpoint `json:"last"`
}

// LastCheckpoint is the newest complete one.
type LastCheckpoint struct {
	Epoch        int64   `json:"epoch"`
	Seconds      float64 `json:"seconds"`
	Bytes        int64   `json:"bytes"` // of all its files, much of them shared with others
	LongestStall float64 `json:"longest_stall_seconds"`
}

func watermark(t row.Time) *string {
	s := t.String()
	switch t {
	case row.MinTime:
		return nil
	case row.MaxTime:
		s = "end"
	}
	return &s
}

// partitions adds the figures of a source's partitions, and its lag: the sum of theirs in events, the
// longest in time.
func (s *SourceFigures) partitions(source string, idle time.Duration, list []engine.PartitionFigures) {
	var events int64
	var behind time.Duration
	known := true
	for _, p := range list {
		if p.Source != source {
			continue
		}
		f := PartitionFigures{Name: p.Name, Position: p.Bytes, End: p.Size, Events: p.Events, Watermark: watermark(p.Watermark), Idle: p.Idle, Ended: p.Ended, LastEvent: p.Last.UTC()}
		if idle > 0 && p.CaughtUp && !p.Idle && !p.Ended {
			until := p.Last.Add(idle).UTC()
			f.WaitedUntil = &until
		}
		if p.Lag >= 0 { // positions are offsets then
			var at struct{ Offset int64 }
			if json.Unmarshal(p.Position, &at) == nil {
				f.Position, f.End = at.Offset, at.Offset+p.Lag
			}
			events += p.Lag
			if p.Lag > 0 && p.Stored > 0 {
				behind = max(behind, time.Since(p.Stored.Std()))
				if p.Retention > 0 {
					at := p.Stored.Std().Add(p.Retention).UTC()
					f.DeletedAt = &at
				}
			}
		}
		known = known && p.Lag >= 0
		s.PassedOver += p.PassedOver
		if p.Trouble != "" {
			s.Trouble = p.Trouble
		}
		s.Partitions = append(s.Partitions, f)
	}
	if known && len(s.Partitions) > 0 {
		seconds := behind.Seconds()
		s.LagEvents, s.LagSeconds = &events, &seconds
	}
}

// Report puts the engine's figures into the form that others read.
func Report(j *job.Job, g *engine.Graph, refs *References, f engine.Figures, status string) Figures {
	out := Figures{Job: j.Name, Status: status, WallSeconds: f.Elapsed.Seconds(), Epoch: f.Checkpoints.Epoch,
		Sources: map[string]SourceFigures{}, References: refs.Figures(), Steps: map[string]StepFigures{}, Sinks: map[string]SinkFigures{}}
	var use syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &use) == nil {
		out.CPUSeconds = time.Duration(use.Utime.Nano() + use.Stime.Nano()).Seconds()
	}
	out.PeakMemory = PeakMemory()
	share := func(d time.Duration) float64 {
		if f.Elapsed <= 0 {
			return 0
		}
		return min(1, float64(d)/float64(f.Elapsed))
	}
	var work time.Duration
	out.Memory = f.InFlight
	least := row.MaxTime
	if len(f.Sources) == 0 { // it did not begin
		least = row.MinTime
	}
	for i := range g.Sources {
		if len(f.Sources) == 0 {
			break
		}
		s := SourceFigures{Read: f.Sources[i].Read, Bytes: f.Sources[i].Bytes, Rejected: f.Sources[i].Rejected, Watermark: watermark(f.Watermarks[i]), Partitions: []PartitionFigures{}}
		if g.Sources[i].Timed() {
			least = min(least, f.Watermarks[i])
		}
		e := f.Efforts[i]
		s.ByClock = f.ByClock[i]
		s.BusyRatio, s.BlockedRatio, s.Late = share(e.Busy), share(e.Blocked), f.Sources[i].Late
		work += e.Work
		s.partitions(g.Sources[i].Name, g.Sources[i].Idle, f.Partitions)
		out.Sources[g.Sources[i].Name] = s
	}
	out.Watermark = watermark(least)
	for i, c := range f.Steps {
		s := StepFigures{RowsIn: c.In, RowsOut: c.Out, Used: c.Used, Dropped: c.Dropped, Made: c.Made, Repeats: c.Repeats, Late: LateFigures{Lost: c.Lost, Partial: c.Partial, Accepted: c.Accepted, MostSeconds: c.MostLate.Seconds()}, Rejected: c.Rejected, MeasureErrors: c.MeasureErrors, LeftOut: c.LeftOut,
			Forgotten: c.Forgotten, OpenWindows: c.OpenWindows, KeptWindows: c.KeptWindows, Keys: c.Keys, StateRows: c.StateRows, StateBytes: c.StateBytes, Watermark: watermark(c.Watermark), Lanes: []LaneFigures{}}
		if c.LastOut > row.MinTime {
			at := c.LastOut.Std().UTC()
			s.LastOut = &at
		}
		if c.NextClose != row.MaxTime {
			s.NextClose = watermark(c.NextClose)
		}
		s.BusyRatio, s.BlockedRatio, s.WorkSeconds = share(c.Busy), share(c.Blocked), c.Work.Seconds()
		work += c.Work
		out.Memory += int64(c.StateBytes)
		for _, l := range c.Lanes {
			s.Lanes = append(s.Lanes, LaneFigures{RowsIn: l.RowsIn, RowsOut: l.RowsOut, Keys: l.Keys, BusyRatio: share(l.Busy)})
		}
		s.Join, s.Lookup = joinFigures(c), lookupFigures(&g.Steps[i], c.StepCounts)
		out.Steps[g.Steps[i].Name] = s
	}
	for i, c := range f.Sinks {
		out.Sinks[g.Sinks[i].Name] = SinkFigures{Rows: c.Rows, Delivered: c.Delivered, Waiting: c.Rows - c.Delivered, WaitingEpochs: c.WaitingEpochs, WaitingBytes: c.WaitingBytes, Epoch: c.DeliveredEpoch, Retries: c.Retries, Refused: c.Refused, Refusal: c.Refusal, Trouble: c.Trouble,
			HeldUpRatio: share(c.HeldUp), WritingRatio: share(c.Writing), DeliveringRatio: share(c.Delivering), WorkSeconds: (c.Encoding + c.Writing).Seconds(), EventDelay: delayFigures(c.FromEvent), ReadDelay: delayFigures(c.FromRead)}
		work += c.Encoding // what it writes is a wait for whoever takes it
	}
	for _, r := range out.References {
		out.Memory += r.Bytes
	}
	out.WorkSeconds, out.Pools = work.Seconds(), []PoolFigures{}
	for _, p := range f.Pools {
		out.Pools = append(out.Pools, PoolFigures{Name: poolName(g, p), Size: p.Size, BusyRatio: share(p.Busy)})
	}
	out.Checkpoints = CheckpointFigures{Completed: f.Checkpoints.Completed, Failed: f.Checkpoints.Failed, Skipped: f.Checkpoints.Skipped, LongestStall: f.Checkpoints.LongestOfAll.Seconds()}
	if !f.Checkpoints.Begun.IsZero() {
		begun := f.Checkpoints.Begun.UTC()
		out.Checkpoints.Begun = &begun
	}
	if f.Checkpoints.Completed > 0 {
		out.Checkpoints.Last = &LastCheckpoint{Epoch: f.Checkpoints.Epoch, Seconds: f.Checkpoints.Seconds, Bytes: f.Checkpoints.Bytes, LongestStall: f.Checkpoints.LongestStall.Seconds()}
	}
	return out
}

// poolName names whoever carries out a part of a run.
func poolName(g *engine.Graph, p engine.Pool) string {
	switch p.Stage {
	case engine.WorkerPool:
		return "workers"
	case engine.SinkPool:
		return "sink " + g.Sinks[p.Lane].Name
	}
	var steps []string
	for _, i := range p.Steps {
		steps = append(steps, g.Steps[i].Name)
	}
	return fmt.Sprintf("lane %d of %s", p.Lane, strings.Join(steps, ", "))
}

// joinFigures gives those of a join; nil for another step.
func joinFigures(c engine.StepFigures) *JoinFigures {
	counts := c.Sides
	if len(counts) != 2 {
		return nil
	}
	side := func(n int) SideFigures {
		s := counts[n]
		out := SideFigures{Rows: s.Rows, Matched: s.Matched, Unmatched: s.Unmatched, Late: s.Late, Waiting: s.Waiting(), Heaviest: []HeavyRows{}}
		if len(c.Kept) == 2 {
			h := c.Kept[n]
			out.Kept, out.KeptBytes = h.Rows, h.Bytes
			for _, k := range h.Heaviest {
				out.Heaviest = append(out.Heaviest, HeavyRows(k))
			}
		}
		return out
	}
	return &JoinFigures{Pairs: c.Pairs, Left: side(0), Right: side(1)}
}

// LookedUp gives the reference that a step looks up in, and some keys that were missed; an empty name for another step.
func LookedUp(s *engine.Step) (reference string, misses []string) {
	if d, ok := s.Keyed.(*step.AsOf); ok {
		return d.Reference, d.Misses.Keys()
	}
	if s.Stateless != nil && s.Stateless.Lookup != nil {
		return s.Stateless.Lookup.Reference, s.Stateless.Lookup.Misses.Keys()
	}
	return "", nil
}

// lookupFigures gives those of a step that looks up; nil for another step.
func lookupFigures(s *engine.Step, c engine.StepCounts) *LookupFigures {
	name, misses := LookedUp(s)
	if name == "" {
		return nil
	}
	return &LookupFigures{Reference: name, Found: c.Lookup.Found, Missed: c.Lookup.Missed, Null: c.Lookup.Null, Misses: misses}
}

// PeakMemory is the greatest resident size of the process so far, in bytes. The kernel's own high-water
// mark is preferred: rusage may carry that of the program before exec.
func PeakMemory() int64 {
	text, err := os.ReadFile("/proc/self/status")
	if err == nil {
		for line := range strings.Lines(string(text)) {
			if v, ok := strings.CutPrefix(line, "VmHWM:"); ok {
				if kb, err := strconv.ParseInt(strings.Fields(v)[0], 10, 64); err == nil {
					return kb << 10
				}
			}
		}
	}
	var use syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &use) != nil {
		return 0
	}
	return use.Maxrss << 10
}
