package job

import (
	"fmt"
	"slices"
	"strings"

	"undertide/core/expr"
	"undertide/core/row"
)

// functionEntry is a function of the document that is not compiled yet.
type functionEntry struct {
	key, is *node
	place   string
	of      row.Schema
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
	b.functions, b.unmade, b.texts = map[string]*expr.Function{}, map[string]bool{}, map[string]string{}
	var waiting []functionEntry
	for i, k := range n.keys {
		b.unmade[k.text] = true
		if f, ok := b.functionEntry(k, n.values[i]); ok {
			waiting = append(waiting, f)
		}
	}
	for len(waiting) > 0 && !b.over() {
		at := slices.IndexFunc(waiting, func(f functionEntry) bool {
			return !slices.ContainsFunc(waiting, func(other functionEntry) bool { return expr.Calls(f.is.text, other.key.text) })
		})
		if at < 0 {
			for _, f := range waiting {
				b.fault(f.key, f.place, fmt.Sprintf("%s calls itself, by way of %s", f.key.text, namesOfFunctions(waiting)), "a function may call those that do not call it")
			}
			return
		}
		f := waiting[at]
		waiting = slices.Delete(waiting, at, at+1)
		b.function(f)
	}
}

func namesOfFunctions(list []functionEntry) string {
	out := make([]string, len(list))
	for i, f := range list {
		out[i] = f.key.text
	}
	return strings.Join(out, ", ")
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
	scope := expr.Scope{Fields: f.of, Values: b.job.Values}
	if b.expression(f.is, f.place+".is", scope) == nil {
		return
	}
	scope.Functions = b.functions
	own, faults := expr.NewFunction(f.key.text, f.of, f.is.text, scope)
	if len(faults) > 0 { // what expression read has ${env.NAME} filled in
		b.fault(f.is, f.place+".is", faults[0].Message, faults[0].Remedy)
		return
	}
	b.functions[f.key.text] = own
	delete(b.unmade, f.key.text)
	b.texts[f.key.text] = strings.Join(fieldTexts(f.of), ", ") + ": " + f.is.text
}
