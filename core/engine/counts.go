package engine

import (
	"maps"
	"slices"
	"time"

	"undertide/core/step"
)

// StepCounts are what a step did with its rows (docs/time.md, "Counts add up").
type StepCounts struct {
	In            int64            `json:"in"`
	Out           int64            `json:"out"`
	Dropped       int64            `json:"dropped"` // by where; of a windowed step result rows, by having
	Made          int64            `json:"made"`    // of a windowed step: result rows, with those that having dropped
	Lost          int64            `json:"lost"`
	Used          int64            `json:"used"`
	Repeats       int64            `json:"repeats"`
	Partial       int64            `json:"partial"`             // of Used: missed one window, went into another
	Accepted      int64            `json:"accepted"`            // of Used: missed none, corrected one
	LeftOut       int64            `json:"left_out"`            // values that collect had no room for
	Forgotten     int64            `json:"forgotten,omitempty"` // keys that `forget` let go
	Parts         []int64          `json:"parts"`               // of a split: rows of its rest and parts
	Rejected      map[string]int64 `json:"rejected"`            // by reason
	MeasureErrors int64            `json:"measure_errors"`
	MostLate      time.Duration    `json:"most_late_ns"` // the greatest late_by of a lost row
	// Pairs and Sides are of a join: what it made, and what became of the rows of its sides, left and right.
	Pairs int64             `json:"pairs,omitempty"`
	Sides []step.SideCounts `json:"sides,omitempty"`
	// Lookup is of a step that looks rows up.
	Lookup step.LookupCounts `json:"lookup,omitzero"`
}

// SourceCounts are what a source read.
type SourceCounts struct {
	Read     int64            `json:"read"`
	Bytes    int64            `json:"bytes"`
	Rejected map[string]int64 `json:"rejected"`
	// Late are events of which a step has lost a row as late: each once, whatever the number of steps.
	Late int64 `json:"late,omitempty"`
}

// SinkCounts are what a sink took.
type SinkCounts struct {
	Rows      int64 `json:"rows"`
	Delivered int64 `json:"delivered"`
}

// Counts are the figures of a run that only grow. Kept in checkpoints, so that they go on.
type Counts struct {
	Sources []SourceCounts `json:"sources"`
	Steps   []StepCounts   `json:"steps"`
	Sinks   []SinkCounts   `json:"sinks"`
	// Inherits: rows that wait in state came in where these do not count, in a run of another version, or in another portion. So what a step has done with rows need not be what
	// came in here.
	Inherits bool `json:"inherits,omitempty"`
}

func newCounts(g *Graph) Counts {
	c := Counts{Sources: make([]SourceCounts, len(g.Sources)), Steps: make([]StepCounts, len(g.Steps)), Sinks: make([]SinkCounts, len(g.Sinks))}
	for i := range c.Sources {
		c.Sources[i].Rejected = map[string]int64{}
	}
	for i := range c.Steps {
		c.Steps[i].Rejected = map[string]int64{}
	}
	return c
}

func (c Counts) clone() Counts {
	out := Counts{Sources: append([]SourceCounts(nil), c.Sources...), Steps: append([]StepCounts(nil), c.Steps...), Sinks: append([]SinkCounts(nil), c.Sinks...), Inherits: c.Inherits}
	for i := range out.Sources {
		out.Sources[i].Rejected = maps.Clone(out.Sources[i].Rejected)
	}
	for i := range out.Steps {
		out.Steps[i].Rejected = maps.Clone(out.Steps[i].Rejected)
		out.Steps[i].Parts = slices.Clone(out.Steps[i].Parts)
		out.Steps[i].Sides = slices.Clone(out.Steps[i].Sides)
	}
	return out
}

// Sum adds up rejects of all reasons.
func Sum(m map[string]int64) (n int64) {
	for _, v := range m {
		n += v
	}
	return n
}

// add takes the counts of a step from a turn or a lane.
func (c *StepCounts) add(d StepCounts) {
	c.In += d.In
	c.Out += d.Out
	c.Dropped += d.Dropped
	c.Made += d.Made
	c.Lost += d.Lost
	c.Used += d.Used
	c.Repeats += d.Repeats
	c.Partial += d.Partial
	c.Accepted += d.Accepted
	c.LeftOut += d.LeftOut
	c.Forgotten += d.Forgotten
	c.MeasureErrors += d.MeasureErrors
	c.MostLate = max(c.MostLate, d.MostLate)
	c.Pairs += d.Pairs
	c.Lookup.Add(d.Lookup)
	for len(c.Sides) < len(d.Sides) {
		c.Sides = append(c.Sides, step.SideCounts{})
	}
	for i, s := range d.Sides {
		c.Sides[i].Add(s)
	}
	for len(c.Parts) < len(d.Parts) {
		c.Parts = append(c.Parts, 0)
	}
	for i, n := range d.Parts {
		c.Parts[i] += n
	}
	addReasons(c.Rejected, d.Rejected)
}

// Nothing gives the counts of a run of the same graph that has done nothing yet.
func (c Counts) Nothing() Counts {
	return newCounts(&Graph{Sources: make([]Source, len(c.Sources)), Steps: make([]Step, len(c.Steps)), Sinks: make([]SinkNode, len(c.Sinks))})
}

// Add takes the counts of another run of the same graph.
func (c *Counts) Add(d Counts) {
	for i, s := range d.Sources {
		own := &c.Sources[i]
		own.Read, own.Bytes, own.Late = own.Read+s.Read, own.Bytes+s.Bytes, own.Late+s.Late
		addReasons(own.Rejected, s.Rejected)
	}
	for i, s := range d.Steps {
		c.Steps[i].add(s)
	}
	for i, s := range d.Sinks {
		c.Sinks[i].Rows += s.Rows
		c.Sinks[i].Delivered += s.Delivered
	}
}

func addReasons(to, from map[string]int64) {
	for k, v := range from {
		to[k] += v
	}
}
