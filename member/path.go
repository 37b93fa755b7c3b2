// Package member names a value within an event: the path to it through objects and lists
// (docs/job-document.md, "Sources").
package member

import (
	"fmt"
	"strconv"
	"strings"
)

// Part is one step of a path: the member of an object with this name, or where Item says so the item of a list
// with this number, from 0.
type Part struct {
	Name   string
	Item   bool
	Number int
}

// Path leads from an event to a value. Nil or empty means that there is none.
type Path []Part

// Of gives the path through objects by these names.
func Of(names ...string) Path {
	p := make(Path, len(names))
	for i, n := range names {
		p[i] = Part{Name: n}
	}
	return p
}

// maxNumber bounds the number of a list's item.
const maxNumber = 1<<20 - 1

// Parse reads a path: names with dots between; [0] takes an item of a list, ['a.b'] a name that has dots or other
// signs. `crew.driver`, `items[0].x`, `['trace.id'].x`.
func Parse(text string) (Path, error) {
	var p Path
	rest := text
	bad := func(what string) (Path, error) {
		return nil, fmt.Errorf("%q is not a path: %s; write names with dots between, items[0] for an item of a list, ['a.b'] for a name that has a dot", text, what)
	}
	for first := true; rest != ""; first = false {
		if rest[0] == '[' {
			part, after, what := bracket(rest)
			if what != "" {
				return bad(what)
			}
			p, rest = append(p, part), after
			continue
		}
		if !first {
			if rest[0] != '.' {
				return bad("a dot or [ belongs behind ]")
			}
			rest = rest[1:]
		}
		n := strings.IndexAny(rest, ".[")
		if n < 0 {
			n = len(rest)
		}
		if n == 0 {
			return bad("a name is missing")
		}
		if strings.ContainsAny(rest[:n], "]'\"") {
			return bad("] and quotes belong in [' ']")
		}
		p, rest = append(p, Part{Name: rest[:n]}), rest[n:]
	}
	if len(p) == 0 {
		return bad("it is empty")
	}
	if p[0].Item {
		return bad("an event is an object, and not a list")
	}
	return p, nil
}

// bracket reads [0] or ['name']; what says what is wrong.
func bracket(text string) (part Part, rest, what string) {
	if len(text) > 1 && (text[1] == '\'' || text[1] == '"') {
		quote := text[1]
		end := strings.IndexByte(text[2:], quote)
		if end < 0 || !strings.HasPrefix(text[2+end+1:], "]") {
			return part, "", "a quoted name does not end"
		}
		return Part{Name: text[2 : 2+end]}, text[2+end+2:], ""
	}
	end := strings.IndexByte(text, ']')
	if end < 0 {
		return part, "", "[ is not closed"
	}
	n, err := strconv.ParseUint(text[1:end], 10, 32)
	if err != nil || n > maxNumber {
		return part, "", fmt.Sprintf("%s is not a number of an item", text[:end+1])
	}
	return Part{Item: true, Number: int(n)}, text[end+1:], ""
}

// String writes the path as Parse reads it.
func (p Path) String() string {
	var b strings.Builder
	for i, part := range p {
		switch {
		case part.Item:
			fmt.Fprintf(&b, "[%d]", part.Number)
		case part.Name == "" || strings.ContainsAny(part.Name, ".[]'\""):
			quote := "'"
			if strings.Contains(part.Name, "'") {
				quote = `"`
			}
			b.WriteString("[" + quote + part.Name + quote + "]")
		default:
			if i > 0 {
				b.WriteByte('.')
			}
			b.WriteString(part.Name)
		}
	}
	return b.String()
}

// Column is the name of the column that the path means where events have columns and no objects: its names
// with dots between.
func (p Path) Column() string {
	names := make([]string, len(p))
	for i, part := range p {
		names[i] = part.Name
	}
	return strings.Join(names, ".")
}

// HasItems says whether the path goes through lists.
func (p Path) HasItems() bool {
	for _, part := range p {
		if part.Item {
			return true
		}
	}
	return false
}
