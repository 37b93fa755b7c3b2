package engine

// partHeap is a binary heap of partitions. Each knows its place in it, so that one whose key has changed is
// put right, or taken out, in logarithmic time.
//
// The invariant: no item comes before its parent, and *at(items[i]) is i; at is -1 for a partition that is
// not in the heap.
type partHeap struct {
	items  []*partition
	before func(p, q *partition) bool
	at     func(p *partition) *int
}

// least gives the first of all; nil for none.
func (h *partHeap) least() *partition {
	if len(h.items) == 0 {
		return nil
	}
	return h.items[0]
}

// second gives the first of all but the least; nil for none.
func (h *partHeap) second() *partition {
	switch {
	case len(h.items) < 2:
		return nil
	case len(h.items) > 2 && h.before(h.items[2], h.items[1]):
		return h.items[2]
	}
	return h.items[1]
}

func (h *partHeap) has(p *partition) bool { return *h.at(p) >= 0 }

// put adds p, or puts it right after its key has changed.
func (h *partHeap) put(p *partition) {
	at := h.at(p)
	if *at < 0 {
		*at = len(h.items)
		h.items = append(h.items, p)
	}
	if !h.down(*at) {
		h.up(*at)
	}
}

// remove takes p out, if it is there.
func (h *partHeap) remove(p *partition) {
	i, last := *h.at(p), len(h.items)-1
	if i < 0 {
		return
	}
	if i != last {
		h.swap(i, last)
	}
	h.items[last] = nil
	h.items = h.items[:last]
	*h.at(p) = -1
	if i != last && !h.down(i) {
		h.up(i)
	}
}

func (h *partHeap) swap(i, j int) {
	h.items[i], h.items[j] = h.items[j], h.items[i]
	*h.at(h.items[i]), *h.at(h.items[j]) = i, j
}

func (h *partHeap) up(i int) {
	for i > 0 && h.before(h.items[i], h.items[(i-1)/2]) {
		h.swap(i, (i-1)/2)
		i = (i - 1) / 2
	}
}

func (h *partHeap) down(i int) (moved bool) {
	for {
		first := i
		for c := 2*i + 1; c <= 2*i+2 && c < len(h.items); c++ {
			if h.before(h.items[c], h.items[first]) {
				first = c
			}
		}
		if first == i {
			return moved
		}
		h.swap(i, first)
		i, moved = first, true
	}
}
