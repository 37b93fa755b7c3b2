package engine

import (
	"sync"

	"undertide/core/row"
)

// part is what travels from stage to stage: the events of a turn, all of them or a piece.
//
// A join may make very many rows of few events, for steps of a later stage. So a lane whose rows for them have
// grown beyond Options.HandOn leaves off, at the end of an event. Once all lanes of the stage have come to their end or
// left off, the rows of all events that each of them has gone through are a piece, which goes to the next stage. Those
// that left off go on when the piece has gone through all stages; their rows of later events stay where they are, for the next piece.
//
// With events 0 to 9 and two lanes, one leaves off after event 3, the other after event 6: the piece is events 0 to 3. The
// first goes on with event 4; the second holds enough already, and waits until the first has come as far. A lane that has come to its end
// goes on with the next turn. What stands in routers is so bounded by lanes, turns under way, and HandOn with the
// rows of one event, whatever a turn makes.
type part struct {
	turn     *turn
	from, to int   // its events
	of       *part // what it was cut from; nil for the turn
	last     bool  // nothing of what it was cut from follows
	// through is closed once it has gone through all stages; nil where nobody waits.
	through chan struct{}

	mu     sync.Mutex
	lanes  int           // of the stage at hand that have not come to its end
	off    int           // of them that have left off
	least  int           // the event before which all of those left off
	handed int           // events before it were handed on in pieces
	round  chan struct{} // closed when the piece has gone through that those who left off wait for
}

// events counts those of a turn; a turn without events moves watermarks as one would.
func (t *turn) events() int { return max(1, len(t.chunk.Starts)) }

// whole is a turn before it is cut.
func whole(t *turn) *part { return &part{turn: t, to: t.events(), last: true} }

// enter prepares a part for a stage.
func (p *part) enter(lanes int) { p.lanes, p.off, p.least, p.handed = lanes, 0, p.to, p.from }

// ends says whether its turn has no events behind it.
func (p *part) ends() bool {
	for ; p != nil; p = p.of {
		if !p.last {
			return false
		}
	}
	return true
}

// after gives the watermark of a domain once the events before this one were read.
func (p *part) after(domain, event int) row.Time {
	if event >= p.turn.events() {
		return p.turn.after[domain]
	}
	return p.turn.marks[domain][event]
}

// arrive tells that a lane has gone through the events before this one. next goes to the next stage, if there is one; where the lane has left off, it
// goes on once again is closed.
func (p *part) arrive(event int) (next *part, again chan struct{}) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if event == p.to {
		p.lanes--
	} else {
		if p.off++; p.round == nil {
			p.round = make(chan struct{})
		}
		p.least = min(p.least, event)
		again = p.round
	}
	switch {
	case p.lanes == 0 && p.handed == p.from:
		return p, nil
	case p.lanes == 0:
		return &part{turn: p.turn, from: p.handed, to: p.to, of: p, last: true}, nil
	case p.lanes == p.off:
		next = &part{turn: p.turn, from: p.handed, to: p.least, of: p, through: p.round}
		p.off, p.least, p.handed, p.round = 0, p.to, p.least, nil
	}
	return next, again
}

// gone is told that all lanes of the last stage have gone through p.
func (p *part) gone() {
	for ; p != nil; p = p.of {
		if p.through != nil {
			close(p.through)
		}
		if !p.last {
			return
		}
	}
}
