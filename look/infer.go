package look

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"time"

	"undertide/connect"
	"undertide/core/row"
	"undertide/member"
)

// Inference is what a sample lets a document declare. What is not certain stands in the doubts.
type Inference struct {
	Decode string `json:"decode"` // the format: json, csv, text
	// Settings are what a document has to give beside decode, by name.
	Settings map[string]string `json:"settings"`
	Fields   []Field           `json:"fields"`
	// EventTime is the field of the event time, `stored` or `arrival`; Why says why it.
	EventTime string `json:"event_time"`
	Why       string `json:"why"`
	// Key is the field that rows are most likely told apart by; empty for none.
	Key      string   `json:"key"`
	Doubts   []string `json:"doubts"` // of the whole
	Lateness Lateness `json:"lateness"`

	reading connect.Reading
}

// Reading is how the sample's events are taken apart.
func (inf *Inference) Reading() connect.Reading { return inf.reading }

// Field is a field as a document would declare it.
type Field struct {
	Name   string   `json:"name"`
	Type   string   `json:"type"`
	At     string   `json:"at"`    // the path, where it is not the name
	Parse  string   `json:"parse"` // of timestamps
	Doubts []string `json:"doubts"`

	form    timeForm
	profile int
}

// ErrNothing is returned for a sample without events.
var ErrNothing = errors.New("there are no events to look at")

// Infer profiles a sample and proposes how it could be declared.
func Infer(sample connect.Sample) (Profile, Inference, error) {
	events := sample.Events
	inf := Inference{Fields: []Field{}, Doubts: []string{}, Settings: map[string]string{}}
	if !slices.ContainsFunc(events, func(e connect.Event) bool { return len(e.Text) > 0 }) {
		inf.Lateness = LatenessOf(nil, -1, nil)
		return profile(events, nil), inf, ErrNothing
	}
	format, g := guess(sample)
	if g.Reading == nil {
		return Profile{}, inf, ErrNothing
	}
	inf.Decode, inf.reading, inf.Doubts = format.Name, g.Reading, append(inf.Doubts, g.Doubts...)
	if g.Settings != nil {
		inf.Settings = g.Settings
	}
	p := profile(events, g.Reading)
	if p.Malformed > 0 {
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("%d of %d events do not read as the others do: they would be rejects", p.Malformed, p.Events))
	}
	if p.Empty > 0 {
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("%d of %d events have no value (deletions, in a compacted topic): they would be rejects", p.Empty, p.Events))
	}
	names := map[string]bool{}
	for n := range p.Fields {
		f := &p.Fields[n]
		d := inf.declare(f, events, format.Untyped)
		if known := g.Types[f.Path]; known != "" && known != "timestamp" {
			d.Type, d.Parse, d.Doubts = known, "", []string{}
		}
		if d.Type == "" {
			inf.Doubts = append(inf.Doubts, d.Doubts...)
			continue
		}
		d.profile = n
		d.Name = member.FreeName(f.Path, names)
		names[d.Name] = true
		if d.Name != f.Path {
			d.At = f.Path
		}
		inf.Fields = append(inf.Fields, d)
	}
	inf.chooseTime(&p, events)
	inf.chooseKey(&p)
	switch {
	case p.From == nil: // files have no keys
	case p.Key.Null == p.Events:
		inf.Doubts = append(inf.Doubts, "no message has a key: their order is that of their partition alone, and meta.key is null")
	case p.Key.Null > 0:
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("%d of %d messages have no key: meta.key is null there", p.Key.Null, p.Events))
	}
	inf.Lateness = LatenessOf(inf.timed(&p, events), -1, nil)
	return p, inf, nil
}

// guess takes the format in which most events of a sample read; of equals the first of the list.
func guess(s connect.Sample) (best *connect.Format, of connect.Guessed) {
	for _, f := range connect.Formats() {
		switch {
		case f.Guess == nil, s.Format != "" && f.Name != s.Format, s.Format == "" && f.Header != (s.Header != ""):
			continue
		}
		if g := f.Guess(s); g.Reading != nil && (best == nil || g.Share > of.Share) {
			best, of = f, g
		}
	}
	return best, of
}

// Decoded gives the values of an event by the inference's names, readable, in the fields' order; an
// error where it does not read as the others do.
func (inf *Inference) Decoded(e connect.Event) ([]connect.Header, error) {
	values, err := inf.reading.Values(e.Text)
	if err != nil {
		return nil, err
	}
	var out []connect.Header
	for _, f := range inf.Fields {
		for _, v := range values {
			if v.Path != pathOf(f) {
				continue
			}
			text := "null"
			if v.V != nil {
				text = fmt.Sprint(v.V)
				if t, ok := f.form.read(v.V); ok && f.Type == "timestamp" {
					text = t.String()
				}
			}
			out = append(out, connect.Header{Name: f.Name, Value: text})
		}
	}
	return out, nil
}

func pathOf(f Field) string {
	if f.At != "" {
		return f.At
	}
	return f.Name
}

var (
	money        = regexp.MustCompile(`(?i)(^|[._])(price|amount|cost|fee|balance|invoice|payment|charge|total)s?($|[._])`)
	decimalText  = regexp.MustCompile(`^-?\d+\.\d+$`)
	wholeText    = regexp.MustCompile(`^-?(0|[1-9]\d*)$`)
	fractionText = regexp.MustCompile(`^-?\d+(\.\d+)?([eE][+-]?\d+)?$`)
)

// declare gives a field's type, and what is not certain of it. Without a type the doubts say why it
// cannot be declared.
func (inf *Inference) declare(f *FieldProfile, events []connect.Event, untyped bool) Field {
	d := Field{Doubts: []string{}}
	doubt := func(format string, args ...any) { d.Doubts = append(d.Doubts, fmt.Sprintf(format, args...)) }
	all := func(re *regexp.Regexp) bool {
		for t := range f.texts {
			if !re.MatchString(t) {
				return false
			}
		}
		return len(f.texts) > 0
	}
	form, times, isTime := asTime(f, events)
	switch {
	case f.Values == 0:
		d.Type = "string"
		doubt("it is null in every event of the sample: its type is not known")
	case isTime:
		d.Type, d.Parse, d.form = "timestamp", form.parse, form
		d.Doubts = append(d.Doubts, times...)
	case f.Kinds["list"] == f.Values:
		element := ""
		for _, k := range []string{"string", "bool", "double", "int"} {
			if f.lists[k] > 0 {
				element = k
				break
			}
		}
		switch {
		case f.lists["object"] > 0:
			doubt("%s is a list of objects, which no field can hold: it is left out", f.Path)
			return d
		case element == "":
			element = "string"
			doubt("its lists are all empty: what they hold is not known")
		case len(f.lists) > 1 && !(f.lists["int"] > 0 && f.lists["double"] > 0 && len(f.lists) == 2):
			doubt("its lists hold values of several types: other ones than %s become rejects", element)
		}
		d.Type = "list<" + element + ">"
	case f.Kinds["bool"] == f.Values:
		d.Type = "bool"
	case f.Kinds["whole"]+f.Kinds["fraction"] == f.Values:
		inf.number(f, &d, doubt)
	case f.Kinds["text"] == f.Values && untyped && all(wholeText):
		d.Type = "int"
	case f.Kinds["text"] == f.Values && untyped && all(fractionText):
		d.Type = "double"
		if money.MatchString(f.Path) {
			d.Type = "decimal"
			doubt("its name speaks of money, so decimal was taken, whose sums are exact; double is faster")
		}
	case f.Kinds["text"] == f.Values && all(decimalText):
		d.Type = "decimal"
		doubt("its numbers stand in quotes, as exact ones do: decimal keeps every digit; declare string if they are no numbers")
	case f.Kinds["text"] == f.Values:
		d.Type = "string"
		if all(wholeText) && f.Values > 1 {
			doubt("its values are whole numbers in quotes: kept as text; declare int to count with them")
		}
	default:
		most, others := "", 0
		for _, k := range []string{"text", "whole", "fraction", "bool", "list"} {
			if f.Kinds[k] > f.Kinds[most] {
				most = k
			}
		}
		for k, n := range f.Kinds {
			if k != most {
				others += n
			}
		}
		d.Type = map[string]string{"text": "string", "whole": "int", "fraction": "double", "bool": "bool", "list": "list<string>"}[most]
		doubt("it holds values of several types: %d of %d are no %s and would be rejects", others, f.Values, d.Type)
	}
	if f.Null+f.Missing > 0 && f.Values > 0 {
		doubt("it has no value in %d of %d events: null there", f.Null+f.Missing, f.Null+f.Missing+f.Values)
	}
	return d
}

func (inf *Inference) number(f *FieldProfile, d *Field, doubt func(string, ...any)) {
	switch {
	case f.Kinds["fraction"] == 0 && f.digits <= 18:
		d.Type = "int"
		if f.Values < 20 {
			doubt("only %d values were seen, all whole; declare double if fractions may come", f.Values)
		}
	case f.Kinds["fraction"] == 0:
		d.Type = "decimal"
		doubt("its whole numbers are too long for an int: decimal keeps them")
	case f.digits > 15:
		d.Type = "decimal"
		doubt("it has numbers of %d digits, of which a double would change the last: decimal keeps them", f.digits)
	case money.MatchString(f.Path):
		d.Type = "decimal"
		doubt("its name speaks of money, so decimal was taken, whose sums are exact; double is faster")
	default:
		d.Type = "double"
	}
}

// chooseTime takes the field that is most likely the event time: it always has a value, and is the
// nearest to the order of arrival; a name that speaks of time decides between equals.
func (inf *Inference) chooseTime(p *Profile, events []connect.Event) {
	type candidate struct {
		field *Field
		score float64
		why   string
	}
	var all []candidate
	for i := range inf.Fields {
		f := &inf.Fields[i]
		if f.Type != "timestamp" {
			continue
		}
		pf := &p.Fields[f.profile]
		c := candidate{field: f, score: 10 * float64(pf.Values) / float64(max(1, p.Events-p.Empty-p.Malformed))}
		steps, up := 0, 0
		var last row.Time
		for n, s := range pf.seen {
			t, _ := f.form.read(s.v)
			if n > 0 && t != last {
				steps++
				if t > last {
					up++
				}
			}
			last = t
		}
		if steps > 0 {
			c.score += 4 * float64(up) / float64(steps)
		}
		if timeName.MatchString(pf.Path) {
			c.score += 2
		}
		if away, stored := apart(pf, f.form, events); stored {
			if away.Abs() < time.Hour {
				c.score += 2
			}
			c.why = "the median lies " + beside(away) + " the time it was stored"
		} else {
			c.why = fmt.Sprintf("it goes from %s to %s", moment(pf, f.form, false), moment(pf, f.form, true))
		}
		all = append(all, c)
	}
	if len(all) == 0 {
		inf.EventTime, inf.Why = "arrival", "no field holds times"
		if p.From != nil {
			inf.EventTime, inf.Why = "stored", "no field holds times, so the time at which the broker stored the event stands in"
		}
		inf.Doubts = append(inf.Doubts, "no field was found that holds times: windows would follow "+inf.EventTime+", which a replay or a delay on the way changes; name the field if there is one")
		return
	}
	slices.SortStableFunc(all, func(a, b candidate) int {
		switch {
		case a.score > b.score:
			return -1
		case a.score < b.score:
			return 1
		}
		return 0
	})
	inf.EventTime, inf.Why = all[0].field.Name, all[0].why
	if len(all) > 1 {
		var names []string
		for _, c := range all[1:] {
			names = append(names, c.field.Name)
		}
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("several fields hold times: %s was taken for the event time, and not %s", inf.EventTime, strings.Join(names, ", ")))
	}
	pf := &p.Fields[all[0].field.profile]
	if n := pf.Null + pf.Missing; n > 0 {
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("%s has no value in %d events, which would be rejects", inf.EventTime, n))
	}
}

// chooseKey takes the field that tells rows apart: that of the message key, or one with few values.
func (inf *Inference) chooseKey(p *Profile) {
	type candidate struct {
		name string
		of   int
	}
	var all []candidate
	for _, f := range inf.Fields {
		pf := &p.Fields[f.profile]
		if p.Key.Same != "" && pf.Path == p.Key.Same {
			inf.Key = f.Name
			return
		}
		if (f.Type == "string" || f.Type == "int" && strings.Contains(strings.ToLower(f.Name), "code")) && pf.Distinct >= 2 && pf.Distinct*3 <= pf.Values && pf.Null+pf.Missing == 0 {
			all = append(all, candidate{f.Name, pf.Distinct})
		}
	}
	if len(all) > 0 { // the finest of the few
		sort.SliceStable(all, func(a, b int) bool { return all[a].of > all[b].of })
		inf.Key = all[0].name
		inf.Doubts = append(inf.Doubts, fmt.Sprintf("%s was taken to tell rows apart, since it has %d values; no message key says so", inf.Key, all[0].of))
	}
}

// timed gives the sample's events that have an event time.
func (inf *Inference) timed(p *Profile, events []connect.Event) []Timed {
	var out []Timed
	field := func(name string) *Field {
		for i := range inf.Fields {
			if inf.Fields[i].Name == name {
				return &inf.Fields[i]
			}
		}
		return nil
	}
	f := field(inf.EventTime)
	if f == nil {
		for _, e := range events {
			if !e.Stored.IsZero() && inf.EventTime == "stored" {
				out = append(out, Timed{Partition: e.Partition, At: row.TimeOf(e.Stored), Stored: e.Stored, Key: string(e.Key)})
			}
		}
		return out
	}
	keys := map[int]string{}
	if k := field(inf.Key); k != nil {
		for _, s := range p.Fields[k.profile].seen {
			keys[s.event] = fmt.Sprint(s.v)
		}
	}
	for _, s := range p.Fields[f.profile].seen {
		if t, ok := f.form.read(s.v); ok {
			e := events[s.event]
			out = append(out, Timed{Partition: e.Partition, At: t, Stored: e.Stored, Key: keys[s.event]})
		}
	}
	return out
}
