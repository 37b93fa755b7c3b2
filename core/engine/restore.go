package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
)

// restore makes partitions, watermarks and lanes as they stood where the run starts from.
func (e *run) restore() error {
	e.budget = 2*e.opt.Workers + 2
	e.began = e.opt.Now()
	e.started = e.began
	e.epoch = max(1, e.opt.FirstEpoch)
	e.base = newCounts(e.p.Graph)
	e.found = make(chan *partition)
	e.raw = make(chan *turn, e.budget)
	e.decoded = make(chan *turn, e.budget)
	e.marks = newWatermarks(e)
	from := e.opt.From
	if from != nil {
		e.started, e.turns, e.begun = from.Started, from.Turn, from.Begun
		e.epoch = max(from.Epoch+1, e.opt.FirstEpoch)
		if !from.Adapted {
			e.base = from.Counts.clone()
		}
		e.base.Inherits = from.Inherits()
		e.marks.restore(from)
	}
	e.restorePartitions(from)
	for stage := range e.p.stages {
		for n := range e.opt.Lanes {
			e.lanes = append(e.lanes, newLane(e, stage, n))
		}
	}
	if from == nil || from.State == nil {
		return nil
	}
	return e.restoreLanes(from.State)
}

// restoreLanes lets the lanes load what they own, side by side.
func (e *run) restoreLanes(from state.Reader) error {
	var all errgroup.Group
	for _, l := range e.lanes {
		all.Go(func() error {
			return Guard(func() error {
				for _, s := range l.steps {
					def := &e.p.Steps[s.step]
					if err := step.Restore(def.Name, def.Keyed, s.state, from, l.number, e.opt.Lanes, l.bound); err != nil {
						return fmt.Errorf("step %s: load state: %w", def.Name, err)
					}
				}
				return nil
			})
		})
	}
	return all.Wait()
}

func (e *run) restorePartitions(from *Snapshot) {
	type key struct{ source, name string }
	states := map[key]PartitionState{}
	if from != nil {
		for _, p := range from.Partitions {
			states[key{p.Source, p.Name}] = p
		}
	}
	for i := range e.p.Sources {
		s := &e.p.Sources[i]
		for _, part := range s.Partitions {
			q := e.newPartition(i, part)
			if st, ok := states[key{s.Name, part.Name()}]; ok {
				q.position, q.greatest, q.ended, q.events = st.Position, st.Greatest, st.Ended, st.Events
				q.w = q.greatest.Minus(s.Margin)
				if q.ended {
					q.w = row.MaxTime
				}
			} else {
				q.start()
			}
			e.addPartition(q)
		}
	}
}

// openSinks makes the sinks ready; where one cannot be, those before it are closed again.
func (e *run) openSinks(ctx context.Context) error {
	for i := range e.p.Sinks {
		producers := 0
		if e.p.sinkFrom[i]&early != 0 {
			producers++
		}
		for stage := range e.p.stages {
			if e.p.sinkFrom[i]&inStage(stage) != 0 {
				producers += e.opt.Lanes
			}
		}
		n := &e.p.Sinks[i]
		var waiting []Shipment
		if e.opt.From != nil {
			waiting = e.opt.From.Shipments[n.Name]
		}
		if err := Guard(func() (err error) { waiting, err = e.open(ctx, i, waiting); return err }); err != nil {
			return errors.Join(fmt.Errorf("sink %s: %w", n.Name, err), e.closeSinks(false))
		}
		c := &e.base.Sinks[i]
		c.Delivered = c.Rows
		for k := range waiting {
			if e.opt.From.Adapted { // counts are of a version
				waiting[k].Rows = 0
			}
			c.Delivered -= waiting[k].Rows
		}
		e.sinks = append(e.sinks, &sinkRunner{e: e, at: i, node: n, in: make(chan sinkMessage, 64), producers: producers, marked: map[int]bool{}, counts: *c, shipped: c.Rows, delivery: newDelivery(e, i, waiting)})
	}
	return nil
}

// ErrBehind is wrapped where a sink's place holds more than the checkpoint knows: trying again cannot help.
var ErrBehind = errors.New("going on would write rows twice")

// Behind says whether a place has delivered more than the snapshot knows, so that going on from it would write rows twice.
func (s *Snapshot) Behind(delivered int64) error {
	if s == nil || delivered <= s.Epoch || s.Again {
		return nil
	}
	return fmt.Errorf("epoch %d was delivered and the checkpoint ends epoch %d: %w; in a service, start with --resume checkpoint:%[2]d if they are to be made again; else begin anew with an empty checkpoint folder and another place for the output", delivered, s.Epoch, ErrBehind)
}

// open makes a sink ready; it gives the shipments that are still to be delivered.
func (e *run) open(ctx context.Context, at int, waiting []Shipment) ([]Shipment, error) {
	s := e.p.Sinks[at].Sink
	var done int64
	if e.opt.Delivered != nil {
		done = e.opt.Delivered[at]
	} else {
		var err error
		if done, err = s.Delivered(ctx); err != nil {
			return nil, err
		}
	}
	if err := e.opt.From.Behind(done); err != nil {
		return nil, err
	}
	if err := s.Open(waiting, e.epoch); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(waiting), func(s Shipment) bool { return s.Epoch <= done }), nil
}
