package engine

import (
	"undertide/core/row"
	"undertide/core/step"
)

// executor carries out, for one turn or one lane, everything that needs no lane of its own: the
// stateless steps behind an origin, the preparation of rows for the lanes, and the encoding for
// sinks. Each turn and each lane has one; one goroutine at a time.
type executor struct {
	p         *plan
	stateless []*step.StatelessRun // by step, made when first needed
	exchanges []*step.Exchange     // by windowed step; filled ones are marked
	filled    []bool
	encoders  []Encoder // by sink
	blocks    []block   // by sink: rows of this turn
	views     []Encoder // by tap
	viewed    []block   // by tap
	lanes     int

	steps   []StepCounts // of this turn
	rejects []step.Reject
	sel     []uint16   // of the origin's rows
	log     *row.Batch // rejects as rows
	samples []Sample

	// where the rows come from, for rejects; nil after lanes
	chunk     *Chunk
	partition string
}

func newExecutor(p *plan, lanes int) *executor {
	x := &executor{
		p: p, lanes: lanes, stateless: make([]*step.StatelessRun, len(p.Steps)),
		exchanges: make([]*step.Exchange, len(p.windows)), filled: make([]bool, len(p.windows)),
		encoders: make([]Encoder, len(p.Sinks)), blocks: make([]block, len(p.Sinks)),
		views: make([]Encoder, len(p.Taps)), viewed: make([]block, len(p.Taps)),
		steps: make([]StepCounts, len(p.Steps)),
	}
	for i := range x.steps {
		x.steps[i].Rejected = map[string]int64{}
	}
	return x
}

// reset forgets the last turn; memory stays.
func (x *executor) reset() {
	for i := range x.steps {
		r := x.steps[i].Rejected
		clear(r)
		x.steps[i] = StepCounts{Rejected: r}
	}
	for i := range x.blocks {
		x.blocks[i].data, x.blocks[i].rows = x.blocks[i].data[:0], 0
	}
	for i := range x.viewed {
		x.viewed[i].data, x.viewed[i].rows = x.viewed[i].data[:0], 0
	}
	clear(x.filled)
	x.samples = x.samples[:0]
}

// push hands rows to whatever reads r.
func (x *executor) push(r Ref, v step.View) {
	list := x.p.consumers[r]
	for _, i := range list.sinks {
		x.encode(i, v)
	}
	for _, i := range list.taps {
		x.view(i, v)
	}
	for _, i := range list.steps {
		x.runStep(i, r, v)
	}
}

func (x *executor) encode(sink int, v step.View) {
	if len(v.Sel) == 0 {
		return
	}
	if x.encoders[sink] == nil {
		x.encoders[sink] = x.p.Sinks[sink].Sink.NewEncoder(x.p.Sinks[sink].Schema)
	}
	b := &x.blocks[sink]
	b.data = x.encoders[sink].Append(b.data, v)
	b.rows += len(v.Sel)
}

// view encodes rows for a tap, which need not take all of them.
func (x *executor) view(tap int, v step.View) {
	if len(v.Sel) == 0 {
		return
	}
	t := &x.p.Taps[tap]
	if x.views[tap] == nil {
		x.views[tap] = t.Tap.NewEncoder(t.Schema)
	}
	b := &x.viewed[tap]
	b.rows += len(v.Sel)
	v.Sel = v.Sel[:t.Tap.Room(len(v.Sel))]
	if len(v.Sel) > 0 {
		b.data = x.views[tap].Append(b.data, v)
	}
}

// show hands what was encoded for taps to them, and forgets it.
func (x *executor) show() {
	for i := range x.viewed {
		if b := &x.viewed[i]; b.rows > 0 {
			x.p.Taps[i].Tap.Take(b.data, b.rows)
			b.data, b.rows = b.data[:0], 0
		}
	}
}

func (x *executor) runStep(i int, from Ref, v step.View) {
	s := &x.p.Steps[i]
	c := &x.steps[i]
	c.In += int64(len(v.Sel))
	x.rejects = x.rejects[:0]
	if s.Window != nil {
		at := x.p.laneOf[i]
		if x.exchanges[at] == nil {
			x.exchanges[at] = s.Window.NewExchange(x.lanes)
		}
		x.rejects = x.exchanges[at].Fill(v, x.rejects)
		x.filled[at] = true
		x.pushRejects(Ref{OfStep: true, At: i, Part: RejectPart}, s.Name, c.Rejected, x.p.SchemaOf(from), v)
		return
	}
	if x.stateless[i] == nil {
		x.stateless[i] = s.Stateless.NewRun()
	}
	var out step.View
	var dropped int
	out, dropped, x.rejects = x.stateless[i].Run(v, x.rejects)
	c.Dropped += int64(dropped)
	c.Used += int64(len(out.Sel))
	c.Out += int64(len(out.Sel))
	if len(x.rejects) > 0 {
		x.pushRejects(Ref{OfStep: true, At: i, Part: RejectPart}, s.Name, c.Rejected, x.p.SchemaOf(from), v)
	}
	x.push(Ref{OfStep: true, At: i}, out)
}

// pushRejects counts x.rejects, keeps the first of each reason as a sample, and hands them to
// whatever reads `rejects of`.
func (x *executor) pushRejects(r Ref, at string, counts map[string]int64, schema row.Schema, v step.View) {
	if len(x.rejects) == 0 {
		return
	}
	list := x.p.consumers[r]
	wanted := len(list.steps)+len(list.sinks)+len(list.taps) > 0
	if wanted {
		if x.log == nil {
			x.log = row.NewBatch(RejectSchema)
		}
		x.log.Reset()
	}
	for _, rej := range x.rejects {
		counts[rej.Reason]++
		first := counts[rej.Reason] == 1
		if !wanted && !first {
			continue
		}
		var event []byte
		offset := int64(-1)
		if x.chunk != nil {
			event, offset = x.chunk.Event(int(rej.Index)), x.chunk.Offset(int(rej.Index))
		}
		if first {
			x.samples = append(x.samples, Sample{At: at, Reason: rej.Reason, Message: rej.Message, Partition: x.partition, Offset: offset, Event: string(event)})
		}
		if wanted {
			x.logReject(rej, at, event, offset, schema, v)
		}
	}
	if !wanted {
		return
	}
	x.push(r, step.ViewOf(x.log, nil)) // rejects are rare: the selection may be made anew
}

func (x *executor) logReject(rej step.Reject, at string, event []byte, offset int64, schema row.Schema, v step.View) {
	c := x.log.Cols
	c[0].AppendString(at)
	c[1].AppendString(rej.Reason)
	c[2].AppendString(rej.Message)
	appendOrNull(c[3], []byte(rej.Expression))
	if rej.Row >= 0 {
		c[4].AppendBytes(quoteValues(schema, v, rej.Row))
	} else {
		c[4].AppendNull()
	}
	if x.chunk != nil {
		c[5].AppendString(x.partition)
		c[6].AppendInt(offset)
		c[7].AppendBytes(event)
	} else {
		c[5].AppendNull()
		c[6].AppendNull()
		c[7].AppendNull()
	}
	x.log.Index = append(x.log.Index, rej.Index)
	x.log.N++
}

func appendOrNull(c *row.Column, v []byte) {
	if len(v) == 0 {
		c.AppendNull()
	} else {
		c.AppendBytes(v)
	}
}
