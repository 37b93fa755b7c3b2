package step

import "undertide/core/row"

// queue is a binary heap. It gives numbers in order of the time at which something is due for them; equal times by seq.
type queue []queued

type queued struct {
	at  row.Time
	seq uint64
	n   uint32
}

const queuedBytes = 24

func (q queued) before(p queued) bool { return q.at < p.at || q.at == p.at && q.seq < p.seq }

// push puts a number in, equal times by number.
func (q *queue) push(at row.Time, n uint32) { q.put(queued{at, uint64(n), n}) }

func (q *queue) put(x queued) {
	h := append(*q, x)
	for i := len(h) - 1; i > 0; {
		up := (i - 1) / 2
		if !h[i].before(h[up]) {
			break
		}
		h[i], h[up] = h[up], h[i]
		i = up
	}
	*q = h
}

func (q *queue) pop() queued {
	h := *q
	top := h[0]
	last := len(h) - 1
	h[0] = h[last]
	h = h[:last]
	for i := 0; ; {
		least := i
		for c := 2*i + 1; c <= 2*i+2 && c < last; c++ {
			if h[c].before(h[least]) {
				least = c
			}
		}
		if least == i {
			break
		}
		h[i], h[least] = h[least], h[i]
		i = least
	}
	if cap(h) > 4*len(h)+1024 { // it has been far longer
		h = append(make(queue, 0, 2*len(h)), h...)
	}
	*q = h
	return top
}

// next gives the least time; row.MaxTime for none.
func (q queue) next() row.Time {
	if len(q) == 0 {
		return row.MaxTime
	}
	return q[0].at
}
