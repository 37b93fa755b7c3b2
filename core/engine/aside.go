package engine

import (
	"fmt"
	"slices"

	"undertide/core/row"
	"undertide/core/step"
)

// AtEvent is a fault that came with one event. A run that sets the event aside ([Source.Skip]) goes on behind it.
type AtEvent struct {
	Source, Partition string
	Offset            int64
	Event             []byte // the beginning of its text
	Err               error
}

// mostShown is how much of an event such a fault shows.
const mostShown = 200

func (a *AtEvent) Error() string {
	return fmt.Sprintf("%v; it came with event %d of partition %s of source %s: %q", a.Err, a.Offset, a.Partition, a.Source, a.Event)
}

func (a *AtEvent) Unwrap() error { return a.Err }

// atEvent makes the fault of an event of a turn.
func (e *run) atEvent(p *partition, c *Chunk, i int, err error) *AtEvent {
	text := c.Shown(i)
	return &AtEvent{e.p.Sources[p.source].Name, p.Name(), c.Offset(i), slices.Clone(text[:min(len(text), mostShown)]), err}
}

// setAside empties the events of a turn that are to be passed over, and notes where they ended.
func (w *worker) setAside(t *turn, s *Source) {
	t.aside = t.aside[:0]
	offsets := s.Skip[t.part.Name()]
	if len(offsets) == 0 {
		return
	}
	for i := range t.chunk.Starts {
		if slices.Contains(offsets, t.chunk.Offset(i)) {
			t.aside = append(t.aside, aside{uint16(i), t.chunk.Ends[i]})
			t.chunk.Ends[i] = t.chunk.Starts[i]
		}
	}
}

// aside is an event that is passed over: its number in the turn, and where its text ended.
type aside struct {
	index uint16
	end   uint32
}

// putAside makes rejects of the events that are passed over, whatever decoding made of nothing.
func (w *worker) putAside(t *turn) {
	if len(t.aside) == 0 {
		return
	}
	is := func(index uint16) bool {
		return slices.ContainsFunc(t.aside, func(a aside) bool { return a.index == index })
	}
	x := t.exec
	x.rejects = slices.DeleteFunc(x.rejects, func(r step.Reject) bool { return is(r.Index) })
	if slices.ContainsFunc(t.batch.Index, is) {
		kept := row.NewBatch(t.batch.Schema)
		for i := range t.batch.N {
			if !is(t.batch.Index[i]) {
				kept.AppendFrom(t.batch, i)
			}
		}
		t.batch = kept
	}
	for _, a := range t.aside {
		t.chunk.Ends[a.index] = a.end
		x.rejects = append(x.rejects, step.Reject{Index: a.index, Row: -1, Reason: step.Skipped, Message: "it was set aside when the run was started"})
	}
	slices.SortFunc(x.rejects, func(a, b step.Reject) int { return int(a.Index) - int(b.Index) })
}

// carry is run, and says which event it was where that panics.
func (w *worker) carry(t *turn) {
	err := Guard(func() error { w.run(t); return nil })
	if err == nil {
		return
	}
	t.err = fmt.Errorf("source %s, partition %s, events %d to %d: %w", w.e.p.Sources[t.part.source].Name, t.part.Name(), t.chunk.Offset(0), t.chunk.Offset(max(0, len(t.chunk.Starts)-1)), err)
	all := t.chunk
	for i := range all.Starts {
		alone := newWorker(w.e) // what panicked may be left in any state
		one := &turn{part: t.part, exec: newExecutor(w.e.p, w.e.opt.Lanes, true), rejected: map[string]int64{}, arrived: t.arrived, read: t.read}
		one.chunk = Chunk{Raw: all.Raw, Starts: all.Starts[i : i+1], Ends: all.Ends[i : i+1], Header: all.Header, Text: all.Text, First: all.Offset(i)}
		if Guard(func() error { alone.run(one); return nil }) != nil {
			t.err = w.e.atEvent(t.part, &all, i, err)
			return
		}
	}
}
