package job

import (
	"cmp"
	"fmt"
	"slices"
	"unicode/utf8"

	"undertide/core/row"
)

// FieldLevels say what values of a field are called, wherever people look at them (docs/job-document.md, "Levels"). They change no row.
type FieldLevels struct {
	Field string `json:"field" yaml:"field"`
	// Levels ascend; a value has the last that it reaches, and none below the first.
	Levels []Level `json:"levels" yaml:"levels"`
}

// Level is a word for values from one on.
type Level struct {
	Name string  `json:"name" yaml:"name"`
	From float64 `json:"from" yaml:"from"`
}

const (
	maxLevels    = 5  // so many can be told apart by shape and colour
	maxLevelName = 20 // runes
)

// levels reads what values of a step's fields are called.
func (b *builder) levels(n *node, place string, s *Step) {
	if n == nil {
		return
	}
	if n.kind != mapNode {
		b.fault(n, place, fmt.Sprintf("%s stands where levels belong", n.kind), "write levels: {mean_m: {raised: 2.5, high: 3.0}}")
		return
	}
	for i, k := range n.keys {
		at, v := join(place, k.text), n.values[i]
		f := s.Schema.Index(k.text)
		switch {
		case f < 0 || s.Schema[f].Hidden:
			b.fault(k, at, "there is no field "+k.text, b.didYouMean(k.text, s.Schema.Only(s.Schema.Visible()).Names()))
			continue
		case !slices.Contains([]row.Kind{row.Int, row.Double, row.Decimal}, s.Schema[f].Kind):
			b.fault(k, at, fmt.Sprintf("levels are of numbers, and %s is %s", k.text, row.A(s.Schema[f].Kind)), "name a field that is int, double or decimal")
			continue
		case v.kind != mapNode || len(v.keys) == 0:
			b.fault(v, at, fmt.Sprintf("%s stands where levels belong", v.kind), "write "+k.text+": {raised: 2.5, high: 3.0}")
			continue
		case len(v.keys) > maxLevels:
			b.fault(v, at, fmt.Sprintf("%d levels are more than the %d that can be told apart", len(v.keys), maxLevels), "leave some out")
			continue
		}
		s.Levels = append(s.Levels, FieldLevels{k.text, b.levelsOf(v, at)})
	}
}

func (b *builder) levelsOf(n *node, place string) (out []Level) {
	for i, k := range n.keys {
		at := join(place, k.text)
		if utf8.RuneCountInString(k.text) > maxLevelName || k.text == "" {
			b.fault(k, at, "a level is a word of at most 20 letters", "write raised, or high")
			continue
		}
		from, ok := b.double(n.values[i], at)
		if !ok {
			continue
		}
		if twice := slices.IndexFunc(out, func(l Level) bool { return l.From == from }); twice >= 0 {
			b.fault(n.values[i], at, fmt.Sprintf("%s and %s begin at the same value", out[twice].Name, k.text), "each level begins at a value of its own")
			continue
		}
		out = append(out, Level{k.text, from})
	}
	slices.SortFunc(out, func(a, b Level) int { return cmp.Compare(a.From, b.From) })
	return out
}

// text is as plans say it: mean_m raised from 2.5, high from 3.
func (l FieldLevels) text() string {
	out := l.Field
	for i, x := range l.Levels {
		if i > 0 {
			out += ","
		}
		out += fmt.Sprintf(" %s from %v", x.Name, x.From)
	}
	return out
}

// LevelOf gives what a value is called, and how high that is, from 1; an empty name where it reaches none.
func (l FieldLevels) LevelOf(v float64) (name string, rank int) {
	for i, x := range l.Levels {
		if v >= x.From {
			name, rank = x.Name, i+1
		}
	}
	return name, rank
}
