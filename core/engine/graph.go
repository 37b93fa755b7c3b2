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
	"slices"
	"time"

	"undertide/core/row"
	"undertide/core/step"
)

// Part names which rows of a source or step are read.
type Part uint8

// The parts. Those of a split follow RestPart: its first is FirstPart.
const (
	Main Part = iota
	LatePart
	RejectPart
	RestPart
	FirstPart
)

// Ref says what a step or sink reads: a part of a source or of a step, by number.
type Ref struct {
	OfStep bool
	At     int
	Part   Part
}

// Input is one of the things that a step or sink reads.
type Input struct {
	Ref
	// Columns are those of the input in the order of the reader's schema; nil where they are the same. Where one is -1, the
	// input has none, and the field has the values of Fill there.
	Columns []int
	// Fill are, by field of the reader's schema, the columns of what the input lacks, for row.MaxRows rows: a side of a
	// join has nulls in the other's fields. Read-only; nil where Columns has no -1.
	Fill []*row.Column
}

// Read makes the input that takes r as it is.
func Read(r Ref) []Input { return []Input{{Ref: r}} }

// Step is a stage: exactly one of Stateless, Split, Expand and Keyed is set.
type Step struct {
	Name      string
	From      []Input // refers only to sources and to steps before it; several are merged
	Input     row.Schema
	Stateless *step.Stateless
	Split     *step.Split
	Expand    *step.Expand
	Keyed     step.Keyed
}

// joins says whether the step has sides.
func (s *Step) joins() bool {
	_, ok := s.Keyed.(*step.Join)
	return ok
}

// SinkNode is a sink and what it reads.
type SinkNode struct {
	Name   string
	From   []Input
	Schema row.Schema // as it is read
	// Constants are written beside what is read, by ascending At.
	Constants []Constant
	Sink      Sink
	// AsMade says that rows can be read as soon as the sink took them; else they appear with the delivery of their epoch.
	AsMade bool
}

// Constant is a field of what a sink writes whose value is always the same.
type Constant struct {
	// At is its place among all that is written. With fields a, b and a constant at 1 the sink writes a, the constant, b.
	At    int
	Field row.Field
	Value *row.Column // of one row
}

// Writes gives the fields that the sink's encoders get.
func (n *SinkNode) Writes() row.Schema {
	out := slices.Clone(n.Schema)
	for _, c := range n.Constants {
		out = slices.Insert(out, c.At, c.Field)
	}
	return out
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

// origins says where rows are made: bit 0 before the lanes, bit s+1 in the lanes of stage s.
type origins uint64

const early origins = 1

func inStage(s int) origins { return 1 << (s + 1) }

// plan is the graph with its consumers worked out. Keyed steps stand in stages: those of stage 0 read
// rows that no lane has made; one of a later stage reads rows of lanes of the stages before it.
type plan struct {
	*Graph
	consumers map[Ref]consumerList
	keyed     []int // the keyed steps
	keyedAt   []int // by step: its number among keyed steps, or -1
	stage     []int // by keyed step
	stages    [][]int
	routed    []bool // by keyed step: rows of lanes are among its input
	domain    []int  // by keyed step: whose watermark counts
	domains   []domain
	sinkFrom  []origins
	merges    []bool        // by step: it has several inputs
	beat      time.Duration // the least beat of a step; 0 for none
	carried   []origins     // by step: where it is carried out
	// behind, by source and by step, are the targets (meter.go) that whoever carries it out may have to wait for on its behalf:
	// the sinks that its rows come to without lanes between, and the stages of the keyed steps.
	behindSource, behindStep [][]int
	// ordered, by step: a keyed step that takes rows of lanes reads its rows, straight or through others, and
	// asks for the order of an event's rows.
	ordered []bool
}

// domain are the sources whose watermarks a step's is the least of, in order.
type domain []domainSource

// domainSource is a source, and how far behind its watermark the rows that come from it may be: what a step on their way
// waits for (docs/time.md, "Join").
type domainSource struct {
	source int
	back   time.Duration
}

// of gives the entry of a source; false where its rows do not reach the step.
func (d domain) of(source int) (domainSource, bool) {
	for _, s := range d {
		if s.source == source {
			return s, true
		}
	}
	return domainSource{}, false
}

// with adds sources, each further back by so much. Of two ways from one source the one that is further back counts.
func (d domain) with(more domain, back time.Duration) domain {
	for _, s := range more {
		s.back += back
		if i := slices.IndexFunc(d, func(o domainSource) bool { return o.source == s.source }); i >= 0 {
			d[i].back = max(d[i].back, s.back)
		} else {
			d = append(d, s)
		}
	}
	return d
}

// Backer is a keyed step whose rows may be behind the watermark as it stands before it.
type Backer interface {
	// Back is how far behind at most.
	Back() time.Duration
}

type reader struct{ at, input int }

type consumerList struct {
	steps []reader
	sinks []reader
	taps  []int
}

// Beater is a keyed step that publishes by the wall clock.
type Beater interface {
	// Beat is how often at least it wants to be asked; 0 for never.
	Beat() time.Duration
}

func newPlan(g *Graph) (*plan, error) {
	p := &plan{Graph: g, consumers: map[Ref]consumerList{}, keyedAt: make([]int, len(g.Steps)), merges: make([]bool, len(g.Steps))}
	made := make([]origins, len(g.Steps))   // of a step's rows
	taken := make([]origins, len(g.Steps))  // of its input
	sources := make([]domain, len(g.Steps)) // that its rows come from
	of := func(r Ref) origins {
		switch {
		case !r.OfStep:
			return early
		case g.Steps[r.At].Keyed != nil && r.Part == RejectPart && !p.routed[p.keyedAt[r.At]]:
			// Null keys and errors are found before the exchange, some errors only as a row is applied.
			if _, ok := g.Steps[r.At].Keyed.(step.LaneRejecter); ok {
				return early | made[r.At]
			}
			return early
		case g.Steps[r.At].Keyed == nil && r.Part == RejectPart:
			return taken[r.At]
		}
		return made[r.At]
	}
	for i, s := range g.Steps {
		p.keyedAt[i] = -1
		p.merges[i] = len(s.From) > 1
		if len(s.From) > step.MaxInputs {
			return nil, fmt.Errorf("step %s has %d inputs; at most %d are possible", s.Name, len(s.From), step.MaxInputs)
		}
		for n, in := range s.From {
			if in.OfStep && in.At >= i {
				return nil, fmt.Errorf("step %s reads a step that does not stand before it", s.Name)
			}
			l := p.consumers[in.Ref]
			l.steps = append(l.steps, reader{i, n})
			p.consumers[in.Ref] = l
			taken[i] |= of(in.Ref)
			if !in.OfStep {
				sources[i] = sources[i].with(domain{{source: in.At}}, 0)
				continue
			}
			back := time.Duration(0)
			if b, ok := g.Steps[in.At].Keyed.(Backer); ok {
				back = b.Back()
			}
			sources[i] = sources[i].with(sources[in.At], back)
		}
		slices.SortFunc(sources[i], func(a, b domainSource) int { return a.source - b.source })
		made[i] = taken[i]
		if s.Keyed != nil {
			p.addKeyed(i, taken[i], sources[i])
			made[i] = inStage(p.stage[p.keyedAt[i]])
		}
	}
	p.ordered = make([]bool, len(g.Steps))
	for i := len(g.Steps) - 1; i >= 0; i-- {
		asks := p.ordered[i] || g.Steps[i].Keyed != nil && p.routed[p.keyedAt[i]]
		for _, in := range g.Steps[i].From {
			if in.OfStep && asks {
				p.ordered[in.At] = true
			}
		}
	}
	for i, s := range g.Sinks {
		var from origins
		for n, in := range s.From {
			l := p.consumers[in.Ref]
			l.sinks = append(l.sinks, reader{i, n})
			p.consumers[in.Ref] = l
			from |= of(in.Ref)
		}
		p.sinkFrom = append(p.sinkFrom, from)
	}
	for i, s := range g.Steps {
		at := taken[i]
		if s.Keyed != nil {
			at = inStage(p.stage[p.keyedAt[i]])
		}
		p.carried = append(p.carried, at)
	}
	p.findBehind()
	for i, t := range g.Taps {
		l := p.consumers[t.From]
		l.taps = append(l.taps, i)
		p.consumers[t.From] = l
	}
	return p, nil
}

// findBehind works out what is waited for on behalf of sources and steps.
func (p *plan) findBehind() {
	p.behindSource, p.behindStep = make([][]int, len(p.Sources)), make([][]int, len(p.Steps))
	of := func(r Ref) *[]int {
		if r.OfStep {
			return &p.behindStep[r.At]
		}
		return &p.behindSource[r.At]
	}
	add := func(to *[]int, targets ...int) {
		*to = append(*to, targets...)
		slices.Sort(*to)
		*to = slices.Compact(*to)
	}
	for i, s := range p.Sinks {
		for _, in := range s.From {
			add(of(in.Ref), i)
		}
	}
	for i, s := range slices.Backward(p.Steps) { // a step stands behind those that it reads
		for _, in := range s.From {
			if s.Keyed != nil {
				add(of(in.Ref), p.stageTarget(p.stage[p.keyedAt[i]]))
			} else {
				add(of(in.Ref), p.behindStep[i]...)
			}
		}
	}
}

// addKeyed gives a keyed step its stage and the sources whose watermarks count for it.
func (p *plan) addKeyed(i int, taken origins, sources domain) {
	stage := 0
	for s := range p.stages {
		if taken&inStage(s) != 0 {
			stage = s + 1
		}
	}
	of := slices.IndexFunc(p.domains, func(d domain) bool { return slices.Equal(d, sources) })
	if of < 0 {
		of = len(p.domains)
		p.domains = append(p.domains, sources)
	}
	k := len(p.keyed)
	p.keyedAt[i] = k
	p.keyed = append(p.keyed, i)
	p.stage = append(p.stage, stage)
	p.routed = append(p.routed, taken != early)
	p.domain = append(p.domain, of)
	if stage == len(p.stages) {
		p.stages = append(p.stages, nil)
	}
	p.stages[stage] = append(p.stages[stage], k)
	if b, ok := p.Steps[i].Keyed.(Beater); ok {
		if every := b.Beat(); every > 0 && (p.beat == 0 || every < p.beat) {
			p.beat = every
		}
	}
}

// SchemaOf gives the fields of the rows that r names.
func (g *Graph) SchemaOf(r Ref) row.Schema {
	switch {
	case r.Part == RejectPart:
		return RejectSchema
	case !r.OfStep:
		return g.Sources[r.At].Schema
	}
	switch s := &g.Steps[r.At]; {
	case s.Keyed != nil && r.Part == LatePart:
		return s.Keyed.LateSchema()
	case s.Keyed != nil:
		return s.Keyed.MainSchema()
	case s.Split != nil:
		return s.Input
	case s.Expand != nil:
		return s.Expand.Schema
	default:
		return s.Stateless.Schema
	}
}
