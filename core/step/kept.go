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
		l.next.Drop(dict.Key(id), dict.Hash(id), 0)
	}
}

// empty notes that all rows are gone.
func (l *ledger) empty() {
	l.changed.Clear()
	l.stored.Clear()
	l.next = state.NewChanges(l.table)
	l.next.Emptied = true
}

// load notes that a key's row came from the store.
func (l *ledger) load(id uint32) {
	if l.keeps {
		l.stored.Put(id)
	}
}

// freeze gives what changed; save appends the row of a key to columns.
func (l *ledger) freeze(dict *state.Dict, save func(id uint32, cols []*row.Column)) *state.Changes {
	c := l.next
	l.next = state.NewChanges(l.table)
	l.changed.Each(func(id uint32) {
		save(id, c.Put(dict.Key(id), dict.Hash(id), 0))
		l.stored.Put(id)
	})
	l.changed.Clear()
	return c
}

// rekey gives keys the numbers of the next dictionary.
func (l *ledger) rekey(r *rekeying) {
	l.changed = l.changed.Moved(r.alive, r.to, r.dict.Len())
	l.stored = l.stored.Moved(r.alive, r.to, r.dict.Len())
}

func (l *ledger) bytes() int { return l.changed.Bytes() + l.stored.Bytes() }

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

// Restore loads the rows of each of a step's tables that a lane owns.
func Restore(name string, d Keyed, l Lane, from state.Reader, lane, lanes int) error {
	for n, t := range d.Tables() {
		if err := from.Read(name, t, lane, lanes, func(r *state.Rows) error { return l.Load(n, r) }); err != nil {
			return err
		}
	}
	return nil
}
