package step

import (
	"errors"

	"undertide/core/row"
	"undertide/core/state"
)

// LaneOptions are what the lane of a step is made for.
type LaneOptions struct {
	// Ordered: its rows go on to another keyed step, which asks for the order of an event's rows.
	Ordered bool
	// Keeps: its state is kept in a store, so that it notes what changes. Else Freeze is not called.
	Keeps bool
	// Behind is the store that stands behind the lane, nil for none; Step is the step's name there, and Lane the number of
	// the lane among Lanes.
	Behind      state.Behind
	Step        string
	Lane, Lanes int
	// Begun gives, by measure, the time at which windows begin that have all of their rows in it: the measure came with
	// another version of the document, and is null in windows that begin before. nil for none.
	Begun map[string]row.Time
	// Ease is called by a lane in the midst of long work, where its state is whole: it may be asked to freeze and shed
	// then. nil for nobody.
	Ease func()
	// Fail ends the run: the lane cannot go on. It returns, and the lane may take what is at hand to its end. nil for nobody.
	Fail func(error)
}

func (o *LaneOptions) ease() {
	if o.Ease != nil {
		o.Ease()
	}
}

// behind is the store behind a lane, nil for none. Where it fails, the lane panics with a [state.Failure].
type behind struct{ LaneOptions }

func newBehind(o LaneOptions) *behind {
	if o.Behind == nil || !o.Keeps {
		return nil
	}
	return &behind{o}
}

func (b *behind) must(err error) {
	if err != nil {
		panic(state.Failure{Err: err})
	}
}

// find hands over the rows that are named.
func (b *behind) find(t *state.Table, wanted *state.Rows, take func(r *state.Rows)) {
	if wanted.N == 0 {
		return
	}
	b.must(b.Behind.Find(b.Step, t, wanted, func(r *state.Rows) error { take(r); return nil }))
}

// scan hands over rows of the lane with a span from from up to to, and a share from first to last.
func (b *behind) scan(t *state.Table, from, to row.Time, first, last int, take func(r *state.Rows) (more bool)) {
	if first <= last {
		b.must(b.Behind.Scan(b.Step, t, from, to, uint8(first), uint8(last), func(r *state.Rows) (bool, error) { return take(r), nil }))
	}
}

// shares gives those that the lane owns.
func (b *behind) shares() (first, last int) { return state.LaneShares(b.Lane, b.Lanes) }

func (b *behind) write(c ...*state.Changes) {
	b.must(b.Behind.Write(b.Step, b.Lane, b.Lanes, c))
}

// ledger notes, of a table with a row for each key, which rows changed since the last mark and which the store has.
//
// A key that came and went between two marks was never stored: nothing is said of it. One that was stored and is dropped
// is named as gone, and may come again before the mark: then it is gone and new, and what is new counts.
type ledger struct {
	keeps   bool
	table   *state.Table
	changed state.Set // by key
	stored  state.Set // by key
	next    *state.Changes
	// leaving are keys that were dropped and that the store has still: those of next, and those that are on their way. The
	// dictionary keeps them meanwhile, so that nobody brings them back.
	leaving, onTheWay state.Set
	sent              state.Set // keys that were frozen and are not yet in the store
}

func newLedger(t *state.Table, keeps bool) ledger {
	return ledger{keeps: keeps, table: t, next: state.NewChanges(t)}
}

// touch notes that a key's row has changed.
func (l *ledger) touch(id uint32) {
	if l.keeps {
		l.changed.Put(id)
	}
}

// drop notes that a key's row is gone.
func (l *ledger) drop(id uint32, dict *state.Dict) {
	if !l.keeps {
		return
	}
	l.changed.Remove(id)
	if l.stored.Has(id) {
		l.stored.Remove(id)
		l.leaving.Put(id)
		l.next.Drop(dict.Key(id), dict.Hash(id), 0)
	}
}

// empty notes that all rows are gone; the dictionary will be a new one.
func (l *ledger) empty() {
	*l = newLedger(l.table, l.keeps)
	l.next.Emptied = true
}

// load notes that a key's row came from the store.
func (l *ledger) load(id uint32) {
	if l.keeps {
		l.stored.Put(id)
	}
}

// clean says whether the store has a key's row as it is.
func (l *ledger) clean(id uint32) bool {
	return l.stored.Has(id) && !l.changed.Has(id) && !l.sent.Has(id)
}

// left says that a key was dropped, and the store has its row still.
func (l *ledger) left(id uint32) bool { return l.leaving.Has(id) || l.onTheWay.Has(id) }

// let notes that a key's row lies in the store alone.
func (l *ledger) let(id uint32) { l.stored.Remove(id) }

// freeze gives what changed; save appends the row of a key to columns.
func (l *ledger) freeze(dict *state.Dict, save func(id uint32, cols []*row.Column)) *state.Changes {
	c := l.next
	l.next = state.NewChanges(l.table)
	l.changed.Each(func(id uint32) {
		save(id, c.Put(dict.Key(id), dict.Hash(id), 0))
		l.stored.Put(id)
	})
	l.sent, l.changed = l.changed, state.Set{}
	l.onTheWay, l.leaving = l.leaving, state.Set{}
	return c
}

// written notes that the store has what was frozen.
func (l *ledger) written() {
	l.onTheWay.Clear()
	l.sent.Clear()
}

// known marks the keys that the dictionary must keep.
func (l *ledger) known(mark []bool) {
	keep := func(id uint32) { mark[id] = true }
	l.leaving.Each(keep)
	l.onTheWay.Each(keep)
}

// rekey gives keys the numbers of the next dictionary.
func (l *ledger) rekey(r *rekeying) {
	for _, s := range []*state.Set{&l.changed, &l.stored, &l.leaving, &l.onTheWay, &l.sent} {
		*s = s.Moved(r.alive, r.to, r.dict.Len())
	}
}

func (l *ledger) bytes() int {
	return l.changed.Bytes() + l.stored.Bytes() + l.leaving.Bytes() + l.onTheWay.Bytes() + l.sent.Bytes()
}

// keysOf gives the keys of rows from a store the numbers that they have in a dictionary.
func keysOf(r *state.Rows, d *state.Dict, take func(i int, id uint32) error) error {
	for i := range r.N {
		if err := take(i, d.Put(r.Key(i), r.Hash[i])); err != nil {
			return err
		}
	}
	return nil
}

// errState: the tables of a step's state do not fit together.
var errState = errors.New("the state of the step is damaged")

// Restore loads the rows of each of a step's tables that a lane owns. after, if it is not nil, is called after each part.
func Restore(name string, d Keyed, l Lane, from state.Reader, lane, lanes int, after func()) error {
	for n, t := range d.Tables() {
		err := from.Read(name, t, lane, lanes, func(r *state.Rows) error {
			err := l.Load(n, r)
			if after != nil && err == nil {
				after()
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}
