package job

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/core/window"
)

// Plan says in words what a run of the job would do.
type Plan struct {
	Job     string       `json:"job" yaml:"job"`
	Sources []SourcePlan `json:"sources" yaml:"sources"`
	// References are what steps look up in; none where the job has none.
	References []ReferencePlan `json:"references" yaml:"references"`
	Steps      []StepPlan      `json:"steps" yaml:"steps"`
	Sinks      []SinkPlan      `json:"sinks" yaml:"sinks"`
	// Spread says how nodes carry the job out; null where it is not spread.
	Spread *SpreadPlan `json:"spread" yaml:"spread"`
}

// SpreadPlan tells how a job is cut (docs/spread.md).
type SpreadPlan struct {
	Portions int        `json:"portions" yaml:"portions"` // of each part
	Via      string     `json:"via" yaml:"via"`           // the connection by which rows cross
	Parts    []PartPlan `json:"parts" yaml:"parts"`
	// Costs says what it costs, and when it is worth it.
	Costs string `json:"costs" yaml:"costs"`
}

// PartPlan tells of a part of a spread job: its steps, and what crosses to it.
type PartPlan struct {
	Steps   []string       `json:"steps" yaml:"steps"`
	Crosses []CrossingPlan `json:"crosses" yaml:"crosses"`
}

// CrossingPlan tells what crosses.
type CrossingPlan struct {
	Rows   string   `json:"rows" yaml:"rows"`     // as `from` has them
	By     []string `json:"by" yaml:"by"`         // the key; none: all go to one portion
	Fields []string `json:"fields" yaml:"fields"` // of which each row has all
	Topic  string   `json:"topic" yaml:"topic"`
}

// SourcePlan tells of a source.
type SourcePlan struct {
	Name      string   `json:"name" yaml:"name"`
	Reads     string   `json:"reads" yaml:"reads"`
	Fields    []string `json:"fields" yaml:"fields"`
	EventTime string   `json:"event_time" yaml:"event_time"`
	Watermark string   `json:"watermark" yaml:"watermark"`
}

// ReferencePlan tells of a reference.
type ReferencePlan struct {
	Name   string   `json:"name" yaml:"name"`
	Reads  string   `json:"reads" yaml:"reads"`
	Fields []string `json:"fields" yaml:"fields"`
	Key    []string `json:"key" yaml:"key"`
	// Of are the references that it is made of; none for one that is read.
	Of []string `json:"of" yaml:"of"`
	// Refresh says when its rows are read, Limit how large it may be; empty for one that is made of others.
	Refresh string `json:"refresh" yaml:"refresh"`
	Limit   string `json:"limit" yaml:"limit"`
}

// StepPlan tells of a step.
type StepPlan struct {
	Name string `json:"name" yaml:"name"`
	Kind string `json:"kind" yaml:"kind"`
	From string `json:"from" yaml:"from"`
	// Looks are the references that it looks up in.
	Looks    []string `json:"looks" yaml:"looks"`
	Does     []string `json:"does" yaml:"does"`
	Fields   []string `json:"fields" yaml:"fields"`
	Key      []string `json:"key" yaml:"key"`
	Exchange string   `json:"exchange" yaml:"exchange"`
	State    string   `json:"state" yaml:"state"`
	// Bound says what bounds the state; empty for a step without.
	Bound string `json:"bound" yaml:"bound"`
	Delay string `json:"delay" yaml:"delay"`
	// Parts are what can be read of it, beside rejects: itself, late of it, the branches of a split.
	Parts []string `json:"parts" yaml:"parts"`
	// Overlap says that rows are of windows that overlap: an event counts in several of them.
	Overlap bool `json:"overlap" yaml:"overlap"`
	// Levels are what values of its fields are called.
	Levels []FieldLevels `json:"levels" yaml:"levels"`
}

// SinkPlan tells of a sink.
type SinkPlan struct {
	Name   string `json:"name" yaml:"name"`
	From   string `json:"from" yaml:"from"`
	Writes string `json:"writes" yaml:"writes"`
	// Makes is the definition of what the sink makes where it is not there; empty for nothing.
	Makes    string   `json:"makes" yaml:"makes"`
	Fields   []string `json:"fields" yaml:"fields"`
	Delivery string   `json:"delivery" yaml:"delivery"`
	// Readable says whether rows can be read where they are written.
	Readable bool `json:"readable" yaml:"readable"`
}

func fieldTexts(s row.Schema) []string {
	var out []string
	for _, i := range s.Visible() {
		out = append(out, s[i].Name+" "+s[i].Kind.String())
	}
	return out
}

// PlanOf works the plan out.
func PlanOf(j *Job) Plan {
	p := Plan{Job: j.Name, Sources: []SourcePlan{}, References: []ReferencePlan{}, Steps: []StepPlan{}, Sinks: []SinkPlan{}}
	for i := range j.Sources {
		if !j.IsReference(i) { // it stands there
			p.Sources = append(p.Sources, planSource(&j.Sources[i]))
		}
	}
	for i, latest := range j.Referred() {
		p.References = append(p.References, planReference(j, &j.References[i], latest))
	}
	for i := range j.Steps {
		p.Steps = append(p.Steps, planStep(j, &j.Steps[i]))
	}
	for i := range j.Sinks {
		p.Sinks = append(p.Sinks, planSink(j, &j.Sinks[i]))
	}
	p.Spread = planSpread(j)
	return p
}

// planSpread gives how a job is cut; nil for one that is not spread.
func planSpread(j *Job) *SpreadPlan {
	if j.Spread == nil {
		return nil
	}
	parts, err := j.Parts()
	if err != nil {
		return nil // its document would have a fault
	}
	p := &SpreadPlan{Portions: j.Spread.Portions, Via: j.Spread.Via.Name, Parts: make([]PartPlan, parts.Number)}
	for i := range p.Parts {
		p.Parts[i] = PartPlan{Steps: []string{}, Crosses: []CrossingPlan{}}
	}
	for i, part := range parts.Step {
		p.Parts[part].Steps = append(p.Parts[part].Steps, j.Steps[i].Name)
	}
	for i := range parts.Crossings {
		x := &parts.Crossings[i]
		p.Parts[x.To].Crosses = append(p.Parts[x.To].Crosses, CrossingPlan{Rows: x.Text, By: x.By(), Fields: fieldTexts(x.Schema), Topic: x.Stream(j.Name, 1)})
	}
	p.Costs = fmt.Sprintf("each row that crosses is written once and read once, with all of its fields, which takes some half a microsecond of CPU in all, and comes later by up to %s; it is worth it where the job's own work takes more than a microsecond for each of them, or more memory than one node has; `only:` before the key leaves fields behind",
		row.DurationText(j.CheckpointEvery))
	return p
}

func planSource(s *Source) SourcePlan {
	p := SourcePlan{Name: s.Name, Reads: s.With.Reads(s.Decode), Fields: fieldTexts(s.Schema), EventTime: "none", Watermark: "none"}
	if s.Arrival {
		p.EventTime = "arrival"
	} else if s.EventTime != nil {
		p.EventTime = s.EventTime.Text()
	}
	if s.Timed() {
		p.Watermark = row.DurationText(s.Margin) + " behind the greatest event time"
		if s.Unbounded() {
			p.Watermark += "; a partition without events for " + row.DurationText(s.Idle) + " does not hold it"
		}
		if s.Advance {
			p.Watermark += "; in silence it goes on with the clock"
		}
		if s.Ahead > 0 {
			p.Watermark += fmt.Sprintf("; rows more than %s ahead of the clock are rejected", row.DurationText(s.Ahead))
		}
	}
	return p
}

func planStep(j *Job, s *Step) StepPlan {
	p := StepPlan{Name: s.Name, Kind: s.Kind, From: s.FromText, Does: s.Does, Fields: fieldTexts(s.Schema), Key: []string{}, Looks: []string{},
		Exchange: "none: in the lane or worker that has the rows", State: "none", Delay: "none beyond the turn"}
	p.Parts, _, _ = s.Parts()
	p.Overlap, p.Levels = s.overlap && s.windowed, append([]FieldLevels{}, s.Levels...)
	for _, r := range s.Looks {
		p.Looks = append(p.Looks, j.References[r].Name)
	}
	if p.Does == nil {
		p.Does = []string{}
	}
	if len(s.From) > 1 && !sided(s.Keyed) {
		p.Kind = "merge, " + p.Kind
		if len(s.Does) == 0 {
			p.Kind = "merge"
		}
	}
	if s.Keyed == nil {
		return p
	}
	for _, f := range s.Keyed.Spec().KeySchema() {
		p.Key = append(p.Key, f.Name)
	}
	p.Exchange = "by hash of " + strings.Join(p.Key, ", ") + " to the lane that owns the key"
	if len(p.Key) == 0 {
		p.Exchange = "all rows to one lane: there is no key"
	}
	p.Bound = j.boundText(s)
	margin := j.margin(s.From)
	passed := func(after string) string {
		if after == "" {
			after = "it"
		}
		return fmt.Sprintf("the watermark has passed %s (margin %s)", after, row.DurationText(margin))
	}
	switch d := s.Keyed.(type) {
	case *step.Deduplicate:
		within := row.DurationText(d.Within)
		p.State = fmt.Sprintf("the time of each key's first row, until the watermark is %s beyond it", within)
	case *step.Absent:
		p.State = "the newest time of each key, until its row is published"
		p.Delay = fmt.Sprintf("a row is published %s after a key's last row, once %s", row.DurationText(d.After), passed("that time"))
	case *step.Remember:
		p.State = fmt.Sprintf("%d %s for each key, forgotten after %s without rows", len(d.Names), pluralOf(len(d.Names), "value"), row.DurationText(d.Forget))
		if !d.Arrival {
			p.State += "; and the rows that the watermark has not passed"
			p.Delay = "a row is published once " + passed("")
		}
	case *step.Join:
		planJoin(&p, d, passed)
	case *step.AsOf:
		p.State = fmt.Sprintf("the versions of %s, each until the watermark is %s beyond the next one; and the rows that the watermark has not passed", d.Reference, row.DurationText(d.Keep))
		p.Delay = "a row is published once " + passed("") + ", of the source and of " + d.Reference
	case *step.Rank:
		p.State = "the rows of windows that the watermark has not passed"
		p.Delay = "with the windows that it ranks"
	case *step.Window:
		planWindow(&p, d, row.DurationText(margin), passed)
	}
	if behind := j.behind(s.From); len(behind) > 0 {
		p.Delay += "; counted from the rows that it reads, which come later than their events: by " + strings.Join(behind, ", ")
	}
	return p
}

// behind tells how long after their events the rows of inputs come, step by step: a window's at its end, which the
// next window begins to count from.
func (j *Job) behind(from []engine.Input) (out []string) {
	for _, in := range from {
		if !in.OfStep || in.Part != engine.Main {
			continue
		}
		s := &j.Steps[in.At]
		said := ""
		switch d := s.Keyed.(type) {
		case *step.Absent:
			said = row.DurationText(d.After)
		case *step.Join:
			if d.Back() > 0 {
				said = "up to " + row.DurationText(d.Back())
			}
		case *step.Window:
			switch w := d.Aligned; {
			case w != nil:
				said = "up to " + SizeText(w.Unit, w.Size)
			case d.Session != nil && d.Session.Longest > 0:
				said = "up to " + row.DurationText(d.Session.Longest)
			case d.Session != nil:
				said = "as long as a session lasts, and " + row.DurationText(d.Session.Gap)
			}
		}
		if said != "" {
			out = append(out, fmt.Sprintf("%s (%s)", said, s.Name))
		}
		out = append(out, j.behind(s.From)...)
	}
	return out
}

// MarginOf gives the greatest margin of the sources that a step's rows come from.
func (j *Job) MarginOf(s *Step) time.Duration { return j.margin(s.From) }

// margin gives the greatest margin of the sources that the inputs come from.
func (j *Job) margin(from []engine.Input) (m time.Duration) {
	for _, in := range from {
		if in.OfStep {
			m = max(m, j.margin(j.Steps[in.At].From))
		} else {
			m = max(m, j.Sources[in.At].Margin)
		}
	}
	return m
}

// SizeText names a size of aligned windows.
func SizeText(u window.Unit, n int64) string {
	switch {
	case u == window.Micros:
		return row.DurationText(time.Duration(n) * time.Microsecond)
	case u == window.Days && n%7 == 0:
		return fmt.Sprintf("%d %s", n/7, pluralOf(int(n/7), "week"))
	case u == window.Days:
		return fmt.Sprintf("%d %s", n, pluralOf(int(n), "day"))
	case n%12 == 0:
		return fmt.Sprintf("%d %s", n/12, pluralOf(int(n/12), "year"))
	}
	return fmt.Sprintf("%d %s", n, pluralOf(int(n), "month"))
}

// planJoin tells what is kept of each side and for how long, and when rows come.
func planJoin(p *StepPlan, d *step.Join, passed func(string) string) {
	p.Kind = "inner join"
	switch {
	case d.Unmatched[step.LeftSide] && d.Unmatched[step.RightSide]:
		p.Kind = "outer join"
	case d.Unmatched[step.LeftSide]:
		p.Kind = "left join"
	}
	p.Delay = "a pair is published as its second row is read"
	var kept, told []string
	for side, name := range step.Sides {
		what := "its time"
		if after := max(d.Reach(side), 0) + d.Accept; after > 0 {
			what += " by " + row.DurationText(after)
		}
		if d.Window != nil {
			what = "the end of its window"
			if d.Accept > 0 {
				what += " by " + row.DurationText(d.Accept)
			}
		}
		kept = append(kept, fmt.Sprintf("the rows of the %s until the watermark has passed %s", name, what))
		if d.Unmatched[side] {
			told = append(told, fmt.Sprintf("a row of the %s that met none once %s", name, passed(what)))
		}
	}
	p.State = strings.Join(kept, "; ")
	if len(told) > 0 {
		p.Delay += "; " + strings.Join(told, ", ")
	}
}

func planWindow(p *StepPlan, d *step.Window, margin string, passed func(string) string) {
	accs := 1
	for _, a := range d.Spec().Aggregates {
		if a.Arg != nil || a.Cond != nil || a.Fold != nil {
			accs++
		}
	}
	each := fmt.Sprintf("%d %s", accs, pluralOf(accs, "accumulator"))
	held := "it closes"
	if hold := max(d.Accept, d.RepeatKeep); hold > 0 {
		held = row.DurationText(hold) + " after it has closed"
	}
	switch w := d.Aligned; {
	case w != nil && w.Tumbles():
		size := SizeText(w.Unit, w.Size)
		p.Kind = "tumbling window of " + size
		p.State = fmt.Sprintf("for each key and open window %s; a window is dropped when %s, and a key with its last window", each, held)
		p.Delay = fmt.Sprintf("a row is published at most %s + margin %s after its event, as the stream's own time goes on: when the watermark passes the window's end", size, margin)
	case w != nil:
		p.Kind = fmt.Sprintf("sliding window of %s by %s", SizeText(w.Unit, w.Size), SizeText(w.Unit, w.By))
		slices := (w.Size + w.By - 1) / w.By
		if w.Size%w.By != 0 {
			slices = 2*(w.Size/w.By) + 1
		}
		p.State = fmt.Sprintf("for each key and slice %s, about %d slices at a time and the nodes that join them; a slice is dropped with its last window, %s", each, slices, strings.Replace(held, "it closes", "as that closes", 1))
		p.Delay = fmt.Sprintf("rows are published every %s, the last that holds an event at most %s + margin %s after it, as the stream's own time goes on: when the watermark passes a window's end", SizeText(w.Unit, w.By), SizeText(w.Unit, w.Size), margin)
	case d.Session != nil:
		p.Kind = "session with a gap of " + row.DurationText(d.Session.Gap)
		bound := "however long it lasts"
		if d.Session.Longest > 0 {
			p.Kind += ", at most " + row.DurationText(d.Session.Longest)
			bound = "at most " + row.DurationText(d.Session.Longest) + " long"
		}
		p.State = fmt.Sprintf("for each key and open session %s; a session, %s, is dropped when %s", each, bound, held)
		p.Delay = fmt.Sprintf("a row is published %s after a session's last event, once %s", row.DurationText(d.Session.Gap), passed("that time"))
	case d.LookBack > 0:
		span := row.DurationText(d.LookBack)
		p.Kind = "look back over " + span
		p.State = fmt.Sprintf("for each row of a key's last %s %s, and the rows that the watermark has not passed", span, each)
		p.Delay = "a row is published for each event once " + passed("it")
	default:
		p.Kind = "whole, without a window"
		p.State = "for each key " + each
		if d.Forget > 0 {
			p.State += ", forgotten after " + row.DurationText(d.Forget) + " without rows"
		} else if len(p.Key) > 0 {
			p.State += ", until the input ends"
		}
		p.Delay = "a row is published at the end of the input"
	}
	for _, a := range d.Spec().Aggregates {
		switch a.Func {
		case "count_distinct", "most_common":
			p.State += fmt.Sprintf("; %s keeps each distinct value", a.Func)
			if a.Func == "count_distinct" {
				p.State += " up to 10,000, and 64 KiB beyond"
			}
		case "collect":
			p.State += fmt.Sprintf("; collect keeps at most %d values", a.N)
		case "quantile", "median":
			p.State += "; " + a.Func + " keeps a sketch, with an error under 1 %"
		}
	}
	if d.Aligned != nil && d.Aligned.Shift > 0 && d.Aligned.Unit == window.Micros {
		p.Kind += ", shifted by " + row.DurationText(time.Duration(d.Aligned.Shift)*time.Microsecond)
	}
	if d.Aligned != nil && d.Aligned.Unit != window.Micros && (d.Aligned.Clock > 0 || d.Aligned.MonthDay > 0) {
		p.Kind += fmt.Sprintf(" from %02d:%02d", d.Aligned.Clock/3600, d.Aligned.Clock/60%60)
		if d.Aligned.MonthDay > 0 {
			p.Kind += fmt.Sprintf(" on day %d", d.Aligned.MonthDay+1)
		}
	}
	if d.Aligned != nil && d.Aligned.Zone != nil && d.Aligned.Unit != window.Micros {
		p.Kind += " in " + d.Aligned.Zone.String()
	}
	if d.Revised {
		p.Delay += fmt.Sprintf("; previews at most every %s while rows come", row.DurationText(d.Every))
	}
	if d.RepeatEvery > 0 {
		p.Delay += fmt.Sprintf("; all kept windows again every %s", row.DurationText(d.RepeatEvery))
	}
	if d.Accept > 0 {
		p.Delay += fmt.Sprintf("; corrections up to %s after the close", row.DurationText(d.Accept))
	}
}

// Promises words what each sink promises of a run, those with the same words together; of gives where a sink's rows go.
func (j *Job) Promises(d connect.Delivering, of func(*Sink) connect.Sink) (out []string) {
	named := map[string][]string{}
	var order []string
	for i := range j.Sinks {
		s := &j.Sinks[i]
		words := of(s).Words(s.Encode, s.Schema, d).Delivery
		if named[words] == nil {
			order = append(order, words)
		}
		named[words] = append(named[words], s.Name)
	}
	for _, words := range order {
		out = append(out, pluralOf(len(named[words]), "sink")+" "+strings.Join(named[words], ", ")+": "+words)
	}
	return out
}

// Rolls says whether a sink makes a file with each checkpoint.
func (j *Job) Rolls(s *Sink) bool { return j.wordsOf(s).Rolls }

// wordsOf tells of a sink as it is where checkpoints are kept.
func (j *Job) wordsOf(s *Sink) connect.SinkWords {
	return s.With.Words(s.Encode, s.Schema, connect.Delivering{Once: j.Delivery == "exactly_once", Kept: true, Every: j.CheckpointEvery, Dir: j.Dir})
}

func planSink(j *Job, s *Sink) SinkPlan {
	w := j.wordsOf(s)
	_, readable := s.With.(connect.Readable)
	return SinkPlan{Readable: readable, Name: s.Name, From: s.FromText, Writes: w.Writes, Makes: w.Makes, Fields: fieldTexts(s.Schema), Delivery: w.Delivery}
}

func pluralOf(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// Text writes the plan for a terminal.
func (p Plan) Text() string {
	var b strings.Builder
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(&b, "    %-11s %s\n", name, text)
		}
	}
	fmt.Fprintf(&b, "job %s\n", p.Job)
	for _, s := range p.Sources {
		fmt.Fprintf(&b, "  source %s\n", s.Name)
		line("reads", s.Reads)
		line("fields", strings.Join(s.Fields, ", "))
		line("event time", s.EventTime)
		line("watermark", s.Watermark)
	}
	for _, r := range p.References {
		fmt.Fprintf(&b, "  reference %s\n", r.Name)
		line("reads", r.Reads)
		line("", r.Refresh)
		line("fields", strings.Join(r.Fields, ", "))
		line("key", strings.Join(r.Key, ", "))
		line("size", r.Limit)
	}
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "  step %s: %s\n", s.Name, s.Kind)
		line("from", s.From)
		for i, d := range s.Does {
			if i == 0 {
				line("does", d)
			} else {
				line("", d)
			}
		}
		line("fields", strings.Join(s.Fields, ", "))
		for _, l := range s.Levels {
			line("levels", l.text())
		}
		line("key", strings.Join(s.Key, ", "))
		line("exchange", s.Exchange)
		line("state", s.State)
		line("", s.Bound)
		line("delay", s.Delay)
	}
	if s := p.Spread; s != nil {
		fmt.Fprintf(&b, "  spread over nodes: %d parts of %d portions, by connection %s\n", len(s.Parts), s.Portions, s.Via)
		for i, part := range s.Parts {
			line(fmt.Sprintf("part %d", i+1), cmp.Or(strings.Join(part.Steps, ", "), "the sources"))
			for _, c := range part.Crosses {
				line("", fmt.Sprintf("reads %s by %s: %s", c.Rows, cmp.Or(strings.Join(c.By, ", "), "nothing, all in one portion"), strings.Join(c.Fields, ", ")))
			}
		}
		line("costs", s.Costs)
	}
	for _, s := range p.Sinks {
		fmt.Fprintf(&b, "  sink %s\n", s.Name)
		line("from", s.From)
		line("writes", s.Writes)
		line("makes", s.Makes)
		line("delivery", s.Delivery)
	}
	return b.String()
}
