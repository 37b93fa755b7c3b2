package state

import "bytes"

// Dict numbers keys densely from 0 in order of arrival. Key bytes lie in one arena that is only
// appended to; the index has 32-bit slots.
type Dict struct {
	slots  []uint32 // number + 1; 0 is free
	hashes []uint64
	off    []uint64 // key i is arena[off[i]:off[i+1]]; the arena may grow beyond four GiB
	arena  []byte
}

// NewDict makes an empty dictionary.
func NewDict() *Dict {
	return &Dict{slots: make([]uint32, 64), off: []uint64{0}}
}

// Len gives how many keys there are.
func (d *Dict) Len() int { return len(d.hashes) }

// Key gives the bytes of a key; they live as long as the dictionary.
func (d *Dict) Key(id uint32) []byte { return d.arena[d.off[id]:d.off[id+1]] }

// Hash gives the hash that the key came with.
func (d *Dict) Hash(id uint32) uint64 { return d.hashes[id] }

// Bytes is about how much memory the dictionary takes.
func (d *Dict) Bytes() int {
	return 4*cap(d.slots) + 8*cap(d.hashes) + 8*cap(d.off) + cap(d.arena)
}

// Find gives the number of a key; false where it is not there.
func (d *Dict) Find(key []byte, hash uint64) (uint32, bool) {
	mask := uint64(len(d.slots) - 1)
	for at := slotOf(hash) & mask; d.slots[at] != 0; at = (at + 1) & mask {
		if id := d.slots[at] - 1; d.hashes[id] == hash && bytes.Equal(d.arena[d.off[id]:d.off[id+1]], key) {
			return id, true
		}
	}
	return 0, false
}

// Put finds the key or adds it.
func (d *Dict) Put(key []byte, hash uint64) uint32 {
	mask := uint64(len(d.slots) - 1)
	at := slotOf(hash) & mask
	for {
		s := d.slots[at]
		if s == 0 {
			return d.add(key, hash, at)
		}
		if id := s - 1; d.hashes[id] == hash && bytes.Equal(d.arena[d.off[id]:d.off[id+1]], key) {
			return id
		}
		at = (at + 1) & mask
	}
}

// slotOf mixes the hash once more, so that a lane whose shares take one residue of the hash still
// spreads over its slots.
func slotOf(hash uint64) uint64 { return hash ^ hash>>32 }

func (d *Dict) add(key []byte, hash, at uint64) uint32 {
	id := uint32(len(d.hashes))
	d.hashes = append(d.hashes, hash)
	d.arena = append(d.arena, key...)
	d.off = append(d.off, uint64(len(d.arena)))
	d.slots[at] = id + 1
	if 3*len(d.hashes) > 2*len(d.slots) {
		d.index(2 * len(d.slots))
	}
	return id
}

func (d *Dict) index(size int) {
	d.slots = make([]uint32, size)
	mask := uint64(size - 1)
	for id, h := range d.hashes {
		at := slotOf(h) & mask
		for d.slots[at] != 0 {
			at = (at + 1) & mask
		}
		d.slots[at] = uint32(id) + 1
	}
}

// Keep makes a dictionary of the marked keys only, and gives for each old number the new one
// (meaningless for keys that are gone).
func (d *Dict) Keep(live []bool) (*Dict, []uint32) {
	size := 64
	n := 0
	for _, l := range live {
		if l {
			n++
		}
	}
	for 3*n > 2*size {
		size *= 2
	}
	next := &Dict{off: []uint64{0}}
	to := make([]uint32, len(live))
	for id, l := range live {
		if !l {
			continue
		}
		to[id] = uint32(len(next.hashes))
		next.hashes = append(next.hashes, d.hashes[id])
		next.arena = append(next.arena, d.Key(uint32(id))...)
		next.off = append(next.off, uint64(len(next.arena)))
	}
	next.index(size)
	return next, to
}
