package step

import (
	"math/bits"
	"slices"

	"undertide/core/row"
)

// dues are numbers with the time at which something is due for each, of which the due ones are taken out, in no order. It is a radix heap (Ahuja,
// Mehlhorn, Orlin and Tarjan, Faster Algorithms for the Shortest Path Problem, 1990): since what is taken out only grows, as a watermark does, it
// needs no tree.
//
// Place i has those whose time differs from last, the time up to which was taken out last, in bit i-1 as the highest: so all of a place are less than those of the
// next, and a number is put at the end of a list. What is due up to mark are the places before mark's own as they are, and some of mark's own, whose others go to the
// places before it, since last is mark then; what lies beyond stays where it is. Each number moves down some few times, one list after the other; a binary
// heap would follow a path of its own through memory for each.
//
// Example: last is 8 and 9, 12 and 15 are in. 9 differs in bit 0 and is in place 1, 12 and 15 in bit 2, in place 3. Up to 13 all of place 1 are due, and 12 of
// place 3; then last is 13, from which 15 differs in bit 1: it moves to place 2.
type dues struct {
	last   row.Time
	places [65][]dueAt // the first has what is due at last, or was when it came
	least  [65]row.Time
	some   uint64 // bit i-1: place i is not empty
	held   int
}

type dueAt struct {
	at row.Time
	n  uint32
}

const dueBytes = 16

func newDues() *dues { return &dues{last: row.MinTime} }

func (d *dues) place(at row.Time) int {
	if at <= d.last {
		return 0
	}
	return bits.Len64(uint64(at) ^ uint64(d.last))
}

// push puts a number in. A number may be in more than once.
func (d *dues) push(at row.Time, n uint32) {
	d.put(dueAt{at, n})
	d.held++
}

func (d *dues) put(x dueAt) {
	i := d.place(x.at)
	if len(d.places[i]) == 0 || x.at < d.least[i] {
		d.least[i] = x.at
	}
	d.places[i] = append(d.places[i], x)
	if i > 0 {
		d.some |= 1 << (i - 1)
	}
}

// first gives the first place that is not empty; there is one.
func (d *dues) first() int {
	if len(d.places[0]) > 0 {
		return 0
	}
	return 1 + bits.TrailingZeros64(d.some)
}

// next gives the least time; row.MaxTime for none.
func (d *dues) next() row.Time {
	if d.held == 0 {
		return row.MaxTime
	}
	return d.least[d.first()]
}

// take takes out what is due up to mark and appends it to into.
func (d *dues) take(mark row.Time, into []dueAt) []dueAt {
	if d.held == 0 || d.next() > mark {
		return into
	}
	before, own := len(into), d.place(mark)
	for i, list := range d.places[:own] {
		into = append(into, list...)
		d.places[i] = list[:0]
	}
	list := d.places[own]
	d.places[own] = list[:0]
	d.some = d.some >> own << own
	d.last = max(d.last, mark)
	for _, x := range list {
		if x.at <= mark {
			into = append(into, x)
		} else {
			d.put(x)
		}
	}
	d.held -= len(into) - before
	return into
}

// sortByTime sorts a list, digit by digit from the last on, so at a cost that grows with its length alone; spare is scratch. It gives the
// sorted list and scratch for the next, which have the memory of both.
func sortByTime(list, spare []dueAt) (sorted, rest []dueAt) {
	spare = slices.Grow(spare[:0], len(list))[:len(list)]
	differ := uint64(0) // the bits in which times differ
	for _, x := range list {
		differ |= uint64(x.at) ^ uint64(list[0].at)
	}
	const negative = 1 << 63 // turned, so that what is before 1970 comes first
	for shift := 0; shift < 64; shift += 8 {
		if differ>>shift&255 == 0 {
			continue
		}
		var from [256]int
		for _, x := range list {
			from[(uint64(x.at)^negative)>>shift&255]++
		}
		at := 0
		for digit, n := range from {
			from[digit] = at
			at += n
		}
		for _, x := range list {
			digit := (uint64(x.at) ^ negative) >> shift & 255
			spare[from[digit]] = x
			from[digit]++
		}
		list, spare = spare, list
	}
	return list, spare
}

// shrink lets go the memory of empty places, where far more have been in than are now.
func (d *dues) shrink() {
	for i, list := range d.places {
		if len(list) == 0 && cap(list) > 4*d.held+1<<10 {
			d.places[i] = nil
		}
	}
}

// each goes through all of them.
func (d *dues) each(f func(dueAt)) {
	for _, list := range d.places {
		for _, x := range list {
			f(x)
		}
	}
}

func (d *dues) bytes() int {
	n := 0
	for _, list := range d.places {
		n += dueBytes * cap(list)
	}
	return n
}
