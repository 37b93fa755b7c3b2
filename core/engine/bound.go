package engine

import (
	"fmt"

	"undertide/core/state"
)

// bound keeps the lane's state within its part of the memory, where a store stands behind it: rows that the store has as
// they are go; where those that changed are too many, they are written ahead of the next mark, and go too.
//
// A row goes only once the store has it. After a mark the rows that the lane gave are on their way: until they are
// written the lane holds on to them, and waits where its state has grown by a quarter meanwhile.
func (l *lane) bound() {
	if l.e.opt.Behind == nil || l.e.opt.Save == nil {
		return
	}
	l.arrive(false)
	most := l.e.opt.Memory / int64(len(l.e.lanes))
	held := l.held()
	if l.e.opt.Memory == 0 || held <= most {
		return
	}
	if l.frozen != nil {
		if held <= most+most/4 {
			return
		}
		if !l.arrive(true) {
			return
		}
	}
	l.shed()
	if l.held() > most/2 {
		l.writeAhead()
		l.shed()
	}
	if held := l.held(); held > max(most, leastMemory) {
		l.e.fail(fmt.Errorf("what a lane needs for one turn takes %d bytes of the %d that it may hold: give the job more memory (settings: {memory}), or fewer keys at a time", held, most))
	}
}

// leastMemory is what a lane may hold in any case.
const leastMemory = 32 << 20

// arrive notes that the store has what the lane gave at its last mark; wait: as soon as it has. False where the run ends.
func (l *lane) arrive(wait bool) bool {
	if l.frozen == nil {
		return true
	}
	if wait {
		select {
		case <-l.frozen.written:
		case <-l.e.hard.Done():
			return false
		}
	}
	select {
	case <-l.frozen.written:
		l.frozen = nil
		for _, s := range l.steps {
			s.state.Written()
		}
		return true
	default:
		return false
	}
}

func (l *lane) held() (n int64) {
	for _, s := range l.steps {
		n += int64(s.state.Held().Bytes)
	}
	return n
}

func (l *lane) shed() {
	for _, s := range l.steps {
		s.state.Shed()
	}
}

// writeAhead writes what changed before the next mark comes. The lane has frozen nothing that is not written.
func (l *lane) writeAhead() {
	for _, s := range l.steps {
		if err := l.e.opt.Behind.Write(l.e.p.Steps[s.step].Name, l.number, l.e.opt.Lanes, s.state.Freeze()); err != nil {
			panic(state.Failure{Err: fmt.Errorf("step %s: write state: %w", l.e.p.Steps[s.step].Name, err)})
		}
		s.state.Written()
	}
}
