package run

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"undertide/connect/formats/ndjson"
	"undertide/core/engine"
	"undertide/core/reference"
	"undertide/core/row"
	"undertide/core/step"
	"undertide/job"
)

// refTable is a reference of random jobs: rows by their one key field.
type refTable struct {
	name, key string
	rows      map[any]map[string]any
}

// refTables are the references that random jobs have: names by k, codes by b; some keys of the streams are missing, and a
// value is null. full is made of both.
var refTables = []refTable{
	{"names", "key", map[any]map[string]any{
		"k0": {"label": "zero", "code": int64(1)}, "k1": {"label": nil, "code": int64(-2)}, "k3": {"label": "three", "code": int64(9)}, "k4": {"label": "", "code": nil}}},
	{"codes", "code", map[any]map[string]any{
		int64(1): {"deep": int64(40)}, int64(-2): {"deep": nil}, int64(0): {"deep": int64(7)}}},
}

// refDocument is what stands of them in documents; their files are in a folder.
func refDocument(dir string) string {
	return "references:\n  names: {via: file, with: {path: " + filepath.Join(dir, "names.ndjson") + "}, fields: {key: string, label: string, code: int}, key: [key]}\n" +
		"  codes: {via: file, with: {path: " + filepath.Join(dir, "codes.ndjson") + "}, fields: {code: int, deep: int}, key: [code]}\n" +
		"  full: {from: names, lookup: {reference: codes, match: [code], add: [deep]}}\n" +
		"  whole: {from: names, lookup: {reference: codes, match: [code], add: [deep], missing: drop}}\n"
}

// events gives the rows of a reference as they stand in its file.
func (t *refTable) events() (out []string) {
	for key, fields := range t.rows {
		text := fmt.Sprintf("{%q:%s", t.key, refText(key))
		for name, v := range fields {
			text += fmt.Sprintf(",%q:%s", name, refText(v))
		}
		out = append(out, text+"}")
	}
	return out
}

// refFinders gives what the steps of a random job look up in.
func refFinders(doc *job.Job) []reference.Finder {
	tables := make([]*reference.Table, len(doc.References))
	for i := range doc.References {
		r := &doc.References[i]
		if r.Of != nil {
			continue
		}
		rows := reference.NewRows(r.Schema, r.Key)
		var c engine.Chunk
		for _, text := range refTables[i].events() {
			c.Starts = append(c.Starts, uint32(len(c.Raw)))
			c.Raw = append(c.Raw, text...)
			c.Ends = append(c.Ends, uint32(len(c.Raw)))
		}
		b := row.NewBatch(r.Schema)
		if rejects := ndjson.NewDecoder(r.Fields).Decode(&c, b, nil); len(rejects) > 0 {
			panic(rejects[0].Message)
		}
		for n := range b.N {
			rows.Put(b, n, 0)
		}
		tables[i] = reference.NewTable(rows, time.Now())
	}
	return FindersOf(doc, tables)
}

// refLookup is lookup: {reference: IN, match: {BY: key}, add: {AS: column …}, missing: MISSING}, as docs/job-document.md has
// it ("Lookup").
type refLookup struct {
	refLate
	in, by, missing string
	add             [][2]string // name, column
}

// find gives the row of a reference; false where there is none.
func (s *refLookup) find(in string, key any) (map[string]any, bool) {
	switch in {
	case "names", "codes":
		for _, t := range refTables {
			if t.name == in && key != nil {
				row, ok := t.rows[key]
				return row, ok
			}
		}
		return nil, false
	}
	first, ok := s.find("names", key)
	if !ok {
		return nil, false
	}
	second, found := s.find("codes", first["code"])
	if !found && in == "whole" {
		return nil, false
	}
	return map[string]any{"label": first["label"], "code": first["code"], "deep": second["deep"]}, true
}

func (s *refLookup) move(int64) []refRow { return nil }
func (s *refLookup) take(r refRow, _ int64) []refRow {
	key := r.get(s.by)
	found, ok := s.find(s.in, key)
	if !ok {
		reason := step.NotFound
		if key == nil {
			s.looked.Null++
			reason = step.NullKey
		} else {
			s.looked.Missed++
		}
		switch s.missing {
		case "drop":
			s.dropped++
			return nil
		case "reject":
			s.reject(reason)
			return nil
		}
	}
	for _, a := range s.add {
		r = r.with(a[0], found[a[1]])
	}
	s.used++
	return []refRow{r}
}

// lookup adds columns of a reference to the rows.
func (m *jobMaker) lookup(s refStream) refStream {
	r := m.r
	l := &refLookup{in: []string{"names", "full", "whole", "codes"}[r.IntN(4)], by: "k", missing: []string{"keep", "drop", "reject"}[r.IntN(3)]}
	columns, key := []string{"label", "code", "deep"}, "key"
	switch l.in {
	case "names":
		columns = columns[:2]
	case "codes":
		l.by, key, columns = "b", "code", columns[2:]
	}
	var adds []string
	s.fields = append([]string{}, s.fields...)
	for _, c := range columns {
		if len(l.add) > 0 && r.IntN(2) == 0 {
			continue
		}
		name := m.field(c)
		l.add = append(l.add, [2]string{name, c})
		adds = append(adds, name+": "+c)
		s.fields = append(s.fields, name)
	}
	s.inputs = []string{m.add(refNode{inputs: s.inputs, step: l, text: fmt.Sprintf("lookup: {reference: %s, match: {%s: %s}, add: {%s}, missing: %s}", l.in, l.by, key, strings.Join(adds, ", "), l.missing)})}
	return s
}
