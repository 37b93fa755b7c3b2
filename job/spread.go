package job

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"

	"undertide/connect"
	"undertide/core/crossing"
	"undertide/core/engine"
	"undertide/core/expr"
	"undertide/core/row"
	"undertide/core/step"
)

// Spread says into how many portions a job is cut (docs/spread.md).
type Spread struct {
	Portions int
	// Via is the connection by which rows cross.
	Via *connect.Connection
}

// spread reads into how many portions the job is cut, and by which connection rows cross; it says what cannot be spread.
func (b *builder) spread() {
	place := "settings.spread"
	n := b.doc.get("settings")
	if n == nil || n.kind != mapNode || n.get("spread") == nil {
		return
	}
	n = n.get("spread")
	count, via := n, (*node)(nil)
	if n.kind == mapNode {
		if !b.mapping(n, place, fieldSpec{known: []string{"portions", "via"}}) {
			return
		}
		if count, via = n.get("portions"), n.get("via"); count == nil {
			b.fault(n, place+".portions", "it is not said into how many portions", "add portions: 4")
			return
		}
	}
	portions, ok := b.whole(count, place, 2)
	if !ok {
		return
	}
	if portions > MostPortions {
		b.fault(count, place, fmt.Sprintf("%d portions are more than the %d that there may be", portions, MostPortions), "give about as many as your nodes have cores")
		return
	}
	if len(b.faults) > 0 {
		return // what follows goes by the rest
	}
	c := b.crossesBy(n, via, place)
	if c == nil {
		return
	}
	b.job.Spread = &Spread{Portions: int(portions), Via: c}
	parts, err := b.job.Parts()
	switch {
	case err != nil:
		b.fault(n, place, "the job cannot be spread: "+err.Error(), "leave spread out")
	case parts.Number == 1:
		b.fault(n, place, "no row changes its key, so there is nothing to spread by", "leave spread out; start the job once for each share of its input instead")
	}
}

// crossesBy gives the connection by which rows cross: the one that is named, or the only one that can be meant.
func (b *builder) crossesBy(n, via *node, place string) *connect.Connection {
	if via != nil {
		name, ok := b.text(via, place+".via")
		if !ok {
			return nil
		}
		c := b.known[name]
		switch {
		case c == nil:
			b.fault(via, place+".via", "there is no connection "+name, b.didYouMean(name, sortedKeys(b.known)))
		case c.Kind.Cross == nil:
			b.fault(via, place+".via", fmt.Sprintf("connection %s is a %s connection, and rows cannot cross by it", name, c.Kind.Name), "name a kafka connection")
		default:
			return c
		}
		return nil
	}
	used := map[string]*connect.Connection{} // by the job's own sources and sinks first
	note := func(of any) {
		if c, _, ok := connect.Through(of); ok && c.Kind.Cross != nil {
			used[c.Name] = c
		}
	}
	for i := range b.job.Sources {
		note(b.job.Sources[i].With)
	}
	for i := range b.job.Sinks {
		note(b.job.Sinks[i].With)
	}
	if len(used) == 0 {
		for name, c := range b.known {
			if c.Kind.Cross != nil {
				used[name] = c
			}
		}
	}
	if len(used) == 1 {
		return used[sortedKeys(used)[0]]
	}
	fix := "write spread: {portions: 4, via: CONNECTION}"
	if len(used) > 1 {
		fix += ", with one of " + strings.Join(sortedKeys(used), ", ")
	} else {
		fix += ", and describe a kafka connection under connections:"
	}
	b.fault(n, place, "it is not said by which connection rows cross between the portions", fix)
	return nil
}

// MostPortions bounds how many portions a part has.
const MostPortions = 64

// Parts is how a job is cut where rows change their key. Its steps stand in parts, one behind the other; sources are read by the first. Whatever a later part reads of an
// earlier one crosses.
type Parts struct {
	// Number is how many there are: 1 where no row changes its key.
	Number int
	// Step is, by step, its part, from 0.
	Step []int
	// Crossings are in the order of what they carry.
	Crossings []Crossing
	// reads are, by step, the names of those that cross to it.
	reads [][]string
	// by are, by step with state, the fields of its key by which its rows came to their portion.
	by [][]string
}

// Crossing is what crosses to a part: the input of a step there, as far as it is of one part before, each row to the portion that owns its key. Inputs that the step merges
// are merged before they cross, so that their rows stay in order.
type Crossing struct {
	// Name is that of the sink in the part before, and of the source in the one behind: levels.by.gauge.
	Name     string
	Inputs   []engine.Input
	Text     string // of Inputs, as `from` has them
	From, To int    // parts
	Schema   row.Schema
	Key      []int // columns of Schema; none: all rows go to one portion
	Timed    bool
	// Unbounded: a source of the job goes on without end.
	Unbounded bool
}

// By names the fields of its key.
func (x *Crossing) By() []string {
	by := []string{}
	for _, k := range x.Key {
		by = append(by, x.Schema[k].Name)
	}
	return by
}

// held says which fields' values keep rows in one portion: all rows that are alike in them are there. known is false where nothing does.
type held struct {
	known bool
	by    []string
}

// within says whether rows that are alike in key are in one portion.
func (h held) within(key []string) bool {
	return h.known && !slices.ContainsFunc(h.by, func(f string) bool { return !slices.Contains(key, f) })
}

// refText gives what `from` has for r.
func (j *Job) refText(r engine.Ref) (text string) {
	j.EachPart(func(name string, of engine.Ref) {
		if of == r {
			text = name
		}
	})
	return text
}

// cutter works out the parts of a job.
type cutter struct {
	j     *Job
	graph engine.Graph // for the schemas
	parts Parts
	held  []held // by step
}

// Parts works out where the job is cut. The error says what cannot be spread.
func (j *Job) Parts() (Parts, error) {
	c := &cutter{j: j, parts: Parts{Number: 1}, held: make([]held, len(j.Steps))}
	for i := range j.Sources {
		c.graph.Sources = append(c.graph.Sources, engine.Source{Schema: j.Sources[i].Schema})
		if d, ok := j.Sources[i].With.(connect.Divided); !ok || !d.Divides() {
			return c.parts, fmt.Errorf("source %s has nothing that several runs could share; topics and files have", j.Sources[i].Name)
		}
	}
	for i := range j.Steps {
		s := &j.Steps[i]
		c.graph.Steps = append(c.graph.Steps, engine.Step{Input: s.Input, Stateless: s.Stateless, Split: s.Split, Expand: s.Expand, Keyed: s.Keyed})
		c.parts.reads, c.parts.by = append(c.parts.reads, nil), append(c.parts.by, nil)
		c.step(i)
	}
	for i := range c.parts.Step {
		c.parts.Number = max(c.parts.Number, c.parts.Step[i]+1)
	}
	return c.parts, nil
}

// partOf gives the part that makes what r names.
func (p *Parts) partOf(r engine.Ref) int {
	if !r.OfStep {
		return 0
	}
	return p.Step[r.At]
}

// step finds the part of a step, and what crosses to it.
func (c *cutter) step(i int) {
	s := &c.j.Steps[i]
	last := 0
	for _, in := range s.From {
		last = max(last, c.parts.partOf(in.Ref))
	}
	if s.Keyed == nil {
		c.parts.Step = append(c.parts.Step, last)
		c.cross(s, last, s.Input.Visible()) // rows of a part before are merged with those of this one: any portion will do
		c.held[i] = c.through(s)
		return
	}
	key := s.Keyed.Spec().Key
	var names []string
	for _, k := range key {
		names = append(names, s.Keyed.Spec().Input[k].Name)
	}
	stays := last > 0
	for _, in := range s.From {
		stays = stays && in.OfStep && in.Columns == nil && c.parts.partOf(in.Ref) == last && in.Part != engine.RejectPart && c.held[in.At].within(names) && slices.Equal(c.held[in.At].by, c.held[s.From[0].At].by)
	}
	if stays {
		c.parts.Step = append(c.parts.Step, last)
		c.parts.by[i] = c.held[s.From[0].At].by
		c.held[i] = c.kept(s, c.parts.by[i])
		return
	}
	c.parts.Step = append(c.parts.Step, last+1)
	c.cross(s, last+1, key)
	c.parts.by[i] = names
	c.held[i] = c.kept(s, names)
}

// kept gives what holds of the rows of a step with state, whose input is together by these fields.
func (c *cutter) kept(s *Step, by []string) held {
	var then *step.Stateless // what may give other values to a field of the key
	switch d := s.Keyed.(type) {
	case *step.Join:
		then = d.Then
	case *step.AsOf:
		then = d.Then
	case *step.Remember:
		for _, name := range by {
			if to := d.Schema.Index(name); to >= 0 && d.Output[to] != d.Keys.Input.Index(name) { // set has given it another value
				return held{}
			}
		}
	}
	if then != nil && (len(then.Sets) > 0 || then.Lookup != nil) {
		return held{}
	}
	for _, name := range by {
		if s.Schema.Index(name) < 0 {
			return held{}
		}
	}
	return held{true, by}
}

// timed says whether the rows of r have event times; those that a step merges all have, or none.
func (c *cutter) timed(r engine.Ref) bool {
	switch {
	case r.Part == engine.RejectPart:
		return false
	case !r.OfStep:
		return c.j.Sources[r.At].Timed()
	}
	s := &c.j.Steps[r.At]
	return s.Timed || r.Part == engine.LatePart && c.timed(s.From[0].Ref)
}

// through gives what holds of the rows of a step without state.
func (c *cutter) through(s *Step) (out held) {
	for n, in := range s.From {
		if !in.OfStep || in.Part == engine.RejectPart || in.Columns != nil || !c.held[in.At].known || n > 0 && !slices.Equal(c.held[in.At].by, out.by) {
			return held{}
		}
		out = c.held[in.At]
	}
	for _, name := range out.by {
		at, to := s.Input.Index(name), s.Schema.Index(name)
		switch {
		case at < 0 || to < 0,
			s.Stateless != nil && s.Stateless.Output[to] != at,
			s.Expand != nil && s.Expand.Replaces == at:
			return held{}
		}
	}
	return out
}

// longestCrossing bounds the name of what crosses: with it and the longest name of a job a broker still takes the topic's.
const longestCrossing = 120

// cross notes what crosses to a part as the input of a step, unless it does already.
func (c *cutter) cross(s *Step, to int, key []int) {
	groups := map[int][]engine.Input{}
	for _, in := range s.From {
		if from := c.parts.partOf(in.Ref); from < to {
			groups[from] = append(groups[from], in)
		}
	}
	for _, from := range slices.Sorted(maps.Keys(groups)) {
		x := Crossing{Inputs: groups[from], From: from, To: to, Schema: s.Input, Key: key, Timed: c.timed(groups[from][0].Ref)}
		for i := range c.j.Sources {
			x.Unbounded = x.Unbounded || c.j.Sources[i].Unbounded()
		}
		var texts []string
		for _, in := range x.Inputs {
			texts = append(texts, c.j.refText(in.Ref))
		}
		x.Text = strings.Join(texts, ", ")
		x.Name = strings.ReplaceAll(texts[0], " ", ".")
		if len(texts) > 1 || x.Inputs[0].Columns != nil {
			x.Name = fmt.Sprintf("%s.input.%d", s.Name, from+1)
		}
		x.Name += ".by"
		for _, field := range x.By() {
			x.Name += "." + field
		}
		if len(key) == 0 {
			x.Name += ".nothing"
		}
		if to > from+1 { // the same rows may cross by the same key to several parts
			x.Name += fmt.Sprintf(".%d", to+1)
		}
		if len(x.Name) > longestCrossing { // brokers take names of 249 bytes, and the job's is before it
			x.Name = fmt.Sprintf("%s.%x", x.Name[:longestCrossing-17], xxhash.Sum64String(x.Name))
		}
		if !slices.ContainsFunc(c.parts.Crossings, func(o Crossing) bool { return o.Name == x.Name }) {
			c.parts.Crossings = append(c.parts.Crossings, x)
		}
		reads := &c.parts.reads[len(c.parts.reads)-1] // of the step at hand
		*reads = append(*reads, x.Name)
	}
}

// SourceOf gives the source that what crosses comes from: the first one, where there are several.
func (j *Job) SourceOf(x *Crossing) int {
	at := x.Inputs[0].Ref
	for at.OfStep {
		at = j.Steps[at.At].From[0].Ref
	}
	return at.At
}

// Portion is one of the runs of a spread job: portion Number of part Part, both from 0, of the topics of a generation. Of is how many the part has, of the portion of a job that was
// made for one.
type Portion struct {
	Part, Number int
	Generation   int
	Of           int
}

// Name gives what the run of a portion is called, beside its job's: 1-3 for the third portion of the first part.
func (p Portion) Name() string { return fmt.Sprintf("%d-%d", p.Part+1, p.Number+1) }

// PortionOf gives it of the name of a portion's job: 1-3 of rates.1-3.
func PortionOf(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }

// Text gives the portion as files bear it: 1.3. It is empty for none.
func (p *Portion) Text() string {
	if p == nil {
		return ""
	}
	return fmt.Sprintf("%d.%d", p.Part+1, p.Number+1)
}

// Stream gives the stream by which a crossing of a job goes.
func (x *Crossing) Stream(job string, generation int) string {
	return fmt.Sprintf("undertide.%s.%d.%s", job, generation, x.Name)
}

// Share says which partitions of its sources a portion reads; nil for all.
type Share struct{ Number, Of int }

// Take leaves a portion its share of what a source has.
func (s *Share) Take(of *engine.Source) {
	of.Partitions = slices.DeleteFunc(of.Partitions, func(p engine.Partition) bool { return !s.Has(p.Name()) })
	if find := of.Find; find != nil {
		of.Find = func(ctx context.Context, found func(engine.Partition)) error {
			return find(ctx, func(p engine.Partition) {
				if s.Has(p.Name()) {
					found(p)
				}
			})
		}
	}
}

// Has says whether a partition is of the share: numbers go round, other names by their hash.
func (s *Share) Has(partition string) bool {
	if n, err := strconv.ParseUint(partition, 10, 32); err == nil {
		return int(n)%s.Of == s.Number
	}
	return int(xxhash.Sum64String(partition)%uint64(s.Of)) == s.Number
}

// carried is how the rows of a crossing are read.
type carried struct {
	timed bool
	from  int // the part that writes them
}

// ErrSpread is wrapped where a job cannot be spread.
var ErrSpread = errors.New("the job cannot be spread")

// Portion gives the job that a portion carries out: its part's steps, with what crosses to them as sources, and what crosses from them, and the document's sinks, as sinks. name
// is what the run is called.
func (j *Job) Portion(name string, at Portion) (*Job, error) {
	if j.Spread == nil {
		return nil, fmt.Errorf("%w: its document does not say so", ErrSpread)
	}
	parts, err := j.Parts()
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrSpread, err)
	}
	if at.Part >= parts.Number || at.Number >= j.Spread.Portions {
		return nil, fmt.Errorf("%w: it has %d parts of %d portions, and no portion %s", ErrSpread, parts.Number, j.Spread.Portions, at.Name())
	}
	out := *j
	at.Of = j.Spread.Portions
	p := &portioner{j: j, out: &out, at: at, parts: parts, now: map[engine.Ref]engine.Ref{}, crossed: map[string]int{}}
	p.build(name)
	return &out, nil
}

// portioner builds the job of a portion.
type portioner struct {
	j, out  *Job
	at      Portion
	parts   Parts
	now     map[engine.Ref]engine.Ref // what of this part is in the portion's job, by what it is in the whole one
	crossed map[string]int            // sources of the portion's job, by crossing
}

func (p *portioner) build(name string) {
	j, out := p.j, p.out
	out.Name, out.Spread, out.Of, out.Examples = name, nil, &p.at, nil
	out.Sources, out.Steps, out.Sinks, out.Pieces = nil, nil, nil, map[string]string{}
	out.References = slices.Clone(j.References)
	for i := range out.References {
		out.References[i].AsOf = -1
	}
	if p.at.Part == 0 {
		for i := range j.Sources {
			s := j.Sources[i]
			s.Share = &Share{p.at.Number, j.Spread.Portions}
			p.now[engine.Ref{At: i}], p.now[engine.Ref{At: i, Part: engine.RejectPart}] = engine.Ref{At: i}, engine.Ref{At: i, Part: engine.RejectPart}
			out.Sources = append(out.Sources, s)
			p.piece("source " + s.Name)
		}
		copy(out.References, j.References)
	}
	for i := range p.parts.Crossings {
		if x := &p.parts.Crossings[i]; x.To == p.at.Part {
			p.read(x)
		}
	}
	for i := range j.Steps {
		if p.parts.Step[i] == p.at.Part {
			p.step(i)
		}
	}
	for i := range p.parts.Crossings {
		if x := &p.parts.Crossings[i]; x.From == p.at.Part {
			p.write(x)
		}
	}
	for i := range j.Sinks {
		p.sink(&j.Sinks[i])
	}
	p.alarms()
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %d", j.Digest, p.at.Name(), j.Spread.Portions)
	out.Digest = hex.EncodeToString(h.Sum(nil))
}

// alarms keeps those that ask about figures of this part alone.
func (p *portioner) alarms() {
	p.out.Alarms = nil
	fields := figureFields(p.out.Figures())
	for _, a := range p.j.Alarms {
		if a.When != nil {
			when, faults := expr.Compile(a.When.Text(), expr.Scope{Fields: fields, Values: p.j.Values})
			if len(faults) > 0 {
				continue
			}
			a.When = when
		}
		p.out.Alarms = append(p.out.Alarms, a)
	}
}

// piece takes over what tells a part of the document apart.
func (p *portioner) piece(name string) {
	if v, ok := p.j.Pieces[name]; ok {
		p.out.Pieces[name] = v
	}
}

// ends gives both ends of a crossing, of the run that is number self on its side.
func (p *portioner) ends(x *Crossing, reached *crossing.Reached) (connect.Sink, connect.Source) {
	via := p.j.Spread.Via
	return via.Kind.Cross(via, connect.Crossing{Stream: x.Stream(p.j.Name, p.at.Generation), Writers: p.j.Spread.Portions, Readers: p.j.Spread.Portions, Self: p.at.Number, Timed: x.Timed, Unbounded: x.Unbounded, Reached: reached})
}

// stream gives what tells the stream of a crossing apart from others.
func (p *portioner) stream(x *Crossing) string {
	d := sha256.Sum256([]byte(p.j.Spread.Via.Name + " " + x.Stream(p.j.Name, p.at.Generation)))
	return hex.EncodeToString(d[:8])
}

// read adds what crosses to this part as a source.
func (p *portioner) read(x *Crossing) {
	_, from := p.ends(x, nil)
	p.crossed[x.Name] = len(p.out.Sources)
	p.out.Sources = append(p.out.Sources, Source{Name: x.Name, Via: p.j.Spread.Via.Kind.Name, With: from, Decode: connect.DefaultFormat(), Schema: x.Schema, carried: &carried{x.Timed, x.From}})
	p.out.Pieces["source "+x.Name] = p.stream(x)
}

// own gives those of a part's inputs that are of it, as the portion's job has them.
func (p *portioner) own(list []engine.Input) (out []engine.Input) {
	for _, in := range list {
		if r, ok := p.now[in.Ref]; ok {
			in.Ref = r
			out = append(out, in)
		}
	}
	return out
}

// step adds a step of this part.
func (p *portioner) step(i int) {
	s := p.j.Steps[i]
	var texts []string
	for _, in := range s.From {
		if _, own := p.now[in.Ref]; own {
			texts = append(texts, p.j.refText(in.Ref))
		}
	}
	s.From = p.own(s.From)
	for _, x := range p.parts.reads[i] {
		s.From = append(s.From, engine.Input{Ref: engine.Ref{At: p.crossed[x]}})
		texts = append(texts, x)
	}
	s.FromText = strings.Join(texts, ", ")
	s.by = p.parts.by[i]
	to := len(p.out.Steps)
	_, parts, _ := s.Parts()
	for _, part := range append(parts, engine.RejectPart) {
		p.now[engine.Ref{OfStep: true, At: i, Part: part}] = engine.Ref{OfStep: true, At: to, Part: part}
	}
	p.out.Steps = append(p.out.Steps, s)
	p.piece("step " + s.Name)
	for name := range p.j.Pieces {
		if strings.HasPrefix(name, "measure "+s.Name+".") {
			p.piece(name)
		}
	}
}

// write adds what crosses from this part: a step that finds each row's portion, and a sink. Its rows are in the order of turns, so the run has one lane.
func (p *portioner) write(x *Crossing) {
	p.out.Lanes = 1
	reached := crossing.NewReached()
	to, _ := p.ends(x, reached)
	d := &crossing.Step{Keys: step.Spec{Input: x.Schema, Key: x.Key, KeepNull: true}, Portions: p.j.Spread.Portions, Reached: reached}
	at := len(p.out.Steps)
	key := "the one portion that takes all"
	if len(x.Key) > 0 {
		key = "the portion that owns its " + strings.Join(x.By(), ", ")
	}
	p.out.Steps = append(p.out.Steps, Step{Name: x.Name, Kind: "cross", From: p.own(x.Inputs), FromText: x.Text, Input: x.Schema, Keyed: d, Schema: d.MainSchema(), Timed: x.Timed,
		Does: []string{"hand each row of " + x.Text + " to " + key}})
	p.out.Sinks = append(p.out.Sinks, Sink{Name: x.Name, From: engine.Read(engine.Ref{OfStep: true, At: at}), FromText: x.Name, Via: p.j.Spread.Via.Kind.Name, With: to, Encode: connect.DefaultFormat(), Schema: d.MainSchema(), Reads: d.MainSchema(), fields: d.MainSchema()})
	p.out.Pieces["step "+x.Name], p.out.Pieces["sink "+x.Name] = p.stream(x), p.stream(x)
}

// sink adds a sink of the document, with what it takes of this part's rows.
func (p *portioner) sink(s *Sink) {
	from := p.own(s.From)
	if len(from) == 0 {
		return
	}
	own := *s
	own.From = from
	p.out.Sinks = append(p.out.Sinks, own)
	p.piece("sink " + s.Name)
}
