package service

import "sync"

// listeners are those who wait for news. The zero value has none. Safe for concurrent use; its lock is
// the innermost of all.
type listeners struct {
	mu  sync.Mutex // guards all
	all map[chan struct{}]bool
}

// listen gives a channel that is told of news until the function that it comes with is called. News
// that come faster than they are taken are told once.
func (l *listeners) listen() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.all == nil {
		l.all = map[chan struct{}]bool{}
	}
	l.all[c] = true
	return c, func() {
		l.mu.Lock()
		defer l.mu.Unlock()
		delete(l.all, c)
	}
}

func (l *listeners) tell() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for c := range l.all {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}
