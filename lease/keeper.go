package lease

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"
)

// Options are what a [Keeper] needs beside the records.
type Options struct {
	Self func() Node // what the others are to know of the node; asked for each beat
	// Take is told of each lease that the node has taken because it was free: whoever is told carries the job out, and lets it go. It returns soon.
	Take func(*Held)
	// Told is told of each view; it returns soon. May be nil.
	Told func(View)
	// Replaced is told, once, that the node has no part in the leases any more.
	Replaced func(error)
	Log      *slog.Logger
}

// Keeper is the part of one node: it says that the node lives, takes leases that are free, and knows which it has. Safe for concurrent use.
type Keeper struct {
	records Records
	opt     Options

	mu       sync.Mutex // guards all below
	until    time.Time  // the node may act until then
	renewed  chan struct{}
	held     map[int64]*Held
	free     map[int64]time.Time // since when somebody could have taken what is free
	strays   map[int64]int64     // leases that are ours and that nobody here knows, by number: of a claim whose answer was lost
	dropped  map[int64]int64     // leases that were let go here, by number, whatever the records say of them still
	replaced error
}

// NewKeeper makes a keeper; it does nothing before [Keeper.Run].
func NewKeeper(records Records, opt Options) *Keeper {
	return &Keeper{records: records, opt: opt, renewed: make(chan struct{}), held: map[int64]*Held{}, free: map[int64]time.Time{}, strays: map[int64]int64{}, dropped: map[int64]int64{}}
}

// beatWithin bounds one beat.
const beatWithin = 2 * time.Second

// patience is how long a free lease is left to the node with most room, before any takes it.
const patience = 4 * BeatEvery

// Run says that the node lives until ctx is done, or it was replaced.
func (k *Keeper) Run(ctx context.Context) {
	t := time.NewTicker(BeatEvery)
	defer t.Stop()
	for {
		if err := k.beat(ctx); errors.Is(err, ErrReplaced) {
			return
		} else if err != nil && ctx.Err() == nil {
			k.opt.Log.Debug("the beat of this node was not noted", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// beat is one beat, and the taking of what is free.
func (k *Keeper) beat(ctx context.Context) error {
	self := k.opt.Self()
	sent := time.Now()
	limited, cancel := context.WithTimeout(ctx, beatWithin)
	view, err := k.records.Beat(limited, self)
	cancel()
	switch {
	case errors.Is(err, ErrReplaced):
		k.leave(err)
		return err
	case err != nil:
		return err
	}
	ours := k.renew(sent, view)
	if k.opt.Told != nil {
		k.opt.Told(view)
	}
	for _, l := range ours { // of a claim, or a start, whose answer was lost
		k.opt.Take(k.Hold(l))
	}
	for _, l := range k.choose(view, self) {
		k.claim(ctx, l, self)
	}
	return nil
}

// renew takes in what a beat that was sent then has told, and gives leases that are this node's and that nobody here knows.
func (k *Keeper) renew(sent time.Time, view View) (strays []Lease) {
	mine := map[int64]int64{}
	for _, l := range view.Mine {
		mine[l.JobID] = l.Number
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.until = sent.Add(LastsFor)
	close(k.renewed)
	k.renewed = make(chan struct{})
	for job, h := range k.held {
		if h.since.Before(sent) && mine[job] != h.from.Number { // one that was taken since is not among them yet
			delete(k.held, job)
			h.lose(ErrLost)
		}
	}
	seen := map[int64]int64{}
	for _, l := range view.Mine {
		if k.held[l.JobID] != nil || k.dropped[l.JobID] == l.Number {
			continue
		}
		if k.strays[l.JobID] == l.Number { // for the second time: it is not just being taken, or let go
			strays = append(strays, l)
			continue
		}
		seen[l.JobID] = l.Number
	}
	k.strays = seen
	return strays
}

// choose gives the leases that are free and that this node is to take: those that fall to it where each goes to the node with most room, and those that
// nobody has taken for a while.
func (k *Keeper) choose(view View, self Node) (out []Lease) {
	now := time.Now()
	k.mu.Lock()
	defer k.mu.Unlock()
	since := map[int64]time.Time{}
	for _, l := range view.Free {
		since[l.JobID] = now
		if t, ok := k.free[l.JobID]; ok {
			since[l.JobID] = t
		}
	}
	k.free = since
	nodes := slices.DeleteFunc(slices.Clone(view.Nodes), func(n Node) bool { return !n.Alive || n.Draining })
	if !slices.ContainsFunc(nodes, func(n Node) bool { return n.Name == self.Name }) {
		return nil
	}
	for _, l := range view.Free {
		i := Roomiest(nodes)
		nodes[i].Jobs++
		if nodes[i].Name == self.Name || now.Sub(since[l.JobID]) >= patience {
			out = append(out, l)
		}
	}
	return out
}

// Roomiest gives the place of the node with most room: the one with the fewest jobs for its cores; of several the first. There is at least one.
func Roomiest(nodes []Node) int {
	best := 0
	for i := range nodes {
		if load(&nodes[i]) < load(&nodes[best]) {
			best = i
		}
	}
	return best
}

func load(n *Node) float64 { return float64(n.Jobs) / float64(max(n.Cores, 1)) }

func (k *Keeper) claim(ctx context.Context, l Lease, self Node) {
	limited, cancel := context.WithTimeout(ctx, beatWithin)
	defer cancel()
	got, err := k.records.Claim(limited, l.JobID, l.Number, self)
	if err != nil {
		if !errors.Is(err, ErrLost) && ctx.Err() == nil {
			k.opt.Log.Warn("a job that nobody carries out could not be taken", "job", l.JobID, "error", err)
		}
		return
	}
	k.opt.Take(k.Hold(got))
}

// Hold notes a lease that this node has taken.
func (k *Keeper) Hold(l Lease) *Held {
	h := &Held{k: k, from: l, since: time.Now(), gone: make(chan struct{})}
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.replaced != nil {
		h.lose(k.replaced)
		return h
	}
	if old := k.held[l.JobID]; old != nil {
		old.lose(ErrLost)
	}
	k.held[l.JobID] = h
	return h
}

// leave ends all leases of a node that has no part in them any more.
func (k *Keeper) leave(err error) {
	k.mu.Lock()
	k.replaced = err
	for _, h := range k.held {
		h.lose(err)
	}
	clear(k.held)
	k.mu.Unlock()
	k.opt.Replaced(err)
}

// Holding lists the leases that this node has.
func (k *Keeper) Holding() []*Held {
	k.mu.Lock()
	defer k.mu.Unlock()
	var out []*Held
	for _, h := range k.held {
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b *Held) int { return cmp.Compare(a.from.JobID, b.from.JobID) })
	return out
}

// Held is a lease that this node took. Safe for concurrent use.
type Held struct {
	k     *Keeper
	from  Lease     // as it was taken; its job and number stay
	since time.Time // when it was here; its taking was before that

	once sync.Once
	why  error         // set before gone is closed
	gone chan struct{} // closed when it is not ours any more
}

// Lease gives the lease as it was taken: with the newest checkpoint that whoever had it before has committed.
func (h *Held) Lease() Lease { return h.from }

func (h *Held) lose(why error) {
	h.once.Do(func() {
		h.why = why
		close(h.gone)
	})
}

// Check says whether the node may act by the lease just now: nil, or what wraps ErrLost, ErrReplaced or ErrExpired.
func (h *Held) Check() error {
	select {
	case <-h.gone:
		return h.why
	default:
	}
	h.k.mu.Lock()
	defer h.k.mu.Unlock()
	if !time.Now().Before(h.k.until) {
		return ErrExpired
	}
	return nil
}

// Await waits until the node may act by the lease; the error says why it never may again, or is that of ctx.
func (h *Held) Await(ctx context.Context) error {
	for {
		h.k.mu.Lock()
		renewed := h.k.renewed
		h.k.mu.Unlock()
		err := h.Check()
		if !errors.Is(err, ErrExpired) {
			return err
		}
		select {
		case <-renewed:
		case <-h.gone:
			return h.why
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// Watch gives a context that ends, with the reason as its cause, once the node may not act by the lease any more. stop frees it.
func (h *Held) Watch(ctx context.Context) (watched context.Context, stop func()) {
	watched, cancel := context.WithCancelCause(ctx)
	go func() {
		for {
			h.k.mu.Lock()
			left := time.Until(h.k.until)
			h.k.mu.Unlock()
			if err := h.Check(); err != nil {
				cancel(err)
				return
			}
			t := time.NewTimer(left)
			select {
			case <-t.C:
			case <-h.gone:
			case <-watched.Done():
				t.Stop()
				return
			}
			t.Stop()
		}
	}()
	return watched, func() { cancel(nil) }
}

// Commit makes a checkpoint count. Where the error is neither ErrLost nor ErrExpired nobody knows whether it does; to commit it again is right.
func (h *Held) Commit(ctx context.Context, generation int, epoch int64, place string) error {
	if err := h.Check(); err != nil {
		return fmt.Errorf("checkpoint %d does not count: %w", epoch, err)
	}
	err := h.k.records.Commit(ctx, Lease{JobID: h.from.JobID, Number: h.from.Number, Generation: generation, Epoch: epoch, Place: place})
	if errors.Is(err, ErrLost) {
		h.drop()
		return fmt.Errorf("checkpoint %d does not count: %w", epoch, err)
	}
	return err
}

// Drop lets the lease go on this node, which acts by it no more; false where it has gone before. The caller lets the records know, behind what it still has to
// say by the lease; until then nobody takes it while the node is heard.
func (h *Held) Drop() bool {
	h.k.mu.Lock()
	ours := h.k.held[h.from.JobID] == h
	if ours {
		h.k.dropped[h.from.JobID] = h.from.Number
	}
	h.k.mu.Unlock()
	h.drop()
	return ours
}

// drop forgets a lease that is another's, or nobody's.
func (h *Held) drop() {
	h.k.mu.Lock()
	if h.k.held[h.from.JobID] == h {
		delete(h.k.held, h.from.JobID)
	}
	h.k.mu.Unlock()
	h.lose(ErrLost)
}
