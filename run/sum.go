package run

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"undertide/job"
)

// Sum gives the figures of a spread job: those of its portions together, by name, of what stands in the document; what crosses between them is left out. Counts and rates
// add up; of watermarks, and of whatever closes next, the least counts. Shares of time are means, and lanes and pools stand one behind the other, in the order of the portions' names.
func Sum(j *job.Job, portions map[string]Figures) Figures {
	out := Figures{Job: j.Name, Sources: map[string]SourceFigures{}, References: map[string]ReferenceFigures{}, Steps: map[string]StepFigures{}, Sinks: map[string]SinkFigures{}, Pools: []PoolFigures{}}
	names := slices.Sorted(maps.Keys(portions))
	for _, name := range names {
		f := portions[name]
		out.WallSeconds, out.CPUSeconds, out.PeakMemory = max(out.WallSeconds, f.WallSeconds), max(out.CPUSeconds, f.CPUSeconds), max(out.PeakMemory, f.PeakMemory)
		out.WorkSeconds += f.WorkSeconds
		out.Memory += f.Memory
		out.Epoch = max(out.Epoch, f.Epoch)
		for _, p := range f.Pools {
			p.Name = job.PortionOf(name) + " " + p.Name
			out.Pools = append(out.Pools, p)
		}
		c := &out.Checkpoints
		c.Completed, c.Failed, c.Skipped, c.LongestStall = c.Completed+f.Checkpoints.Completed, c.Failed+f.Checkpoints.Failed, c.Skipped+f.Checkpoints.Skipped, max(c.LongestStall, f.Checkpoints.LongestStall)
		if l := f.Checkpoints.Last; l != nil {
			sum := LastCheckpoint{}
			if c.Last != nil {
				sum = *c.Last
			}
			c.Last = &LastCheckpoint{Epoch: max(sum.Epoch, l.Epoch), Seconds: max(sum.Seconds, l.Seconds), Bytes: sum.Bytes + l.Bytes, LongestStall: max(sum.LongestStall, l.LongestStall)}
		}
		for name, r := range f.References {
			if was, ok := out.References[name]; !ok || r.Loaded.Before(was.Loaded) {
				out.References[name] = r
			}
		}
	}
	for i := range j.Sources {
		name := j.Sources[i].Name
		out.Sources[name] = sumOf(names, portions, func(f Figures) (SourceFigures, bool) { s, ok := f.Sources[name]; return s, ok }, addSource)
	}
	if parts, err := j.Parts(); err == nil { // else its document would have a fault
		for i := range parts.Crossings { // rows that are late behind a crossing are of the source that they come from
			x := &parts.Crossings[i]
			name := j.Sources[j.SourceOf(x)].Name
			s := out.Sources[name]
			for _, f := range portions {
				s.Late += f.Sources[x.Name].Late
			}
			out.Sources[name] = s
		}
	}
	for i := range j.Steps {
		name := j.Steps[i].Name
		out.Steps[name] = sumOf(names, portions, func(f Figures) (StepFigures, bool) {
			s, ok := f.Steps[name]
			s.Lanes = slices.Clone(s.Lanes)
			for l := range s.Lanes {
				s.Lanes[l].Portion = job.PortionOf(f.Job)
			}
			return s, ok
		}, addStep)
	}
	for i := range j.Sinks {
		name := j.Sinks[i].Name
		out.Sinks[name] = sumOf(names, portions, func(f Figures) (SinkFigures, bool) { s, ok := f.Sinks[name]; return s, ok }, addSink)
	}
	out.Watermark = sumMark(names, portions)
	return out
}

// sumOf adds up what portions have of one thing; add is told how many they are.
func sumOf[F any](names []string, portions map[string]Figures, get func(Figures) (F, bool), add func(sum *F, one F, share float64)) (sum F) {
	var all []F
	for _, name := range names {
		if f, ok := get(portions[name]); ok {
			all = append(all, f)
		}
	}
	if len(all) == 0 {
		var none F
		add(&sum, none, 0) // nothing is missing in it
		return sum
	}
	for _, f := range all {
		add(&sum, f, 1/float64(len(all)))
	}
	return sum
}

// sumMark is how far the job is: the least of all portions. One that reads nothing, since the sources have fewer partitions than there are portions, does not count.
func sumMark(names []string, portions map[string]Figures) (least *string) {
	first := true
	for _, name := range names {
		f := portions[name]
		partitions := 0
		for _, s := range f.Sources {
			partitions += len(s.Partitions)
		}
		if partitions == 0 {
			continue
		}
		if least = leastMark(least, f.Watermark, first); least == nil {
			return nil
		}
		first = false
	}
	return least
}

// leastMark gives the lesser of two watermarks as figures have them: null before the first row, "end" past the last.
func leastMark(a, b *string, first bool) *string {
	switch {
	case first || b == nil:
		return b
	case a == nil:
		return nil
	case *a == "end", *b != "end" && before(*b, *a):
		return b
	}
	return a
}

// before says whether a time comes before another, as figures write them: with fractions of seconds only where there are some.
func before(a, b string) bool {
	x, err := time.Parse(time.RFC3339Nano, a)
	y, err2 := time.Parse(time.RFC3339Nano, b)
	return err == nil && err2 == nil && x.Before(y)
}

func addCounts(sum, one map[string]int64) map[string]int64 {
	if sum == nil {
		sum = map[string]int64{}
	}
	for reason, n := range one {
		sum[reason] += n
	}
	return sum
}

func addSource(sum *SourceFigures, one SourceFigures, share float64) {
	first := sum.Rejected == nil
	sum.Read, sum.Bytes, sum.Late, sum.PassedOver = sum.Read+one.Read, sum.Bytes+one.Bytes, sum.Late+one.Late, sum.PassedOver+one.PassedOver
	sum.Rejected = addCounts(sum.Rejected, one.Rejected)
	if sum.Partitions == nil {
		sum.Partitions = []PartitionFigures{}
	}
	if len(one.Partitions) > 0 || first {
		had := len(sum.Partitions) > 0
		sum.Watermark = leastMark(sum.Watermark, one.Watermark, !had)
		known := one.LagEvents != nil && (!had || sum.LagEvents != nil)
		if known {
			events, seconds := *one.LagEvents, *one.LagSeconds
			if had {
				events, seconds = events+*sum.LagEvents, max(seconds, *sum.LagSeconds)
			}
			sum.LagEvents, sum.LagSeconds = &events, &seconds
		} else {
			sum.LagEvents, sum.LagSeconds = nil, nil
		}
	}
	sum.Partitions = append(sum.Partitions, one.Partitions...)
	sum.Trouble = cmp.Or(sum.Trouble, one.Trouble)
	sum.BusyRatio, sum.BlockedRatio = sum.BusyRatio+share*one.BusyRatio, sum.BlockedRatio+share*one.BlockedRatio
	sum.ByClock = sum.ByClock || one.ByClock
}

func addStep(sum *StepFigures, one StepFigures, share float64) {
	first := sum.Rejected == nil
	sum.RowsIn, sum.RowsOut, sum.Used, sum.Dropped, sum.Made, sum.Repeats = sum.RowsIn+one.RowsIn, sum.RowsOut+one.RowsOut, sum.Used+one.Used, sum.Dropped+one.Dropped, sum.Made+one.Made, sum.Repeats+one.Repeats
	sum.Late = LateFigures{sum.Late.Lost + one.Late.Lost, sum.Late.Partial + one.Late.Partial, sum.Late.Accepted + one.Late.Accepted, max(sum.Late.MostSeconds, one.Late.MostSeconds)}
	sum.Rejected = addCounts(sum.Rejected, one.Rejected)
	sum.MeasureErrors, sum.LeftOut, sum.Forgotten = sum.MeasureErrors+one.MeasureErrors, sum.LeftOut+one.LeftOut, sum.Forgotten+one.Forgotten
	sum.OpenWindows, sum.KeptWindows, sum.StateRows, sum.Keys, sum.StateBytes = sum.OpenWindows+one.OpenWindows, sum.KeptWindows+one.KeptWindows, sum.StateRows+one.StateRows, sum.Keys+one.Keys, sum.StateBytes+one.StateBytes
	sum.Watermark = leastMark(sum.Watermark, one.Watermark, first)
	if one.NextClose != nil && (sum.NextClose == nil || before(*one.NextClose, *sum.NextClose)) {
		sum.NextClose = one.NextClose
	}
	if one.LastOut != nil && (sum.LastOut == nil || one.LastOut.After(*sum.LastOut)) {
		sum.LastOut = one.LastOut
	}
	sum.BusyRatio, sum.BlockedRatio, sum.WorkSeconds = sum.BusyRatio+share*one.BusyRatio, sum.BlockedRatio+share*one.BlockedRatio, sum.WorkSeconds+one.WorkSeconds
	if sum.Lanes == nil {
		sum.Lanes = []LaneFigures{}
	}
	sum.Lanes = append(sum.Lanes, one.Lanes...)
	if one.Join != nil {
		if sum.Join == nil {
			sum.Join = &JoinFigures{Left: SideFigures{Heaviest: []HeavyRows{}}, Right: SideFigures{Heaviest: []HeavyRows{}}}
		} else {
			own := *sum.Join
			sum.Join = &own
		}
		sum.Join.Pairs += one.Join.Pairs
		addSide(&sum.Join.Left, one.Join.Left)
		addSide(&sum.Join.Right, one.Join.Right)
	}
	if one.Lookup != nil {
		own := LookupFigures{Reference: one.Lookup.Reference}
		if sum.Lookup != nil {
			own = *sum.Lookup
		}
		own.Found, own.Missed, own.Null = own.Found+one.Lookup.Found, own.Missed+one.Lookup.Missed, own.Null+one.Lookup.Null
		own.Misses = append(slices.Clone(own.Misses), one.Lookup.Misses...)
		sum.Lookup = &own
	}
}

// mostHeavy is how many keys of a side stand in a sum.
const mostHeavy = 5

func addSide(sum *SideFigures, one SideFigures) {
	sum.Rows, sum.Matched, sum.Unmatched, sum.Late, sum.Waiting = sum.Rows+one.Rows, sum.Matched+one.Matched, sum.Unmatched+one.Unmatched, sum.Late+one.Late, sum.Waiting+one.Waiting
	sum.Kept, sum.KeptBytes = sum.Kept+one.Kept, sum.KeptBytes+one.KeptBytes
	sum.Heaviest = append(slices.Clone(sum.Heaviest), one.Heaviest...)
	slices.SortStableFunc(sum.Heaviest, func(a, b HeavyRows) int { return cmp.Compare(b.Rows, a.Rows) })
	sum.Heaviest = sum.Heaviest[:min(mostHeavy, len(sum.Heaviest))]
}

func addSink(sum *SinkFigures, one SinkFigures, share float64) {
	sum.Rows, sum.Delivered, sum.Waiting = sum.Rows+one.Rows, sum.Delivered+one.Delivered, sum.Waiting+one.Waiting
	sum.WaitingEpochs, sum.WaitingBytes = max(sum.WaitingEpochs, one.WaitingEpochs), sum.WaitingBytes+one.WaitingBytes
	sum.Epoch, sum.Retries, sum.Refused = max(sum.Epoch, one.Epoch), sum.Retries+one.Retries, sum.Refused+one.Refused
	sum.Refusal, sum.Trouble = cmp.Or(sum.Refusal, one.Refusal), cmp.Or(sum.Trouble, one.Trouble)
	sum.HeldUpRatio, sum.WritingRatio, sum.DeliveringRatio = sum.HeldUpRatio+share*one.HeldUpRatio, sum.WritingRatio+share*one.WritingRatio, sum.DeliveringRatio+share*one.DeliveringRatio
	sum.WorkSeconds += one.WorkSeconds
	sum.EventDelay, sum.ReadDelay = slower(sum.EventDelay, one.EventDelay), slower(sum.ReadDelay, one.ReadDelay)
}

// slower gives the longer delays: those of the slowest portion.
func slower(a, b DelayFigures) DelayFigures {
	if a.P99 == nil || b.P99 != nil && *b.P99 > *a.P99 {
		return b
	}
	return a
}
