package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// Descriptions finds described sources (docs/streams.md, "Described sources"): the text of one as it stands below
// `sources:`, empty where there is none of that name, and the names that there are.
type Descriptions func(ctx context.Context, name string) (text string, known []string)

// fillDescribed gives a document in which each source that only names a description has what the description says and
// the document does not. The document itself stays as it was read.
func (b *builder) fillDescribed(root *node) *node {
	sources := root.get("sources")
	if sources == nil || sources.kind != mapNode {
		return root
	}
	filled := &node{kind: mapNode, line: sources.line, column: sources.column, size: 1}
	changed := false
	for i, k := range sources.keys {
		v := sources.values[i]
		if n := v.get("described"); n != nil && v.get("via") == nil {
			changed = true
			v = b.filledSource(v, n, join("sources", k.text))
		}
		filled.put(k, v)
	}
	if !changed {
		return root
	}
	out := &node{kind: mapNode, line: root.line, column: root.column, size: 1}
	for i, k := range root.keys {
		v := root.values[i]
		if k.text == "sources" {
			v = filled
		}
		out.put(k, v)
	}
	return out
}

// filledSource gives a source with what its description says beside it; without, and with a fault, where there is none.
func (b *builder) filledSource(v, name *node, place string) *node {
	place += ".described"
	wanted, ok := b.text(name, place)
	if !ok {
		return v
	}
	if b.opt.Described == nil {
		b.fault(name, place, "described sources are kept by a service, and this program runs without one", "save the document there, or write the source here, as undertide sources show "+wanted+" gives it")
		return v
	}
	text, known := b.opt.Described(b.ctx, wanted)
	if text == "" {
		remedy := b.didYouMean(wanted, known)
		if len(known) == 0 {
			remedy = "describe it: undertide sources add " + wanted + " --from DOCUMENT"
		}
		b.fault(name, place, "there is no described source "+wanted, remedy)
		return v
	}
	of := description(b.ctx, text)
	if of == nil {
		b.fault(name, place, "the description of "+wanted+" cannot be read", "describe it anew: undertide sources add "+wanted+" --from DOCUMENT")
		return v
	}
	out := &node{kind: mapNode, line: v.line, column: v.column, size: 1}
	for i, k := range v.keys {
		out.put(k, v.values[i])
	}
	for i, k := range of.keys {
		if v.get(k.text) == nil {
			out.put(at(k, name), at(of.values[i], name))
		}
	}
	return out
}

// description reads the text of a described source: its mapping; nil where it is none.
func description(ctx context.Context, text string) *node {
	root := Read(ctx, "", "sources:\n"+text).root
	if sources := root.get("sources"); sources != nil && sources.kind == mapNode && len(sources.values) == 1 && sources.values[0].kind == mapNode {
		return sources.values[0]
	}
	return nil
}

// at gives a copy of a node that says of all its places that they are where another stands.
func at(n, there *node) *node {
	out := *n
	out.line, out.column, out.block = there.line, there.column, false
	out.keys, out.values = nil, nil
	for _, k := range n.keys {
		out.keys = append(out.keys, at(k, there))
	}
	for _, v := range n.values {
		out.values = append(out.values, at(v, there))
	}
	return &out
}

// Filled gives the document's text with what its sources' descriptions say written into it, so that it reads without
// them, and names those sources. What the document says itself, comments and layout stay. It has been checked without faults.
//
//	lifts:                    lifts:
//	  described: lifts   →      described: lifts
//	  begin: latest             begin: latest
//	                            via: kafka
//	                            with: {connection: harbour, topic: crane.lifts}
func (d *Document) Filled(ctx context.Context, find Descriptions) (text string, names []string, err error) {
	lines := strings.Split(d.text, "\n")
	sources := d.root.get("sources")
	if sources == nil || sources.kind != mapNode {
		return d.text, nil, nil
	}
	places := d.Places()
	for i := len(sources.keys) - 1; i >= 0; i-- { // from the end, so that lines keep their numbers
		k, v := sources.keys[i], sources.values[i]
		n := v.get("described")
		if n == nil || v.get("via") != nil {
			continue
		}
		described, _ := find(ctx, n.text)
		if described == "" {
			return "", nil, fmt.Errorf("there is no described source %s", n.text)
		}
		at := places["source "+k.text]
		// Within braces of all sources, or of the whole document, no line is the source's own.
		if head := lines[max(at.From, 1)-1]; at.From == 0 || strings.TrimSpace(head[:min(k.column-1, len(head))]) != "" {
			return "", nil, errors.New("the sources do not stand on lines of their own; write each below sources:")
		}
		own := lines[at.From-1 : at.To]
		indent := k.column - 1
		if v.keys[0].line == k.line { // in braces
			if own, err = inBlock(own, indent); err != nil {
				return "", nil, fmt.Errorf("sources.%s: %w", k.text, err)
			}
			indent += 2
		} else {
			own, indent = slices.Clone(own), v.keys[0].column-1
		}
		more, err := linesOf(described, func(key string) bool { return v.get(key) == nil }, indent)
		if err != nil {
			return "", nil, err
		}
		lines = slices.Concat(lines[:at.From-1], own, more, lines[at.To:])
		names = append(names, k.text)
	}
	slices.Sort(names)
	return strings.Join(lines, "\n"), names, nil
}

// inBlock writes a source that stands in braces as a block: its name at an indent, and its settings two further.
func inBlock(lines []string, indent int) ([]string, error) {
	var of yaml.MapSlice
	if err := yaml.UnmarshalWithOptions([]byte(strings.Join(lines, "\n")), &of, yaml.UseOrderedMap()); err != nil {
		return nil, err
	}
	text, err := yaml.MarshalWithOptions(of, yaml.Indent(2))
	if err != nil {
		return nil, err
	}
	return indented(strings.Split(strings.TrimRight(string(text), "\n"), "\n"), 0, indent), nil
}

// linesOf gives those settings of a described source that are wanted, as lines at an indent.
func linesOf(described string, wanted func(key string) bool, indent int) ([]string, error) {
	text := "sources:\n" + strings.TrimRight(described, "\n")
	lines := strings.Split(text, "\n")
	root := Read(context.Background(), "", text).root
	source := root.get("sources").values[0]
	if source.keys[0].line == root.get("sources").keys[0].line {
		block, err := inBlock(lines[1:], 2)
		if err != nil {
			return nil, err
		}
		return linesOf(strings.Join(block, "\n"), wanted, indent)
	}
	var out []string
	for i, k := range source.keys {
		end := len(lines)
		if i+1 < len(source.keys) {
			end = source.keys[i+1].line - 1
		}
		if wanted(k.text) {
			out = append(out, indented(lines[k.line-1:end], k.column-1, indent)...)
		}
	}
	return out, nil
}

// indented moves lines from one indent to another.
func indented(lines []string, from, to int) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		if l = strings.TrimRight(l, " \r"); l != "" {
			out[i] = strings.Repeat(" ", max(0, indentOf(l)-from+to)) + strings.TrimLeft(l, " ")
		}
	}
	return out
}

// DescribedBy names the description that each source of a document was made of.
func (d *Document) DescribedBy() map[string]string {
	out := map[string]string{}
	if sources := d.root.get("sources"); sources != nil && sources.kind == mapNode {
		for i, k := range sources.keys {
			if n := sources.values[i].get("described"); n != nil && n.kind == scalarNode {
				out[k.text] = n.text
			}
		}
	}
	return out
}

// DifferFrom gives the settings in which a source of a document says something else than a description, or nothing.
func (d *Document) DifferFrom(source, described string) (differ []string) {
	own, of := d.root.get("sources").get(source), description(context.Background(), described)
	if own == nil || of == nil {
		return nil
	}
	for i, k := range of.keys {
		if v := own.get(k.text); v == nil || worded(v) != worded(of.values[i]) {
			differ = append(differ, k.text)
		}
	}
	return differ
}
