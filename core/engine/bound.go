package engine

import "fmt"

// spill keeps a lane's state within its part of the memory, where a store stands behind it: rows that the store has as they
// are go. What changed is written ahead of the next mark once the state has grown to three quarters of its part, beside the
// lane, so that most of it may go as soon as the part is full.
//
// A row goes only once the store has it. A lane may have frozen several times: writes ahead, then a mark. They are
// carried out in that order, and what was frozen counts as on its way until all of them are.
type spill struct {
	pending []chan struct{} // what was frozen and is not yet in the store; closed once it is
	ahead   bool            // something was written ahead since rows were let go last
	begun   bool            // something lay in the store alone, or was written ahead
}

// bound is called between turns, and by steps in the midst of long work.
func (l *lane) bound() {
	if l.e.opt.Behind == nil || l.e.opt.Memory == nil {
		return
	}
	l.arrived(false)
	most := l.e.opt.Memory() / int64(len(l.e.lanes))
	held := l.held()
	if most == 0 || held <= most/4*3 {
		return
	}
	if held <= most {
		if len(l.spill.pending) == 0 && !l.spill.ahead {
			l.writeAhead()
		}
		return
	}
	l.shed()
	if l.held() > most/2 { // too much of it is not in the store yet
		if !l.arrived(true) {
			return
		}
		l.writeAhead()
		if !l.arrived(true) {
			return
		}
		l.shed()
	}
	if held := l.held(); held > max(most, leastMemory) {
		l.e.fail(fmt.Errorf("what a lane needs for one turn takes %d bytes of the %d that it may hold: give the job more memory (settings: {memory}), or fewer keys at a time", held, most))
	}
}

// arrived says whether the store has all that the lane has frozen; wait: as soon as it has. False where the run ends.
func (l *lane) arrived(wait bool) bool {
	p := &l.spill.pending
	if len(*p) == 0 {
		return true
	}
	for len(*p) > 0 {
		if wait {
			select {
			case <-(*p)[0]:
			case <-l.e.hard.Done():
				return false
			}
		}
		select {
		case <-(*p)[0]:
			*p = (*p)[1:]
		default:
			return false
		}
	}
	for _, s := range l.steps {
		s.state.Written()
	}
	return true
}

func (l *lane) held() (n int64) {
	for _, s := range l.steps {
		n += int64(s.state.Held().Bytes)
	}
	return n
}

func (l *lane) shed() {
	l.spill.ahead, l.spill.begun = false, true
	for _, s := range l.steps {
		s.state.Shed()
	}
}

// writeAhead freezes what changed, and writes it beside the lane, which has nothing else on its way.
func (l *lane) writeAhead() {
	l.spill.ahead, l.spill.begun = true, true
	done := make(chan struct{})
	l.spill.pending = append(l.spill.pending, done)
	for _, s := range l.steps {
		s.ahead = s.state.Freeze()
	}
	l.e.spawn(&l.e.writing, func() {
		for _, s := range l.steps {
			name := l.e.p.Steps[s.step].Name
			if err := l.e.opt.Behind.Write(name, l.number, l.e.opt.Lanes, s.ahead); err != nil {
				l.e.fail(fmt.Errorf("step %s: write state: %w", name, err))
				return
			}
			s.ahead = nil
		}
		close(done)
	})
}

// given tells a mark that the lane has given its part: once that is written which the lane wrote ahead of it.
func (l *lane) given(m *mark) {
	n := len(l.spill.pending)
	if n == 0 {
		m.done()
		return
	}
	last := l.spill.pending[n-1]
	l.e.spawn(nil, func() {
		select {
		case <-last:
			m.done()
		case <-l.e.hard.Done():
		}
	})
}
