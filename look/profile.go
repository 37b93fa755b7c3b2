package look

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"undertide/connect"
)

// Profile tells what the fields of a sample hold.
type Profile struct {
	Events    int            `json:"events"`
	Malformed int            `json:"malformed"` // events that do not read as the others do
	Empty     int            `json:"empty"`     // events without a value: deletions in compacted topics
	From      *time.Time     `json:"from"`      // least stored time; null where there is none
	To        *time.Time     `json:"to"`
	Key       KeyProfile     `json:"key"`
	Fields    []FieldProfile `json:"fields"`
}

// KeyProfile tells of the messages' keys.
type KeyProfile struct {
	Null     int      `json:"null"`
	Distinct int      `json:"distinct"`
	Common   []Common `json:"common"`
	Same     string   `json:"same"` // the field that always equals the key; empty for none
}

// FieldProfile tells what one path holds.
type FieldProfile struct {
	Path     string         `json:"path"`
	Values   int            `json:"values"` // events in which it has a value
	Null     int            `json:"null"`
	Missing  int            `json:"missing"`
	Kinds    map[string]int `json:"kinds"` // whole, fraction, text, bool, list, object: how often
	Distinct int            `json:"distinct"`
	More     bool           `json:"more"` // there are more than Distinct
	Least    string         `json:"least"`
	Greatest string         `json:"greatest"`
	Common   []Common       `json:"common"` // the most common values, at most three

	texts  map[string]int
	seen   []seen
	digits int // most significant digits of a fraction
	lists  map[string]int
}

type seen struct {
	event int
	v     any
}

// Common is a value and its share of all that there are.
type Common struct {
	Value string  `json:"value"`
	Ratio float64 `json:"ratio"`
}

const mostDistinct = 10_000

// profile reads all events of a sample by one reading, nil where none has a value.
func profile(events []connect.Event, r connect.Reading) Profile {
	p := Profile{Events: len(events), Key: KeyProfile{Common: []Common{}}, Fields: []FieldProfile{}}
	at := map[string]int{}
	keys := map[string]int{}
	same := map[string]int{}
	read := 0
	for i := range events {
		e := &events[i]
		if !e.Stored.IsZero() {
			if p.From == nil || e.Stored.Before(*p.From) {
				p.From = &e.Stored
			}
			if p.To == nil || e.Stored.After(*p.To) {
				p.To = &e.Stored
			}
		}
		if e.Key == nil {
			p.Key.Null++
		} else {
			keys[string(e.Key)]++
		}
		if len(e.Text) == 0 {
			p.Empty++
			continue
		}
		values, err := r.Values(e.Text)
		if err != nil {
			p.Malformed++
			continue
		}
		read++
		for _, v := range values {
			n, ok := at[v.Path]
			if !ok {
				n = len(p.Fields)
				at[v.Path] = n
				p.Fields = append(p.Fields, FieldProfile{Path: v.Path, Kinds: map[string]int{}, texts: map[string]int{}, lists: map[string]int{}})
			}
			p.Fields[n].add(i, v.V)
			if s, ok := v.V.(string); ok && e.Key != nil && s == string(e.Key) {
				same[v.Path]++
			}
		}
	}
	p.Key.Distinct, p.Key.Common = len(keys), common(keys, len(events)-p.Key.Null)
	for n := range p.Fields {
		f := &p.Fields[n]
		f.Missing = read - f.Values - f.Null
		f.Distinct, f.Common = len(f.texts), common(f.texts, f.Values)
		f.ends()
		if with := len(events) - p.Key.Null; p.Key.Same == "" && with > 0 && same[f.Path] == with && f.Values == read {
			p.Key.Same = f.Path
		}
	}
	return p
}

func (f *FieldProfile) add(event int, v any) {
	text, kind := "", ""
	switch x := v.(type) {
	case nil:
		f.Null++
		return
	case bool:
		text, kind = fmt.Sprint(x), "bool"
	case string:
		text, kind = x, "text"
	case json.Number:
		text, kind = string(x), "fraction"
		if !strings.ContainsAny(text, ".eE") {
			kind = "whole"
		}
		f.digits = max(f.digits, len(strings.Trim(strings.ReplaceAll(strings.TrimPrefix(text, "-"), ".", ""), "0")))
	case []any:
		kind = "list"
		for _, e := range x {
			f.lists[elementKind(e)]++
		}
		b, _ := json.Marshal(x) // it was read from JSON
		text = string(b)
	default:
		text, kind = fmt.Sprint(x), "object"
	}
	f.Values++
	f.Kinds[kind]++
	f.seen = append(f.seen, seen{event, v})
	if _, known := f.texts[text]; known || len(f.texts) < mostDistinct {
		f.texts[text]++
	} else {
		f.More = true
	}
}

func elementKind(v any) string {
	switch x := v.(type) {
	case nil:
		return "null"
	case bool:
		return "bool"
	case string:
		return "string"
	case json.Number:
		if !strings.ContainsAny(string(x), ".eE") {
			return "int"
		}
		return "double"
	}
	return "object"
}

// ends finds the least and greatest value: of numbers by value, of texts by their bytes.
func (f *FieldProfile) ends() {
	numeric := len(f.texts) > 0
	for text := range f.texts {
		numeric = numeric && fractionText.MatchString(text) // also of numbers in quotes, and in lines of text
	}
	var least, greatest *big.Float
	for text := range f.texts {
		if !numeric {
			if f.Least == "" || text < f.Least {
				f.Least = text
			}
			f.Greatest = max(f.Greatest, text)
			continue
		}
		x, _, err := big.ParseFloat(text, 10, 80, big.ToNearestEven)
		if err != nil {
			continue
		}
		if least == nil || x.Cmp(least) < 0 {
			least, f.Least = x, text
		}
		if greatest == nil || x.Cmp(greatest) > 0 {
			greatest, f.Greatest = x, text
		}
	}
	f.Least, f.Greatest = shortened(f.Least), shortened(f.Greatest)
}

// shortened cuts a text that is too long for a table.
func shortened(s string) string {
	if utf8.RuneCountInString(s) <= 48 {
		return s
	}
	return string([]rune(s)[:47]) + "…"
}

// common gives the most common values, where they are more than chance.
func common(of map[string]int, all int) []Common {
	out := []Common{}
	if all == 0 {
		return out
	}
	names := make([]string, 0, len(of))
	for n := range of {
		names = append(names, n)
	}
	slices.SortFunc(names, func(a, b string) int { return cmp.Or(cmp.Compare(of[b], of[a]), cmp.Compare(a, b)) })
	for _, n := range names[:min(3, len(names))] {
		if of[n]*100 < all && len(names) > 3 {
			break
		}
		out = append(out, Common{shortened(n), float64(of[n]) / float64(all)})
	}
	return out
}
