// Package step carries out the steps of a job on batches: filter and compute without state, and
// windows, whose rows are prepared where they are decoded (key, hash, arguments of measures) and
// added in the lane that owns the key. It knows nothing of goroutines and queues; core/engine does.
package step

import (
	"undertide/core/row"
)

// View is the rows of a batch that a step passes on: shared columns and a selection. Columns belong
// to whoever made them and live until the turn is released.
type View struct {
	Cols  []*row.Column
	Times []row.Time // empty when rows have no event time
	Index []uint16   // place of each row in its turn
	// Sel are the row numbers that count, ascending.
	Sel []uint16
	N   int
	// Made says that the rows were made because a watermark moved: their place is after the own rows
	// of the event that moved it. Order then orders those of one event and time, by bytes.
	Made  bool
	Order *row.Column
}

// ViewOf selects all rows of a batch; sel is reused for the selection.
func ViewOf(b *row.Batch, sel []uint16) View {
	sel = sel[:0]
	for i := range b.N {
		sel = append(sel, uint16(i))
	}
	return View{Cols: b.Cols, Times: b.Times, Index: b.Index, Sel: sel, N: b.N}
}

// Reject reasons (docs/time.md, "Nulls, errors, values").
const (
	Malformed   = "malformed"
	WrongType   = "wrong type"
	Missing     = "missing"
	NoEventTime = "no event time"
	TooFarAhead = "too far ahead"
	NullKey     = "null key"
	Expression  = "expression"
)

// Reject is one event or row that a source or step could not take.
type Reject struct {
	Index      uint16 // place in the turn
	Row        int    // row number in the batch, -1 when it never became a row
	Reason     string
	Message    string
	Expression string
}
