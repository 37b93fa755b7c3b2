package pattern

import (
	"strings"
	"testing"
	"time"

	"undertide/core/row"
)

var fields = row.Schema{{Name: "crane", Kind: row.String}, {Name: "at", Kind: row.Timestamp}, {Name: "tonnes", Kind: row.Double}, {Name: "meta.key", Kind: row.String, Hidden: true}}

func filled(t *testing.T, text string) string {
	t.Helper()
	p, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	if message, _ := p.Check(fields, func(string, []string) string { return "" }); message != "" {
		t.Fatal(message)
	}
	b := row.NewBatch(fields)
	b.Cols[0].AppendString("C1")
	b.Cols[1].AppendInt(time.Date(2026, 3, 1, 7, 30, 0, 0, time.UTC).UnixMicro())
	b.Cols[2].AppendNull()
	return string(p.Bind(fields).Append([]byte(">"), b.Cols, 0))
}

// TestFilled: fields, forms of times, nulls and braces are written as docs/connectors.md says.
func TestFilled(t *testing.T) {
	for text, want := range map[string]string{
		"":                          ">",
		"crane {crane}!":            ">crane C1!",
		"{crane}{crane}":            ">C1C1",
		"{at}":                      ">2026-03-01T07:30:00Z",
		"{at:%Y-%m-%d}/{at:%H}":     ">2026-03-01/07",
		"{tonnes} t":                ">null t",
		`{{"crane": "{crane}"}} {{`: `>{"crane": "C1"} {`,
	} {
		if got := filled(t, text); got != want {
			t.Errorf("%s is %s, want %s", text, got, want)
		}
	}
}

// TestWrong: what cannot be filled says where, and what would be right.
func TestWrong(t *testing.T) {
	for text, want := range map[string]string{
		"a {crane":          "the { at place 3 has no }",
		"a crane}":          "a } at place 8 belongs to no {",
		"{}":                `"" at place 1 is not a name`,
		"{a b}":             `"a b" at place 1 is not a name`,
		"{at:}":             "has no form of a time",
		"{cran}":            "no field cran",
		"{meta.key}":        "is not a name of a field",
		"{crane:%Y}":        "crane is a string, and no time",
		"ü{{{crane}}}{nope": "has no }",
	} {
		p, err := Parse(text)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got, _ = p.Check(fields, func(string, []string) string { return "" })
		}
		if !strings.Contains(got, want) {
			t.Errorf("%s says %q, want %q", text, got, want)
		}
	}
}

// FuzzParse: any text is taken or refused; what is taken names fields that were there.
func FuzzParse(f *testing.F) {
	f.Add("a {b:%Y} {{}}")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := Parse(text)
		if err != nil {
			return
		}
		for _, name := range p.Fields() {
			if !strings.Contains(text, "{"+name) {
				t.Errorf("%q has no field %s", text, name)
			}
		}
	})
}
