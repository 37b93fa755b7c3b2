package job

import (
	"fmt"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// Plan says in words what a run of the job would do.
type Plan struct {
	Job     string       `json:"job" yaml:"job"`
	Sources []SourcePlan `json:"sources" yaml:"sources"`
	Steps   []StepPlan   `json:"steps" yaml:"steps"`
	Sinks   []SinkPlan   `json:"sinks" yaml:"sinks"`
}

// SourcePlan tells of a source.
type SourcePlan struct {
	Name      string   `json:"name" yaml:"name"`
	Reads     string   `json:"reads" yaml:"reads"`
	Fields    []string `json:"fields" yaml:"fields"`
	EventTime string   `json:"event_time" yaml:"event_time"`
	Watermark string   `json:"watermark" yaml:"watermark"`
}

// StepPlan tells of a step.
type StepPlan struct {
	Name     string   `json:"name" yaml:"name"`
	Kind     string   `json:"kind" yaml:"kind"`
	From     string   `json:"from" yaml:"from"`
	Does     []string `json:"does" yaml:"does"`
	Fields   []string `json:"fields" yaml:"fields"`
	Key      []string `json:"key" yaml:"key"`
	Exchange string   `json:"exchange" yaml:"exchange"`
	State    string   `json:"state" yaml:"state"`
	Delay    string   `json:"delay" yaml:"delay"`
}

// SinkPlan tells of a sink.
type SinkPlan struct {
	Name     string   `json:"name" yaml:"name"`
	From     string   `json:"from" yaml:"from"`
	Writes   string   `json:"writes" yaml:"writes"`
	Fields   []string `json:"fields" yaml:"fields"`
	Delivery string   `json:"delivery" yaml:"delivery"`
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
	p := Plan{Job: j.Name, Sources: []SourcePlan{}, Steps: []StepPlan{}, Sinks: []SinkPlan{}}
	for i := range j.Sources {
		p.Sources = append(p.Sources, planSource(&j.Sources[i]))
	}
	for i := range j.Steps {
		p.Steps = append(p.Steps, planStep(j, &j.Steps[i]))
	}
	for i := range j.Sinks {
		p.Sinks = append(p.Sinks, planSink(j, &j.Sinks[i]))
	}
	return p
}

func planSource(s *Source) SourcePlan {
	p := SourcePlan{Name: s.Name, Fields: fieldTexts(s.Schema), EventTime: "none", Watermark: "none"}
	switch {
	case s.Via == "simulate" && s.Sim.Count > 0:
		p.Reads = fmt.Sprintf("%d simulated events", s.Sim.Count)
	case s.Via == "simulate":
		p.Reads = fmt.Sprintf("simulated events without end, %g a second", s.Sim.PerSecond)
	case s.Via == "kafka":
		p.Reads = fmt.Sprintf("topic %s of %s, %s", s.Kafka.Topic, s.Kafka.Connection.Name, strings.ToUpper(s.Decode))
		if s.Kafka.Begin == "time" {
			p.Reads += ", from " + s.Kafka.BeginAt.UTC().Format(time.RFC3339)
		} else {
			p.Reads += ", from the " + s.Kafka.Begin + " event"
		}
	case s.File.Follow:
		p.Reads = fmt.Sprintf("%s as it grows, %s", s.File.Pattern, s.Decode)
	default:
		p.Reads = fmt.Sprintf("%s to its end, %s", s.File.Pattern, s.Decode)
	}
	if s.Arrival {
		p.EventTime = "arrival"
	} else if s.EventTime != nil {
		p.EventTime = s.EventTime.Text()
	}
	if s.Timed() {
		p.Watermark = row.DurationText(s.Margin) + " behind the greatest event time"
		if s.Ahead > 0 {
			p.Watermark += fmt.Sprintf("; rows more than %s ahead of the clock are rejected", row.DurationText(s.Ahead))
		}
	}
	return p
}

func planStep(j *Job, s *Step) StepPlan {
	p := StepPlan{Name: s.Name, From: s.FromText, Fields: fieldTexts(s.Schema), Key: []string{}, Exchange: "none: in the lane or worker that has the rows", State: "none", Delay: "none beyond the turn"}
	if s.Window == nil {
		p.Kind = "filter and compute"
		if s.Where != "" {
			p.Does = append(p.Does, "where "+s.Where)
		}
		for _, t := range s.Sets {
			p.Does = append(p.Does, "set "+t)
		}
		return p
	}
	w := s.Window
	size := row.DurationText(w.Kind.Size)
	p.Kind = "tumbling window of " + size
	if w.Kind.Shift > 0 {
		p.Kind += ", shifted by " + row.DurationText(w.Kind.Shift)
	}
	for _, f := range w.KeySchema() {
		p.Key = append(p.Key, f.Name)
	}
	p.Does = append(p.Does, s.Measures...)
	p.Exchange = "by hash of " + strings.Join(p.Key, ", ") + " to the lane that owns the key"
	if len(p.Key) == 0 {
		p.Exchange = "all rows to one lane: there is no key"
	}
	accs := 1
	for _, a := range w.Aggregates {
		if a.Arg != nil || a.Cond != nil {
			accs++
		}
	}
	p.State = fmt.Sprintf("for each key and open window %d %s; a window is dropped when it closes, and a key with its last window", accs, pluralOf(accs, "accumulator"))
	margin := ""
	if src := j.sourceOf(s); src != nil {
		margin = fmt.Sprintf(" + margin %s", row.DurationText(src.Margin))
	}
	p.Delay = fmt.Sprintf("a row is published once, when the watermark passes the window's end: at most %s%s after its event, as the stream's own time goes on", size, margin)
	return p
}

// sourceOf gives the source that a step's rows come from.
func (j *Job) sourceOf(s *Step) *Source {
	r := s.From
	for r.OfStep {
		r = j.Steps[r.At].From
	}
	if r.At < len(j.Sources) {
		return &j.Sources[r.At]
	}
	return nil
}

func planSink(j *Job, s *Sink) SinkPlan {
	p := SinkPlan{Name: s.Name, From: s.FromText, Fields: fieldTexts(s.Schema)}
	format := map[string]string{"json": "NDJSON", "csv": "CSV"}[s.Encode]
	switch {
	case s.Via == "kafka":
		p.Writes = fmt.Sprintf("topic %s of %s, JSON", s.Kafka.Topic, s.Kafka.Connection.Name)
		if len(s.Kafka.Key) > 0 {
			p.Writes += ", keyed by " + strings.Join(s.Kafka.Key, ", ")
		}
		p.Delivery = "at least once: what follows the newest checkpoint comes again after a restart"
	case s.Path == "-":
		p.Writes = format + " to standard output"
		p.Delivery = "as rows are made; what follows the newest checkpoint comes again after a restart"
	case strings.HasSuffix(s.Path, "/"):
		p.Writes = format + " to rolled files in " + s.Path
		p.Delivery = "exactly once: an epoch's files appear when its checkpoint is complete"
	default:
		p.Writes = format + " to " + s.Path
		p.Delivery = "exactly once: aside as .part, cut back to the checkpoint on resume, renamed when the run finishes"
	}
	if s.From.Part == engine.RejectPart || s.From.Part == engine.LatePart {
		p.From = s.FromText
	}
	return p
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
		line("key", strings.Join(s.Key, ", "))
		line("exchange", s.Exchange)
		line("state", s.State)
		line("delay", s.Delay)
	}
	for _, s := range p.Sinks {
		fmt.Fprintf(&b, "  sink %s\n", s.Name)
		line("from", s.From)
		line("writes", s.Writes)
		line("delivery", s.Delivery)
	}
	return b.String()
}
