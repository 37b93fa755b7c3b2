package engine

import (
	"cmp"
	"slices"

	"undertide/core/row"
	"undertide/core/step"
)

// executor carries out, for one turn or one lane, everything that needs no lane of its own: the
// stateless steps behind an origin, the preparation of rows for the lanes, and the encoding for
// sinks. Each turn and each lane has one; one goroutine at a time.
type executor struct {
	p     *plan
	lanes int
	// early: before the lanes, where merged rows are put in order of place.
	early     bool
	stateless []*step.StatelessRun // by step, made when first needed
	splits    []*step.SplitRun
	expands   []*step.ExpandRun
	exchanges [][]*step.Exchange // by keyed step of stage 0; the first filled[i] of them are this turn's
	filled    []int
	routes    []*step.Router // by keyed step whose rows come out of lanes
	waiting   [][]mergeInput // by step that merges
	waitSinks [][]mergeInput
	merged    []*row.Batch
	encoders  []Encoder // by sink
	blocks    []block   // by sink: rows of this turn
	views     []Encoder // by tap
	viewed    []block   // by tap

	steps   []StepCounts // of this turn
	rejects []step.Reject
	sel     []uint16   // of the origin's rows
	log     *row.Batch // rejects as rows
	samples []Sample

	// where the rows come from, for rejects; nil after lanes
	chunk     *Chunk
	partition string
}

// mergeInput is rows that wait for those of the other inputs.
type mergeInput struct {
	input int
	view  step.View
}

func newExecutor(p *plan, lanes int, early bool) *executor {
	n := len(p.Steps)
	x := &executor{
		p: p, lanes: lanes, early: early,
		stateless: make([]*step.StatelessRun, n), splits: make([]*step.SplitRun, n), expands: make([]*step.ExpandRun, n),
		exchanges: make([][]*step.Exchange, len(p.keyed)), filled: make([]int, len(p.keyed)), routes: make([]*step.Router, len(p.keyed)),
		waiting: make([][]mergeInput, n), waitSinks: make([][]mergeInput, len(p.Sinks)), merged: make([]*row.Batch, n+len(p.Sinks)),
		encoders: make([]Encoder, len(p.Sinks)), blocks: make([]block, len(p.Sinks)),
		views: make([]Encoder, len(p.Taps)), viewed: make([]block, len(p.Taps)),
		steps: make([]StepCounts, n),
	}
	for i := range x.steps {
		x.steps[i].Rejected = map[string]int64{}
	}
	return x
}

// reset forgets the last turn; memory stays.
func (x *executor) reset() {
	for i := range x.steps {
		r, parts := x.steps[i].Rejected, x.steps[i].Parts
		clear(r)
		clear(parts)
		x.steps[i] = StepCounts{Rejected: r, Parts: parts}
	}
	for i := range x.blocks {
		x.blocks[i].data, x.blocks[i].rows = x.blocks[i].data[:0], 0
	}
	for i := range x.viewed {
		x.viewed[i].data, x.viewed[i].rows = x.viewed[i].data[:0], 0
	}
	clear(x.filled)
	if x.early {
		for _, r := range x.routes {
			if r != nil {
				r.Reset()
			}
		}
	}
	x.samples = x.samples[:0]
}

// push hands rows to whatever reads r.
func (x *executor) push(r Ref, v step.View) {
	list := x.p.consumers[r]
	for _, c := range list.sinks {
		in := x.p.Sinks[c.at].From
		w := arranged(v, in[c.input].Columns)
		if x.early && len(in) > 1 {
			x.waitSinks[c.at] = append(x.waitSinks[c.at], mergeInput{c.input, x.kept(r, w)})
		} else {
			x.encode(c.at, w)
		}
	}
	for _, i := range list.taps {
		x.view(i, v)
	}
	for _, c := range list.steps {
		w := arranged(v, x.p.Steps[c.at].From[c.input].Columns)
		if x.early && x.p.merges[c.at] {
			x.waiting[c.at] = append(x.waiting[c.at], mergeInput{c.input, x.kept(r, w)})
		} else {
			x.runStep(c.at, c.input, w)
		}
	}
}

// arranged gives the view with its columns in the order that the reader has.
func arranged(v step.View, columns []int) step.View {
	if columns == nil {
		return v
	}
	cols := make([]*row.Column, len(columns))
	for i, c := range columns {
		cols[i] = v.Cols[c]
	}
	v.Cols = cols
	return v
}

// kept gives a view that may wait: a copy where more views of the same rows' kind follow in this turn.
func (x *executor) kept(r Ref, v step.View) step.View {
	if !x.p.repeated[r] || len(v.Sel) == 0 {
		return v
	}
	b := &row.Batch{Cols: make([]*row.Column, len(v.Cols))}
	for i, c := range v.Cols {
		b.Cols[i] = row.NewColumn(c.Kind)
	}
	appendRows(b, v, v.Sel)
	return step.ViewOf(b, nil)
}

func appendRows(b *row.Batch, v step.View, rows []uint16) {
	for _, i := range rows {
		for c, col := range v.Cols {
			b.Cols[c].AppendFrom(col, int(i))
		}
		if len(v.Times) > 0 {
			b.Times = append(b.Times, v.Times[i])
		}
		b.Index = append(b.Index, v.Index[i])
		b.N++
	}
}

// settle lets the steps and sinks that merge take what waits for them, in order of place: by event,
// then by the order of their inputs. Called once all rows of a turn were pushed.
func (x *executor) settle() {
	for i, list := range x.waiting {
		if len(list) > 0 {
			x.waiting[i] = list[:0]
			x.merge(i, x.p.Steps[i].Input, list, func(v step.View) { x.runStep(i, 0, v) })
		}
	}
	for i, list := range x.waitSinks {
		if len(list) > 0 {
			x.waitSinks[i] = list[:0]
			x.merge(len(x.p.Steps)+i, x.p.Sinks[i].Schema, list, func(v step.View) { x.encode(i, v) })
		}
	}
}

func (x *executor) merge(slot int, schema row.Schema, list []mergeInput, take func(step.View)) {
	list = slices.DeleteFunc(list, func(m mergeInput) bool { return len(m.view.Sel) == 0 })
	if len(list) == 0 {
		return
	}
	if len(list) == 1 {
		take(list[0].view)
		return
	}
	type at struct {
		view int
		row  uint16
	}
	var all []at
	for n, m := range list {
		for _, i := range m.view.Sel {
			all = append(all, at{n, i})
		}
	}
	slices.SortStableFunc(all, func(a, b at) int {
		p, q := &list[a.view], &list[b.view]
		if c := cmp.Compare(p.view.Index[a.row], q.view.Index[b.row]); c != 0 {
			return c
		}
		return cmp.Compare(p.input, q.input)
	})
	if x.merged[slot] == nil {
		x.merged[slot] = row.NewBatch(schema)
	}
	b := x.merged[slot]
	for len(all) > 0 {
		n := min(len(all), row.MaxRows)
		b.Reset()
		for _, a := range all[:n] {
			appendRows(b, list[a.view].view, []uint16{a.row})
		}
		take(step.ViewOf(b, nil))
		if all = all[n:]; len(all) > 0 { // what was taken may wait further on: the next rows need a batch of their own
			b = row.NewBatch(schema)
		}
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

// runStep lets step i take rows of its input of this number.
func (x *executor) runStep(i, input int, v step.View) {
	s := &x.p.Steps[i]
	c := &x.steps[i]
	switch {
	case s.Keyed != nil && x.p.routed[x.p.keyedAt[i]]:
		at := x.p.keyedAt[i] // counted where the rows are taken
		if x.routes[at] == nil {
			x.routes[at] = s.Keyed.Spec().NewRouter(x.lanes)
		}
		x.routes[at].Add(v, input)
	case s.Keyed != nil:
		c.In += int64(len(v.Sel))
		at := x.p.keyedAt[i]
		if x.filled[at] == len(x.exchanges[at]) {
			x.exchanges[at] = append(x.exchanges[at], s.Keyed.Spec().NewExchange(x.lanes))
		}
		x.rejects = x.exchanges[at][x.filled[at]].Fill(v, x.rejects[:0])
		x.filled[at]++
		x.rejectRows(i, s.Input, v)
	case s.Split != nil:
		c.In += int64(len(v.Sel))
		if x.splits[i] == nil {
			x.splits[i] = s.Split.NewRun()
			c.Parts = make([]int64, 1+len(s.Split.Parts))
		}
		var parts [][]uint16
		parts, x.rejects = x.splits[i].Run(v, x.rejects[:0])
		c.Used += int64(len(v.Sel) - len(x.rejects))
		x.rejectRows(i, s.Input, v)
		for n, sel := range parts {
			c.Parts[n] += int64(len(sel))
			c.Out += int64(len(sel))
			part := v
			part.Sel = sel
			x.push(Ref{OfStep: true, At: i, Part: RestPart + Part(n)}, part)
		}
	case s.Expand != nil:
		c.In += int64(len(v.Sel))
		if x.expands[i] == nil {
			x.expands[i] = s.Expand.NewRun()
		}
		rejects := x.expands[i].Run(v, func(out step.View) {
			c.Out += int64(len(out.Sel))
			x.push(Ref{OfStep: true, At: i}, out)
		})
		c.Used += int64(len(v.Sel) - len(rejects))
		x.rejects = append(x.rejects[:0], rejects...)
		x.rejectRows(i, s.Input, v)
	default:
		c.In += int64(len(v.Sel))
		if x.stateless[i] == nil {
			x.stateless[i] = s.Stateless.NewRun()
		}
		var out step.View
		var dropped int
		out, dropped, x.rejects = x.stateless[i].Run(v, x.rejects[:0])
		c.Dropped += int64(dropped)
		c.Used += int64(len(out.Sel))
		c.Out += int64(len(out.Sel))
		x.rejectRows(i, s.Input, v)
		x.push(Ref{OfStep: true, At: i}, out)
	}
}

func (x *executor) rejectRows(i int, schema row.Schema, v step.View) {
	if len(x.rejects) > 0 {
		x.pushRejects(Ref{OfStep: true, At: i, Part: RejectPart}, x.p.Steps[i].Name, x.steps[i].Rejected, schema, v)
	}
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
