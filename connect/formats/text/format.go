// Package text is the format text: lines that a regular expression takes apart (docs/job-document.md, "Sources").
package text

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
)

// Format is text.
var Format = &connect.Format{
	Name: "text", Title: "text", About: "lines that a pattern takes apart", Endings: []string{".log", ".txt"}, Untyped: true,
	Decode: func() connect.Decoding { return &decoding{} }, Guess: guess,
}

type decoding struct {
	Pattern pattern `set:"pattern,required,beside" missing:"how a line is taken apart is not said" fix:"add pattern: '^(?P<crane>\\S+) (?P<tonnes>[0-9.]+)$'; its named groups are the fields" about:"For decode: text, a regular expression whose named groups are the fields."`
}

// pattern is a regular expression.
type pattern struct{ *regexp.Regexp }

// UnmarshalText compiles it.
func (p *pattern) UnmarshalText(text []byte) error {
	re, err := regexp.Compile(string(text))
	if err != nil {
		return fmt.Errorf("the pattern is not a regular expression: %s; use RE2 syntax, in single quotes", strings.ReplaceAll(strings.TrimPrefix(err.Error(), "error parsing regexp: "), "; ", ", "))
	}
	p.Regexp = re
	return nil
}

// Check says which fields have no group.
func (d *decoding) Check(c *connect.Checker) {
	if d.Pattern.Regexp == nil {
		return
	}
	groups := slices.DeleteFunc(slices.Clone(d.Pattern.SubexpNames()), func(g string) bool { return g == "" })
	for i := range c.Fields {
		f := &c.Fields[i]
		if want := f.Column(); !slices.Contains(groups, want) {
			c.Fault("the pattern has no group for field "+f.Name, "write (?P<"+want+">…); "+c.Nearest(want, groups), "pattern")
		}
		if !f.Kind.Plain() {
			c.Fault("a text line holds no lists: field "+f.Name, "take the text, and a list of it by an expression", "pattern")
		}
	}
}

func (d *decoding) Decoder(fields codec.Fields) engine.Decoder {
	return NewDecoder(fields, d.Pattern.Regexp)
}

// guess makes a pattern from the sample. Any text reads as lines: what reads as something else is that.
func guess(s connect.Sample) connect.Guessed {
	re, doubts := patternOf(s.Events)
	return connect.Guessed{Share: 0.5, Reading: reading{re}, Doubts: doubts, Settings: map[string]string{"pattern": re.String()}}
}

var errNoMatch = errors.New("the line does not match the pattern")

// reading takes lines apart by a pattern.
type reading struct{ re *regexp.Regexp }

func (r reading) Values(text []byte) ([]connect.Value, error) {
	m := r.re.FindSubmatch(trimmed(text))
	if m == nil {
		return nil, errNoMatch
	}
	var out []connect.Value
	for i, name := range r.re.SubexpNames() {
		if name != "" {
			out = append(out, connect.Value{Path: name, V: string(m[i])})
		}
	}
	return out, nil
}

// Pieces implements [connect.Piecing].
func (d *decoding) Pieces(event []byte) []connect.Piece { return cut(d.Pattern.Regexp, event) }

// Pieces implements [connect.Piecing].
func (r reading) Pieces(event []byte) []connect.Piece { return cut(r.re, event) }

// cut cuts a line at the outermost named groups of a pattern.
func cut(re *regexp.Regexp, event []byte) (out []connect.Piece) {
	if re == nil || !utf8.Valid(event) {
		return nil
	}
	event = trimmed(event)
	m := re.FindSubmatchIndex(event)
	if m == nil {
		return nil
	}
	at := 0
	between := func(to int) {
		if to > at {
			out = append(out, connect.Piece{Text: string(event[at:to])})
			at = to
		}
	}
	for i, name := range re.SubexpNames() {
		if from, to := m[2*i], m[2*i+1]; name != "" && from >= at && to > from {
			between(from)
			out = append(out, connect.Piece{Text: string(event[from:to]), Field: name})
			at = to
		}
	}
	between(len(event))
	return out
}

// trimmed leaves out the carriage return of lines that end in two signs.
func trimmed(text []byte) []byte {
	if n := len(text); n > 0 && text[n-1] == '\r' {
		return text[:n-1]
	}
	return text
}
