package step

import (
	"math"
	"math/bits"
	"slices"
	"sort"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/window"
)

// timeline is the accumulators of the pieces of time that windows share: slices, which rows are added to, and
// nodes, which join them (docs/time.md, "Same input, same output").
type timeline struct {
	def    *Window
	keeps  bool // slices note what changes
	w      window.Aligned
	open   []*slice // by number
	spare  []*slice // emptied, for reuse
	narrow bool     // of the last slice that was closed: so will the next one be
	nodes  map[node]*bag
	joined int64  // the slices from this one on are in no node
	levels int    // of nodes within a window
	unused []*bag // nodes that are gone, emptied
	sum    *bag   // of the window at hand
	parts  []*bag // that it joins
	held   int    // bytes of slices and nodes
	cold   int    // keys of slices that lie in the store alone
	slots  []uint32
}

// slice is the accumulators of one piece of the time line, between two starts or ends of windows.
type slice struct {
	bag
	n           int64
	start, end  row.Time
	first, last int64    // windows that it is part of
	firstEnd    row.Time // of the first of them
	lastEnd     row.Time
	ordinal     int // among the slices touched since the last flush, or -1
	counted     int // its bytes in held
	// dirty has, by key, the lists of the lane that have this slice and key.
	dirty map[uint32]uint8
	// cold counts the keys that lie in the store alone, away knows them; see [cold].
	cold int
	away state.Filter
}

// node is a run of 2^level slices that begins at a multiple of its length.
type node struct {
	level int
	at    int64
}

func newTimeline(d *Window, keeps bool) timeline {
	l := timeline{def: d, keeps: keeps, w: *d.Aligned, nodes: map[node]*bag{}, joined: math.MinInt64, sum: &bag{accs: *newAccs(&d.spec)}}
	from, to := l.w.Slices(0)
	l.levels = bits.Len64(uint64(to - from))
	return l
}

// at gives the open slice of this number, nil for none.
func (l *timeline) at(n int64) *slice {
	i := sort.Search(len(l.open), func(k int) bool { return l.open[k].n >= n })
	if i < len(l.open) && l.open[i].n == n {
		return l.open[i]
	}
	return nil
}

// find gives the open slice of this number, made if need be; keys is the number of the lane's keys.
func (l *timeline) find(n int64, keys int) (s *slice, made bool) {
	i := len(l.open)
	if i > 0 && l.open[i-1].n >= n { // else the newest, as is usual
		i = sort.Search(len(l.open), func(k int) bool { return l.open[k].n >= n })
		if l.open[i].n == n {
			return l.open[i], false
		}
	}
	narrow := keys > wideUnder && l.narrow
	if k := len(l.spare); k > 0 {
		s, l.spare = l.spare[k-1], l.spare[:k-1]
		s.empty(narrow)
	} else {
		s = &slice{bag: bag{accs: *newAccs(&l.def.spec), narrow: narrow}}
	}
	s.n, s.ordinal, s.counted = n, -1, 0
	s.cold, s.away = 0, state.Filter{}
	s.start, s.end = l.w.SliceStart(n), l.w.SliceStart(n+1)
	s.first, s.last = l.w.Windows(n)
	s.firstEnd, s.lastEnd = l.w.End(s.first), l.w.End(s.last)
	l.open = slices.Insert(l.open, i, s)
	return s, true
}

// add takes rows for keys of a slice; moment, where it is not 0, is noted.
func (l *timeline) add(s *slice, x *Exchange, ids []uint32, rows []uint16, keys int, moment int64) {
	slots := s.slotsOf(l.slots, ids, keys)
	if s.narrow {
		l.slots = slots
	}
	s.bag.add(x, slots, rows)
	if moment > 0 {
		s.note(slots, moment)
	}
	if l.keeps {
		s.touch(slots...)
	}
	s.fit(keys)
	l.count(s)
	l.forgetNodes(s.n)
}

// count brings held up to what a slice has now.
func (l *timeline) count(s *slice) {
	n := s.bytes() + s.away.Bytes()
	l.held += n - s.counted
	s.counted = n
}

// close takes the first so many slices out; it gives how many keys they had.
func (l *timeline) close(n, keys int) (closed int) {
	for _, s := range l.open[:n] {
		closed += s.keys
		l.narrow = wideShare*s.keys < keys
		l.held -= s.counted
		l.forgetNodes(s.n)
		s.dirty = nil
		l.cold -= s.cold
		if len(l.spare) < 4 {
			s.empty(s.narrow)
			l.spare = append(l.spare, s)
		}
	}
	l.open = slices.Delete(l.open, 0, n)
	return closed
}

// nextWindow gives the first window from k on that has an open slice; false for none.
func (l *timeline) nextWindow(k int64) (int64, bool) {
	for _, s := range l.open {
		if s.last >= k {
			return max(k, s.first), true
		}
	}
	return 0, false
}

// contents gives the accumulators of a window, nil for none. They last until the next call.
func (l *timeline) contents(k int64, keys int) *bag {
	from, to := l.w.Slices(k)
	if to-from == 1 {
		if s := l.at(from); s != nil {
			return &s.bag
		}
		return nil
	}
	l.parts = l.parts[:0]
	for lo := from; lo < to; {
		level := min(bits.TrailingZeros64(uint64(lo)), bits.Len64(uint64(to-lo))-1)
		if lo == 0 {
			level = bits.Len64(uint64(to)) - 1
		}
		if b := l.node(level, lo>>level, keys); b != nil {
			l.parts = append(l.parts, b)
		}
		lo += 1 << level
	}
	switch len(l.parts) {
	case 0:
		return nil
	case 1:
		return l.parts[0]
	}
	l.sum.joinAll(l.parts, keys)
	return l.sum
}

// node gives the accumulators of a node, nil when no slice of it has any. It keeps what it has joined.
func (l *timeline) node(level int, at int64, keys int) *bag {
	if level == 0 {
		if s := l.at(at); s != nil {
			return &s.bag
		}
		return nil
	}
	key := node{level, at}
	if b, ok := l.nodes[key]; ok {
		return b
	}
	left, right := l.node(level-1, 2*at, keys), l.node(level-1, 2*at+1, keys)
	switch {
	case left == nil:
		return right
	case right == nil:
		return left
	}
	var b *bag
	if n := len(l.unused); n > 0 {
		b, l.unused = l.unused[n-1], l.unused[:n-1]
	} else {
		b = &bag{accs: *newAccs(&l.def.spec)}
	}
	b.joinAll([]*bag{left, right}, keys)
	if b.narrow {
		b.fit(keys)
	}
	l.nodes[key] = b
	l.joined = max(l.joined, (at+1)<<level)
	l.held += b.bytes()
	return b
}

// forgetNodes drops the nodes that hold a slice, since it has changed or is gone.
func (l *timeline) forgetNodes(n int64) {
	for level := 1; level <= l.levels && n < l.joined; level++ {
		key := node{level, n >> level}
		if b := l.nodes[key]; b != nil {
			delete(l.nodes, key)
			l.held -= b.bytes()
			if len(l.unused) < 2*l.levels {
				l.unused = append(l.unused, b)
			}
		}
	}
}

// live marks the keys that an open slice has, and gives how many entries that is.
func (l *timeline) live(live []bool) {
	for _, s := range l.open {
		for slot, n := range s.rows {
			if n > 0 {
				live[s.key(uint32(slot))] = true
			}
		}
	}
}

// renumber gives the keys of all slices the numbers of the next dictionary.
func (l *timeline) renumber(live []bool, to []uint32, keys int) {
	l.spare, l.unused, l.sum = nil, nil, &bag{accs: *newAccs(&l.def.spec)}
	clear(l.nodes)
	l.joined = math.MinInt64
	l.held = 0
	for _, s := range l.open {
		s.bag.renumber(to, keys)
		dirty := s.dirty
		s.dirty = nil
		for key, lists := range dirty {
			if live[key] {
				s.mark(to[key], lists)
			}
		}
		s.counted = 0
		l.count(s)
	}
}

// mark notes that lists of the lane have this slice and key; it gives those that did not have them before.
func (s *slice) mark(key uint32, lists uint8) uint8 {
	if s.dirty == nil {
		s.dirty = map[uint32]uint8{}
	}
	before := s.dirty[key]
	s.dirty[key] = before | lists
	return lists &^ before
}
