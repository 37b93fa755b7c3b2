package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

// slow is a sink whose deliveries wait until they are let through, one for each that comes from pass.
type slow struct {
	box
	pass chan struct{}
	held int64 // bytes of the epoch
	from []Shipment
	done int64 // what it says that it delivered last

	mu    sync.Mutex
	given []Shipment
}

func newSlow() *slow { return &slow{pass: make(chan struct{})} }

func (s *slow) Delivered(context.Context) (int64, error) { return s.done, nil }
func (s *slow) Open(waiting []Shipment, _ int64) error {
	s.from = slices.Clone(waiting)
	return nil
}
func (s *slow) Write(data []byte, rows int) error {
	s.held += int64(len(data))
	return s.box.Write(data, rows)
}
func (s *slow) Prepare(epoch int64) (Shipment, error) {
	out := Shipment{Bytes: s.held, Data: fmt.Appendf(nil, "%d", epoch)}
	s.held = 0
	return out, nil
}
func (s *slow) Deliver(ctx context.Context, sh Shipment) error {
	select {
	case <-s.pass:
	case <-ctx.Done():
		return ctx.Err()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.given = append(s.given, sh)
	return nil
}

// epochs gives those of shipments.
func epochs(all []Shipment) (out []int64) {
	for _, s := range all {
		out = append(out, s.Epoch)
	}
	return out
}

// saves keeps what snapshots say of a sink's shipments, by epoch.
type saves struct {
	mu  sync.Mutex
	all []*Snapshot
}

func (s *saves) save(snap *Snapshot) (Saved, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all = append(s.all, snap)
	return Saved{}, nil
}

func (s *saves) last() *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.all[len(s.all)-1]
}

// TestSlowSink: a sink that is slow holds up no checkpoint; each holds all that waits, in order. A run that is stopped gives
// up in time and says what is left; the next one delivers it first, but for what the sink says that it has.
func TestSlowSink(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out, kept := newSlow(), &saves{}
		in := newFeed("a", false)
		w := NewWatch()
		stop := started(t, graph(t, out, 0, false, in), Options{Lanes: 2, Every: time.Second, Save: kept.save, Watch: w, StopWithin: 5 * time.Second})
		for n := range 4 {
			in.lines <- fmt.Sprintf("%d 1", 20*n)
			time.Sleep(time.Second)
		}
		out.pass <- struct{}{} // epoch 1
		time.Sleep(1500 * time.Millisecond)
		last := kept.last()
		if n := last.Epoch; n < 5 {
			t.Errorf("there are %d checkpoints after five seconds: the sink holds them up", n)
		}
		waiting := last.Shipments["out"]
		want := []int64{}
		for e := int64(2); e <= last.Epoch; e++ {
			want = append(want, e)
		}
		if !slices.Equal(epochs(waiting), want) {
			t.Errorf("the last checkpoint holds epochs %v, want %v", epochs(waiting), want)
		}
		f := w.Figures().Sinks[0]
		if f.WaitingEpochs != len(want) || f.WaitingBytes == 0 || f.DeliveredEpoch != 1 || f.Delivered != 0 || f.Rows == 0 {
			t.Errorf("the figures are %+v", f)
		}
		began := time.Now()
		res, err := stop()
		if err != nil || res.Finished || len(res.Undelivered) != 1 || res.Undelivered[0].Epochs != len(want)+1 {
			t.Errorf("the run ends with %+v (%v)", res.Undelivered, err)
		}
		if took := time.Since(began); took < 5*time.Second || took > 6*time.Second {
			t.Errorf("it stopped after %s", took)
		}

		again := newSlow()
		again.done = 3 // the run before got further than it knew
		w = NewWatch()
		from := kept.last()
		rows := from.Counts.Sinks[0].Rows
		stop = started(t, graph(t, again, 0, false, newFeed("a", false)), Options{Lanes: 1, Every: time.Hour, Save: kept.save, From: from, Watch: w, StopWithin: time.Second})
		time.Sleep(time.Second)
		if f := w.Figures().Sinks[0]; f.Rows != rows || f.Delivered >= rows || f.Delivered == 0 {
			t.Errorf("at the start %d of %d rows are delivered; there were %d", f.Delivered, f.Rows, rows)
		}
		close(again.pass)
		time.Sleep(time.Second)
		if !slices.Equal(epochs(again.from), epochs(from.Shipments["out"])) {
			t.Errorf("the next run opens with %v, want %v", epochs(again.from), epochs(from.Shipments["out"]))
		}
		again.mu.Lock()
		if got := epochs(again.given); len(got) == 0 || got[0] != 4 || !slices.IsSorted(got) || got[len(got)-1] != from.Epoch {
			t.Errorf("the next run delivers %v, want 4 to %d", got, from.Epoch)
		}
		for _, s := range again.given {
			if string(s.Data) != fmt.Sprint(s.Epoch) {
				t.Errorf("epoch %d comes with %s", s.Epoch, s.Data)
			}
		}
		again.mu.Unlock()
		if f := w.Figures().Sinks[0]; f.Delivered != rows || f.WaitingEpochs != 0 {
			t.Errorf("all is delivered, and the figures are %+v", f)
		}
		if res, err := stop(); err != nil || len(res.Undelivered) > 0 {
			t.Errorf("the next run ends with %+v (%v)", res.Undelivered, err)
		}
	})
}

// TestUndeliveredBound: where more waits than the bound, the sink takes no rows, until there is room again; a run that is
// stopped takes them all the same, for its last checkpoint. Nothing is lost.
func TestUndeliveredBound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		out, kept := newSlow(), &saves{}
		in := newFeed("a", false)
		stop := started(t, graph(t, out, 0, false, in), Options{Lanes: 1, Every: time.Second, Undelivered: 20, Save: kept.save, StopWithin: 5 * time.Second})
		made := 0
		feed := func() {
			made++
			in.lines <- fmt.Sprintf("%d 1", 20*made) // closes the window before: a row of some ten bytes
			time.Sleep(time.Second)
		}
		for range 12 {
			feed()
		}
		before := out.len()
		if before == 0 || before > 5 {
			t.Errorf("%d rows were taken, with a bound of 20 bytes", before)
		}
		for range 6 {
			out.pass <- struct{}{}
		}
		feed()
		if after := out.len(); after <= before {
			t.Errorf("there is room again, and no more than %d rows were taken", after)
		}
		for range 8 {
			feed()
		}
		res, err := stop()
		if err != nil || len(res.Undelivered) != 1 {
			t.Errorf("the run ends with %+v (%v)", res.Undelivered, err)
		}
		if n := out.len(); n != made-1 {
			t.Errorf("%d rows were taken in the end, want %d", n, made-1)
		}
		if got := res.Figures.Sinks[0]; got.Rows != int64(made-1) {
			t.Errorf("the figures say %d rows", got.Rows)
		}
	})
}

// TestFinishedUndelivered: a run whose inputs came to their end has finished once all is delivered; one that is stopped
// before has not, and its last checkpoint says that only deliveries are left.
func TestFinishedUndelivered(t *testing.T) {
	for _, stopped := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			out, kept := newSlow(), &saves{}
			ctx, stop := context.WithCancel(t.Context())
			defer stop()
			var res Result
			var err error
			ended := false
			go func() {
				res, err = Run(ctx, graph(t, out, 0, true, newFeed("a", true, "1 1", "20 1")), Options{Lanes: 1, Save: kept.save, StopWithin: time.Second})
				ended = true
			}()
			time.Sleep(time.Minute)
			synctest.Wait()
			if ended || !kept.last().Finished {
				t.Fatalf("ended: %v; finished in the last checkpoint: %v", ended, kept.last().Finished)
			}
			if stopped {
				stop()
			} else {
				close(out.pass)
			}
			time.Sleep(2 * time.Second)
			synctest.Wait()
			if !ended || err != nil || res.Finished == stopped || (len(res.Undelivered) > 0) != stopped {
				t.Errorf("stopped %v: ended %v, finished %v, undelivered %v (%v)", stopped, ended, res.Finished, res.Undelivered, err)
			}
		})
	}
}

// TestSkippedMarks: marks that are due while a checkpoint is under way are counted, and said with the next one.
func TestSkippedMarks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var completed []Completed
		var mu sync.Mutex
		save := func(s *Snapshot) (Saved, error) {
			if s.Epoch == 2 {
				time.Sleep(3500 * time.Millisecond)
			}
			return Saved{}, nil
		}
		w := NewWatch()
		stop := started(t, graph(t, &box{}, 0, false, newFeed("a", false)), Options{Lanes: 1, Every: time.Second, Save: save, Watch: w, Completed: func(c Completed) {
			mu.Lock()
			defer mu.Unlock()
			completed = append(completed, c)
		}})
		time.Sleep(10 * time.Second)
		if _, err := stop(); err != nil {
			t.Fatal(err)
		}
		var skipped []int64
		for _, c := range completed {
			skipped = append(skipped, c.Skipped)
		}
		if len(skipped) < 5 || skipped[0] != 0 || skipped[1] != 0 || skipped[2] < 3 || skipped[3] != 0 || w.Figures().Checkpoints.Skipped != skipped[2] {
			t.Errorf("skipped before each: %v; in all %d", skipped, w.Figures().Checkpoints.Skipped)
		}
	})
}

// TestBehindDelivered: a run does not go on behind what was delivered, unless somebody went back to that checkpoint.
func TestBehindDelivered(t *testing.T) {
	for _, again := range []bool{false, true} {
		out := newSlow()
		out.done = 9
		close(out.pass)
		from := &Snapshot{Epoch: 7, Again: again, Counts: newCounts(graph(t, out, 0, true)), Shipments: map[string][]Shipment{"out": {{Epoch: 7}}}}
		res, err := Run(t.Context(), graph(t, out, 0, true, newFeed("a", true, "1 1", "20 1")), Options{Lanes: 1, From: from, FirstEpoch: 10, Save: (&saves{}).save})
		if again && (err != nil || !res.Finished || len(out.from) != 1 || out.given[0].Epoch != 10) {
			t.Errorf("gone back to: finished %v (%v), delivered %v", res.Finished, err, epochs(out.given))
		}
		if !again && (err == nil || !strings.Contains(err.Error(), "epoch 9 was delivered and the checkpoint ends epoch 7: going on would write rows twice")) {
			t.Errorf("a run goes on behind what was delivered: %v", err)
		}
	}
}

// TestUnfinished: a checkpoint that could not be saved is told with the reason, and so is one that the run's end cut off.
func TestUnfinished(t *testing.T) {
	boom := errors.New("the disk is full")
	for name, c := range map[string]struct {
		out  Sink
		save func(*Snapshot) (Saved, error)
		want string
	}{
		"a save that fails": {&box{}, func(s *Snapshot) (Saved, error) {
			if s.Epoch == 2 {
				return Saved{}, boom
			}
			return Saved{}, nil
		}, "checkpoint 2: the disk is full"},
		"a sink that fails": {&failing{epoch: 2}, (&saves{}).save, "sink out: boom"},
	} {
		var told []Unfinished
		_, err := Run(t.Context(), graph(t, c.out, 0, true, newFeed("a", true, "1 1", "20 1")), Options{Lanes: 1, Save: c.save, Unfinished: func(u Unfinished) { told = append(told, u) }})
		if err == nil || len(told) != 1 || told[0].Epoch != 2 || told[0].Why != c.want || told[0].Began.IsZero() {
			t.Errorf("%s: %v; told %+v", name, err, told)
		}
	}
}

// failing is a sink that cannot prepare an epoch.
type failing struct {
	box
	epoch int64
}

func (s *failing) Prepare(epoch int64) (Shipment, error) {
	if epoch == s.epoch {
		return Shipment{}, errors.New("boom")
	}
	return Shipment{}, nil
}
