package job

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"undertide/connect"
	"undertide/core/row"
)

// Reference is a checked reference: rows by key that steps look up in (docs/job-document.md, "References").
type Reference struct {
	// Source is where its rows come from; of one that is made of another only Name and Schema are set.
	Source
	Key []int // fields of Schema
	// Refresh is how often it is read anew; 0 for once. Limit bounds its bytes in memory.
	Refresh time.Duration
	Limit   int64
	// Keep is how far behind the watermark versions are kept, for steps that look up by event time.
	Keep time.Duration
	// Of makes it of another reference; nil for one that is read.
	Of *Made
	// AsOf is its place in Job.Sources, where a step looks up in its versions; -1 for none. There it is read as a source.
	AsOf int
}

// Made says of which references one is made: each row of From with columns of the row of In that it names.
type Made struct {
	From, In int // of Job.References
	Match    []int
	Fields   []int // of In; they stand behind those of From
	Drop     bool
}

// Followed says whether the reference is a stream that goes on: its newest rows come in as they are stored.
func (r *Reference) Followed() bool { return r.Of == nil && r.Unbounded() }

const (
	defaultLimit   = 256 << 20
	defaultVersion = time.Hour
)

// referenceFields are the settings of all references, and those that some kinds have beside them.
func referenceFields() fieldSpec {
	return fieldSpec{known: append([]string{"via", "with", "decode", "fields", "key", "refresh", "limit", "event_time", "watermark", "keep", "from", "lookup"}, besideOf(false)...)}
}

// referenceKinds are the kinds that can be read whole.
func referenceKinds() (out []string) {
	for _, k := range connect.Kinds() {
		if k.Reference != nil {
			out = append(out, k.Name)
		}
	}
	return out
}

func (b *builder) readReferences() {
	n := b.doc.get("references")
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, "references", fmt.Sprintf("%s stands where references belong", n.kind), "write references: {name: {via: file, with: {path: …}, fields: {…}, key: [name]}}")
		return
	}
	var all []pending
	for i, k := range n.keys {
		place := join("references", k.text)
		_, isSource := b.sources[k.text]
		if !b.checkName(k, place) {
			continue
		}
		if isSource || b.broken[k.text] {
			b.fault(k, place, k.text+" is also a source", "sources, references and steps share one set of names; choose another")
			continue
		}
		b.broken[k.text] = true
		p := pending{k: k, v: n.values[i]}
		if from := n.values[i].get("from"); from != nil {
			p.from = append(p.from, from.text)
		}
		if l := n.values[i].get("lookup"); l != nil {
			if r := l.get("reference"); r != nil {
				p.from = append(p.from, r.text)
			}
		}
		all = append(all, p)
	}
	ordered, circle := inOrder(all)
	for _, p := range ordered {
		b.reference(p.k, p.v, join("references", p.k.text))
	}
	if len(circle) > 0 {
		b.fault(circle[0].k, join("references", circle[0].k.text), "references are made of each other in a circle: "+namesOfPending(circle), "let one of them be read from a file, table or topic")
	}
}

func (b *builder) reference(k, n *node, place string) {
	if !b.mapping(n, place, referenceFields()) {
		return
	}
	before := len(b.faults)
	r := Reference{Limit: defaultLimit, Keep: defaultVersion, AsOf: -1}
	if n.get("from") != nil {
		b.madeReference(k, n, place, &r)
	} else {
		b.readReference(k, n, place, &r)
	}
	if len(b.faults) > before && (len(r.Schema) == 0 || len(r.Key) == 0 || b.faultyFields(before, place)) {
		return // who looks up in it cannot be judged
	}
	delete(b.broken, k.text)
	b.references[k.text] = len(b.job.References)
	b.job.References = append(b.job.References, r)
}

// readReference reads a reference whose rows come from outside.
func (b *builder) readReference(k, n *node, place string, r *Reference) {
	r.Source = b.source(n, place, k)
	if l := n.get("lookup"); l != nil {
		b.fault(l, place+".lookup", "lookup makes a reference of another one", "add from: and the reference whose rows get more columns, in place of via")
	}
	r.Schema = slices.DeleteFunc(r.Schema, func(f row.Field) bool { return f.Hidden })
	names, at := b.names(n.get("key"), place+".key")
	if len(names) == 0 {
		b.fault(k, place+".key", "by which fields its rows are found is not said", "add key: [field]")
	}
	for i, name := range names {
		switch c := r.Schema.Index(name); {
		case c < 0:
			b.fault(at[i], place+".key", "there is no field "+name, b.didYouMean(name, r.Schema.Names()))
		case !r.Schema[c].Kind.Plain():
			b.fault(at[i], place+".key", fmt.Sprintf("%s is %s, by which no row can be found", name, row.A(r.Schema[c].Kind)), "take a field of a plain type")
		default:
			if r.Schema[c].Kind == row.Double {
				b.warn(at[i], place+".key", name+" is a double: rows are found only where it is the same to the last bit", "take a decimal, an int or a string")
			}
			r.Key = append(r.Key, c)
		}
	}
	_, _, streams := connect.Through(r.With)
	if r.With != nil && r.Followed() && !streams {
		b.fault(k, place, "a reference is read to its end, and this "+r.Via+" has none", "leave out what makes it go on without end, such as follow; refresh: 1m reads it anew")
	}
	if v := n.get("refresh"); v != nil {
		if d, ok := b.duration(v, place+".refresh", false); ok {
			switch {
			case r.With != nil && r.Followed():
				b.fault(v, place+".refresh", "a topic is followed: its newest rows count as soon as they are stored", "leave refresh out")
			case d < time.Second:
				b.fault(v, place+".refresh", "it would be read all the time", "give at least 1s; 1m is usual")
			}
			r.Refresh = d
		}
	}
	if size := b.memorySize(n.get("limit"), place+".limit", 64<<10, "holds hardly a row", "give at least 64KiB; 256MiB is usual"); size > 0 {
		r.Limit = size
	}
	if v := n.get("keep"); v != nil {
		if d, ok := b.duration(v, place+".keep", true); ok {
			r.Keep = d
		}
		if !r.Timed() {
			b.fault(v, place+".keep", "keep says how long older versions of a row count, and the rows have no event time", "add event_time: and watermark:, or leave keep out")
		}
	}
}

// madeReference reads a reference that is made of two.
func (b *builder) madeReference(k, n *node, place string, r *Reference) {
	r.Name = k.text
	for _, key := range n.keys {
		if key.text != "from" && key.text != "lookup" {
			b.fault(key, join(place, key.text), key.text+" belongs to a reference that is read", "leave it out: rows and key are those of "+n.get("from").text)
		}
	}
	from, ok := b.referenceNamed(n.get("from"), place+".from")
	if !ok {
		return
	}
	v := n.get("lookup")
	if v == nil {
		b.fault(k, place+".lookup", "what its rows are looked up in is not said", "add lookup: {reference: …, match: {…}, add: {…}}")
		return
	}
	base := &b.job.References[from]
	l, ok := b.lookupOf(v, place+".lookup", input{text: base.Name, schema: base.Schema}, []string{"keep", "drop"})
	if !ok {
		return
	}
	r.Of = &Made{From: from, In: l.in, Match: l.match, Fields: l.fields, Drop: l.missing == "drop"}
	r.Schema, r.Key = append(slices.Clone(base.Schema), l.adds...), base.Key
}

// referenceNamed finds a reference; false, with a fault unless what is named is itself faulty.
func (b *builder) referenceNamed(n *node, place string) (int, bool) {
	name, ok := b.text(n, place)
	if !ok {
		return 0, false
	}
	if i, ok := b.references[name]; ok {
		return i, true
	}
	if _, isSource := b.sources[name]; isSource {
		b.fault(n, place, name+" is a source, and rows are looked up in references", "put it under references:, with a key")
		return 0, false
	}
	if !b.broken[name] {
		known := sortedKeys(b.references)
		remedy := "add references: {" + name + ": {via: file, with: {path: …}, fields: {…}, key: [name]}}"
		if len(known) > 0 {
			remedy = b.didYouMean(name, known)
		}
		b.fault(n, place, "there is no reference "+name, remedy)
	}
	return 0, false
}

// planReference tells of a reference; latest says that its newest rows are looked up in.
func planReference(j *Job, r *Reference, latest bool) ReferencePlan {
	p := ReferencePlan{Name: r.Name, Fields: fieldTexts(r.Schema), Key: r.KeyNames(), Of: []string{}}
	if r.Of != nil {
		of := &j.References[r.Of.In]
		p.Of = []string{j.References[r.Of.From].Name, of.Name}
		p.Reads = fmt.Sprintf("the rows of %s, each with columns of %s", j.References[r.Of.From].Name, of.Name)
		p.Refresh = "always of the newest versions of both"
		return p
	}
	p.Reads = r.With.Reads(r.Decode)
	if r.AsOf >= 0 && !latest {
		p.Refresh = fmt.Sprintf("read beside the sources; its watermark is %s", planSource(&r.Source).Watermark)
		p.Limit = fmt.Sprintf("each version until the watermark is %s beyond the next one, and at most %s of them in memory", row.DurationText(r.Keep), sizeText(r.Limit))
		return p
	}
	p.Limit = fmt.Sprintf("at most %s in memory, once for all lanes", sizeText(r.Limit))
	switch {
	case r.Followed():
		p.Refresh = "read to its end before any source; then the newest row of each key counts as it is stored, and one without a value deletes"
	case r.Refresh > 0:
		p.Refresh = fmt.Sprintf("read before any source, and anew every %s; where that fails the last rows stay", row.DurationText(r.Refresh))
	default:
		p.Refresh = "read once, before any source"
	}
	return p
}

func sizeText(n int64) string {
	for _, u := range []struct {
		name string
		size int64
	}{{"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n%u.size == 0 {
			return fmt.Sprintf("%d %s", n/u.size, u.name)
		}
	}
	return fmt.Sprintf("%d bytes", n)
}

// lookupTexts words what a lookup does.
func lookupTexts(l *lookup, from, reference string, key []string) []string {
	var equal, adds []string
	for i, name := range l.names {
		equal = append(equal, fmt.Sprintf("%s = %s", name, key[i]))
	}
	for i, f := range l.adds {
		text := f.Name
		if l.columns[i] != f.Name {
			text += " = " + l.columns[i]
		}
		adds = append(adds, text)
	}
	missing := map[string]string{"keep": "rows that are not found go on with nulls", "drop": "rows that are not found are dropped", "reject": "rows that are not found become rejects"}[l.missing]
	return []string{fmt.Sprintf("look %s up in %s by %s: adds %s", from, reference, strings.Join(equal, " and "), strings.Join(adds, ", ")), missing}
}

// Referred says of each reference whether a step looks up in its newest rows, or in those of one that is made of it.
func (j *Job) Referred() []bool {
	out := make([]bool, len(j.References))
	for i := range j.Steps {
		if j.Steps[i].Keyed != nil {
			continue // it reads the versions of its reference as they come
		}
		for _, r := range j.Steps[i].Looks {
			out[r] = true
		}
	}
	for i := len(j.References) - 1; i >= 0; i-- { // each stands behind those that it is made of
		if of := j.References[i].Of; of != nil && out[i] {
			out[of.From], out[of.In] = true, true
		}
	}
	return out
}
