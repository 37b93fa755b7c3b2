package step

import (
	"cmp"
	"fmt"
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// revisions are what a step with aligned windows knows where a window may have several rows: what was published of
// each, and what is to be published again.
//
// A row that may change published windows is noted once, for its slice and key, and not for each window over it.
// The windows are worked out as something is published: of a correction those that were closed and still kept
// under the watermark that the row was read under, of a preview those that are not closed by then. An example:
// with `{sliding: 1h, by: 1s}` and `late: {accept: 1m}` a row that is in time notes nothing, one that is late
// by ten seconds one entry, which becomes ten corrections once the watermark moves.
type revisions struct {
	shown map[int64]*shownWindow
	// moment counts publications: rows that are added after one have a later moment. It tells repeats whether
	// rows were added since a window's last row.
	moment int64

	owed     []dirtyKey // rows that were late for closed windows, all read under owedMark
	owedMark row.Time
	preview  []dirtyKey // rows since the last beat of previews
	pruneAt  int        // so many of them are looked through for those of slices that are gone
}

// dirtyKey is a key of a slice that got rows.
type dirtyKey struct {
	slice int64
	key   uint32
}

// owed is a row of a window that is to be published again.
type owed struct {
	window int64
	key    uint32
}

// The lists that slice.dirty tells of.
const (
	inOwed uint8 = 1 << iota
	inPreview
)

// shownWindow is what was published of a window, by key.
type shownWindow struct {
	by      map[uint32]shownKey
	changed state.Set // keys, since the last mark
}

// shownKey is what was published of a window and key. With repeats there is one for each key that was looked at,
// also where `having` let nothing out: at tells that there is no news since.
type shownKey struct {
	published
	at int64 // the moment of the last row
}

func (r *revisions) of(window int64) *shownWindow {
	s := r.shown[window]
	if s == nil {
		s = &shownWindow{by: map[uint32]shownKey{}}
		r.shown[window] = s
	}
	return s
}

// row decides what becomes of a key's next row. repeats says whether the window's rows are repeated.
func (s *shownWindow) row(key uint32, moment int64, meets, closed, repeats bool) verdict {
	k := s.by[key]
	k.at = moment
	v := k.published.row(meets, closed)
	if v.show || k.next > 0 || repeats {
		s.by[key] = k
		s.changed.Put(key)
	}
	return v
}

// note notes a row of a slice and key that is read under mark.
func (l *alignedLane) note(s *slice, key uint32, mark row.Time) {
	var lists uint8
	if l.def.Revised && s.lastEnd > mark {
		lists = inPreview
	}
	if l.def.Accept > 0 && s.firstEnd <= mark {
		lists |= inOwed
		l.owedMark = mark
	}
	if lists == 0 {
		return
	}
	lists = s.mark(key, lists)
	if lists&inPreview != 0 {
		l.preview = append(l.preview, dirtyKey{s.n, key})
	}
	if lists&inOwed != 0 {
		l.owed = append(l.owed, dirtyKey{s.n, key})
	}
}

// windowsOf gives the windows of dirty slices that meet a condition on their end, each window and key once, in
// order.
func (l *alignedLane) windowsOf(list []dirtyKey, meets func(end row.Time) bool) []owed {
	var out []owed
	for _, d := range list {
		s := l.at(d.slice)
		if s == nil {
			continue // dropped, with all windows over it
		}
		for k := s.first; k <= s.last; k++ {
			if meets(l.w.End(k)) {
				out = append(out, owed{k, d.key})
			}
		}
	}
	slices.SortFunc(out, func(a, b owed) int { return cmp.Or(cmp.Compare(a.window, b.window), cmp.Compare(a.key, b.key)) })
	return slices.Compact(out)
}

// unmark takes a list's entries off their slices.
func (l *alignedLane) unmark(list []dirtyKey, lists uint8) {
	for _, d := range list {
		s := l.at(d.slice)
		if s == nil {
			continue
		}
		if left := s.dirty[d.key] &^ lists; left != 0 {
			s.dirty[d.key] = left
		} else {
			delete(s.dirty, d.key)
		}
		if slot, ok := s.find(d.key); ok && l.keeps {
			s.touch(slot)
		}
	}
}

// corrections gives the windows that are owed one.
func (l *alignedLane) corrections() []owed {
	accept := row.Time(l.def.Accept.Microseconds())
	return l.windowsOf(l.owed, func(end row.Time) bool { return end <= l.owedMark && end+accept > l.owedMark })
}

// dueForPreview gives the windows that are not closed and got rows.
func (l *alignedLane) dueForPreview() []owed {
	return l.windowsOf(l.preview, func(end row.Time) bool { return end > l.mark })
}

// prune drops the entries of slices that are gone.
func (l *alignedLane) prune() {
	if len(l.preview) < l.pruneAt {
		return
	}
	l.preview = slices.DeleteFunc(l.preview, func(d dirtyKey) bool { return l.at(d.slice) == nil })
	l.pruneAt = 2*len(l.preview) + slack
}

func (l *alignedLane) owes() bool { return len(l.owed) > 0 }

// publishCorrections publishes what is owed, once the watermark has moved.
func (l *alignedLane) publishCorrections(t *Turn, out Out) {
	list := l.corrections()
	l.unmark(l.owed, inOwed)
	l.owed = l.owed[:0]
	l.publishSome(list, t.Passed(l.owedMark+1), out)
}

func (l *alignedLane) publishPreviews(t *Turn, out Out) {
	list := l.dueForPreview()
	l.unmark(l.preview, inPreview)
	l.preview = l.preview[:0]
	l.publishSome(list, uint16(len(t.Marks)-1), out)
}

// publishSome publishes rows of windows and keys, in order of window.
func (l *alignedLane) publishSome(list []owed, index uint16, out Out) {
	for len(list) > 0 {
		k := list[0].window
		n := slices.IndexFunc(list, func(o owed) bool { return o.window != k })
		if n < 0 {
			n = len(list)
		}
		l.due.reset()
		end := l.w.End(k)
		l.due.of(l.w.Start(k), end, index)
		l.bringKeys(k, list[:n])
		b := l.contents(k, l.dict.Len())
		for _, o := range list[:n] {
			if b == nil {
				break
			}
			if slot, ok := b.find(o.key); ok && l.news(k, o.key, b, slot) {
				d := &l.due
				d.acc, d.key, d.slot = append(d.acc, slot), append(d.key, o.key), append(d.slot, int(o.key))
			}
		}
		list = list[n:]
		if len(l.due.key) > 0 {
			l.publishShown(k, b, end <= l.mark, out)
		}
	}
}

// news says whether a window's key got rows since its last row: a repeat may have shown them meanwhile.
func (l *alignedLane) news(k int64, key uint32, b *bag, slot uint32) bool {
	was, is := l.of(k).by[key]
	return l.def.RepeatEvery == 0 || !is || b.when(slot) > was.at
}

// publishShown publishes what is due of a window that may have several rows.
func (l *alignedLane) publishShown(k int64, b *bag, closed bool, out Out) {
	sh := l.of(k)
	l.moment++
	l.pub.publish(&l.due, &b.accs, l.dict, out, func(key int, meets bool) verdict {
		return sh.row(uint32(key), l.moment-1, meets, closed, l.def.RepeatEvery > 0)
	})
}

// repeat publishes a row for each key and kept window: the last one again, or the next where rows were
// added since.
func (l *alignedLane) repeat(mark row.Time, t *Turn, out Out) {
	if len(l.open) == 0 {
		return
	}
	keep := row.Time(l.def.RepeatKeep.Microseconds())
	last := l.open[len(l.open)-1].last
	for k, ok := l.nextWindow(l.open[0].first); ok && k <= last; k, ok = l.nextWindow(k + 1) {
		end := l.w.End(k)
		if beyond(end, keep) <= mark {
			continue
		}
		l.inParts(k, func(first, last int) { l.repeatWindow(k, uint16(len(t.Marks)-1), first, last, out) })
	}
}

// repeatWindow does so for the keys of a window whose share is from first to last.
func (l *alignedLane) repeatWindow(k int64, index uint16, first, last int, out Out) {
	b := l.contents(k, l.dict.Len())
	if b == nil {
		return
	}
	l.due.reset()
	l.all(k, b, index, first, last)
	sh := l.of(k)
	closed := l.w.End(k) <= l.mark
	l.moment++
	l.pub.publish(&l.due, &b.accs, l.dict, out, func(key int, meets bool) verdict {
		slot, _ := b.find(uint32(key))
		if was := sh.by[uint32(key)]; was.next > 0 && b.when(slot) <= was.at {
			return was.again(closed)
		}
		return sh.row(uint32(key), l.moment-1, meets, closed, true)
	})
}

// rekeyRevisions gives keys the numbers of the next dictionary, and drops those that are gone.
func (l *alignedLane) rekeyRevisions(r *rekeying) {
	live, to := r.alive, r.to
	dirty := func(list []dirtyKey) []dirtyKey {
		kept := list[:0]
		for _, d := range list {
			if live[d.key] && l.at(d.slice) != nil {
				kept = append(kept, dirtyKey{d.slice, to[d.key]})
			}
		}
		return kept
	}
	l.owed, l.preview = dirty(l.owed), dirty(l.preview)
	for _, sh := range l.shown {
		by := make(map[uint32]shownKey, len(sh.by))
		for key, k := range sh.by {
			if live[key] {
				by[to[key]] = k
			}
		}
		sh.by, sh.changed = by, sh.changed.Moved(live, to, r.dict.Len())
	}
}

// saveNews appends what is to be published again for a key of a slice, and when a row was added to it last.
func (l *alignedLane) saveNews(cols []*row.Column, s *slice, key, slot uint32) {
	lists := s.dirty[key]
	cols[0].AppendBool(lists&inPreview != 0)
	if lists&inOwed != 0 {
		cols[1].AppendInt(int64(l.owedMark))
	} else {
		cols[1].AppendNull()
	}
	cols[2].AppendInt(s.when(slot))
}

// loadNews takes that back. Moments of different lanes are counted differently, but those of one key by one lane; the
// lane goes on behind all of them.
func (l *alignedLane) loadNews(cols []*row.Column, i int, s *slice, key, slot uint32) {
	if cols[0].I[i] != 0 {
		s.mark(key, inPreview)
		l.preview = append(l.preview, dirtyKey{s.n, key})
	}
	if !cols[1].IsNull(i) {
		s.mark(key, inOwed)
		l.owed, l.owedMark = append(l.owed, dirtyKey{s.n, key}), row.Time(cols[1].I[i])
	}
	if at := cols[2].I[i]; at > 0 {
		s.note([]uint32{slot}, at)
		l.moment = max(l.moment, at+1)
	}
}

// freezeShown copies what was published since the last mark.
func (l *alignedLane) freezeShown(c *state.Changes) {
	for k, sh := range l.shown {
		start := l.w.Start(k)
		sh.changed.Each(func(key uint32) {
			was := sh.by[key]
			cols := c.Put(l.dict.Key(key), l.dict.Hash(key), start)
			cols[0].AppendInt(int64(was.next))
			cols[1].AppendBool(was.standing)
			cols[2].AppendInt(was.at)
		})
		sh.changed.Clear()
	}
}

// loadShown takes what was published back.
func (l *alignedLane) loadShown(r *state.Rows) error {
	return keysOf(r, l.dict, func(i int, id uint32) error {
		start := r.Span[i]
		k, _ := l.w.Windows(l.w.SliceOf(start))
		for l.w.Start(k) < start {
			k++
		}
		if l.w.Start(k) != start {
			return fmt.Errorf("the state has a window that begins at %s, which the step does not make: the document has changed", start)
		}
		at := r.Cols[2].I[i]
		l.of(k).by[id] = shownKey{published{int32(r.Cols[0].I[i]), r.Cols[1].I[i] != 0}, at}
		l.moment = max(l.moment, at+1)
		return nil
	})
}
