package try

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/connect/memory"
	"undertide/connect/settings"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/state"
	"undertide/core/step"
	"undertide/job"
	"undertide/look"
	"undertide/run"
)

// RehearseOptions are how a document is run on a sample.
type RehearseOptions struct {
	Rows int          // of each source at most; 0 means 1,000
	From connect.From // Newest, or Oldest
	In   map[string]string
	// Journal gives the folder where a source of the job writes down what it takes; nil where nobody knows any.
	Journal func(source string) string
	// Keep is how many rows of each part are given; 0 means 50.
	Keep int
}

func (o *RehearseOptions) journal(source string) string {
	if o.Journal == nil {
		return ""
	}
	return o.Journal(source)
}

// Rehearsal is what a document did with a sample. Nothing was delivered.
type Rehearsal struct {
	Job     string            `json:"job"`
	Seconds float64           `json:"seconds"`
	Sources []RehearsedSource `json:"sources"`
	Steps   []RehearsedStep   `json:"steps"`
	Sinks   []RehearsedSink   `json:"sinks"`
	// Crossings are what would cross between the portions of a spread job; none for another.
	Crossings []RehearsedCrossing `json:"crossings"`
	// Warnings are what the sample shows to be wrong, or likely so.
	Warnings []Warning `json:"warnings"`
}

// RehearsedSource is what was sampled of a source.
type RehearsedSource struct {
	Name     string           `json:"name"`
	Events   int64            `json:"events"`
	Rejected map[string]int64 `json:"rejected"`
	From     *string          `json:"from"` // least event time; null for none
	To       *string          `json:"to"`
	Notes    []string         `json:"notes"`
	Parts    []RehearsedPart  `json:"parts"` // itself, and its rejects
}

// RehearsedCrossing is what would cross to a part of a spread job.
type RehearsedCrossing struct {
	Rows  string   `json:"rows"` // as `from` has them
	By    []string `json:"by"`
	Part  int      `json:"part"` // to which, from 1
	Count int64    `json:"count"`
	Bytes int64    `json:"bytes"`
}

// RehearsedStep is what a step did.
type RehearsedStep struct {
	Name     string           `json:"name"`
	Kind     string           `json:"kind"`
	From     string           `json:"from"`
	In       int64            `json:"in"`
	Out      int64            `json:"out"`
	Dropped  int64            `json:"dropped"`
	Made     int64            `json:"made"` // of a windowed step: result rows, with those that having dropped
	Repeats  int64            `json:"repeats"`
	Lost     int64            `json:"lost"`
	Accepted int64            `json:"accepted"`
	Rejected map[string]int64 `json:"rejected"`
	Parts    []RehearsedPart  `json:"parts"`
	// Examples are, of a filter, up to five rows that it kept and five that it dropped.
	Examples []Judged `json:"examples"`
	// Overlap counts, of a split, the rows that more than one part took; with first_only those that more
	// than one would take.
	Overlap int64 `json:"overlap"`
	// Forecast is how much it will keep; null where it keeps nothing or the sample does not say.
	Forecast *Forecast `json:"forecast"`
}

// RehearsedPart is a part of a source or step, with its first rows.
type RehearsedPart struct {
	Name   string            `json:"name"`
	Fields []string          `json:"fields"`
	Count  int64             `json:"count"`
	Rows   []json.RawMessage `json:"rows"`
}

// RehearsedSink is what a sink would have taken.
type RehearsedSink struct {
	Name   string            `json:"name"`
	From   string            `json:"from"`
	Writes string            `json:"writes"`
	Makes  string            `json:"makes"`
	Count  int64             `json:"count"`
	Rows   []json.RawMessage `json:"rows"`
}

// Judged is a row that a filter saw.
type Judged struct {
	Row  json.RawMessage `json:"row"`
	Kept bool            `json:"kept"`
	Why  string          `json:"why"` // the condition that failed
}

// Warning is something that a sample shows.
type Warning struct {
	At   string `json:"at"` // the source, step or sink
	Text string `json:"text"`
	Fix  string `json:"fix"`
}

// versionRows are how many rows a rehearsal takes of a reference whose versions are looked up in.
const versionRows = 100_000

// Rehearse runs a document on a sample of each source, to its end, and delivers nothing.
func Rehearse(ctx context.Context, j *job.Job, o RehearseOptions) (Rehearsal, error) {
	began := time.Now()
	if o.Keep <= 0 {
		o.Keep = 50
	}
	for name := range o.In {
		if known := run.Names(j.Sources, func(s *job.Source) string { return s.Name }); !slices.Contains(known, name) {
			return Rehearsal{}, run.Unknown("--in", name, "source", known)
		}
	}
	samples := make([]connect.Sample, len(j.Sources))
	refs, err := run.OpenReferences(ctx, j, func(string, ...any) {})
	if err != nil {
		return Rehearsal{}, err
	}
	defer refs.Close()
	g := &engine.Graph{Steps: j.Flow(refs.Finders())}
	for i := range j.Sources {
		s := &j.Sources[i]
		switch path, in := o.In[s.Name]; {
		case in:
			samples[i], err = sampleFile(ctx, path, s, o.Rows)
		case j.IsReference(i): // versions from before the sample count in it
			samples[i], err = Sample(ctx, j, s, connect.Sampling{Rows: max(o.Rows, versionRows), From: connect.Oldest})
		default:
			samples[i], err = Sample(ctx, j, s, connect.Sampling{Rows: o.Rows, From: o.From, Journal: o.journal(s.Name)})
		}
		if err != nil {
			return Rehearsal{}, err
		}
	}
	if o.From == connect.Newest && len(o.In) == 0 {
		if err := sampleTogether(ctx, j, samples, o.Rows); err != nil {
			return Rehearsal{}, err
		}
	}
	for i := range j.Sources {
		s := &j.Sources[i]
		src := s.On(sampledPartitions(samples[i]), true)
		src.Ahead = s.Ahead
		g.Sources = append(g.Sources, src)
	}
	r := &rehearser{j: j, g: g, keep: o.Keep, shown: map[string]*shown{}}
	r.taps()
	crossings := r.crossings()
	sinks := make([]*shown, len(j.Sinks))
	for i := range j.Sinks {
		sinks[i] = &shown{keep: o.Keep, schema: j.Sinks[i].Schema, rows: []json.RawMessage{}}
		g.Sinks = append(g.Sinks, engine.SinkNode{Name: j.Sinks[i].Name, From: j.Sinks[i].From, Schema: j.Sinks[i].Schema, Sink: &taker{shown: sinks[i]}})
	}
	res, err := engine.Run(ctx, g, engine.Options{Lanes: 1, Workers: 1})
	if err != nil {
		return Rehearsal{}, err
	}
	out := r.told(res.Figures, samples)
	plan := job.PlanOf(j)
	for i, s := range plan.Sinks {
		out.Sinks = append(out.Sinks, RehearsedSink{Name: s.Name, From: s.From, Writes: s.Writes, Makes: s.Makes, Count: sinks[i].count, Rows: sinks[i].rows})
	}
	for i := range out.Steps {
		out.Steps[i].Kind = plan.Steps[i].Kind
	}
	for _, c := range crossings {
		out.Crossings = append(out.Crossings, c.told())
	}
	r.warn(&out, samples, res.Figures)
	out.Seconds = time.Since(began).Seconds()
	return out, nil
}

// shown keeps the first rows of a part. Safe for concurrent use.
type shown struct {
	keep   int
	schema row.Schema

	mu    sync.Mutex // guards all below
	count int64
	rows  []json.RawMessage
}

func (s *shown) NewEncoder(sc row.Schema) engine.Encoder { return run.TextOf(sc) }
func (s *shown) Room(rows int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return max(0, min(rows, s.keep-len(s.rows)))
}

func (s *shown) Take(data []byte, rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count += int64(rows)
	for line := range bytes.Lines(data) {
		if len(s.rows) < s.keep {
			s.rows = append(s.rows, json.RawMessage(bytes.Clone(bytes.TrimSuffix(line, []byte("\n")))))
		}
	}
}

// taker is a sink that shows what it would take, and delivers nothing.
type taker struct {
	memory.Sink
	shown *shown
}

func (t *taker) Write(data []byte, rows int) error {
	t.shown.Take(data, rows)
	return nil
}
func (t *taker) Prepare(int64) (engine.Shipment, error)         { return engine.Shipment{}, nil }
func (t *taker) Deliver(context.Context, engine.Shipment) error { return nil }

// rehearser looks at all rows of a run on a sample.
type rehearser struct {
	j      *job.Job
	g      *engine.Graph
	keep   int
	shown  map[string]*shown
	judges map[int]*judge
	keys   map[int]*keyCounter
	sides  map[int]*sides
	times  []*timeSpan
}

func (r *rehearser) taps() {
	r.judges, r.keys, r.sides = map[int]*judge{}, map[int]*keyCounter{}, map[int]*sides{}
	r.j.EachPart(func(name string, ref engine.Ref) {
		s := &shown{keep: r.keep, schema: r.g.SchemaOf(ref)}
		r.shown[name] = s
		r.g.Taps = append(r.g.Taps, engine.TapNode{From: ref, Schema: s.schema, Tap: s})
	})
	for i := range r.j.Sources {
		t := &timeSpan{least: row.MaxTime, most: row.MinTime}
		r.times = append(r.times, t)
		r.g.Taps = append(r.g.Taps, engine.TapNode{From: engine.Ref{At: i}, Schema: r.g.Sources[i].Schema, Tap: eye{t.see}})
	}
	for i := range r.j.Steps {
		s := &r.j.Steps[i]
		var see func(step.View)
		switch {
		case s.Stateless != nil && s.Stateless.Where != nil:
			r.judges[i] = newJudge(s, &r.g.Steps[i], r.j.Values)
			see = r.judges[i].filter
		case s.Split != nil:
			r.judges[i] = newJudge(s, &r.g.Steps[i], r.j.Values)
			see = r.judges[i].split
		case joined(s) != nil:
			r.sides[i] = newSides(joined(s))
			see = r.sides[i].see
		case s.Keyed != nil && len(s.Keyed.Spec().Key) > 0:
			r.keys[i] = &keyCounter{spec: s.Keyed.Spec(), of: map[string]int64{}}
			see = r.keys[i].see
		default:
			continue
		}
		for _, in := range s.From {
			r.g.Taps = append(r.g.Taps, engine.TapNode{From: in.Ref, Schema: r.g.SchemaOf(in.Ref), Tap: eye{func(v step.View) { see(in.Arrange(v)) }}})
		}
	}
}

// eye is a tap that is shown the rows themselves.
type eye struct{ see func(step.View) }

func (e eye) NewEncoder(row.Schema) engine.Encoder { return e }
func (e eye) Room(rows int) int                    { return rows }
func (e eye) Take([]byte, int)                     {}
func (e eye) Append(dst []byte, v step.View) []byte {
	e.see(v)
	return dst
}

// crosser counts what would cross. Safe for concurrent use.
type crosser struct {
	mu  sync.Mutex // guards all below
	sum RehearsedCrossing
	row []byte
}

func (c *crosser) told() RehearsedCrossing {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.sum
}

// besideRow is about what a block has of a row beside its fields: its size, its time, and how far its watermark is (docs/spread.md, "What it costs").
const besideRow = 6

func (c *crosser) see(v step.View) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sum.Count += int64(len(v.Sel))
	for _, i := range v.Sel {
		c.row = state.AppendValues(c.row[:0], v.Cols, int(i))
		c.sum.Bytes += int64(len(c.row)) + besideRow
	}
}

// crossings looks at what would cross between the portions of a spread job.
func (r *rehearser) crossings() (out []*crosser) {
	if r.j.Spread == nil {
		return nil
	}
	parts, err := r.j.Parts()
	if err != nil {
		return nil // its document would have a fault
	}
	for _, x := range parts.Crossings {
		c := &crosser{sum: RehearsedCrossing{Rows: x.Text, By: x.By(), Part: x.To + 1}}
		out = append(out, c)
		for _, in := range x.Inputs {
			r.g.Taps = append(r.g.Taps, engine.TapNode{From: in.Ref, Schema: r.g.SchemaOf(in.Ref), Tap: eye{func(v step.View) { c.see(in.Arrange(v)) }}})
		}
	}
	return out
}

// timeSpan is the span of event times.
type timeSpan struct {
	mu          sync.Mutex // guards all below
	least, most row.Time
	future      int64
	futureMost  row.Time
}

func (t *timeSpan) see(v step.View) {
	t.mu.Lock()
	defer t.mu.Unlock()
	limit := row.TimeOf(time.Now().Add(time.Minute))
	for _, i := range v.Sel {
		if len(v.Times) == 0 {
			return
		}
		at := v.Times[i]
		t.least, t.most = min(t.least, at), max(t.most, at)
		if at > limit {
			t.future++
			t.futureMost = max(t.futureMost, at)
		}
	}
}

// keyCounter counts a keyed step's rows by key.
type keyCounter struct {
	spec *step.Spec
	mu   sync.Mutex // guards all below
	of   map[string]int64
	all  int64
	growth
}

func (k *keyCounter) see(v step.View) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, i := range v.Sel {
		k.all++
		if !nullKey(v.Cols, k.spec.Key, int(i)) && len(k.of) < 100_000 {
			k.of[keyAt(v.Cols, k.spec.Key, int(i))]++
		}
		k.growth.see(k.all, int64(len(k.of)))
	}
}

// judge sees the rows that come to a filter or split.
type judge struct {
	st       *job.Step
	schema   row.Schema
	looks    *step.StatelessRun // what is looked up before; nil for nothing
	where    *expr.Runner
	terms    []term
	parts    []*expr.Runner
	texts    engine.Encoder
	mu       sync.Mutex // guards all below
	examples []Judged
	kept     int
	dropped  int
	overlap  int64
}

// term is one condition of several that && joins.
type term struct {
	text string
	prog *expr.Program
}

func newJudge(s *job.Step, bound *engine.Step, values map[string]expr.Value) *judge {
	d := &judge{st: s, schema: s.Input}
	if bound.Stateless != nil && bound.Stateless.Lookup != nil {
		l := *bound.Stateless.Lookup
		l.Missing, l.Misses = step.KeepUnfound, &step.Misses{}
		d.schema = append(slices.Clone(s.Input), l.Adds...)
		wide := &step.Stateless{Lookup: &l, Schema: d.schema}
		for i := range d.schema {
			wide.Output = append(wide.Output, i)
		}
		d.looks = wide.NewRun()
	}
	d.texts = run.TextOf(d.schema)
	if s.Stateless != nil {
		d.where = s.Stateless.Where.NewRunner()
		for _, text := range conjuncts(s.Stateless.Where.Text()) {
			if p, faults := expr.Compile(text, expr.Scope{Fields: d.schema, Values: values}); len(faults) == 0 {
				d.terms = append(d.terms, term{text, p})
			}
		}
		return d
	}
	for _, p := range s.Split.Parts {
		d.parts = append(d.parts, p.NewRunner())
	}
	return d
}

// conjuncts takes an expression apart at each && that stands in no parentheses and no quotes. One that
// has a || or ? beside them is left whole.
func conjuncts(text string) []string {
	var out []string
	depth, from := 0, 0
	var quote byte
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quote != 0 && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case strings.IndexByte("([{", c) >= 0:
			depth++
		case strings.IndexByte(")]}", c) >= 0:
			depth--
		case depth == 0 && (c == '?' || strings.HasPrefix(text[i:], "||")):
			return []string{strings.TrimSpace(text)}
		case depth == 0 && strings.HasPrefix(text[i:], "&&"):
			out = append(out, strings.TrimSpace(text[from:i]))
			i++
			from = i + 1
		}
	}
	return append(out, strings.TrimSpace(text[from:]))
}

const examplesEach = 5

func (d *judge) filter(v step.View) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.kept >= examplesEach && d.dropped >= examplesEach {
		return
	}
	if d.looks != nil {
		v, _, _ = d.looks.Run(v, nil)
	}
	c, errs := d.where.Run(v.Cols, v.N)
	one := v
	for n, i := range v.Sel {
		if expr.HasBit(errs, int(i)) {
			continue // a reject
		}
		keep := !c.IsNull(int(i)) && c.I[i] != 0
		if keep && d.kept >= examplesEach || !keep && d.dropped >= examplesEach {
			continue
		}
		one.Sel = v.Sel[n : n+1]
		j := Judged{Row: json.RawMessage(bytes.TrimSuffix(d.texts.Append(nil, one), []byte("\n"))), Kept: keep}
		if keep {
			d.kept++
		} else {
			d.dropped++
			j.Why = d.why(v.Cols, int(i))
		}
		d.examples = append(d.examples, j)
	}
}

// why names the first condition that did not hold.
func (d *judge) why(cols []*row.Column, i int) string {
	for _, t := range d.terms {
		x, err := t.prog.Eval(cols, i)
		switch {
		case err != nil:
		case x.Null:
			return t.text + " is null"
		case x.I == 0:
			return t.text + " is false"
		}
	}
	return d.st.Stateless.Where.Text() + " is false"
}

func (d *judge) split(v step.View) {
	d.mu.Lock()
	defer d.mu.Unlock()
	hits := make([]int, v.N)
	for _, p := range d.parts {
		c, errs := p.Run(v.Cols, v.N)
		for _, i := range v.Sel {
			if !expr.HasBit(errs, int(i)) && !c.IsNull(int(i)) && c.I[i] != 0 {
				hits[i]++
			}
		}
	}
	for _, n := range hits {
		if n > 1 {
			d.overlap++
		}
	}
}

// told gathers what came of a run.
func (r *rehearser) told(f engine.Figures, samples []connect.Sample) Rehearsal {
	out := Rehearsal{Job: r.j.Name, Sources: []RehearsedSource{}, Steps: []RehearsedStep{}, Sinks: []RehearsedSink{}, Crossings: []RehearsedCrossing{}, Warnings: []Warning{}}
	part := func(name string) RehearsedPart {
		s := r.shown[name]
		p := RehearsedPart{Name: name, Fields: []string{}, Count: s.count, Rows: s.rows}
		for _, i := range s.schema.Visible() {
			p.Fields = append(p.Fields, s.schema[i].Name+" "+s.schema[i].Kind.String())
		}
		if p.Rows == nil {
			p.Rows = []json.RawMessage{}
		}
		return p
	}
	for i := range r.j.Sources {
		name := r.j.Sources[i].Name
		s := RehearsedSource{Name: name, Events: f.Sources[i].Read, Rejected: f.Sources[i].Rejected, Notes: samples[i].Notes, Parts: []RehearsedPart{part(name), part("rejects of " + name)}}
		if s.Notes == nil {
			s.Notes = []string{}
		}
		if t := r.times[i]; t.most >= t.least {
			from, to := t.least.String(), t.most.String()
			s.From, s.To = &from, &to
		}
		out.Sources = append(out.Sources, s)
	}
	for i := range r.j.Steps {
		st := &r.j.Steps[i]
		c := f.Steps[i]
		s := RehearsedStep{Name: st.Name, From: st.FromText, In: c.In, Out: c.Out, Dropped: c.Dropped, Made: c.Made, Repeats: c.Repeats, Lost: c.Lost, Accepted: c.Accepted, Rejected: c.Rejected, Parts: []RehearsedPart{}, Examples: []Judged{}}
		names, _, _ := st.Parts()
		for _, n := range append(names, "rejects of "+st.Name) {
			s.Parts = append(s.Parts, part(n))
		}
		if d := r.judges[i]; d != nil {
			slices.SortStableFunc(d.examples, func(a, b Judged) int {
				return cmp.Compare(boolInt(b.Kept), boolInt(a.Kept))
			})
			s.Examples, s.Overlap = append(s.Examples, d.examples...), d.overlap
		}
		out.Steps = append(out.Steps, s)
	}
	return out
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// warn says what the sample shows to be wrong, each with what to do about it.
func (r *rehearser) warn(out *Rehearsal, samples []connect.Sample, f engine.Figures) {
	say := func(at, fix, format string, args ...any) {
		out.Warnings = append(out.Warnings, Warning{at, fmt.Sprintf(format, args...), fix})
	}
	for i := range r.j.Sources {
		r.warnSource(&r.j.Sources[i], out.Sources[i], samples[i], r.times[i], f, say)
	}
	for i := range r.j.Steps {
		s, c := &r.j.Steps[i], &out.Steps[i]
		if c.In == 0 {
			continue
		}
		if k := r.keys[i]; k != nil {
			c.Forecast = r.forecast(s, k, r.spanOf(s))
			warnForecast(r.j, s, c.Forecast, say)
		}
		if c.Dropped == c.In && r.judges[i] != nil {
			why := ""
			if len(c.Examples) > 0 {
				why = ": " + c.Examples[0].Why
			}
			say(s.Name, "look at the dropped rows, and at the condition", "the filter drops all %d rows%s", c.In, why)
		}
		if made := f.Steps[i].Made; made > 0 && c.Dropped == made {
			say(s.Name, "look at the condition; without it the sample gives these rows", "having drops all %d result rows", made)
		}
		if n := c.Rejected[step.NullKey]; n > 0 {
			if s.Keyed != nil && !s.Keyed.Spec().KeepNull {
				say(s.Name, "key by a field that always has a value, fill it by set before, or say null_key: keep", "%d of %d rows have no key (%s is null) and become rejects: they count in no window", n, c.In, strings.Join(s.Keyed.Spec().KeySchema().Names(), ", "))
			}
		}
		if n := c.Rejected[step.Expression]; n*10 > c.In {
			say(s.Name, "see rejects of "+s.Name, "%d of %d rows become rejects since an expression has no value", n, c.In)
		}
		if k := r.keys[i]; k != nil {
			top, most := "", int64(0)
			for key, n := range k.of {
				if n > most || n == most && key < top {
					top, most = key, n
				}
			}
			if len(k.of) > 1 && most*2 >= k.all {
				say(s.Name, "that is right where it is so; a finer key would spread the work", "%s has %d %% of all rows (of %d keys): one lane does most of the work", top, most*100/k.all, len(k.of))
			}
			if len(k.of) == 1 && k.all > 20 {
				say(s.Name, "check that it is the field you mean", "all rows of the sample have one key: %s", top)
			}
		}
		if c.Overlap > 0 {
			if s.Split.FirstOnly {
				say(s.Name, "that is what first_only is for", "%d of %d rows meet more than one condition; each goes to the first", c.Overlap, c.In)
			} else {
				say(s.Name, "say first_only: true, or make the conditions exclude each other, if a row belongs to one part", "%d of %d rows meet more than one condition and go to several parts", c.Overlap, c.In)
			}
		}
		r.warnWindow(s, c, say)
		if k := r.sides[i]; k != nil {
			r.warnJoin(s, k, f.Steps[i], say)
		}
		if reference, misses := run.LookedUp(&r.g.Steps[i]); reference != "" {
			warnLookup(s, &r.g.Steps[i], f.Steps[i], reference, misses, say)
		}
	}
}

// joined gives the join that a step is; nil for another.
func joined(s *job.Step) *step.Join {
	d, _ := s.Keyed.(*step.Join)
	return d
}

// warner takes a warning of a part: what to do, and what is wrong.
type warner func(at, fix, format string, args ...any)

func (r *rehearser) warnSource(s *job.Source, told RehearsedSource, sample connect.Sample, times *timeSpan, f engine.Figures, say warner) {
	if told.Events == 0 {
		for _, n := range told.Notes {
			say(s.Name, "check the name of the topic or file, or send events first", "%s", n)
		}
		if len(told.Notes) == 0 {
			say(s.Name, "check the name of the topic or file", "there are no events")
		}
		return
	}
	warnRejects(s, told, f, say)
	switch {
	case times.most < times.least:
	case times.most < run.UnitDoubt:
		say(s.Name, "seconds were perhaps read as milliseconds: say parse: epoch_s, or the unit it is", "the newest event time is %s: the unit of the event time is mistaken", times.most)
	case times.future > 0:
		say(s.Name, "check the clock that wrote them: one of them holds the watermark up to there, and all others are late", "%d events lie in the future, up to %s", times.future, times.futureMost)
	}
	warnFields(s, sample, say)
	warnLateness(s, LatenessIn(r.j, s, sample), say)
}

// warnRejects says which events become rejects, and what the first of them tells.
func warnRejects(s *job.Source, told RehearsedSource, f engine.Figures, say warner) {
	rejected := int64(0)
	for _, n := range told.Rejected {
		rejected += n
	}
	if n := told.Rejected[step.TooFarAhead]; n > 0 {
		say(s.Name, "check the unit of parse, or the clock that wrote them; ahead: none takes them all the same", "%d of %d events lie more than %s in the future and are rejects%s", n, told.Events, row.DurationText(s.Ahead), firstSample(f, s.Name, step.TooFarAhead))
	}
	rest := rejected - told.Rejected[step.TooFarAhead]
	if rest*100 <= told.Events {
		return
	}
	var reasons []string
	for reason := range told.Rejected {
		if reason != step.TooFarAhead {
			reasons = append(reasons, reason)
		}
	}
	slices.Sort(reasons)
	fix := "see rejects of " + s.Name + "; does the document describe this topic?"
	if reasons[0] == step.NoEventTime && strings.Contains(firstSample(f, s.Name, step.NoEventTime), "outside the years") {
		fix = "the unit of parse is another: epoch_s, epoch_ms, epoch_us or epoch_ns; peek --infer finds it"
	}
	say(s.Name, fix, "%d of %d events become rejects (%s)%s", rest, told.Events, strings.Join(reasons, ", "), firstSample(f, s.Name, reasons[0]))
}

// warnFields compares what the events hold with what is declared.
func warnFields(s *job.Source, sample connect.Sample, say warner) {
	p, inf, err := inferred(s, sample)
	if err != nil {
		return
	}
	paths := make([]string, len(p.Fields))
	for n := range p.Fields {
		paths[n] = p.Fields[n].Path
	}
	var missing []string
	for i := range s.Fields {
		fd := &s.Fields[i]
		path := fd.Name
		if len(fd.At) > 0 {
			path = fd.At.String()
		}
		if !slices.Contains(paths, path) {
			missing = append(missing, path)
			continue
		}
		for _, d := range inf.Fields {
			if d.Name == fd.Name || d.At == path || d.Name == path {
				warnField(s.Name, fd, d, say)
			}
		}
	}
	if len(missing) == len(s.Fields) {
		say(s.Name, "check the topic's name; peek --infer describes it", "no event has any of the declared fields: the events have %s. This is another stream than the document describes", strings.Join(paths, ", "))
		return
	}
	for _, m := range missing {
		fix := "take it out, or say where it stands: at"
		if n := job.Nearest(m, paths); n != "" {
			fix = "did you mean " + n + "?"
		}
		say(s.Name, fix, "no event has the field %s: it is null in every row", m)
	}
}

// warnField says where a field's values are exacter, or mean more, than its type.
func warnField(source string, f *codec.Field, d look.Field, say warner) {
	switch {
	case f.Kind == row.Double && d.Type == "decimal":
		say(source, "declare "+f.Name+": decimal", "%s is a double and holds numbers that a double does not keep exactly: %s", f.Name, strings.Join(d.Doubts, "; "))
	case f.Kind == row.Int && d.Type == "timestamp":
		say(source, fmt.Sprintf("declare %s: {type: timestamp, parse: %s} to read it as a time", f.Name, d.Parse), "%s is an int, and its values are times in %s", f.Name, strings.ReplaceAll(d.Parse, "epoch_", "epoch "))
	}
}

// warnLateness says where the margin is too small, for all events or for those of one key.
func warnLateness(s *job.Source, l look.Lateness, say warner) {
	if l.Current == nil {
		return
	}
	for _, m := range l.Margins {
		if m.Current && m.Ratio > 0.01 {
			say(s.Name, fmt.Sprintf("see lateness; %s would leave fewer than one in a thousand", row.DurationText(time.Duration(l.Proposed*float64(time.Second)))), "%d of %d events (%.1f %%) come later than the margin of %s", m.Late, l.Events, m.Ratio*100, row.DurationText(s.Margin))
		}
	}
	if len(l.Behind) > 0 && l.Behind[0].Median > s.Margin.Seconds() {
		say(s.Name, "put the clock right, or give a greater margin", "%s comes %.0f s behind as a rule, more than the margin: all of its rows are late", l.Behind[0].Key, l.Behind[0].Median)
	}
}

// inferred says what the events of a source's sample are by themselves.
func inferred(s *job.Source, sample connect.Sample) (look.Profile, look.Inference, error) {
	if len(settings.Of(s.Decoding)) > 0 { // what the document says of it, such as a pattern, says more than a guess
		return look.Profile{}, look.Inference{}, look.ErrNothing
	}
	return look.Infer(sample)
}

// spanOf gives how much event time the sample of a step's sources covers.
func (r *rehearser) spanOf(s *job.Step) (span time.Duration) {
	for i := range r.j.Sources {
		if t := r.times[i]; readsFrom(r.j, s, r.j.Sources[i].Name) && t.most >= t.least {
			span = max(span, time.Duration(t.most-t.least)*time.Microsecond)
		}
	}
	return span
}

func (r *rehearser) warnWindow(s *job.Step, c *RehearsedStep, say func(at, fix, format string, args ...any)) {
	w, ok := s.Keyed.(*step.Window)
	if !ok || !w.Bounds() {
		return
	}
	span := r.spanOf(s)
	var size time.Duration
	switch {
	case w.Session != nil:
		size = w.Session.Gap
	case w.Aligned != nil:
		size = job.WindowSize(w.Aligned)
	}
	if size > span && size > 0 {
		say(s.Name, "take more events (--limit, or --in with a longer file), or trust the examples", "the sample covers %s, less than a window of %s: its rows appear only because the sample ends", row.DurationText(span.Round(time.Second)), row.DurationText(size))
	}
	if c.Lost*100 > c.In {
		say(s.Name, "give a greater margin, or late: {accept: …}; see lateness", "%d of %d rows are late and lost", c.Lost, c.In)
	}
}

// firstSample words the first reject of a reason.
func firstSample(f engine.Figures, at, reason string) string {
	for _, s := range f.Samples {
		if s.At == at && s.Reason == reason {
			return ", the first since " + s.Message
		}
	}
	return ""
}
