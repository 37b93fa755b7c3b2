package job

import (
	"fmt"

	"undertide/core/row"
)

// keys reads the names of a key, for the spec of a keyed step.
func (b *builder) keys(n *node, place string, in input) (key []int) {
	names, at := b.names(n, place)
	for i, name := range names {
		c := in.schema.Index(name)
		switch {
		case c < 0 || in.schema[c].Hidden:
			b.fault(at[i], place, "there is no field "+name, b.didYouMean(name, in.schema.Names()))
		case !in.schema[c].Kind.Plain():
			b.fault(at[i], place, fmt.Sprintf("%s is %s, which cannot be a key", name, row.A(in.schema[c].Kind)), "take a field of a plain type")
		default:
			key = append(key, c)
		}
	}
	return key
}

// nullKey reads null_key.
func (b *builder) nullKey(n *node, place string) bool {
	v := n.get("null_key")
	return v != nil && b.choice(v, place+".null_key", []string{"keep", "reject"}, nil) == "keep"
}

// needTime reports a step that needs event times and gets none.
func (b *builder) needTime(n *node, place, what string, in input) bool {
	if !in.timed {
		b.fault(n, place, what+" needs an event time, and the rows of "+in.text+" have none", "add event_time and watermark to the source")
	}
	return in.timed
}
