package job

import (
	"context"
	"fmt"
	"slices"
	"strings"
)

// Differences words what differs between two documents, a line each: the place, and what stood and
// stands there. Comments and layout do not count; nor does the order of keys.
func Differences(a, b string) []string {
	out := []string{}
	differ("", Read(context.Background(), "", a).root, Read(context.Background(), "", b).root, &out)
	return out
}

func differ(place string, a, b *node, out *[]string) {
	say := func(format string, args ...any) {
		*out = append(*out, place+": "+fmt.Sprintf(format, args...)+matters(place))
	}
	switch {
	case a == nil && b == nil:
	case a == nil:
		say("added, %s", worded(b))
	case b == nil:
		say("taken out, was %s", worded(a))
	case a.kind == mapNode && b.kind == mapNode:
		for _, k := range a.keys {
			differ(join(place, k.text), a.get(k.text), b.get(k.text), out)
		}
		for _, k := range b.keys {
			if a.get(k.text) == nil {
				differ(join(place, k.text), nil, b.get(k.text), out)
			}
		}
	case worded(a) != worded(b):
		say("%s, was %s", worded(b), worded(a))
	}
}

// matters says when a difference at a place counts, where that is not at the next start.
func matters(place string) string {
	parts := strings.Split(place, ".")
	if len(parts) == 3 && parts[0] == "sources" && (parts[2] == "begin" || parts[2] == "until") {
		return "; it is looked at where a run starts anew, and not by one that goes on from a checkpoint"
	}
	return ""
}

// worded writes a node in one line.
func worded(n *node) string {
	switch n.kind {
	case mapNode:
		var parts []string
		for i, k := range n.keys {
			parts = append(parts, k.text+": "+worded(n.values[i]))
		}
		slices.Sort(parts)
		return shorter("{" + strings.Join(parts, ", ") + "}")
	case listNode:
		var parts []string
		for _, v := range n.values {
			parts = append(parts, worded(v))
		}
		return shorter("[" + strings.Join(parts, ", ") + "]")
	case nullNode:
		return "nothing"
	}
	return n.text
}

func shorter(s string) string {
	if r := []rune(s); len(r) > 160 {
		return string(r[:159]) + "…"
	}
	return s
}
