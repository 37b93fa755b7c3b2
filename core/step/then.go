package step

import "undertide/core/row"

// thenRun publishes what a step with sides makes, and carries out before what stands beside it: where, set, without, only.
type thenRun struct {
	run     *StatelessRun // nil for nothing
	rejects []Reject
}

// newThen makes one; d is nil for nothing.
func newThen(d *Stateless) thenRun {
	if d == nil {
		return thenRun{}
	}
	return thenRun{run: d.NewRun()}
}

// publish gives the rows of b out, which have the fields of the step's input but for the side's, and empties it; passed are those
// that went out. It counts them and those that where dropped.
func (t *thenRun) publish(b *row.Batch, out Out, c *LaneCounts) (passed int64) {
	v := ViewOf(b)
	if t.run != nil {
		made := v
		var dropped int
		v, dropped, t.rejects = t.run.Run(made, t.rejects[:0])
		c.Dropped += int64(dropped)
		made.Cols = append(made.Cols[:len(made.Cols):len(made.Cols)], row.Nulls(row.String)) // it came by no side
		for _, r := range t.rejects {
			out.Reject(made, r)
		}
	}
	c.Out += int64(len(v.Sel))
	out.Main(v)
	if t.run != nil {
		t.run.TakeBack()
	}
	b.Reset()
	return int64(len(v.Sel))
}
