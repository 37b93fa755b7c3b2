package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"

	"undertide/checkpoint"
	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/disk"
	"undertide/job"
)

// Result is how a run ended.
type Result struct {
	engine.Result
	// AlreadyFinished: the checkpoint folder holds a run that came to its end; nothing was done.
	AlreadyFinished bool
	// Unbalanced names sources, steps and sinks whose counts do not add up: a bug of Under Tide.
	Unbalanced []string
	Graph      *engine.Graph
	References *References // what was looked up in; they are not kept fresh any more
}

// Lanes is how many lanes a run of a job has: as many as are asked for, else the document's, else one for each CPU.
func Lanes(j *job.Job, asked int) int { return cmp.Or(asked, j.Lanes, runtime.GOMAXPROCS(0)) }

// Run runs a job until its inputs end or ctx is done, which stops it with a checkpoint. A panic is its fault, an
// [engine.Panic].
func Run(ctx context.Context, j *job.Job, opt Options) (res Result, err error) {
	err = engine.Guard(func() (err error) {
		res, err = runJob(ctx, j, opt)
		return err
	})
	return res, err
}

func runJob(ctx context.Context, j *job.Job, opt Options) (Result, error) {
	b := &builder{job: j, opt: &opt, ctx: ctx}
	defer b.close()
	o := engine.Options{Lanes: opt.Lanes, Workers: opt.Workers, Every: every(j, &opt), EveryTurns: opt.EveryTurns, Watch: opt.Watch,
		FirstEpoch: opt.FirstEpoch, Opened: opt.Opened, Drain: opt.Drain, StopWithin: opt.StopWithin, Buffer: j.Buffer, Undelivered: j.Undelivered}
	o.Lanes, o.Memory = Lanes(j, opt.Lanes), StateMemoryOf(j)
	active.Add(1)
	defer active.Add(-1)
	if opt.Checkpoints == "" {
		aside := checkpoint.Aside(checkpoint.Disk, os.TempDir(), min(o.Memory()/3, 256<<20))
		defer b.put(aside)
		o.Behind, o.Apply = aside, aside.Apply
	} else {
		unlock, err := lock(opt.Checkpoints)
		if err != nil {
			return Result{}, err
		}
		defer unlock()
		store, err := checkpoint.Open(checkpoint.Disk, opt.Checkpoints, checkpoint.Options{Job: j.Name, Digest: j.Digest, Pieces: j.Pieces, Drop: opt.Drop, Fit: fits(j), Keep: j.CheckpointKeep, Cache: min(o.Memory()/3, 256<<20)})
		if err != nil {
			return Result{}, err
		}
		defer b.put(store)
		o.Behind = store
		if err := b.goOn(store, &o); err != nil {
			return Result{}, err
		}
	}
	refs, err := OpenReferences(ctx, j, opt.say)
	if err != nil {
		return Result{}, err
	}
	defer refs.Close()
	b.refs = refs
	if o.From != nil {
		refs.compare(o.From.References)
	}
	o.References = refs.note
	if opt.Rest != nil {
		o.Rest = &opt.Rest.Rest
	}
	g, err := b.graph(known(o.From))
	if err != nil {
		return Result{}, err
	}
	res := Result{Graph: g, References: refs}
	if o.From != nil {
		if err := sameInputs(g, o.From); err != nil {
			return res, err
		}
		if o.From.Finished {
			return finished(ctx, res, g, o.From)
		}
	}
	if err := askSinks(ctx, g, &o); err != nil {
		return res, err
	}
	b.sayDelivery()
	if j.Spread != nil {
		opt.say("one run carries the whole job out: only nodes spread it")
	}
	if opt.Resumed != nil {
		var from []engine.PartitionState
		if o.From != nil {
			from = o.From.Partitions
		}
		opt.Resumed(from)
	}
	if opt.Ready != nil {
		opt.Ready(g, refs)
	}
	refs.Keep(ctx)
	o.Completed = b.completed()
	res.Result, err = engine.Run(ctx, g, o)
	for _, u := range res.Undelivered {
		opt.say("sink %s: what it made ready and did not deliver in time is kept (epochs: %d, bytes: %d); the next start delivers it", u.Sink, u.Epochs, u.Bytes)
	}
	if err == nil && res.Finished && !o.From.Inherits() {
		res.Unbalanced = engine.Unbalanced(g, res.Figures)
	}
	return res, err
}

// completed tells of each checkpoint, and says once where they take longer than the time between them.
func (b *builder) completed() func(engine.Completed) {
	said := false
	return func(c engine.Completed) {
		if c.Skipped > 0 && !said {
			said = true
			b.opt.say("checkpoints take longer than `every: %s`: while %d was under way, %d more came due and were skipped; the figures count them, this is said once", row.DurationText(b.job.CheckpointEvery), c.Epoch-1, c.Skipped)
		}
		if b.opt.Completed != nil {
			b.opt.Completed(c)
		}
	}
}

// put puts the store of state away.
func (b *builder) put(store *checkpoint.Store) {
	if err := store.Close(); err != nil {
		b.opt.say("the store of state could not be put away: %v", err)
	}
}

// goOn starts the run from the newest checkpoint that verifies, and lets it save into the same folder.
func (b *builder) goOn(store *checkpoint.Store, o *engine.Options) error {
	opt := b.opt
	snap, passed, highest, err := store.Newest()
	o.Unfinished = opt.Unfinished
	for _, p := range passed {
		opt.say("checkpoint %d was passed over: %s", p.Epoch, p.Why)
		if p.Interrupted && opt.Unfinished != nil {
			opt.Unfinished(engine.Unfinished{Epoch: p.Epoch, Why: p.Why})
		}
	}
	if errors.Is(err, checkpoint.ErrDamaged) {
		return fmt.Errorf("%w; put a copy of the folder back, or begin anew with an empty one", err)
	}
	if err != nil {
		return err
	}
	o.From, o.FirstEpoch = snap, max(o.FirstEpoch, highest+1)
	o.Save = func(s *engine.Snapshot) (engine.Saved, error) {
		saved, err := store.Save(s)
		if err != nil {
			return saved, explain(opt.Checkpoints, err)
		}
		if opt.Commit != nil {
			err = opt.Commit(s.Epoch)
		}
		return saved, err
	}
	if snap == nil {
		return nil
	}
	opt.say("going on from checkpoint %d of %s", snap.Epoch, opt.Checkpoints)
	if snap.Again {
		opt.say("somebody went back to it: rows that were delivered after it are made again")
	}
	if snap.Adapted {
		opt.say("another version of the document made it: what is unchanged is kept, and counts begin anew")
	}
	return nil
}

// known gives the partitions of a checkpoint by source.
func known(snap *engine.Snapshot) map[string][]string {
	out := map[string][]string{}
	if snap != nil {
		for _, p := range snap.Partitions {
			out[p.Source] = append(out[p.Source], p.Name)
		}
	}
	return out
}

// askSinks asks what they delivered, so that no epoch is used twice, and what would keep them from their work. Nothing is
// taken over before all agree that the run may go on.
func askSinks(ctx context.Context, g *engine.Graph, o *engine.Options) error {
	for i := range g.Sinks {
		k, ok := g.Sinks[i].Sink.(engine.Knower)
		if !ok || o.From == nil {
			continue
		}
		epoch, err := k.Known(ctx)
		if err = cmp.Or(err, o.From.Behind(epoch)); err != nil {
			return fmt.Errorf("sink %s: %w", g.Sinks[i].Name, err)
		}
	}
	o.Delivered = make([]int64, len(g.Sinks))
	for i := range g.Sinks {
		epoch, err := g.Sinks[i].Sink.Delivered(ctx)
		if err != nil {
			return fmt.Errorf("sink %s: %w", g.Sinks[i].Name, err)
		}
		o.Delivered[i] = epoch
		if o.From == nil || o.From.Again {
			o.FirstEpoch = max(o.FirstEpoch, epoch+1)
		}
	}
	for i := range g.Sinks {
		if p, ok := g.Sinks[i].Sink.(engine.Prober); ok {
			if err := p.Probe(); err != nil {
				return fmt.Errorf("sink %s: %w", g.Sinks[i].Name, err)
			}
		}
	}
	return nil
}

// sayDelivery says what each sink promises in this run, sinks with the same words together.
func (b *builder) sayDelivery() {
	for _, line := range b.job.Promises(b.delivering(), b.opt.SinkOf) {
		b.opt.say("%s", line)
	}
}

func (b *builder) delivering() connect.Delivering {
	return connect.Delivering{Once: b.job.Delivery == "exactly_once", Kept: b.opt.Checkpoints != "", Every: b.job.CheckpointEvery, Dir: b.job.Dir}
}

// finished makes sure that all of a finished run was delivered, and does nothing else.
func finished(ctx context.Context, res Result, g *engine.Graph, snap *engine.Snapshot) (Result, error) {
	for i := range g.Sinks {
		if r, ok := g.Sinks[i].Sink.(engine.Recoverer); ok {
			if err := r.Recover(ctx, snap.Shipments[g.Sinks[i].Name]); err != nil {
				return res, fmt.Errorf("sink %s: %w", g.Sinks[i].Name, err)
			}
		}
	}
	res.AlreadyFinished, res.Finished = true, true
	return res, nil
}

// sameInputs refuses to go on from a checkpoint of other partitions.
func sameInputs(g *engine.Graph, snap *engine.Snapshot) error {
	for _, p := range snap.Partitions {
		found := false
		for i := range g.Sources {
			s := &g.Sources[i]
			found = found || s.Name == p.Source && slices.ContainsFunc(s.Partitions, func(q engine.Partition) bool { return q.Name() == p.Name })
		}
		if !found {
			return fmt.Errorf("the checkpoint read %s of source %s, which this run does not; give the same input, or an empty checkpoint folder", p.Name, p.Source)
		}
	}
	return nil
}

// lock keeps other runs from a checkpoint folder.
func lock(dir string) (func(), error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, explain(dir, err)
	}
	path := filepath.Join(dir, "lock")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, explain(dir, err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("the checkpoint folder %s is in use by another run; wait for it, or give this one a folder of its own", dir)
	}
	return func() { f.Close() }, nil
}

func explain(dir string, err error) error {
	text := disk.Explain("write checkpoints into", dir, err)
	if strings.Contains(err.Error(), "manifest") || strings.Contains(err.Error(), "write state") {
		return fmt.Errorf("%w (%v)", text, err)
	}
	return text
}
