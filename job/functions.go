package job

import (
	"fmt"
	"regexp"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
)

// maxFunctions bounds the functions of a document: those that call each other in a chain cost its square.
const maxFunctions = 200

// functionEntry is a function of the document that is not compiled yet.
type functionEntry struct {
	key, is *node
	place   string
	of      row.Schema

	under, read bool // it waits for those that it calls; it was compiled, or cannot be
}

// readFunctions reads `functions`: each is compiled behind those that it calls (docs/job-document.md, "Functions").
func (b *builder) readFunctions() {
	n := b.doc.get("functions")
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, "functions", fmt.Sprintf("%s stands where a mapping belongs", n.kind), "write functions: {kilos: {of: {t: double}, is: t * 1000.0}}")
		return
	}
	if len(n.keys) > maxFunctions {
		b.fault(n.keys[maxFunctions], "functions", fmt.Sprintf("the document has %d functions; at most %d are read", len(n.keys), maxFunctions), "compute parts of it in steps, as fields of their own")
		return
	}
	b.functions, b.unmade, b.texts = map[string]*expr.Function{}, map[string]bool{}, map[string]string{}
	all := map[string]*functionEntry{}
	for i, k := range n.keys {
		b.unmade[k.text] = true
		if f, ok := b.functionEntry(k, n.values[i]); ok {
			all[k.text] = &f
		}
	}
	for _, k := range n.keys {
		b.behindItsOwn(all, all[k.text], nil)
	}
}

// called finds what an expression calls.
var called = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_]*)\s*\(`)

// behindItsOwn compiles a function once those that it calls are; by are those that wait for it.
func (b *builder) behindItsOwn(all map[string]*functionEntry, f *functionEntry, by []string) {
	if f == nil || f.read || b.over() {
		return
	}
	if f.under {
		b.fault(f.key, f.place, f.key.text+" calls itself, by way of "+strings.Join(by, ", "), "a function may call those that do not call it")
		f.read = true
		return
	}
	f.under = true
	for _, m := range called.FindAllStringSubmatch(f.is.text, -1) {
		b.behindItsOwn(all, all[m[1]], append(by, f.key.text))
	}
	if !f.read {
		f.read = true
		b.function(*f)
	}
}

// functionEntry checks all of a function but what it is.
func (b *builder) functionEntry(k, n *node) (functionEntry, bool) {
	f := functionEntry{key: k, place: join("functions", k.text)}
	switch {
	case !fieldName(k.text):
		b.fault(k, f.place, fmt.Sprintf("%q is not a name for a function", k.text), "use letters, digits and _, not beginning with a digit")
		return f, false
	case expr.Taken(k.text):
		b.fault(k, f.place, k.text+" is a function of the language already", "choose another name")
		return f, false
	case !b.mapping(n, f.place, fieldSpec{known: []string{"of", "is"}}):
		return f, false
	}
	if f.is = n.get("is"); f.is == nil {
		b.fault(k, f.place+".is", "it is not said what the function is", "add is: and an expression over its parameters, such as t * 1000.0")
		return f, false
	}
	of := n.get("of")
	if of == nil {
		return f, true
	}
	if of.kind != mapNode {
		b.fault(of, f.place+".of", fmt.Sprintf("%s stands where parameters belong", of.kind), "write of: {t: double}")
		return f, false
	}
	for i, p := range of.keys {
		place := join(f.place+".of", p.text)
		kind, ok := b.kind(of.values[i], place, p)
		if !ok || !b.checkField(p, place, p.text) {
			return f, false
		}
		f.of = append(f.of, row.Field{Name: p.text, Kind: kind})
	}
	return f, true
}

// function compiles what a function is.
func (b *builder) function(f functionEntry) {
	is := b.expression(f.is, f.place+".is", expr.Scope{Fields: f.of, Values: b.job.Values})
	if is == nil {
		return
	}
	b.functions[f.key.text] = expr.NewFunction(f.key.text, f.of, is)
	delete(b.unmade, f.key.text)
	b.texts[f.key.text] = strings.Join(fieldTexts(f.of), ", ") + ": " + f.is.text
}
