package step

import (
	"cmp"
	"slices"

	"undertide/core/row"
	"undertide/core/state"
)

// cold knows what of a table with rows by key lies in the store alone, and when something of it becomes due.
//
// A key's rows are in memory together or not at all. They are let go once the store has them as they are; before a turn
// that asks for the key they are fetched again, with those of all other such keys of the turn, in order. The filter knows
// every key that was ever let go: a key that it does not know is new, and nobody looks for it.
//
// Where keys become due with the watermark, a table of the store says when each that lies there does. It is derived: a
// start makes it anew, as keys are let go while it loads.
type cold struct {
	keyFinder
	b      *behind
	table  *state.Table
	filter state.Filter
	rows   int          // that lie there
	index  *state.Table // by due; nil where nothing becomes due
	due    row.Time     // nothing that lies there is due before; row.MaxTime for nothing
	going  *state.Changes
}

// newCold makes one of which nothing lies in the store alone; due: keys become due with the watermark.
func newCold(o LaneOptions, t *state.Table, due bool, f keyFinder) cold {
	c := cold{keyFinder: f, b: newBehind(o), table: t, due: row.MaxTime}
	if due {
		c.index = &state.Table{Name: "due", Span: "due", Key: t.Key, Derived: true}
	}
	return c
}

// keyFinder says where the rows of a lane's keys are.
type keyFinder struct {
	dict func() *state.Dict
	// here says whether a key's rows are in memory, or gone for good.
	here func(id uint32) bool
	load func(table int, r *state.Rows) error
}

// found says whether a key's rows are in memory, or gone for good.
func (f *keyFinder) found(key []byte, hash uint64) bool {
	id, ok := f.dict().Find(key, hash)
	return ok && f.here(id)
}

// bring fetches the rows of an exchange's keys that lie in the store alone.
func (c *cold) bring(x *Exchange, lane int) {
	if c.rows == 0 {
		return
	}
	wanted := state.NewNames(c.table)
	for _, j := range x.Lanes[lane] {
		c.want(wanted, x.Keys.Bytes(int(j)), x.Keys.Hash[j])
	}
	c.fetch(wanted)
}

// want names a key's rows, where they may lie in the store alone.
func (c *cold) want(wanted *state.Rows, key []byte, hash uint64) {
	if c.filter.Has(hash) && !c.found(key, hash) {
		wanted.AddName(c.table, key, hash, 0)
	}
}

func (c *cold) fetch(wanted *state.Rows) {
	c.b.find(c.table, wanted, c.back)
	if c.rows <= 0 {
		c.forget()
	}
}

// back takes rows that lay in the store alone.
func (c *cold) back(r *state.Rows) {
	c.rows -= r.N
	c.b.must(c.load(0, r))
}

// expect makes room in a filter for about so many keys that are about to be let go, and for others that will follow.
func expect(f *state.Filter, keys int) {
	if f.Len() == 0 && keys > 0 {
		f.Expect(4 * keys)
	}
}

// let notes that so many rows of a key lie in the store alone from now on, of which something is due at a time. The
// caller ends with done.
func (c *cold) let(key []byte, hash uint64, rows int, due row.Time) {
	c.rows += rows
	if !c.filter.Has(hash) {
		c.filter.Add(hash)
	}
	if c.index == nil || due == row.MaxTime {
		return
	}
	if c.going == nil {
		c.going = state.NewChanges(c.index)
	}
	c.going.Put(key, hash, due)
	c.due = min(c.due, due)
}

// done writes when keys that were let go are due.
func (c *cold) done() {
	if c.going != nil {
		c.b.write(c.going)
		c.going = nil
	}
}

// letAll lets go the first n keys of the dictionary that may go, each with a row and the time at which that is due; it
// says whether there were any. The caller takes them out of memory.
func (c *cold) letAll(n int, goes func(id uint32) bool, due func(id uint32) row.Time) (any bool) {
	if c.b == nil {
		return false
	}
	expect(&c.filter, n)
	dict := c.dict()
	for id := range uint32(n) {
		if goes(id) {
			any = true
			c.let(dict.Key(id), dict.Hash(id), 1, due(id))
		}
	}
	c.done()
	return any
}

// forget notes that nothing lies there any more.
func (c *cold) forget() { c.rows, c.filter, c.due = 0, state.Filter{}, row.MaxTime }

// portion is how many keys are brought at once because something of them is due.
const portion = 1 << 14 >> (12 * checked)

// bringDue fetches keys of which something is due up to mark, not more than a portion; it gives the time up to which
// all are in memory: mark, or one before it, and then there are more.
func (c *cold) bringDue(mark row.Time) (upTo row.Time) {
	if c.rows == 0 || c.index == nil || c.due > mark {
		return mark
	}
	wanted, gone := state.NewNames(c.table), state.NewChanges(c.index)
	n := 0
	upTo = mark
	first, last := c.b.shares()
	at := row.MinTime
	c.b.scan(c.index, row.MinTime, row.MaxTime, first, last, func(r *state.Rows) bool {
		for i := range r.N {
			// keys that are due at one time come together
			if r.Span[i] > mark || n >= portion && r.Span[i] > at {
				c.due = r.Span[i]
				if r.Span[i] <= mark {
					upTo = at
				}
				return false
			}
			at = r.Span[i]
			n++
			gone.Drop(r.Key(i), r.Hash[i], at)
			c.want(wanted, r.Key(i), r.Hash[i])
		}
		c.due = row.MaxTime
		return true
	})
	c.b.write(gone)
	c.fetch(wanted)
	return upTo
}

// eachDue calls do with ascending times up to mark, with all keys in memory of which something is due by then. Between
// them rows may be let go.
func (c *cold) eachDue(mark row.Time, do func(upTo row.Time)) {
	for {
		upTo := c.bringDue(mark)
		if do(upTo); upTo == mark {
			return
		}
		c.b.ease()
	}
}

// partKeys is about how many keys are brought at once where all of them are asked for.
const partKeys = 1 << 17 >> (15 * checked)

// inParts calls do for one range of shares after another, with all rows of those in memory; for all shares at once where
// nothing lies in the store alone. Between them rows may be let go.
func (c *cold) inParts(do func(first, last int)) {
	c.b.inParts(c.table, row.MinTime, row.MaxTime, c.rows, func(r *state.Rows) {
		var here []int
		for i := range r.N {
			if c.found(r.Key(i), r.Hash[i]) {
				here = append(here, i)
			}
		}
		c.back(r.Without(here))
	}, do)
}

// inParts calls do for one range of shares after another, of about partKeys of the rows that lie in the store alone; back is
// handed all rows of the range before, those in memory too. With no such rows do is called once, for all shares.
func (b *behind) inParts(t *state.Table, from, to row.Time, rows int, back func(r *state.Rows), do func(first, last int)) {
	if rows == 0 {
		do(0, state.Shares-1)
		return
	}
	first, last := b.shares()
	for width := max(1, (last-first+1)*partKeys/rows); first <= last; first += width {
		end := min(first+width-1, last)
		b.scan(t, from, to, first, end, func(r *state.Rows) bool {
			back(r)
			return true
		})
		do(first, end)
		b.ease()
	}
}

// within says whether a key's share is from first to last.
func within(d *state.Dict, id uint32, first, last int) bool {
	share := int(state.ShareOf(d.Hash(id)))
	return share >= first && share <= last
}

func (c *cold) bytes() int { return c.filter.Bytes() }

// awaySpans are the keys of spans of time that lie in the store alone, where a table's rows stand by time and are asked
// for by key.
type awaySpans []awaySpan

type awaySpan struct {
	span row.Time
	keys state.Filter
}

// add notes that a key of a span lies in the store alone, with about so many others.
func (a *awaySpans) add(span row.Time, hash uint64, others int) {
	i, found := slices.BinarySearchFunc(*a, span, func(s awaySpan, at row.Time) int { return cmp.Compare(s.span, at) })
	if !found {
		next := awaySpan{span: span}
		if i > 0 { // about as many as in the span before
			others = max(others/4, (*a)[i-1].keys.Len()/4)
		}
		expect(&next.keys, others)
		*a = slices.Insert(*a, i, next)
	}
	if s := &(*a)[i]; !s.keys.Has(hash) {
		s.keys.Add(hash)
	}
}

// want names a key in the spans that may have it, unless it is here.
func (a awaySpans) want(wanted *state.Rows, t *state.Table, key []byte, hash uint64, here func() bool) {
	asked := false
	for i := range a {
		if !a[i].keys.Has(hash) {
			continue
		}
		if !asked && here() {
			return
		}
		asked = true
		wanted.AddName(t, key, hash, a[i].span)
	}
}

// pass forgets the spans before a time.
func (a *awaySpans) pass(before row.Time) {
	*a = slices.DeleteFunc(*a, func(s awaySpan) bool { return s.span < before })
}

func (a awaySpans) bytes() (n int) {
	for i := range a {
		n += a[i].keys.Bytes()
	}
	return n
}
