package job

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"undertide/connect/settings"
	"undertide/core/row"
	"undertide/core/step"
)

// Span is where a part of a document stands: its first and last line, from 1.
type Span struct{ From, To int }

// Places finds the sources, references, steps, sinks, values, functions, alarms and settings in a document's text, by kind and name ("step rate"), also
// where the document has faults; as far as its YAML reads.
func (d *Document) Places() map[string]Span {
	out := map[string]Span{}
	root := d.root
	if root == nil || root.kind != mapNode {
		return out
	}
	lines := strings.Split(d.text, "\n")
	last := func(from, next int) int { // without blank lines and comments before what follows
		to := next - 1
		for to > from && to <= len(lines) {
			if l := strings.TrimSpace(lines[to-1]); l != "" && !strings.HasPrefix(l, "#") {
				break
			}
			to--
		}
		return to
	}
	for i, k := range root.keys {
		kind, ok := map[string]string{"sources": "source", "references": "reference", "steps": "step", "sinks": "sink", "values": "value", "functions": "function", "alarms": "alarm"}[k.text]
		v := root.values[i]
		end := len(lines) + 1
		if i+1 < len(root.keys) {
			end = root.keys[i+1].line
		}
		if k.text == "settings" {
			out["settings"] = Span{k.line, last(k.line, end)}
		}
		if !ok || v.kind != mapNode {
			continue
		}
		for n, name := range v.keys {
			next := end
			if n+1 < len(v.keys) {
				next = v.keys[n+1].line
			}
			out[kind+" "+name.text] = Span{name.line, last(name.line, next)}
		}
	}
	return out
}

// SameSource says whether two sources describe their events alike: decode, fields and event time.
func SameSource(a, b *Source) bool {
	text := func(s *Source) string {
		t := fmt.Sprintf("%s %v|", s.Decode.Name, s.Decoding)
		for _, f := range s.Fields {
			t += fmt.Sprintf("|%s %s %v %d %s", f.Name, f.Kind, f.At, f.Parse, f.Layout)
		}
		if s.EventTime != nil {
			t += "|" + s.EventTime.Text()
		}
		return t
	}
	return text(a) == text(b)
}

// pieces tells the parts of a document apart that keep something between runs, so that another version
// can go on with what is unchanged (docs/job-document.md, "What a new version keeps"): a source its
// positions, while it reads the same; a step its state, while its name, kind, key, window and measures and
// the fields that it reads are the same; a sink what it delivered, while it writes to the same place.
func pieces(j *Job, root *node) map[string]string {
	out := map[string]string{}
	hash := func(n *node, skip []string, more ...string) string {
		h := sha256.New()
		var walk func(n *node, top bool)
		walk = func(n *node, top bool) {
			if n == nil {
				return
			}
			fmt.Fprintf(h, "%d %q\n", n.kind, n.text)
			for i, v := range n.values {
				if n.kind == mapNode {
					if top && slices.Contains(skip, n.keys[i].text) {
						continue
					}
					fmt.Fprintf(h, "%q\n", n.keys[i].text)
				}
				walk(v, false)
			}
		}
		walk(n, true)
		fmt.Fprintf(h, "%q", more)
		return hex.EncodeToString(h.Sum(nil))[:16]
	}
	for i := range j.Sources {
		n := root.get("sources")
		if j.IsReference(i) {
			n = root.get("references")
		}
		n = n.get(j.Sources[i].Name)
		// Who else is told of positions, and how fast events are made, do not change what is read.
		out["source "+j.Sources[i].Name] = hash(n.get("with"), freeOf(j.Sources[i].With), append([]string{j.Sources[i].Via}, j.valuesIn(n.get("with"))...)...)
	}
	for i := range j.Steps {
		s := &j.Steps[i]
		if s.Keyed == nil {
			continue
		}
		n := root.get("steps").get(s.Name)
		free := []string{"from", "having", "about", "where", "levels"}
		if sided(s.Keyed) { // they see the result alone
			free = append(free, "set", "without", "only")
		}
		if w, ok := s.Keyed.(*step.Window); ok && w.LookBack == 0 {
			free = append(free, "measures")
			m := n.get("measures")
			for i := range m.keys {
				out["measure "+s.Name+"."+m.keys[i].text] = hash(m.values[i], nil, j.named(s.Input, m.values[i])...)
			}
		}
		var read []*node
		for i := range n.keys {
			if !slices.Contains(free, n.keys[i].text) {
				read = append(read, n.values[i])
			}
		}
		more := j.named(s.Input, read...)
		if keepsRows(s.Keyed) {
			more = fieldTexts(s.Input)
		}
		out["step "+s.Name] = hash(n, free, more...)
	}
	for i := range j.Sinks {
		n := root.get("sinks").get(j.Sinks[i].Name)
		out["sink "+j.Sinks[i].Name] = hash(n.get("with"), freeOf(j.Sinks[i].With), append([]string{j.Sinks[i].Via, j.Sinks[i].Encode.Name}, j.valuesIn(n.get("with"))...)...)
	}
	return out
}

// keepsRows says whether a step keeps rows of its input whole.
func keepsRows(k step.Keyed) bool {
	for _, t := range k.Tables() {
		if slices.ContainsFunc(t.Columns, func(f row.Field) bool { return strings.HasPrefix(f.Name, "row_") }) {
			return true
		}
	}
	return false
}

var words = regexp.MustCompile(`[A-Za-z_][A-Za-z0-9_]*`)

// named gives the values, functions and fields, with what they are, that parts of a document name.
func (j *Job) named(fields row.Schema, parts ...*node) (out []string) {
	seen := map[string]bool{}
	var note func(text string)
	note = func(text string) {
		for _, w := range words.FindAllString(text, -1) {
			if !seen[w] {
				seen[w] = true
				note(j.texts[w]) // what a function is
			}
		}
	}
	var walk func(n *node)
	walk = func(n *node) {
		if n == nil {
			return
		}
		note(n.text)
		for i, v := range n.values {
			if n.kind == mapNode {
				walk(n.keys[i])
			}
			walk(v)
		}
	}
	for _, p := range parts {
		walk(p)
	}
	for _, w := range sortedKeys(seen) {
		if text, ok := j.texts[w]; ok {
			out = append(out, w+"="+text)
		}
		if v, ok := j.Values[w]; ok {
			out = append(out, w+"="+v.String())
		}
		if i := fields.Index(w); i >= 0 {
			out = append(out, fieldTexts(fields[i:i+1])...)
		}
	}
	return out
}

// freeOf are the settings that do not change which events are read, or where rows go.
func freeOf(described any) (out []string) {
	for _, s := range settings.Of(described) {
		if s.Free {
			out = append(out, s.Name)
		}
	}
	return out
}

// SourceText gives a source of a document as it stands below `sources:`; an empty name means the only one.
func SourceText(text, name string) (string, error) {
	var known []string
	places := Read(context.Background(), "", text).Places()
	for _, p := range sortedKeys(places) {
		if s, ok := strings.CutPrefix(p, "source "); ok {
			known = append(known, s)
		}
	}
	if name == "" && len(known) == 1 {
		name = known[0]
	}
	at, ok := places["source "+name]
	switch {
	case name == "":
		return "", fmt.Errorf("the document has %d sources; name one of %s", len(known), strings.Join(known, ", "))
	case !ok:
		return "", fmt.Errorf("the document has no source %s; %s", name, didYouMean(name, known))
	}
	lines := strings.Split(text, "\n")[at.From-1 : at.To]
	indent := len(lines[0]) - len(strings.TrimLeft(lines[0], " "))
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = strings.TrimRight("  "+l[min(indent, len(l)-len(strings.TrimLeft(l, " "))):], " ")
	}
	return strings.Join(out, "\n") + "\n", nil
}
