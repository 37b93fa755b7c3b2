package access

import (
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Tries bounds how often somebody may try a password: of each name, and from each address. A name that is tried too often
// waits, whether there is such a person or not. The zero value is ready; safe for concurrent use.
//
// For one name ten tries are free, then one every six seconds: 100 wrong passwords take nine minutes. From one address it
// is 30 and then one a second.
type Tries struct {
	mu           sync.Mutex // guards all below
	names, hosts limiters
}

// limiters are those of names or addresses.
type limiters struct {
	all    map[string]*rate.Limiter
	forgot time.Time // when those that had rested were forgotten last
}

// mostTried bounds how many names and addresses are remembered. Where there are more, those that have rested are forgotten.
const mostTried = 10_000

// From says how long whoever tries a code from an address has to wait; 0 for not at all. Codes are too long to be guessed: it is the work that is bounded.
func (t *Tries) From(host string, now time.Time) (wait time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := t.host(host, now)
	if wait = Wait(from, now); wait == 0 {
		from.AllowN(now, 1)
	}
	return wait
}

// Try says how long whoever tries a name from an address has to wait; 0 for not at all. Names are compared without their case.
func (t *Tries) Try(name, host string, now time.Time) (wait time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := t.host(host, now)
	if wait = Wait(from, now); wait > 0 {
		return wait
	}
	of := t.names.of(strings.ToLower(name), rate.Every(6*time.Second), 10, now)
	if wait = Wait(of, now); wait == 0 { // a try that has to wait costs nothing: whoever may try next is not put off by it
		of.AllowN(now, 1)
		from.AllowN(now, 1)
	}
	return wait
}

// host is the limiter of an address.
func (t *Tries) host(host string, now time.Time) *rate.Limiter {
	return t.hosts.of(host, rate.Every(time.Second), 30, now)
}

// Wait gives how long it takes until a limiter lets one through; 0 where it does now.
func Wait(l *rate.Limiter, now time.Time) time.Duration {
	if has := l.TokensAt(now); has < 1 {
		return time.Duration((1 - has) / float64(l.Limit()) * float64(time.Second))
	}
	return 0
}

func (x *limiters) of(key string, every rate.Limit, burst int, now time.Time) *rate.Limiter {
	if x.all == nil {
		x.all = map[string]*rate.Limiter{}
	}
	if l := x.all[key]; l != nil {
		return l
	}
	if len(x.all) >= mostTried && now.Sub(x.forgot) >= time.Second { // looking at all of them costs a millisecond
		x.forgot = now
		for k, l := range x.all {
			if l.TokensAt(now) >= float64(l.Burst()) {
				delete(x.all, k)
			}
		}
	}
	if len(x.all) >= mostTried { // all of them are at it just now: whoever was not seen yet waits with the others of them
		key = ""
		if l := x.all[key]; l != nil {
			return l
		}
	}
	l := rate.NewLimiter(every, burst)
	x.all[key] = l
	return l
}
