package engine

import (
	"cmp"
	"time"
)

// order says whose turn is next: by the watermarks, or by a script.
type order interface {
	// add takes in a partition, remove one that has ended.
	add(p *partition)
	remove(p *partition)
	// decoded and took are told that a turn of p was decoded, and taken.
	decoded(p *partition)
	took(p *partition)
	// step is the number of the script's step at hand, 0 without a script.
	step() int
	// next gives the partition whose turn is next; nil where none can be said, or none is left.
	next() *partition
	// soonest are partitions that have not ended, the next one first and the others about in their order.
	soonest() []*partition
}

// before says whether p's next turn comes before q's: the lesser W, then source name, then partition
// name (docs/time.md, "Turns and places").
func (e *run) before(p, q *partition) bool {
	if p.w != q.w {
		return p.w < q.w
	}
	return cmp.Or(cmp.Compare(e.p.Sources[p.source].Name, e.p.Sources[q.source].Name), cmp.Compare(p.Name(), q.Name())) < 0
}

// byWatermark gives the next turn to the partition with the least watermark: in a bounded run of all, in an
// unbounded one of those whose next turn is decoded.
type byWatermark struct {
	e    *run
	heap partHeap // bounded: those that have not ended; unbounded: those with a decoded turn
}

func newByWatermark(e *run) *byWatermark {
	return &byWatermark{e, partHeap{before: e.before, at: func(p *partition) *int { return &p.inOrder }}}
}

func (o *byWatermark) add(p *partition) {
	switch {
	case p.ended, !o.e.reads(p):
	case o.e.bounded:
		o.heap.put(p)
	default:
		o.e.give(p)
		o.e.give(p)
	}
}

func (o *byWatermark) remove(p *partition) { o.heap.remove(p) }

func (o *byWatermark) decoded(p *partition) {
	if !o.e.bounded && p.ready[p.nextSeq] != nil {
		o.heap.put(p)
	}
}

func (o *byWatermark) took(p *partition) {
	switch {
	case p.ended:
	case o.e.opt.Rest != nil && p.caughtUp: // nothing more comes of it
		o.heap.remove(p)
	case o.e.bounded:
		o.heap.put(p) // its W has moved
	default:
		if o.e.give(p); p.ready[p.nextSeq] == nil {
			o.heap.remove(p)
		} else {
			o.heap.put(p)
		}
	}
}

func (o *byWatermark) step() int             { return 0 }
func (o *byWatermark) next() *partition      { return o.heap.least() }
func (o *byWatermark) soonest() []*partition { return o.heap.items }

// scripted gives the events as a script says, and lets time pass in between. Nothing is read ahead, so that an
// event is read at the time of its turn.
type scripted struct {
	e     *run
	steps []Scripted
	at    int           // the step at hand
	clock time.Duration // that has passed
	live  []*partition
}

func (o *scripted) add(p *partition)      { o.live = append(o.live, p) }
func (o *scripted) decoded(*partition)    {}
func (o *scripted) soonest() []*partition { return o.live }
func (o *scripted) step() int             { return o.at }

func (o *scripted) remove(p *partition) {
	for i, q := range o.live {
		if q == p {
			o.live = append(o.live[:i:i], o.live[i+1:]...)
			return
		}
	}
}

func (o *scripted) took(*partition) {
	if o.at < len(o.steps) {
		o.at++
	}
}

// next lets the time pass that stands before the next event, and gives its partition; once the script is
// done, any that has not ended.
func (o *scripted) next() *partition {
	for o.at < len(o.steps) {
		s := o.steps[o.at]
		if s.Clock == 0 {
			for _, p := range o.e.partitions {
				if p.source == s.Source {
					return p
				}
			}
		}
		o.pass(s.Clock)
		o.at++
	}
	if len(o.live) == 0 {
		return nil
	}
	return o.live[0]
}

// pass lets time pass. A beat may fall within: the clock goes on by the least of them.
func (o *scripted) pass(d time.Duration) {
	for d > 0 {
		by := d
		if o.e.p.beat > 0 {
			by = min(by, o.e.p.beat)
		}
		d -= by
		o.clock += by
		o.e.checkIdle()
		o.e.quietTurn()
	}
}
