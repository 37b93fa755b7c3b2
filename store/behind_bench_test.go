package store

import (
	"path/filepath"
	"testing"
	"time"

	"undertide/lease"
)

// BenchmarkBehind is how many records of twenty jobs a database takes a second that are written behind, by their leases: figures, checkpoints and events (docs/speed.md, "Nodes").
func BenchmarkBehind(b *testing.B) {
	s := openShared(b, server(b).URL(), filepath.Join(b.TempDir(), "records.waiting"))
	me := join(b, s, nodeOf("quay", "1"))
	var runs []Run
	for n := range 20 {
		j, _, _, err := s.SaveVersion(ctx, Job{Name: "job" + string(rune('a'+n))}, "doc", "")
		if err != nil {
			b.Fatal(err)
		}
		r := Run{JobID: j.ID, Version: 1, Wanted: true, StartedAt: time.Now(), Generation: 1}
		l, err := s.CreateLeasedRun(ctx, &r, me, lease.Lease{})
		if err != nil {
			b.Fatal(err)
		}
		s.Under(j.ID, l.Number)
		runs = append(runs, r)
	}
	shape := ShapeOf([]string{"lag_seconds", "in_per_second", "out_per_second", "checkpoint_seconds"})
	begun := time.Now().UTC()
	for n := 0; b.Loop(); n++ {
		r, at := runs[n%len(runs)], begun.Add(time.Duration(n)*time.Millisecond)
		switch n / len(runs) % 4 {
		case 0, 1:
			s.AddPoints(Batch{Shapes: []Shape{shape}, Points: []Point{{JobID: r.JobID, At: at, Shape: shape.ID, Means: Reals{1, 2, 3, 4}, Greatest: Reals{1, 2, 3, 4}}}})
		case 2:
			s.AddCheckpoint(r.JobID, Checkpoint{RunID: r.ID, Epoch: int64(n), WrittenAt: at, Partitions: []Stretch{{Source: "lifts", Name: "0"}}})
		case 3:
			s.AddEvent(Event{JobID: r.JobID, RunID: &r.ID, At: at, Kind: "running", Text: "version 1 runs"})
		}
		for { // as many wait as at a busy moment
			if _, _, waiting := s.State(); waiting < 1000 {
				break
			}
			time.Sleep(time.Millisecond)
		}
	}
	for {
		if _, _, waiting := s.State(); waiting == 0 {
			break
		}
		time.Sleep(time.Millisecond)
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "1/s")
}
