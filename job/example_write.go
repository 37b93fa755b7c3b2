package job

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"undertide/core/row"
)

// ExampleText writes an example of a document, as an item of the list `examples`: the events that were
// given, and the rows that came of the last steps, a line each. rows gives those of a step or output.
func ExampleText(j *Job, about string, given []Given, rows func(part string) []json.RawMessage) string {
	var b strings.Builder
	fmt.Fprintf(&b, "- about: %s\n  given:\n", quotedText(about))
	for _, v := range given {
		switch {
		case v.Clock > 0:
			fmt.Fprintf(&b, "    - clock: %s\n", row.DurationText(v.Clock))
		case v.Raw:
			fmt.Fprintf(&b, "    - %s: %s\n", j.Sources[v.Source].Name, quotedText(v.Event))
		default:
			fmt.Fprintf(&b, "    - %s: %s\n", j.Sources[v.Source].Name, flow([]byte(v.Event)))
		}
	}
	if len(given) == 0 {
		b.WriteString("    []\n")
	}
	read := map[int]bool{}
	for i := range j.Steps {
		for _, in := range j.Steps[i].From {
			if in.OfStep {
				read[in.At] = true
			}
		}
	}
	b.WriteString("  expect:\n")
	some := false
	for i := range j.Steps {
		if read[i] {
			continue
		}
		names, _, _ := j.Steps[i].Parts()
		for _, name := range names {
			list := rows(name)
			if len(list) == 0 && name != j.Steps[i].Name {
				continue
			}
			some = true
			if len(list) == 0 {
				fmt.Fprintf(&b, "    %s: []\n", name)
				continue
			}
			fmt.Fprintf(&b, "    %s:\n", name)
			for _, r := range list {
				fmt.Fprintf(&b, "      - %s\n", flow(r))
			}
		}
	}
	if !some {
		b.WriteString("    {}\n")
	}
	return b.String()
}

// flow writes a JSON object as YAML on one line: keys plain, values as JSON has them.
func flow(text []byte) string {
	d := json.NewDecoder(bytes.NewReader(text))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return quotedText(string(text))
	}
	var parts []string
	for d.More() {
		k, err := d.Token()
		var v json.RawMessage
		if err != nil || d.Decode(&v) != nil {
			return quotedText(string(text))
		}
		var value bytes.Buffer
		if json.Compact(&value, v) != nil {
			return quotedText(string(text))
		}
		parts = append(parts, fmt.Sprintf("%s: %s", k, value.Bytes()))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

// quotedText writes a text for YAML; one that has line ends or control characters as JSON does.
func quotedText(s string) string {
	if strings.ContainsFunc(s, func(c rune) bool { return c < ' ' || c == 0x7f }) {
		if out, err := json.Marshal(s); err == nil {
			return string(out)
		}
	}
	return quote(s)
}
