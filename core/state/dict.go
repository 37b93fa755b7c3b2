package state

import (
	"bytes"
	"encoding/binary"
)

// Dict numbers keys densely from 0 in order of arrival. The index has 32-bit slots; the bytes of long keys lie in one arena
// that is only appended to.
type Dict struct {
	slots   []uint32 // number + 1; 0 is free
	entries []entry  // by number
	arena   []byte
	touched byte // keeps what PutAll touches from being left out
}

// entry is a key. A short one is in it, so that whoever has the entry has waited for its bytes too: two of them take a line of the
// processor's cache. Of a longer one it has where the bytes begin in the arena, which may grow beyond four GiB.
type entry struct {
	hash uint64
	size uint32
	text [shortKey]byte
}

const (
	shortKey   = 20
	entryBytes = 32
)

// NewDict makes an empty dictionary.
func NewDict() *Dict { return &Dict{slots: make([]uint32, 64)} }

// Len gives how many keys there are.
func (d *Dict) Len() int { return len(d.entries) }

// Key gives the bytes of a key; they live as long as the dictionary.
func (d *Dict) Key(id uint32) []byte {
	e := &d.entries[id]
	if e.size <= shortKey {
		return e.text[:e.size]
	}
	from := e.from()
	return d.arena[from : from+uint64(e.size)]
}

// from is where the bytes of a long key begin.
func (e *entry) from() uint64 { return binary.LittleEndian.Uint64(e.text[:]) }

// Hash gives the hash that the key came with.
func (d *Dict) Hash(id uint32) uint64 { return d.entries[id].hash }

// Bytes is about how much memory the dictionary takes.
func (d *Dict) Bytes() int {
	return 4*cap(d.slots) + entryBytes*cap(d.entries) + cap(d.arena)
}

// is says whether a key has this number.
func (d *Dict) is(id uint32, key []byte, hash uint64) bool {
	return d.entries[id].hash == hash && bytes.Equal(d.Key(id), key)
}

// Find gives the number of a key; false where it is not there.
func (d *Dict) Find(key []byte, hash uint64) (uint32, bool) {
	mask := uint64(len(d.slots) - 1)
	for at := slotOf(hash) & mask; d.slots[at] != 0; at = (at + 1) & mask {
		if id := d.slots[at] - 1; d.is(id, key, hash) {
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
		if id := s - 1; d.is(id, key, hash) {
			return id
		}
		at = (at + 1) & mask
	}
}

// atOnce is how many keys are looked for at a time.
const atOnce = 64

// PutAll is Put for many: it appends the numbers of keys[j], for each j of which, to ids.
//
// Slots, entries and bytes of a long key lie anywhere in memory, so the processor would wait two or three times for each key. It goes
// over the keys several times instead, so that it waits for many at once, and compares last; a key that is
// new is put alone.
func (d *Dict) PutAll(keys *Keys, which []uint16, ids []uint32) []uint32 {
	var slot [atOnce]uint32
	var seen byte
	for len(which) > 0 {
		some := which[:min(atOnce, len(which))]
		which = which[len(some):]
		mask := uint64(len(d.slots) - 1)
		for n, j := range some {
			slot[n] = d.slots[slotOf(keys.Hash[j])&mask]
		}
		for n := range some { // their entries, before anything hangs on what is in them
			if slot[n] != 0 {
				seen += byte(d.entries[slot[n]-1].hash)
			}
		}
		for n, j := range some { // those that stand behind another's slot are few
			hash := keys.Hash[j]
			for at := slotOf(hash); slot[n] != 0 && d.entries[slot[n]-1].hash != hash; {
				at++
				slot[n] = d.slots[at&mask]
			}
		}
		for n := range some {
			if len(d.arena) == 0 {
				break
			}
			if slot[n] != 0 && d.entries[slot[n]-1].size > shortKey {
				seen |= d.arena[d.entries[slot[n]-1].from()]
			}
		}
		for n, j := range some {
			if key := keys.Bytes(int(j)); slot[n] != 0 && bytes.Equal(d.Key(slot[n]-1), key) {
				ids = append(ids, slot[n]-1)
			} else {
				ids = append(ids, d.Put(key, keys.Hash[j]))
			}
		}
	}
	d.touched = seen
	return ids
}

// slotOf mixes the hash once more, so that a lane whose shares take one residue of the hash still
// spreads over its slots.
func slotOf(hash uint64) uint64 { return hash ^ hash>>32 }

func (d *Dict) add(key []byte, hash, at uint64) uint32 {
	id := uint32(d.Len())
	d.enter(key, hash)
	d.slots[at] = id + 1
	if 3*d.Len() > 2*len(d.slots) {
		d.index(2 * len(d.slots))
	}
	return id
}

// enter adds a key to the entries.
func (d *Dict) enter(key []byte, hash uint64) {
	e := entry{hash: hash, size: uint32(len(key))}
	if len(key) <= shortKey {
		copy(e.text[:], key)
	} else {
		binary.LittleEndian.PutUint64(e.text[:], uint64(len(d.arena)))
		d.arena = append(d.arena, key...)
	}
	d.entries = append(d.entries, e)
}

func (d *Dict) index(size int) {
	d.slots = make([]uint32, size)
	mask := uint64(size - 1)
	for id := range d.Len() {
		at := slotOf(d.entries[id].hash) & mask
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
	next := &Dict{}
	to := make([]uint32, len(live))
	for id, l := range live {
		if !l {
			continue
		}
		to[id] = uint32(next.Len())
		next.enter(d.Key(uint32(id)), d.entries[id].hash)
	}
	next.index(size)
	return next, to
}
