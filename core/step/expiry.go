package step

import "undertide/core/row"

// expiry forgets keys that had no row for some time: each `after` its greatest event time (docs/time.md,
// "Windows", "Other steps with state").
//
// A key has at most one entry in the queue. It may be due too early, since later rows of the key do not move it;
// then it is put in again. So a row costs no work on the queue but for a key's first.
type expiry struct {
	after  row.Time
	last   []row.Time // by key: its greatest time; row.MinTime where it is forgotten
	queued []row.Time // by key: when its entry is due; row.MaxTime without
	queue  queue
	live   int // keys that are not forgotten
}

// grow makes room for keys 0 to n-1.
func (e *expiry) grow(n int) {
	for len(e.last) < n {
		e.last, e.queued = append(e.last, row.MinTime), append(e.queued, row.MaxTime)
	}
}

// knows says whether a key had a row that is not forgotten.
func (e *expiry) knows(id uint32) bool { return int(id) < len(e.last) && e.last[id] != row.MinTime }

// passed says whether the watermark has passed a known key's time.
func (e *expiry) passed(id uint32, mark row.Time) bool {
	return e.knows(id) && beyond(e.last[id], e.after) <= mark
}

// touch notes a row of a key.
func (e *expiry) touch(id uint32, at row.Time) {
	if e.last[id] == row.MinTime {
		e.live++
	}
	e.last[id] = max(e.last[id], at)
	if e.queued[id] == row.MaxTime {
		e.queued[id] = beyond(e.last[id], e.after)
		e.queue.push(e.queued[id], id)
	}
}

// drop forgets a key.
func (e *expiry) drop(id uint32) {
	e.last[id] = row.MinTime
	e.live--
}

// due hands over the keys whose time the watermark has passed, in order of that; forget must drop them.
func (e *expiry) due(mark row.Time, forget func(id uint32)) {
	for len(e.queue) > 0 && e.queue.next() <= mark {
		id := e.queue.pop().n
		e.queued[id] = row.MaxTime
		switch {
		case e.last[id] == row.MinTime:
		case e.passed(id, mark):
			forget(id)
		default:
			e.queued[id] = beyond(e.last[id], e.after)
			e.queue.push(e.queued[id], id)
		}
	}
}

// rekey gives keys the numbers of the next dictionary.
func (e *expiry) rekey(r *rekeying) {
	old := *e
	*e = expiry{after: old.after}
	e.grow(r.dict.Len())
	for id, is := range r.alive {
		if is && old.knows(uint32(id)) {
			e.touch(r.to[id], old.last[id])
		}
	}
}

// known marks the keys that are not forgotten.
func (e *expiry) known(mark []bool) {
	for id := range mark {
		mark[id] = e.knows(uint32(id))
	}
}

func (e *expiry) bytes() int { return 8*(cap(e.last)+cap(e.queued)) + queuedBytes*cap(e.queue) }
