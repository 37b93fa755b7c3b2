package journal

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"undertide/connect"
)

// Intake is how a source that reaches out fills its journal, and what it knows of whoever sends. Safe for concurrent use.
type Intake struct {
	*Journal
	Way   connect.Health // to whoever sends
	write connect.Health // of the journal

	mu    sync.Mutex // guards since
	since time.Time
}

// NewIntake makes one that fills j.
func NewIntake(j *Journal) *Intake { return &Intake{Journal: j} }

// Put writes events down, and waits for as long as the journal cannot take them: nothing more is read meanwhile. False where they cannot be
// any more.
func (i *Intake) Put(ctx context.Context, events [][]byte) bool {
	pauses := connect.Pauses()
	for {
		_, _, err := i.Append("", events)
		switch {
		case err == nil:
			i.write.OK()
			return true
		case errors.Is(err, ErrClosed):
			return false
		}
		i.write.Fault(err.Error())
		select {
		case <-time.After(pauses.NextBackOff()):
		case <-ctx.Done():
			return false
		}
	}
}

// Present notes since when whoever sends has been there; zero for not at all.
func (i *Intake) Present(since time.Time) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.since = since
}

// Quiet gives for how long nothing came while whoever sends was there: what waits there else, nobody knows.
func (i *Intake) Quiet(p *Partition) (from, to time.Time) {
	i.mu.Lock()
	since := i.since
	i.mu.Unlock()
	if from, to = p.Quiet(); since.IsZero() || to.IsZero() {
		return time.Time{}, time.Time{}
	}
	if from.Before(since) {
		from = since
	}
	return from, to
}

// Trouble words what keeps events from coming; empty for nothing. away and unwritten are what is said of whoever sends, and of the journal;
// more are other troubles.
func (i *Intake) Trouble(away, unwritten string, more ...string) string {
	var out []string
	for _, text := range append([]string{i.Way.Trouble(away), i.write.Trouble(unwritten)}, more...) {
		if text != "" {
			out = append(out, text)
		}
	}
	return strings.Join(out, "; ")
}
