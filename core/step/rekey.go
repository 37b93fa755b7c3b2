package step

import "undertide/core/state"

// rebuilds says whether so few of the keys are alive that the dictionary is made anew.
func rebuilds(keys, alive int) bool { return keys > 2*alive+slack }

// rekeying is a dictionary made anew without the keys that are gone, and what became of each. Whoever holds numbers of
// keys moves them before the old dictionary is let go.
//
// Of keys 0 to 3 with 1 and 3 alive, key 1 is now 0 and key 3 is 1: alive is [false true false true], to[1] is 0, to[3] is 1.
type rekeying struct {
	dict  *state.Dict
	alive []bool   // by old number
	to    []uint32 // by old number; means nothing of one that is gone
}

// rekey makes a dictionary of the keys that are alive. alive gives the old numbers that are; it is called once.
func rekey(old *state.Dict, alive func(mark []bool)) rekeying {
	r := rekeying{alive: make([]bool, old.Len())}
	alive(r.alive)
	r.dict, r.to = old.Keep(r.alive)
	return r
}

// numbers moves a list of keys, in place, and leaves out those that are gone.
func (r *rekeying) numbers(list []uint32) []uint32 {
	kept := list[:0]
	for _, id := range list {
		if r.alive[id] {
			kept = append(kept, r.to[id])
		}
	}
	return kept
}

// moved gives what is held by key, by the new numbers. Keys without an entry have the zero value.
func moved[T any](r *rekeying, by []T) []T {
	out := make([]T, r.dict.Len())
	for id, v := range by {
		if r.alive[id] {
			out[r.to[id]] = v
		}
	}
	return out
}
