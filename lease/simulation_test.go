package lease

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"
)

var histories = flag.Int("histories", 300, "how many random histories TestHistories goes through")

// TestHistories: nodes that share jobs, with a database whose clock runs faster or slower than theirs, requests that are late, lost, or carried out though
// nobody waits for them any more, nodes that are cut off, that die and come back, and acts that come long after it was looked whether they may. Whatever
// happens, no two nodes may act by a lease at one time, each job's checkpoints are a chain without a gap or a fork, and once all is well again every job is
// carried out.
func TestHistories(t *testing.T) {
	seed := rand.Uint64()
	for n := range *histories {
		if t.Failed() {
			return
		}
		t.Run(fmt.Sprintf("%d-%d", seed, n), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) { newHistory(t, rand.New(rand.NewPCG(seed, uint64(n)))).run() })
		})
	}
}

// history is one: a world of some nodes and jobs.
type history struct {
	t     *testing.T
	r     *rand.Rand
	db    *model
	nodes []*simNode
	says  []string
	mu    sync.Mutex // guards r and says
}

func newHistory(t *testing.T, r *rand.Rand) *history {
	h := &history{t: t, r: r}
	h.db = &model{h: h, began: time.Now(), rate: 0.9 + 0.2*r.Float64(), nodes: map[string]*Node{}, leases: map[int64]*Lease{}}
	for job := range int64(1 + r.IntN(4)) {
		h.db.leases[job] = &Lease{JobID: job}
	}
	for i := range 2 + r.IntN(3) {
		h.nodes = append(h.nodes, &simNode{h: h, name: string(rune('a' + i))})
	}
	return h
}

func (h *history) chance(p float64) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.r.Float64() < p
}

func (h *history) upTo(d time.Duration) time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	return time.Duration(h.r.Int64N(int64(d)))
}

func (h *history) say(format string, args ...any) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.says = append(h.says, fmt.Sprintf("%7.3f ", time.Since(h.db.began).Seconds())+fmt.Sprintf(format, args...))
}

func (h *history) fail(format string, args ...any) {
	h.t.Helper()
	h.mu.Lock()
	defer h.mu.Unlock()
	h.t.Fatalf("%s\n%s", fmt.Sprintf(format, args...), strings.Join(h.says[max(0, len(h.says)-60):], "\n"))
}

// run lets things go wrong for a while, then lets them be well, and looks all along.
func (h *history) run() {
	for _, n := range h.nodes {
		n.start()
	}
	defer func() {
		for _, n := range h.nodes {
			n.kill()
		}
		synctest.Wait()
		time.Sleep(time.Minute) // for requests that are on their way
	}()
	look := func(d time.Duration) {
		for range d / (50 * time.Millisecond) {
			time.Sleep(50 * time.Millisecond)
			h.oneActs()
		}
	}
	for range 12 {
		n := h.nodes[h.upTo(time.Duration(len(h.nodes)))]
		switch h.upTo(8) {
		case 0:
			h.say("%s dies", n.name)
			n.kill()
		case 1:
			n.kill()
			h.say("%s begins anew", n.name)
			n.start()
		case 2:
			h.say("%s is cut off", n.name)
			n.cut(h.upTo(15 * time.Second))
		case 3:
			d := h.upTo(12 * time.Second)
			h.say("the database is away for %s", d)
			for _, n := range h.nodes {
				n.cut(d)
			}
		case 4:
			h.say("%s lets go", n.name)
			n.letGo()
		case 5:
			n.begin(int64(h.upTo(time.Duration(len(h.db.leases)))))
		}
		look(h.upTo(8 * time.Second))
	}
	h.say("all is well from here on")
	for _, n := range h.nodes {
		n.cut(0)
		if n.keeper == nil {
			n.start()
		}
	}
	h.db.well.Store(true)
	look(mostAway)
	h.allHeld()
}

// mostAway is how long a job may be carried out by nobody once all is well: until the node that had it counts as away, the next has looked, and what was on its
// way before has come.
const mostAway = TakenAfter + 12*time.Second

// oneActs holds that at most one node may act by each lease.
func (h *history) oneActs() {
	for job := range h.db.leases {
		var may []string
		for _, n := range h.nodes {
			if k := n.keeper; k != nil {
				for _, held := range k.Holding() {
					if held.from.JobID == job && held.Check() == nil {
						may = append(may, fmt.Sprintf("%s by %d", n.name, held.from.Number))
					}
				}
			}
		}
		if len(may) > 1 {
			h.fail("job %d: %s may act at one time", job, strings.Join(may, " and "))
		}
	}
}

// allHeld holds that each job is carried out.
func (h *history) allHeld() {
	for job := range h.db.leases {
		found := false
		for _, n := range h.nodes {
			found = found || slices.ContainsFunc(n.keeper.Holding(), func(x *Held) bool { return x.from.JobID == job && x.Check() == nil })
		}
		if !found {
			h.fail("nobody carries job %d out; the records say %+v", job, *h.db.leases[job])
		}
	}
}

// simNode is a node of a history: what it carries out commits checkpoint after checkpoint.
type simNode struct {
	h      *history
	name   string
	boots  int
	keeper *Keeper
	ctx    context.Context // ends with this start of it
	stop   context.CancelFunc

	mu    sync.Mutex // guards until
	until time.Time  // nothing of it arrives, nor does it hear anything
}

func (n *simNode) start() {
	n.boots++
	self := Node{Name: n.name, Boot: fmt.Sprint(n.boots), Cores: 1}
	ctx, stop := context.WithCancel(context.Background())
	n.ctx, n.stop = ctx, stop
	n.h.db.join(self)
	way := &way{n: n, boot: n.boots}
	n.keeper = NewKeeper(way, Options{Self: func() Node { return self }, Take: func(held *Held) { go n.work(ctx, way, held) }, Replaced: func(error) {}, Log: slog.New(slog.DiscardHandler)})
	go n.keeper.Run(ctx)
}

func (n *simNode) kill() {
	if n.keeper != nil {
		n.stop()
		n.keeper = nil
		n.boots++ // what it was about to do is not done
	}
}

func (n *simNode) cut(d time.Duration) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.until = time.Now().Add(d)
}

func (n *simNode) isCut() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return time.Now().Before(n.until)
}

func (n *simNode) letGo() {
	if n.keeper == nil {
		return
	}
	for _, held := range n.keeper.Holding() {
		if l := held.Lease(); held.Drop() {
			ctx, w := n.ctx, &way{n: n, boot: n.boots}
			go func() {
				for ctx.Err() == nil { // written behind, until it is
					if err := w.Release(ctx, l.JobID, l.Number); err == nil || errors.Is(err, ErrLost) {
						return
					}
				}
			}()
		}
	}
}

// begin takes a job beside the beats, as a start of it does.
func (n *simNode) begin(job int64) {
	k, ctx, w := n.keeper, n.ctx, &way{n: n, boot: n.boots}
	if k == nil {
		return
	}
	go func() {
		l, err := carry(ctx, w, func() (Lease, error) {
			n.h.db.mu.Lock()
			number := n.h.db.leases[job].Number
			n.h.db.mu.Unlock()
			return n.h.db.claim(job, number, k.opt.Self())
		})
		if err == nil {
			n.h.say("%s begins job %d", n.name, job)
			go n.work(ctx, w, k.Hold(l))
		}
	}()
}

// work carries a job out: each checkpoint goes on from the one before. It is careless in one way: it may be suspended between looking whether it may act,
// and acting.
func (n *simNode) work(ctx context.Context, w *way, held *Held) {
	l := held.Lease()
	n.h.say("%s takes job %d by %d, from %d", n.name, l.JobID, l.Number, l.Epoch)
	next, base := l.Epoch+1, l.Epoch
	for ctx.Err() == nil {
		if err := held.Await(ctx); err != nil {
			n.h.say("%s ends job %d by %d: %v", n.name, l.JobID, l.Number, err)
			held.k.mu.Lock()
			letGo := held.k.dropped[l.JobID] == l.Number
			held.k.mu.Unlock()
			if now := n.h.db.lease(l.JobID); errors.Is(err, ErrLost) && !letGo && now.Number == l.Number && now.Boot == l.Boot {
				n.h.t.Errorf("%s ends job %d by %d for another's, and it is its own", n.name, l.JobID, l.Number)
			}
			return
		}
		time.Sleep(200*time.Millisecond + n.h.upTo(time.Second))
		if n.h.chance(0.05) {
			time.Sleep(n.h.upTo(10 * time.Second)) // suspended
		}
		for ctx.Err() == nil {
			err := w.Commit(ctx, Lease{JobID: l.JobID, Number: l.Number, Epoch: next, Place: fmt.Sprintf("%d by %d", base, l.Number)})
			if errors.Is(err, ErrLost) {
				held.drop()
				return
			}
			if err == nil {
				base, next = next, next+1
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
}

// way is the way of a node to the database: late, lossy, and at times cut.
type way struct {
	n    *simNode
	boot int
}

var errLost = errors.New("no answer")

// carry brings a request to the database and its answer back. The request may be carried out after whoever asked has given up.
func carry[V any](ctx context.Context, w *way, do func() (V, error)) (out V, err error) {
	h := w.n.h
	type answer struct {
		v   V
		err error
	}
	came := make(chan answer, 1)
	go func() {
		late := h.upTo(20 * time.Millisecond)
		well := h.db.well.Load()
		if !well && h.chance(0.05) {
			late = h.upTo(10 * time.Second)
		}
		if w.n.isCut() || !well && h.chance(0.03) {
			return
		}
		time.Sleep(late)
		v, err := do()
		if w.n.isCut() || !well && h.chance(0.03) {
			return
		}
		time.Sleep(h.upTo(20 * time.Millisecond))
		came <- answer{v, err}
	}()
	if _, bounded := ctx.Deadline(); !bounded {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, beatWithin)
		defer cancel()
	}
	select {
	case a := <-came:
		return a.v, a.err
	case <-ctx.Done():
		return out, errLost
	}
}

func (w *way) Beat(ctx context.Context, self Node) (View, error) {
	return carry(ctx, w, func() (View, error) { return w.n.h.db.beat(self) })
}

func (w *way) Claim(ctx context.Context, job, number int64, self Node) (Lease, error) {
	return carry(ctx, w, func() (Lease, error) { return w.n.h.db.claim(job, number, self) })
}

func (w *way) Release(ctx context.Context, job, number int64) error {
	_, err := carry(ctx, w, func() (struct{}, error) { return struct{}{}, w.n.h.db.release(job, number) })
	return err
}

func (w *way) Commit(ctx context.Context, l Lease) error {
	_, err := carry(ctx, w, func() (struct{}, error) { return struct{}{}, w.n.h.db.commit(l) })
	return err
}
