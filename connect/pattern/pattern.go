// Package pattern reads texts that name fields in braces, as topics, paths and notices do (docs/connectors.md, "Texts with
// fields"): "crane {crane} lifted {tonnes} t", "{window_start:%Y-%m-%d}".
package pattern

import (
	"fmt"
	"strings"
	"time"

	"github.com/ncruces/go-strftime"

	"undertide/connect/codec"
	"undertide/core/row"
)

// Text is a text with fields. The zero value is the empty text.
type Text struct {
	parts []part
	text  string
}

// part is a piece of the text, or a field.
type part struct {
	literal string
	field   string // empty for a piece of text
	layout  string // of a time, as strftime has it; empty for RFC 3339
}

// UnmarshalText reads a text. Braces that are meant stand twice.
func (t *Text) UnmarshalText(text []byte) error {
	parsed, err := Parse(string(text))
	if err == nil {
		*t = parsed
	}
	return err
}

// Parse reads a text. Braces that are meant stand twice.
func Parse(text string) (Text, error) {
	t := Text{text: text}
	var literal strings.Builder
	flush := func() {
		if literal.Len() > 0 {
			t.parts = append(t.parts, part{literal: literal.String()})
			literal.Reset()
		}
	}
	for rest := text; rest != ""; {
		i := strings.IndexAny(rest, "{}")
		if i < 0 {
			literal.WriteString(rest)
			break
		}
		literal.WriteString(rest[:i])
		at := len(text) - len(rest) + i + 1
		switch {
		case strings.HasPrefix(rest[i:], "{{"), strings.HasPrefix(rest[i:], "}}"):
			literal.WriteByte(rest[i])
			rest = rest[i+2:]
			continue
		case rest[i] == '}':
			return Text{}, fmt.Errorf("a } at place %d belongs to no {; write }} for a brace", at)
		}
		end := strings.IndexByte(rest[i:], '}')
		if end < 0 {
			return Text{}, fmt.Errorf("the { at place %d has no }; write {{ for a brace", at)
		}
		name, layout, dated := strings.Cut(rest[i+1:i+end], ":")
		if !isName(name) {
			return Text{}, fmt.Errorf("%q at place %d is not a name of a field; write {field}, and {{ for a brace", name, at)
		}
		if dated && layout == "" {
			return Text{}, fmt.Errorf("{%s:} at place %d has no form of a time; write {%s:%%Y-%%m-%%d}", name, at, name)
		}
		flush()
		t.parts = append(t.parts, part{field: name, layout: layout})
		rest = rest[i+end+1:]
	}
	flush()
	return t, nil
}

func isName(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || i > 0 && c >= '0' && c <= '9') {
			return false
		}
	}
	return s != ""
}

// String gives the text as it was written.
func (t Text) String() string { return t.text }

// Empty says whether nothing was written.
func (t Text) Empty() bool { return t.text == "" }

// Fields are the names of the fields, each as often as it stands.
func (t Text) Fields() (out []string) {
	for _, p := range t.parts {
		if p.field != "" {
			out = append(out, p.field)
		}
	}
	return out
}

// Check says what does not fit rows of this schema. near words the remedy for an unknown name.
func (t Text) Check(s row.Schema, near func(wrong string, known []string) string) (message, remedy string) {
	var known []string
	for _, i := range s.Visible() {
		known = append(known, s[i].Name)
	}
	for _, p := range t.parts {
		if p.field == "" {
			continue
		}
		i := s.Index(p.field)
		switch {
		case i < 0 || s[i].Hidden:
			return "the rows have no field " + p.field, near(p.field, known)
		case p.layout != "" && s[i].Kind != row.Timestamp:
			return fmt.Sprintf("%s is a %s, and no time that %s could write", p.field, s[i].Kind, p.layout), "write {" + p.field + "}"
		}
	}
	return "", ""
}

// Filler writes the text for rows of one schema. One goroutine at a time.
type Filler struct {
	parts []part
	cols  []int
	// Safe changes the text of a value before it is written; nil leaves it.
	Safe func(dst, value []byte) []byte

	scratch []byte
}

// Bind makes a filler of rows whose schema was checked.
func (t Text) Bind(s row.Schema) *Filler {
	f := &Filler{parts: t.parts, cols: make([]int, len(t.parts))}
	for i, p := range t.parts {
		if p.field != "" {
			f.cols[i] = s.Index(p.field)
		}
	}
	return f
}

// Append writes the text for row i. A null is written null.
func (f *Filler) Append(dst []byte, cols []*row.Column, i int) []byte {
	for n, p := range f.parts {
		if p.field == "" {
			dst = append(dst, p.literal...)
			continue
		}
		f.scratch = f.value(f.scratch[:0], cols[f.cols[n]], i, p.layout)
		if f.Safe != nil {
			dst = f.Safe(dst, f.scratch)
		} else {
			dst = append(dst, f.scratch...)
		}
	}
	return dst
}

func (f *Filler) value(dst []byte, c *row.Column, i int, layout string) []byte {
	switch {
	case c.IsNull(i):
		return append(dst, "null"...)
	case layout != "":
		return append(dst, strftime.Format(layout, time.UnixMicro(c.I[i]).UTC())...)
	}
	return codec.AppendText(dst, c, i)
}
