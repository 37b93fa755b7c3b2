package look

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/core/row"
	"undertide/member"
)

// Purpose is a ready-made document: what it is good for.
type Purpose struct {
	Name  string `json:"name"`
	About string `json:"about"`
}

// Purposes are the ready-made documents, by what they are good for.
var Purposes = []Purpose{
	{"per-minute", "count, mean and greatest of each key in each minute"},
	{"moving", "totals of each key over ten minutes, renewed every minute"},
	{"visits", "visits of a key: bursts of events with silence between"},
	{"silence", "tell when a key has had no event for a while"},
	{"alarms", "tell when a value is too great, or too often so"},
	{"clean", "filter, take out repeats, and pass on"},
	{"split", "send events to several sinks by a condition"},
}

// namesOf gives the job and the source a name each.
func namesOf(o connect.Origin) (job, source string) {
	parts := strings.FieldsFunc(strings.ToLower(o.Name), func(c rune) bool { return !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9') })
	if len(parts) == 0 {
		return "first-job", "events"
	}
	job, source = strings.Join(parts, "-"), parts[len(parts)-1]
	if job[0] >= '0' && job[0] <= '9' {
		job = "job-" + job
	}
	if source[0] >= '0' && source[0] <= '9' || !member.Free(source) || source == "log" {
		source = "events"
	}
	return job, source
}

// Begin writes a document for a purpose over what was inferred. What is not certain stands as a comment
// where it is declared.
func Begin(purpose string, o connect.Origin, inf Inference) (string, error) {
	if purpose == "" {
		purpose = Purposes[0].Name
	}
	at := slices.IndexFunc(Purposes, func(p Purpose) bool { return p.Name == purpose })
	if at < 0 {
		var names []string
		for _, p := range Purposes {
			names = append(names, p.Name)
		}
		return "", fmt.Errorf("there is no ready-made document %s; there are %s", purpose, strings.Join(names, ", "))
	}
	job, source := namesOf(o)
	if !o.Stored && inf.EventTime == "stored" {
		inf.EventTime, inf.Why = "arrival", "no field holds times, and these events have no stored ones"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "undertide: 1\njob: %s-%s\nabout: '%s'\n\n", job, purpose, capital(Purposes[at].About))
	if !o.Once {
		b.WriteString("settings: {delivery: at_least_once}\n\n")
	}
	b.WriteString("sources:\n")
	b.WriteString(Source(source, o, inf))
	t := task{o: o, inf: inf, job: job, source: source, key: inf.Key}
	for _, f := range inf.Fields {
		if !place.MatchString(f.Name) && (f.Type == "double" || f.Type == "decimal" || f.Type == "int" && !strings.HasSuffix(f.Name, "id")) && f.Name != inf.Key && t.number == "" {
			t.number, t.numberType = f.Name, f.Type
		}
	}
	for _, f := range inf.Fields {
		if f.Type == "double" && t.numberType == "int" {
			t.number, t.numberType = f.Name, f.Type
		}
	}
	b.WriteByte('\n')
	switch purpose {
	case "per-minute":
		t.window(&b, "minute", "{tumbling: 1m}", "    late: {accept: 1m}\n")
	case "moving":
		t.window(&b, "moving", "{sliding: 10m, by: 1m}", "")
	case "visits":
		t.window(&b, "visit", "{session: 90s, longest: 12h}", "")
	case "silence":
		t.silence(&b)
	case "alarms":
		t.alarms(&b)
	case "clean":
		t.clean(&b)
	case "split":
		t.split(&b)
	}
	return b.String(), nil
}

// SourceOf writes the source alone, as it stands below `sources:`.
func SourceOf(o connect.Origin, inf Inference) string {
	_, name := namesOf(o)
	return Source(name, o, inf)
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// commentWidth is how wide comments of documents are at most: what an editor of half a screen shows.
const commentWidth = 76

// comment writes a text as a comment, in lines that are not too wide; a word alone may be.
func comment(indent, text string) string {
	var b strings.Builder
	line := indent + "#"
	for _, word := range strings.Fields(text) {
		if len(line)+1+len(word) > commentWidth && line != indent+"#" {
			b.WriteString(line + "\n")
			line = indent + "#"
		}
		line += " " + word
	}
	return b.String() + line + "\n"
}

// Source writes a source of a document, as it stands below `sources:`.
func Source(name string, o connect.Origin, inf Inference) string {
	var b strings.Builder
	fmt.Fprintf(&b, "  %s:\n", name)
	b.WriteString(indented(o.Source))
	if !o.Plain {
		fmt.Fprintf(&b, "    decode: %s\n", inf.Decode)
	}
	for _, name := range slices.Sorted(maps.Keys(inf.Settings)) {
		fmt.Fprintf(&b, "    %s: '%s'\n", name, strings.ReplaceAll(inf.Settings[name], "'", "''"))
	}
	for _, d := range inf.Doubts {
		b.WriteString(comment("    ", d))
	}
	b.WriteString("    fields:\n")
	for _, f := range inf.Fields {
		for _, d := range f.Doubts {
			b.WriteString(comment("      ", d))
		}
		if f.At == "" && f.Parse == "" {
			fmt.Fprintf(&b, "      %s: %s\n", f.Name, f.Type)
			continue
		}
		parts := []string{"type: " + f.Type}
		if f.At != "" {
			parts = append(parts, "at: "+connect.Quoted(f.At))
		}
		if f.Parse != "" && f.Parse != "rfc3339" {
			parts = append(parts, "parse: "+connect.Quoted(f.Parse))
		}
		fmt.Fprintf(&b, "      %s: {%s}\n", f.Name, strings.Join(parts, ", "))
	}
	if line := fmt.Sprintf("    event_time: %s    # %s\n", inf.EventTime, inf.Why); len(line) <= commentWidth {
		b.WriteString(line)
	} else {
		b.WriteString(comment("    ", inf.Why) + "    event_time: " + inf.EventTime + "\n")
	}
	if inf.Lateness.Events > 0 {
		b.WriteString(comment("    ", inf.Lateness.Words()))
	}
	fmt.Fprintf(&b, "    watermark: {margin: %s}\n", row.DurationText(time.Duration(inf.Lateness.Proposed*float64(time.Second))))
	return b.String()
}

// indented puts the lines of a part below its name.
func indented(lines string) string {
	return "    " + strings.ReplaceAll(lines, "\n", "\n    ") + "\n"
}

// task is a document that is being written.
type task struct {
	o           connect.Origin
	inf         Inference
	job, source string
	key         string
	number      string // a field to measure; empty for none
	numberType  string
}

func (t task) keyLine(indent string) string {
	if t.key == "" {
		return ""
	}
	return indent + "key: [" + t.key + "]\n"
}

func (t task) window(b *strings.Builder, step, window, more string) {
	fmt.Fprintf(b, "steps:\n  %s:\n    from: %s\n%s    window: %s\n    measures:\n      events: count()\n", step, t.source, t.keyLine("    "), window)
	if t.number != "" {
		if t.numberType != "decimal" {
			fmt.Fprintf(b, "      mean_%s: mean(%s)\n", t.number, t.number)
		} else {
			fmt.Fprintf(b, "      sum_%s: sum(%s)\n", t.number, t.number)
		}
		fmt.Fprintf(b, "      most_%s: max(%s)\n", t.number, t.number)
	}
	b.WriteString(more)
	fmt.Fprintf(b, "\nsinks:\n")
	t.sink(b, "results", step, step, more != "")
	t.sink(b, "missed", "late of "+step, "late", false)
	t.rejects(b)
}

// sink writes a sink beside the origin.
func (t task) sink(b *strings.Builder, name, from, suffix string, corrections bool) {
	fmt.Fprintf(b, "  %s:\n    from: %s\n", name, from)
	key := t.key
	if strings.HasPrefix(from, "rejects") { // they have not its fields
		key = ""
	}
	b.WriteString(indented(t.o.Sink(t.job, suffix, key)))
	if corrections {
		b.WriteString("    append_revisions: true    # the newest row of a key and window counts\n")
	}
}

func (t task) rejects(b *strings.Builder) {
	t.sink(b, "rejects_of_it", "rejects of "+t.source, "rejects", false)
}

func (t task) silence(b *strings.Builder) {
	fmt.Fprintf(b, "steps:\n  silent:\n    from: %s\n%s    absent: 10m\n\nsinks:\n", t.source, t.keyLine("    "))
	t.sink(b, "results", "silent", "silent", false)
	t.rejects(b)
}

func (t task) alarms(b *strings.Builder) {
	high := "true"
	if t.number != "" {
		high = t.number + " > 20.0"
		if t.numberType == "int" {
			high = t.number + " > 20"
		} else if t.numberType == "decimal" {
			high = "double(" + t.number + ") > 20.0"
		}
	}
	fmt.Fprintf(b, "steps:\n  # A condition on the event alone: choose your own bound.\n  high:\n    from: %s\n    where: %s\n", t.source, high)
	fmt.Fprintf(b, "  # More than three of them within ten seconds.\n  often:\n    from: high\n%s    window: {look_back: 10s}\n    measures: {times: count()}\n    having: times > 3\n\nsinks:\n", t.keyLine("    "))
	t.sink(b, "results", "often", "alarms", false)
	t.rejects(b)
}

func (t task) clean(b *strings.Builder) {
	where := "true"
	id := t.key
	for _, f := range t.inf.Fields {
		if f.Type == "string" && (f.Name == "id" || strings.HasSuffix(f.Name, "_id")) {
			id = f.Name
			break
		}
	}
	if t.key != "" {
		where = t.key + " != ''"
		for _, f := range t.inf.Fields {
			if f.Name == t.key && f.Type == "int" {
				where = t.key + " != 0"
			}
		}
	}
	fmt.Fprintf(b, "steps:\n  useful:\n    from: %s\n    where: %s\n", t.source, where)
	last := "useful"
	if id != "" && t.inf.EventTime != "" {
		keys := id
		if id == t.key && t.inf.EventTime != "stored" && t.inf.EventTime != "arrival" {
			keys += ", " + t.inf.EventTime
		}
		fmt.Fprintf(b, "  once:\n    from: useful\n    deduplicate: {key: [%s], within: 10m}\n", keys)
		last = "once"
	}
	b.WriteString("\nsinks:\n")
	t.sink(b, "results", last, "clean", false)
	t.rejects(b)
}

func (t task) split(b *strings.Builder) {
	cond := "true"
	switch {
	case t.number != "" && t.numberType == "int":
		cond = t.number + " > 20"
	case t.number != "" && t.numberType == "double":
		cond = t.number + " > 20.0"
	case t.key != "":
		cond = t.key + " != ''"
	}
	fmt.Fprintf(b, "steps:\n  sorted:\n    from: %s\n    # Conditions of your own; what meets none is `rest of sorted`.\n    split: {chosen: %q}\n\nsinks:\n", t.source, cond)
	t.sink(b, "results", "chosen of sorted", "chosen", false)
	t.sink(b, "others", "rest of sorted", "rest", false)
	t.rejects(b)
}

// place matches names of fields that say where something is: sums and means of them tell little.
var place = regexp.MustCompile(`(?i)^(lat|lon|lng|latitude|longitude|x|y|z)$`)
