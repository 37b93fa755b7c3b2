package try

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"undertide/connect/codec"
	"undertide/connect/formats/ndjson"
	"undertide/connect/memory"
	"undertide/core/engine"
	"undertide/core/reference"
	"undertide/core/row"
	"undertide/job"
	"undertide/run"
)

// ExampleResult tells how an example of a document came out.
type ExampleResult struct {
	About string
	Line  int
	// Differences are empty when all rows came as expected: a line each.
	Differences []string
}

// exampleStart is when the clock of an example begins (docs/job-document.md, "Examples").
var exampleStart = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

// Examples runs a document's examples, each from nothing, and compares their rows. Nothing is delivered.
func Examples(ctx context.Context, j *job.Job) ([]ExampleResult, error) {
	var out []ExampleResult
	for i := range j.Examples {
		r, err := example(ctx, j, &j.Examples[i])
		if err != nil {
			return out, fmt.Errorf("example on line %d: %w", j.Examples[i].Line, err)
		}
		out = append(out, r)
	}
	return out, nil
}

func example(ctx context.Context, j *job.Job, e *job.Example) (ExampleResult, error) {
	res := ExampleResult{About: e.About, Line: e.Line}
	finders, err := givenReferences(j, e)
	if err != nil {
		return res, err
	}
	g, o := scripted(j, e.Given, finders, nil)
	keepers := make([]*memory.Sink, len(e.Expect))
	for i, x := range e.Expect {
		keepers[i] = &memory.Sink{}
		g.Sinks = append(g.Sinks, engine.SinkNode{Name: fmt.Sprintf("%s %d", x.Name, i), From: x.From, Schema: x.Schema, Sink: keepers[i]})
	}
	done, err := engine.Run(ctx, g, o)
	if err != nil {
		return res, err
	}
	for _, s := range done.Figures.Samples {
		res.Differences = append(res.Differences, fmt.Sprintf("note: %s rejected an event (%s): %s", s.At, s.Reason, s.Message))
	}
	for i, s := range done.Figures.Steps {
		if s.Made > 0 && s.Dropped > 0 {
			res.Differences = append(res.Differences, fmt.Sprintf("note: having of %s dropped %d of %d result rows", g.Steps[i].Name, s.Dropped, s.Made))
		}
	}
	notes := len(res.Differences)
	for i, x := range e.Expect {
		d, err := compare(x, keepers[i].Rows())
		if err != nil {
			return res, err
		}
		res.Differences = append(res.Differences, d...)
	}
	if len(res.Differences) == notes { // notes alone are no difference
		res.Differences = nil
	}
	return res, nil
}

// givenReferences gives what an example's steps look up in: the rows that it gives, and no others.
func givenReferences(j *job.Job, e *job.Example) ([]reference.Finder, error) {
	tables := make([]*reference.Table, len(j.References))
	for i := range j.References {
		r := &j.References[i]
		if r.Of != nil {
			continue
		}
		rows := reference.NewRows(r.Schema, r.Key)
		var c engine.Chunk
		for _, text := range e.Rows[i] {
			c.Starts = append(c.Starts, uint32(len(c.Raw)))
			c.Raw = append(c.Raw, text...)
			c.Ends = append(c.Ends, uint32(len(c.Raw)))
		}
		b := row.NewBatch(r.Schema)
		rejects := ndjson.NewDecoder(plainFields(r.Fields)).Decode(&c, b, nil)
		if len(rejects) > 0 {
			return nil, fmt.Errorf("the example's row %d of reference %s cannot be read: %s", rejects[0].Index+1, r.Name, rejects[0].Message)
		}
		for n := range b.N {
			rows.Put(b, n, 0)
		}
		tables[i] = reference.NewTable(rows, exampleStart)
	}
	return run.FindersOf(j, tables), nil
}

// plainFields are fields whose values events of examples have by their names.
func plainFields(fields codec.Fields) codec.Fields {
	out := slices.Clone(fields)
	for f := range out {
		out[f].At = nil
	}
	return out
}

// scripted makes the graph and options that give a document's sources these events in this order, from
// nothing. wrap may change what decodes a source; nil for nothing.
func scripted(j *job.Job, given []job.Given, references []reference.Finder, wrap func(source int, d engine.Decoder) engine.Decoder) (*engine.Graph, engine.Options) {
	g := &engine.Graph{Steps: j.Flow(references)}
	parts := make([]*memory.Partition, len(j.Sources))
	for i := range j.Sources {
		s := &j.Sources[i]
		parts[i] = &memory.Partition{Called: "example", Turn: 1}
		src := s.On([]engine.Partition{parts[i]}, false)
		plain := plainFields(s.Fields)
		src.NewDecoder = func() engine.Decoder {
			d := &eitherDecoder{fields: ndjson.NewDecoder(plain), raw: s.Decoder()}
			if wrap != nil {
				return wrap(i, d)
			}
			return d
		}
		g.Sources = append(g.Sources, src)
	}
	o := engine.Options{Lanes: 1, Workers: 1, Now: func() time.Time { return exampleStart }, Script: []engine.Scripted{}}
	for _, v := range given {
		o.Script = append(o.Script, engine.Scripted{Source: v.Source, Clock: v.Clock})
		if v.Clock > 0 {
			continue
		}
		event := v.Event
		if v.Raw {
			event = "\x00" + event
		}
		parts[v.Source].Events = append(parts[v.Source].Events, event)
	}
	return g, o
}

// compare matches the expected rows with those that came, in any order, and words what is left over.
func compare(x job.Expected, text []byte) (out []string, err error) {
	var got []map[string]any
	var lines []string
	for line := range bytes.Lines(text) {
		row := map[string]any{}
		d := json.NewDecoder(bytes.NewReader(line))
		d.UseNumber()
		if err := d.Decode(&row); err != nil {
			return nil, err
		}
		got, lines = append(got, row), append(lines, strings.TrimSpace(string(line)))
	}
	taken := make([]bool, len(got))
	var missing []job.ExpectedRow
	for _, want := range x.Rows {
		found := -1
		for i, r := range got {
			if !taken[i] && len(differing(want, r)) == 0 {
				found = i
				break
			}
		}
		if found < 0 {
			missing = append(missing, want)
		} else {
			taken[found] = true
		}
	}
	for _, want := range missing {
		// The nearest row that nothing else took is the one that was meant.
		best, fields := -1, []string(nil)
		for i, r := range got {
			if d := differing(want, r); !taken[i] && len(d) < len(want.Names) && (best < 0 || len(d) < len(fields)) {
				best, fields = i, d
			}
		}
		if best < 0 {
			out = append(out, fmt.Sprintf("line %d: %s did not give %s", want.Line, x.Name, rowText(want)))
			continue
		}
		taken[best] = true
		var parts []string
		for _, f := range fields {
			k := slices.Index(want.Names, f)
			parts = append(parts, fmt.Sprintf("%s is %s, want %s", f, valueText(got[best][f]), valueText(want.Values[k])))
		}
		out = append(out, fmt.Sprintf("line %d: %s: %s; the row is %s", want.Line, x.Name, strings.Join(parts, "; "), lines[best]))
	}
	for i, l := range lines {
		if !taken[i] {
			out = append(out, fmt.Sprintf("line %d: %s also gave %s", x.Line, x.Name, l))
		}
	}
	return out, nil
}

// differing names the fields of want that the row has otherwise.
func differing(want job.ExpectedRow, row map[string]any) (out []string) {
	for i, n := range want.Names {
		if !equal(want.Values[i], row[n]) {
			out = append(out, n)
		}
	}
	return out
}

// equal compares a value that a person wrote with one of a row: numbers by value, times by instant.
func equal(want, got any) bool {
	switch g := got.(type) {
	case json.Number:
		w, ok := want.(json.Number)
		return ok && sameNumber(string(w), string(g))
	case string:
		switch w := want.(type) {
		case json.Number: // decimals are written as texts
			return sameNumber(string(w), g)
		case string:
			a, err := time.Parse(time.RFC3339Nano, w)
			b, err2 := time.Parse(time.RFC3339Nano, g)
			if err == nil && err2 == nil {
				return a.Equal(b)
			}
			da, err := time.ParseDuration(w)
			db, err2 := time.ParseDuration(g)
			return w == g || err == nil && err2 == nil && da == db
		}
		return false
	case []any:
		w, ok := want.([]any)
		return ok && slices.EqualFunc(w, g, equal)
	case map[string]any:
		w, ok := want.(map[string]any)
		if !ok || len(w) != len(g) {
			return false
		}
		for k, v := range w {
			if x, ok := g[k]; !ok || !equal(v, x) {
				return false
			}
		}
		return true
	}
	return want == got
}

func sameNumber(a, b string) bool {
	x, ok := new(big.Rat).SetString(a)
	y, ok2 := new(big.Rat).SetString(b)
	return ok && ok2 && x.Cmp(y) == 0
}

func rowText(r job.ExpectedRow) string {
	parts := make([]string, len(r.Names))
	for i, n := range r.Names {
		parts[i] = n + ": " + valueText(r.Values[i])
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func valueText(v any) string {
	out, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(out)
}
