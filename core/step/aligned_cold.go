package step

import "undertide/core/state"

// Keys of slices may lie in the store alone, each slice's for itself: a key may be in memory of the slice that rows come
// for, and not of those before. What the watermark makes due of a window needs all slices of a key, so those are fetched
// first: for a whole window in parts by share, each of which is let go again.

// want names a key of a slice, where it may lie in the store alone.
func (l *alignedLane) want(wanted *state.Rows, s *slice, key []byte, hash uint64) {
	if s == nil || s.cold == 0 || !s.away.Has(hash) {
		return
	}
	if id, ok := l.dict.Find(key, hash); ok {
		if _, here := s.find(id); here {
			return
		}
	}
	wanted.AddName(l.table, key, hash, s.start)
}

func (l *alignedLane) fetch(wanted *state.Rows) {
	l.behind.find(l.table, wanted, l.back)
}

// back takes rows that lay in the store alone.
func (l *alignedLane) back(r *state.Rows) {
	for i := range r.N {
		if s := l.at(l.w.SliceOf(r.Span[i])); s != nil && s.cold > 0 {
			s.cold--
			l.cold--
		}
	}
	l.behind.must(l.Load(0, r))
}

// Bring implements [Lane].
func (l *alignedLane) Bring(x *Exchange, lane int, _ *Turn) {
	if l.cold == 0 {
		return
	}
	wanted := state.NewNames(l.table)
	var s *slice
	for _, j := range x.Lanes[lane] {
		if at := x.Times[x.Sel[j]]; s == nil || at < s.start || at >= s.end {
			if s = l.at(l.w.SliceOf(at)); s == nil {
				continue
			}
		}
		l.want(wanted, s, x.Keys.Bytes(int(j)), x.Keys.Hash[j])
	}
	l.fetch(wanted)
}

// bringKeys fetches some keys of all slices of a window.
func (l *alignedLane) bringKeys(k int64, keys []owed) {
	if l.cold == 0 {
		return
	}
	wanted := state.NewNames(l.table)
	from, to := l.w.Slices(k)
	for n := from; n < to; n++ {
		s := l.at(n)
		for _, o := range keys {
			l.want(wanted, s, l.dict.Key(o.key), l.dict.Hash(o.key))
		}
	}
	l.fetch(wanted)
}

// coldIn counts the keys of a window's slices that lie in the store alone.
func (l *alignedLane) coldIn(k int64) (n int) {
	if l.cold == 0 {
		return 0
	}
	from, to := l.w.Slices(k)
	for i := from; i < to; i++ {
		if s := l.at(i); s != nil {
			n += s.cold
		}
	}
	return n
}

// inParts calls do for shares of the lane's, one range after another, with all that a window has of them in memory; for
// all shares at once where nothing lies in the store alone.
func (l *alignedLane) inParts(k int64, do func(first, last int)) {
	from, to := l.w.Slices(k)
	l.behind.inParts(l.table, l.w.SliceStart(from), l.w.SliceStart(to), l.coldIn(k), l.backUnlessHere, do)
}

// backUnlessHere takes rows of a scan: those in memory count, also where the store has other ones.
func (l *alignedLane) backUnlessHere(r *state.Rows) {
	var here []int
	for i := range r.N {
		s := l.at(l.w.SliceOf(r.Span[i]))
		if s == nil || s.cold == 0 {
			here = append(here, i)
			continue
		}
		if id, ok := l.dict.Find(r.Key(i), r.Hash[i]); ok {
			if _, in := s.find(id); in {
				here = append(here, i)
			}
		}
	}
	l.back(r.Without(here))
}

// Shed lets go the keys of slices that the store has as they are. What is to be published again stays.
func (l *alignedLane) Shed() {
	if l.behind == nil {
		return
	}
	gone := false
	for _, s := range l.open {
		gone = l.shedSlice(s) || gone
	}
	if !gone {
		return
	}
	r := rekey(l.dict, func(mark []bool) {
		l.live(mark)
		l.revisions.known(mark)
	})
	l.dict = r.dict
	l.rekeyRevisions(&r)
	l.renumber(r.alive, r.to, r.dict.Len())
}

func (l *alignedLane) shedSlice(s *slice) (any bool) {
	next := bag{accs: *newAccs(s.def), narrow: true}
	expect(&s.away, s.keys)
	for slot, n := range s.rows {
		slot := uint32(slot)
		if n == 0 {
			continue
		}
		key := s.key(slot)
		if s.changed.Has(slot) || s.sent.Has(slot) || s.dirty[key] != 0 {
			to := next.put(key, l.dict.Len())
			next.merge(to, &s.accs, slot)
			if moment := s.when(slot); moment > 0 {
				next.note([]uint32{to}, moment)
			}
			next.copyMarks(to, &s.bag, slot)
			continue
		}
		any = true
		s.cold++
		l.cold++
		if hash := l.dict.Hash(key); !s.away.Has(hash) {
			s.away.Add(hash)
		}
	}
	if any {
		s.bag = next
		l.forgetNodes(s.n)
		l.count(s)
	}
	return any
}

// known marks the keys that are published, or are to be again.
func (r *revisions) known(mark []bool) {
	for _, sh := range r.shown {
		for key := range sh.by {
			mark[key] = true
		}
	}
	for _, list := range [][]dirtyKey{r.owed, r.preview} {
		for _, d := range list {
			mark[d.key] = true
		}
	}
}
