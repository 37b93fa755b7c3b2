package engine

import "undertide/core/row"

// Rest is how a run comes to rest, so that what it keeps can be divided anew among others (docs/spread.md, "Other portions").
//
// Of sources whose rows bring the watermarks of their writers, each partition is read until it has said that it is at its end ([Chunk.CaughtUp]); others are not read. Then the
// watermarks go to those that are named at least, and what that closes is published. Before the mark behind that, sinks close what they keep open ([Rester]); the run is over once
// all is delivered that the mark has. It may be made again: one that is at rest has nothing to read, publish or deliver.
//
// An example with two runs of one part, whose steps have come to 10:00 and to 10:05, since one saw a writer fall asleep that the other found awake again: the first one closes
// its windows up to 10:05 before its state and that of the other may stand together.
type Rest struct {
	// Sources and Steps are watermarks, by the names of sources and of steps with state.
	Sources map[string]row.Time `json:"sources,omitempty"`
	Steps   map[string]row.Time `json:"steps,omitempty"`
}

// Rester is a [Sink] that keeps something open over checkpoints, such as a file: the next Prepare closes it, so that it appears with that epoch.
type Rester interface{ Rest() }

// reads says whether the run reads a partition.
func (e *run) reads(p *partition) bool { return e.opt.Rest == nil || e.p.Sources[p.source].Carried }

// atRest says whether all has been read that there is for a run that is to come to rest.
func (e *run) atRest() bool {
	for _, p := range e.partitions {
		if e.reads(p) && !p.ended && !p.caughtUp {
			return false
		}
	}
	return true
}

// comeToRest closes what the watermarks pass that are to be reached.
func (e *run) comeToRest() {
	e.rested = true
	e.marks.raise(e.opt.Rest)
	e.watch.moved(e)
	e.quietTurn()
}

// raise moves watermarks up to those that are named.
func (m *watermarks) raise(r *Rest) {
	for i := range m.sources {
		if w, ok := r.Sources[m.e.p.Sources[i].Name]; ok {
			m.sources[i].stood = max(m.sources[i].stood, w)
		}
	}
	for k, i := range m.e.p.keyed {
		if w, ok := r.Steps[m.e.p.Steps[i].Name]; ok {
			set := &m.sets[m.e.p.domain[k]]
			set.stood = max(set.stood, w)
		}
	}
}
