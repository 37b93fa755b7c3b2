package step

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// SideHeld is what is kept of a side of a join, because it may meet more partners.
type SideHeld struct {
	Rows     int64   // in the store alone, too
	Bytes    int64   // in memory
	Heaviest []Heavy // the keys with most rows in memory, the heaviest first
}

// Heavy is a key and how many rows it has.
type Heavy struct {
	Key  string // as people read it
	Rows int64
}

// mostHeavy are told of.
const mostHeavy = 5

// Add takes what another lane keeps, of other keys.
func (h *SideHeld) Add(d SideHeld) {
	h.Rows += d.Rows
	h.Bytes += d.Bytes
	h.Heaviest = heaviest(append(slices.Clone(h.Heaviest), d.Heaviest...))
}

// heaviest sorts keys and leaves the first.
func heaviest(all []Heavy) []Heavy {
	slices.SortFunc(all, func(a, b Heavy) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), strings.Compare(a.Key, b.Key)) })
	return all[:min(mostHeavy, len(all))]
}

// scales say when a lane weighs what it keeps: that goes over all rows, so it is done once a second, and less often where there are very many rows.
type scales struct{ next row.Time }

// due says whether it is time, with so many rows.
func (s *scales) due(t *Turn, rows int) bool {
	if t.Now < s.next && t.After != row.MaxTime {
		return false
	}
	s.next = t.Now.Plus(time.Second + time.Duration(rows)*time.Microsecond)
	return true
}

// weigh works out what is kept of each side. What was given before stays as it is.
func (l *joinLane) weigh() {
	held := make([]SideHeld, len(l.sides))
	for side := range l.sides {
		s, h := &l.sides[side], &held[side]
		for _, p := range s.spans {
			h.Rows += p.rows
		}
		h.Bytes = int64(s.bytes())
		h.Heaviest = l.heaviest(side)
	}
	l.held = held
}

// heaviest counts the rows of each key that wait on a side.
func (l *joinLane) heaviest(side int) []Heavy {
	s := &l.sides[side]
	l.perKey = append(l.perKey[:0], make([]uint32, l.dict.Len())...)
	for at, id := range s.key {
		if l.waits(side, s.rows.Times[at]) && !s.told.Has(uint32(at)) {
			l.perKey[id]++
		}
	}
	type one struct{ id, rows uint32 }
	var top []one // the heaviest first
	for id, n := range l.perKey {
		if n == 0 || len(top) == mostHeavy && n <= top[mostHeavy-1].rows {
			continue
		}
		at := len(top)
		for at > 0 && top[at-1].rows < n {
			at--
		}
		if top = slices.Insert(top, at, one{uint32(id), n}); len(top) > mostHeavy {
			top = top[:mostHeavy]
		}
	}
	var out []Heavy
	for _, o := range top {
		out = append(out, Heavy{l.keyText(o.id), int64(o.rows)})
	}
	return out
}

// keyText writes a key for people.
func (l *joinLane) keyText(id uint32) string {
	var names []string
	var cols []*row.Column
	for _, f := range l.def.Keys.KeySchema() {
		names, cols = append(names, f.Name), append(cols, row.NewColumn(f.Kind))
	}
	if err := state.AppendKey(cols, l.dict.Key(id)); err != nil {
		panic(err) // it was encoded here
	}
	return KeyText(names, cols, 0)
}
