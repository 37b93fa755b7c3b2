package state

import "math/bits"

// Set is a set of numbers that are dense: of keys, slots, sessions. The zero value is empty.
type Set struct{ words []uint64 }

// Grow makes room for numbers 0 to n-1, so that Add needs not look.
func (s *Set) Grow(n int) {
	if n = (n + 63) / 64; n > len(s.words) {
		if n <= cap(s.words) {
			s.words = s.words[:n]
		} else {
			s.words = append(s.words, make([]uint64, n-len(s.words))...)
		}
	}
}

// Add adds a number that there is room for.
func (s *Set) Add(n uint32) { s.words[n>>6] |= 1 << (n & 63) }

// Put adds a number, and makes room for it.
func (s *Set) Put(n uint32) {
	s.Grow(int(n) + 1)
	s.Add(n)
}

// Remove takes a number out.
func (s *Set) Remove(n uint32) {
	if int(n>>6) < len(s.words) {
		s.words[n>>6] &^= 1 << (n & 63)
	}
}

// Has says whether a number is in it.
func (s *Set) Has(n uint32) bool {
	return int(n>>6) < len(s.words) && s.words[n>>6]>>(n&63)&1 != 0
}

// Each hands over the numbers in order.
func (s *Set) Each(take func(n uint32)) {
	for i, w := range s.words {
		for ; w != 0; w &= w - 1 {
			take(uint32(i<<6 + bits.TrailingZeros64(w)))
		}
	}
}

// Join adds the numbers of another set.
func (s *Set) Join(o *Set) {
	s.Grow(64 * len(o.words))
	for i, w := range o.words {
		s.words[i] |= w
	}
}

// Clear empties it and keeps the memory.
func (s *Set) Clear() {
	clear(s.words)
	s.words = s.words[:0]
}

// Moved gives the set by other numbers: those of to, where alive.
func (s *Set) Moved(alive []bool, to []uint32, n int) Set {
	var out Set
	out.Grow(n)
	s.Each(func(id uint32) {
		if int(id) < len(alive) && alive[id] {
			out.Add(to[id])
		}
	})
	return out
}

// Bytes is the memory that it takes.
func (s *Set) Bytes() int { return 8 * cap(s.words) }
