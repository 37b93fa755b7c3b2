// Package engine is the flow of rows: it reads partitions in turns, decodes them in a pool of
// workers, puts the turns in the one order of the run, hands rows to the lanes that own their keys,
// closes windows as watermarks move, and takes marks for checkpoints between turns.
//
// The way of a row is drawn in docs/architecture.md. The engine has no I/O of its own: partitions,
// decoders, sinks and the checkpoint store are interfaces. A caller fills a [Graph] and [Options]
// and calls [Run].
package engine

import (
	"fmt"

	"undertide/core/row"
	"undertide/core/step"
)

// Part names which rows of a source or step are read.
type Part uint8

const (
	Main Part = iota
	LatePart
	RejectPart
)

// Ref says what a step or sink reads: a part of a source or of a step, by number.
type Ref struct {
	OfStep bool
	At     int
	Part   Part
}

// Step is a stage: exactly one of Stateless and Window is set.
type Step struct {
	Name      string
	From      Ref // refers only to sources and to steps before it
	Stateless *step.Stateless
	Window    *step.Window
}

// SinkNode is a sink and what it reads.
type SinkNode struct {
	Name   string
	From   Ref
	Schema row.Schema
	Sink   Sink
}

// TapNode lets somebody look at rows as they pass; what it reads is named as for sinks.
type TapNode struct {
	From   Ref
	Schema row.Schema
	Tap    Tap
}

// Graph is a job, ready to run.
type Graph struct {
	Sources []Source
	Steps   []Step
	Sinks   []SinkNode
	Taps    []TapNode
}

// RejectSchema is that of `rejects of` (docs/time.md, "Nulls, errors, values").
var RejectSchema = row.Schema{
	{Name: "at", Kind: row.String}, {Name: "reason", Kind: row.String}, {Name: "message", Kind: row.String},
	{Name: "expression", Kind: row.String}, {Name: "values", Kind: row.String}, {Name: "partition", Kind: row.String},
	{Name: "offset", Kind: row.Int}, {Name: "event", Kind: row.String},
}

// plan is the graph with its consumers worked out.
type plan struct {
	*Graph
	consumers  map[Ref]consumerList
	stepSource []int  // by step: the source that its rows come from
	afterLanes []bool // by step: whether its rows come out of lanes
	sinkLanes  []bool // by sink: the same
	windows    []int  // the steps that are windows
	laneOf     []int  // by step: its number among windows, or -1
}

type consumerList struct {
	steps []int
	sinks []int
	taps  []int
}

func newPlan(g *Graph) (*plan, error) {
	p := &plan{Graph: g, consumers: map[Ref]consumerList{}, laneOf: make([]int, len(g.Steps))}
	lanes := func(r Ref) bool { // whether the rows of r come out of lanes
		if !r.OfStep {
			return false
		}
		if g.Steps[r.At].Window != nil {
			return r.Part != RejectPart // null keys and errors are found before the exchange
		}
		return p.afterLanes[r.At]
	}
	for i, s := range g.Steps {
		if s.From.OfStep && s.From.At >= i {
			return nil, fmt.Errorf("step %s reads a step that does not stand before it", s.Name)
		}
		l := p.consumers[s.From]
		l.steps = append(l.steps, i)
		p.consumers[s.From] = l
		after := lanes(s.From)
		p.afterLanes = append(p.afterLanes, after)
		src := s.From.At
		if s.From.OfStep {
			src = p.stepSource[s.From.At]
		}
		p.stepSource = append(p.stepSource, src)
		p.laneOf[i] = -1
		if s.Window != nil {
			if after {
				return nil, fmt.Errorf("step %s: a window over rows of a windowed step is not built yet", s.Name)
			}
			p.laneOf[i] = len(p.windows)
			p.windows = append(p.windows, i)
		}
	}
	for i, s := range g.Sinks {
		l := p.consumers[s.From]
		l.sinks = append(l.sinks, i)
		p.consumers[s.From] = l
		p.sinkLanes = append(p.sinkLanes, lanes(s.From))
	}
	for i, t := range g.Taps {
		l := p.consumers[t.From]
		l.taps = append(l.taps, i)
		p.consumers[t.From] = l
	}
	return p, nil
}

// SchemaOf gives the fields of the rows that r names.
func (g *Graph) SchemaOf(r Ref) row.Schema {
	switch {
	case r.Part == RejectPart:
		return RejectSchema
	case !r.OfStep:
		return g.Sources[r.At].Schema
	case r.Part == LatePart:
		return g.Steps[r.At].Window.LateSchema()
	case g.Steps[r.At].Window != nil:
		return g.Steps[r.At].Window.Schema
	}
	return g.Steps[r.At].Stateless.Schema
}
