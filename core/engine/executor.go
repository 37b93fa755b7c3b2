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
	// early: before the lanes, where merged rows are put in order of place, and what was given out lasts
	// until the turn is put back; in lanes until the call returns (package step, "Who owns a view").
	early     bool
	stateless []perTurn[*step.StatelessRun] // by step
	splits    []perTurn[*step.SplitRun]
	expands   []perTurn[*step.ExpandRun]
	exchanges []perTurn[*step.Exchange] // by keyed step of stage 0
	made      []*step.Pages             // by step that expands
	merged    []*step.Pages             // by step that merges, then by sink
	routes    []*step.Router            // by keyed step whose rows come out of lanes
	inputs    []step.Inputs             // by step that merges, in lanes
	waiting   [][]mergeInput            // by step that merges
	waitSinks [][]mergeInput
	encoders  []Encoder       // by sink
	constant  [][]*row.Column // by sink: its constants, as long as was needed
	blocks    []block         // by sink: rows of this turn
	views     []Encoder       // by tap
	viewed    []block         // by tap

	steps   []StepCounts // of this turn
	rejects []step.Reject
	sel     []uint16    // of the origin's rows
	log     *step.Pages // rejects as rows
	samples []Sample

	meter *meter // of the goroutine that is at it

	read row.Time // when the event that makes rows just now was read
	// where the rows come from, for rejects; nil after lanes
	chunk     *Chunk
	partition string
}

// perTurn are things that are made when first needed, and taken back together. Before the lanes each call in
// a turn has one of its own, since what it gives out lasts until the turn is put back.
type perTurn[T any] struct {
	all  []T
	used int
}

// next gives one that was not given since the last reset.
func (p *perTurn[T]) next(make func() T) T {
	if p.used == len(p.all) {
		p.all = append(p.all, make())
	}
	p.used++
	return p.all[p.used-1]
}

// given are those since the last reset.
func (p *perTurn[T]) given() []T { return p.all[:p.used] }

// mergeInput is rows that wait for those of the other inputs.
type mergeInput struct {
	input int
	view  step.View
}

func newExecutor(p *plan, lanes int, early bool) *executor {
	n := len(p.Steps)
	x := &executor{
		p: p, lanes: lanes, early: early,
		stateless: make([]perTurn[*step.StatelessRun], n), splits: make([]perTurn[*step.SplitRun], n), expands: make([]perTurn[*step.ExpandRun], n),
		exchanges: make([]perTurn[*step.Exchange], len(p.keyed)), routes: make([]*step.Router, len(p.keyed)),
		made: make([]*step.Pages, n), merged: make([]*step.Pages, n+len(p.Sinks)), inputs: make([]step.Inputs, n), log: step.NewPages(RejectSchema),
		waiting: make([][]mergeInput, n), waitSinks: make([][]mergeInput, len(p.Sinks)),
		encoders: make([]Encoder, len(p.Sinks)), constant: make([][]*row.Column, len(p.Sinks)), blocks: make([]block, len(p.Sinks)),
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
		b := &x.blocks[i]
		b.data, b.rows, b.ages = b.data[:0], 0, b.ages[:0]
	}
	for i := range x.viewed {
		x.viewed[i].data, x.viewed[i].rows = x.viewed[i].data[:0], 0
	}
	x.takeBack()
	x.samples = x.samples[:0]
}

// takeBack ends the life of all that was given out.
func (x *executor) takeBack() {
	for i := range x.steps {
		for _, r := range x.stateless[i].given() {
			r.TakeBack()
		}
		x.stateless[i].used, x.splits[i].used, x.expands[i].used = 0, 0, 0
	}
	for i := range x.exchanges {
		x.exchanges[i].used = 0
	}
	for _, list := range [][]*step.Pages{x.made, x.merged} {
		for _, p := range list {
			if p != nil {
				p.TakeBack()
			}
		}
	}
	x.log.TakeBack()
	if x.early { // a lane's routes are the turn's
		for _, r := range x.routes {
			if r != nil {
				r.Reset()
			}
		}
	}
}

func pagesOf(p **step.Pages, schema row.Schema) *step.Pages {
	if *p == nil {
		*p = step.NewPages(schema)
	}
	return *p
}

// push hands rows to whatever reads r.
func (x *executor) push(r Ref, v step.View) {
	list := x.p.consumers[r]
	for _, c := range list.sinks {
		in := x.p.Sinks[c.at].From
		w := in[c.input].Arrange(v)
		if x.early && len(in) > 1 {
			x.waitSinks[c.at] = append(x.waitSinks[c.at], mergeInput{c.input, w})
		} else {
			x.encode(c.at, w)
		}
	}
	for _, i := range list.taps {
		x.view(i, v)
	}
	for _, c := range list.steps {
		w := x.p.Steps[c.at].From[c.input].Arrange(v)
		switch k := x.p.keyedAt[c.at]; {
		case k >= 0 && x.p.routed[k]:
			x.route(k, c.at, c.input, w)
		case !x.p.merges[c.at]:
			x.runStep(c.at, w)
		case x.early:
			x.waiting[c.at] = append(x.waiting[c.at], mergeInput{c.input, w})
		default: // the lane that takes the rows puts them in order
			if x.p.ordered[c.at] {
				w = x.inputs[c.at].Apply(w, c.input)
			}
			x.runStep(c.at, w)
		}
	}
}

// Arrange gives a view of what is read with its columns as the reader has them.
func (in *Input) Arrange(v step.View) step.View {
	if in.Columns == nil {
		return v
	}
	cols := make([]*row.Column, len(in.Columns))
	for i, c := range in.Columns {
		if c < 0 {
			cols[i] = in.Fill[i]
		} else {
			cols[i] = v.Cols[c]
		}
	}
	v.Cols = cols
	return v
}

// settle lets the steps and sinks that merge take what waits for them, in order of place: by event,
// then by the order of their inputs. Called once all rows of a turn were pushed.
func (x *executor) settle() {
	for i, list := range x.waiting {
		if len(list) > 0 {
			x.waiting[i] = list[:0]
			x.merge(pagesOf(&x.merged[i], x.p.Steps[i].Input), list, &x.inputs[i], x.p.ordered[i], func(v step.View) { x.runStep(i, v) })
		}
	}
	for i, list := range x.waitSinks {
		if len(list) > 0 {
			x.waitSinks[i] = list[:0]
			x.merge(pagesOf(&x.merged[len(x.p.Steps)+i], x.p.Sinks[i].Schema), list, nil, false, func(v step.View) { x.encode(i, v) })
		}
	}
}

// merge hands on rows of several inputs in order of place: by event, then by input, those of one in the order
// in which they came.
func (x *executor) merge(pages *step.Pages, list []mergeInput, inputs *step.Inputs, ordered bool, take func(step.View)) {
	list = slices.DeleteFunc(list, func(m mergeInput) bool { return len(m.view.Sel) == 0 })
	if len(list) == 1 {
		if ordered {
			list[0].view = inputs.Apply(list[0].view, list[0].input)
		}
		take(list[0].view)
		return
	}
	var all []step.Place
	for n, m := range list {
		for _, i := range m.view.Sel {
			all = append(all, step.Place{List: n, Row: int(i)})
		}
	}
	compare := func(a, b step.Place) int {
		p, q := &list[a.List], &list[b.List]
		return cmp.Or(cmp.Compare(p.view.Index[a.Row], q.view.Index[b.Row]), cmp.Compare(p.input, q.input))
	}
	add := func(b *row.Batch, some []step.Place) {
		for c, col := range b.Cols {
			for _, p := range some {
				col.AppendFrom(list[p.List].view.Cols[c], p.Row)
			}
		}
		for _, p := range some {
			list[p.List].view.AppendPlace(b, p.Row, list[p.List].input, ordered)
		}
	}
	step.InOrder(all, compare, pages.Next, add, take)
}

func (x *executor) encode(sink int, v step.View) {
	if len(v.Sel) == 0 {
		return
	}
	defer x.meter.charge(x.meter.charge(x.p.sinkOwner(sink)))
	n := &x.p.Sinks[sink]
	if x.encoders[sink] == nil {
		x.encoders[sink] = n.Sink.NewEncoder(n.Writes())
	}
	if len(n.Constants) > 0 {
		v = x.constants(n.Constants, &x.constant[sink], v)
	}
	b := &x.blocks[sink]
	b.data = x.encoders[sink].Append(b.data, v)
	b.rows += len(v.Sel)
	b.ages = b.ages.look(v, x.read)
}

// constants adds columns of constants to rows; filled are those of before, which are made longer where they must be.
func (x *executor) constants(list []Constant, filled *[]*row.Column, v step.View) step.View {
	v.Cols = slices.Clone(v.Cols)
	for i, c := range list {
		if i == len(*filled) {
			*filled = append(*filled, row.NewColumn(c.Field.Kind))
		}
		col := (*filled)[i]
		for col.Len() < v.N {
			col.AppendFrom(c.Value, 0)
		}
		v.Cols = slices.Insert(v.Cols, c.At, col)
	}
	return v
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

// route hands rows to a keyed step whose rows come out of lanes; they are counted where they are taken.
func (x *executor) route(k, i, input int, v step.View) {
	if x.routes[k] == nil {
		x.routes[k] = x.p.Steps[i].Keyed.Spec().NewRouter(x.lanes, x.p.merges[i])
	}
	x.routes[k].Add(v, input)
}

// runStep lets step i take rows of its input.
func (x *executor) runStep(i int, v step.View) {
	defer x.meter.charge(x.meter.charge(x.p.stepOwner(i)))
	s := &x.p.Steps[i]
	c := &x.steps[i]
	c.In += int64(len(v.Sel))
	switch {
	case s.Keyed != nil:
		ex := x.exchanges[x.p.keyedAt[i]].next(func() *step.Exchange { return s.Keyed.Spec().NewExchange(x.lanes) })
		x.rejects = ex.Fill(v, x.rejects[:0])
		x.rejectRows(i, s.Input, v)
	case s.Split != nil:
		x.runSplit(i, s, c, v)
	case s.Expand != nil:
		x.runExpand(i, s, c, v)
	default:
		x.runStateless(i, s, c, v)
	}
}

func (x *executor) runStateless(i int, s *Step, c *StepCounts, v step.View) {
	run := x.stateless[i].next(s.Stateless.NewRun)
	var out step.View
	var dropped int
	out, dropped, x.rejects = run.Run(v, x.rejects[:0])
	c.Dropped += int64(dropped)
	c.Used += int64(len(out.Sel))
	c.Out += int64(len(out.Sel))
	c.Lookup.Add(run.Looked())
	x.rejectRows(i, s.Input, v)
	x.push(Ref{OfStep: true, At: i}, out)
	if !x.early {
		run.TakeBack()
		x.stateless[i].used--
	}
}

func (x *executor) runSplit(i int, s *Step, c *StepCounts, v step.View) {
	if c.Parts == nil {
		c.Parts = make([]int64, 1+len(s.Split.Parts))
	}
	run := x.splits[i].next(s.Split.NewRun)
	var parts [][]uint16
	parts, x.rejects = run.Run(v, x.rejects[:0])
	c.Used += int64(len(v.Sel) - len(x.rejects))
	x.rejectRows(i, s.Input, v)
	for n, sel := range parts {
		c.Parts[n] += int64(len(sel))
		c.Out += int64(len(sel))
		part := v
		part.Sel = sel
		x.push(Ref{OfStep: true, At: i, Part: RestPart + Part(n)}, part)
	}
	if !x.early {
		x.splits[i].used--
	}
}

func (x *executor) runExpand(i int, s *Step, c *StepCounts, v step.View) {
	run := x.expands[i].next(func() *step.ExpandRun { return s.Expand.NewRun(x.p.ordered[i]) })
	pages := pagesOf(&x.made[i], s.Expand.Schema)
	rejects := run.Run(v, pages, func(out step.View) {
		c.Out += int64(len(out.Sel))
		x.push(Ref{OfStep: true, At: i}, out)
		if !x.early {
			pages.TakeBack()
		}
	})
	c.Used += int64(len(v.Sel) - len(rejects))
	x.rejects = append(x.rejects[:0], rejects...)
	x.rejectRows(i, s.Input, v)
	if !x.early {
		x.expands[i].used--
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
	var log *row.Batch
	if wanted {
		log = x.log.Next() // of at most as many rows as v has
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
			event, offset = x.chunk.Shown(int(rej.Index)), x.chunk.Offset(int(rej.Index))
		}
		if first {
			x.samples = append(x.samples, Sample{At: at, Reason: rej.Reason, Message: rej.Message, Partition: x.partition, Offset: offset, Event: string(event)})
		}
		if wanted {
			x.logReject(log, rej, at, event, offset, schema, v)
		}
	}
	if !wanted {
		return
	}
	x.push(r, step.ViewOf(log)) // rejects are rare: the selection may be made anew
	if !x.early {
		x.log.TakeBack()
	}
}

func (x *executor) logReject(log *row.Batch, rej step.Reject, at string, event []byte, offset int64, schema row.Schema, v step.View) {
	c := log.Cols
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
	log.Index = append(log.Index, rej.Index)
	if v.Order != nil && rej.Row >= 0 {
		log.AppendOrder(v.Order.Bytes(rej.Row))
	}
	log.N++
}

func appendOrNull(c *row.Column, v []byte) {
	if len(v) == 0 {
		c.AppendNull()
	} else {
		c.AppendBytes(v)
	}
}
