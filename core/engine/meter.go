package engine

import (
	"sync"
	"sync/atomic"
	"time"
)

// Where time goes
//
// Two things are told apart: work, which a goroutine does for a step, a source or a sink, and waits, in which it can do
// nothing because something behind it does not take what it has. Both are taken by goroutine, once a batch and never once
// a row, and added up for the figures.

// meter tells what a goroutine works for. At any moment one owner is charged: owners are nested like calls, and each is
// charged for its own time alone. A lane:
//
//	minute takes rows                    minute 3 ms
//	  its results go through big           big 1 ms
//	    and are written for alerts           alerts 2 ms
//	minute goes on                       minute 1 ms, 4 in all
//
// The goroutine alone uses it, and hands what has come together to the watch ([Watch.spend]) once a turn, or when one of them took long. The watch sees who is charged now, and
// since when: a step that has been at one batch for ten seconds is busy, though it has not come to its end.
type meter struct {
	watch    *Watch
	producer int
	owner    int // who is charged now
	since    time.Time
	spent    []time.Duration // by owner, since it was handed over last

	begun   time.Time
	running atomic.Int64 // since, in microseconds after begun, and in the lowest ownerBits bits owner
}

const (
	ownerBits = 16
	longWork  = 50 * time.Millisecond
)

// nobody is charged while a goroutine waits.
const nobody = 0

// Owners are nobody, then steps, sinks (for whom rows are written as text) and sources (whose events are read), by number.
func (p *plan) stepOwner(i int) int   { return 1 + i }
func (p *plan) sinkOwner(i int) int   { return 1 + len(p.Steps) + i }
func (p *plan) sourceOwner(i int) int { return 1 + len(p.Steps) + len(p.Sinks) + i }
func (p *plan) owners() int           { return 1 + len(p.Steps) + len(p.Sinks) + len(p.Sources) }

// newMeter makes the meter of a goroutine, named by its place among producers, that the watch looks at.
func newMeter(e *run, producer int) *meter {
	now := time.Now()
	m := &meter{watch: e.watch, producer: producer, begun: now, since: now, spent: make([]time.Duration, e.p.owners())}
	e.watch.mu.Lock()
	defer e.watch.mu.Unlock()
	e.watch.meters = append(e.watch.meters, m)
	return m
}

// charge lets another owner be charged from now on, and gives the one that was.
func (m *meter) charge(owner int) (before int) {
	now := time.Now()
	took := now.Sub(m.since)
	m.spent[m.owner] += took
	before, m.owner, m.since = m.owner, owner, now
	m.running.Store(now.Sub(m.begun).Microseconds()<<ownerBits | int64(owner))
	if took > longWork {
		m.watch.spend(m.producer, m)
	}
	return before
}

// underWay gives who is charged now, and for how long.
func (m *meter) underWay(now time.Time) (owner int, took time.Duration) {
	r := m.running.Load()
	return int(r & (1<<ownerBits - 1)), max(0, now.Sub(m.begun)-time.Duration(r>>ownerBits)*time.Microsecond)
}

// tally adds up how long something went on that goes on still, or does not.
type tally struct {
	now   int // how often at once
	since time.Time
	total time.Duration
}

func (h *tally) begin(now time.Time) {
	if h.now++; h.now == 1 {
		h.since = now
	}
}

func (h *tally) end(now time.Time) {
	if h.now--; h.now == 0 {
		h.total += now.Sub(h.since)
	}
}

// at gives how long it went on up to now, with what goes on still.
func (h *tally) at(now time.Time) time.Duration {
	if h.now > 0 {
		return h.total + now.Sub(h.since)
	}
	return h.total
}

// waits tells who waits for whom. What is waited for are sinks, and the lanes of a stage; who waits are the producers: the
// sequencer, which hands on what workers made (0), and the lanes. Safe for concurrent use; only those who must wait
// come here.
//
// Two lanes wait for sink slow, one from second 0 to 4, the other from 2 to 8: each has waited for it, 4 and 6 seconds, and
// slow has held them up for 8.
type waits struct {
	mu   sync.Mutex // guards all below
	of   [][]tally  // by producer, by target
	held []tally    // by target: somebody waits for it
	// By sink: how long it wrote and prepared what it was given, and how long it delivered. A call that does not return
	// counts as it goes on.
	writing, delivering []tally
}

// Targets are sinks, then stages, by number.
func (p *plan) stageTarget(stage int) int { return len(p.Sinks) + stage }
func (p *plan) targets() int              { return len(p.Sinks) + len(p.stages) }

func newWaits(p *plan, lanes int) *waits {
	w := &waits{held: make([]tally, p.targets()), writing: make([]tally, len(p.Sinks)), delivering: make([]tally, len(p.Sinks))}
	for range 1 + lanes {
		w.of = append(w.of, make([]tally, p.targets()))
	}
	return w
}

func (w *waits) begin(producer, target int) {
	now := time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.of[producer][target].begin(now)
	w.held[target].begin(now)
}

func (w *waits) end(producer, target int) {
	now := time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	w.of[producer][target].end(now)
	w.held[target].end(now)
}

// during calls f, and notes how long it took.
func (w *waits) during(t *tally, f func() error) error {
	w.mu.Lock()
	t.begin(time.Now())
	w.mu.Unlock()
	defer func() {
		w.mu.Lock()
		t.end(time.Now())
		w.mu.Unlock()
	}()
	return f()
}

// waited is how long all waits took up to a moment, with those that go on.
type waited struct {
	of                        [][]time.Duration // by producer, by target
	held, writing, delivering []time.Duration   // by target; by sink
}

func (w *waits) waited() (out waited) {
	now := time.Now()
	w.mu.Lock()
	defer w.mu.Unlock()
	at := func(list []tally) (out []time.Duration) {
		for i := range list {
			out = append(out, list[i].at(now))
		}
		return out
	}
	for _, list := range w.of {
		out.of = append(out.of, at(list))
	}
	out.held, out.writing, out.delivering = at(w.held), at(w.writing), at(w.delivering)
	return out
}

// wait notes that a producer waits for a target until what it gives is called; m is the producer's meter, nil for none.
func (e *run) wait(m *meter, producer, target int) (over func()) {
	e.waits.begin(producer, target)
	before := nobody
	if m != nil {
		before = m.charge(nobody)
		e.watch.spend(producer, m)
	}
	return func() {
		e.waits.end(producer, target)
		if m != nil {
			m.charge(before)
		}
	}
}

// hand gives a message to a target, and notes where that had to be waited for; false when the run ends.
func hand[T any](e *run, m *meter, producer, target int, to chan<- T, message T) bool {
	select {
	case to <- message:
		return true
	default:
	}
	defer e.wait(m, producer, target)()
	select {
	case to <- message:
		return true
	case <-e.hard.Done():
		return false
	}
}
