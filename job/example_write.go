package job

import (
	"encoding/json"
	"strings"

	"github.com/goccy/go-yaml"

	"undertide/core/row"
)

// ExampleText writes an example of a document, as an item of the list `examples`: the events that were
// given, and the rows that came of the last steps. rows gives those of a step or part.
func ExampleText(j *Job, about string, given []Given, rows func(part string) []json.RawMessage) string {
	var g []any
	for _, v := range given {
		if v.Clock > 0 {
			g = append(g, yaml.MapSlice{{Key: "clock", Value: row.DurationText(v.Clock)}})
			continue
		}
		var event any = v.Event
		if !v.Raw {
			event = ordered([]byte(v.Event))
		}
		g = append(g, yaml.MapSlice{{Key: j.Sources[v.Source].Name, Value: event}})
	}
	read := map[int]bool{}
	for i := range j.Steps {
		for _, in := range j.Steps[i].From {
			if in.OfStep {
				read[in.At] = true
			}
		}
	}
	expect := yaml.MapSlice{}
	for i := range j.Steps {
		if read[i] {
			continue
		}
		names, _, _ := j.Steps[i].Parts()
		for _, name := range names {
			list := []any{}
			for _, r := range rows(name) {
				list = append(list, ordered(r))
			}
			if len(list) > 0 || name == j.Steps[i].Name {
				expect = append(expect, yaml.MapItem{Key: name, Value: list})
			}
		}
	}
	text, err := yaml.MarshalWithOptions([]any{yaml.MapSlice{{Key: "about", Value: about}, {Key: "given", Value: g}, {Key: "expect", Value: expect}}}, yaml.IndentSequence(true))
	if err != nil {
		return "" // plain values only: it does not happen
	}
	return string(text)
}

// ordered gives a JSON object as YAML that keeps the order of its fields.
func ordered(text []byte) any {
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.UseNumber()
	out := yaml.MapSlice{}
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return string(text)
	}
	for d.More() {
		k, err := d.Token()
		var v any
		if err != nil || d.Decode(&v) != nil {
			return string(text)
		}
		out = append(out, yaml.MapItem{Key: k, Value: plainYAML(v)})
	}
	return out
}

func plainYAML(v any) any {
	switch x := v.(type) {
	case json.Number:
		if i, err := x.Int64(); err == nil {
			return i
		}
		if f, err := x.Float64(); err == nil {
			return f
		}
		return string(x)
	case []any:
		for i := range x {
			x[i] = plainYAML(x[i])
		}
	}
	return v
}
