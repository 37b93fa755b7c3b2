package job

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"undertide/core/engine"
	"undertide/core/row"
)

// Example is a small pair of given events and expected rows (docs/job-document.md, "Examples").
type Example struct {
	About string
	Line  int
	Given []Given
	// Rows are those of references, which are there from the beginning: JSON objects by field, by place in Job.References. Of one
	// whose versions are looked up in they are also Given.
	Rows   map[int][]string
	Expect []Expected
}

// Given is one event of a source, or time that passes.
type Given struct {
	Source int
	// Event is the event as JSON with the source's fields, or, with Raw, its text as the source decodes it.
	Event string
	Raw   bool
	Clock time.Duration
}

// Expected are the rows that a source, step or output is to give, in any order.
type Expected struct {
	Name   string
	Line   int
	From   []engine.Input
	Schema row.Schema
	Rows   []ExpectedRow
}

// ExpectedRow is one row; fields that are not named are not compared. Values are as encoding/json reads
// them, numbers as json.Number.
type ExpectedRow struct {
	Line   int
	Names  []string
	Values []any
}

func (b *builder) readExamples() {
	n := b.doc.get("examples")
	if n == nil || n.kind == nullNode {
		return
	}
	if n.kind != listNode {
		b.fault(n, "examples", fmt.Sprintf("%s stands where a list of examples belongs", n.kind), "write examples: [{about: …, given: […], expect: {…}}]")
		return
	}
	for i, v := range n.values {
		place := fmt.Sprintf("examples[%d]", i)
		if !b.mapping(v, place, fieldSpec{known: []string{"about", "given", "expect"}}) {
			continue
		}
		e := Example{About: b.optionalText(v.get("about"), place+".about"), Line: v.line}
		b.given(v, place, &e)
		b.expected(v, place, &e)
		b.job.Examples = append(b.job.Examples, e)
	}
}

func (b *builder) given(n *node, place string, e *Example) {
	g := n.get("given")
	place += ".given"
	if g == nil || g.kind != listNode {
		b.fault(n, place, "the events are missing", "add given: [{SOURCE: {field: value}}]")
		return
	}
	for i, v := range g.values {
		p := fmt.Sprintf("%s[%d]", place, i)
		if v.kind != mapNode || len(v.keys) != 1 {
			b.fault(v, p, "one event of one source belongs here", "write - SOURCE: {field: value}, or - clock: 10s")
			continue
		}
		name := v.keys[0].text
		at, ok := b.sources[name]
		switch {
		case name == "clock" && !ok:
			if d, ok := b.duration(v.values[0], p+".clock", false); ok {
				e.Given = append(e.Given, Given{Clock: d})
			}
		case !ok && b.givenRow(v, p, e):
		case !ok:
			if !b.broken[name] {
				b.fault(v.keys[0], p, "there is no source "+name, b.didYouMean(name, append(sortedKeys(b.sources), sortedKeys(b.references)...)))
			}
		case v.values[0].kind == scalarNode:
			text, _ := b.text(v.values[0], p)
			e.Given = append(e.Given, Given{Source: at, Event: text, Raw: true})
		default:
			e.Given = append(e.Given, Given{Source: at, Event: b.event(v.values[0], join(p, name), name, b.job.Sources[at].Schema)})
		}
	}
}

// givenRow takes a row of a reference; false where none is named.
func (b *builder) givenRow(v *node, place string, e *Example) bool {
	name := v.keys[0].text
	at, ok := b.references[name]
	if !ok {
		return false
	}
	r := &b.job.References[at]
	if r.Of != nil {
		b.fault(v.keys[0], place, name+" is made of other references", "give rows of "+b.job.References[r.Of.From].Name+" and "+b.job.References[r.Of.In].Name)
		return true
	}
	text := b.event(v.values[0], join(place, name), name, r.Schema)
	if r.AsOf >= 0 {
		e.Given = append(e.Given, Given{Source: r.AsOf, Event: text})
	}
	if e.Rows == nil {
		e.Rows = map[int][]string{}
	}
	e.Rows[at] = append(e.Rows[at], text)
	return true
}

// event writes an event as JSON by the names of the fields of a source or reference.
func (b *builder) event(n *node, place, name string, s row.Schema) string {
	if n.kind != mapNode {
		b.fault(n, place, fmt.Sprintf("%s stands where an event belongs", n.kind), "write {field: value}, or the raw text in quotes")
		return "{}"
	}
	fields := map[string]any{}
	for i, k := range n.keys {
		at := s.Index(k.text)
		if at < 0 || s[at].Hidden {
			b.fault(k, join(place, k.text), name+" has no field "+k.text, b.didYouMean(k.text, s.Names()))
			continue
		}
		fields[k.text] = plain(n.values[i], s[at].Kind == row.String)
	}
	out, err := json.Marshal(fields)
	if err != nil {
		b.fault(n, place, err.Error(), "give plain values")
	}
	return string(out)
}

// plain gives a node's value as JSON has it. A plain scalar that reads as a number or bool is one, unless
// a text is wanted.
func plain(n *node, text bool) any {
	switch n.kind {
	case nullNode:
		return nil
	case listNode:
		out := make([]any, len(n.values))
		for i, v := range n.values {
			out[i] = plain(v, false)
		}
		return out
	case mapNode:
		out := map[string]any{}
		for i, k := range n.keys {
			out[k.text] = plain(n.values[i], false)
		}
		return out
	}
	if !n.plain || text {
		return n.text
	}
	switch n.text {
	case "true", "false":
		return n.text == "true"
	case "null", "~":
		return nil
	}
	clean := strings.ReplaceAll(n.text, "_", "")
	if _, err := strconv.ParseFloat(clean, 64); err == nil && json.Valid([]byte(clean)) {
		return json.Number(clean)
	}
	return n.text
}

func (b *builder) expected(n *node, place string, e *Example) {
	x := n.get("expect")
	place += ".expect"
	if x == nil || x.kind != mapNode || len(x.keys) == 0 {
		b.fault(n, place, "the rows are missing", "add expect: {STEP: [{field: value}]}; [] for none")
		return
	}
	for i, k := range x.keys {
		p := join(place, k.text)
		in, ok := b.from(k, p)
		if !ok {
			continue
		}
		v := x.values[i]
		if v.kind != listNode {
			b.fault(v, p, fmt.Sprintf("%s stands where a list of rows belongs", v.kind), "write [{field: value}], or [] for none")
			continue
		}
		out := Expected{Name: in.text, Line: k.line, From: in.from, Schema: in.schema}
		for r, y := range v.values {
			p := fmt.Sprintf("%s[%d]", p, r)
			if y.kind != mapNode {
				b.fault(y, p, fmt.Sprintf("%s stands where a row belongs", y.kind), "write {field: value}")
				continue
			}
			row := ExpectedRow{Line: y.line}
			for f, name := range y.keys {
				at := in.schema.Index(name.text)
				if at < 0 || in.schema[at].Hidden {
					b.fault(name, join(p, name.text), in.text+" has no field "+name.text, b.didYouMean(name.text, in.schema.Names()))
					continue
				}
				row.Names, row.Values = append(row.Names, name.text), append(row.Values, plain(y.values[f], in.schema[at].Kind.String() == "string"))
			}
			out.Rows = append(out.Rows, row)
		}
		e.Expect = append(e.Expect, out)
	}
}
