package expr

import (
	"strings"
	"testing"

	"undertide/core/row"
)

// TestLibraries: CEL's macros and extension functions, and those of the calendar, by their documented names; the
// plain evaluator and the runner agree.
func TestLibraries(t *testing.T) {
	fields := row.Schema{{Name: "l", Kind: row.ListOf(row.Int)}, {Name: "d", Kind: row.ListOf(row.Double)}, {Name: "names", Kind: row.ListOf(row.String)}, {Name: "m", Kind: row.MapOf(row.Int)},
		{Name: "s", Kind: row.String}, {Name: "x", Kind: row.Double}, {Name: "t", Kind: row.Timestamp}, {Name: "none", Kind: row.ListOf(row.Int)}, {Name: "n", Kind: row.Int}}
	values := []Value{
		ListOf(row.ListOf(row.Int), []Value{{Kind: row.Int, I: 1}, {Kind: row.Int, I: 5}, {Kind: row.Int, I: 3}}),
		ListOf(row.ListOf(row.Double), []Value{{Kind: row.Double, F: 0.5}, {Kind: row.Double, F: 2}}),
		ListOf(row.ListOf(row.String), []Value{{Kind: row.String, S: "Ane"}, {Kind: row.String, S: "Bo"}}),
		{}, {Kind: row.String, S: "  Gate 7 "}, {Kind: row.Double, F: -2.5}, {Kind: row.Timestamp, I: int64(mustTime(t, "2026-03-29T14:41:09Z"))}, NullOf(row.ListOf(row.Int)), {Kind: row.Int, I: 7},
	}
	var err error
	if values[3], err = makeMap(row.MapOf(row.Int))([]Value{{Kind: row.String, S: "b"}, {Kind: row.Int, I: 2}, {Kind: row.String, S: "a"}, {Kind: row.Int, I: 1}}); err != nil {
		t.Fatal(err)
	}
	var cols []*row.Column
	for i, v := range values {
		c := row.NewColumn(fields[i].Kind)
		v.AppendTo(c)
		cols = append(cols, c)
	}
	for text, want := range map[string]string{
		"l.exists(v, v > 4)": "true", "l.all(v, v > 4)": "false", "l.exists_one(v, v == 5)": "true", "l.filter(v, v > 1)": "[5, 3]", "l.map(v, v * 2)": "[2, 10, 6]",
		"l.map(v, v > 1, v + n)": "[12, 10]", "d.exists(v, v > 1)": "true", "d.map(v, v + 1)": "[1.5, 3]", "names.exists(v, v.startsWith('B'))": "true",
		"names.map(v, v.lowerAscii())": "[ane, bo]", "m.exists(k, k == 'a')": "true", "m.all(k, m[k] > 1)": "false", "has(m.a)": "true", "has(m.c)": "false", "m.b": "2",
		"l.exists(v, names.exists(w, size(w) == v))": "true", "none.exists(v, v > 1)": "null", "l.exists(v, 10 / (v - 1) > 2)": "true", "[1, 2, n].filter(v, v > 1)": "[2, 7]",
		"{'a': n, 'b': 2}": `{"a": 7, "b": 2}`, "{'a': n}.a": "7", "l.filter(v, v > 9)": "[]",
		"s.trim()": "Gate 7", "s.trim().upperAscii()": "GATE 7", "s.trim().replace('Gate', 'Quay')": "Quay 7", "s.trim().split(' ')": "[Gate, 7]", "s.trim().substring(5)": "7",
		"s.trim().substring(0, 4)": "Gate", "s.trim().indexOf('7')": "5", "names.join('+')": "Ane+Bo", "s.trim().charAt(0)": "G",
		"math.floor(x)": "-3", "math.ceil(x)": "-2", "math.round(x)": "-3", "math.abs(x)": "2.5", "math.sqrt(6.25)": "2.5", "math.greatest(x, 1.0)": "1", "math.least(n, 3, 9)": "3", "math.trunc(x)": "-2",
		"date(t)": "2026-03-29", "date(t, 'Pacific/Auckland')": "2026-03-30", "week(t)": "13", "quarter(t)": "1", "truncate(t, '15m')": "2026-03-29T14:30:00Z",
		"truncate(t, '1 day', 'Europe/Lisbon')": "2026-03-29T00:00:00Z", "truncate(t, '1 week')": "2026-03-23T00:00:00Z", "truncate(t, '1 quarter')": "2026-01-01T00:00:00Z",
	} {
		p, faults := Compile(text, Scope{Fields: fields})
		if p == nil {
			t.Errorf("%s: %v", text, faults)
			continue
		}
		got := ""
		if v, err := p.Eval(cols, 0); err != nil {
			got = "error: " + err.Error()
		} else {
			got = v.String()
		}
		if plain := strings.ReplaceAll(got, `"`, ""); plain != strings.ReplaceAll(want, `"`, "") {
			t.Errorf("%s is %s, want %s", text, got, want)
		}
		c, errs := p.NewRunner().Run(cols, 1)
		if ran := At(c, 0).String(); len(errs) == 0 && ran != got {
			t.Errorf("%s by the runner is %s, by itself %s", text, ran, got)
		}
	}
	for text, want := range map[string]string{
		"l.all(v, 10 / (v - 1) > 100)": "", "l.map(v, 10 / (v - 1))": "division by zero", "truncate(t, '3 moons')": "nothing that a time can be cut to",
		"x.exists(v, v > 1)": "", "l.exists(v, v > 'a')": "", "avg(x)": "unknown function avg",
	} {
		p, faults := Compile(text, Scope{Fields: fields})
		said := ""
		for _, f := range faults {
			said += f.Message
		}
		if p != nil {
			if _, err := p.Eval(cols, 0); err != nil {
				said = err.Error()
			}
		}
		if text == "l.all(v, 10 / (v - 1) > 100)" {
			continue // false decides, beside the error
		}
		if said == "" || !strings.Contains(said, want) {
			t.Errorf("%s: %q, want %q", text, said, want)
		}
	}
	if p, faults := Compile("most_common(n, 2)[0].count + 1", Scope{Fields: fields, Measure: true}); p == nil || p.Kind() != row.Int {
		t.Errorf("the count of what is most common: %v", faults)
	}
	if p, faults := Compile("most_common(s, 2)[0].value", Scope{Fields: fields, Measure: true}); p == nil || p.Kind() != row.String {
		t.Errorf("what is most common: %v", faults)
	}
}

func mustTime(t *testing.T, text string) row.Time {
	t.Helper()
	p, faults := Compile("timestamp('"+text+"')", Scope{})
	if p == nil {
		t.Fatal(faults)
	}
	v, err := p.Eval(nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	return row.Time(v.I)
}
