package try

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"undertide/connect"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
	"undertide/run"
)

// Played is what a document did with events that were given to it one by one.
type Played struct {
	Moments []Moment     `json:"moments"` // one for each event or clock given, and one for the end
	Parts   []PlayedPart `json:"parts"`
	Windows []Band       `json:"windows"`
	// Pairs are those of joins within a time, and Reaches how far each of their rows does.
	Pairs   []Met   `json:"pairs"`
	Reaches []Reach `json:"reaches"`
	// Example is the play as an example of the document, YAML.
	Example string `json:"example"`
}

// Moment is what came of one event, or of time that passed; the last, of the end of all input.
type Moment struct {
	Source string `json:"source"` // empty for the clock and the end
	Event  string `json:"event"`  // as it was given
	Clock  string `json:"clock"`  // how much time passed; empty for an event
	// Time is the event time; null where it has none.
	Time *string `json:"time"`
	// Before and After are the source's watermark, null for none yet.
	Before *string `json:"before"`
	After  *string `json:"after"`
	// Late says that the event lies behind the watermark: whether it is lost is said by the steps.
	Late   bool        `json:"late"`
	Reject string      `json:"reject"` // why it became no row; empty for a row
	Rows   []PlayedRow `json:"rows"`   // that steps published
	// Windows are those that the event went into, by their place in [Played.Windows].
	Windows []int `json:"windows"`
}

// PlayedRow is a row of a step or output.
type PlayedRow struct {
	Part string          `json:"part"`
	Row  json.RawMessage `json:"row"`
}

// PlayedPart names a part and its fields.
type PlayedPart struct {
	Name   string   `json:"name"`
	Fields []string `json:"fields"`
}

// Band is a window that was published.
type Band struct {
	Step  string `json:"step"`
	Key   string `json:"key"` // of the key's fields; empty for none
	Start string `json:"start"`
	End   string `json:"end"`
	// Opened and Closed are moments: of its first event, and of its first row.
	Opened int `json:"opened"`
	Closed int `json:"closed"`
	// Rows are those that were published of it, in order: more than one where it was corrected. Published are their moments.
	Rows      []json.RawMessage `json:"rows"`
	Published []int             `json:"published"`
	// Withdrawn says that it no longer holds: it was joined into another.
	Withdrawn bool `json:"withdrawn"`
}

// last is the moment of its newest row.
func (b Band) last() int { return b.Published[len(b.Published)-1] }

// Given is an event for [Play].
type Given struct {
	Source string          `json:"source"` // may be left out where there is one
	Event  json.RawMessage `json:"event"`  // an object by the names of the source's fields, or a text as the source decodes it
	Clock  string          `json:"clock"`  // instead: how much time passes
}

// MostPlayed bounds what one play takes.
const MostPlayed = 2000

// Play gives a document events one by one and tells what comes of each. byArrival sorts them as a
// program would that goes by arrival: each event has the greatest event time that came before it.
func Play(ctx context.Context, j *job.Job, events []Given, byArrival bool) (Played, error) {
	out := Played{Moments: []Moment{}, Parts: []PlayedPart{}, Windows: []Band{}, Pairs: []Met{}, Reaches: []Reach{}}
	if len(events) > MostPlayed {
		return out, fmt.Errorf("%w: %d events are more than the %d that are played one by one; rehearse takes more", connect.ErrUsage, len(events), MostPlayed)
	}
	var given []job.Given
	for i, e := range events {
		v, m, err := e.read(j)
		if err != nil {
			return out, fmt.Errorf("%w: event %d: %w", connect.ErrUsage, i+1, err)
		}
		given, out.Moments = append(given, v), append(out.Moments, m)
	}
	out.Moments = append(out.Moments, Moment{Rows: []PlayedRow{}})
	var wrap func(int, engine.Decoder) engine.Decoder
	if byArrival {
		fields := make([]int, len(j.Sources))
		for i := range j.Sources {
			s := &j.Sources[i]
			fields[i] = -1
			if s.EventTime != nil {
				fields[i] = s.Schema.Index(s.EventTime.Text())
			}
			if fields[i] < 0 && s.EventTime != nil {
				return out, fmt.Errorf("%w: the event time of %s is an expression (%s); by arrival needs a plain field", connect.ErrUsage, s.Name, s.EventTime.Text())
			}
		}
		wrap = func(source int, d engine.Decoder) engine.Decoder {
			if fields[source] < 0 {
				return d
			}
			return &arrivalDecoder{d, fields[source], row.MinTime}
		}
	}
	refs, err := run.OpenReferences(ctx, j, func(string, ...any) {})
	if err != nil {
		return out, err
	}
	defer refs.Close()
	g, o := scripted(j, given, refs.Finders(), wrap)
	w := &player{j: j, g: g, out: &out}
	w.taps()
	w.joinTaps()
	w.windowTaps()
	o.Stepped = func(s engine.Stepped) { w.stepped(s, given) }
	g.Sinks = nil
	if _, err := engine.Run(ctx, g, o); err != nil {
		return out, err
	}
	w.bands()
	w.entered()
	w.met()
	out.Example = job.ExampleText(j, "as it was tried", given, func(part string) (rows []json.RawMessage) {
		for _, m := range out.Moments {
			for _, r := range m.Rows {
				if r.Part == part {
					rows = append(rows, r.Row)
				}
			}
		}
		return rows
	})
	return out, nil
}

func (e Given) read(j *job.Job) (job.Given, Moment, error) {
	m := Moment{Rows: []PlayedRow{}, Clock: e.Clock}
	if e.Clock != "" {
		d, err := job.ParseDuration(e.Clock)
		if err != nil || d <= 0 {
			return job.Given{}, m, fmt.Errorf("clock %q is not a duration; write 10s", e.Clock)
		}
		return job.Given{Clock: d}, m, nil
	}
	s, err := j.SourceNamed(e.Source)
	if err != nil {
		return job.Given{}, m, err
	}
	m.Source = s.Name
	at := slices.IndexFunc(j.Sources, func(o job.Source) bool { return o.Name == s.Name })
	text := strings.TrimSpace(string(e.Event))
	m.Event = text
	v := job.Given{Source: at, Event: text}
	if strings.HasPrefix(text, `"`) {
		v.Raw = true
		if err := json.Unmarshal(e.Event, &v.Event); err != nil {
			return v, m, fmt.Errorf("read the event: %w", err)
		}
		m.Event = v.Event
		return v, m, nil
	}
	var fields map[string]json.RawMessage
	if err := json.Unmarshal(e.Event, &fields); err != nil {
		return v, m, fmt.Errorf("the event is not a JSON object; write {\"field\": value}, or the raw text in quotes")
	}
	for name := range fields {
		if i := s.Schema.Index(name); i < 0 || s.Schema[i].Hidden {
			remedy := "it has " + strings.Join(s.Schema.Names(), ", ")
			if n := job.Nearest(name, s.Schema.Names()); n != "" {
				remedy = "did you mean " + n + "?"
			}
			return v, m, fmt.Errorf("source %s has no field %s; %s", s.Name, name, remedy)
		}
	}
	return v, m, nil
}

// arrivalDecoder puts the greatest event time so far in place of each event's own.
type arrivalDecoder struct {
	engine.Decoder
	field    int
	greatest row.Time
}

func (d *arrivalDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	rejects = d.Decoder.Decode(c, b, rejects)
	col := b.Cols[d.field]
	for i := range b.N {
		if !col.IsNull(i) {
			d.greatest = max(d.greatest, row.Time(col.I[i]))
			col.I[i] = int64(d.greatest)
		}
	}
	return rejects
}

// player gathers what comes of each moment. The engine has one lane and waits after each turn, so its
// taps need no lock.
type player struct {
	j     *job.Job
	g     *engine.Graph
	out   *Played
	rows  []PlayedRow
	time  *row.Time
	fault string
	joins []*joinPlay

	windows []*windowPlay
	marks   map[int]row.Time // by source: the watermark after the last moment
}

func (w *player) taps() {
	w.marks = map[int]row.Time{}
	for i := range w.j.Sources {
		s := &w.j.Sources[i]
		w.g.Taps = append(w.g.Taps, engine.TapNode{From: engine.Ref{At: i}, Schema: s.Schema, Tap: heard{timesOf{}, func(line []byte) {
			if us, err := strconv.ParseInt(string(line), 10, 64); err == nil {
				t := row.Time(us)
				w.time = &t
			}
		}}})
		ref := engine.Ref{At: i, Part: engine.RejectPart}
		w.g.Taps = append(w.g.Taps, engine.TapNode{From: ref, Schema: engine.RejectSchema, Tap: heard{run.TextOf(engine.RejectSchema), func(line []byte) {
			var r struct{ Reason, Message string }
			if json.Unmarshal(line, &r) == nil {
				w.fault = r.Reason + ": " + r.Message
			}
		}}})
	}
	for i := range w.j.Steps {
		s := &w.j.Steps[i]
		names, parts, schemas := s.Parts()
		for n, name := range names {
			w.tap(name, engine.Ref{OfStep: true, At: i, Part: parts[n]}, schemas[n])
		}
		w.tap("rejects of "+s.Name, engine.Ref{OfStep: true, At: i, Part: engine.RejectPart}, engine.RejectSchema)
	}
}

func (w *player) tap(name string, ref engine.Ref, schema row.Schema) {
	p := PlayedPart{Name: name, Fields: []string{}}
	for _, i := range schema.Visible() {
		p.Fields = append(p.Fields, schema[i].Name+" "+schema[i].Kind.String())
	}
	w.out.Parts = append(w.out.Parts, p)
	w.g.Taps = append(w.g.Taps, engine.TapNode{From: ref, Schema: schema, Tap: heard{run.TextOf(schema), func(line []byte) {
		w.rows = append(w.rows, PlayedRow{name, json.RawMessage(bytes.Clone(line))})
	}}})
}

// heard is a tap that is told each encoded line of a turn, when its turn has come: rows are encoded ahead
// of it.
type heard struct {
	encoder engine.Encoder
	line    func([]byte)
}

func (h heard) NewEncoder(row.Schema) engine.Encoder { return h.encoder }
func (h heard) Room(rows int) int                    { return rows }
func (h heard) Take(data []byte, _ int) {
	for line := range bytes.Lines(data) {
		h.line(bytes.TrimSuffix(line, []byte("\n")))
	}
}

// timesOf writes the rows' event times, a line each, in microseconds.
type timesOf struct{}

func (timesOf) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		if len(v.Times) > 0 {
			dst = append(strconv.AppendInt(dst, int64(v.Times[r]), 10), '\n')
		}
	}
	return dst
}

// stepped ends a moment. After the script come the ends of the sources, which are one moment.
func (w *player) stepped(s engine.Stepped, given []job.Given) {
	m := &w.out.Moments[min(s.Script, len(given))]
	m.Rows = append(m.Rows, w.rows...)
	for _, p := range w.joins {
		p.joinStepped(min(s.Script, len(given)), w.rows)
	}
	for _, p := range w.windows {
		p.stepped(min(s.Script, len(given)))
	}
	w.rows = nil
	if s.Script < len(given) && given[s.Script].Clock == 0 {
		source := given[s.Script].Source
		before, some := w.marks[source]
		if some && before != row.MinTime {
			m.Before = timeText(before)
		}
		if w.time != nil {
			m.Time = timeText(*w.time)
			m.Late = some && *w.time < before
		}
		m.Reject = w.fault
		if at := s.Watermarks[source]; at != row.MinTime {
			m.After = timeText(at)
		}
	}
	w.time, w.fault = nil, ""
	for i, at := range s.Watermarks {
		w.marks[i] = at
	}
}

func timeText(t row.Time) *string {
	if t == row.MaxTime {
		return nil
	}
	text := t.String()
	return &text
}

// bands gathers the windows that were published, with the moments at which they opened and closed.
func (w *player) bands() {
	at := map[string]int{}
	for i := range w.j.Steps {
		s := &w.j.Steps[i]
		win := published(s.Keyed)
		if win == nil {
			continue
		}
		keys := win.Spec().KeySchema().Names()
		for n, m := range w.out.Moments {
			for _, r := range m.Rows {
				if r.Part != s.Name {
					continue
				}
				var fields map[string]any
				if json.Unmarshal(r.Row, &fields) != nil {
					continue
				}
				b := Band{Step: s.Name, Key: keyOf(fields, keys), Start: fmt.Sprint(fields["window_start"]), End: fmt.Sprint(fields["window_end"]), Closed: n, Opened: n}
				id := b.Step + "\x00" + b.Key + "\x00" + b.Start + "\x00" + b.End
				k, known := at[id]
				if !known {
					k = len(w.out.Windows)
					at[id] = k
					w.out.Windows = append(w.out.Windows, b)
				}
				w.out.Windows[k].Rows = append(w.out.Windows[k].Rows, r.Row)
				w.out.Windows[k].Published = append(w.out.Windows[k].Published, n)
				w.out.Windows[k].Withdrawn = fields["withdrawn"] == true
			}
		}
	}
}
