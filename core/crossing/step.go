// Package crossing takes rows from the runs of one part of a spread job to those of the next (docs/spread.md). Where rows change their key, the run that has them hands each
// to the portion that owns its new key, with the watermark that stood before it:
//
//	run of the part before              a log                    run of the part behind
//	steps -> Step -> Encoder -> sink -> writer x portion blocks -> Fill -> Decoder -> source -> steps
//
// A log is what one writer has for one portion, in the order of its turns. So a reader has each writer as a partition of its own, whose watermark is the writer's: it closes
// nothing before all writers have passed it. The logs themselves are a connector's (connect/kafka).
package crossing

import (
	"sync"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
)

// Step is the step with state that ends a part: it keeps nothing, and gives each row out with the portion that owns its key and the watermark that stood before it. Its rows
// are those of its input with two fields more, which [NewEncoder] takes. A run with one has a single lane, so that the rows of a log are in the order of turns.
type Step struct {
	Keys step.Spec
	// Portions are those of the part behind.
	Portions int
	// Reached is told how far the watermark is at each mark.
	Reached *Reached
}

// Reached is the watermark at the newest mark: the step tells it, the sink of its rows asks. Safe for concurrent use.
type Reached struct {
	mu sync.Mutex // guards all
	at Mark
}

// Mark is how far a writer is.
type Mark struct {
	// Watermark has passed all rows that follow; row.MaxTime where none follows.
	Watermark row.Time
	// Before is what it was before it came to the end; else as Watermark. What is kept of keys at the end goes by it.
	Before row.Time
	// Asleep: nothing comes in, so that nobody is to wait for the writer.
	Asleep bool
}

// Get gives the newest.
func (r *Reached) Get() Mark {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.at
}

func (r *Reached) set(m Mark) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at = m
}

// NewReached is of a run that has not read anything.
func NewReached() *Reached { return &Reached{at: fromStart} }

var fromStart = Mark{Watermark: row.MinTime, Before: row.MinTime}

// Rows gives the fields of the step's rows: those of the input, then the portion and the watermark.
func Rows(input row.Schema) row.Schema {
	return append(input[:len(input):len(input)], row.Field{Name: "crossing.portion", Kind: row.Int, Hidden: true}, row.Field{Name: "crossing.watermark", Kind: row.Timestamp, Hidden: true})
}

// Spec implements [step.Keyed], as do the methods below.
func (d *Step) Spec() *step.Spec       { return &d.Keys }
func (d *Step) MainSchema() row.Schema { return Rows(d.Keys.Input) }
func (d *Step) LateSchema() row.Schema { return nil }
func (d *Step) Tables() []*state.Table { return nil }
func (d *Step) NewLane(step.LaneOptions) step.Lane {
	return &lane{def: d, now: fromStart, portion: row.NewColumn(row.Int), mark: row.NewColumn(row.Timestamp)}
}

type lane struct {
	def           *Step
	now           Mark
	counts        step.LaneCounts
	sel           []uint16
	cols          []*row.Column
	portion, mark *row.Column // of the view that is given out, by row number
}

func (l *lane) Take(x *step.Exchange, at int, t *step.Turn, out step.Out) {
	mine := x.Lanes[at]
	if len(mine) == 0 {
		return
	}
	for l.portion.Len() < x.N {
		l.portion.AppendInt(0)
		l.mark.AppendInt(0)
	}
	l.sel = l.sel[:0]
	for _, j := range mine {
		r := x.Sel[j]
		l.sel = append(l.sel, r)
		l.portion.I[r] = int64(state.PortionOf(x.Keys.Hash[j], l.def.Portions))
		l.mark.I[r] = int64(t.Marks[x.Index[r]])
	}
	v := x.View
	l.cols = append(append(l.cols[:0], x.Cols...), l.portion, l.mark)
	v.Cols, v.Sel = l.cols, l.sel
	l.counts.Used += int64(len(l.sel))
	l.counts.Out += int64(len(l.sel))
	out.Main(v)
}

func (l *lane) Move(t *step.Turn, _ step.Out) {
	before := t.After
	if before == row.MaxTime {
		before = t.Marks[len(t.Marks)-1]
	}
	if before < row.MaxTime {
		l.now.Before = max(l.now.Before, before)
	}
	l.now.Watermark, l.now.Asleep = max(l.now.Watermark, t.After), t.Asleep
}

func (l *lane) Freeze() []*state.Changes {
	l.def.Reached.set(l.now)
	return nil
}

func (l *lane) Bring(*step.Exchange, int, *step.Turn) {}
func (l *lane) Shed()                                 {}
func (l *lane) Written()                              {}
func (l *lane) Load(int, *state.Rows) error           { return nil }
func (l *lane) Counts() *step.LaneCounts              { return &l.counts }
func (l *lane) Held() step.Held                       { return step.Held{Next: row.MaxTime} }
