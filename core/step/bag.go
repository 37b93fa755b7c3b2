package step

import "undertide/core/state"

// bag is accumulators by key: those of a slice of time, or of a node that joins slices.
//
// A bag is wide where the accumulators of key k have the number k: nothing is looked up, but it takes memory for
// all keys of the lane. Where few of them are in it, it is narrow: a table gives each key a slot of its own. An
// example: 100,000 keys, of which 500 come in a minute, and 1,440 open minutes. Wide slices would hold 144
// million accumulators, narrow ones hold 720,000.
type bag struct {
	accs
	narrow bool
	table  []uint32 // narrow: slot + 1 by a hash of the key, 0 for none; a power of two long
	ids    []uint32 // narrow: by slot, its key
	// added, where it is asked for: by slot, the moment of the lane at which a row was added last.
	added []int64
	// changed, of a slice whose state is kept: the slots that changed since the last mark.
	changed state.Set
	// sent are the slots that were frozen and are not yet in the store.
	sent state.Set
	all  []*accs // scratch of joinAll
}

const (
	// wideUnder: with so few keys in the lane every bag is wide.
	wideUnder = 1024 >> (9 * checked)
	// wideShare: a bag is wide from a quarter of the lane's keys on, and narrow again below a sixteenth.
	wideShare, narrowShare = 4, 16
)

// slotHash spreads the numbers of keys, which are dense.
func slotHash(key uint32) uint32 { return key * 2654435769 >> 7 }

// find gives the slot of a key; false where it has none.
func (b *bag) find(key uint32) (uint32, bool) {
	if !b.narrow {
		return key, int(key) < len(b.rows) && b.rows[key] > 0
	}
	if len(b.table) == 0 {
		return 0, false
	}
	mask := uint32(len(b.table) - 1)
	for at := slotHash(key) & mask; b.table[at] != 0; at = (at + 1) & mask {
		if slot := b.table[at] - 1; b.ids[slot] == key {
			return slot, true
		}
	}
	return 0, false
}

// put gives the slot of a key, made if need be. keys is the number of the lane's keys.
func (b *bag) put(key uint32, keys int) uint32 {
	if !b.narrow {
		b.grow(keys)
		return key
	}
	if slot, ok := b.find(key); ok {
		return slot
	}
	slot := uint32(len(b.ids))
	b.ids = append(b.ids, key)
	b.grow(len(b.ids))
	if 3*len(b.ids) > 2*len(b.table) {
		b.rehash()
	} else {
		b.enter(key, slot)
	}
	return slot
}

func (b *bag) enter(key, slot uint32) {
	mask := uint32(len(b.table) - 1)
	at := slotHash(key) & mask
	for b.table[at] != 0 {
		at = (at + 1) & mask
	}
	b.table[at] = slot + 1
}

// rehash makes the table anew, from ids.
func (b *bag) rehash() {
	size := 16
	for 3*len(b.ids) > size {
		size *= 2
	}
	if size > len(b.table) {
		b.table = make([]uint32, size)
	} else {
		clear(b.table)
	}
	for slot, key := range b.ids {
		b.enter(key, uint32(slot))
	}
}

// slotsOf gives the slots of some keys, into dst where the bag is narrow.
func (b *bag) slotsOf(dst, ids []uint32, keys int) []uint32 {
	if !b.narrow {
		b.grow(keys)
		return ids
	}
	dst = dst[:0]
	for _, id := range ids {
		dst = append(dst, b.put(id, keys))
	}
	return dst
}

// key gives the key of a slot.
func (b *bag) key(slot uint32) uint32 {
	if b.narrow {
		return b.ids[slot]
	}
	return slot
}

// touch notes that some slots have changed.
func (b *bag) touch(slots ...uint32) {
	b.changed.Grow(len(b.rows))
	for _, s := range slots {
		b.changed.Add(s)
	}
}

// note remembers that rows were added to some slots.
func (b *bag) note(slots []uint32, moment int64) {
	for len(b.added) < len(b.rows) {
		b.added = append(b.added, 0)
	}
	for _, s := range slots {
		b.added[s] = moment
	}
}

// when gives the moment at which a row was added to a slot last; 0 where none was noted.
func (b *bag) when(slot uint32) int64 {
	if int(slot) < len(b.added) {
		return b.added[slot]
	}
	return 0
}

// fit makes the bag wide or narrow, as its share of the lane's keys has become.
func (b *bag) fit(keys int) {
	switch {
	case b.narrow && (keys <= wideUnder || wideShare*b.keys >= keys):
		b.remake(false, keys, func(key uint32) (uint32, bool) { return key, true })
	case !b.narrow && keys > wideUnder && narrowShare*b.keys < keys:
		b.remake(true, keys, func(key uint32) (uint32, bool) { return key, true })
	}
}

// renumber gives the keys the numbers that they have in the lane's next dictionary of so many keys.
func (b *bag) renumber(to []uint32, keys int) {
	if b.narrow {
		for slot, key := range b.ids {
			b.ids[slot] = to[key]
		}
		clear(b.table)
		b.rehash()
		return
	}
	b.remake(keys > wideUnder && narrowShare*b.keys < keys, keys, func(key uint32) (uint32, bool) { return to[key], true })
}

// remake moves all accumulators into a bag that is wide or narrow.
func (b *bag) remake(narrow bool, keys int, number func(key uint32) (uint32, bool)) {
	next := bag{accs: *newAccs(b.def), narrow: narrow}
	for slot, n := range b.rows {
		if n == 0 {
			continue
		}
		key, ok := number(b.key(uint32(slot)))
		if !ok {
			continue
		}
		to := next.put(key, keys)
		next.merge(to, &b.accs, uint32(slot))
		if moment := b.when(uint32(slot)); moment > 0 {
			next.note([]uint32{to}, moment)
		}
		next.copyMarks(to, b, uint32(slot))
	}
	*b = next
}

// joinAll makes the bag what srcs have together, the oldest first, whatever it had.
func (b *bag) joinAll(srcs []*bag, keys int) {
	wide, all := true, b.all[:0]
	for _, src := range srcs {
		wide, all = wide && !src.narrow, append(all, &src.accs)
	}
	if !wide {
		b.empty(srcs[0].narrow)
		for _, src := range srcs {
			b.join(src, keys)
		}
		return
	}
	if b.narrow {
		b.empty(false)
	}
	b.accs.joinAll(all)
	b.all = all
	b.added = b.added[:0]
	for _, src := range srcs {
		for slot := range src.added {
			if moment := src.added[slot]; moment > b.when(uint32(slot)) {
				b.note([]uint32{uint32(slot)}, moment)
			}
		}
	}
}

// join adds what src has, whose rows come after.
func (b *bag) join(src *bag, keys int) {
	if b.narrow && !src.narrow {
		b.remake(false, keys, func(key uint32) (uint32, bool) { return key, true })
	}
	for slot, n := range src.rows {
		if n == 0 {
			continue
		}
		to := b.put(src.key(uint32(slot)), keys)
		b.merge(to, &src.accs, uint32(slot))
		if moment := src.when(uint32(slot)); moment > b.when(to) {
			b.note([]uint32{to}, moment)
		}
	}
}

// empty takes all out and keeps the memory, but not that for far more keys than it had.
func (b *bag) empty(narrow bool) {
	if b.narrow != narrow {
		*b = bag{accs: *newAccs(b.def), narrow: narrow}
		return
	}
	b.clear()
	clear(b.table)
	b.ids, b.added = b.ids[:0], b.added[:0]
	b.changed.Clear()
	b.sent.Clear()
}

// copyMarks notes of a slot what is noted of a slot of another bag.
func (b *bag) copyMarks(to uint32, src *bag, from uint32) {
	if src.changed.Has(from) {
		b.changed.Put(to)
	}
	if src.sent.Has(from) {
		b.sent.Put(to)
	}
}

func (b *bag) bytes() int {
	return b.accs.bytes() + 4*cap(b.table) + 4*cap(b.ids) + 8*cap(b.added) + b.changed.Bytes() + b.sent.Bytes()
}
