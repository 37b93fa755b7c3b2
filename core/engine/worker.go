package engine

import (
	"fmt"

	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// worker decodes chunks and carries out what comes before the lanes. Each has decoders of its own.
type worker struct {
	e        *run
	decoders []Decoder
	times    []*expr.Runner
	meter    *meter
}

func newWorker(e *run) *worker {
	w := &worker{e: e, decoders: make([]Decoder, len(e.p.Sources)), times: make([]*expr.Runner, len(e.p.Sources)), meter: newMeter(e, workers)}
	for i, s := range e.p.Sources {
		w.decoders[i] = s.NewDecoder()
		if s.EventTime != nil {
			w.times[i] = s.EventTime.NewRunner()
		}
	}
	return w
}

// work fills turns until there are no more.
func (e *run) work() {
	w := newWorker(e)
	for t := range e.raw {
		w.carry(t)
		select {
		case e.decoded <- t:
		case <-e.hard.Done():
		}
	}
}

// run fills a turn: rows, event times, stateless steps, keys, encoded rows of sinks.
func (w *worker) run(t *turn) {
	at := t.part.source
	s := &w.e.p.Sources[at]
	x := t.exec
	x.reset()
	x.meter = w.meter
	w.meter.charge(w.e.p.sourceOwner(at))
	defer func() {
		w.meter.charge(nobody)
		w.e.watch.spend(workers, w.meter)
	}()
	x.chunk, x.partition, x.read = &t.chunk, t.part.Name(), t.read
	x.rejects = x.rejects[:0]
	if t.batch == nil || &t.batch.Schema[0] != &s.Schema[0] {
		t.batch = row.NewBatch(s.Schema)
	}
	t.batch.Reset()
	if r, ok := w.decoders[at].(Readier); ok {
		if err := r.Ready(w.e.hard, &t.chunk); err != nil {
			t.err = fmt.Errorf("source %s: %w", s.Name, err)
			return
		}
	}
	w.setAside(t, s)
	x.rejects = w.decoders[at].Decode(&t.chunk, t.batch, x.rejects)
	w.putAside(t)
	if !s.Carried { // else they have crossed
		w.fillHidden(t, s)
	}
	if s.Timed() && !s.Carried {
		w.stamp(t, at, s)
	}
	if got := t.batch.N + len(x.rejects); got != len(t.chunk.Starts) {
		t.err = fmt.Errorf("source %s: %d events gave %d rows and rejects; this is a bug of Under Tide", s.Name, len(t.chunk.Starts), got)
		return
	}
	clear(t.rejected)
	view := step.ViewOf(t.batch)
	x.pushRejects(Ref{At: at, Part: RejectPart}, s.Name, t.rejected, s.Schema, view)
	x.push(Ref{At: at}, view)
	x.settle()
}

// fillHidden sets the meta fields where expressions ask for them.
func (w *worker) fillHidden(t *turn, s *Source) {
	for i, f := range s.Schema {
		if !f.Hidden {
			continue
		}
		c := t.batch.Cols[i]
		for _, at := range t.batch.Index {
			switch {
			case f.Name == "meta.partition":
				c.AppendString(t.part.Name())
			case f.Name == "meta.offset":
				c.AppendInt(t.chunk.Offset(int(at)))
			case t.chunk.Meta != nil:
				t.chunk.Meta.Append(c, f.Name, int(at))
			default:
				c.AppendNull()
			}
		}
	}
}

// stamp sets the event times. Rows that have none, or one too far ahead of the clock, become rejects
// and leave the batch, so that they never move the watermark (docs/time.md, "Watermark").
func (w *worker) stamp(t *turn, at int, s *Source) {
	b, x := t.batch, t.exec
	limit := row.MaxTime
	if s.Ahead > 0 {
		limit = w.e.aheadFrom().Plus(s.Ahead)
	}
	if s.Arrival {
		for range b.N {
			b.Times = append(b.Times, t.arrived)
		}
		return
	}
	c, errs := w.times[at].Run(b.Cols, b.N)
	bad := len(errs) > 0 || len(c.Null) > 0
	for _, v := range c.I[:b.N] {
		ts := row.Time(v)
		b.Times = append(b.Times, ts)
		bad = bad || ts > limit || ts < row.FirstTime || ts > row.LastTime
	}
	if !bad {
		return
	}
	kept := row.NewBatch(b.Schema) // rare: a batch of its own
	for i := range b.N {
		rej := step.Reject{Index: b.Index[i], Row: -1, Reason: step.NoEventTime}
		switch ts := b.Times[i]; {
		case expr.HasBit(errs, i):
			_, err := s.EventTime.Eval(b.Cols, i)
			rej.Message, rej.Expression = fmt.Sprintf("the event time has no value: %v", err), s.EventTime.Text()
		case c.IsNull(i):
			rej.Message = fmt.Sprintf("the event time (%s) is null", s.EventTime.Text())
		case ts < row.FirstTime || ts > row.LastTime:
			rej.Message = "the event time is outside the years 1 to 9999"
		case ts > limit:
			rej.Reason = step.TooFarAhead
			rej.Message = fmt.Sprintf("the event time %s is more than %s ahead of the clock", ts, row.DurationText(s.Ahead))
		default:
			kept.AppendFrom(b, i)
			continue
		}
		x.rejects = append(x.rejects, rej)
	}
	t.batch = kept
}
