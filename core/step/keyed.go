package step

import (
	"math"
	"time"

	"undertide/core/row"
	"undertide/core/state"
)

// Keyed is the definition of a step that keeps state by key. Immutable.
type Keyed interface {
	// Spec says how rows find their lane and what is worked out of them on the way.
	Spec() *Spec
	// MainSchema is that of the rows it publishes, LateSchema that of `late of`; nil where it has none.
	MainSchema() row.Schema
	LateSchema() row.Schema
	// Tables declares what it keeps (docs/checkpoints.md, "State").
	Tables() []*state.Table
	// NewLane makes the empty state of one lane.
	NewLane(o LaneOptions) Lane
}

// LaneRejecter is a keyed step whose lanes may reject rows as they are applied.
type LaneRejecter interface{ RejectsInLanes() }

// Lane is a keyed step's state in one lane, for the shares that the lane owns. One goroutine at a time.
type Lane interface {
	// Take applies the lane's rows of an exchange, in order of place. It may be called several times in
	// a turn, with rows of ascending places.
	Take(x *Exchange, lane int, t *Turn, out Out)
	// Move ends a turn: it publishes what the watermarks of the turn have made due.
	Move(t *Turn, out Out)
	// Bring fetches from the store behind the lane what Take of the same arguments asks for; Shed lets go the rows that
	// the store has as they are. Without such a store neither does anything.
	Bring(x *Exchange, lane int, t *Turn)
	Shed()
	// Freeze copies what became of the rows of each of Tables since it was called last, or since the lane was made; the
	// lane goes on, and the copy stays as it is.
	Freeze() []*state.Changes
	// Written is told that the store has all that was frozen.
	Written()
	// Load adds rows of a table that were kept. They are the lane's: their shares are, and no row comes twice. Tables are
	// loaded in their order, before the first turn. r lasts until Load returns.
	Load(table int, r *state.Rows) error
	// Counts are what the lane has done since it was made.
	Counts() *LaneCounts
	// Held tells what is kept.
	Held() Held
}

// LeavesOff is a lane that may make very many rows of few, and can leave off in between.
type LeavesOff interface {
	// TakeSome is Take for the rows from a position of x.Lanes[lane] on. It leaves off where the next row is of another event
	// than the one before and enough says so, which is told how many bytes of rows were made and not yet given out; and gives
	// the position of that row. Else it gives how many there are.
	TakeSome(x *Exchange, lane, from int, t *Turn, out Out, enough func(held int) bool) (to int)
}

// Turn is what a lane needs to know of a turn for one step (docs/time.md, "Turns and places").
type Turn struct {
	// Marks is the watermark that stood before each event of the turn, at least one.
	Marks []row.Time
	// After is the watermark that stands after the turn.
	After row.Time
	// Asleep: all that the rows come from is idle, so that the watermark waits for nothing.
	Asleep bool
	// Now is the wall clock, for previews and repeats only. It does not go back.
	Now row.Time
}

// Passed gives the place of the event that moved the watermark to at or beyond; at must not lie beyond
// After.
func (t *Turn) Passed(at row.Time) uint16 {
	lo, hi := 0, len(t.Marks) // the first event before which the watermark stood there
	for lo < hi {
		if mid := (lo + hi) / 2; t.Marks[mid] >= at {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return uint16(max(lo-1, 0))
}

// Out takes the rows that a lane publishes.
type Out interface {
	// Main and Late take rows of these parts, up to row.MaxRows; the view lasts until they return.
	Main(v View)
	Late(v View)
	// Reject takes a row that the lane could not use.
	Reject(v View, r Reject)
}

// LaneCounts are what a lane did with a step's rows (docs/time.md, "Counts add up").
type LaneCounts struct {
	// Made are the result rows of a windowed step: those that went out, and those that `having` dropped.
	Made                                                                int64
	Used, Lost, Partial, Accepted, Repeats, Dropped, Out, MeasureErrors int64
	// MostLate is the greatest late_by of a lost row.
	MostLate time.Duration
	// LeftOut counts the values that collect had no room for.
	LeftOut int64
	// Pairs and Sides are of a join: the pairs that were made, and what became of the rows of each side.
	Pairs int64
	Sides [2]SideCounts
	// Lookup is of a lookup as of event time.
	Lookup LookupCounts
	// Forgotten are keys of which nothing came for as long as `forget` says.
	Forgotten int64
}

// SideCounts are what became of the rows of a side of a join. Those of Rows that are not yet counted elsewhere wait.
type SideCounts struct {
	Rows      int64 `json:"rows"`
	Matched   int64 `json:"matched"` // met a partner at least
	Unmatched int64 `json:"unmatched"`
	Late      int64 `json:"late"`
}

// Add takes the counts of a side from a turn or a lane.
func (c *SideCounts) Add(d SideCounts) {
	c.Rows += d.Rows
	c.Matched += d.Matched
	c.Unmatched += d.Unmatched
	c.Late += d.Late
}

// Waiting gives how many rows met no partner yet, and may.
func (c SideCounts) Waiting() int64 { return c.Rows - c.Matched - c.Unmatched - c.Late }

// Held tells what a lane keeps of a step.
type Held struct {
	// Windows are those that are open, Kept those that are closed and kept for late rows and repeats; of windows that share slices Kept are
	// the slices that no open one needs. Rows are those of the state, as checkpoints keep them.
	Windows, Kept, Keys, Rows, Bytes int
	// Next is the time at which something is closed or forgotten next; row.MaxTime for nothing.
	Next row.Time
	// Sides are those of a join, left and right, as they were weighed last; nil for another step. Nobody changes them.
	Sides []SideHeld
}

const lateByField = "late_by"

// lateOf gives the schema of `late of`, and which fields of the input it has: all of them, and then late_by. One that is named so already, since the rows were late
// for another step before, makes way for it: no two fields have one name.
func lateOf(in row.Schema) (late row.Schema, from []int) {
	for i, f := range in {
		if f.Name != lateByField {
			late, from = append(late, f), append(from, i)
		}
	}
	return append(late, row.Field{Name: lateByField, Kind: row.Duration}), from
}

func lateSchema(in row.Schema) row.Schema {
	late, _ := lateOf(in)
	return late
}

// lateRows gathers late rows of a step, of the columns from of its input.
type lateRows struct {
	b    *row.Batch
	from []int
}

func newLateRows(in row.Schema) lateRows {
	late, from := lateOf(in)
	return lateRows{row.NewBatch(late), from}
}

// add takes row r of x, which stood before mark.
func (l lateRows) add(x *Exchange, r int, mark row.Time, c *LaneCounts) {
	c.Lost++
	by := lateBy(mark, x.Times[r])
	c.MostLate = max(c.MostLate, time.Duration(min(by, int64(math.MaxInt64/time.Microsecond)))*time.Microsecond)
	b := l.b
	for i, col := range l.from {
		b.Cols[i].AppendFrom(x.Cols[col], r)
	}
	b.Cols[len(l.from)].AppendInt(by)
	b.Times = append(b.Times, x.Times[r])
	b.Index = append(b.Index, x.Index[r])
	if x.Order != nil {
		b.AppendOrder(x.order(r))
	}
	b.N++
}

// lateBy gives how far behind a watermark a row is, in microseconds; behind plus infinity the greatest that there
// is.
func lateBy(mark, at row.Time) int64 {
	if by := int64(mark - at); by >= 0 {
		return by
	}
	return math.MaxInt64
}

func (l lateRows) flush(out Out) {
	if l.b.N > 0 {
		out.Late(ViewOf(l.b))
		l.b.Reset()
	}
}
