package run

import (
	"cmp"
	"slices"

	"undertide/core/step"
)

// refPick is set: {NAME: FIELD …}, only: NAMES.
type refPick struct {
	refLate
	set  map[string]string
	only []string
}

func (s *refPick) move(int64) []refRow { return nil }
func (s *refPick) take(r refRow, _ int64) []refRow {
	s.used++
	out := refRow{t: r.t}
	for _, name := range s.only {
		of := name
		if f, ok := s.set[name]; ok {
			of = f
		}
		out = out.with(name, r.get(of))
	}
	return []refRow{out}
}

// refJoin is a join, as docs/time.md has it: rows are tried against all of their key that were taken.
type refJoin struct {
	refLate
	left, right []string // all fields of each side
	match       [][2]string
	from, to    int64
	tumbling    int64 // in place of from and to, where it is not 0
	accept      int64
	unmatched   [2]bool
	drop        string // where DROP == null || DROP % 5 != 2; empty for none
	rows        []refJoined
	byKey       [2]map[string][]int // places in rows
	wait        [2][]int            // of rows that met none, and are not published
}

// key is what must be equal; false where a part of it is null.
func (s *refJoin) key(r refRow) (key string, ok bool) {
	for _, m := range s.match {
		v := r.get(m[r.side])
		if v == nil {
			return "", false
		}
		key += refText(keyValue(v)) + "\x00"
	}
	return key, true
}

type refJoined struct {
	row refRow
	met bool
}

// partners says whether rows of these times are.
func (s *refJoin) partners(left, right int64) bool {
	if s.tumbling > 0 {
		return refFloor(left, s.tumbling) == refFloor(right, s.tumbling)
	}
	return right-left >= s.from && right-left <= s.to
}

// until is the last time that a partner of a row may have.
func (s *refJoin) until(r refRow) int64 {
	switch {
	case s.tumbling > 0:
		return (refFloor(r.t, s.tumbling)+1)*s.tumbling - 1
	case r.side == step.LeftSide:
		return r.t + s.to
	}
	return r.t - s.from
}

// back is how far W behind the step stands back.
func (s *refJoin) back() int64 {
	most := int64(0)
	for side, on := range s.unmatched {
		switch {
		case on && s.tumbling > 0:
			most = max(most, s.tumbling)
		case on && side == step.LeftSide:
			most = max(most, s.to)
		case on:
			most = max(most, -s.from)
		}
	}
	return s.accept + most
}

// result joins the fields of two rows, of which one may be missing.
func (s *refJoin) result(left, right *refRow) (out refRow) {
	for _, name := range s.left {
		var v any
		if left != nil {
			v = left.get(name)
		} else if i := slices.IndexFunc(s.match, func(m [2]string) bool { return m[0] == name }); i >= 0 {
			v = right.get(s.match[i][1])
		}
		out = out.with(name, v)
	}
	for _, name := range s.right {
		if slices.ContainsFunc(s.match, func(m [2]string) bool { return m[1] == name }) {
			continue
		}
		var v any
		if right != nil {
			v = right.get(name)
		}
		out = out.with(name, v)
	}
	return out
}

func (s *refJoin) alone(r *refRow) refRow {
	out := s.result(r, nil)
	if r.side == step.RightSide {
		out = s.result(nil, r)
	}
	out.t = r.t
	return out
}

// publish leaves out what `where` drops.
func (s *refJoin) publish(rows ...refRow) (out []refRow) {
	for _, r := range rows {
		if v, ok := r.get(s.drop).(int64); ok && v%5 == 2 {
			s.dropped++
		} else {
			out = append(out, r)
		}
	}
	return out
}

func (s *refJoin) take(r refRow, w int64) (out []refRow) {
	c := &s.sides[r.side]
	c.Rows++
	if w != never && w != ever && r.t < w-s.accept || w == ever {
		c.Late++
		s.lost++
		by := refSpan(w - r.t)
		s.refLate.rows = append(s.refLate.rows, s.alone(&r).with("side", step.Sides[r.side]).with("late_by", by))
		return nil
	}
	s.used++
	key, matches := s.key(r)
	var met []int
	if matches {
		for _, i := range s.byKey[1-r.side][key] {
			left, right := r.t, s.rows[i].row.t
			if r.side == step.RightSide {
				left, right = right, left
			}
			if s.partners(left, right) {
				met = append(met, i)
			}
		}
	}
	slices.SortStableFunc(met, func(a, b int) int { return cmp.Compare(s.rows[a].row.t, s.rows[b].row.t) })
	for _, i := range met {
		o := &s.rows[i]
		pair := s.result(&r, &o.row)
		if r.side == step.RightSide {
			pair = s.result(&o.row, &r)
		}
		pair.t = max(r.t, o.row.t)
		s.pairs++
		if out = append(out, s.publish(pair)...); !o.met {
			o.met = true
			s.sides[o.row.side].Matched++
		}
	}
	if len(met) > 0 {
		c.Matched++
	}
	switch waits := matches && !(w != never && s.until(r)+s.accept < w); {
	case waits:
		if s.byKey[r.side] == nil {
			s.byKey[r.side] = map[string][]int{}
		}
		s.byKey[r.side][key] = append(s.byKey[r.side][key], len(s.rows))
		if len(met) == 0 {
			s.wait[r.side] = append(s.wait[r.side], len(s.rows))
		}
		s.rows = append(s.rows, refJoined{row: r, met: len(met) > 0})
	case len(met) == 0:
		c.Unmatched++
		if s.unmatched[r.side] {
			out = append(out, s.publish(s.alone(&r))...)
		}
	}
	return out
}

func (s *refJoin) move(w int64) (out []refRow) {
	for side, on := range s.unmatched {
		s.wait[side] = slices.DeleteFunc(s.wait[side], func(i int) bool {
			x := &s.rows[i]
			if !x.met && (w == ever || w != never && s.until(x.row)+s.accept < w) {
				s.sides[side].Unmatched++
				if on {
					out = append(out, s.alone(&x.row))
				}
				return true
			}
			return x.met
		})
	}
	slices.SortStableFunc(out, compareMade)
	return s.publish(out...)
}
