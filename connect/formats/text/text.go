package text

import (
	"fmt"
	"regexp"
	"unicode/utf8"

	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// decoder takes lines apart by a regular expression whose named groups are the fields
// (docs/job-document.md, "Sources").
type decoder struct {
	fields codec.Fields
	re     *regexp.Regexp
	group  []int // by field; -1 where the pattern has none
}

// NewDecoder makes a decoder of lines of text.
func NewDecoder(fields codec.Fields, re *regexp.Regexp) engine.Decoder {
	d := &decoder{fields: fields, re: re}
	for _, f := range fields {
		d.group = append(d.group, re.SubexpIndex(f.Column()))
	}
	return d
}

func (d *decoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	return codec.EachEvent(c, b, len(d.fields), rejects, d.line)
}

func (d *decoder) line(event []byte, b *row.Batch) (reason, message string) {
	if !utf8.Valid(event) {
		return step.Malformed, "the line is not UTF-8"
	}
	if n := len(event); n > 0 && event[n-1] == '\r' {
		event = event[:n-1]
	}
	m := d.re.FindSubmatchIndex(event)
	if m == nil {
		return step.Malformed, "the line does not match the pattern"
	}
	for i := range d.fields {
		f, c := &d.fields[i], b.Cols[i]
		g := d.group[i]
		var text []byte
		there := g >= 0 && m[2*g] >= 0
		if there {
			text = event[m[2*g]:m[2*g+1]]
			there = len(text) > 0 || f.Kind == row.String
		}
		if !there {
			if !f.Missing(c) {
				return step.Missing, fmt.Sprintf("field %s is missing, and has no default", f.Name)
			}
		} else if !f.Set(c, text) {
			return step.WrongType, codec.WrongType(f, fmt.Sprintf("%q", text))
		}
	}
	return "", ""
}
