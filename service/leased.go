package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"undertide/core/engine"
	"undertide/lease"
	"undertide/run"
	"undertide/store"
)

// leased is a try of a run: on a node while it may act by the lease, from the checkpoint that the records of the nodes say counts (docs/nodes.md, "Leases").
func (r *runner) leased(ctx context.Context, connected func()) (res run.Result, err error) {
	if r.held == nil {
		return r.once(ctx, nil, connected)
	}
	if err := r.held.Await(ctx); err != nil {
		return res, err
	}
	watched, stop := r.held.Watch(context.WithoutCancel(ctx))
	defer stop()
	running, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(watched, func() {
		if why := context.Cause(watched); !errors.Is(why, context.Canceled) {
			r.log.Warn("the run is broken off", "error", why)
			cancel(fmt.Errorf("%w: %w", engine.ErrCutOff, why))
		}
	})()
	if r.s.isSpread(r.s.recordNamed(r.name), r.job) {
		res, err = r.supervise(running, connected)
	} else if err = r.settle(running); err == nil {
		res, err = r.once(running, func(epoch int64) error { return r.commit(watched, epoch) }, connected)
	}
	return res, cutOff(watched, err)
}

// number is that of the job's lease; 0 without one.
func (r *runner) number() int64 {
	if r.held == nil {
		return 0
	}
	return r.held.Lease().Number
}

// mayAct says whether the job is this node's still.
func (r *runner) mayAct() error {
	if r.held == nil {
		return nil
	}
	return r.held.Check()
}

// cutOff adds to an error why the node may not act by the lease, where that is why there is one.
func cutOff(watched context.Context, err error) error {
	if cause := context.Cause(watched); err != nil && cause != nil && !errors.Is(cause, context.Canceled) && !errors.Is(err, cause) {
		return fmt.Errorf("%w (%w)", cause, err)
	}
	return err
}

// settle makes the folder of checkpoints hold the one that counts as its newest.
func (r *runner) settle(ctx context.Context) error {
	l, err := r.s.db.LeaseOf(ctx, r.rec.JobID)
	if errors.Is(err, store.ErrNotFound) || err == nil && l.Number != r.held.Lease().Number {
		return lease.ErrLost
	}
	if err != nil {
		return err
	}
	if l.Generation != r.rec.Generation {
		return fmt.Errorf("the newest checkpoint of the job is of generation %d, and the run of %d; this is a bug of Under Tide", l.Generation, r.rec.Generation)
	}
	if l.Epoch > 0 {
		r.s.noteEpoch(r.name, l.Epoch+skipped)
	}
	return r.shelf.Settle(ctx, l.Epoch, l.Place)
}

// commitAgain is how long it takes until a checkpoint is committed again that nobody knows of whether it was.
const commitAgain = 200 * time.Millisecond

// commit brings a checkpoint to where all nodes reach it, and makes it count. watched ends with the lease, and not when the run is stopped: then its last one is
// committed.
func (r *runner) commit(watched context.Context, epoch int64) error {
	place, _, err := r.shelf.Put(watched, epoch)
	if err != nil {
		return cutOff(watched, err)
	}
	for {
		err := r.held.Commit(watched, r.rec.Generation, epoch, place)
		if err == nil {
			break
		}
		if !errors.Is(err, store.ErrUnreachable) || watched.Err() != nil {
			return cutOff(watched, err)
		}
		select {
		case <-watched.Done():
		case <-time.After(commitAgain):
		}
	}
	if err := r.shelf.Thin(watched, r.job.CheckpointKeep); err != nil && watched.Err() == nil {
		r.log.Warn("checkpoints that are not needed any more are left in the shared store", "error", err)
	}
	return nil
}

// isAnothers says whether a try ended because the job is another node's now.
func (r *runner) isAnothers(err error) bool {
	return err != nil && r.held != nil && (errors.Is(err, lease.ErrLost) || errors.Is(err, lease.ErrReplaced))
}

// move ends the run here: another node has the job, and what this one knows of it counts no more.
func (r *runner) move(why error) {
	r.log.Warn("the run goes on elsewhere", "error", why)
	r.mu.Lock()
	r.lost, r.moved = true, true
	r.tell()
	r.mu.Unlock()
	r.forget()
}

// forget leaves it to the records how the run is: another node carries it out.
func (r *runner) forget() {
	s := r.s
	s.mu.Lock()
	if e := s.jobs[r.name]; e != nil && e.run == r {
		e.run = nil
	}
	s.mu.Unlock()
	s.nodes.note("runs")
}

// letGo lets the lease go of a run that has ended here.
func (r *runner) letGo() {
	r.s.release(r.held)
	r.mu.Lock()
	last, elsewhere := r.rec, r.ending && r.rec.Wanted && !r.moved
	r.mu.Unlock()
	if !elsewhere {
		return
	}
	r.s.mu.Lock()
	if e := r.s.jobs[r.name]; e != nil && e.run == r {
		e.last = &last
	}
	r.s.mu.Unlock()
	r.forget()
}

// hasMoved says whether the run goes on on another node: whoever follows it here asks again.
func (r *runner) hasMoved() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.moved || r.leaving && r.over
}

// leave notes that the node lets the job go; false where it does so already, or the run has ended.
func (r *runner) leave() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.leaving || r.over {
		return false
	}
	r.leaving = true
	return true
}
