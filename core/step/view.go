// Package step carries out the steps of a job on batches: filter and compute without state, and
// windows, whose rows are prepared where they are decoded (key, hash, arguments of measures) and
// added in the lane that owns the key. It knows nothing of goroutines and queues; core/engine does.
package step

import (
	"undertide/core/row"
)

// View is the rows of a batch that a step passes on: shared columns and a selection.
//
// # Who owns a view
//
// Whoever made a view's columns and selection owns them; a taker only reads. How long they last depends on
// where they were made:
//
//   - Before the lanes (in a worker) everything that was given out in a turn lasts until the turn is put
//     back. Takers keep views: an exchange holds its rows for all lanes, a merge waits for its other
//     inputs. So an emitter that gives out several views in a turn (expand, a merge of more than
//     row.MaxRows rows, and whatever stands behind one) needs memory of its own for each: [Pages] for
//     batches, a run of its own for each call of a stateless step.
//   - In a lane a view lasts until the call that gives it out returns. A taker that wants rows for longer
//     copies them: a [Router], a sink's encoder, a buffer.
//
// Under the build tag `checks` every owner overwrites what it takes back, so that a taker that held on to
// a view gives wrong rows in all tests.
type View struct {
	Cols  []*row.Column
	Times []row.Time // empty when rows have no event time
	Index []uint16   // the event of each row: its number in the turn
	// Sel are the row numbers that count, ascending.
	Sel []uint16
	N   int
	// Order orders the rows of one event, by bytes (see [appendInput]); nil where all are empty.
	Order *row.Column
}

// every selects all rows that a batch may have.
var every = numbers(row.MaxRows)

func numbers(n int) []uint16 {
	all := make([]uint16, n)
	for i := range all {
		all[i] = uint16(i)
	}
	return all
}

// everyOf selects all of n rows. The selection is shared: nobody may write to it.
func everyOf(n int) []uint16 {
	if n > len(every) { // a batch that gathers rows of several
		return numbers(n)
	}
	return every[:n:n]
}

// ViewOf selects all rows of a batch.
func ViewOf(b *row.Batch) View {
	v := View{Cols: b.Cols, Times: b.Times, Index: b.Index, Sel: everyOf(b.N), N: b.N}
	if b.Order != nil && b.Order.Len() == b.N {
		v.Order = b.Order
	}
	return v
}

// order gives what orders row i among those of its event.
func (v *View) order(i int) []byte {
	if v.Order == nil {
		return nil
	}
	return v.Order.Bytes(i)
}

// AppendPlace ends a row of a page of a step that merges, whose columns were appended: row i of v, which came to the step by
// this input. ordered says whether the order of an event's rows is asked for.
func (v *View) AppendPlace(b *row.Batch, i, input int, ordered bool) {
	if len(v.Times) > 0 {
		b.Times = append(b.Times, v.Times[i])
	}
	b.Index = append(b.Index, v.Index[i])
	b.N++
	if ordered {
		var buf [64]byte // on the stack
		b.AppendOrder(appendInput(buf[:0], v.order(i), input))
	}
}

// appendPicked adds these rows of v to b, without their order.
func (v *View) appendPicked(b *row.Batch, rows []int32) {
	for c, col := range v.Cols {
		b.Cols[c].AppendPicked(col, rows)
	}
	for _, i := range rows {
		if len(v.Times) > 0 {
			b.Times = append(b.Times, v.Times[i])
		}
		b.Index = append(b.Index, v.Index[i])
	}
	b.N += len(rows)
}

// Pages are batches of one schema that an emitter gives out within a turn; each lasts until TakeBack.
type Pages struct {
	schema row.Schema
	all    []*row.Batch
	used   int
}

// NewPages makes none yet.
func NewPages(s row.Schema) *Pages { return &Pages{schema: s} }

// Next gives an empty batch that nobody else has.
func (p *Pages) Next() *row.Batch {
	if p.used == len(p.all) {
		p.all = append(p.all, row.NewBatch(p.schema))
	}
	p.used++
	return p.all[p.used-1]
}

// TakeBack empties all batches, which may be given out again.
func (p *Pages) TakeBack() {
	for _, b := range p.all[:p.used] {
		b.Reset()
	}
	p.used = 0
}

// Reject reasons (docs/time.md, "Nulls, errors, values").
const (
	Malformed   = "malformed"
	WrongType   = "wrong type"
	Missing     = "missing"
	NoEventTime = "no event time"
	Skipped     = "skipped"
	TooFarAhead = "too far ahead"
	NullKey     = "null key"
	Expression  = "expression"
	NotFound    = "not found"
)

// Reject is one event or row that a source or step could not take.
type Reject struct {
	Index      uint16 // place in the turn
	Row        int    // row number in the batch, -1 when it never became a row
	Reason     string
	Message    string
	Expression string
}
