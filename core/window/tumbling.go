// Package window says which windows a time belongs to. Tumbling windows are here; the other kinds
// follow docs/time.md, "Windows", and take the same place in a step.
package window

import (
	"time"

	"undertide/core/row"
)

// Tumbling windows follow each other without gap: start = floor((t - shift) / size) * size + shift,
// half open (docs/time.md, "Windows").
type Tumbling struct {
	Size  time.Duration // > 0, whole microseconds
	Shift time.Duration
}

// Start gives the start of the window that holds t.
func (w Tumbling) Start(t row.Time) row.Time {
	size, shift := row.Time(w.Size.Microseconds()), row.Time(w.Shift.Microseconds())
	r := (t - shift) % size
	if r < 0 {
		r += size
	}
	return t - r
}

// End gives the end of the window that starts at start.
func (w Tumbling) End(start row.Time) row.Time { return start + row.Time(w.Size.Microseconds()) }
