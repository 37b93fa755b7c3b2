package connect

import (
	"fmt"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Health notes how the talk with something outside goes, for [engine.Troubled] and [engine.Retrier]. Safe for concurrent use.
type Health struct {
	mu      sync.Mutex // guards all below
	failing time.Time  // the first failure since the last success; zero for none
	why     string
	retries int64
}

// OK notes a success.
func (h *Health) OK() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.failing = time.Time{}
}

// Fault notes a failure after which it is tried again.
func (h *Health) Fault(why string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.failing.IsZero() {
		h.failing = time.Now()
	}
	h.retries++
	h.why = why
}

// Pauses are those between tries of something outside, each anew: 0.1 s, 0.2 s, 0.4 s … 5 s, up to a third longer or shorter,
// so that not all come at once (docs/delivery.md).
func Pauses() *backoff.ExponentialBackOff {
	return &backoff.ExponentialBackOff{InitialInterval: 100 * time.Millisecond, Multiplier: 2, MaxInterval: 5 * time.Second, RandomizationFactor: 0.3}
}

// troubling is how long failures last before they are trouble.
const troubling = 2 * time.Second

// Trouble words failures that last, "NOT for 5s: why"; empty for none. not is what is said of it, such as: broker harbour
// has not answered.
func (h *Health) Trouble(not string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.failing.IsZero() || time.Since(h.failing) < troubling {
		return ""
	}
	return fmt.Sprintf("%s for %s: %s", not, time.Since(h.failing).Round(time.Second), h.why)
}

// Retries counts the failures.
func (h *Health) Retries() int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.retries
}
