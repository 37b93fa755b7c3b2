package run

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
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
		if r.Of != nil || r.AsOf >= 0 {
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

// counted counts a row that was looked up by a key, and says whether it goes on.
func (l *refLate) counted(found bool, key any, missing string) bool {
	reason := step.NotFound
	switch {
	case found:
		l.looked.Found++
		return true
	case key == nil:
		l.looked.Null++
		reason = step.NullKey
	default:
		l.looked.Missed++
	}
	switch missing {
	case "drop":
		l.dropped++
	case "reject":
		l.reject(reason)
	}
	return missing == "keep"
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
	if !s.counted(ok, key, s.missing) {
		return nil
	}
	for _, a := range s.add {
		r = r.with(a[0], found[a[1]])
	}
	s.used++
	return []refRow{r}
}

// reference makes the stream of a reference whose versions the job's steps look up in, where one does.
func (j *refJob) reference(r *rand.Rand, source int, events func() int) {
	j.keep = -1
	for _, n := range j.build() {
		if s, ok := n.step.(*refAsOf); ok {
			j.keep = s.keep
		}
	}
	if j.keep < 0 {
		return
	}
	j.margins = append(j.margins, int64(r.IntN(3)*r.IntN(20)))
	parts := 1 + r.IntN(2)
	if j.script != nil {
		parts = 1
	}
	for p := range parts {
		part := refPartition{source: source, name: fmt.Sprintf("p%d", p)}
		at := int64(r.IntN(60)) - 30
		for n := range events() {
			at += int64(r.IntN(9))
			t := at - int64(r.IntN(4)*r.IntN(12))
			k, label, deep := any(fmt.Sprintf("k%d", r.IntN(4))), any(fmt.Sprintf("v%d.%d", p, n)), any(int64(n))
			for _, v := range []*any{&k, &label, &deep} {
				if r.IntN(9) == 0 {
					*v = nil
				}
			}
			e := refEvent{text: fmt.Sprintf(`{"k":%s,"label":%s,"deep":%s,"at":%d}`, refText(k), refText(label), refText(deep), t), row: &refRow{names: []string{"k", "label", "deep", "at"}, vals: []any{k, label, deep, refTime(t)}, t: t}}
			if r.IntN(40) == 0 {
				e = refEvent{text: "{not json", reason: "malformed"}
			}
			part.events = append(part.events, e)
		}
		j.parts = append(j.parts, part)
	}
}

// refVersions is what stands of it in documents.
func (j *refJob) refVersions(dir string) string {
	if j.keep < 0 {
		return ""
	}
	s := len(j.margins) - 1
	return fmt.Sprintf("  s%d: {via: file, with: {files: '%s'}, fields: {k: string, label: string, deep: int, at: {type: timestamp, parse: epoch_us}}, key: [k], event_time: at, watermark: {margin: %dus, ahead: none, idle: 1000d}, keep: %dus}\n",
		s, filepath.Join(dir, fmt.Sprintf("s%d-*.ndjson", s)), j.margins[s], j.keep)
}

// refAsOf is a lookup as of event time, as docs/time.md has it: a row finds the newest version since its time or before.
type refAsOf struct {
	refLate
	keep     int64
	missing  string
	add      [][2]string
	versions map[string][]refRow // by key
	waiting  []refRow
}

// find publishes a row with what held at its time.
func (s *refAsOf) find(r refRow) []refRow {
	var found *refRow
	key := r.get("k")
	if key != nil {
		for i, v := range s.versions[key.(string)] {
			if v.t <= r.t && (found == nil || v.t >= found.t) {
				found = &s.versions[key.(string)][i]
			}
		}
	}
	if !s.counted(found != nil, key, s.missing) {
		return nil
	}
	for _, a := range s.add {
		var v any
		if found != nil {
			v = found.get(a[1])
		}
		r = r.with(a[0], v)
	}
	s.used++
	return []refRow{r}
}

func (s *refAsOf) take(r refRow, w int64) []refRow {
	switch {
	case r.side == 1 && r.get("k") == nil:
		s.reject(step.NullKey)
	case r.side == 1:
		s.used++
		if r.t < w {
			s.accepted++
		}
		s.versions[r.get("k").(string)] = append(s.versions[r.get("k").(string)], r)
	case w > never && r.t < w-s.keep && w != ever, w == ever && r.t < w:
		s.lose(r, w)
	case r.t < w:
		return s.find(r)
	default:
		s.waiting = append(s.waiting, r)
	}
	return nil
}

func (s *refAsOf) move(w int64) (out []refRow) {
	var left, passed []refRow
	for _, r := range s.waiting {
		if r.t < w {
			passed = append(passed, r)
		} else {
			left = append(left, r)
		}
	}
	s.waiting = left
	slices.SortStableFunc(passed, func(a, b refRow) int { return cmp.Compare(a.t, b.t) })
	for _, r := range passed {
		out = append(out, s.find(r)...)
	}
	return out
}

// asOf adds columns of the reference's versions to the rows.
func (m *jobMaker) asOf(s refStream) refStream {
	r := m.r
	if m.keep == 0 {
		m.keep = 1 + int64(r.IntN(40))
	}
	a := &refAsOf{keep: m.keep, missing: []string{"keep", "drop", "reject"}[r.IntN(3)], versions: map[string][]refRow{}}
	label, deep := m.field("label"), m.field("deep")
	a.add = [][2]string{{label, "label"}, {deep, "deep"}}
	ref := fmt.Sprintf("s%d", m.sources)
	text := fmt.Sprintf("from: [%s], lookup: {reference: %s, match: [k], add: {%s: label, %s: deep}, missing: %s, as_of: event_time}", strings.Join(s.inputs, ", "), ref, label, deep, a.missing)
	n := m.add(refNode{inputs: append(slices.Clone(s.inputs), ref), left: len(s.inputs), step: a, key: []string{"k"}, text: text})
	s.inputs, s.fields, s.windows = []string{n}, append(slices.Clone(s.fields), label, deep), false
	if r.IntN(8) == 0 {
		s.inputs, s.fields = []string{"late of " + n}, s.fields[:len(s.fields)-2]
	}
	return s
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
